"""Regions with many holes cut into cells: links, even borders, cells of one kind."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pytest

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.free.cells import _even, _other, fill_in_cells
from kind_rivet.core.meshing.free.fill import FlatMesh, fill
from kind_rivet.core.meshing.free.links import Link, find_links
from kind_rivet.core.meshing.free.loops import area_of, next_nodes, normals_at, sides_at, with_holes
from kind_rivet.core.meshing.free.repeats import Repeats
from kind_rivet.core.meshing.free.row import Row
from kind_rivet.core.meshing.mapped import fill_star
from tests.flat import area

SIZE, GROWTH = 1.0, 0.25


def ring(x: float, y: float, radius: float, n: int, first: float = 0.0) -> Floats:
    """A hole: n nodes, clockwise."""
    a = first - 2 * np.pi * np.arange(n) / n
    return np.column_stack((x + radius * np.cos(a), y + radius * np.sin(a)))


def rectangle(w: float, h: float) -> Floats:
    """A border with sides of about the size, counter-clockwise from (0, 0)."""
    corners = np.array([(0, 0), (w, 0), (w, h), (0, h), (0, 0)], float)
    lots = []
    for a, b in pairwise(corners):
        n = round(float(np.abs(b - a).max()) / SIZE)
        lots.append(a + np.arange(n)[:, None] / n * (b - a))
    return np.vstack(lots)


def square_field(nx: int = 5, ny: int = 4, pitch: float = 4.0, radius: float = 1.3, n: int = 8) -> list[Floats]:
    holes = [ring(4 + pitch * i, 4 + pitch * j, radius, n) for i in range(nx) for j in range(ny)]
    return [rectangle(8 + pitch * (nx - 1), 8 + pitch * (ny - 1)), *holes]


def triangular_field(n: int = 12) -> list[Floats]:
    pitch = 4.0
    at = [(4 + pitch * (i + j % 2 / 2), 4 + pitch * 0.75**0.5 * j) for i in range(5) for j in range(4)]
    return [rectangle(26, 20), *(ring(x, y, 1.2, n) for x, y in at)]


def region_area(loops: list[Floats]) -> float:
    return sum(area_of(loop) for loop in loops)


def plain(lot: list[Floats]) -> FlatMesh:
    return fill(lot, SIZE, GROWTH)


def test_neighbours_in_rows_are_linked_and_those_across_are_not() -> None:
    loops = square_field()
    first = np.cumsum([0] + [len(loop) for loop in loops])
    centre = np.array([loop.mean(axis=0) for loop in loops])
    within = 0
    for link in find_links(loops, SIZE, GROWTH):
        a, b = np.searchsorted(first, [link.start, link.end], side="right") - 1
        if 0 in (a, b):
            continue
        within += 1
        assert np.linalg.norm(centre[a] - centre[b]) == pytest.approx(4.0)
    assert within == 4 * 4 + 5 * 3


def test_links_keep_off_what_lies_between() -> None:
    loops = [rectangle(20, 8), ring(5, 4, 1.5, 8), ring(9.0, 4, 1.5, 8), ring(7.0, 4, 0.2, 8)]
    first = np.cumsum([0] + [len(loop) for loop in loops])
    ends = [sorted(np.searchsorted(first, [k.start, k.end], side="right") - 1) for k in find_links(loops, SIZE, GROWTH)]
    assert [1, 2] not in [list(map(int, pair)) for pair in ends]


@pytest.mark.parametrize("loops", [square_field(), triangular_field(), square_field(n=12), square_field(nx=6, pitch=3.4)])
def test_cells_fill_a_field_of_holes(loops: list[Floats]) -> None:
    mesh = fill_in_cells(loops, SIZE, GROWTH, plain)
    assert mesh is not None
    border = np.concatenate(loops)
    assert np.array_equal(mesh.points[: len(border)], border)
    assert area(mesh) == pytest.approx(region_area(loops))
    assert mesh.worst > 0.4
    assert set(np.unique(mesh.elements[mesh.elements >= 0])) == set(range(len(mesh.points)))


def test_cells_in_the_middle_of_a_field_are_filled_once() -> None:
    sizes: list[int] = []

    def counted(lot: list[Floats]) -> FlatMesh:
        sizes.append(len(lot[0]))
        return plain(lot)

    few, many = square_field(5, 4), square_field(9, 8)
    fill_in_cells(few, SIZE, GROWTH, counted)
    once = len(sizes)
    sizes.clear()
    assert fill_in_cells(many, SIZE, GROWTH, counted) is not None
    assert len(sizes) <= once + 6  # only what lies along the border is new


def test_a_triangular_field_gets_even_counts_on_all_its_links() -> None:
    """Three arcs of two sides and three links of one side would be odd."""
    loops = triangular_field()
    mesh = fill_in_cells(loops, SIZE, GROWTH, plain)
    assert mesh is not None
    assert mesh.trias == 0


def test_regions_with_few_holes_have_no_cells() -> None:
    assert fill_in_cells([rectangle(12, 8)], SIZE, GROWTH, plain) is None
    assert fill_in_cells([rectangle(30, 30), ring(8, 8, 1, 8), ring(22, 22, 1, 8)], SIZE, GROWTH, plain) is None


def outline() -> Floats:
    """A lopsided cell with ten nodes."""
    return np.array([(0, 0), (1, -0.1), (2, 0), (3, 0.2), (3.3, 1), (3, 2), (2, 2.2), (1, 2), (0.1, 2.1), (-0.2, 1)], float)


@pytest.mark.parametrize("mirrored", [False, True])
@pytest.mark.parametrize("first", [0, 3])
def test_outlines_of_one_kind_get_the_same_mesh(mirrored: bool, first: int) -> None:
    calls = []

    def counted(lot: list[Floats]) -> FlatMesh:
        calls.append(lot)
        return plain(lot)

    repeats = Repeats(SIZE, counted)
    made = repeats.filled([outline()])
    c, s = np.cos(0.7), np.sin(0.7)
    other = outline()
    if mirrored:
        other = (other * [-1, 1])[::-1]
    other = np.roll(other @ np.array([[c, s], [-s, c]]) + [5, -3], first, axis=0)
    again = repeats.filled([other])
    assert len(calls) == 1
    assert np.array_equal(again.points[:10], other)
    assert again.worst == pytest.approx(made.worst)
    assert area(again) == pytest.approx(area(made))


def test_other_outlines_are_filled_anew() -> None:
    calls = []

    def counted(lot: list[Floats]) -> FlatMesh:
        calls.append(lot)
        return plain(lot)

    repeats = Repeats(SIZE, counted)
    repeats.filled([outline()])
    bent = outline()
    bent[5] += 0.1
    repeats.filled([bent])
    repeats.filled([outline() * 1.1])
    assert len(calls) == 3


def test_quads_round_one_node() -> None:
    hexagon = ring(0, 0, 1, 6)[::-1]
    star = fill_star(hexagon)
    assert star is not None
    assert len(star.elements) == 3 and len(star.points) == 7
    assert star.worst == pytest.approx(np.sin(np.pi / 3))
    assert area(star) == pytest.approx(region_area([hexagon]))
    assert fill_star(ring(0, 0, 1, 7)[::-1]) is None
    assert fill_star(ring(0, 0, 1, 40)[::-1]) is None


def test_sides_along_a_row_grow_from_its_ends() -> None:
    row = Row(10.0, 0.4, 0.4, 1.0, 0.3)
    shares = row.shares(row.count)
    side = np.diff(shares) * 10
    assert shares[0] == 0 and shares[-1] == 1
    assert side[0] < 0.6 and side[len(side) // 2] > 0.9
    assert side == pytest.approx(side[::-1])
    assert (side[1:] / side[:-1]).max() < 1.5
    assert Row(0.1, 1, 1, 1.0, 0.3).count == 1


def test_mean_sides_at_border_nodes() -> None:
    square = np.array([(0, 0), (2, 0), (2, 1), (0, 1)], float)
    assert sides_at([square, square * 2]) == pytest.approx([1.5] * 4 + [3.0] * 4)


def test_loops_and_the_holes_in_them() -> None:
    outer, inner = rectangle(20, 10), rectangle(4, 4) + [8, 3]
    island = ring(10, 5, 1, 6)
    assert with_holes([outer, ring(3, 3, 1, 8), inner[::-1], inner, island]) == [[0, 1, 2], [3, 4]]
    assert with_holes([inner, ring(1, 1, 0.5, 8)]) is None
    assert area_of(outer) == pytest.approx(200)
    assert area_of(outer[::-1]) == pytest.approx(-200)
    assert next_nodes([outer[:3], inner[:4]]).tolist() == [1, 2, 0, 4, 5, 6, 3]


def link(length: float, side: float) -> Link:
    """A link whose ends have sides of one length."""
    row = Row(length, side, side, SIZE, GROWTH)
    return Link(0, 1, row, row.count)


def test_even_counts_along_links_leave_sides_long_enough() -> None:
    assert _even(link(1.67, 0.43), SIZE).count == 2  # four would fit the short sides at its ends better
    assert _even(link(4.2, 1.0), SIZE).count == 4
    assert _even(link(0.9, 0.4), SIZE).count == 2  # rather short sides than an odd count
    short = link(0.7, 0.6)
    assert _even(short, SIZE) is short


def test_other_counts_along_links() -> None:
    assert _other(link(2.0, 1.0), SIZE) == 3
    assert _other(link(2.8, 1.0), SIZE) == 2
    assert _other(link(1.0, 1.0), SIZE) == 0  # neither none nor two


def test_normals_at_the_corners_of_a_loop() -> None:
    square = rectangle(2, 2)
    normal, cosine = normals_at(square, next_nodes([square]))
    assert normal[1] == pytest.approx([0, 1])
    assert normal[0] == pytest.approx([0.5**0.5, 0.5**0.5])
    assert cosine == pytest.approx([0, 1] * 4, abs=1e-12)
