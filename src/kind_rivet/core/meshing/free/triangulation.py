"""Constrained Delaunay triangulation in flat arrays, compiled.

Triangle t has corners tri[t, k] counter-clockwise; nbr[t, k] is the triangle across
the side opposite corner k (−1 outside), con[t, k] marks that side as a border.
`last[v]` is some triangle at vertex v. The four corners of an enclosing square are
the last four vertices of the point array's used part when `start` returns.
"""

from __future__ import annotations

import numpy as np

from kind_rivet.core.kernels import kernel

SPLIT = 134217729.0  # 2^27 + 1, Dekker's splitter for doubles


@kernel
def _two_product(a, b):  # type: ignore[no-untyped-def]
    p = a * b
    c = SPLIT * a
    ah = c - (c - a)
    al = a - ah
    c = SPLIT * b
    bh = c - (c - b)
    bl = b - bh
    return p, ((ah * bh - p) + ah * bl + al * bh) + al * bl


@kernel
def _two_difference(a, b):  # type: ignore[no-untyped-def]
    d = a - b
    bv = a - d
    av = d + bv
    return d, (a - av) + (bv - b)


@kernel
def orient(ax, ay, bx, by, cx, cy):  # type: ignore[no-untyped-def]
    """Twice the signed area of abc; near zero evaluated in doubled precision (after Shewchuk 1997)."""
    left, right = (ax - cx) * (by - cy), (ay - cy) * (bx - cx)
    det = left - right
    if abs(det) > 4e-16 * (abs(left) + abs(right)):
        return det
    acx, acx_ = _two_difference(ax, cx)
    acy, acy_ = _two_difference(ay, cy)
    bcx, bcx_ = _two_difference(bx, cx)
    bcy, bcy_ = _two_difference(by, cy)
    p, p_ = _two_product(acx, bcy)
    q, q_ = _two_product(acy, bcx)
    high, low = _two_difference(p, q)
    return high + (low + (p_ - q_) + (acx * bcy_ + acx_ * bcy) - (acy * bcx_ + acy_ * bcx))


@kernel
def in_circle(ax, ay, bx, by, cx, cy, dx, dy):  # type: ignore[no-untyped-def]
    """Positive when d lies clearly inside the circle through a, b, c (counter-clockwise); ties count as outside."""
    adx, ady, bdx, bdy, cdx, cdy = ax - dx, ay - dy, bx - dx, by - dy, cx - dx, cy - dy
    a2, b2, c2 = adx * adx + ady * ady, bdx * bdx + bdy * bdy, cdx * cdx + cdy * cdy
    bc, ca, ab = bdx * cdy - bdy * cdx, cdx * ady - cdy * adx, adx * bdy - ady * bdx
    det = a2 * bc + b2 * ca + c2 * ab
    size = a2 * abs(bc) + b2 * abs(ca) + c2 * abs(ab)
    return det - 1e-12 * size


@kernel
def start(pts, n, tri, nbr, con, last):  # type: ignore[no-untyped-def]
    """Two triangles over a square round the first n points; returns (vertices used, triangles used)."""
    lo0, lo1, hi0, hi1 = np.inf, np.inf, -np.inf, -np.inf
    for i in range(n):
        lo0, hi0 = min(lo0, pts[i, 0]), max(hi0, pts[i, 0])
        lo1, hi1 = min(lo1, pts[i, 1]), max(hi1, pts[i, 1])
    c0, c1 = (lo0 + hi0) / 2, (lo1 + hi1) / 2
    r = 3.0 * max(hi0 - lo0, hi1 - lo1)
    pts[n] = (c0 - r, c1 - 1.07 * r)
    pts[n + 1] = (c0 + 1.03 * r, c1 - r)
    pts[n + 2] = (c0 + r, c1 + 1.05 * r)
    pts[n + 3] = (c0 - 1.01 * r, c1 + r)
    tri[0] = (n, n + 1, n + 2)
    tri[1] = (n, n + 2, n + 3)
    nbr[0] = (-1, 1, -1)
    nbr[1] = (-1, -1, 0)
    con[0] = False
    con[1] = False
    last[n], last[n + 1], last[n + 2], last[n + 3] = 0, 0, 0, 1
    return n + 4, 2


