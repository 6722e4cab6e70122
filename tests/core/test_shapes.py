"""Measuring, welding, coarse pictures, cutting facets, parts of shapes: small things on which preparing stands."""

from __future__ import annotations

import itertools

import numpy as np
import pytest

from kind_rivet.core.document.document import Document
from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry import measure
from kind_rivet.core.geometry.coarse import coarse
from kind_rivet.core.geometry.faults import dihedral, find_faults
from kind_rivet.core.geometry.holes import sheet_holes
from kind_rivet.core.geometry.refine import SideCarriers, cut_sides, refined, sides_of
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.soup import fit_circle, fit_surface
from kind_rivet.core.geometry.weld import subshape, weld
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.meshing.reuse import renumbered, ring_numbers
from kind_rivet.core.operations import perform
from tests.conftest import EXAMPLES
from tests.made_up import cube, profile_solid, sharp_channel


def moved(shape: Shape, by: tuple[float, float, float]) -> Shape:
    return Shape(shape.points + by, shape.facets, shape.facet_face, shape.normals, shape.faces, shape.edges, shape.solid)


# -- measuring -------------------------------------------------------------------
def test_lengths_angles_and_circles() -> None:
    assert measure.between_points(np.zeros(3), np.array([3.0, 4.0, 0.0])).value == pytest.approx(5)
    assert measure.angle_of_points(np.zeros(3), np.array([1.0, 0, 0]), np.array([1.0, 1.0, 0])).value == pytest.approx(45)
    found = measure.circle_of_points(np.array([5.0, 2, 1]), np.array([2.0, 5, 1]), np.array([-1.0, 2, 1]))
    assert found.value == pytest.approx(3)
    assert found.line[0] == pytest.approx((2, 2, 1))
    with pytest.raises(Refused, match="in a line"):
        measure.circle_of_points(np.zeros(3), np.ones(3), 2 * np.ones(3))
    with pytest.raises(Refused, match="same"):
        measure.angle_of_points(np.zeros(3), np.zeros(3), np.ones(3))
    with pytest.raises(Refused, match="not round"):
        measure.circle_of_edge(cube(), 0)


@pytest.mark.parametrize("seed", range(5))
def test_circles_through_random_points_are_found_again(seed: int) -> None:
    rng = np.random.default_rng(seed)
    centre, radius = rng.normal(size=3) * 10, float(rng.uniform(0.1, 50))
    u, v = np.linalg.qr(rng.normal(size=(3, 3)))[0][:2]
    points = [centre + radius * (np.cos(a) * u + np.sin(a) * v) for a in (0.1, 1.7, 4.0)]
    found, axis, r = measure.circle_through(*points)
    assert np.allclose(found, centre, atol=1e-8 * radius + 1e-9)
    assert r == pytest.approx(radius)
    assert abs(axis @ np.cross(u, v)) == pytest.approx(1)


def test_faces_bodies_and_walls() -> None:
    box, other = cube(), moved(cube(), (13.0, 4.0, 0.0))
    assert measure.area_of_faces([(box, 0), (box, 1)]).value == pytest.approx(200)
    assert measure.angle_of_faces(box, 0, box, 1).value == pytest.approx(180)
    assert measure.angle_of_faces(box, 0, box, 2).value == pytest.approx(90)
    assert measure.least_distance(box, other).value == pytest.approx(3)
    assert measure.wall_at(sharp_channel(), np.array([20.0, 0.0, 30.0])).value == pytest.approx(2)
    with pytest.raises(Refused, match="no wall thickness"):
        measure.wall_at(subshape(box, (0,)), np.zeros(3))
    with pytest.raises(Refused, match="No face"):
        measure.area_of_faces([])


def test_measuring_says_what_it_needs(tray: Document) -> None:
    for what in ("distance", "circle", "angle", "area", "least distance", "wall"):
        with pytest.raises(Refused, match="needs"):
            perform(tray, "part.measure", {"what": what})
    d = perform(tray, "part.measure", {"what": "distance", "points": [(0, 0, 0), (3, 4, 0)]})
    assert d.notes[0].startswith("Distance 5")
    assert d.bodies is tray.bodies
    assert perform(tray, "part.measure", {"what": "wall", "points": [(60, 140, 0)]}).notes[0].startswith("Wall 1.5")


