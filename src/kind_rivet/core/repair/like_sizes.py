"""Shells that are still much larger than those beside them: sides and whole shells moved, since no single node could move for it.

A ring's nodes stay, and a row beside it can only become narrower when both ends of its
sides move at once; moving one of them would skew the shells on both sides first.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.onto import onto
from kind_rivet.core.kernels import kernel
from kind_rivet.core.quality.easing import ENOUGH, FAILS, margin_of, move_rounds
from kind_rivet.core.quality.growth import AIM, size_of, sizes

FIRM = 40.0  # cost of the square of growth above its aim, beside what margins cost
SOUND, UPRIGHT = 0.25, 0.6  # least margin and scaled Jacobian below which nothing falls for the sake of its neighbours' sizes
ROUNDS = 24
NEAR = 3  # rows round a pair whose single nodes move along
MOST = 400  # pairs; where there are more the mesh is coarser than its shape allows
STEPS = (0.2, 0.08, 0.03)  # of a shell's size


@kernel
def _cost(points, lot, count, shells, beside, table, scale, values, was, firm):  # type: ignore[no-untyped-def]
    """Cost of some shells, infinite where one fell below what is sound and what it `was`: (least margin, scaled Jacobian) each, −∞ if not known."""
    total = 0.0
    for i in range(count):
        e = lot[i]
        m = margin_of(points, shells, e, table, scale, values)
        if m < min(was[i, 0], SOUND) - 1e-9 or values[7] < min(was[i, 1], UPRIGHT) - 1e-9:
            return np.inf
        total += (1.0 - max(min(m, 1.0), -1.0)) ** 4 + (FAILS if m < 0.0 else 0.0) + 0.02 * (1.0 - min(values[7], 1.0))
        mine = size_of(points, shells, e)
        for k in range(4):
            f = beside[e, k]
            if f >= 0:
                other = size_of(points, shells, f)
                growth = max(mine, other) / max(min(mine, other), 1e-300)
                if growth > AIM:
                    total += firm * (min(growth, 10.0) - AIM) ** 2
    return total


@kernel
def _measured(points, lot, count, shells, table, scale, values, was):  # type: ignore[no-untyped-def]
    """Fills `was` with the least margin and the scaled Jacobian of each shell."""
    for i in range(count):
        e = lot[i]
        was[i, 0] = margin_of(points, shells, e, table, scale, values)
        was[i, 1] = values[7]


@kernel
def _shift(points, nodes, many, movable, code, data, centre, stretch, way):  # type: ignore[no-untyped-def]
    """Nodes drawn away from a centre by a share of their distance to it and moved along a way, each on its carrier."""
    for i in range(many):
        v = nodes[i]
        if movable[v]:
            x = points[v, 0] + stretch * (points[v, 0] - centre[0]) + way[0]
            y = points[v, 1] + stretch * (points[v, 1] - centre[1]) + way[1]
            z = points[v, 2] + stretch * (points[v, 2] - centre[2]) + way[2]
            points[v, 0], points[v, 1], points[v, 2] = onto(code[v], data[v], x, y, z)


@kernel
def _tried(points, nodes, many, movable, code, data, shells, inc, start, beside, table, scale, centre, stretch, way, firm):  # type: ignore[no-untyped-def]
    """Move some nodes together if the cost of all shells at them falls; did they?"""
    lot = np.empty(256, np.int64)
    count = 0
    for i in range(many):
        v = nodes[i]
        if not movable[v]:
            continue
        for j in range(start[v], start[v + 1]):
            known = False
            for k in range(count):
                known = known or lot[k] == inc[j]
            if not known and count < 256:
                lot[count] = inc[j]
                count += 1
    if count == 0:
        return False
    values, was = np.empty(10), np.full((count, 2), -np.inf)
    before = _cost(points, lot, count, shells, beside, table, scale, values, was, firm)
    _measured(points, lot, count, shells, table, scale, values, was)
    keep = np.empty((many, 3))
    for i in range(many):
        keep[i] = points[nodes[i]]
    _shift(points, nodes, many, movable, code, data, centre, stretch, way)
    if _cost(points, lot, count, shells, beside, table, scale, values, was, firm) < before * (1 - 1e-6):
        return True
    for i in range(many):
        points[nodes[i]] = keep[i]
    return False


@kernel
def _move_sides(points, elements, movable, code, data, shells, inc, start, beside, table, scale, steps, firm):  # type: ignore[no-untyped-def]
    """Grow and shrink each of the elements, and move its sides in and out; returns moves made."""
    moves = 0
    nodes, centre, way = np.empty(4, np.int64), np.zeros(3), np.zeros(3)
    for e in elements:
        n = 3 if shells[e, 3] < 0 else 4
        for step in steps:
            for sign in (-1.0, 1.0):
                for k in range(-1, n):  # the whole shell first
                    centre[:] = 0.0
                    for j in range(n):
                        nodes[j] = shells[e, j]
                        centre += points[shells[e, j]] / n
                    way[:] = 0.0
                    if k >= 0:
                        nodes[0], nodes[1] = shells[e, k], shells[e, (k + 1) % n]
                        way[:] = 2 * sign * step * ((points[nodes[0]] + points[nodes[1]]) / 2 - centre)
                    many, stretch = (n, sign * step) if k < 0 else (2, 0.0)
                    moves += _tried(
                        points, nodes, many, movable, code, data, shells, inc, start, beside, table, scale, centre, stretch, way, firm
                    )
    return moves


def even_out(
    points: Floats, movable: NDArray[np.bool_], code: NDArray[np.int8], data: Floats, shells: NDArray[np.int32], inc: NDArray[np.int32],
    start: NDArray[np.int64], beside: NDArray[np.int32], table: Floats, scale: Floats, most: float,
) -> int:  # fmt: skip
    """Move nodes (in place) near neighbours of which one is more than `most` times as large as the other; returns moves made.

    Arguments as for `easing.move_rounds`; movable (n,): nodes that may move on their carriers.
    """
    moves = 0
    for _ in range(ROUNDS):
        size = sizes(points, shells)
        other = np.where(beside >= 0, size[np.maximum(beside, 0)], size[:, None])
        growth = np.maximum(other, size[:, None]) / np.maximum(np.minimum(other, size[:, None]), 1e-300)
        lot = np.flatnonzero((growth > most).any(axis=1))
        if not 0 < len(lot) <= 2 * MOST:
            break
        made = int(_move_sides(points, lot, movable, code, data, shells, inc, start, beside, table, scale, np.array(STEPS), FIRM))
        near = np.zeros(len(points), bool)
        near[shells[lot][shells[lot] >= 0]] = True
        for _ in range(NEAR):
            rows = shells[(near[np.maximum(shells, 0)] & (shells >= 0)).any(axis=1)]
            near[rows[rows >= 0]] = True
        order = np.flatnonzero(near & movable)
        made += int(move_rounds(points, order, shells, inc, start, beside, table, scale, code, data, 2, ENOUGH, FIRM))
        moves += made
        if not made:
            break
    return moves
