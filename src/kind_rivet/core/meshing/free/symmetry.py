"""Symmetric regions: the part between two mirror axes is filled and mirrored, so the mesh is as symmetric as its border."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.free.fill import FlatMesh, flat_worst
from kind_rivet.core.meshing.free.loops import sides_at, with_holes
from kind_rivet.core.meshing.free.row import Row

SAME = 0.02  # sizes: how far mirrored border nodes may lie from others
NEARLY = 0.1  # the same for a small region as a whole, where one corner beside the axis decides
NEAR = 0.4  # of the shortest border side: nodes of mirrored parts nearer than this are one
MOST_NODES = 6000  # of a border that is looked at
MOST_AXES = 48  # directions tried where moments tell nothing
Fill = Callable[[list[Floats]], FlatMesh]


@dataclass(frozen=True)
class Symmetry:
    """A centre and the angles (rad, in [0, π), ascending) of the mirror axes through it."""

    centre: Floats
    axes: tuple[float, ...]


def find_symmetry(loops: list[Floats], size: float, same: float = SAME) -> Symmetry | None:
    """The mirror axes on which a region's border has nodes, mirrored ones up to `same` sizes beside others; None where it has none."""
    every = mirror_axes(loops, size, same)
    if every is None:
        return None
    q = np.concatenate(loops) - every.centre
    axes = [a for a in every.axes if _has_nodes(q, loops, a, same * size)]
    if len(axes) > 1 and np.ptp(np.diff([*axes, axes[0] + np.pi])) > 1e-4:  # some have no nodes: not all that is left is one pattern
        right = next(((a, b) for a in axes for b in axes if abs(b - a - np.pi / 2) < 1e-4), None)
        axes = list(right) if right else axes[:1]
    return Symmetry(every.centre, tuple(axes)) if axes else None


def mirror_axes(loops: list[Floats], size: float, same: float = SAME) -> Symmetry | None:
    """All mirror axes of a region's border nodes, whether or not nodes lie where the border crosses them; None where it has none."""
    nodes = np.concatenate(loops)
    if len(nodes) > MOST_NODES:
        return None
    centre = _centroid(loops)
    if not np.isfinite(centre).all():  # no area at all
        return None
    q = nodes - centre
    tree = scipy.spatial.cKDTree(q)
    tolerance = same * size

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

    found = sorted({round(exact(a) % np.pi, 12) for a in _candidates(q, loops, centre) if mirrors(a)})
    axes = [a for k, a in enumerate(found) if k == 0 or a - found[k - 1] > 1e-4]
    if len(axes) > 1 and axes[0] + np.pi - axes[-1] < 1e-4:
        axes.pop()
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
    return moment / total if total else np.full(2, np.nan)


def _candidates(q: Floats, loops: list[Floats], centre: Floats) -> list[float]:
    """Angles that may be mirror axes: principal axes of the nodes, or where these are alike, ways to what is furthest from the centre."""
    values, vectors = np.linalg.eigh(q.T @ q)
    principal = [float(np.arctan2(*vectors[::-1, k])) for k in (0, 1)]
    if values[1] - values[0] > 1e-2 * values[1]:
        return principal
    marks = [loop.mean(axis=0) - centre for loop in loops[1:]]
    far = np.linalg.norm(q, axis=1)
    marks += list(q[far > far.max() * (1 - 1e-4)])
    reach = np.linalg.norm(np.array(marks), axis=1)
    marks = [m for m, r in zip(marks, reach, strict=True) if r > 1e-3 * reach.max()][:MOST_AXES]
    angles = sorted({round(float(np.arctan2(m[1], m[0])) % np.pi, 6) for m in marks})
    between = [(a + b) / 2 for a, b in pairwise([*angles, angles[0] + np.pi])] if angles else []
    return [*principal, *(float(np.arctan2(m[1], m[0])) for m in marks), *between]


def fill_symmetric(loops: list[Floats], size: float, growth: float, fill_part: Fill, same: float = SAME) -> tuple[FlatMesh | None, int]:
    """A mesh as symmetric as the border, its nodes first in the order of the loops, and the number of its mirror axes; None where that cannot be.

    `fill_part` fills one part between axes (loops as for `fill`); what it raises is passed on.
    """
    symmetry = find_symmetry(loops, size, same)
    if symmetry is None:
        return None, 0
    wedge = _wedge(symmetry, loops)
    parts = _parts(loops, symmetry.centre, wedge, size, growth, same * size)
    if parts is None:
        return None, 0
    points, elements = [], []
    first = 0
    for part in parts:
        made = fill_part(part)
        points.append(made.points)
        elements.append(np.where(made.elements >= 0, made.elements + first, -1))
        first += len(made.points)
    whole = _copied(loops, symmetry.centre, wedge, np.concatenate(points), np.concatenate(elements), same * size)
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


