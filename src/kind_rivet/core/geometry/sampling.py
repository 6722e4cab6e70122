"""Area-weighted sample points on facets, always the same ones."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, unit
from kind_rivet.core.geometry.shape import Shape


def face_samples(shape: Shape, per_face: int) -> tuple[Floats, Floats, NDArray[np.int64], NDArray[np.int64]]:
    """Points (n, 3), exact normals (n, 3), faces (n,) and facets (n,): `per_face` samples on each face, spread by area."""
    points, normals, face, facet, _ = spread_samples(shape, np.full(len(shape.faces), per_face))
    return points, normals, face, facet


def spread_samples(shape: Shape, count: NDArray[np.int64]) -> tuple[Floats, Floats, NDArray[np.int64], NDArray[np.int64], Floats]:
    """Points, exact normals, faces, facets and the area each sample stands for: `count` (f,) samples on each face, spread by area.

    Stratified along the cumulated area with a golden-ratio sequence inside the facets.
    """
    where, weight, areas = [], [], []
    order = np.argsort(shape.facet_face, kind="stable")
    bounds = np.searchsorted(shape.facet_face[order], np.arange(len(shape.faces) + 1))
    for f in range(len(shape.faces)):
        mine = order[bounds[f] : bounds[f + 1]]
        along = np.cumsum(shape.facet_area[mine])
        n = int(count[f])
        if not len(mine) or along[-1] <= 0 or n <= 0:
            continue
        at = (np.arange(n) + 0.5) / n * along[-1]
        where.append(mine[np.minimum(np.searchsorted(along, at), len(mine) - 1)])
        k = np.arange(n)
        u, v = np.sqrt((k * 0.6180339887498949 + 0.5) % 1), (k * 0.7548776662466927 + 0.25) % 1
        weight.append(np.column_stack((1 - u, u * (1 - v), u * v)))
        areas.append(np.full(n, along[-1] / n))
    if not where:
        none = np.empty(0, np.int64)
        return np.empty((0, 3)), np.empty((0, 3)), none, none, np.empty(0)
    facet, w = np.concatenate(where), np.concatenate(weight)
    points = np.einsum("ij,ijk->ik", w, shape.points[shape.facets[facet]])
    normals = unit(np.einsum("ij,ijk->ik", w, shape.normals[facet]))
    return points, normals, shape.facet_face[facet].astype(np.int64), facet, np.concatenate(areas)


def by_area(shape: Shape, total: int, least: int = 4) -> NDArray[np.int64]:
    """Sample counts (f,) that share `total` out by area, at least `least` each."""
    share = shape.face_area / max(float(shape.face_area.sum()), 1e-300)
    return np.maximum(np.ceil(share * total), least).astype(np.int64)