# -- welding and parts of shapes --------------------------------------------------
def test_touching_cubes_share_one_face_and_its_edges() -> None:
    a, b = cube(), moved(cube(), (10.0, 0.0, 0.0))
    welded = weld([a, b], 1e-6)
    assert len(welded.shape.points) == 12
    assert len(welded.shape.edges) == 20
    assert sum(len(beside) >= 3 for beside in welded.shape.edge_faces) == 4  # the edges round the common face are junctions
    for shape, faces in ((a, welded.faces[0]), (b, welded.faces[1])):
        for f, new in enumerate(faces):
            assert welded.shape.face_area[new] == pytest.approx(shape.face_area[f])


def test_apart_stays_apart() -> None:
    welded = weld([cube(), moved(cube(), (10.1, 0.0, 0.0))], 1e-6)
    assert len(welded.shape.points) == 16
    assert len(welded.shape.faces) == 12


def test_a_part_of_a_shape_keeps_its_border() -> None:
    lid = subshape(cube(), (1,))
    assert len(lid.faces) == 1
    assert len(lid.edges) == 4
    assert all(len(beside) == 1 for beside in lid.edge_faces)
    assert lid.face_area.sum() == pytest.approx(100)
    corner = subshape(cube(), (1, 2))
    assert sorted(len(beside) for beside in corner.edge_faces) == [1] * 6 + [2]


def test_holes_of_a_sheet_are_its_inner_loops(tray_sheet: Document) -> None:
    holes = sheet_holes(tray_sheet.sheets[1].shape)
    assert len(holes) == 26
    assert sum(h.kind == "round" for h in holes) == 24


# -- facets -----------------------------------------------------------------------
def test_coarse_pictures_keep_the_box_and_lose_facets() -> None:
    n = 120
    x, y = np.meshgrid(np.arange(n) / n, np.arange(n) / n, indexing="ij")
    points = np.column_stack((x.ravel(), y.ravel(), 0.1 * np.sin(9 * x).ravel()))
    i = np.arange(n * n).reshape(n, n)
    quads = np.stack((i[:-1, :-1], i[1:, :-1], i[1:, 1:], i[:-1, 1:]), -1).reshape(-1, 4)
    facets = np.vstack((quads[:, :3], quads[:, [0, 2, 3]])).astype(np.int32)
    few_points, few = coarse(points, facets, 30)
    assert 500 < len(few) < 0.2 * len(facets)
    assert np.allclose(np.ptp(few_points, axis=0), np.ptp(points, axis=0), atol=2 / 30)
    assert few.max() < len(few_points)


@pytest.mark.parametrize("seed", range(8))
def test_cutting_sides_keeps_area_and_joins(seed: int) -> None:
    rng = np.random.default_rng(seed)
    shape = cube()
    for _ in range(3):
        sides = sides_of(shape, np.arange(len(shape.facets)))
        chosen = sides[rng.random(len(sides)) < 0.5]
        share = rng.uniform(0.2, 0.8, len(chosen))[:, None]
        places = shape.points[chosen[:, 0]] * (1 - share) + shape.points[chosen[:, 1]] * share
        before = shape
        shape, new = cut_sides(shape, {(int(a), int(b)): p for (a, b), p in zip(chosen, places, strict=True)})
        assert len(new) == len(chosen)
        assert shape.face_area == pytest.approx(before.face_area)
        assert shape.edge_length == pytest.approx(before.edge_length)
        assert all(len(beside) == 2 for beside in shape.edge_faces)
        assert shape.volume == pytest.approx(1000)


def test_points_on_sides_are_lifted_onto_what_they_lie_on(tray_sheet: Document) -> None:
    shape = tray_sheet.sheets[1].shape
    bend = next(f for f, face in enumerate(shape.faces) if face.carrier.kind == "cylinder")
    sides = sides_of(shape, np.flatnonzero(shape.facet_face == bend))
    lifted = SideCarriers(shape, [(int(a), int(b)) for a, b in sides]).lifted(shape.points[sides].mean(axis=1))
    d = shape.faces[bend].carrier.array
    q = lifted - d[:3]
    radius = np.linalg.norm(q - (q @ d[3:6])[:, None] * d[3:6], axis=1)
    assert np.abs(radius - d[6]).max() < 1e-9


def test_refining_reaches_the_line_and_little_else() -> None:
    shape = cube()
    chosen = np.zeros(6, bool)
    chosen[1] = True
    fine = refined(shape, chosen, lambda p: np.linalg.norm(p[:, :2] - 5, axis=1) - 2, 0.5)
    top = fine.facets[fine.facet_face == 1]
    middle = fine.points[top].mean(axis=1)
    side = np.linalg.norm(fine.points[top] - np.roll(fine.points[top], -1, axis=1), axis=2).max(axis=1)
    on_line = np.abs(np.linalg.norm(middle[:, :2] - 5, axis=1) - 2) < 0.2
    assert side[on_line].max() <= 0.5
    assert side.max() > 1.0  # far from the line facets stay as they are
    assert fine.face_area == pytest.approx(shape.face_area)


