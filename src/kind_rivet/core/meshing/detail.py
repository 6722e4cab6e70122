"""Detail too small for the wanted size: short edges and tiny holes shrink to a node, narrow walls to one row of nodes."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.meshing.patch import BorderEdge, Patch
from kind_rivet.core.meshing.roundings import short_roundings
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.washers import LEAST_SIDE, RoundHole

MOST_PASSAGES = 14  # of a border that is searched for two long sides close to each other
TINY = 0.2  # of the size: closed edges (holes, bosses) narrower than this vanish; holes matter, so the share is a small one
LITTLE = 0.25  # share of the size that is looked past where more would spoil a border
FIRST, SECOND = 1, 2
BOWED = 0.85  # share of its length that lies between the ends of an edge that may be one side: a little more than a quarter of a circle


@dataclass(frozen=True)
class Strip:
    """A region too narrow for elements, to be looked past: its long sides become one row of nodes."""

    region: int
    first: tuple[BorderEdge, ...]  # one long side in loop order
    second: tuple[BorderEdge, ...]  # the opposite one, in loop order too (so it runs the other way)
    across: tuple[int, ...]  # the short edges between them, shrunk to nothing
    width: float  # how far the long sides are apart
    holds: int = 0  # the side that keeps its place (FIRST, SECOND); 0: the row lies in the middle


def small_detail(
    shape: Shape,
    curves: list[Curve],
    patches: Sequence[Patch | None],
    rules: ShellRules,
    spared: Collection[int] = (),
    rings: Collection[int] = (),
) -> NDArray[np.bool_]:
    """Edges (e,) to be shrunk to one node each. `rings`: edges of holes with rings, whose counts are even.

    Short edges join their end points into clusters, shortest first; a cluster stays
    smaller than the share of the size that is looked past, so a curve made of many short
    edges keeps its shape, or within that share of a point at which three walls meet.
    Tiny closed edges vanish. Counts set by hand and `spared` edges stay.
    """
    length = _as_sides(shape, curves)
    limit = np.full(len(length), rules.look_past * rules.size)
    if rules.look_past > LITTLE:
        rounded = short_roundings(shape, curves, rules, rings)
        limit[rounded] = np.maximum(limit[rounded], length[rounded] * (1 + 1e-9))
    closed = np.array([edge.closed for edge in shape.edges], bool)
    wanted = (length < limit) & ~closed
    stay = np.zeros(len(wanted), bool)
    stay[[e for e in (*rules.divisions, *spared) if 0 <= e < len(wanted)]] = True
    wanted &= ~stay
    while True:
        short = _clusters(shape, length, wanted, limit)
        spoilt = _spoilt(shape, patches, short, rules) | _pinching(shape, patches, short, length)
        if not spoilt & set(np.flatnonzero(wanted)):
            break
        wanted[list(spoilt)] = False
    tiny = min(TINY, rules.look_past) * rules.size
    for e in np.flatnonzero(closed & ~stay & (length < 4 * tiny)):
        if np.linalg.norm(np.ptp(shape.points[shape.edges[e].nodes], axis=0)) < np.sqrt(2) * tiny:
            short[e] = True
    return short


def _as_sides(shape: Shape, curves: list[Curve]) -> Floats:
    """Lengths (e,) of edges, of those that bend but little as of the one side of a shell that they may be: straight from end to end."""
    length = np.array([c.length for c in curves])
    ends = np.array([edge.nodes[[0, -1]] for edge in shape.edges]).reshape(-1, 2)
    chord = np.linalg.norm(shape.points[ends[:, 1]] - shape.points[ends[:, 0]], axis=1)
    return np.where(chord > BOWED * length, chord, length)


def _clusters(shape: Shape, length: Floats, wanted: NDArray[np.bool_], limit: Floats) -> NDArray[np.bool_]:
    """Wanted edges (e,) whose ends can be joined without any cluster of ends growing beyond `limit` (e,), or further than that from a corner of three walls."""
    parent: dict[int, int] = {}
    members: dict[int, list[int]] = {}

    def root(v: int) -> int:
        while parent.setdefault(v, v) != v:
            v = parent[v]
        return v

    out = np.zeros(len(length), bool)
    for e in sorted(np.flatnonzero(wanted).tolist(), key=lambda e: (length[e], e)):
        a, b = root(int(shape.edges[e].nodes[0])), root(int(shape.edges[e].nodes[-1]))
        if a != b:
            together = [*members.get(a, [a]), *members.get(b, [b])]
            places = shape.points[together]
            centres = [v for v in together if len({f for k in shape.vertices[v] for f in shape.edge_faces[k]}) > 2]
            reach = [float(np.linalg.norm(places - shape.points[v], axis=1).max()) for v in centres]
            if min(reach, default=np.inf) > limit[e] and np.linalg.norm(np.ptp(places, axis=0)) > limit[e]:
                continue
            parent[b] = a
            members[a] = together
        out[e] = True
    return out


def _spoilt(shape: Shape, patches: Sequence[Patch | None], short: NDArray[np.bool_], rules: ShellRules) -> set[int]:
    """Short edges of borders that would lose their shape: larger than the limit, yet with fewer than two sides left."""
    out: set[int] = set()
    for patch in patches:
        if patch is None:
            continue
        for loop in patch.loops:
            left = [p.edge for p in loop if not short[p.edge]]
            if len(left) >= 2 or len(left) == len(loop):
                continue
            xy = np.concatenate([patch.flat[p.corners] for p in loop])
            if left or np.linalg.norm(np.ptp(xy, axis=0)) > 1.5 * rules.look_past * rules.size:
                out |= {p.edge for p in loop if short[p.edge]}
    return out


def _pinching(shape: Shape, patches: Sequence[Patch | None], short: NDArray[np.bool_], length: Floats) -> set[int]:
    """The longest short edge of every cluster of ends that a border reaches in two places with nothing short of its own between them.

    There the border would touch itself: a slit in a tube whose end is a hair away from another one's, on a wall beside it.
    """
    ends = {int(e): (int(shape.edges[e].nodes[0]), int(shape.edges[e].nodes[-1])) for e in np.flatnonzero(short)}
    cluster = _joined(ends.values())
    out: set[int] = set()
    for patch in patches:
        if patch is None:
            continue
        mine = {p.edge for loop in patch.loops for p in loop}
        own = _joined(ends[e] for e in mine & ends.keys())
        places: dict[int, set[int]] = {}
        for e in mine:
            for v in (int(shape.edges[e].nodes[0]), int(shape.edges[e].nodes[-1])):
                if v in cluster:
                    places.setdefault(cluster[v], set()).add(own.get(v, v))
        pinched = {c for c, there in places.items() if len(there) > 1}
        for c in sorted(pinched):
            out.add(max((e for e, (a, _) in ends.items() if cluster[a] == c and e not in mine), key=lambda e: (length[e], e)))
    return out


def _joined(pairs: Iterable[tuple[int, int]]) -> dict[int, int]:
    """The least of all that pairs join, for each of them."""
    first: dict[int, int] = {}

    def root(v: int) -> int:
        while first.setdefault(v, v) != v:
            v = first[v]
        return v

    for a, b in pairs:
        low, high = sorted((root(a), root(b)))
        first[high] = low
    return {v: root(v) for v in first}


def narrow_strips(
    shape: Shape,
    curves: list[Curve],
    patches: Sequence[Patch | None],
    short: NDArray[np.bool_],
    rules: ShellRules,
    spared: Collection[int] = (),
) -> list[Strip]:
    """Regions (small bends, split lines, slivers) that are narrower than the shortest side allowed.

    Several side by side become one row of nodes together where even all of them are no wider.
    """
    out: list[Strip] = []
    along: dict[int, int] = {}  # long side → its row
    across: set[int] = set()
    width: list[float] = []  # of all strips of a row
    for r, patch in enumerate(patches):
        strip = _narrow(shape, curves, patch, r, short, rules) if patch is not None else None
        if strip is None:
            continue
        long_sides, ends = {p.edge for p in (*strip.first, *strip.second)}, set(strip.across)
        if (long_sides | ends) & {*rules.divisions, *spared} or long_sides & across or ends & along.keys():
            continue
        rows = {along[e] for e in long_sides if e in along}
        total = strip.width + sum(width[row] for row in rows)
        if rows and total > LEAST_SIDE * rules.size:
            continue
        along |= dict.fromkeys([*long_sides, *(e for e, row in along.items() if row in rows)], len(width))
        width.append(total)
        across |= ends
        out.append(strip)
    return out


def _narrow(shape: Shape, curves: list[Curve], patch: Patch, region: int, short: NDArray[np.bool_], rules: ShellRules) -> Strip | None:
    """The two long sides of a region between which nothing fits; None where it is wide enough or has no such sides."""
    width = LEAST_SIDE * rules.size
    loop = patch.loops[0]
    if len(patch.loops) != 1 or not 2 <= len(loop) <= MOST_PASSAGES:
        return None
    edges = [p.edge for p in loop]
    seams = {e for e in edges if edges.count(e) > 1}  # of strips that close on themselves
    if 2 * _flat_area(patch) > width * sum(curves[p.edge].length for p in loop):
        return None
    best: tuple[tuple[float, int, float], Strip] | None = None
    for first, second, across in _two_sides(loop, curves, width):
        if any(p.edge in seams for p in (*first, *second)):
            continue
        long_ones = [p for p in (*first, *second) if not short[p.edge]]
        length = sum(curves[p.edge].length for p in long_ones) / 2
        unlike = abs(sum(curves[p.edge].length for p in first) - sum(curves[p.edge].length for p in second))
        gap = _apart(patch, first, second)
        if gap > width or length < 3 * gap or not any(p in first for p in long_ones) or not any(p in second for p in long_ones):
            continue
        bound = [any(len(set(shape.edge_faces[p.edge])) != 2 for p in side) for side in (first, second)]
        holds = 0 if bound[0] == bound[1] else FIRST if bound[0] else SECOND
        # Short edges rather lie across, and ends on both sides rather than one of them in line with a long side.
        rank = (round(gap / width, 6), sum(bool(short[p.edge]) for p in (*first, *second)), round(unlike / width, 6))
        if best is None or rank < best[0]:
            best = (rank, Strip(region, first, second, tuple(p.edge for p in across), gap, holds))
    return best[1] if best else None


def _two_sides(
    loop: tuple[BorderEdge, ...], curves: list[Curve], width: float
) -> Iterator[tuple[tuple[BorderEdge, ...], tuple[BorderEdge, ...], list[BorderEdge]]]:
    """Every way to cut a border into two sides with short ends (or none) between them."""
    n = len(loop)
    run = [[0.0] for _ in range(n)]  # lengths of 0, 1, 2 … passages from each start, while they are short
    for i in range(n):
        for k in range(n - 2):
            total = run[i][-1] + curves[loop[(i + k) % n].edge].length
            if total > width:
                break
            run[i].append(total)
    for i in range(n):  # the first side begins at passage i and ends before i + a
        for a in range(1, n):
            for b in range(len(run[(i + a) % n])):
                start = a + b
                for c in range(1, n - start + 1):
                    end = start + c
                    if n - end >= len(run[(i + end) % n]):
                        continue
                    if i > (i + start) % n:  # the same cut seen from the other side
                        continue
                    pick = [loop[(i + k) % n] for k in range(n)]
                    yield tuple(pick[:a]), tuple(pick[start:end]), pick[a:start] + pick[end:]


def _apart(patch: Patch, first: tuple[BorderEdge, ...], second: tuple[BorderEdge, ...]) -> float:
    """Largest distance from one side's corners to the other side."""
    a, b = (np.concatenate([patch.flat[p.corners] for p in side]) for side in (first, second))
    return max(float(to_line(a, b).max()), float(to_line(b, a).max()))


