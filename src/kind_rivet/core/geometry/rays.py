"""A bounding-volume tree over facets: rays and nearest points, compiled.

Nodes are stored depth first: `low`, `high` (k, 3) boxes, `start`, `count` the facets
of a leaf (count > 0) or `start` the right child of an inner node (count = 0; the left
child follows its parent).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.kernels import kernel

Ints = NDArray[np.int32]
LEAF = 6


@kernel
def _build(centre, low_f, high_f, order, low, high, start, count):  # type: ignore[no-untyped-def]
    stack = np.empty((128, 3), np.int64)
    stack[0] = (0, len(order), -1)
    depth, used = 1, 0
    while depth > 0:
        depth -= 1
        a, b, parent = stack[depth]
        me = used
        used += 1
        if parent >= 0:
            start[parent] = me
        lo = np.full(3, np.inf)
        hi = np.full(3, -np.inf)
        clo = np.full(3, np.inf)
        chi = np.full(3, -np.inf)
        for i in range(a, b):
            f = order[i]
            for k in range(3):
                lo[k] = min(lo[k], low_f[f, k])
                hi[k] = max(hi[k], high_f[f, k])
                clo[k] = min(clo[k], centre[f, k])
                chi[k] = max(chi[k], centre[f, k])
        low[me] = lo
        high[me] = hi
        if b - a <= LEAF:
            start[me] = a
            count[me] = b - a
            continue
        axis = 0
        for k in range(1, 3):
            if chi[k] - clo[k] > chi[axis] - clo[axis]:
                axis = k
        part = order[a:b].copy()
        keys = np.empty(b - a)
        for i in range(b - a):
            keys[i] = centre[part[i], axis]
        rank = np.argsort(keys, kind="mergesort")
        for i in range(b - a):
            order[a + i] = part[rank[i]]
        middle = (a + b) // 2
        count[me] = 0
        stack[depth] = (middle, b, me)
        stack[depth + 1] = (a, middle, -1)
        depth += 2
    return used


@kernel
def _cast(origins, directions, least, reach, points, facets, order, low, high, start, count):  # type: ignore[no-untyped-def]
    n = len(origins)
    hit = np.full(n, -1, np.int32)
    far = np.empty(n)
    stack = np.empty(128, np.int64)
    for r in range(n):
        o, d = origins[r], directions[r]
        best = reach[r]
        inv = np.empty(3)
        for k in range(3):
            inv[k] = 1.0 / d[k] if abs(d[k]) > 1e-300 else 1e300
        stack[0] = 0
        depth = 1
        while depth > 0:
            depth -= 1
            me = stack[depth]
            t0, t1 = least, best
            for k in range(3):
                ta = (low[me, k] - o[k]) * inv[k]
                tb = (high[me, k] - o[k]) * inv[k]
                if ta > tb:
                    ta, tb = tb, ta
                t0 = max(t0, ta)
                t1 = min(t1, tb)
            if t0 > t1 + 1e-12 * (1.0 + abs(t1)):
                continue
            if count[me] == 0:
                stack[depth] = start[me]
                stack[depth + 1] = me + 1
                depth += 2
                continue
            for i in range(start[me], start[me] + count[me]):
                f = order[i]
                a, b, c = points[facets[f, 0]], points[facets[f, 1]], points[facets[f, 2]]
                e1x, e1y, e1z = b[0] - a[0], b[1] - a[1], b[2] - a[2]
                e2x, e2y, e2z = c[0] - a[0], c[1] - a[1], c[2] - a[2]
                px, py, pz = d[1] * e2z - d[2] * e2y, d[2] * e2x - d[0] * e2z, d[0] * e2y - d[1] * e2x
                det = e1x * px + e1y * py + e1z * pz
                if det == 0.0:
                    continue
                sx, sy, sz = o[0] - a[0], o[1] - a[1], o[2] - a[2]
                u = (sx * px + sy * py + sz * pz) / det
                if u < -1e-9 or u > 1.0 + 1e-9:
                    continue
                qx, qy, qz = sy * e1z - sz * e1y, sz * e1x - sx * e1z, sx * e1y - sy * e1x
                v = (d[0] * qx + d[1] * qy + d[2] * qz) / det
                if v < -1e-9 or u + v > 1.0 + 1e-9:
                    continue
                t = (e2x * qx + e2y * qy + e2z * qz) / det
                if least < t < best:
                    best = t
                    hit[r] = f
        far[r] = best if hit[r] >= 0 else np.inf
    return far, hit


@kernel
def _closest(px, py, pz, ax, ay, az, bx, by, bz, cx, cy, cz):  # type: ignore[no-untyped-def]
    """Barycentric weights of the point of triangle abc nearest to p (Ericson, Real-Time Collision Detection, 5.1.5)."""
    abx, aby, abz = bx - ax, by - ay, bz - az
    acx, acy, acz = cx - ax, cy - ay, cz - az
    apx, apy, apz = px - ax, py - ay, pz - az
    d1 = abx * apx + aby * apy + abz * apz
    d2 = acx * apx + acy * apy + acz * apz
    if d1 <= 0 and d2 <= 0:
        return 1.0, 0.0, 0.0
    bpx, bpy, bpz = px - bx, py - by, pz - bz
    d3 = abx * bpx + aby * bpy + abz * bpz
    d4 = acx * bpx + acy * bpy + acz * bpz
    if d3 >= 0 and d4 <= d3:
        return 0.0, 1.0, 0.0
    vc = d1 * d4 - d3 * d2
    if vc <= 0 and d1 >= 0 and d3 <= 0:
        v = d1 / (d1 - d3)
        return 1.0 - v, v, 0.0
    cpx, cpy, cpz = px - cx, py - cy, pz - cz
    d5 = abx * cpx + aby * cpy + abz * cpz
    d6 = acx * cpx + acy * cpy + acz * cpz
    if d6 >= 0 and d5 <= d6:
        return 0.0, 0.0, 1.0
    vb = d5 * d2 - d1 * d6
    if vb <= 0 and d2 >= 0 and d6 <= 0:
        w = d2 / (d2 - d6)
        return 1.0 - w, 0.0, w
    va = d3 * d6 - d5 * d4
    if va <= 0 and d4 - d3 >= 0 and d5 - d6 >= 0:
        w = (d4 - d3) / ((d4 - d3) + (d5 - d6))
        return 0.0, 1.0 - w, w
    s = va + vb + vc
    if s <= 0:
        return 1.0, 0.0, 0.0
    return va / s, vb / s, vc / s


@kernel
def _box_gap(low, high, k, x, y, z):  # type: ignore[no-untyped-def]
    """Squared distance of a point from box k."""
    dx = max(low[k, 0] - x, x - high[k, 0], 0.0)
    dy = max(low[k, 1] - y, y - high[k, 1], 0.0)
    dz = max(low[k, 2] - z, z - high[k, 2], 0.0)
    return dx * dx + dy * dy + dz * dz


@kernel
def _nearest(queries, points, facets, order, low, high, start, count):  # type: ignore[no-untyped-def]
    n = len(queries)
    found = np.full(n, -1, np.int32)
    weights = np.zeros((n, 3))
    squared = np.full(n, np.inf)
    stack = np.empty(128, np.int64)
    for r in range(n):
        qx, qy, qz = queries[r, 0], queries[r, 1], queries[r, 2]
        best = np.inf
        stack[0] = 0
        depth = 1
        while depth > 0:
            depth -= 1
            me = stack[depth]
            if _box_gap(low, high, me, qx, qy, qz) >= best:
                continue
            if count[me] == 0:
                left, right = me + 1, start[me]
                if _box_gap(low, high, left, qx, qy, qz) < _box_gap(low, high, right, qx, qy, qz):
                    left, right = right, left  # the nearer child is looked at first
                stack[depth] = left
                stack[depth + 1] = right
                depth += 2
                continue
            for i in range(start[me], start[me] + count[me]):
                f = order[i]
                ia, ib, ic = facets[f, 0], facets[f, 1], facets[f, 2]
                ax, ay, az = points[ia, 0], points[ia, 1], points[ia, 2]
                bx, by, bz = points[ib, 0], points[ib, 1], points[ib, 2]
                cx, cy, cz = points[ic, 0], points[ic, 1], points[ic, 2]
                wa, wb, wc = _closest(qx, qy, qz, ax, ay, az, bx, by, bz, cx, cy, cz)
                away = (
                    (wa * ax + wb * bx + wc * cx - qx) ** 2
                    + (wa * ay + wb * by + wc * cy - qy) ** 2
                    + (wa * az + wb * bz + wc * cz - qz) ** 2
                )
                if away < best:
                    best = away
                    found[r] = f
                    weights[r, 0], weights[r, 1], weights[r, 2] = wa, wb, wc
        squared[r] = best
    return found, weights, np.sqrt(squared)


@dataclass(frozen=True)
class FacetTree:
    """Bounding-volume tree over facets (m, 3) of points (n, 3)."""

    points: Floats
    facets: Ints
    order: Ints
    low: Floats
    high: Floats
    start: Ints
    count: Ints

    @staticmethod
    def over(points: Floats, facets: Ints) -> FacetTree:
        m = len(facets)
        corners = points[facets]
        low_f, high_f = corners.min(axis=1), corners.max(axis=1)
        order = np.arange(m, dtype=np.int32)
        low, high = np.empty((2 * m + 1, 3)), np.empty((2 * m + 1, 3))
        start, count = np.zeros(2 * m + 1, np.int32), np.zeros(2 * m + 1, np.int32)
        used = _build((low_f + high_f) / 2, low_f, high_f, order, low, high, start, count) if m else 0
        return FacetTree(
            np.ascontiguousarray(points, float),
            np.ascontiguousarray(facets, np.int32),
            order,
            low[:used],
            high[:used],
            start[:used],
            count[:used],
        )

    def cast(self, origins: Floats, directions: Floats, least: float = 0.0, reach: float | Floats = np.inf) -> tuple[Floats, Ints]:
        """Distance (n,) to the first facet beyond `least` along each ray (inf if none) and its number (−1 if none)."""
        limit = np.broadcast_to(np.asarray(reach, float), len(origins)).copy()
        if not len(self.facets):
            return np.full(len(origins), np.inf), np.full(len(origins), -1, np.int32)
        return _cast(
            np.ascontiguousarray(origins, float),
            np.ascontiguousarray(directions, float),
            float(least),
            limit,
            self.points,
            self.facets,
            self.order,
            self.low,
            self.high,
            self.start,
            self.count,
        )

    def nearest(self, queries: Floats) -> tuple[Ints, Floats, Floats]:
        """Nearest facet (n,), its barycentric weights (n, 3) and the distance (n,)."""
        return _nearest(
            np.ascontiguousarray(queries, float), self.points, self.facets, self.order, self.low, self.high, self.start, self.count
        )
