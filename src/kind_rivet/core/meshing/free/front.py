"""Placing points: a front that grows rows from the borders along a cross field.

The cross field and the local size are weighted means over the border sides (weights
length / distance³), so that no background mesh is needed. A cross direction θ is
averaged as (cos 4θ, sin 4θ), since four directions are equal.
"""

from __future__ import annotations

import math

import numpy as np

from kind_rivet.core.kernels import kernel
from kind_rivet.core.meshing.free.triangulation import insert, locate


@kernel
def cross_and_size(x, y, mid, length, cos4, sin4, calm, wanted, growth, spots):  # type: ignore[no-untyped-def]
    """Cross direction and wanted size at a point.

    The size is the wanted one, limited by each border side's length plus `growth`
    times the distance from it, and by `spots` (x, y, radius, size). A grain has a say
    that is the same everywhere (`flow.Field`).
    """
    c, s, size = 0.0, 0.0, wanted
    for i in range(len(mid)):
        if calm[i] < 0:  # a grain: the same everywhere
            c += cos4[i] / length[i] ** 2
            s += sin4[i] / length[i] ** 2
            continue
        dx, dy = mid[i, 0] - x, mid[i, 1] - y
        d2 = dx * dx + dy * dy
        d = math.sqrt(d2)
        w = length[i] / (d2 * d + 1e-30)
        if calm[i] > 0:
            if d > 12.0 * calm[i]:
                w = 0.0
            else:
                w *= math.exp(-d / calm[i])
        c += w * cos4[i]
        s += w * sin4[i]
        size = min(size, length[i] + growth * max(d - 0.5 * length[i], 0.0))
    for i in range(len(spots)):
        d = math.sqrt((spots[i, 0] - x) ** 2 + (spots[i, 1] - y) ** 2)
        size = min(size, spots[i, 3] + growth * max(d - spots[i, 2], 0.0))
    return math.atan2(s, c) / 4.0, size


@kernel
def advance(  # type: ignore[no-untyped-def]
    pts,
    top,
    used,
    tri,
    nbr,
    con,
    last,
    inside,
    seeds,
    seed_angle,
    seed_size,
    mid,
    length,
    cos4,
    sin4,
    calm,
    wanted,
    growth,
    spots,
    keep_off,
    capacity,
    careful,
):
    """Insert interior points row by row; returns (vertices used, triangles used)."""
    queue = np.empty(capacity, np.int64)
    angle = np.empty(capacity)
    size = np.empty(capacity)
    head, tail = 0, 0
    for i in range(len(seeds)):
        v = seeds[i]
        queue[tail] = v
        tail += 1
        angle[v] = seed_angle[i]
        size[v] = seed_size[i]
    stack = np.empty(20000, np.int64)
    mark = np.zeros(2 * capacity + 16, np.int64)
    stamp = 0
    todo = np.empty(4096, np.int64)
    while head < tail:
        v = queue[head]
        head += 1
        th, h = angle[v], size[v]
        for q in range(4):
            if top >= capacity or used + 4 >= len(tri):
                return top, used
            a = th + q * (math.pi / 2)
            turn, step = 0.0, h
            if careful:  # half a step, look at the field there, then the whole step (midpoint rule)
                mx, my = pts[v, 0] + 0.5 * h * math.cos(a), pts[v, 1] + 0.5 * h * math.sin(a)
                f, hm = cross_and_size(mx, my, mid, length, cos4, sin4, calm, wanted, growth, spots)
                turn = f - a
                turn -= round(turn / (math.pi / 2)) * (math.pi / 2)
                step = min(max(hm, 0.6 * h), 1.5 * h)
            x, y = pts[v, 0] + step * math.cos(a + turn), pts[v, 1] + step * math.sin(a + turn)
            t = locate(x, y, last[v], pts, tri, nbr, con, False)
            if t < 0 or not inside[t]:
                continue
            fx, hx = th, step
            if careful:
                fx, hx = cross_and_size(x, y, mid, length, cos4, sin4, calm, wanted, growth, spots)
            ca, sa = math.cos(fx), math.sin(fx)
            limit = keep_off * min(step, max(hx, 0.5 * step))
            # Vertices of the Delaunay cavity of (x, y), not looking across borders.
            stamp += 1
            todo[0] = t
            n = 1
            mark[t] = stamp
            clear = True
            while n > 0 and clear:
                n -= 1
                u = todo[n]
                for k in range(3):
                    w = tri[u, k]
                    dx, dy = pts[w, 0] - x, pts[w, 1] - y
                    if max(abs(ca * dx + sa * dy), abs(ca * dy - sa * dx)) < limit:
                        clear = False
                        break
                    o = nbr[u, k]
                    if o >= 0 and not con[u, k] and mark[o] != stamp and n < 4000:
                        mark[o] = stamp
                        p0, p1, p2 = tri[o, 0], tri[o, 1], tri[o, 2]
                        if _in_ball(pts, p0, p1, p2, x, y):
                            todo[n] = o
                            n += 1
                if clear:
                    for k in range(3):  # stay off the border sides themselves
                        if con[u, k]:
                            b0, b1 = tri[u, (k + 1) % 3], tri[u, (k + 2) % 3]
                            ex, ey = pts[b1, 0] - pts[b0, 0], pts[b1, 1] - pts[b0, 1]
                            e = math.sqrt(ex * ex + ey * ey)
                            away = abs(ex * (y - pts[b0, 1]) - ey * (x - pts[b0, 0])) / (e + 1e-300)
                            along = (ex * (x - pts[b0, 0]) + ey * (y - pts[b0, 1])) / (e * e + 1e-300)
                            if -0.2 < along < 1.2 and away < 0.55 * limit / keep_off:
                                clear = False
            if not clear:
                continue
            if not careful:  # in large regions the field is worked out only for points that stay
                fx, hx = cross_and_size(x, y, mid, length, cos4, sin4, calm, wanted, growth, spots)
            pts[top, 0], pts[top, 1] = x, y
            more = insert(top, t, used, pts, tri, nbr, con, last, inside, stack)
            if more < 0:
                continue
            used = more
            angle[top] = fx
            size[top] = max(min(hx, 1.5 * step), 0.5 * step)
            queue[tail] = top
            tail += 1
            top += 1
    return top, used


@kernel
def _in_ball(pts, a, b, c, x, y):  # type: ignore[no-untyped-def]
    adx, ady, bdx, bdy, cdx, cdy = pts[a, 0] - x, pts[a, 1] - y, pts[b, 0] - x, pts[b, 1] - y, pts[c, 0] - x, pts[c, 1] - y
    a2, b2, c2 = adx * adx + ady * ady, bdx * bdx + bdy * bdy, cdx * cdx + cdy * cdy
    return a2 * (bdx * cdy - bdy * cdx) + b2 * (cdx * ady - cdy * adx) + c2 * (adx * bdy - ady * bdx) > 0
