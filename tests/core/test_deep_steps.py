"""Walls whose thickness changes much at once or twice: counterbores, pockets, pads. Their risers, and the shells along them."""

from __future__ import annotations

from functools import cache

import numpy as np
import pytest

from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.assemble import as_mesh
from kind_rivet.core.meshing.patch import Patch, lay_flat
from kind_rivet.core.meshing.rules import ShellRules, WasherRule
from kind_rivet.core.meshing.shells import mesh_sheet
from kind_rivet.core.meshing.step_rows import row_along
from kind_rivet.core.meshing.trias import cut_at_steps
from kind_rivet.core.meshing.washers import find_round_holes, rises, widths_for
from kind_rivet.core.midsurface.extract import extract
from kind_rivet.core.midsurface.sheet import Sheet
from kind_rivet.core.quality.index import judge
from kind_rivet.core.quality.limits import DEFAULT
from kind_rivet.core.quality.shell_metrics import SCALED_JACOBIAN, WARP, shell_metrics
from tests.thin_meshes import meshed, size_for, solid_of
from tests.thin_parts import box, cut, cylinder, fused

Z = (0, 0, 1)


def bored_twice(wall: float, first: float, second: float, wide: float = 30.0, narrow: float = 18.0) -> Shape:
    """A plate 120 × 80 with a counterbore in two steps: what is left of the wall within each."""
    tools = [cylinder((60, 40, first), Z, wide, wall), cylinder((60, 40, second), Z, narrow, wall), cylinder((60, 40, -1), Z, 8, wall + 9)]
    return solid_of(cut(box(0, 0, 0, 120, 80, wall), tools))


def _pocket() -> object:
    return cut(box(0, 0, 0, 100, 70, 10), [box(20, 15, 3, 60, 40, 10)])


def _bolts_in_pocket() -> object:
    turns = np.arange(6) * np.pi / 3
    bolts = [cylinder((50 + 22 * np.cos(a), 50 + 22 * np.sin(a), -1), Z, 3, 20) for a in turns]
    return cut(box(0, 0, 0, 100, 100, 9), [cylinder((50, 50, 3), Z, 32, 9), cylinder((50, 50, -1), Z, 10, 20), *bolts])


def _eccentric() -> object:
    corners = [cylinder((x, y, -1), Z, 3, 20) for x in (10, 90) for y in (10, 60)]
    return cut(box(0, 0, 0, 100, 70, 10), [cylinder((50, 35, 3), Z, 22, 9), cylinder((56, 38, -1), Z, 6, 20), *corners])


def _pads() -> object:
    return fused(box(0, 0, 0, 120, 80, 3), [cylinder((60, 40, 0), Z, 30, 6), cylinder((60, 40, 0), Z, 18, 10)])


def _bearing_plate() -> object:
    bolts = [cylinder((x, y, -1), Z, 1.5, 20) for x in (-28, 28) for y in (-18, 18)]
    bore = [cylinder((0, 0, 3), Z, 11, 20), cylinder((0, 0, -1), Z, 4, 20)]
    return cut(box(-40, -30, 0, 80, 60, 10), [*bore, *bolts])


PARTS = {
    "bored twice": lambda: cut(
        box(0, 0, 0, 120, 80, 10), [cylinder((60, 40, 6), Z, 30, 9), cylinder((60, 40, 3), Z, 18, 9), cylinder((60, 40, -1), Z, 8, 20)]
    ),
    "pocket": _pocket,
    "bolts in a pocket": _bolts_in_pocket,
    "pads": _pads,
    "bearing plate": _bearing_plate,
    "eccentric bore": _eccentric,
}


@cache
def solid(name: str) -> Shape:
    return solid_of(PARTS[name]())


@cache
def sheet(name: str) -> Sheet:
    return extract(solid(name))


