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
def _side(points, a, b):  # type: ignore[no-untyped-def]
    """From node a to node b."""
    return points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]


@kernel
def _cross(u, w):  # type: ignore[no-untyped-def]
    return u[1] * w[2] - u[2] * w[1], u[2] * w[0] - u[0] * w[2], u[0] * w[1] - u[1] * w[0]


@kernel
def _dot(u, w):  # type: ignore[no-untyped-def]
    return u[0] * w[0] + u[1] * w[1] + u[2] * w[2]


@kernel
def _length(u):  # type: ignore[no-untyped-def]
    return math.sqrt(u[0] * u[0] + u[1] * u[1] + u[2] * u[2])


@kernel
def _between(u, w):  # type: ignore[no-untyped-def]
    """Angle between two vectors in degrees."""
    return math.atan2(_length(_cross(u, w)), _dot(u, w)) * DEGREES


@kernel
def _lean(u, w):  # type: ignore[no-untyped-def]
    """90° less the smaller angle between two lines."""
    cross = _between(u, w)
    return 90.0 - min(cross, 180.0 - cross)


@kernel
def _corner(come, go, normal):  # type: ignore[no-untyped-def]
    """Jacobian against a unit normal, the angle as a place (x, y) in its direction, and the normal, as long as twice
    the corner's tria, between two sides one after the other."""
    across = _cross(come, go)
    return _dot(normal, across), (-_dot(go, come), _length(across)), across


@kernel
def _angle(at):  # type: ignore[no-untyped-def]
    """The angle (°) in whose direction a place lies."""
    return math.atan2(at[1], at[0]) * DEGREES


@kernel
def _least(a, b):  # type: ignore[no-untyped-def]
    """The place at the smaller of two angles between 0 and 180°."""
    return b if b[1] * a[0] < a[1] * b[0] else a


@kernel
def _largest(a, b):  # type: ignore[no-untyped-def]
    """The place at the larger of two angles between 0 and 180°."""
    return b if a[1] * b[0] < b[1] * a[0] else a


@kernel
def _least_and_largest(at0, at1, at2, at3, j0, j1, j2, j3):  # type: ignore[no-untyped-def]
    """Least and largest corner angle (°); corners of negative Jacobian are re-entrant.

    Arcs are slow to take: angles are compared by the places in their directions, unless they are past 180° or none.
    """
    if min(j0, j1, j2, j3) >= 0 and min(at0[1], at1[1], at2[1], at3[1]) > 0:
        return _angle(_least(_least(at0, at1), _least(at2, at3))), _angle(_largest(_largest(at0, at1), _largest(at2, at3)))
    a0, a1, a2, a3 = _angle(at0), _angle(at1), _angle(at2), _angle(at3)
    a0, a1 = 360.0 - a0 if j0 < 0 else a0, 360.0 - a1 if j1 < 0 else a1
    a2, a3 = 360.0 - a2 if j2 < 0 else a2, 360.0 - a3 if j3 < 0 else a3
    return min(a0, a1, a2, a3), max(a0, a1, a2, a3)


@kernel
def _larger_between(a, b, c, d):  # type: ignore[no-untyped-def]
    """The larger (°) of the angles between vectors a and b, c and d."""
    one, other = (_dot(a, b), _length(_cross(a, b))), (_dot(c, d), _length(_cross(c, d)))
    if one[0] > 0 and other[0] > 0:
        return _angle(_largest(one, other))
    return max(_angle(one), _angle(other))


@kernel
def _tria_corner(come, go):  # type: ignore[no-untyped-def]
    """Angle (°) of a tria's corner, and how its median leans on the line between the middles of the sides that meet there."""
    median = ((go[0] - come[0]) / 2, (go[1] - come[1]) / 2, (go[2] - come[2]) / 2)
    middles = ((go[0] + come[0]) / 2, (go[1] + come[1]) / 2, (go[2] + come[2]) / 2)
    return _between(go, (-come[0], -come[1], -come[2])), _lean(median, middles)