def test_surfaces_and_circles_are_fitted_only_where_they_are() -> None:
    a = np.linspace(0, 3, 20)
    arc = np.column_stack((4 * np.cos(a), 4 * np.sin(a), np.zeros(20)))
    strip = np.vstack((arc, arc + (0, 0, 5)))
    i = np.arange(19)
    facets = np.vstack((np.column_stack((i, i + 1, i + 21)), np.column_stack((i, i + 21, i + 20)))).astype(np.int32)
    normals = np.zeros((len(facets), 3, 3))
    found = fit_surface(strip, facets, normals)
    assert found.kind == "cylinder"
    assert found.data[6] == pytest.approx(4)
    wavy = strip + np.column_stack((np.zeros(40), np.zeros(40), 0.5 * np.sin(5 * strip[:, 0]))) + 0.3 * np.sin(3 * strip[:, [1]])
    assert fit_surface(wavy, facets, normals).kind == "free"
    circle = fit_circle(arc)
    assert circle is not None
    assert circle[1] == pytest.approx(4)


def test_places_along_a_curve_are_found_again() -> None:
    a = np.linspace(0, 2.0, 40)
    points = np.column_stack((3 * np.cos(a), 3 * np.sin(a), a))
    curve = Curve.through(points, type(cube().edges[0].carrier)("free"))
    wanted = np.linspace(0, curve.length, 9)
    assert curve.station_of(curve.at(wanted)) == pytest.approx(wanted, abs=2e-3 * curve.length)


# -- faults -----------------------------------------------------------------------
def test_a_step_of_a_profile_is_a_sliver_and_its_edges_are_short() -> None:
    step = profile_solid(np.array([(0, 0), (40, 0), (40, 20), (20, 20), (20, 20.4), (0, 20.4)], float), 60.0)
    found = find_faults(step, 5.0)
    kinds = {f.kind for f in found}
    assert "sliver" in kinds
    sliver = next(f for f in found if f.kind == "sliver")
    assert sliver.width == pytest.approx(2 * 0.4 * 60 / (2 * 60.4), rel=1e-6)
    assert all(f.width < 0.4 * 5.0 for f in found)
    assert not find_faults(step, 0.5)  # at a finer size nothing hurts
    assert dihedral(step, 0) == pytest.approx(np.pi / 2)


def test_remedies_on_a_body_without_a_sheet_are_noted_once(tray: Document) -> None:
    d = perform(tray, "part.open", {"path": str(EXAMPLES / "sliver_tray.step")})
    key = d.bodies[-1].key
    fine = perform(d, "prepare.find", {"size": 5.0, "bodies": [key]})
    assert len(fine.faults) == 12
    once = perform(fine, "prepare.remedy", {"bodies": [key]})
    middles = [p.middle for p in once.looked_past]
    assert len(set(middles)) == len(middles) == 12
    assert not once.faults
    with pytest.raises(Refused, match="Nothing"):
        perform(once, "prepare.remedy", {"bodies": [key]})
    with pytest.raises(Refused, match="Nothing new"):
        perform(once, "prepare.look_past", {"body": key, "edges": list(fine.faults[0].edges)})


# -- numbers through a change ------------------------------------------------------
def test_meshes_follow_new_numbers(tray_mesh: Document) -> None:
    holes = tray_mesh.mesh_holes[1]
    edges = {e: e + 100 for e in range(len(tray_mesh.mesh_edges[1]))}
    swapped = tuple(reversed([type(h)(**{**h.__dict__, "edges": tuple(edges[e] for e in h.edges)}) for h in holes]))
    rings = ring_numbers(holes, swapped, edges)
    assert rings == {k: len(holes) - 1 - k for k in range(len(holes))}
    mesh = renumbered(tray_mesh.mesh, 1, {f: 8 - f for f in range(9)}, edges, rings)
    for old, new in itertools.islice(zip(tray_mesh.mesh.face.tolist(), mesh.face.tolist(), strict=True), 200):
        assert new == 8 - old
    assert np.array_equal(mesh.node_id, tray_mesh.mesh.node_id)
    assert (mesh.on_item[(mesh.on_kind == 2) & (mesh.on_body == 1)] >= 100).all()
