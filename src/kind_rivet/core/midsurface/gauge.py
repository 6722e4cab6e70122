"""Thickness and offset of any shells, measured on the solid they stand for."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape

SPREAD = 2.0  # times the usual wall of its part up to which a reading is believed
PULL = 0.8  # places between the centre (0) and the corners (1) of an element that are measured too


def gauge(solid: Shape, points: Floats, elements: NDArray[np.int32], group: NDArray[np.int64]) -> tuple[Floats, Floats]:
    """Thickness and offset (m,) of shells (m, 4; trias end with −1) from rays both ways along their normals; NaN where none can be told.

    Rays go from the centre and from places near the corners to the nearest exits; the
    element gets their median. Readings far from what is usual in the element's group (m,)
    see along another wall and do not count.
    """
    tree = FacetTree.over(solid.points, solid.facets)
    rows = np.where(elements < 0, elements[:, [0]], elements)
    corner = points[rows]
    tria = elements[:, 3] < 0
    a = np.where(tria[:, None], corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
    b = np.where(tria[:, None], corner[:, 2] - corner[:, 0], corner[:, 3] - corner[:, 1])
    normal = np.cross(a, b)
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)
    centre = np.where(tria[:, None], corner[:, :3].mean(axis=1), corner.mean(axis=1))
    places = [centre, *(centre + PULL * (corner[:, k] - centre) for k in range(4))]
    total, apart = np.full((len(rows), 5), np.nan), np.full((len(rows), 5), np.nan)
    for k, start in enumerate(places):
        up, hit_up = tree.cast(start, normal)
        down, hit_down = tree.cast(start, -normal)
        good = (hit_up >= 0) & (hit_down >= 0)
        # Exits only: the facet met must look the way the ray goes.
        good[good] = (np.einsum("ij,ij->i", solid.facet_normal[hit_up[good]], normal[good]) > 0.2) & (
            np.einsum("ij,ij->i", solid.facet_normal[hit_down[good]], normal[good]) < -0.2
        )
        total[good, k] = (up + down)[good]
        apart[good, k] = ((up - down) / 2)[good]
    for g in np.unique(group):
        mine = group == g
        usual = np.nanmedian(total[mine]) if np.isfinite(total[mine]).any() else np.nan
        far = total[mine] > SPREAD * usual
        total[mine] = np.where(far, np.nan, total[mine])
        apart[mine] = np.where(far, np.nan, apart[mine])
    seen = np.isfinite(total).any(axis=1)
    thickness, offset = np.full(len(rows), np.nan), np.full(len(rows), np.nan)
    if seen.any():
        thickness[seen] = np.nanmedian(total[seen], axis=1)
        nearest = np.nanargmin(np.abs(total[seen] - thickness[seen, None]), axis=1)
        offset[seen] = apart[seen][np.arange(int(seen.sum())), nearest]
    return thickness, offset