@kernel
def locate(px, py, t, pts, tri, nbr, con, stop_at_border):  # type: ignore[no-untyped-def]
    """Walk from triangle t to the one holding p; −1 if a border is crossed and `stop_at_border`."""
    came = -1
    for step in range(1000000):
        moved = False
        for j in range(3):
            k = (j + step) % 3
            a, b = tri[t, (k + 1) % 3], tri[t, (k + 2) % 3]
            other = nbr[t, k]
            if other == came and came >= 0:
                continue
            if orient(pts[a, 0], pts[a, 1], pts[b, 0], pts[b, 1], px, py) < 0:
                if other < 0 or (stop_at_border and con[t, k]):
                    return -1
                came = t
                t = other
                moved = True
                break
        if not moved:
            return t
    return -1


@kernel
def _relink(t, old, new, nbr):  # type: ignore[no-untyped-def]
    if t >= 0:
        for k in range(3):
            if nbr[t, k] == old:
                nbr[t, k] = new


@kernel
def flip(t, k, tri, nbr, con, last):  # type: ignore[no-untyped-def]
    """Turn the side opposite corner k of t; afterwards t and its old neighbour hold the other diagonal."""
    u = nbr[t, k]
    m = 0
    for j in range(3):
        if nbr[u, j] == t:
            m = j
    p, a, b = tri[t, k], tri[t, (k + 1) % 3], tri[t, (k + 2) % 3]
    q = tri[u, m]
    n_bp, c_bp = nbr[t, (k + 1) % 3], con[t, (k + 1) % 3]
    n_pa, c_pa = nbr[t, (k + 2) % 3], con[t, (k + 2) % 3]
    n_aq, c_aq = nbr[u, (m + 1) % 3], con[u, (m + 1) % 3]
    n_qb, c_qb = nbr[u, (m + 2) % 3], con[u, (m + 2) % 3]
    # In u the side a-b runs b -> a: corner m+1 is b, corner m+2 is a.
    tri[t, 0], tri[t, 1], tri[t, 2] = p, a, q
    nbr[t, 0], nbr[t, 1], nbr[t, 2] = n_aq, u, n_pa
    con[t, 0], con[t, 1], con[t, 2] = c_aq, False, c_pa
    tri[u, 0], tri[u, 1], tri[u, 2] = p, q, b
    nbr[u, 0], nbr[u, 1], nbr[u, 2] = n_qb, n_bp, t
    con[u, 0], con[u, 1], con[u, 2] = c_qb, c_bp, False
    _relink(n_aq, u, t, nbr)
    _relink(n_bp, t, u, nbr)
    last[p], last[a], last[q], last[b] = t, t, t, u


@kernel
def _legalise(stack, depth, p, pts, tri, nbr, con, last):  # type: ignore[no-untyped-def]
    """Lawson flips outward from the new vertex p."""
    while depth > 0:
        depth -= 1
        t = stack[depth]
        k = -1
        for j in range(3):
            if tri[t, j] == p:
                k = j
        if k < 0 or con[t, k] or nbr[t, k] < 0:
            continue
        u = nbr[t, k]
        q = -1
        for j in range(3):
            if nbr[u, j] == t:
                q = tri[u, j]
        a, b = tri[t, (k + 1) % 3], tri[t, (k + 2) % 3]
        if in_circle(pts[p, 0], pts[p, 1], pts[a, 0], pts[a, 1], pts[b, 0], pts[b, 1], pts[q, 0], pts[q, 1]) > 0:
            flip(t, k, tri, nbr, con, last)
            if depth + 2 < len(stack):
                stack[depth] = t
                stack[depth + 1] = u
                depth += 2


