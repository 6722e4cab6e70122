"""Sheets with hole patterns: every hole seen alike, every cell between holes sound."""

from __future__ import annotations

import numpy as np
import pytest

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.facing_gaps import facing_edges
from kind_rivet.core.meshing.hole_patterns import _count, _directions, _EvenRings, neighbours
from kind_rivet.core.meshing.patch import lay_flat
from kind_rivet.core.meshing.rules import ShellRules, WasherRule
from kind_rivet.core.meshing.shared_rings import with_shared_rings
from kind_rivet.core.meshing.shells import mesh_sheet
from kind_rivet.core.midsurface.extract import extract
from kind_rivet.core.midsurface.sheet import Sheet
from tests.thin_meshes import Made, drawing, drawn_sheet, made, meshed, solid_of
from tests.thin_parts import box, cut, cylinder

NAMES = sorted(drawing("draw_hole_patterns").PARTS)
FINE = ["staggered_plate", "hexagon_grille", "slotted_pan", "half_pitch_plate"]


@pytest.mark.parametrize(("name", "factor"), [*((name, 1.0) for name in NAMES), *((name, 0.6) for name in FINE)])
def test_hole_patterns_mesh_without_a_failing_element(name: str, factor: float) -> None:
    mesh = made(name, factor)
    assert mesh.pieces == 1
    assert mesh.coincident() == 0
    assert mesh.quad_share > 0.997
    assert not len(mesh.quality.failing)
    assert mesh.least_jacobian > 0.6
    assert mesh.angle_spread() < 1.0


@pytest.mark.parametrize("name", [name for name in NAMES if name not in ("slotted_pan", "perforated_tube")])
def test_equal_holes_get_equal_divisions(name: str) -> None:
    holes = made(name).shells.holes
    assert len(holes) > 20
    for radius in {round(hole.radius, 3) for hole in holes}:
        assert len({hole.divisions for hole in holes if round(hole.radius, 3) == radius}) == 1


def nodes_towards(mesh: Made, k: int) -> Floats:
    """Angles (degrees) of the nodes of hole k."""
    hole = mesh.shells.holes[k]
    nodes = np.unique(np.concatenate([mesh.shells.edge_nodes[e] for e in hole.edges]))
    away = mesh.shells.points[nodes] - np.array(hole.centre)
    return np.degrees(np.arctan2(away[:, 1], away[:, 0]))


@pytest.mark.parametrize(
    ("name", "ways"), [("square_pattern", [0, 90]), ("staggered_plate", [0, 60, 120]), ("half_pitch_plate", [45, 135])]
)
def test_nodes_of_a_hole_look_at_its_neighbours(name: str, ways: list[float]) -> None:
    mesh = made(name)
    for k in range(0, len(mesh.shells.holes), 5):
        angle = nodes_towards(mesh, k)
        for way in ways:
            assert np.abs((angle - way + 180) % 360 - 180).min() < 1.0


def test_close_holes_share_the_rows_between_them() -> None:
    """Too near each other for rings of their own: even quads all round meet those of the neighbours."""
    mesh = made("staggered_plate").shells
    bare = [k for k, hole in enumerate(mesh.holes) if not hole.widths]
    ringed = [k for k in bare if (mesh.ring == k).any()]
    assert len(ringed) > 0.6 * len(mesh.holes)
    for k in ringed:
        assert (mesh.ring == k).sum() == mesh.holes[k].divisions
    assert np.array_equal(with_shared_rings(mesh).ring, mesh.ring)


@pytest.mark.parametrize(("fold", "count"), [(4, 8), (4, 12), (6, 12)])
def test_rings_amid_patterns_are_as_wide_as_growth_asks(fold: int, count: int) -> None:
    """The areas of the quads round a hole make up what lies between it and the border of its cell."""
    even, radius, reach = _EvenRings(fold, count, 3.3), 2.0, np.array([2.9, 3.2])
    pitch = 3.3 + 2 * radius
    areas = [area for pair in even._areas(radius, reach) for area in pair]
    ring = areas[0]
    if fold == 6:
        cell, rest = 0.75**0.5 * pitch**2, 12 * areas[1]
    else:
        between, square = areas[1], areas[3]
        cell, rest = pitch**2, 4 * between + (square if count == 8 else 4 * square)
    polygon = count / 2 * np.sin(2 * np.pi / count) * radius**2
    assert polygon + count * ring + rest == pytest.approx(np.full(2, cell))


def plate_of_holes(pitch: float, radius: float, staggered: bool) -> Sheet:
    rows = [pitch * (0.75**0.5 if staggered else 1.0) * j for j in range(5)]
    places = [(pitch * (i + 0.5 * (staggered and j % 2)), y) for i in range(6) for j, y in enumerate(rows)]
    blank = box(-2 * pitch, -2 * pitch, 0, 9.5 * pitch, rows[-1] + 4 * pitch, 1.5)
    return extract(solid_of(cut(blank, [cylinder((x, y, -1), (0, 0, 1), radius, 4) for x, y in places])))


@pytest.mark.parametrize(
    ("pitch", "radius", "staggered", "size", "count"),
    [(7.0, 2.07, False, 1.5, 12), (9.244, 2.737, False, 2.5, 8), (10.4, 2.38, True, 3.0, 12)],
)
def test_shells_between_the_holes_of_a_pattern_are_alike_in_size(
    pitch: float, radius: float, staggered: bool, size: float, count: int
) -> None:
    """What lay amid four holes was 1.6 times as large as their rings; rows between small staggered holes as short as the holes' sides."""
    mesh = meshed(plate_of_holes(pitch, radius, staggered), size)
    assert not len(mesh.quality.failing)
    assert mesh.growth.max() < 1.5
    hole = mesh.shells.holes[14]
    assert (mesh.shells.ring == 14).sum() == hole.divisions == count


