"""Charts for freely curved walls that close round an axis, as lofts between two circles or squares do: drawn on as on a cone or cylinder."""

from __future__ import annotations

from typing import cast

import numpy as np

from kind_rivet.core.geometry.carriers import Carrier, Floats, unit
from kind_rivet.core.midsurface.charts import Chart, ConeChart, CylinderChart

OUTWARD = 0.25  # least cosine between the wall's normal and what leads away from the axis, up to which places are clear
STRAIGHT = 0.02  # change of radius per length up to which a tube is drawn on as on a cylinder
STEPS = 4


def tube_chart(points: Floats, normals: Floats) -> Chart | None:
    """A chart round the axis of a tube with these points (n, 3) and unit normals (n, 3); None where some of it looks past the axis.

    The axis is the direction along which normals vary least, then the line that comes nearest to all normals, its foot moving evenly.
    """
    if len(points) < 12:
        return None
    _, axes = np.linalg.eigh(np.cov(normals.T))
    axis, centre = axes[:, 0], points.mean(axis=0)
    for _ in range(STEPS):
        q = points - centre
        height = q @ axis
        across = normals - (normals @ axis)[:, None] * axis
        side = np.cross(axis, across)  # (q − c0 − h c1) · side = 0 where a normal meets the axis
        table = np.hstack((side, height[:, None] * side))
        found = np.linalg.lstsq(table, np.einsum("ij,ij->i", q, side), rcond=1e-9)[0]
        centre, axis = centre + found[:3], unit((axis + found[3:])[None])[0]
    q = points - centre
    height = q @ axis
    out = q - height[:, None] * axis
    radius = np.linalg.norm(out, axis=1)
    if radius.min() <= 0:
        return None
    away = np.einsum("ij,ij->i", out / radius[:, None], normals)
    if (away * np.sign(np.median(away))).min() < OUTWARD:
        return None
    slope, base = np.polyfit(height, radius, 1)
    if abs(slope) < STRAIGHT:
        return cast(Chart, CylinderChart.over(Carrier("cylinder", (*centre, *axis, float(radius.mean()))), points))
    cone = Carrier("cone", (*(centre - base / slope * axis), *(np.sign(slope) * axis), float(np.arctan(abs(slope)))))
    return cast(Chart, ConeChart.over(cone, points))