@kernel
def insert(p, t, used, pts, tri, nbr, con, last, inside, stack):  # type: ignore[no-untyped-def]
    """Insert vertex p lying in triangle t; returns triangles used, or −1 − (vertex) if p falls on one."""
    x, y = pts[p, 0], pts[p, 1]
    on = -1
    for k in range(3):
        v = tri[t, k]
        if pts[v, 0] == x and pts[v, 1] == y:
            return -1 - v
        a, b = tri[t, (k + 1) % 3], tri[t, (k + 2) % 3]
        area = orient(pts[a, 0], pts[a, 1], pts[b, 0], pts[b, 1], x, y)
        long2 = (pts[a, 0] - pts[b, 0]) ** 2 + (pts[a, 1] - pts[b, 1]) ** 2
        if abs(area) <= 1e-13 * long2:
            on = k
    if on < 0 or nbr[t, on] < 0:
        a, b, c = tri[t, 0], tri[t, 1], tri[t, 2]
        na, nb, nc = nbr[t, 0], nbr[t, 1], nbr[t, 2]
        ca, cb, cc = con[t, 0], con[t, 1], con[t, 2]
        u, w = used, used + 1
        tri[t, 0], tri[t, 1], tri[t, 2] = a, b, p
        nbr[t, 0], nbr[t, 1], nbr[t, 2] = u, w, nc
        con[t, 0], con[t, 1], con[t, 2] = False, False, cc
        tri[u, 0], tri[u, 1], tri[u, 2] = b, c, p
        nbr[u, 0], nbr[u, 1], nbr[u, 2] = w, t, na
        con[u, 0], con[u, 1], con[u, 2] = False, False, ca
        tri[w, 0], tri[w, 1], tri[w, 2] = c, a, p
        nbr[w, 0], nbr[w, 1], nbr[w, 2] = t, u, nb
        con[w, 0], con[w, 1], con[w, 2] = False, False, cb
        _relink(na, t, u, nbr)
        _relink(nb, t, w, nbr)
        inside[u] = inside[t]
        inside[w] = inside[t]
        last[a], last[b], last[c], last[p] = t, t, u, t
        stack[0], stack[1], stack[2] = t, u, w
        _legalise(stack, 3, p, pts, tri, nbr, con, last)
        return used + 2
    # p lies on the side opposite corner `on`: split both triangles beside it.
    s = nbr[t, on]
    m = 0
    for j in range(3):
        if nbr[s, j] == t:
            m = j
    c, a, b = tri[t, on], tri[t, (on + 1) % 3], tri[t, (on + 2) % 3]
    d = tri[s, m]
    border = con[t, on]
    n_bc, c_bc = nbr[t, (on + 1) % 3], con[t, (on + 1) % 3]
    n_ca, c_ca = nbr[t, (on + 2) % 3], con[t, (on + 2) % 3]
    n_ad, c_ad = nbr[s, (m + 1) % 3], con[s, (m + 1) % 3]
    n_db, c_db = nbr[s, (m + 2) % 3], con[s, (m + 2) % 3]
    u, w = used, used + 1
    tri[t, 0], tri[t, 1], tri[t, 2] = c, a, p
    nbr[t, 0], nbr[t, 1], nbr[t, 2] = w, u, n_ca
    con[t, 0], con[t, 1], con[t, 2] = border, False, c_ca
    tri[u, 0], tri[u, 1], tri[u, 2] = c, p, b
    nbr[u, 0], nbr[u, 1], nbr[u, 2] = s, n_bc, t
    con[u, 0], con[u, 1], con[u, 2] = border, c_bc, False
    tri[s, 0], tri[s, 1], tri[s, 2] = d, b, p
    nbr[s, 0], nbr[s, 1], nbr[s, 2] = u, w, n_db
    con[s, 0], con[s, 1], con[s, 2] = border, False, c_db
    tri[w, 0], tri[w, 1], tri[w, 2] = d, p, a
    nbr[w, 0], nbr[w, 1], nbr[w, 2] = t, n_ad, s
    con[w, 0], con[w, 1], con[w, 2] = border, c_ad, False
    _relink(n_bc, t, u, nbr)
    _relink(n_ad, s, w, nbr)
    inside[u] = inside[t]
    inside[w] = inside[s]
    last[a], last[b], last[c], last[d], last[p] = t, s, t, s, t
    stack[0], stack[1], stack[2], stack[3] = t, u, s, w
    _legalise(stack, 4, p, pts, tri, nbr, con, last)
    return used + 2