# -- the sheet ---------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("wall", "first", "second"), [(10, 6, 3), (6, 4, 2), (10, 8, 3), (10, 7, 4), (10, 5, 3), (8, 4, 2)], ids=lambda v: f"{v:g}"
)
def test_a_counterbore_in_two_steps_has_a_wall_for_each(wall: float, first: float, second: float) -> None:
    """The second floor may lie in the middle of the first wall or below it, where that ends at an outline of its own."""
    found = extract(bored_twice(wall, first, second))
    assert found.proof is not None
    assert found.proof.pieces == 1
    assert found.proof.inner_free_length == 0.0
    assert not found.proof.unused_faces
    assert len(found.shape.faces) == 3
    seen = {}
    for f, thickness in enumerate(found.thickness):
        points = found.shape.points[np.unique(found.shape.facets[found.shape.facet_face == f])]
        seen[round(float(thickness), 6)] = np.linalg.norm(points[:, :2] - (60, 40), axis=1)
    assert sorted(seen) == sorted((wall, first, second))
    assert seen[second].max() == pytest.approx(18.0, abs=0.1)
    assert seen[first].min() == pytest.approx(18.0, abs=0.1)
    assert seen[first].max() == pytest.approx(30.0, abs=0.1)


def test_a_riser_lies_half_way_between_the_two_walls_beside_it() -> None:
    found = sheet("bored twice").shape
    heights = {
        round(float(edge.carrier.data[6])): float(found.points[edge.nodes, 2].mean())
        for edge in found.edges
        if edge.carrier.kind == "circle"
    }
    assert heights[30] == pytest.approx((5 + 3) / 2)
    assert heights[18] == pytest.approx((3 + 1.5) / 2)


# -- the shells --------------------------------------------------------------------------------


@pytest.mark.parametrize("name", ["bored twice", "pocket", "bolts in a pocket", "pads", "bearing plate"])
@pytest.mark.parametrize("times", [1.0, 0.5])
def test_no_shell_along_a_deep_step_fails(name: str, times: float) -> None:
    made = meshed(sheet(name), times * size_for(solid(name)))
    assert not len(judge(made.mesh, DEFAULT, made.size).failing)
    assert float(shell_metrics(made.mesh.points, made.mesh.shells())[:, SCALED_JACOBIAN].min()) > 0.6


def test_round_a_step_there_are_as_many_shells_as_nodes_on_it() -> None:
    """On both sides every side at the step has its own quad, whose other nodes lie in the plane of the wall."""
    made = meshed(sheet("eccentric bore"), 0.5 * size_for(solid("eccentric bore")))
    mesh = made.mesh
    at = np.abs(np.linalg.norm(mesh.points[:, :2] - (50, 35), axis=1) - 22.0) < 1e-6
    rows = mesh.shells()
    touching = np.array([sum(at[v] for v in row if v >= 0) for row in rows])
    assert set(touching.tolist()) == {0, 2}
    assert (touching == 2).sum() == 2 * at.sum()
    beside = np.unique(rows[touching == 2])
    beside = beside[(beside >= 0) & ~at[np.maximum(beside, 0)]]
    assert set(np.round(mesh.points[beside, 2], 6).tolist()) == {1.5, 5.0}


def _region(name: str, wall: float) -> tuple[Shape, Patch]:
    found = sheet(name)
    face = next(f for f, t in enumerate(found.thickness) if t == pytest.approx(wall))
    return found.shape, lay_flat(found.shape, (face,))


def test_a_row_follows_a_step_that_runs_smoothly_where_there_is_room() -> None:
    _, patch = _region("bolts in a pocket", 3.0)
    outer = patch.outlines[0]
    row = row_along(patch, list(patch.outlines), 0, 2.0)
    assert row is not None and row.shape == outer.shape
    gap = np.linalg.norm(row - outer, axis=1)
    assert gap == pytest.approx(1.8, rel=0.02)
    near = [patch.outlines[0], 0.97 * patch.outlines[0][::-1]]
    assert row_along(patch, near, 0, 2.0) is None  # another border is close by
    assert row_along(patch, list(patch.outlines), 1, 2.0) is None  # a hole's edge lies in the wall


def test_no_row_follows_a_step_with_sharp_corners_or_a_low_one() -> None:
    _, patch = _region("pocket", 3.0)
    assert row_along(patch, list(patch.outlines), 0, 3.0) is None
    _, low = _region("bolts in a pocket", 3.0)
    assert row_along(low, list(low.outlines), 0, 30.0) is None  # it rises by a twentieth of the size only


