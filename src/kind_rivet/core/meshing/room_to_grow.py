"""Edges that run on from much shorter sides get enough divisions for theirs to grow from these.

Beside a tight bend the rows of the walls are to be no more than so much wider than those of the bend; where an edge
across them has too few sides, no place of its nodes can make them so.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.sizes import LONG
from kind_rivet.core.meshing.washers import LEAST_SIDE
from kind_rivet.core.quality.growth import AIM

STEEP = AIM**2  # times as long as the side beside it that one may be: as wide, its shell is as much larger as neighbours may be
ROOM_FOR_ONE, FEW_ROWS = 0.55, 6  # sizes that sides keep for it; sides along an edge up to which it may get more
ONWARD = 0.9  # cosine of the turn of edges that run on into each other


def leave_room_to_grow(
    shape: Shape, count: NDArray[np.int64], held: NDArray[np.bool_], curves: list[Curve], rules: ShellRules, faced: set[int]
) -> None:
    """Edges that run on from much shorter sides, as beside a tight bend, get so many that theirs can grow by what neighbours may differ at most.

    Those whose nodes face a ring (`faced`) keep their counts.
    """
    beside: dict[int, list[float]] = {}
    for vertex, edges in shape.vertices.items():
        for e in edges:
            if 0 < count[e] <= FEW_ROWS and not held[e] and e not in faced:
                ends = [
                    _set_side(curves[f], int(count[f]), rules) for f in edges if f != e and count[f] > 0 and _runs_on(shape, vertex, e, f)
                ]
                if ends:
                    beside.setdefault(e, []).append(min(ends))
    for e, ends in beside.items():
        size = rules.size_on(shape.edge_faces[e])
        n, length = int(count[e]), curves[e].length
        if STEEP * min(ends) >= length / n:
            continue
        while reach(ends, n, size) < length and length / (n + 1) >= ROOM_FOR_ONE * size:
            n += 1
        if reach(ends, n, size) >= length:
            count[e] = n


def _set_side(curve: Curve, n: int, rules: ShellRules) -> float:
    """Length of each of n sides along an edge once rows on bends are set so that they touch the arc (`bends`)."""
    if curve.carrier.kind != "circle":
        return curve.length / n
    return max(curve.length / (n + 1), min(LEAST_SIDE * rules.size, curve.length / n))


def reach(ends: list[float], n: int, size: float) -> float:
    """How long n sides in a row can be that grow, up to LONG sizes, from the sides beyond one or both ends of the row."""
    most = np.full(n, LONG[0] * size)
    for end, row in zip(ends[:2], (most, most[::-1]), strict=False):
        np.minimum(row, end * STEEP ** np.arange(1, n + 1), out=row)
    return float(most.sum())


def _runs_on(shape: Shape, vertex: int, e: int, f: int) -> bool:
    """Do two edges run on into each other at a vertex?"""
    ways = []
    for k in (e, f):
        nodes = shape.edges[k].nodes
        near = nodes[:2] if nodes[0] == vertex else nodes[:-3:-1]
        ways.append(shape.points[near[1]] - shape.points[near[0]])
    u, v = ways
    return bool(u @ v < 0 and (u @ v) ** 2 > ONWARD**2 * (u @ u) * (v @ v))
