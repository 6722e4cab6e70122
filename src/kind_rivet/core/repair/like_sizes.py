"""Shells that are still much larger than those beside them: lines of rows, sides and whole shells moved, since no single node could move for it.

A ring's nodes stay, and a row beside it can only become narrower when both ends of its
sides move at once; moving one of them would skew the shells on both sides first.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.kernels import kernel
from kind_rivet.core.quality.easing import ENOUGH, Aim, move_rounds
from kind_rivet.core.quality.growth import AIM, sizes
from kind_rivet.core.repair.row_lines import move_lines
from kind_rivet.core.repair.together import FIRM, shells_at, shifted

ROUNDS = 24
STALLED, LESS = 4, 0.99  # rounds after which no more are made where the excess of growth did not fall below that share of what it was
NEAR = 3  # rows round a pair whose single nodes move along
MOST = 800  # shells; where there are more the mesh is coarser than its shape allows
STEPS = (0.2, 0.08, 0.03)  # of a shell's size
NARROWER, WIDER = 0.65, 1.5  # times its width that a ring may become
EVEN = 1e-5  # of its reach: nodes of a ring so nearly in one plane and on two circles are


@kernel
def _tried(points, nodes, movable, code, data, shells, inc, start, beside, aim, centre, stretch, way):  # type: ignore[no-untyped-def]
    """Draw those of some nodes that may move away from a centre by a share of their distance to it and move them along a way, if that pays."""
    free = nodes[movable[nodes]]
    to = points[free] + stretch * (points[free] - centre) + way
    return shifted(points, free, to, shells_at(free, inc, start), code, data, shells, beside, aim)


@kernel
def _move_sides(points, elements, movable, code, data, shells, inc, start, beside, aim):  # type: ignore[no-untyped-def]
    """Grow and shrink each of the elements, and move its sides in and out; returns moves made."""
    moves = 0
    still = np.zeros(3)
    for e in elements:
        n = 3 if shells[e, 3] < 0 else 4
        whole, side = shells[e, :n].astype(np.int64), np.empty(2, np.int64)
        for step in STEPS:
            for share in (-step, step):
                centre = points[whole].sum(axis=0) / n
                moves += _tried(points, whole, movable, code, data, shells, inc, start, beside, aim, centre, share, still)
                for k in range(n):
                    side[0], side[1] = whole[k], whole[(k + 1) % n]
                    centre = points[whole].sum(axis=0) / n
                    way = 2 * share * ((points[side[0]] + points[side[1]]) / 2 - centre)
                    moves += _tried(points, side, movable, code, data, shells, inc, start, beside, aim, centre, 0.0, way)
    return moves


@dataclass(frozen=True)
class Ring:
    """A ring of one row whose width may change: its number, its outer nodes, all as far from its centre (3,), the hole's radius and its width."""

    number: int
    nodes: NDArray[np.int64]
    centre: Floats
    radius: float
    width: float

    def may_reach(self, reach: float) -> bool:
        """May its outer nodes lie so far from its centre?"""
        return NARROWER * self.width <= reach - self.radius <= WIDER * self.width


def rings_of(points: Floats, shells: NDArray[np.int32], ring: NDArray[np.int32], numbers: Iterable[int]) -> list[Ring]:
    """Those of the rings (by number, as in `ring` (m,)) that are round, plane and one row wide."""
    out = []
    for number in sorted(numbers):
        rows = shells[(ring == number) & (shells[:, 3] >= 0)]
        nodes = np.unique(rows).astype(np.int64)
        if len(nodes) != 2 * len(rows) or len(rows) < 6:
            continue
        centre = points[nodes].mean(axis=0)
        off = points[nodes] - centre
        away = np.linalg.norm(off, axis=1)
        inner, outer = away.min(), away.max()
        far = away > (inner + outer) / 2
        even = np.abs(np.where(far, outer, inner) - away).max() < EVEN * outer
        normal = np.linalg.svd(off, full_matrices=False)[2][2]
        if even and far.sum() == len(rows) and np.abs(off @ normal).max() < EVEN * outer:
            out.append(Ring(number, nodes[far], centre, float(inner), float(outer - inner)))
    return out


def _widen(
    points: Floats, rings: Sequence[Ring], unlike: NDArray[np.int64], shells: NDArray[np.int32], inc: NDArray[np.int32],
    start: NDArray[np.int64], beside: NDArray[np.int32], aim: Aim,
) -> int:  # fmt: skip
    """Make rings beside shells of `unlike` size wider or narrower, in place, each the same all round; returns moves made."""
    moves = 0
    near = np.unique(shells[unlike])
    movable, free = np.zeros(len(points), bool), np.zeros(len(points), np.int8)
    nowhere, still = np.zeros((len(points), 8)), np.zeros(3)
    for ring in rings:
        if not np.isin(ring.nodes, near).any():
            continue
        movable[ring.nodes] = True
        for step in STEPS:
            for share in (step, -step):
                reach = float(np.linalg.norm(points[ring.nodes[0]] - ring.centre))
                if ring.may_reach((1 + share) * reach):
                    moves += _tried(points, ring.nodes, movable, free, nowhere, shells, inc, start, beside, aim, ring.centre, share, still)
        movable[ring.nodes] = False
    return moves


def even_out(
    points: Floats, movable: NDArray[np.bool_], code: NDArray[np.int8], data: Floats, shells: NDArray[np.int32], inc: NDArray[np.int32],
    start: NDArray[np.int64], beside: NDArray[np.int32], aim: Aim, most: float, rings: Sequence[Ring] = (),
) -> int:  # fmt: skip
    """Move nodes (in place) near neighbours of which one is more than `most` times as large as the other; returns moves made.

    Arguments as for `easing.move_rounds`; movable (n,): nodes that may move on their carriers;
    rings : those whose width may change, though their nodes stay else.
    """
    moves, least, stalled = 0, np.inf, 0
    for _ in range(ROUNDS):
        size = sizes(points, shells)
        other = np.where(beside >= 0, size[np.maximum(beside, 0)], size[:, None])
        growth = np.maximum(other, size[:, None]) / np.maximum(np.minimum(other, size[:, None]), 1e-300)
        lot = np.flatnonzero((growth > most).any(axis=1))
        over = float((np.maximum(growth[lot] - AIM, 0.0) ** 2).sum())
        stalled = 0 if over < LESS * least else stalled + 1
        least = min(least, over)
        if not 0 < len(lot) <= MOST or stalled == STALLED:
            break
        made = _widen(points, rings, lot, shells, inc, start, beside, aim)
        made += int(move_lines(points, lot, movable, code, data, shells, inc, start, beside, aim))
        made += int(_move_sides(points, lot, movable, code, data, shells, inc, start, beside, aim))
        near = np.zeros(len(points), bool)
        near[shells[lot][shells[lot] >= 0]] = True
        for _ in range(NEAR):
            rows = shells[(near[np.maximum(shells, 0)] & (shells >= 0)).any(axis=1)]
            near[rows[rows >= 0]] = True
        order = np.flatnonzero(near & movable)
        made += int(move_rounds(points, order, shells, inc, start, beside, aim, code, data, 2, ENOUGH, FIRM))
        moves += made
        if not made:
            break
    return moves
