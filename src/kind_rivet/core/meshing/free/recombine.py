"""Joining triangles into quads, best pairs first."""

from __future__ import annotations

import numpy as np

from kind_rivet.core.kernels import kernel
from kind_rivet.core.meshing.free.shapes2d import quad_angle_score

FLOOR = 0.25


@kernel
def join_triangles(pts, used, tri, nbr, con, inside):  # type: ignore[no-untyped-def]
    """Elements (m, 4) over the inside triangles; trias have −1 in the last place.

    Greedy by the angle score of the quad a pair makes; pairs below a floor stay apart.
    """
    score = np.empty(3 * used)
    pair = np.empty((3 * used, 2), np.int64)
    n = 0
    for t in range(used):
        if not inside[t]:
            continue
        for k in range(3):
            u = nbr[t, k]
            if u < t or con[t, k] or not inside[u]:
                continue
            m = 0
            for i in range(3):
                if nbr[u, i] == t:
                    m = i
            s = quad_angle_score(pts, tri[t, k], tri[t, (k + 1) % 3], tri[u, m], tri[t, (k + 2) % 3])
            if s > FLOOR:
                score[n] = s
                pair[n, 0], pair[n, 1] = t, k
                n += 1
    order = np.argsort(-score[:n], kind="mergesort")
    taken = np.zeros(used, np.bool_)
    out = np.empty((used, 4), np.int32)
    m = 0
    for i in range(n):
        t, k = pair[order[i]]
        u = nbr[t, k]
        if taken[t] or taken[u]:
            continue
        taken[t] = True
        taken[u] = True
        j = 0
        for x in range(3):
            if nbr[u, x] == t:
                j = x
        out[m, 0], out[m, 1], out[m, 2], out[m, 3] = tri[t, k], tri[t, (k + 1) % 3], tri[u, j], tri[t, (k + 2) % 3]
        m += 1
    for t in range(used):
        if inside[t] and not taken[t]:
            out[m, 0], out[m, 1], out[m, 2], out[m, 3] = tri[t, 0], tri[t, 1], tri[t, 2], -1
            m += 1
    return out[:m]
