"""Moving interior nodes of a flat mesh: guarded averaging, then descent on the corners' condition numbers."""

from __future__ import annotations

import math

import numpy as np

from kind_rivet.core.kernels import kernel
from kind_rivet.core.meshing.free.shapes2d import element_energy, element_slope, least_scaled_jacobian


@kernel
def node_energy(pts, v, el, inc, deg):  # type: ignore[no-untyped-def]
    """Sum of the squared element energies round node v: the worst element weighs most."""
    total = 0.0
    for i in range(deg[v]):
        e = element_energy(pts, el, inc[v, i])
        total += e * e
    return total


@kernel
def star_least(pts, v, el, inc, deg):  # type: ignore[no-untyped-def]
    """Least scaled Jacobian of the elements round node v."""
    least = 2.0
    for i in range(deg[v]):
        least = min(least, least_scaled_jacobian(pts, el, inc[v, i]))
    return least


@kernel
def relax(pts, v, el, inc, deg, average, share):  # type: ignore[no-untyped-def]
    """Move one node downhill in its energy, never uphill; returns its mean side length.

    First the mean of its neighbours (if `average`, or if something is inverted), then a
    line search along the steepest descent with steps from `share` of the side length.
    """
    x0, y0 = pts[v, 0], pts[v, 1]
    sx, sy, n, reach = 0.0, 0.0, 0, 0.0
    for i in range(deg[v]):
        e = inc[v, i]
        k = 3 if el[e, 3] < 0 else 4
        for j in range(k):
            if el[e, j] == v:
                w = el[e, (j + 1) % k]
                sx += pts[w, 0]
                sy += pts[w, 1]
                reach += math.sqrt((pts[w, 0] - x0) ** 2 + (pts[w, 1] - y0) ** 2)
                n += 1
    if n == 0:
        return 0.0
    reach /= n
    best = node_energy(pts, v, el, inc, deg)
    bx, by = x0, y0
    if average or best == np.inf:
        pts[v, 0], pts[v, 1] = sx / n, sy / n
        now = node_energy(pts, v, el, inc, deg)
        if now < best:
            best, bx, by = now, pts[v, 0], pts[v, 1]
        else:
            pts[v, 0], pts[v, 1] = bx, by
    if best == np.inf:  # something is turned over: climb the least Jacobian round the node instead
        least = star_least(pts, v, el, inc, deg)
        step = 0.35 * reach
        for _ in range(4):
            for q in range(8):
                a = q * (math.pi / 4)
                pts[v, 0], pts[v, 1] = bx + step * math.cos(a), by + step * math.sin(a)
                now = star_least(pts, v, el, inc, deg)
                if now > least:
                    least, x0, y0 = now, pts[v, 0], pts[v, 1]
            bx, by = x0, y0
            step *= 0.5
        pts[v, 0], pts[v, 1] = bx, by
        return reach
    for _ in range(2):
        gx, gy = 0.0, 0.0
        for i in range(deg[v]):
            e, ex, ey = element_slope(pts, el, inc[v, i], v)
            gx += 2 * e * ex
            gy += 2 * e * ey
        size = math.sqrt(gx * gx + gy * gy)
        if size * reach < 1e-4 * best:
            break
        step = share * reach
        gained = False
        for _ in range(5):
            pts[v, 0], pts[v, 1] = bx - step * gx / size, by - step * gy / size
            now = node_energy(pts, v, el, inc, deg)
            if now < best:
                best, bx, by = now, pts[v, 0], pts[v, 1]
                gained = True
                break
            step *= 0.3
        pts[v, 0], pts[v, 1] = bx, by
        if not gained:
            break
    return reach


@kernel
def smooth_awake(pts, el, inc, deg, free, order, rounds, sweep_average, awake):  # type: ignore[no-untyped-def]
    """As `smooth`, from the nodes that are `awake` (n,); leaves there those that still move."""
    for r in range(rounds):
        moved_any = False
        for idx in range(len(order)):
            v = order[idx]
            if not free[v] or deg[v] == 0 or not awake[v]:
                continue
            awake[v] = False
            x0, y0 = pts[v, 0], pts[v, 1]
            reach = relax(pts, v, el, inc, deg, r < sweep_average, 0.12 if r < 2 else 0.05)
            bx, by = pts[v, 0], pts[v, 1]
            if (bx - x0) ** 2 + (by - y0) ** 2 > (8e-3 * reach) ** 2:
                moved_any = True
                awake[v] = True
                for i in range(deg[v]):
                    e = el[inc[v, i]]
                    for j in range(4):
                        if e[j] >= 0:
                            awake[e[j]] = True
        if not moved_any:
            return


@kernel
def smooth(pts, el, inc, deg, free, order, rounds, sweep_average):  # type: ignore[no-untyped-def]
    """Improve the places of nodes marked `free` in place; nodes whose surroundings rest are skipped."""
    smooth_awake(pts, el, inc, deg, free, order, rounds, sweep_average, np.ones(len(pts), np.bool_))


@kernel
def node_strain(pts, v, el, inc, deg, weight):  # type: ignore[no-untyped-def]
    """Sum over the elements round node v of exp(−weight · least scaled Jacobian): next to nothing but the worst counts."""
    total = 0.0
    for i in range(deg[v]):
        total += math.exp(-weight * least_scaled_jacobian(pts, el, inc[v, i]))
    return total


@kernel
def lift_worst(pts, el, inc, deg, free, good, span, weight, rounds):  # type: ignore[no-untyped-def]
    """Raise the worst elements in place, those within `span` of the worst and below `good`, by moving the free nodes on and next to them."""
    worst = 2.0
    for e in range(len(el)):
        if el[e, 0] >= 0:
            worst = min(worst, least_scaled_jacobian(pts, el, e))
    top = min(good, worst + span)
    near = np.zeros(len(pts), np.bool_)
    for e in range(len(el)):
        if el[e, 0] < 0 or least_scaled_jacobian(pts, el, e) >= top:
            continue
        for j in range(4):
            v = el[e, j]
            if v < 0:
                continue
            for i in range(deg[v]):
                for m in range(4):
                    if el[inc[v, i], m] >= 0:
                        near[el[inc[v, i], m]] = True
    for _ in range(rounds):
        gained = False
        for v in range(len(pts)):
            if not near[v] or not free[v] or deg[v] == 0:
                continue
            reach = 0.0  # about a side's length
            for i in range(deg[v]):
                e = inc[v, i]
                w = el[e, 0] if el[e, 0] != v else el[e, 1]
                reach += math.sqrt((pts[w, 0] - pts[v, 0]) ** 2 + (pts[w, 1] - pts[v, 1]) ** 2)
            reach /= deg[v]
            bx, by = pts[v, 0], pts[v, 1]
            best = node_strain(pts, v, el, inc, deg, weight)
            before = best
            step = 0.1 * reach
            for _ in range(4):
                x, y = bx, by
                for q in range(8):
                    a = q * (math.pi / 4)
                    pts[v, 0], pts[v, 1] = x + step * math.cos(a), y + step * math.sin(a)
                    now = node_strain(pts, v, el, inc, deg, weight)
                    if now < best:
                        best, bx, by = now, pts[v, 0], pts[v, 1]
                step *= 0.5
            pts[v, 0], pts[v, 1] = bx, by
            gained = gained or best < 0.999 * before
        if not gained:
            return