@kernel
def _find_side(a, b, tri, nbr, last):  # type: ignore[no-untyped-def]
    """Triangle and corner opposite the side a-b, or (−1, −1)."""
    first = last[a]
    t = first
    for turn in range(2):  # counter-clockwise round a, then clockwise if the hull was met
        t = first
        for _ in range(100000):
            k = 0
            for j in range(3):
                if tri[t, j] == a:
                    k = j
            if tri[t, (k + 1) % 3] == b:
                return t, (k + 2) % 3
            if tri[t, (k + 2) % 3] == b:
                return t, (k + 1) % 3
            t = nbr[t, (k + 1) % 3] if turn == 0 else nbr[t, (k + 2) % 3]
            if t < 0 or t == first:
                break
        if t == first:
            break
    return -1, -1


@kernel
def constrain(a, b, pts, tri, nbr, con, last):  # type: ignore[no-untyped-def]
    """Make a-b a border side by turning the sides it crosses (Sloan 1993).

    Returns 0, or −1 when it cannot (it meets another border or a vertex lies on it).
    """
    t, k = _find_side(a, b, tri, nbr, last)
    if t < 0:
        crossed = np.empty((4096, 2), np.int32)
        n = 0
        # First triangle at a whose far side is crossed.
        first = last[a]
        t = first
        found = False
        for _ in range(100000):
            j = 0
            for i in range(3):
                if tri[t, i] == a:
                    j = i
            c, d = tri[t, (j + 1) % 3], tri[t, (j + 2) % 3]
            oc = orient(pts[a, 0], pts[a, 1], pts[b, 0], pts[b, 1], pts[c, 0], pts[c, 1])
            od = orient(pts[a, 0], pts[a, 1], pts[b, 0], pts[b, 1], pts[d, 0], pts[d, 1])
            if oc < 0 and od > 0:
                found = True
                break
            t = nbr[t, (j + 1) % 3]
            if t < 0 or t == first:
                break
        if not found:
            return -1
        side = j
        while True:
            if con[t, side] or n >= len(crossed):
                return -1
            c, d = tri[t, (side + 1) % 3], tri[t, (side + 2) % 3]
            crossed[n, 0], crossed[n, 1] = c, d
            n += 1
            u = nbr[t, side]
            if u < 0:  # the way leads out of the square: places all but on one another have upset the triangles
                return -1
            m = 0
            for i in range(3):
                if nbr[u, i] == t:
                    m = i
            v = tri[u, m]
            if v == b:
                break
            ov = orient(pts[a, 0], pts[a, 1], pts[b, 0], pts[b, 1], pts[v, 0], pts[v, 1])
            if ov == 0:
                return -1
            # v right of a-b (below): the next crossed side runs from v to the upper vertex.
            t = u
            side = -1
            for i in range(3):
                p, q = tri[u, (i + 1) % 3], tri[u, (i + 2) % 3]
                if ov < 0 and p == v and (q == d):
                    side = i
                if ov > 0 and q == v and (p == c):
                    side = i
            if side < 0:
                return -1
        head, tail = 0, n
        queue = np.empty((200000, 2), np.int32)
        for i in range(n):
            queue[i] = crossed[i]
        while head < tail:
            c, d = queue[head]
            head += 1
            t, k = _find_side(c, d, tri, nbr, last)
            if t < 0:
                continue
            u = nbr[t, k]
            if u < 0:
                return -1
            m = 0
            for i in range(3):
                if nbr[u, i] == t:
                    m = i
            p, q = tri[t, k], tri[u, m]
            e, f = tri[t, (k + 1) % 3], tri[t, (k + 2) % 3]
            # Convex?
            if (
                orient(pts[p, 0], pts[p, 1], pts[e, 0], pts[e, 1], pts[q, 0], pts[q, 1]) > 0
                and orient(pts[p, 0], pts[p, 1], pts[q, 0], pts[q, 1], pts[f, 0], pts[f, 1]) > 0
            ):
                flip(t, k, tri, nbr, con, last)
                if p != a and p != b and q != a and q != b:
                    op = orient(pts[a, 0], pts[a, 1], pts[b, 0], pts[b, 1], pts[p, 0], pts[p, 1])
                    oq = orient(pts[a, 0], pts[a, 1], pts[b, 0], pts[b, 1], pts[q, 0], pts[q, 1])
                    if op * oq < 0:
                        if tail >= len(queue):
                            return -1
                        queue[tail, 0], queue[tail, 1] = p, q
                        tail += 1
            else:
                if tail >= len(queue):
                    return -1
                queue[tail, 0], queue[tail, 1] = c, d
                tail += 1
        t, k = _find_side(a, b, tri, nbr, last)
        if t < 0:
            return -1
    con[t, k] = True
    u = nbr[t, k]
    if u >= 0:
        for i in range(3):
            if nbr[u, i] == t:
                con[u, i] = True
    return 0