def test_corners_of_a_pocket_are_cut_along_the_mitre() -> None:
    found, size = sheet("pocket"), 5.0
    shells = mesh_sheet(found.shape, ShellRules(size, 0.25))
    mesh = as_mesh(shells, found.shape, 1, 1, size)
    trias = mesh.shells()[mesh.shells()[:, 3] < 0]
    assert len(trias) == 16  # four corners, two walls, two halves
    corners = np.array([(x, y) for x in (20, 80) for y in (15, 55)], float)
    away = np.linalg.norm(mesh.points[trias[:, :3]][:, :, None, :2] - corners, axis=3).min(axis=(1, 2))
    assert away.max() < 1e-6  # each has a corner of the step
    assert float(shell_metrics(mesh.points, mesh.shells())[:, WARP].max()) < 12.0
    assert cut_at_steps(shells, found.shape) is not None
    assert len(cut_at_steps(shells, found.shape).elements) == len(shells.elements)  # once is enough


def test_what_rises_little_keeps_its_quads() -> None:
    part = solid_of(cut(box(0, 0, 0, 100, 70, 3), [box(20, 15, 2.6, 60, 40, 10)]))
    shells = mesh_sheet(extract(part).shape, ShellRules(5.0, 0.25))
    assert (shells.elements[:, 3] >= 0).all()


# -- counts of circles -------------------------------------------------------------------------


def test_circles_of_a_counterbore_agree_on_one_count() -> None:
    found = sheet("bored twice").shape
    patches = [lay_flat(found, (f,)) for f in range(len(found.faces))]
    rules = ShellRules(5.0, 0.25, washers=(WasherRule(rings=1, width=0.0),))
    holes = find_round_holes(found, patches, rules)
    assert len({h.divisions for h in holes}) == 1
    assert all(h.widths for h in holes)
    step = next(h for h in holes if h.radius == pytest.approx(30.0))
    assert rises(found, patches[step.region], step.edges, 5.0)
    assert not rises(found, patches[step.region], step.edges, 50.0)
    assert not rises(found, None, step.edges, 5.0)


def test_a_ring_at_a_step_may_have_longer_sides() -> None:
    assert widths_for(24, 11.0, (2.4,), 2.0) == ()
    (width,) = widths_for(24, 11.0, (2.4,), 2.0, lifted=True)
    assert width == pytest.approx(2.4)


def test_an_odd_count_by_hand_beside_rings_is_named() -> None:
    """The circle within keeps its even count for its ring, so the wall between them keeps a tria and the note says which edge is why."""
    found = sheet("bored twice").shape
    edge = next(e for e, line in enumerate(found.edges) if line.carrier.kind == "circle" and line.carrier.data[6] == pytest.approx(30.0))
    shells = mesh_sheet(found, ShellRules(5.0, 0.25, washers=(WasherRule(rings=1, width=0.0),), divisions={edge: 27}))
    assert shells.divisions[edge] == 27
    odd = [note for note in shells.notes if "odd number" in note]
    assert len(odd) == 1
    assert f"held by hand (edge {edge + 1}) and by its rings" in odd[0]


@pytest.mark.parametrize(("wall", "radius", "left"), [(5.0, 5.0, 1.0), (8.0, 7.0, 3.0)])
def test_thin_floors_under_blind_holes_are_flat_within_a_ring(wall: float, radius: float, left: float) -> None:
    """Four quads over the floor alone were warped, as its border lies half-way down to the middle of the plate."""
    places = [(20 + 80 * i, 20 + 40 * j) for i in (0, 1) for j in (0, 1)]
    holes = [cylinder((x, y, -1), Z, radius, wall + 1 - left) for x, y in places]
    sheet = extract(solid_of(cut(box(0, 0, 0, 120, 80, wall), holes)))
    assert sheet.proof is not None
    assert sheet.proof.pieces == 1
    made = meshed(sheet, 6.0 if wall < 6 else 8.0)
    assert not len(made.quality.failing)
    floors = [f for f in range(len(sheet.shape.faces)) if sheet.shape.face_area[f] < 5 * radius**2]
    assert len(floors) == 4
    for f in floors:
        assert int((made.mesh.face == f).sum()) == 12  # a ring of eight round four
