"""Metrics of trias and quads, compiled, one pass for all.

========================= =====================================================================
side ratio                longest over shortest side
skew (°)                  quads: 90° − smaller angle between the lines joining opposite side
                          middles; trias: 90° − least angle between a median and the line
                          joining the middles of the other two sides
warp (°)                  largest angle between the normals of the two trias a diagonal leaves
taper                     largest difference of a corner tria's area from their mean, over the mean
least, largest angle (°)  corner angles; re-entrant corners count beyond 180°
Jacobian ratio            largest over least corner Jacobian (0 when not all are positive)
scaled Jacobian           least corner Jacobian over the product of its sides; trias: 2/√3 · double
                          area over the largest product of two sides
shortest, longest side    in document units
========================= =====================================================================

Angles, side ratio and scaled Jacobian agree with the Verdict library (Stimpson et al.,
"The Verdict geometric quality library", SAND2007-1751).
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.kernels import kernel

METRICS = (
    "side_ratio",
    "skew",
    "warp",
    "taper",
    "least_angle",
    "largest_angle",
    "jacobian_ratio",
    "scaled_jacobian",
    "shortest",
    "longest",
)
SIDE_RATIO, SKEW, WARP, TAPER, LEAST_ANGLE, LARGEST_ANGLE, JACOBIAN_RATIO, SCALED_JACOBIAN, SHORTEST, LONGEST = range(10)
DEGREES = 180.0 / math.pi


@kernel
def _between(ax, ay, az, bx, by, bz):  # type: ignore[no-untyped-def]
    """Angle between two vectors in degrees."""
    cx, cy, cz = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
    return math.atan2(math.sqrt(cx * cx + cy * cy + cz * cz), ax * bx + ay * by + az * bz) * DEGREES


@kernel
def element_values(points, shells, e, out):  # type: ignore[no-untyped-def]
    """All metrics of shell row e into out (10,); warp and taper of trias are 0."""
    n = 3 if shells[e, 3] < 0 else 4
    sx, sy, sz, length = np.empty(4), np.empty(4), np.empty(4), np.empty(4)
    shortest, longest = np.inf, 0.0
    for k in range(n):
        a, b = shells[e, k], shells[e, (k + 1) % n]
        sx[k], sy[k], sz[k] = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
        length[k] = math.sqrt(sx[k] ** 2 + sy[k] ** 2 + sz[k] ** 2)
        shortest, longest = min(shortest, length[k]), max(longest, length[k])
    out[0] = longest / shortest if shortest > 0 else np.inf
    out[8], out[9] = shortest, longest
    if n == 3:
        nx, ny, nz = sy[0] * sz[1] - sz[0] * sy[1], sz[0] * sx[1] - sx[0] * sz[1], sx[0] * sy[1] - sy[0] * sx[1]
        double = math.sqrt(nx * nx + ny * ny + nz * nz)
        largest_product = max(length[0] * length[1], length[1] * length[2], length[2] * length[0])
        out[7] = double * 2.0 / math.sqrt(3.0) / largest_product if largest_product > 0 else 0.0
        out[6] = 1.0 if double > 0 else 0.0
        out[2], out[3] = 0.0, 0.0
        low, high, skew = 360.0, 0.0, 0.0
        for k in range(3):
            j = (k + 2) % 3
            angle = _between(sx[k], sy[k], sz[k], -sx[j], -sy[j], -sz[j])
            low, high = min(low, angle), max(high, angle)
            # Median from corner k against the line between the middles of the sides that meet there.
            mx, my, mz = (sx[k] - sx[j]) / 2, (sy[k] - sy[j]) / 2, (sz[k] - sz[j]) / 2
            gx, gy, gz = (sx[k] + sx[j]) / 2, (sy[k] + sy[j]) / 2, (sz[k] + sz[j]) / 2
            cross = _between(mx, my, mz, gx, gy, gz)
            skew = max(skew, 90.0 - min(cross, 180.0 - cross))
        out[1], out[4], out[5] = skew, low, high
        return
    # Lines between opposite side middles, and the normal they span.
    ux, uy, uz = sx[0] - sx[2], sy[0] - sy[2], sz[0] - sz[2]
    vx, vy, vz = sx[1] - sx[3], sy[1] - sy[3], sz[1] - sz[3]
    cross = _between(ux, uy, uz, vx, vy, vz)
    out[1] = 90.0 - min(cross, 180.0 - cross)
    nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    size = math.sqrt(nx * nx + ny * ny + nz * nz)
    if size > 0:
        nx, ny, nz = nx / size, ny / size, nz / size
    low, high, scaled, least_j, largest_j = 360.0, 0.0, 2.0, np.inf, -np.inf
    area = np.empty(4)
    for k in range(4):
        j = (k + 3) % 4
        angle = _between(sx[k], sy[k], sz[k], -sx[j], -sy[j], -sz[j])
        cx, cy, cz = sy[j] * sz[k] - sz[j] * sy[k], sz[j] * sx[k] - sx[j] * sz[k], sx[j] * sy[k] - sy[j] * sx[k]
        jacobian = nx * cx + ny * cy + nz * cz
        if jacobian < 0:
            angle = 360.0 - angle
        low, high = min(low, angle), max(high, angle)
        product = length[j] * length[k]
        scaled = min(scaled, jacobian / product if product > 0 else 0.0)
        least_j, largest_j = min(least_j, jacobian), max(largest_j, jacobian)
        area[k] = math.sqrt(cx * cx + cy * cy + cz * cz) / 2
    out[4], out[5], out[7] = low, high, scaled
    out[6] = largest_j / least_j if least_j > 0 else 0.0
    mean = (area[0] + area[1] + area[2] + area[3]) / 4
    worst = 0.0
    for k in range(4):
        worst = max(worst, abs(area[k] - mean))
    out[3] = worst / mean if mean > 0 else 1.0
    warp = 0.0
    for k in range(2):  # trias (k-1, k, k+1) and (k+1, k+2, k+3) share the other diagonal
        j, l, m = (k + 3) % 4, (k + 1) % 4, (k + 2) % 4
        ax, ay, az = sy[j] * sz[k] - sz[j] * sy[k], sz[j] * sx[k] - sx[j] * sz[k], sx[j] * sy[k] - sy[j] * sx[k]
        bx, by, bz = sy[l] * sz[m] - sz[l] * sy[m], sz[l] * sx[m] - sx[l] * sz[m], sx[l] * sy[m] - sy[l] * sx[m]
        warp = max(warp, _between(ax, ay, az, bx, by, bz))
    out[2] = warp


@kernel
def _all(points, shells, out):  # type: ignore[no-untyped-def]
    row = np.empty(10)
    for e in range(len(shells)):
        if shells[e, 0] < 0:
            out[e] = np.nan
        else:
            element_values(points, shells, e, row)
            out[e] = row


def shell_metrics(points: Floats, shells: NDArray[np.int32]) -> Floats:
    """Values (m, 10) in the order of `METRICS` for shell rows (m, 4); NaN rows where not a shell."""
    out = np.empty((len(shells), len(METRICS)))
    if len(shells):
        _all(np.ascontiguousarray(points, float), np.ascontiguousarray(shells, np.int32), out)
    return out