@kernel
def restore_delaunay(used, pts, tri, nbr, con, last):  # type: ignore[no-untyped-def]
    """Sweep Lawson flips over all sides until none improves."""
    for _ in range(50):
        changed = False
        for t in range(used):
            for k in range(3):
                u = nbr[t, k]
                if u < 0 or con[t, k]:
                    continue
                q = -1
                for i in range(3):
                    if nbr[u, i] == t:
                        q = tri[u, i]
                p, a, b = tri[t, k], tri[t, (k + 1) % 3], tri[t, (k + 2) % 3]
                if in_circle(pts[p, 0], pts[p, 1], pts[a, 0], pts[a, 1], pts[b, 0], pts[b, 1], pts[q, 0], pts[q, 1]) > 0:
                    flip(t, k, tri, nbr, con, last)
                    changed = True
                    break
        if not changed:
            return


@kernel
def mark_inside(used, nbr, con, inside, outer):  # type: ignore[no-untyped-def]
    """Flood from triangle `outer` (outside): crossing a border toggles inside and outside."""
    seen = np.zeros(used, np.bool_)
    stack = np.empty(3 * used + 8, np.int64)
    late = np.empty(3 * used + 8, np.int64)
    stack[0] = outer
    n, waiting = 1, 0
    state = False
    while n > 0:
        waiting = 0
        while n > 0:
            n -= 1
            t = stack[n]
            if seen[t]:
                continue
            seen[t] = True
            inside[t] = state
            for k in range(3):
                u = nbr[t, k]
                if u >= 0 and not seen[u]:
                    if con[t, k]:
                        late[waiting] = u
                        waiting += 1
                    else:
                        stack[n] = u
                        n += 1
        for i in range(waiting):
            if not seen[late[i]]:
                stack[n] = late[i]
                n += 1
        state = not state


@kernel
def triangulate(pts, n, segments, tri, nbr, con, last, inside):  # type: ignore[no-untyped-def]
    """Constrained triangulation of the first n points and border segments (s, 2).

    Returns (vertices used, triangles used); triangles used is −1 − i when border
    segment i cannot be kept and −1000000 − i when point i coincides with another.
    """
    top, used = start(pts, n, tri, nbr, con, last)
    stack = np.empty(10000, np.int64)
    t = 0
    for p in range(n):
        t = locate(pts[p, 0], pts[p, 1], t, pts, tri, nbr, con, False)
        if t < 0:
            return top, -1000000 - p
        more = insert(p, t, used, pts, tri, nbr, con, last, inside, stack)
        if more < 0:
            return top, -1000000 - p
        used = more
        t = last[p]
    for i in range(len(segments)):
        if constrain(segments[i, 0], segments[i, 1], pts, tri, nbr, con, last) < 0:
            return top, -1 - i
    restore_delaunay(used, pts, tri, nbr, con, last)
    mark_inside(used, nbr, con, inside, last[n])
    return top, used
