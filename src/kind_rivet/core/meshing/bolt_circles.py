"""Circles round a bolt circle: divisions that see every bolt hole in the same way, so that the flange between them is symmetric."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.meshing.patch import Patch
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.washers import RoundHole

LEAST_BOLTS = 3
NEAR = 5.0  # sizes between a bolt hole and the circle up to which they see each other
OTHER = 0.2  # share by which the count of a circle may change for it
EVEN = 1.0  # degrees by which the holes may be off equal angles


@dataclass(frozen=True)
class Circles:
    """Counts of closed circular edges that follow a bolt circle, and how far along the edge their first node lies; edges of holes that follow one."""

    counts: dict[int, int]
    shifts: dict[int, float]
    of_holes: frozenset[int] = frozenset()


def follow_bolts(shape: Shape, patches: list[Patch | None], holes: list[RoundHole], rules: ShellRules) -> tuple[list[RoundHole], Circles]:
    """Holes and outer circles of regions with a bolt circle, with counts that are multiples of twice (or once) the number of bolts."""
    out = list(holes)
    counts: dict[int, int] = {}
    shifts: dict[int, float] = {}
    of_holes: set[int] = set()
    for region, patch in enumerate(patches):
        mine = [k for k, h in enumerate(holes) if h.region == region and h.round]
        if patch is None or len(mine) < LEAST_BOLTS:
            continue
        closed = [p[0].edge for p in patch.loops if len(p) == 1 and p[0].edge >= 0 and shape.edges[p[0].edge].carrier.kind == "circle"]
        by_edge = {out[k].edges[0]: k for k in mine if len(out[k].edges) == 1}
        for e in closed:
            if e in rules.divisions:
                continue
            d = shape.edges[e].carrier.array
            bolts = [out[k] for k in mine if e not in out[k].edges and out[k].radius < 0.5 * d[6]]
            around = _on_one_circle(bolts, d[:3], d[3:6], float(d[6]), rules.size)
            if around is None:
                continue
            hole = by_edge.get(e)
            base = (
                out[hole].divisions if hole is not None else max(6, round(float(shape.edge_length[e]) / rules.size_on(shape.edge_faces[e])))
            )
            count = _multiple(base, len(around))
            if count is None or (hole is not None and out[hole].rim):
                continue
            shift = 0.0
            if len(shape.vertices.get(int(shape.edges[e].nodes[0]), [])) == 1:
                curve = Curve.through(shape.points[shape.edges[e].nodes], shape.edges[e].carrier)
                shift = furthest(curve, d[:3], around[0] - d[:3]) % (curve.length / count)
            if hole is None:
                counts[e] = count
                if shift > 0:
                    shifts[e] = shift
            else:
                out[hole] = replace(out[hole], divisions=count, shift=shift)
                of_holes.add(e)
    return out, Circles(counts, shifts, frozenset(of_holes))


def _on_one_circle(bolts: list[RoundHole], centre: Floats, axis: Floats, radius: float, size: float) -> Floats | None:
    """Centres (k, 3) of equal holes that lie at equal angles round an axis and near a circle; None where there are none."""
    if len(bolts) < LEAST_BOLTS:
        return None
    at = np.array([b.centre for b in bolts])
    away = at - centre
    away = away - (away @ axis)[:, None] * axis
    reach = np.linalg.norm(away, axis=1)
    lots: dict[tuple[int, int], list[int]] = {}
    for k, b in enumerate(bolts):
        lots.setdefault((round(1000 * b.radius / radius), round(200 * float(reach[k]) / radius)), []).append(k)
    best: Floats | None = None
    for lot in lots.values():
        r = float(reach[lot].mean())
        if len(lot) < LEAST_BOLTS or abs(abs(r - radius) - bolts[lot[0]].radius) > NEAR * size or r < 0.05 * radius:
            continue
        u = away[lot[0]] / reach[lot[0]]
        angle = np.sort(np.degrees(np.arctan2(away[lot] @ np.cross(axis, u), away[lot] @ u)))
        if np.ptp(np.diff(np.append(angle, angle[0] + 360))) <= EVEN and (best is None or len(lot) > len(best)):
            best = at[lot]
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