def to_line(points: Floats, line: Floats) -> Floats:
    """Distances (n,) of points from a polyline."""
    a, side = line[:-1], np.diff(line, axis=0)
    square = np.maximum(np.einsum("ij,ij->i", side, side), 1e-300)
    q = points[:, None] - a[None]
    s = np.clip(np.einsum("pij,ij->pi", q, side) / square, 0, 1)
    return np.asarray(np.linalg.norm(q - s[:, :, None] * side[None], axis=2).min(axis=1))


def _flat_area(patch: Patch) -> float:
    a, b, c = (patch.flat[patch.facets[:, k]] for k in range(3))
    return float(np.abs((b - a)[:, 0] * (c - a)[:, 1] - (b - a)[:, 1] * (c - a)[:, 0]).sum() / 2)


def agree_across(holes: list[RoundHole], strips: list[Strip], rules: ShellRules) -> list[RoundHole]:
    """The holes, with one count for all whose rings or rims lie on the two round sides of a strip: they become one row of nodes."""
    out = list(holes)
    for strip in strips:
        sides = [{p.edge for p in side} for side in (strip.first, strip.second)]
        beside = [[k for k, h in enumerate(out) if side in ({*h.edges}, {*h.rim})] for side in sides]
        counts = {out[k].divisions for lot in beside for k in lot}
        if not all(beside) or len(counts) < 2:
            continue
        edges = {e for lot in beside for k in lot for e in (*out[k].edges, *out[k].rim)}
        if edges & rules.divisions.keys():
            continue
        shared = 4 * round(float(np.sqrt(min(counts) * max(counts))) / 4)
        for k, hole in enumerate(out):
            if edges & {*hole.edges, *hole.rim}:
                out[k] = replace(hole, divisions=shared)
    return out
