"""Symmetric regions: the part between two mirror axes is filled and mirrored, so the mesh is as symmetric as its border."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.free.fill import FlatMesh, flat_worst

SAME = 0.02  # sizes: how far mirrored border nodes may lie from others
MOST_NODES = 6000  # of a border that is looked at
MOST_AXES = 48  # directions tried where moments tell nothing
Fill = Callable[[list[Floats]], FlatMesh]


@dataclass(frozen=True)
class Symmetry:
    """A centre and the angles (rad, in [0, π), ascending) of the mirror axes through it."""

    centre: Floats
    axes: tuple[float, ...]


def find_symmetry(loops: list[Floats], size: float) -> Symmetry | None:
    """The mirror axes of a region's border nodes; None where it has none."""
    nodes = np.concatenate(loops)
    if len(nodes) > MOST_NODES:
        return None
    centre = _centroid(loops)
    q = nodes - centre
    tree = cKDTree(q)
    tolerance = SAME * size

    def image(angle: float) -> Floats:
        c, s = np.cos(2 * angle), np.sin(2 * angle)
        return np.asarray(q @ np.array([[c, s], [s, -c]]))

    def mirrors(angle: float) -> bool:
        seen = image(angle)
        if (tree.query(seen[:: max(1, len(seen) // 16)], distance_upper_bound=tolerance)[0] > tolerance).any():
            return False
        return bool((tree.query(seen, distance_upper_bound=tolerance)[0] <= tolerance).all())

    def exact(angle: float) -> float:
        """The axis about which all pairs of nodes mirror best: z₁ z₂ = |z|² exp(2 i angle)."""
        z = q[:, 0] + 1j * q[:, 1]
        return float(np.angle((z * z[tree.query(image(angle))[1]]).sum()) / 2)

    good = [exact(a) for a in _candidates(q, loops, centre) if mirrors(a)]
    found = sorted({round(a % np.pi, 12) for a in good if _has_nodes(q, loops, a, tolerance)})
    axes = [a for k, a in enumerate(found) if k == 0 or a - found[k - 1] > 1e-4]
    if len(axes) > 1 and axes[0] + np.pi - axes[-1] < 1e-4:
        axes.pop()
    if len(axes) > 1 and np.ptp(np.diff([*axes, axes[0] + np.pi])) > 1e-4:  # some have no nodes: not all that is left is one pattern
        right = next(((a, b) for a in axes for b in axes if abs(b - a - np.pi / 2) < 1e-4), None)
        axes = list(right) if right else axes[:1]
    return Symmetry(centre, tuple(axes)) if axes else None


def _has_nodes(q: Floats, loops: list[Floats], angle: float, tolerance: float) -> bool:
    """Does the border have a node wherever an axis crosses it?"""
    above = q[:, 1] * np.cos(angle) - q[:, 0] * np.sin(angle)
    first = 0
    for loop in loops:
        mine = above[first : first + len(loop)]
        first += len(loop)
        after = np.roll(mine, -1)
        if ((mine * after < 0) & (np.abs(mine) > tolerance) & (np.abs(after) > tolerance)).any():
            return False
    return True


def _centroid(loops: list[Floats]) -> Floats:
    total, moment = 0.0, np.zeros(2)
    for loop in loops:
        after = np.roll(loop, -1, axis=0)
        cross = loop[:, 0] * after[:, 1] - after[:, 0] * loop[:, 1]
        total += cross.sum() / 2
        moment += ((loop + after) * cross[:, None]).sum(axis=0) / 6
    return moment / total


def _candidates(q: Floats, loops: list[Floats], centre: Floats) -> list[float]:
    """Angles that may be mirror axes: principal axes of the nodes, or where these are alike, ways to what is furthest from the centre."""
    values, vectors = np.linalg.eigh(q.T @ q)
    if values[1] - values[0] > 1e-6 * values[1]:
        return [float(np.arctan2(*vectors[::-1, k])) for k in (0, 1)]
    marks = [loop.mean(axis=0) - centre for loop in loops[1:]]
    far = np.linalg.norm(q, axis=1)
    marks += list(q[far > far.max() * (1 - 1e-6)])
    reach = np.linalg.norm(np.array(marks), axis=1)
    marks = [m for m, r in zip(marks, reach, strict=True) if r > 1e-3 * reach.max()][:MOST_AXES]
    angles = sorted({round(float(np.arctan2(m[1], m[0])) % np.pi, 6) for m in marks})
    between = [(a + b) / 2 for a, b in pairwise([*angles, angles[0] + np.pi])] if angles else []
    return [*(float(np.arctan2(m[1], m[0])) for m in marks), *between]


def fill_symmetric(loops: list[Floats], size: float, growth: float, fill_part: Fill) -> tuple[FlatMesh | None, int]:
    """A mesh as symmetric as the border, its nodes first in the order of the loops, and the number of its mirror axes; None where that cannot be.

    `fill_part` fills one part between axes (loops as for `fill`); what it raises is passed on.
    """
    symmetry = find_symmetry(loops, size)
    if symmetry is None:
        return None, 0
    wedge = _wedge(symmetry, loops)
    parts = _parts(loops, symmetry.centre, wedge, size, growth)
    if parts is None:
        return None, 0
    points, elements = [], []
    first = 0
    for part in parts:
        made = fill_part(part)
        points.append(made.points)
        elements.append(np.where(made.elements >= 0, made.elements + first, -1))
        first += len(made.points)
    whole = _copied(loops, symmetry.centre, wedge, np.concatenate(points), np.concatenate(elements), size)
    return whole, round(np.pi / (wedge[1] - wedge[0]))


def _wedge(symmetry: Symmetry, loops: list[Floats]) -> tuple[float, float]:
    """Angles of the two axes that bound the part that is filled: next to each other round a hole, else a half or a quarter."""
    axes, m = symmetry.axes, len(symmetry.axes)
    if m == 1:
        return axes[0], axes[0] + np.pi
    if _inside(symmetry.centre, loops):
        right = next((b for b in axes[1:] if abs(b - axes[0] - np.pi / 2) < 1e-4), None)
        return (axes[0], right) if right is not None else (axes[0], axes[0] + np.pi)
    return axes[0], axes[1]


def _inside(p: Floats, loops: list[Floats]) -> bool:
    crossings = 0
    for loop in loops:
        a, b = loop, np.roll(loop, -1, axis=0)
        up = (a[:, 1] > p[1]) != (b[:, 1] > p[1])
        with np.errstate(divide="ignore", invalid="ignore"):
            x = a[:, 0] + (p[1] - a[:, 1]) * (b[:, 0] - a[:, 0]) / (b[:, 1] - a[:, 1])
        crossings += int((up & (x > p[0])).sum())
    return crossings % 2 == 1


def _parts(loops: list[Floats], centre: Floats, wedge: tuple[float, float], size: float, growth: float) -> list[list[Floats]] | None:
    """Border loops of the part of a region inside a wedge, outer ones each with the holes in it; None where the border has no node on an axis."""
    nodes = np.concatenate(loops)
    q = nodes - centre
    half = wedge[1] - wedge[0] > np.pi - 1e-4
    way = [np.array([np.cos(a), np.sin(a)]) for a in wedge]
    above = q[:, 1] * way[0][0] - q[:, 0] * way[0][1]  # left of the first axis
    below = above if half else q[:, 0] * way[1][1] - q[:, 1] * way[1][0]  # right of the second
    tolerance = SAME * size
    on = [np.abs(above) <= tolerance, np.abs(below) <= tolerance]
    if not half:  # an axis is a ray from the centre
        on = [on[k] & (q @ way[k] > -tolerance) for k in (0, 1)]
    within = (above >= -tolerance) & (below >= -tolerance)
    places: list[Floats] = list(nodes)
    after: dict[int, int] = {}
    first = 0
    for loop in loops:
        index = first + np.arange(len(loop))
        first += len(loop)
        if not within[index].any():
            continue
        for a, b in zip(index.tolist(), np.roll(index, -1).tolist(), strict=True):
            if within[a] and within[b]:
                if (on[0][a] and on[0][b]) or (on[1][a] and on[1][b]):
                    return None  # a side along an axis
                after[a] = b
            elif (within[a] or within[b]) and not (on[0][a] | on[1][a] | on[0][b] | on[1][b]):
                return None  # a side across an axis
    rays = [(0, 1.0)] if half else [(0, 1.0), (1, -1.0)]  # along the first axis outward, along the second inward
    if not half and _inside(centre, loops):
        places.append(centre)
    middle = len(places) - 1 if len(places) > len(nodes) else -1
    lines: list[list[int]] = []
    for k, sense in rays:
        stops = np.flatnonzero(on[k]).tolist() + ([middle] if middle >= 0 else [])
        stops.sort(key=lambda n: float((places[n] - centre) @ way[k]))
        for a, b in pairwise(stops):
            if _inside((places[a] + places[b]) / 2, loops):
                lines.append([a, b] if sense > 0 else [b, a])
    side = _sides_at(loops)
    counts = [_count(places[a], places[b], side.get(a, size), side.get(b, size), size, growth) for a, b in lines]
    chains = _walked(after, lines, counts)
    if chains is None:
        return None
    for ring in chains:  # an even number of sides round each
        mine = [k for k, (a, b) in enumerate(lines) if any(x == a and y == b for x, y in ring)]
        total = sum(counts[k] if (k := _line(lines, x, y)) >= 0 else 1 for x, y in ring)
        if total % 2:
            if not mine:
                return None
            counts[max(mine, key=lambda k: (counts[k], k))] += 1
    outlines = []
    for ring in chains:
        xy: list[Floats] = []
        for x, y in ring:
            k = _line(lines, x, y)
            xy.append(places[x])
            if k >= 0:
                share = _shares(places[x], places[y], side.get(x, size), side.get(y, size), size, growth, counts[k])
                xy += [places[x] + t * (places[y] - places[x]) for t in share[1:-1]]
        outlines.append(np.array(xy))
    area = [_area(line) for line in outlines]
    outer = [k for k in range(len(outlines)) if area[k] > 0]
    out = [[outlines[k]] for k in outer]
    for k in range(len(outlines)):
        if area[k] <= 0:
            home = next((j for j, o in enumerate(outer) if _inside(outlines[k][0], [outlines[o]])), None)
            if home is None:
                return None
            out[home].append(outlines[k])
    return out


def _line(lines: list[list[int]], a: int, b: int) -> int:
    return next((k for k, line in enumerate(lines) if line[0] == a and line[1] == b), -1)


def _walked(after: dict[int, int], lines: list[list[int]], counts: list[int]) -> list[list[tuple[int, int]]] | None:
    """Closed rings of border sides and axis lines; None where they do not close."""
    step: dict[int, list[int]] = {}
    for a, b in after.items():
        step.setdefault(a, []).append(b)
    for a, b in lines:
        step.setdefault(a, []).append(b)
    if any(len(nxt) != 1 for nxt in step.values()):
        return None
    rings = []
    while step:
        start = next(iter(step))
        ring, at = [], start
        while True:
            nxt = step.pop(at, None)
            if nxt is None:
                return None
            ring.append((at, nxt[0]))
            at = nxt[0]
            if at == start:
                break
        rings.append(ring)
    return rings


def _sides_at(loops: list[Floats]) -> dict[int, float]:
    """Mean length of the sides at each border node."""
    out: dict[int, float] = {}
    first = 0
    for loop in loops:
        length = np.linalg.norm(np.roll(loop, -1, axis=0) - loop, axis=1)
        mean = (length + np.roll(length, 1)) / 2
        out |= dict(zip(range(first, first + len(loop)), mean.tolist(), strict=True))
        first += len(loop)
    return out


def _wanted(t: Floats, length: float, h0: float, h1: float, size: float, growth: float) -> Floats:
    """Side lengths wanted at shares of a line whose ends have sides h0 and h1."""
    return np.asarray(np.minimum(np.minimum(h0 + growth * t * length, h1 + growth * (1 - t) * length), max(size, h0, h1)))


def _shares(a: Floats, b: Floats, h0: float, h1: float, size: float, growth: float, count: int) -> Floats:
    length = float(np.linalg.norm(b - a))
    t = np.linspace(0.0, 1.0, 201)
    each = 1.0 / _wanted(t, length, h0, h1, size, growth)
    total = np.concatenate(([0.0], np.cumsum((each[1:] + each[:-1]) / 2)))
    return np.asarray(np.interp(np.linspace(0.0, total[-1], count + 1), total, t))


def _count(a: Floats, b: Floats, h0: float, h1: float, size: float, growth: float) -> int:
    length = float(np.linalg.norm(b - a))
    t = np.linspace(0.0, 1.0, 201)
    return max(1, round(float(np.trapezoid(1.0 / _wanted(t, length, h0, h1, size, growth), t)) * length))


def _area(loop: Floats) -> float:
    x, y = loop[:, 0], loop[:, 1]
    return float(np.sum(x * np.roll(y, -1) - np.roll(x, -1) * y) / 2)


def _copied(
    loops: list[Floats], centre: Floats, wedge: tuple[float, float], points: Floats, elements: NDArray[np.int64], size: float
) -> FlatMesh | None:
    """The part mirrored over and over about its axes until the region is whole, common nodes joined, border nodes as they were."""
    times = round(np.pi / (wedge[1] - wedge[0]))
    q, angle = points - centre, wedge[0]
    lots: list[Floats] = []
    rows: list[NDArray[np.int64]] = []
    turned = elements.copy()
    quads = elements[:, 3] >= 0
    turned[quads] = elements[quads][:, [0, 3, 2, 1]]
    turned[~quads] = elements[~quads][:, [0, 2, 1, 3]]
    c, s = np.cos(2 * angle), np.sin(2 * angle)
    mirrored = q @ np.array([[c, s], [s, -c]])
    for k in range(times):
        turn = 2 * k * (wedge[1] - wedge[0])
        c, s = np.cos(turn), np.sin(turn)
        rotation = np.array([[c, s], [-s, c]])
        for lot, row in ((q, elements), (mirrored, turned)):
            rows.append(np.where(row >= 0, row + len(lots) * len(q), -1))
            lots.append(lot @ rotation + centre)
    border = np.concatenate(loops)
    every = np.concatenate((border, *lots))
    row = np.concatenate(rows)
    row = np.where(row >= 0, row + len(border), -1)
    pairs = cKDTree(every).query_pairs(5 * SAME * size, output_type="ndarray")
    graph = coo_matrix((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), shape=(len(every), len(every)))
    count, label = connected_components(graph, directed=False)
    if len(np.unique(label[: len(border)])) < len(border):
        return None  # border nodes nearer to each other than can be told apart
    keeper = np.full(count, len(every))
    np.minimum.at(keeper, label, np.arange(len(every)))
    number = np.full(len(every), -1)
    number[np.sort(keeper)] = np.arange(count)
    place = every[np.sort(keeper)]
    made = np.where(row >= 0, number[keeper[label[np.maximum(row, 0)]]], -1).astype(np.int32)
    if len(np.unique(made[made >= 0])) < len(place):
        return None  # a border node that no part has
    return FlatMesh(place, made, flat_worst(place, made))
