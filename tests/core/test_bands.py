"""Straight rows between borders that face each other."""

from __future__ import annotations

import numpy as np
import pytest

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.free.bands import _parts, fill_with_bands, find_bands
from kind_rivet.core.meshing.free.fill import FlatMesh, fill
from kind_rivet.core.meshing.free.loops import next_nodes
from tests.flat import area

SIZE = 1.0


def rectangle(x: float, y: float, w: float, h: float, n: int, m: int) -> Floats:
    """A closed loop, counter-clockwise, n sides along and m across."""
    a = np.column_stack((np.linspace(x, x + w, n + 1)[:-1], np.full(n, y)))
    b = np.column_stack((np.full(m, x + w), np.linspace(y, y + h, m + 1)[:-1]))
    c = np.column_stack((np.linspace(x + w, x, n + 1)[:-1], np.full(n, y + h)))
    d = np.column_stack((np.full(m, x), np.linspace(y + h, y, m + 1)[:-1]))
    return np.vstack((a, b, c, d))


def plate(gap: float, length: float = 10.0, n: int = 10) -> list[Floats]:
    """A plate with two windows that leave a bar of width `gap` between them."""
    outer = rectangle(-4, -5, length + 8, 10 + gap, round(length + 8), round(10 + gap) + (round(10 + gap) + round(length + 8)) % 2)
    low, high = rectangle(0, -1, length, 1, n, 1), rectangle(0, gap, length, 1, n, 1)
    return [outer, low[::-1], high[::-1]]


def plain(loops: list[Floats]) -> FlatMesh:
    return fill(loops, SIZE)


def area_of(loops: list[Floats]) -> float:
    return sum(float(np.sum(x * np.roll(y, -1) - np.roll(x, -1) * y) / 2) for x, y in (loop.T for loop in loops))


@pytest.mark.parametrize(("gap", "rows"), [(0.7, 1), (1.0, 2), (1.6, 2), (3.0, 3)])
def test_a_bar_between_windows_is_a_band(gap: float, rows: int) -> None:
    loops = plate(gap)
    nodes = np.concatenate(loops)
    bands = [
        s for s in find_bands(nodes, next_nodes(loops), SIZE) if np.allclose(nodes[list(s.first)][:, 1], 0) or gap in nodes[s.first[0]]
    ]
    bar = max(bands, key=lambda s: len(s.first))
    assert bar.rows == rows
    assert len(bar.first) >= 9
    a, b = nodes[list(bar.first)], nodes[list(bar.second)]
    assert np.allclose(a[:, 0], b[:, 0])
    assert np.allclose(np.abs(a[:, 1] - b[:, 1]), gap)


@pytest.mark.parametrize("gap", [0.7, 1.2, 2.0])
def test_rows_are_straight_and_the_border_is_kept(gap: float) -> None:
    loops = plate(gap)
    mesh = fill_with_bands(loops, SIZE, plain)
    assert mesh is not None and mesh.worst > 0.3
    border = np.concatenate(loops)
    assert np.array_equal(mesh.points[: len(border)], border)
    assert area(mesh) == pytest.approx(area_of(loops))
    centre = mesh.points[mesh.elements[:, :3]].mean(axis=1)
    within = (np.abs(centre[:, 1] - gap / 2) < gap / 2) & (np.abs(centre[:, 0] - 5) < 3.5)
    for row in mesh.elements[within]:
        corners = mesh.points[row]
        assert (row >= 0).all()
        side = np.roll(corners, -1, axis=0) - corners
        assert np.allclose(np.abs(side).min(axis=1), 0, atol=1e-12)  # every side runs along the bar or square across it


def test_each_side_is_used_once_or_twice() -> None:
    loops = plate(1.2)
    mesh = fill_with_bands(loops, SIZE, plain)
    assert mesh is not None
    sides: dict[tuple[int, int], int] = {}
    for row in mesh.elements.tolist():
        ring = [v for v in row if v >= 0]
        for a, b in zip(ring, ring[1:] + ring[:1], strict=True):
            sides[(min(a, b), max(a, b))] = sides.get((min(a, b), max(a, b)), 0) + 1
    border = sum(len(loop) for loop in loops)
    assert sum(n == 1 for n in sides.values()) == border
    assert max(sides.values()) == 2


def test_no_bands_where_nothing_faces() -> None:
    loops = [rectangle(0, 0, 20, 20, 20, 20)]
    assert find_bands(loops[0], next_nodes(loops), SIZE) == []
    assert fill_with_bands(loops, SIZE, plain) is None


def test_nodes_out_of_step_are_no_band() -> None:
    loops = plate(1.2)
    loops[2] = rectangle(0, 1.2, 10, 1, 4, 1)[::-1]  # four sides face ten
    nodes = np.concatenate(loops)
    bands = find_bands(nodes, next_nodes(loops), SIZE)
    assert not any(np.allclose(nodes[list(s.first)][:, 1], 0) for s in bands)


def test_a_widening_gap_is_taken_only_while_it_is_even() -> None:
    outer = rectangle(-4, -8, 18, 20, 18, 20)
    low = rectangle(0, -1, 10, 1, 10, 1)[::-1]
    high = rectangle(0, 1.5, 10, 1, 10, 1)
    high[:, 1] += np.maximum(high[:, 0] - 5, 0) * 0.2
    nodes = np.concatenate([outer, low, high[::-1]])
    for band in find_bands(nodes, next_nodes([outer, low, high[::-1]]), SIZE):
        width = np.linalg.norm(nodes[list(band.first)] - nodes[list(band.second)], axis=1)
        assert np.ptp(width) <= 0.3 * np.median(width) + 1e-12


def test_a_band_that_parts_the_region_leaves_even_borders() -> None:
    """A dumb-bell: its neck is a band of one border with itself, and both ends must be filled on their own."""
    neck = 9
    left = rectangle(-6, -3, 6, 6, 6, 6)
    ring = [*left[:6], *left[6:8], [0.0, -1.0]]
    ring += [[x, -0.6] for x in np.linspace(0.5, 9.5, neck)]
    ring += [[10.0, -1.0], [10, -2], [10, -3], *[[x, -3] for x in range(11, 16)], *[[16, y] for y in range(-3, 3)]]
    ring += [*[[x, 3] for x in range(16, 10, -1)], [10, 3], [10, 2], [10.0, 1.0]]
    ring += [[x, 0.6] for x in np.linspace(9.5, 0.5, neck)]
    ring += [[0.0, 1.0], [0, 2], [0, 3], *[[x, 3] for x in range(-1, -6, -1)], *[[-6, y] for y in range(3, -3, -1)]]
    loop = np.array(list(dict.fromkeys(tuple(float(v) for v in p) for p in ring)))
    bands = find_bands(loop, next_nodes([loop]), SIZE)
    assert len(bands) == 1 and bands[0].rows == 2
    mesh = fill_with_bands([loop], SIZE, plain)
    assert mesh is not None and mesh.trias == 0 and mesh.worst > 0.6
    assert area(mesh) == pytest.approx(area_of([loop]))
    middles = {i: [len(loop) + k] for k, i in enumerate(bands[0].first)}
    points = np.vstack((loop, (loop[list(bands[0].first)] + loop[list(bands[0].second)]) / 2))
    parts = _parts(points, next_nodes([loop]), bands, middles)
    assert len(parts) == 2
    assert all(len(part) == 1 and len(part[0]) % 2 == 0 for part in parts)
