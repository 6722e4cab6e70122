"""Triangulation and free meshing of flat regions."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.spatial import Delaunay

from kind_rivet.core.meshing.free import triangulation
from kind_rivet.core.meshing.free.fill import CannotFill, FlatMesh, fill, flat_worst, lifted
from kind_rivet.core.meshing.mapped import fill_mapped
from tests.made_up import circle, polygon


def sides(mesh: FlatMesh) -> dict[tuple[int, int], int]:
    out: dict[tuple[int, int], int] = {}
    for row in mesh.elements.tolist():
        ring = [v for v in row if v >= 0]
        for a, b in zip(ring, [*ring[1:], ring[0]], strict=True):
            key = (min(a, b), max(a, b))
            out[key] = out.get(key, 0) + 1
    return out


def area(mesh: FlatMesh) -> float:
    total = 0.0
    for row in mesh.elements.tolist():
        p = mesh.points[[v for v in row if v >= 0]]
        x, y = p[:, 0], p[:, 1]
        part = float(np.sum(x * np.roll(y, -1) - np.roll(x, -1) * y) / 2)
        assert part > 0
        total += part
    return total


def loop_area(loops: list[np.ndarray]) -> float:
    return sum(float(np.sum(p[:, 0] * np.roll(p[:, 1], -1) - np.roll(p[:, 0], -1) * p[:, 1]) / 2) for p in loops)


def check(mesh: FlatMesh, loops: list[np.ndarray]) -> None:
    """No inversion, borders kept, conformal, area right."""
    n = sum(map(len, loops))
    assert np.array_equal(mesh.points[:n], np.concatenate(loops))
    free = {s for s, uses in sides(mesh).items() if uses == 1}
    wanted, start = set(), 0
    for loop in loops:
        k = len(loop)
        wanted |= {(min(a, b), max(a, b)) for a, b in ((start + i, start + (i + 1) % k) for i in range(k))}
        start += k
    assert free == wanted
    assert max(sides(mesh).values()) == 2
    assert area(mesh) == pytest.approx(loop_area(loops), rel=1e-9)
    assert mesh.worst > 0


def test_delaunay_agrees_with_qhull() -> None:
    rng = np.random.default_rng(5)
    pts = rng.random((400, 2))
    cap = 3000
    work = np.empty((cap, 2))
    work[:400] = pts
    tri, nbr = np.empty((cap, 3), np.int32), np.empty((cap, 3), np.int32)
    con, last, inside = np.zeros((cap, 3), np.bool_), np.zeros(cap, np.int32), np.zeros(cap, np.bool_)
    _, used = triangulation.triangulate(work, 400, np.empty((0, 2), np.int32), tri, nbr, con, last, inside)
    mine = {tuple(sorted(t)) for t in tri[:used].tolist() if max(t) < 400}
    theirs = {tuple(sorted(t)) for t in Delaunay(pts).simplices.tolist()}
    assert len(theirs - mine) <= 0.02 * len(theirs)  # only slivers at the hull may differ (finite far corners)


def test_crossing_border_is_refused_with_the_place() -> None:
    bow = np.array([(0, 0), (4, 4), (4, 0), (0, 4)], float)
    with pytest.raises(CannotFill):
        fill([bow], 1.0)


def test_rectangle_is_a_grid() -> None:
    loop = polygon([(0, 0), (8, 0), (8, 5), (0, 5)], 1.0)
    mesh = fill([loop], 1.0)
    check(mesh, [loop])
    assert mesh.trias == 0
    assert len(mesh.elements) == 40
    assert mesh.worst == pytest.approx(1.0)


def test_plate_with_hole() -> None:
    loops = [polygon([(0, 0), (16, 0), (16, 16), (0, 16)], 1.0), circle(8, 8, 2.4, 16)]
    mesh = fill(loops, 1.0)
    check(mesh, loops)
    assert mesh.trias == 0
    assert mesh.worst > 0.7


def test_hard_points_become_nodes() -> None:
    loop = polygon([(0, 0), (12, 0), (12, 9), (0, 9)], 1.0)
    hard = np.array([(3.3, 4.1), (7.77, 5.05)])
    mesh = fill([loop], 1.0, hard=hard)
    check(mesh, [loop])
    for h in hard:
        assert np.linalg.norm(mesh.points - h, axis=1).min() < 1e-9


def test_same_result_every_time() -> None:
    loops = [polygon([(0, 0), (20, 0), (20, 8), (0, 8)], 1.0), circle(10, 4, 2.0, 12)]
    a, b = fill(loops, 1.0), fill(loops, 1.0)
    assert np.array_equal(a.points, b.points)
    assert np.array_equal(a.elements, b.elements)


@pytest.mark.parametrize("seed", range(60))
def test_random_regions(seed: int) -> None:
    """Star-shaped outlines with holes at scales from 1e-3 to 1e4: never inverted, borders kept."""
    rng = np.random.default_rng(seed)
    scale = 10.0 ** rng.uniform(-3, 4)
    corners = int(rng.integers(3, 9))
    turns = np.sort(rng.uniform(0, 2 * np.pi, corners)) if rng.random() < 0.4 else np.arange(corners) / corners * 2 * np.pi
    if np.diff(np.concatenate((turns, [turns[0] + 2 * np.pi]))).max() > 2.6:
        turns = np.arange(corners) / corners * 2 * np.pi
    reach = rng.uniform(6, 14, corners)
    outline = [(float(r * np.cos(a)), float(r * np.sin(a))) for r, a in zip(reach, turns, strict=True)]
    loops = [polygon(outline, 1.0)]
    if rng.random() < 0.7:
        inner = 0.35 * min(np.linalg.norm(np.array(outline), axis=1)) * np.cos(np.pi / corners) * 0.8
        if inner > 0.6:
            loops.append(circle(0, 0, inner, 2 * max(4, round(np.pi * inner))))
    loops = [loop * scale for loop in loops]
    check(fill(loops, scale), loops)


def test_mapped_needs_equal_opposite_counts() -> None:
    assert fill_mapped(polygon([(0, 0), (6, 0), (6, 4), (0, 4)], 1.0)) is not None
    uneven = np.concatenate(
        [
            np.linspace(p, q, n, endpoint=False)
            for p, q, n in (((0, 0), (6, 0), 6), ((6, 0), (6, 4), 4), ((6, 4), (0, 4), 5), ((0, 4), (0, 0), 4))
        ]
    )
    assert fill_mapped(uneven) is None


def test_mapped_keeps_graded_borders() -> None:
    x = np.array([0, 0.5, 1.2, 2.2, 3.6, 5.5])
    y = np.array([0, 1.0, 2.0, 3.0])
    loop = np.concatenate(
        (
            np.column_stack((x[:-1], 0 * x[:-1])),
            np.column_stack((0 * y[:-1] + 5.5, y[:-1])),
            np.column_stack((x[:0:-1], 0 * x[1:] + 3)),
            np.column_stack((0 * y[1:], y[:0:-1])),
        )
    )
    mesh = fill_mapped(loop)
    assert mesh is not None
    inner = mesh.points[len(loop) :]
    assert {round(float(v), 6) for v in inner[:, 0]} == set(x[1:-1].tolist())
    assert mesh.worst == pytest.approx(1.0)


def test_a_border_that_encloses_nothing_is_told() -> None:
    line = np.array([(0, 0), (1, 0), (2, 0), (3, 0)], float)
    with pytest.raises(CannotFill):
        fill([line], 1.0)


@pytest.mark.parametrize("seed", range(6))
def test_lifting_makes_the_worst_better_and_moves_no_border(seed: int) -> None:
    rng = np.random.default_rng(seed)
    loops = [polygon([(0, 0), (20, 0), (17 + 3 * rng.random(), 12), (2 * rng.random(), 12)], 1.0), circle(7, 5, 1.5 + rng.random(), 12)]
    plain = fill(loops, 2.0)
    better = lifted(plain, sum(len(loop) for loop in loops))
    assert better.worst >= plain.worst
    assert better.worst > plain.worst + 0.01 or plain.worst >= 0.8
    assert better.worst == pytest.approx(flat_worst(better.points, better.elements))
    assert np.array_equal(better.elements, plain.elements)
    held = sum(len(loop) for loop in loops)
    assert np.array_equal(better.points[:held], np.concatenate(loops))
    assert area(better) == pytest.approx(loop_area(loops))
    assert np.array_equal(plain.points, fill(loops, 2.0).points)  # what was lifted is a copy