def staggered_plate(across: int, along: int, length: float, width: float) -> tuple[Sheet, list[tuple[float, float]]]:
    """Rows of holes 8.907 apart, so many across and along, amid a plate 1.5 thick; and their middles, column by column."""
    pitch = 8.907
    places = [
        (pitch * (i - (across - 1) / 2 + (0.25 if j % 2 else -0.25)), pitch * 0.866 * (j - (along - 1) / 2))
        for i in range(across)
        for j in range(along)
    ]
    blank = box(-length / 2, -width / 2, 0, length, width, 1.5)
    return extract(solid_of(cut(blank, [cylinder((x, y, -1), (0, 0, 1), 1.831, 4) for x, y in places]))), places


def test_many_holes_are_all_seen_alike() -> None:
    """A front between 72 holes ran on one way in most cells and another way in some: growth 1.9 beside these."""
    sheet, places = staggered_plate(9, 8, 108, 84)
    mesh = meshed(sheet, 2.0)
    assert mesh.growth.max() < 1.5
    rows, points = mesh.mesh.shells(), mesh.mesh.points
    used = np.bincount(rows[rows >= 0], minlength=len(points))
    amid = [(x, y) for k, (x, y) in enumerate(places) if 0 < k % 8 < 7 and 0 < k // 8 < 8]
    for x, y in amid:  # where three cells meet, six quads do
        three = np.array([x, y + 8.907 / 3**0.5, 0.75])
        assert used[np.argmin(np.linalg.norm(points - three, axis=1))] == 6


def test_what_makes_cells_at_the_border_even_changes_no_row_between_holes() -> None:
    """Chains of single rows ran right through the pattern, from one odd cell at the border to another: growth 1.67."""
    mesh = meshed(staggered_plate(5, 5, 81.3, 60.0)[0], 2.0)
    assert mesh.growth.max() < 1.5
    assert not len(mesh.quality.failing)


def test_what_a_rule_or_a_hand_says_stays() -> None:
    sheet = drawn_sheet("square_pattern").shape
    ruled = mesh_sheet(sheet, ShellRules(3.0, washers=(WasherRule(rings=1, width=0.0, divisions=10),)))
    assert {hole.divisions for hole in ruled.holes} == {10}
    edge = ruled.holes[7].edges[0]
    by_hand = mesh_sheet(sheet, ShellRules(3.0, divisions={edge: 14}, washers=(WasherRule(rings=1, width=0.0),)))
    assert by_hand.divisions[edge] == 14
    assert {hole.divisions for hole in by_hand.holes if edge not in hole.edges} == {8}


def lattice(a: tuple[float, float], b: tuple[float, float], n: int = 5) -> Floats:
    return np.array([(i * a[0] + j * b[0], i * a[1] + j * b[1]) for i in range(n) for j in range(n)])


def test_neighbours_of_a_square_and_a_triangular_lattice() -> None:
    square, triangle = neighbours(lattice((1, 0), (0, 1))), neighbours(lattice((1, 0), (0.5, 0.75**0.5)))
    assert len(square) == 2 * 5 * 4  # none across
    assert np.bincount(triangle.ravel(), minlength=25)[12] == 6
    line = neighbours(np.column_stack((np.arange(7.0), np.zeros(7))))
    assert sorted(map(tuple, line.tolist())) == [(k, k + 1) for k in range(6)]


def test_directions_of_patterns() -> None:
    fold, first = _directions(np.array([12.0, 102.0, 192.0, 282.0, 13.0])) or (0, 0.0)
    assert fold == 4 and first == pytest.approx(12.2, abs=0.1)
    fold, first = _directions(np.array([0.0, 63.4, 116.6, 180.0, 243.4, 296.6])) or (0, 0.0)
    assert fold == 6 and first == pytest.approx(0, abs=1e-6)
    assert _directions(np.array([0.0, 20.0, 70.0, 110.0])) is None


def test_edges_that_face_each_other_get_one_count() -> None:
    sheet = drawn_sheet("slotted_pan").shape
    floor = int(np.argmax(sheet.face_area))
    pairs = facing_edges(lay_flat(sheet, (floor,)), 5.0)
    assert len(pairs) >= 4 * 4  # every slot and the one above it
    for a, b in pairs:
        middle = [sheet.points[sheet.edges[e].nodes].mean(axis=0) for e in (a, b)]
        assert np.linalg.norm(middle[0] - middle[1]) < 2.5 * 5.0
        assert sheet.edge_length[a] == pytest.approx(sheet.edge_length[b], rel=0.4)
    assert facing_edges(lay_flat(sheet, (floor,)), 0.5) == []
    mesh = made("slotted_pan").shells
    for a, b in facing_edges(lay_flat(sheet, (floor,)), made("slotted_pan").size):
        assert mesh.divisions[a] == mesh.divisions[b]


def test_counts_suit_the_directions_and_the_size() -> None:
    assert _count(4, 8.8, 17.0) == 8
    assert _count(4, 11.0, 17.0) == 12
    assert _count(6, 8.8, 17.0) == 12  # two for each direction
    assert _count(6, 8.8, 10.5) == 6  # twelve would be too short
    assert _count(4, 5.0, 7.0) is None  # rather a hexagon than a square
    assert _count(4, 4.0, 5.0) == 4
    assert _count(6, 4.0, 5.0) is None
