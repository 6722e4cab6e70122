"""Cylinders and cones through points that lie on them, however coarse the facets between them are."""

from __future__ import annotations

import numpy as np
import scipy

from kind_rivet.core.geometry.carriers import FREE, Carrier, Floats, circle_in_plane, frame, unit

MOST = 1500  # points that are fitted; all are then checked
THIN = 0.02  # share of the normals' spread along the axis up to which a fit is tried
EXACT = 2e-5  # of the reach: how far a point may lie off
STRAIGHT = 1e-6  # slope below which a cone is a cylinder


def fit_round(points: Floats, normals: Floats) -> Carrier:
    """The cylinder or cone that points (n, 3) lie on; `normals` (m, 3) of the facets between them tell the axis roughly. Else `FREE`.

    Least squares of the distances ((|q| − r − s h) cos atan s), q across and h along the axis.
    """
    if len(points) < 9:
        return FREE
    centre = points.mean(axis=0)
    reach = float(np.linalg.norm(np.ptp(points, axis=0)))
    away = normals - normals.mean(axis=0)
    values, axes = np.linalg.eigh(away.T @ away)
    if reach <= 0 or values[1] <= 0 or values[0] > THIN * values[2]:
        return FREE
    axis = axes[:, 0]
    slope = float(np.clip(-normals.mean(axis=0) @ axis, -0.95, 0.95))
    u, v = frame(axis)
    p = (points - centre) / reach
    some = p[:: max(1, len(p) // MOST)]
    circle = circle_in_plane(np.column_stack((some @ u, some @ v)))
    if circle is None:
        return FREE
    middle, radius = circle

    def off(x: Floats, at: Floats) -> Floats:
        a = unit(axis + x[0] * u + x[1] * v)
        q = at - (x[2] * u + x[3] * v)
        h = q @ a
        return np.asarray((np.linalg.norm(q - h[:, None] * a, axis=1) - x[4] - x[5] * h) / np.sqrt(1 + x[5] ** 2))

    best = FREE
    closest = EXACT
    for start in (0.0, slope, -slope):  # the normals do not tell to which side the cone opens
        found = scipy.optimize.least_squares(off, [0.0, 0.0, *middle, radius, start], args=(some,), method="trf", max_nfev=60)
        x = found.x
        worst = float(np.abs(off(x, p)).max())
        if worst < closest and abs(x[5]) < 50:
            closest, best = worst, _carrier(x, axis, u, v, centre, reach)
        if closest < 1e-3 * EXACT:
            break
    return best


def _carrier(x: Floats, axis: Floats, u: Floats, v: Floats, centre: Floats, reach: float) -> Carrier:
    a = unit(axis + x[0] * u + x[1] * v)
    base = centre + reach * (x[2] * u + x[3] * v)
    if abs(x[5]) < STRAIGHT:
        return Carrier("cylinder", (*base, *a, abs(x[4]) * reach))
    apex = base - reach * x[4] / x[5] * a
    return Carrier("cone", (*apex, *(np.sign(x[5]) * a), float(np.arctan(abs(x[5])))))
