"""Circles round a bolt circle: divisions that see every bolt hole in the same way, so that the flange between them is symmetric."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.meshing.flange_counts import Ring, counts_for
from kind_rivet.core.meshing.patch import Patch
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.washers import RoundHole

LEAST_BOLTS = 3
NEAR = 5.0  # sizes between a bolt hole and the circle up to which they see each other
OTHER = 0.2  # share by which the count of a circle may change for it
SMALLER = 0.75  # of a circle's radius: holes less unlike it are rather a pattern that it is part of
ALIKE = 2.5e-3  # share by which the radii of equal holes, and their distances from the middle against the circle's radius, differ at most
EVEN = 1.0  # degrees by which the holes may be off equal angles


@dataclass(frozen=True)
class Circles:
    """Counts of closed circular edges that follow a bolt circle, and how far along the edge their first node lies; edges of holes that follow one."""

    counts: dict[int, int]
    shifts: dict[int, float]
    of_holes: frozenset[int] = frozenset()


@dataclass(frozen=True)
class _Seen:
    """A closed circular edge that sees a circle of bolts: the hole it is, if it is one, the count it would have, and the bolts."""

    edge: int
    hole: int | None
    wanted: int
    bolts: tuple[RoundHole, ...]


def follow_bolts(shape: Shape, patches: list[Patch | None], holes: list[RoundHole], rules: ShellRules) -> tuple[list[RoundHole], Circles]:
    """Holes and circles of regions with a bolt circle, with counts that are multiples of twice (or once) the number of bolts, or others that do better."""
    out = list(holes)
    counts: dict[int, int] = {}
    shifts: dict[int, float] = {}
    of_holes: set[int] = set()
    for region, patch in enumerate(patches):
        mine = [k for k, h in enumerate(holes) if h.region == region and h.round]
        if patch is None or len(mine) < LEAST_BOLTS:
            continue
        seen = [s for s in _seen(shape, patch, out, mine, rules) if s.hole is None or not out[s.hole].rim]
        found = _by_trial(patch, seen, out, rules)
        for s in seen:
            count = found.get(s.edge) or _multiple(s.wanted, len(s.bolts))
            if count is None:
                continue
            d, shift = shape.edges[s.edge].carrier.array, 0.0
            if len(shape.vertices.get(int(shape.edges[s.edge].nodes[0]), [])) == 1:
                curve = Curve.through(shape.points[shape.edges[s.edge].nodes], shape.edges[s.edge].carrier)
                shift = furthest(curve, d[:3], np.array(s.bolts[0].centre) - d[:3]) % (curve.length / count)
            if s.hole is None:
                counts[s.edge] = count
                if shift > 0:
                    shifts[s.edge] = shift
            else:
                out[s.hole] = replace(out[s.hole], divisions=count, shift=shift)
                of_holes.add(s.edge)
    return out, Circles(counts, shifts, frozenset(of_holes))


def _seen(shape: Shape, patch: Patch, holes: list[RoundHole], mine: list[int], rules: ShellRules) -> list[_Seen]:
    """The circles of a region whose counts are not set by hand and that see bolts; `mine`: its round holes."""
    out = []
    by_edge = {holes[k].edges[0]: k for k in mine if len(holes[k].edges) == 1}
    for e in [p[0].edge for p in patch.loops if len(p) == 1 and p[0].edge >= 0 and shape.edges[p[0].edge].carrier.kind == "circle"]:
        if e in rules.divisions:
            continue
        d = shape.edges[e].carrier.array
        bolts = [holes[k] for k in mine if e not in holes[k].edges and holes[k].radius < SMALLER * d[6]]
        around = _on_one_circle(bolts, d[:3], d[3:6], float(d[6]), rules.size)
        if around:
            hole = by_edge.get(e)
            length = float(shape.edge_length[e])
            wanted = holes[hole].divisions if hole is not None else max(6, round(length / rules.size_on(shape.edge_faces[e])))
            out.append(_Seen(e, hole, wanted, tuple(around)))
    return out


def _by_trial(patch: Patch, seen: list[_Seen], holes: list[RoundHole], rules: ShellRules) -> dict[int, int]:
    """Counts by edge for a flange of which nothing but circles that see the same bolts, and these, is the border; else none."""
    outer = next((s for s in seen if s.edge == patch.loops[0][0].edge), None)
    if outer is None or len(patch.loops[0]) != 1 or rules.places or len(seen) + len(outer.bolts) != len(patch.loops) or len(seen) > 2:
        return {}
    if any(set(s.bolts) != set(outer.bolts) for s in seen) or len({b.divisions for b in outer.bolts}) > 1:
        return {}
    by_edge = {s.edge: s for s in seen}
    by_loop = {b.loop: b for b in outer.bolts}
    centre = patch.outlines[0].mean(axis=0)
    first = patch.outlines[outer.bolts[0].loop].mean(axis=0) - centre
    rings, circles = [], []
    for loop, part in enumerate(patch.loops):  # what fills a region follows the order of its loops
        if (bolt := by_loop.get(loop)) is not None:
            rings.append(Ring.of(patch, loop, bolt, bolt.divisions, patch.outlines[loop].mean(axis=0) - centre))
        elif (s := by_edge.get(part[0].edge)) is not None:
            circles.append(s)
            rings.append(Ring.of(patch, loop, holes[s.hole] if s.hole is not None else None, s.wanted, first, follows=True))
        else:
            return {}
    found = counts_for(patch, rings, tuple(_multiple(s.wanted, len(s.bolts)) or s.wanted for s in circles), rules)
    return dict(zip((s.edge for s in circles), found, strict=True)) if found is not None else {}


def _on_one_circle(bolts: list[RoundHole], centre: Floats, axis: Floats, radius: float, size: float) -> list[RoundHole] | None:
    """The equal holes that lie at equal angles round an axis and near a circle; None where there are none."""
    if len(bolts) < LEAST_BOLTS:
        return None
    at = np.array([b.centre for b in bolts])
    away = at - centre
    away = away - (away @ axis)[:, None] * axis
    reach = np.linalg.norm(away, axis=1)
    lots: list[list[int]] = []
    for k, b in enumerate(bolts):
        like = (
            lot
            for lot in lots
            if abs(bolts[lot[0]].radius - b.radius) < ALIKE * b.radius and abs(reach[lot[0]] - reach[k]) < ALIKE * radius
        )
        if (known := next(like, None)) is not None:
            known.append(k)
        else:
            lots.append([k])
    best: list[RoundHole] | None = None
    for lot in lots:
        r = float(reach[lot].mean())
        if (
            len(lot) < LEAST_BOLTS
            or abs(abs(r - radius) - bolts[lot[0]].radius) > NEAR * size
            or r < 0.05 * radius
            or bolts[lot[0]].radius >= 0.5 * max(r, radius)
        ):
            continue
        u = away[lot[0]] / reach[lot[0]]
        angle = np.sort(np.degrees(np.arctan2(away[lot] @ np.cross(axis, u), away[lot] @ u)))
        if np.ptp(np.diff(np.append(angle, angle[0] + 360))) <= EVEN and (best is None or len(lot) > len(best)):
            best = [bolts[k] for k in lot]
    return best


def furthest(curve: Curve, centre: Floats, towards: Floats) -> float:
    """The place along a closed curve that lies furthest towards a direction from a centre."""
    at, reach = 0.5 * curve.length, 0.5 * curve.length
    for _ in range(4):  # each time closer round the best so far
        places = (at + np.linspace(-reach, reach, 361)) % curve.length
        at = float(places[int(np.argmax((curve.at(places) - centre) @ towards))])
        reach /= 90.0
    return at


def _multiple(base: int, bolts: int) -> int | None:
    """The multiple of twice the bolts, or of the bolts, next to a count; None where both are too far from it."""
    for step in (2 * bolts, bolts):
        count = step * round(base / step)
        if count > 0 and count % 2 == 0 and abs(count - base) <= OTHER * base:
            return count
    return None