@kernel
def element_values(points, shells, e, out):  # type: ignore[no-untyped-def]
    """All metrics of shell row e into out (10,); warp and taper of trias are 0."""
    if shells[e, 3] < 0:
        _tria_values(points, shells[e, 0], shells[e, 1], shells[e, 2], out)
    else:
        _quad_values(points, shells[e, 0], shells[e, 1], shells[e, 2], shells[e, 3], out)


@kernel
def _tria_values(points, a, b, c, out):  # type: ignore[no-untyped-def]
    s0, s1, s2 = _side(points, a, b), _side(points, b, c), _side(points, c, a)
    l0, l1, l2 = _length(s0), _length(s1), _length(s2)
    shortest, longest = min(l0, l1, l2), max(l0, l1, l2)
    double = _length(_cross(s0, s1))
    largest_product = max(l0 * l1, l1 * l2, l2 * l0)
    angle0, skew0 = _tria_corner(s2, s0)
    angle1, skew1 = _tria_corner(s0, s1)
    angle2, skew2 = _tria_corner(s1, s2)
    out[0] = longest / shortest if shortest > 0 else np.inf
    out[1], out[2], out[3] = max(skew0, skew1, skew2, 0.0), 0.0, 0.0
    out[4], out[5] = min(angle0, angle1, angle2), max(angle0, angle1, angle2)
    out[6] = 1.0 if double > 0 else 0.0
    out[7] = double * 2.0 / math.sqrt(3.0) / largest_product if largest_product > 0 else 0.0
    out[8], out[9] = shortest, longest


@kernel
def _quad_values(points, a, b, c, d, out):  # type: ignore[no-untyped-def]
    s0, s1, s2, s3 = _side(points, a, b), _side(points, b, c), _side(points, c, d), _side(points, d, a)
    l0, l1, l2, l3 = _length(s0), _length(s1), _length(s2), _length(s3)
    shortest, longest = min(l0, l1, l2, l3), max(l0, l1, l2, l3)
    # Lines between opposite side middles, and the normal they span.
    u, v = (s0[0] - s2[0], s0[1] - s2[1], s0[2] - s2[2]), (s1[0] - s3[0], s1[1] - s3[1], s1[2] - s3[2])
    normal = _cross(u, v)
    size = _length(normal)
    if size > 0:
        normal = (normal[0] / size, normal[1] / size, normal[2] / size)
    j0, at0, n0 = _corner(s3, s0, normal)
    j1, at1, n1 = _corner(s0, s1, normal)
    j2, at2, n2 = _corner(s1, s2, normal)
    j3, at3, n3 = _corner(s2, s3, normal)
    p0, p1, p2, p3 = l3 * l0, l0 * l1, l1 * l2, l2 * l3
    scaled = min(j0 / p0 if p0 > 0 else 0.0, j1 / p1 if p1 > 0 else 0.0, j2 / p2 if p2 > 0 else 0.0, j3 / p3 if p3 > 0 else 0.0)
    least, largest = min(j0, j1, j2, j3), max(j0, j1, j2, j3)
    area0, area1, area2, area3 = at0[1] / 2, at1[1] / 2, at2[1] / 2, at3[1] / 2
    mean = (area0 + area1 + area2 + area3) / 4
    taper = max(abs(area0 - mean), abs(area1 - mean), abs(area2 - mean), abs(area3 - mean))
    out[0] = longest / shortest if shortest > 0 else np.inf
    out[1] = _lean(u, v)
    out[2] = _larger_between(n0, n2, n1, n3)  # each two trias share a diagonal
    out[3] = taper / mean if mean > 0 else 1.0
    out[4], out[5] = _least_and_largest(at0, at1, at2, at3, j0, j1, j2, j3)
    out[6] = largest / least if least > 0 else 0.0
    out[7], out[8], out[9] = scaled, shortest, longest


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
