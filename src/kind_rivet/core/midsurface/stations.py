"""Where places lie along a line, and how far from it."""

from __future__ import annotations

import numpy as np

from kind_rivet.core.geometry.carriers import Floats, arc_lengths
from kind_rivet.core.kernels import kernel

TIE = 1e-15  # a later segment must be nearer by this


def stations(line: Floats, points: Floats, common: Floats) -> Floats:
    """Arc length along `common` (n, 3) of the places nearest to `points` (k, 3) on a polyline (n, 3) that follows it point by point.

    It runs on straight beyond its ends, unless it is closed. Returns (k,).
    """
    closed = bool(np.allclose(line[0], line[-1], rtol=0, atol=1e-12 + 1e-9 * float(np.ptp(line))))
    out = np.empty(len(points))
    _nearest(np.ascontiguousarray(line), arc_lengths(common), np.ascontiguousarray(points), closed, TIE, out)
    return out


def away_from(points: Floats, line: Floats) -> Floats:
    """Distance (n,) of points (n, 3) from a polyline (k, 3); infinite when it has no segment."""
    out = np.empty(len(points))
    _away(np.ascontiguousarray(points, float), np.ascontiguousarray(line, float), out)
    return out


@kernel
def _away(points, line, out):  # type: ignore[no-untyped-def]
    for p in range(len(points)):
        least = np.inf
        for k in range(len(line) - 1):
            dx, dy, dz = line[k + 1, 0] - line[k, 0], line[k + 1, 1] - line[k, 1], line[k + 1, 2] - line[k, 2]
            ax, ay, az = points[p, 0] - line[k, 0], points[p, 1] - line[k, 1], points[p, 2] - line[k, 2]
            t = min(max((ax * dx + ay * dy + az * dz) / max(dx * dx + dy * dy + dz * dz, 1e-300), 0.0), 1.0)
            least = min(least, (ax - t * dx) ** 2 + (ay - t * dy) ** 2 + (az - t * dz) ** 2)
        out[p] = np.sqrt(least)


@kernel
def _nearest(line, passed, points, closed, tie, out):  # type: ignore[no-untyped-def]
    last = len(line) - 2
    for p in range(len(points)):
        px, py, pz = points[p, 0], points[p, 1], points[p, 2]
        best = np.inf
        for k in range(last + 1):
            dx, dy, dz = line[k + 1, 0] - line[k, 0], line[k + 1, 1] - line[k, 1], line[k + 1, 2] - line[k, 2]
            ax, ay, az = px - line[k, 0], py - line[k, 1], pz - line[k, 2]
            t = (ax * dx + ay * dy + az * dz) / max(dx * dx + dy * dy + dz * dz, 1e-300)
            if t < 0.0 and (k > 0 or closed):
                t = 0.0
            if t > 1.0 and (k < last or closed):
                t = 1.0
            away = np.sqrt((ax - t * dx) ** 2 + (ay - t * dy) ** 2 + (az - t * dz) ** 2)
            if away < best - tie:
                best = away
                out[p] = passed[k] + t * (passed[k + 1] - passed[k])
