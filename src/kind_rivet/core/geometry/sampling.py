"""Area-weighted sample points on facets, always the same ones."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, unit
from kind_rivet.core.geometry.shape import Shape


def face_samples(shape: Shape, per_face: int) -> tuple[Floats, Floats, NDArray[np.int64], NDArray[np.int64]]:
    """Points (n, 3), exact normals (n, 3), faces (n,) and facets (n,): `per_face` samples on each face, spread by area.

    Stratified along the cumulated area with a golden-ratio sequence inside the facets.
    """
    where, weight = [], []
    order = np.argsort(shape.facet_face, kind="stable")
    bounds = np.searchsorted(shape.facet_face[order], np.arange(len(shape.faces) + 1))
    golden = 0.6180339887498949
    for f in range(len(shape.faces)):
        mine = order[bounds[f] : bounds[f + 1]]
        if not len(mine):
            continue
        along = np.cumsum(shape.facet_area[mine])
        if along[-1] <= 0:
            continue
        at = (np.arange(per_face) + 0.5) / per_face * along[-1]
        where.append(mine[np.minimum(np.searchsorted(along, at), len(mine) - 1)])
        k = np.arange(per_face)
        u, v = np.sqrt((k * golden + 0.5) % 1), (k * 0.7548776662466927 + 0.25) % 1
        weight.append(np.column_stack((1 - u, u * (1 - v), u * v)))
    facet = np.concatenate(where)
    w = np.concatenate(weight)
    points = np.einsum("ij,ijk->ik", w, shape.points[shape.facets[facet]])
    normals = unit(np.einsum("ij,ijk->ik", w, shape.normals[facet]))
    return points, normals, shape.facet_face[facet].astype(np.int64), facet
