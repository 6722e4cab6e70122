"""Rows across a face that is part of a torus run along its own two circles, not along the straight lines of its flattened picture."""

from __future__ import annotations

import numpy as np

from kind_rivet.core.geometry.carriers import Carrier, Floats, frame
from kind_rivet.core.meshing.free.fill import FlatMesh, flat_worst
from kind_rivet.core.meshing.mapped import fill_mapped
from kind_rivet.core.meshing.patch import Patch


def fill_torus(patch: Patch, loop: Floats) -> FlatMesh | None:
    """Rows and columns between four sides on one torus; None on other faces, or where sides and counts do not fit.

    `loop` (k, 2) lies in the plane of the patch, and so does the mesh.
    """
    if len(patch.faces) != 1 or patch.carriers[0].kind != "torus":
        return None
    torus = patch.carriers[0]
    angles = np.unwrap(_angles(torus, patch.to_space(loop)[0]), axis=0)
    if np.abs(angles[0] - angles[-1]).max() > np.pi:  # all the way round without a seam
        return None
    scale = np.array([torus.data[6] + torus.data[7] * float(np.cos(angles[:, 1]).mean()), torus.data[7]])
    chart = angles * scale
    x, y = chart.T
    if np.sum(x * np.roll(y, -1) - np.roll(x, -1) * y) < 0:
        scale[0] *= -1
        chart = angles * scale
    made = fill_mapped(chart)
    if made is None:
        return None
    inner = patch.to_plane(_places(torus, made.points[len(loop) :] / scale))
    points = np.concatenate((loop, inner))
    return FlatMesh(points, made.elements, flat_worst(points, made.elements))


def _angles(torus: Carrier, points: Floats) -> Floats:
    """Angles (n, 2) of points (n, 3) about the axis and round the tube."""
    d = torus.array
    u, v = frame(d[3:6])
    q = points - d[:3]
    height = q @ d[3:6]
    away = np.linalg.norm(q - height[:, None] * d[3:6], axis=1)
    return np.column_stack((np.arctan2(q @ v, q @ u), np.arctan2(height, away - d[6])))


def _places(torus: Carrier, angles: Floats) -> Floats:
    """Points (n, 3) on the torus for angles (n, 2)."""
    d = torus.array
    u, v = frame(d[3:6])
    about, tube = angles.T
    away = (d[6] + d[7] * np.cos(tube))[:, None] * (np.cos(about)[:, None] * u + np.sin(about)[:, None] * v)
    return np.asarray(d[:3] + away + d[7] * np.sin(tube)[:, None] * d[3:6])
