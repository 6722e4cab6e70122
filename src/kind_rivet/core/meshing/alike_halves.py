"""Counts with which a symmetric wall can get a symmetric mesh: all sides of its border across a mirror axis are even, or all are odd.

Where some have a node on the axis and others a side across it, rows from one to the other lean
by half a side, and the whole wall leans with them.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, arc_lengths
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.free.symmetry import mirror_axes
from kind_rivet.core.meshing.near_edges import node_direction
from kind_rivet.core.meshing.patch import BorderEdge, Patch
from kind_rivet.core.meshing.washers import RoundHole

SAME = 1e-3  # sizes by which a mirrored wall may be off
MOST_PASSAGES = 400  # of a border that is looked at
LONG, SHORT = 1.5, 0.55  # sizes that sides changed by one may be long at most, and at least
ON_NODE = 0.02  # of a step of a ring: so near to an axis lies a node of it


@dataclass(frozen=True)
class _Across:
    """What crosses an axis: edges that may have one division more or less, and whether what may not has a node there, a side, or some of both."""

    edges: tuple[int, ...]
    nodes: bool
    sides: bool


def halves_alike(
    shape: Shape, patches: list[Patch | None], mapped: set[int], holes: list[RoundHole], count: NDArray[np.int64], held: NDArray[np.bool_],
    lengths: NDArray[np.float64], size: float,
) -> None:  # fmt: skip
    """One division more or less for free edges across the mirror axes of walls that are not `mapped`.

    `lengths`: divisions wanted of every edge, not rounded. Edges `held` stay, and so do all of a wall where these do not agree.
    """
    for r, patch in enumerate(patches):
        if patch is None or r in mapped or sum(map(len, patch.loops)) > MOST_PASSAGES:
            continue
        axes = mirror_axes([_marks(patch, k) for k in range(len(patch.loops))], size, SAME)
        if axes is None or len(axes.axes) > 2:
            continue
        mine = {h.loop: h for h in holes if h.region == r}
        for angle in axes.axes:
            across = _across(shape, patch, mine, axes.centre, angle, count, held, size)
            if across is None or (across.nodes and across.sides):
                continue
            ways = [0] if across.nodes else [1] if across.sides else [0, 1]
            changes = [c for parity in ways if (c := _changed(across.edges, parity, count, lengths)) is not None]
            for e, n in min(changes, key=lambda change: _strain(change, lengths), default={}).items():
                count[e] = n


def _strain(change: dict[int, int], lengths: NDArray[np.float64]) -> float:
    """How far the counts of a change are from those wanted."""
    return sum(abs(float(np.log(n / max(lengths[e], 0.5)))) for e, n in change.items())


def _marks(patch: Patch, loop: int) -> Floats:
    """Places (k, 2) that tell how a loop lies: ends and middles of its passages, of a circle its middle."""
    passages = patch.loops[loop]
    if len(passages) == 1:
        return patch.outlines[loop].mean(axis=0)[None]
    return np.array([p for part in passages for p in (patch.flat[part.corners[0]], _middle(patch, part))])


def _middle(patch: Patch, part: BorderEdge) -> Floats:
    line = patch.flat[part.corners]
    s = arc_lengths(line)
    return np.array([np.interp(s[-1] / 2, s, line[:, k]) for k in (0, 1)])


def _across(
    shape: Shape, patch: Patch, rings: dict[int, RoundHole], centre: Floats, angle: float, count: NDArray[np.int64], held: NDArray[np.bool_],
    size: float,
) -> _Across | None:  # fmt: skip
    """What crosses an axis; None where an edge lies along it, or where a ring has neither node nor side there."""
    normal = np.array([-np.sin(angle), np.cos(angle)])
    edges: list[int] = []
    nodes = sides = False
    for k, loop in enumerate(patch.loops):
        if len(loop) == 1:
            if abs((patch.outlines[k].mean(axis=0) - centre) @ normal) < SAME * size and k in rings:
                off = ((angle - node_direction(patch, rings[k])) * rings[k].divisions / (2 * np.pi)) % 1  # of a step
                if min(off, 1 - off) < ON_NODE:
                    nodes = True
                elif abs(off - 0.5) < ON_NODE:
                    sides = True
                else:
                    return None
            continue
        for part in loop:
            first, middle, last = (
                (at - centre) @ normal for at in (patch.flat[part.corners[0]], _middle(patch, part), patch.flat[part.corners[-1]])
            )
            if abs(first) < SAME * size:
                nodes = True
                if abs(last) < SAME * size and abs(middle) < SAME * size:
                    return None
            if abs(middle) < SAME * size and abs(first + last) < SAME * size < abs(first):
                edges.append(part.edge)
    fixed = [e for e in edges if held[e] or len(shape.edge_faces[e]) != 1]
    nodes |= any(count[e] % 2 == 0 for e in fixed)
    sides |= any(count[e] % 2 == 1 for e in fixed)
    return _Across(tuple(e for e in edges if e not in fixed), nodes, sides)


def _changed(edges: tuple[int, ...], parity: int, count: NDArray[np.int64], lengths: NDArray[np.float64]) -> dict[int, int] | None:
    """New counts of those edges that have another parity; None where sides would become too long or too short."""
    out = {}
    for e in edges:
        if count[e] % 2 == parity:
            continue
        n = int(count[e]) + (1 if lengths[e] > count[e] or count[e] == 1 else -1)
        if not SHORT <= lengths[e] / n <= LONG:
            n = 2 * int(count[e]) - n
        if n < 1 or not SHORT <= lengths[e] / n <= LONG:
            return None
        out[e] = n
    return out
