"""Quality of flat elements and of the corner they make at a node, compiled."""

from __future__ import annotations

import math

import numpy as np

from kind_rivet.core.kernels import kernel

ROOT3 = 1.7320508075688772


@kernel
def quad_angle_score(pts, a, b, c, d):  # type: ignore[no-untyped-def]
    """1 for a rectangle, 0 when an angle is 0° or 180°, negative when not convex: 1 − worst |90° − angle| / 90°."""
    worst = 1.0
    ring = (a, b, c, d)
    for k in range(4):
        p, q, r = ring[(k + 3) % 4], ring[k], ring[(k + 1) % 4]
        ux, uy = pts[r, 0] - pts[q, 0], pts[r, 1] - pts[q, 1]
        vx, vy = pts[p, 0] - pts[q, 0], pts[p, 1] - pts[q, 1]
        angle = math.atan2(ux * vy - uy * vx, ux * vx + uy * vy)
        if angle < 0:
            angle += 2 * math.pi
        worst = min(worst, 1.0 - abs(angle - math.pi / 2) / (math.pi / 2))
    return worst


@kernel
def corner_energy(px, py, qx, qy, rx, ry, tria):  # type: ignore[no-untyped-def]
    """Squared condition number of the corner at q between the sides to r and p (1 when ideal, inf when flat).

    Quads: sides equal and square; trias: equilateral. After Knupp, "Algebraic mesh quality metrics" (2001).
    """
    ux, uy = rx - qx, ry - qy
    vx, vy = px - qx, py - qy
    det = ux * vy - uy * vx
    if det <= 0:
        return np.inf
    u2, v2 = ux * ux + uy * uy, vx * vx + vy * vy
    k = (2.0 * (u2 + v2 - (ux * vx + uy * vy))) / (ROOT3 * det) / 2.0 if tria else (u2 + v2) / (2.0 * det)
    return k * k


@kernel
def element_energy(pts, el, e):  # type: ignore[no-untyped-def]
    """Mean corner energy of element e (el[e, 3] < 0: tria); inf when inverted."""
    if el[e, 3] < 0:
        p, q, r = el[e, 2], el[e, 0], el[e, 1]
        return corner_energy(pts[p, 0], pts[p, 1], pts[q, 0], pts[q, 1], pts[r, 0], pts[r, 1], True)
    total = 0.0
    for k in range(4):
        p, q, r = el[e, (k + 3) % 4], el[e, k], el[e, (k + 1) % 4]
        total += corner_energy(pts[p, 0], pts[p, 1], pts[q, 0], pts[q, 1], pts[r, 0], pts[r, 1], False)
    return total / 4


@kernel
def element_slope(pts, el, e, v):  # type: ignore[no-untyped-def]
    """Energy of element e and its derivative by the place of its node v: (energy, gx, gy)."""
    tria = el[e, 3] < 0
    n = 3 if tria else 4
    total, gx, gy = 0.0, 0.0, 0.0
    for k in range(n):
        p, q, r = el[e, (k + n - 1) % n], el[e, k], el[e, (k + 1) % n]
        if tria and q != v:
            continue
        ux, uy = pts[r, 0] - pts[q, 0], pts[r, 1] - pts[q, 1]
        wx, wy = pts[p, 0] - pts[q, 0], pts[p, 1] - pts[q, 1]
        det = ux * wy - uy * wx
        if det <= 0:
            return np.inf, 0.0, 0.0
        if tria:
            size = (ux * ux + uy * uy + wx * wx + wy * wy - ux * wx - uy * wy) * (2.0 / ROOT3)
            sx, sy = -(ux + wx) * (2.0 / ROOT3), -(uy + wy) * (2.0 / ROOT3)
        else:
            size = ux * ux + uy * uy + wx * wx + wy * wy
            sx, sy = 0.0, 0.0
            if q == v:
                sx, sy = -2 * (ux + wx), -2 * (uy + wy)
            elif r == v:
                sx, sy = 2 * ux, 2 * uy
            elif p == v:
                sx, sy = 2 * wx, 2 * wy
        dx, dy = 0.0, 0.0
        if q == v:
            dx, dy = uy - wy, wx - ux
        elif r == v:
            dx, dy = wy, -wx
        elif p == v:
            dx, dy = -uy, ux
        kappa = size / (2 * det)
        total += kappa * kappa
        gx += 2 * kappa * (sx / (2 * det) - kappa * dx / det)
        gy += 2 * kappa * (sy / (2 * det) - kappa * dy / det)
    share = 1.0 if tria else 4.0
    return total / share, gx / share, gy / share


@kernel
def least_scaled_jacobian(pts, el, e):  # type: ignore[no-untyped-def]
    """Least corner Jacobian over the product of its sides (trias scaled so that 60° gives 1)."""
    n = 3 if el[e, 3] < 0 else 4
    worst = 2.0
    for k in range(n):
        p, q, r = el[e, (k + n - 1) % n], el[e, k], el[e, (k + 1) % n]
        ux, uy = pts[r, 0] - pts[q, 0], pts[r, 1] - pts[q, 1]
        vx, vy = pts[p, 0] - pts[q, 0], pts[p, 1] - pts[q, 1]
        size = math.sqrt((ux * ux + uy * uy) * (vx * vx + vy * vy)) + 1e-300
        worst = min(worst, (ux * vy - uy * vx) / size * (2.0 / ROOT3 if n == 3 else 1.0))
    return worst


@kernel
def shortest_made(pts, el, e, given):  # type: ignore[no-untyped-def]
    """Length of the shortest side of an element of which an end at least is not one of the first `given` points."""
    least = np.inf
    n = 3 if el[e, 3] < 0 else 4
    for k in range(n):
        p, q = el[e, k], el[e, (k + 1) % n]
        if p >= given or q >= given:
            least = min(least, math.sqrt((pts[p, 0] - pts[q, 0]) ** 2 + (pts[p, 1] - pts[q, 1]) ** 2))
    return least


@kernel
def sized_score(pts, el, e, size):  # type: ignore[no-untyped-def]
    """Least of scaled Jacobian, 3 / squared condition number and 1.22 sizes over the longest side: 0.66 is about where elements fail."""
    low = least_scaled_jacobian(pts, el, e)
    if low <= 0.0:
        return low
    low = min(low, 3.0 / element_energy(pts, el, e))
    n = 3 if el[e, 3] < 0 else 4
    for k in range(n):
        p, q = el[e, k], el[e, (k + 1) % n]
        longest = math.sqrt((pts[p, 0] - pts[q, 0]) ** 2 + (pts[p, 1] - pts[q, 1]) ** 2)
        low = min(low, 1.22 * size / (longest + 1e-300))
    return low
