"""Ends of lugs that are rounded off by several edges: their nodes lie where the rays of the hole's ring meet them.

An end of two roundings with a flat between them has vertices that no row wants. Where edges run on
into each other they are divided as one line; a vertex slides along it to the nearest of its nodes,
onto the side of the lug before its first and behind its last one too.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, arc_lengths
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.meshing.near_edges import SPACING, angles_about, node_direction
from kind_rivet.core.meshing.patch import BorderEdge, Patch
from kind_rivet.core.meshing.roundings import goes_on
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.sheet_mesh import Ints
from kind_rivet.core.meshing.washers import LEAST_FACING, RoundHole, counted_by_hand, may_turn, turned_to, widths_for

LEAST_SPAN = 0.5  # divisions of the ring: a line that spans less gets along without
SLIDE = 0.8  # sizes by which a vertex may slide
OUTWARD = 0.45  # of a step: as far within the next ray as a line may begin to count from there
MORE = (0, 4, 8)  # divisions that the ring may get besides its own


@dataclass(frozen=True)
class RadialEnds:
    """What follows from the rays.

    counts : edge → divisions
    shares : edge → shares (n + 1,) of its length at which its nodes lie; at its ends where the vertices were
    rest : edge beside a line → share of its length where its nodes begin and end, beyond 0 to 1 where its vertex slid off it
    slid : vertex → where it is now (3,)
    """

    counts: dict[int, int] = field(default_factory=dict)
    shares: dict[int, Floats] = field(default_factory=dict)
    rest: dict[int, tuple[float, float]] = field(default_factory=dict)
    slid: dict[int, Floats] = field(default_factory=dict)

    def joined(self, other: RadialEnds) -> RadialEnds:
        """Both together; an edge between two lines begins where the one and ends where the other wants."""
        rest = dict(self.rest)
        for e, (low, high) in other.rest.items():
            begun = rest.get(e, (0.0, 1.0))
            rest[e] = (low if low else begun[0], high if high != 1.0 else begun[1])
        return RadialEnds(self.counts | other.counts, self.shares | other.shares, rest, self.slid | other.slid)

    def nodes(self, shape: Shape, edge_nodes: list[Ints]) -> dict[int, Floats]:
        """Mesh nodes that stand for vertices which slid → their places (3,)."""
        ends = ((v, e, k) for v in self.slid for e in shape.vertices[v] for k in (0, -1) if int(shape.edges[e].nodes[k]) == v)
        return {int(edge_nodes[e][k]): self.slid[v] for v, e, k in ends}

    def along(self, count: NDArray[np.int64]) -> dict[int, Floats]:
        """Shares (n + 1,) of the length of every edge that follows, with the counts (e,) of all edges."""
        even = {e: np.clip(np.linspace(low, high, int(count[e]) + 1), 0.0, 1.0) for e, (low, high) in self.rest.items() if count[e]}
        return self.shares | even


@dataclass(frozen=True)
class _Line:
    """Edges that run on into each other round a hole, the side of the lug before and behind them, and the angle (rad) at each corner of each."""

    passages: tuple[BorderEdge, ...]
    angles: tuple[Floats, ...]  # ascending
    way: float  # 1 where it goes round counter-clockwise, else −1


def radial_ends(
    shape: Shape, patches: list[Patch | None], holes: list[RoundHole], curves: list[Curve], rules: ShellRules, spared: Collection[int]
) -> tuple[list[RoundHole], RadialEnds]:
    """The holes, with as many divisions as the ends of their lugs want, and what follows for the edges of these. Edges set by hand stay."""
    out, found = list(holes), RadialEnds()
    held = {*rules.divisions, *rules.grading, *rules.edge_size, *spared}
    for k, hole in enumerate(holes):
        patch = patches[hole.region]
        if patch is None or not _wants(shape, patch, hole, rules):
            continue
        size = rules.size_on(patch.faces)
        for line in _lines_round(shape, patch, hole, size):
            inner = {p.edge for p in line.passages[1:-1]}
            if {p.edge for p in line.passages} & held or inner & found.counts.keys():
                continue
            fitted = _fitted(shape, curves, patch, out[k], line, size, not counted_by_hand(hole, rules))
            if fitted is not None:
                out[k], ends = fitted
                found = found.joined(ends)
    return out, found


def _wants(shape: Shape, patch: Patch, hole: RoundHole, rules: ShellRules) -> bool:
    """Has a plane region a round hole with a ring that can turn? No sizes of places or faces may vary along the border."""
    plane = all(c.kind == "plane" for c in patch.carriers)
    return plane and hole.round and bool(hole.widths) and not hole.rim and not rules.places and may_turn(hole, shape, patch)


def _lines_round(shape: Shape, patch: Patch, hole: RoundHole, size: float) -> Iterator[_Line]:
    """Runs of two or more edges of the outer border all along the ring of a hole, with the edges into which they run on at both ends."""
    loop = patch.loops[0]
    n = len(loop)
    if n < 4:
        return
    near = [angles_about(hole, patch, p, size) if p.corners[0] != p.corners[-1] else None for p in loop]
    smooth = [goes_on(shape, loop[i - 1].edge, _end_of(shape, loop[i - 1])) == p.edge for i, p in enumerate(loop)]  # with the one before
    inside = [a is not None for a in near]
    for i in range(n):
        if not inside[i] or (inside[i - 1] and smooth[i]):
            continue
        run = [i]
        while inside[(run[-1] + 1) % n] and smooth[(run[-1] + 1) % n] and len(run) < n - 2:
            run.append((run[-1] + 1) % n)
        before, behind = i - 1, (run[-1] + 1) % n
        if len(run) < 2 or not smooth[i] or not smooth[behind] or before % n == behind:
            continue
        sides = [angles_about(hole, patch, loop[k], np.inf) for k in (before, behind)]
        if sides[0] is None or sides[1] is None:
            continue
        angles = [sides[0], *(a for r in run if (a := near[r]) is not None), sides[1]]
        for k in range(1, len(angles)):  # one count of angle all along
            angles[k] = angles[k] + 2 * np.pi * np.round((angles[k - 1][-1] - angles[k][0]) / (2 * np.pi))
        way = np.sign(angles[1][-1] - angles[1][0])
        if all(np.sign(a[-1] - a[0]) == way for a in angles):
            yield _Line((loop[before], *(loop[r] for r in run), loop[behind]), tuple(way * a for a in angles), float(way))


def _end_of(shape: Shape, part: BorderEdge) -> int:
    """The vertex at which a passage ends."""
    return int(shape.edges[part.edge].nodes[-1 if part.forward else 0])


def _fitted(
    shape: Shape, curves: list[Curve], patch: Patch, hole: RoundHole, line: _Line, size: float, may_grow: bool
) -> tuple[RoundHole, RadialEnds] | None:
    """The hole, turned so that it looks alike from both ends of a line, and what its rays make of that, with the fewest divisions; None where none fit."""
    middle = line.way * (line.angles[0][-1] + line.angles[-1][0]) / 2
    for more in MORE if may_grow else (0,):
        count = hole.divisions + more
        widths = widths_for(count, hole.radius, hole.widths, size)
        if not widths or (more and 2 * np.pi * hole.radius / count < LEAST_FACING * size):
            continue
        for turn in (0.0, np.pi / count):
            trial = turned_to(replace(hole, divisions=count, widths=widths), shape, patch, middle + turn)
            if (ends := _on_rays(shape, curves, patch, trial, line, size)) is not None:
                return trial, ends
    return None


def _on_rays(shape: Shape, curves: list[Curve], patch: Patch, hole: RoundHole, line: _Line, size: float) -> RadialEnds | None:
    """The nodes of a line where rays of a hole's ring meet it; None where sides become too long or too short, or a vertex slides too far."""
    step = 2 * np.pi / hole.divisions
    begin, end = line.angles[0][-1], line.angles[-1][0]
    if end - begin < LEAST_SPAN * step:
        return None
    node = line.way * node_direction(patch, hole)
    # Between two rays a line rather begins and ends outside, at the foot of the hole on a side.
    rays = node + step * np.arange(np.floor((begin - node) / step + OUTWARD), np.ceil((end - node) / step - OUTWARD) + 1)
    if len(rays) < 2 or rays[0] < line.angles[0][0] or rays[-1] > line.angles[-1][-1]:
        return None
    owner = np.searchsorted([a[-1] for a in line.angles[:-1]], rays)
    share = [_share(patch, hole, line, int(k), float(r)) for k, r in zip(owner, rays, strict=True)]
    passed = [line.passages[k] for k in owner]
    places = np.array([curves[p.edge].at(np.array([s * curves[p.edge].length]))[0] for p, s in zip(passed, share, strict=True)])
    sides = np.linalg.norm(np.diff(places, axis=0), axis=1)
    if sides.max() > SPACING[1] * size or sides.min() < SPACING[0] * size:
        return None
    ends = RadialEnds()
    at: list[int] = []  # the ray to which every vertex slides
    for k, part in enumerate(line.passages[:-1]):
        nearest = int(np.clip(np.round((line.angles[k][-1] - rays[0]) / step), 0, len(rays) - 1))
        nearest = 0 if k == 0 else len(rays) - 1 if k == len(line.passages) - 2 else nearest
        vertex = _end_of(shape, part)
        if np.linalg.norm(shape.points[vertex] - places[nearest]) > SLIDE * size:
            return None
        ends.slid[vertex] = places[nearest]
        at.append(nearest)
    for k, part in enumerate(line.passages[1:-1]):
        first, last = (0.0, 1.0) if part.forward else (1.0, 0.0)
        along = np.array([first, *share[at[k] + 1 : at[k + 1]], last])
        ends.counts[part.edge] = at[k + 1] - at[k]
        if at[k + 1] > at[k]:
            ends.shares[part.edge] = along if part.forward else along[::-1]
    for k, ray in ((0, 0), (len(line.passages) - 1, -1)):
        part = line.passages[k]
        at_last = part.forward == (k == 0)  # does the line lie at the last end of the edge, in its own sense?
        onto = share[ray] if owner[ray] == k else _beyond(curves[part.edge], places[ray], at_last)
        ends.rest[part.edge] = (0.0, onto) if at_last else (onto, 1.0)
    return ends


def _beyond(curve: Curve, place: Floats, at_last: bool) -> float:
    """Share of a curve's length at which a place off its last end, or its first, lies beyond it."""
    off = float(np.linalg.norm(place - curve.points[-1 if at_last else 0])) / curve.length
    return 1.0 + off if at_last else -off


def _share(patch: Patch, hole: RoundHole, line: _Line, k: int, ray: float) -> float:
    """Share of the length of an edge, in its own sense, at which a ray from the middle of a hole meets it."""
    part, angle = line.passages[k], line.angles[k]
    away = patch.flat[part.corners] - patch.outlines[hole.loop].mean(axis=0)
    j = int(np.clip(np.searchsorted(angle, ray) - 1, 0, len(angle) - 2))
    way = np.array([np.cos(line.way * ray), np.sin(line.way * ray)])
    low, high = (float(np.cross(away[i], way)) for i in (j, j + 1))
    s = arc_lengths(away)
    there = float(s[j] + (s[j + 1] - s[j]) * np.clip(low / (low - high), 0.0, 1.0) if low != high else s[j]) / float(s[-1])
    return there if part.forward else 1.0 - there