def _parts(
    loops: list[Floats], centre: Floats, wedge: tuple[float, float], size: float, growth: float, near: float
) -> list[list[Floats]] | None:
    """Border loops of the part of a region inside a wedge, outer ones each with the holes in it; None where the border does not allow it."""
    nodes = np.concatenate(loops)
    half = wedge[1] - wedge[0] > np.pi - 1e-4
    way = [np.array([np.cos(a), np.sin(a)]) for a in wedge]
    q = nodes - centre
    above = q[:, 1] * way[0][0] - q[:, 0] * way[0][1]  # left of the first axis
    below = above if half else q[:, 0] * way[1][1] - q[:, 1] * way[1][0]  # right of the second
    on = [np.abs(above) <= near, np.abs(below) <= near]
    if not half:  # an axis is a ray from the centre
        on = [on[k] & (q @ way[k] > -near) for k in (0, 1)]
    after = _sides_within(loops, (above >= -near) & (below >= -near), on)
    if after is None:
        return None
    places: list[Floats] = list(nodes)
    rays = [(0, 1)] if half else [(0, 1), (1, -1)]  # along the first axis outward, along the second inward
    if not half and _inside(centre, loops):
        places.append(centre)
    lines: list[tuple[int, int]] = []
    for k, sense in rays:
        stops = [*np.flatnonzero(on[k]).tolist(), *range(len(nodes), len(places))]
        stops.sort(key=lambda n: float((places[n] - centre) @ way[k]))
        inner = [(a, b) for a, b in pairwise(stops) if _inside((places[a] + places[b]) / 2, loops)]
        lines += [(a, b) if sense > 0 else (b, a) for a, b in inner]
    rings = _walked(after, lines)
    if rings is None:
        return None
    side = dict(enumerate(sides_at(loops).tolist()))
    rows = {(a, b): Row(float(np.linalg.norm(places[b] - places[a])), side.get(a, size), side.get(b, size), size, growth) for a, b in lines}
    counts = {line: row.count for line, row in rows.items()}
    for ring in rings:  # an even number of sides round each
        if sum(counts.get(step, 1) for step in ring) % 2:
            mine = [step for step in ring if step in counts]
            if not mine:
                return None
            counts[max(mine, key=lambda line: (counts[line], line))] += 1
    outlines = []
    for ring in rings:
        xy: list[Floats] = []
        for a, b in ring:
            xy.append(places[a])
            if (a, b) in rows:
                xy += [places[a] + t * (places[b] - places[a]) for t in rows[(a, b)].shares(counts[(a, b)])[1:-1]]
        outlines.append(np.array(xy))
    grouped = with_holes(outlines)
    return None if grouped is None else [[outlines[k] for k in lot] for lot in grouped]


def _sides_within(loops: list[Floats], within: NDArray[np.bool_], on: list[NDArray[np.bool_]]) -> dict[int, int] | None:
    """The border sides inside a wedge, by their first node; None where a side lies along an axis or crosses one between nodes."""
    after: dict[int, int] = {}
    first = 0
    for loop in loops:
        index = first + np.arange(len(loop))
        first += len(loop)
        for a, b in zip(index.tolist(), np.roll(index, -1).tolist(), strict=True):
            if within[a] and within[b]:
                if (on[0][a] and on[0][b]) or (on[1][a] and on[1][b]):
                    return None
                after[a] = b
            elif (within[a] or within[b]) and not (on[0][a] | on[1][a] | on[0][b] | on[1][b]):
                return None
    return after


def _walked(after: dict[int, int], lines: list[tuple[int, int]]) -> list[list[tuple[int, int]]] | None:
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


def _copied(
    loops: list[Floats], centre: Floats, wedge: tuple[float, float], points: Floats, elements: NDArray[np.int64], same: float
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
    near = min(5 * same, NEAR * float(sides_at(loops).min()))  # what fine sides are made of stays apart
    pairs = scipy.spatial.cKDTree(every).query_pairs(near, output_type="ndarray")
    graph = scipy.sparse.coo_matrix((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), shape=(len(every), len(every)))
    count, label = scipy.sparse.csgraph.connected_components(graph, directed=False)
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
