"""Charts for freely curved walls that close round an axis, as lofts between two circles or squares do: drawn on as on a cone or cylinder."""

from __future__ import annotations

from typing import cast

import numpy as np

from kind_rivet.core.geometry.carriers import Carrier, Floats, unit
from kind_rivet.core.midsurface.charts import Chart, ConeChart, CylinderChart

OUTWARD = 0.25  # least cosine between the wall's normal and what leads away from the axis, up to which places are clear
STRAIGHT = 0.02  # change of radius per length up to which a tube is drawn on as on a cylinder
STEPS = 4
PRISM = 1e-6  # mean square of what normals have along an axis below which a tube goes straight along it


def tube_chart(points: Floats, normals: Floats) -> Chart | None:
    """A chart round the axis of a tube with these points (n, 3) and unit normals (n, 3); None where some of it looks past the axis.

    The axis is the direction along which normals vary least, then the line that comes nearest to all normals, its foot moving evenly.
    """
    if len(points) < 12:
        return None
    _, axes = np.linalg.eigh(np.cov(normals.T))
    straight = np.mean((normals @ axes[:, 0]) ** 2) < PRISM
    lines = [(points.mean(axis=0), axes[:, 0])]
    for _ in range(STEPS):
        lines.append(_nearer(points, normals, *lines[-1], turning=not straight))
    clear = [line for line in lines if _least_outward(points, normals, *line) >= OUTWARD]
    if not clear:
        return None
    centre, axis = clear[-1]  # normals of oblong tubes meet no line, so that later ones may turn away
    q = points - centre
    height = q @ axis
    radius = np.linalg.norm(q - height[:, None] * axis, axis=1)
    slope, base = np.polyfit(height, radius, 1)
    if straight or abs(slope) < STRAIGHT:
        return cast(Chart, CylinderChart.over(Carrier("cylinder", (*centre, *axis, float(radius.mean()))), points))
    cone = Carrier("cone", (*(centre - base / slope * axis), *(np.sign(slope) * axis), float(np.arctan(abs(slope)))))
    return cast(Chart, ConeChart.over(cone, points))


def _nearer(points: Floats, normals: Floats, centre: Floats, axis: Floats, turning: bool) -> tuple[Floats, Floats]:
    """The line, as a point and a direction, that comes nearest to all normals where these lie along one; or one that goes the same way."""
    q = points - centre
    height = q @ axis
    across = normals - (normals @ axis)[:, None] * axis
    side = np.cross(axis, across)  # (q − c0 − h c1) · side = 0 where a normal meets the axis
    table = np.hstack((side, height[:, None] * side)) if turning else side
    found = np.linalg.lstsq(table, np.einsum("ij,ij->i", q, side), rcond=1e-9)[0]
    return centre + found[:3], unit((axis + found[3:])[None])[0] if turning else axis


def _least_outward(points: Floats, normals: Floats, centre: Floats, axis: Floats) -> float:
    """The least cosine between the wall's normals and what leads away from a line; −1 where it goes through the wall."""
    q = points - centre
    out = q - (q @ axis)[:, None] * axis
    radius = np.linalg.norm(out, axis=1)
    if radius.min() <= 0:
        return -1.0
    away = np.einsum("ij,ij->i", out / radius[:, None], normals)
    return float((away * np.sign(np.median(away))).min())
