"""The pieces of the mesher on their own: curves, flattening, divisions, washers, kinds, the mesh value."""

from __future__ import annotations

import numpy as np
import pytest

from kind_rivet.core.document.document import Document
from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Carrier
from kind_rivet.core.geometry.loops import free_loops
from kind_rivet.core.mesh.kinds import HEX, KINDS, QUAD, TRIA, WEDGE
from kind_rivet.core.mesh.mesh import Mesh
from kind_rivet.core.mesh.topology import loops_of, pieces, shell_sides
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.meshing.detail import small_detail
from kind_rivet.core.meshing.divisions import four_sides, plan_divisions
from kind_rivet.core.meshing.flatten import flatten_facets
from kind_rivet.core.meshing.patch import lay_flat
from kind_rivet.core.meshing.rules import ShellRules, WasherRule
from kind_rivet.core.meshing.shells import regions_of
from kind_rivet.core.meshing.washers import find_round_holes, ring_divisions


def test_points_on_circles_are_exact() -> None:
    a = np.linspace(0, 1.5, 7)
    arc = np.column_stack((3 * np.cos(a), 3 * np.sin(a), 0 * a))
    curve = Curve.through(arc, Carrier("circle", (0, 0, 0, 0, 0, 1, 3.0)))
    assert curve.length == pytest.approx(4.5)
    assert curve.turning() == pytest.approx(1.5)
    on = curve.at(np.linspace(0, curve.length, 23))
    assert np.allclose(np.linalg.norm(on, axis=1), 3)
    assert np.allclose(on[-1], arc[-1])


def test_points_on_free_curves_follow_smoothly() -> None:
    s = np.linspace(0, np.pi, 25)
    wave = np.column_stack((s, np.sin(s), 0 * s))
    curve = Curve.through(wave, Carrier("free"))
    on = curve.at(np.linspace(0, curve.length, 200))
    assert np.abs(on[:, 1] - np.sin(on[:, 0])).max() < 2e-4


def grid_facets(points: np.ndarray, n: int, m: int) -> np.ndarray:
    k = (np.arange(n)[:, None] * (m + 1) + np.arange(m)[None]).ravel()
    return np.concatenate((np.column_stack((k, k + m + 1, k + m + 2)), np.column_stack((k, k + m + 2, k + 1))))


def test_developable_surfaces_lie_flat_without_stretch() -> None:
    angle, height = np.meshgrid(np.linspace(0, 2.2, 21), np.linspace(0, 4, 13), indexing="ij")
    points = np.column_stack((2 * np.cos(angle.ravel()), 2 * np.sin(angle.ravel()), height.ravel()))
    facets = grid_facets(points, 20, 12)
    flat = flatten_facets(points, facets)
    for a, b in ((0, 1), (1, 2), (2, 0)):
        space = np.linalg.norm(points[facets[:, a]] - points[facets[:, b]], axis=1)
        plane = np.linalg.norm(flat[facets[:, a]] - flat[facets[:, b]], axis=1)
        assert np.abs(plane / space - 1).max() < 5e-3


def test_a_closed_dome_is_refused_or_upright() -> None:
    lat, lon = np.meshgrid(np.linspace(0.02, 3.0, 30), np.linspace(0, 2 * np.pi, 40)[:-1], indexing="ij")
    points = np.column_stack((np.sin(lat.ravel()) * np.cos(lon.ravel()), np.sin(lat.ravel()) * np.sin(lon.ravel()), np.cos(lat.ravel())))
    k = np.arange(29 * 39)
    i, j = k // 39, k % 39
    at = lambda a, b: a * 39 + b % 39  # noqa: E731
    facets = np.concatenate(
        (np.column_stack((at(i, j), at(i + 1, j), at(i + 1, j + 1))), np.column_stack((at(i, j), at(i + 1, j + 1), at(i, j + 1))))
    )
    try:
        flat = flatten_facets(points, facets)
    except Refused as refused:
        assert "Split" in refused.remedy  # noqa: PT017
        return
    a, b, c = (flat[facets[:, q]] for q in range(3))
    assert np.all((b - a)[:, 0] * (c - a)[:, 1] - (b - a)[:, 1] * (c - a)[:, 0] > 0)


def test_flat_walls_are_laid_flat_exactly(tray_sheet: Document) -> None:
    shape = tray_sheet.sheets[1].shape
    for faces in regions_of(shape):
        patch = lay_flat(shape, faces)
        inside = patch.flat[patch.facets].mean(axis=1)
        space, face = patch.to_space(inside)
        assert set(face) == set(faces)
        centre = patch.space[patch.facets].mean(axis=1)
        assert np.linalg.norm(space - centre, axis=1).max() < 0.05  # a facet's middle lies off a bend by its sagitta only
        back = patch.to_plane(space)
        assert np.abs(back - inside).max() < 0.05


def test_every_region_gets_an_even_border(tray_sheet: Document) -> None:
    shape = tray_sheet.sheets[1].shape
    curves = [Curve.through(shape.points[e.nodes], e.carrier) for e in shape.edges]
    for size in (3.3, 4.7, 6.1, 9.4):
        rules = ShellRules(size)
        patches = [lay_flat(shape, faces) for faces in regions_of(shape)]
        holes = find_round_holes(shape, list(patches), rules)
        short = small_detail(shape, curves, patches, rules)
        count = plan_divisions(shape, curves, list(patches), holes, short, [], rules)
        for patch in patches:
            assert sum(int(count[p.edge]) for loop in patch.loops for p in loop) % 2 == 0
            sides = four_sides(patch)
            if sides is not None:
                assert sum(count[e] for e in sides[0]) == sum(count[e] for e in sides[2])
                assert sum(count[e] for e in sides[1]) == sum(count[e] for e in sides[3])


