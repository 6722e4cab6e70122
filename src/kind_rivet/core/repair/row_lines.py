"""Whole lines between rows moved at once, so that rows beside narrower ones become narrower without a kink.

Beside a tight bend a row of shells is much wider than those of the bend, all along it. Moved one by one, the nodes of
its far line would each skew the shells on both sides first; side by side they leave the rows straight.
"""

from __future__ import annotations

import numpy as np

from kind_rivet.core.kernels import kernel
from kind_rivet.core.repair.together import shells_at, shifted

STEPS = (0.2, 0.08, 0.03)  # of the way to the line across
LEAST, MOST = 3, 400  # nodes of a line


@kernel
def _across(shells, q, v, u):  # type: ignore[no-untyped-def]
    """The other neighbour than u that node v has in quad q."""
    k = 0
    while shells[q, k] != v:
        k += 1
    one, other = shells[q, (k + 1) % 4], shells[q, (k + 3) % 4]
    return other if one == u else one


@kernel
def _ahead(shells, inc, start, q, v, s):  # type: ignore[no-untyped-def]
    """Where a line goes on amid four quads at node v: the quad beside q across v–s and the node there; −1 where that is not told."""
    following, ahead = -1, -1
    if start[v + 1] - start[v] == 4:
        for f in inc[start[v] : start[v + 1]]:
            if shells[f, 3] < 0:
                return -1, -1
            for c in range(4):
                one, other = shells[f, (c + 1) % 4], shells[f, (c + 3) % 4]
                if f != q and shells[f, c] == v and (one == s or other == s):
                    if following >= 0:  # three shells meet there
                        return -1, -1
                    following, ahead = f, other if one == s else one
    return following, ahead


@kernel
def _walk(shells, inc, start, movable, q, u, v):  # type: ignore[no-untyped-def]
    """Nodes of a line after u, from v on as far as they may move and the line is told, and what stands across from each.

    Quad q lies on the side looked at, at the line's first side; the last value tells whether the line came back to u.
    """
    nodes, across = np.empty(MOST, np.int64), np.empty(MOST, np.int64)
    found, first = 0, u
    while found < MOST and v >= 0 and movable[v] and v != first:
        s = _across(shells, q, v, u)
        nodes[found], across[found] = v, s
        found += 1
        u = v
        q, v = _ahead(shells, inc, start, q, v, s)
    return nodes[:found], across[:found], v == first


@kernel
def move_lines(points, elements, movable, code, data, shells, inc, start, beside, aim):  # type: ignore[no-untyped-def]
    """Move the lines on which sides of quads among `elements` lie in and out where that pays; returns moves made.

    Arguments as for `like_sizes.even_out`.
    """
    moves = 0
    for e in elements:
        for k in range(4 if shells[e, 3] >= 0 else 0):
            a, b = shells[e, k], shells[e, (k + 1) % 4]
            nodes, across, closed = _walk(shells, inc, start, movable, e, a, b)
            if not closed:
                others, beyond, _ = _walk(shells, inc, start, movable, e, b, a)
                nodes, across = np.concatenate((others, nodes)), np.concatenate((beyond, across))
            if not LEAST <= len(nodes) <= MOST:
                continue
            lot = shells_at(nodes, inc, start)
            for step in STEPS:
                for share in (step, -step):
                    to = points[nodes] + share * (points[across] - points[nodes])
                    moves += shifted(points, nodes, to, lot, code, data, shells, beside, aim)
    return moves