@pytest.mark.parametrize(("radius", "size"), [(4.5, 5.0), (18, 5), (2.1, 5), (100, 5), (1, 10)])
def test_ring_divisions_are_even_and_sensible(radius: float, size: float) -> None:
    n = ring_divisions(radius, size, size)
    assert n % 2 == 0
    assert n >= 6
    if n >= 12:
        assert n % 4 == 0
    assert 2 * np.pi * (radius + size) / n < 2.2 * size or n == 6


def test_washer_rules_choose_by_diameter(tray_sheet: Document) -> None:
    shape = tray_sheet.sheets[1].shape
    rules = ShellRules(4.0, washers=(WasherRule(0, 5, rings=0), WasherRule(5, 20, rings=2, width=0.6), WasherRule(20, 100, rings=1)))
    holes = find_round_holes(shape, [lay_flat(shape, f) for f in regions_of(shape)], rules)
    by_size = {round(2 * h.radius, 1): len(h.widths) for h in holes if h.round}
    assert by_size == {4.2: 0, 9.0: 2, 36.0: 1}
    slots = [h for h in holes if not h.round]
    assert slots and all(len(h.widths) == 2 and sum(h.shares) == h.divisions for h in slots)  # by their width


def test_free_loops_of_the_tray(tray_sheet: Document) -> None:
    assert len(free_loops(tray_sheet.sheets[1].shape)) == 27


@pytest.mark.parametrize("kind", [k for k in KINDS if k.dimension == 3], ids=lambda k: k.name)
def test_faces_of_solids_close_and_turn_outward(kind: object) -> None:
    corners = {
        "tet": [(0, 0, 0), (1, 0, 0), (0, 1, 0), (0, 0, 1)],
        "pyramid": [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0), (0.5, 0.5, 1)],
        "wedge": [(0, 0, 0), (1, 0, 0), (0, 1, 0), (0, 0, 1), (1, 0, 1), (0, 1, 1)],
        "hex": [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0), (0, 0, 1), (1, 0, 1), (1, 1, 1), (0, 1, 1)],
    }[kind.name]  # type: ignore[attr-defined]
    p = np.array(corners, float)
    volume, sides = 0.0, []
    for face in kind.faces:  # type: ignore[attr-defined]
        for k in range(1, len(face) - 1):
            volume += np.linalg.det(p[[face[0], face[k], face[k + 1]]]) / 6
        sides += [(face[k], face[(k + 1) % len(face)]) for k in range(len(face))]
    assert volume == pytest.approx({"tet": 1 / 6, "pyramid": 1 / 3, "wedge": 0.5, "hex": 1.0}[kind.name])  # type: ignore[attr-defined]
    assert sorted(sides) == sorted((b, a) for a, b in sides)
    assert {tuple(sorted(s)) for s in sides} == {tuple(sorted(s)) for s in kind.sides}  # type: ignore[attr-defined]


def two_quads() -> Mesh:
    x = np.array([(0, 0, 0), (1, 0, 0), (2, 0, 0), (0, 1, 0), (1, 1, 0), (2, 1, 0)], float)
    return Mesh().with_nodes(x).with_elements(QUAD, np.array([(0, 1, 4, 3), (1, 2, 5, 4)]), 1)


def test_the_mesh_is_a_value() -> None:
    mesh = two_quads()
    with pytest.raises(ValueError, match="read-only"):
        mesh.points[0] = 1
    more = mesh.with_elements(TRIA, np.array([(0, 1, 3)]), 2)
    assert mesh.elements == 2
    assert more.elements == 3
    assert list(more.element_id) == [1, 2, 3]
    less = more.without_elements(more.part == 1)
    assert less.nodes == 3
    assert list(less.node_id) == [1, 2, 4]
    assert np.array_equal(less.points[less.conn[0, :3]], more.points[[0, 1, 3]])
    both = mesh.plus(mesh)
    assert both.nodes == 12
    assert len(np.unique(both.node_id)) == 12
    assert pieces(both) == 2


def test_sides_and_loops() -> None:
    sides = shell_sides(two_quads().shells())
    assert len(sides.free) == 6
    assert loops_of(sides.free) == 1
    assert not len(sides.junctions)


def test_wedges_grow_from_trias() -> None:
    from kind_rivet.core.meshing.layers import grow_layers

    mesh = Mesh().with_nodes(np.eye(3)).with_elements(TRIA, np.array([(0, 1, 2)]), 1)
    grown = grow_layers(mesh, np.array([0]), 3, 1.5, 2)
    assert (grown.kind == WEDGE).sum() == 3
    assert not (grown.kind == HEX).any()
    assert np.allclose(np.linalg.norm(grown.points[-3:] - np.eye(3), axis=1), 1.5)
    with pytest.raises(Refused, match="no length"):
        grow_layers(mesh, np.array([0]), 1, 1.0, 2, np.zeros(3))
    with pytest.raises(Refused, match="inside out"):
        grow_layers(mesh, np.array([0]), 1, 1.0, 2, np.array([-1.0, -1, -1]))
