"""Sample points spread evenly over the faces and through the volume of shapes, always the same ones."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, unit
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape

MOST_HITS = 64  # of one ray: what crosses the solid more often is left out
MOST_PLACES = 12  # on one chord


def face_samples(shape: Shape, per_face: int) -> tuple[Floats, Floats, NDArray[np.int64], NDArray[np.int64]]:
    """Points (n, 3), exact normals (n, 3), faces (n,) and facets (n,): `per_face` samples on each face, spread by area."""
    points, normals, face, facet, _ = spread_samples(shape, np.full(len(shape.faces), per_face))
    return points, normals, face, facet


def spread_samples(
    shape: Shape, count: NDArray[np.int64], unlike: bool = False
) -> tuple[Floats, Floats, NDArray[np.int64], NDArray[np.int64], Floats]:
    """Points, exact normals, faces, facets and the area each sample stands for: `count` (f,) samples on each face, spread by area.

    Stratified along the cumulated area with a golden-ratio sequence inside the facets. `unlike`: the sequence goes on from face
    to face, so that many faces that are alike do not all miss the same places.
    """
    where, weight, areas = [], [], []
    first = 0
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
        k = first + np.arange(n)
        first += n if unlike else 0
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


def volume_samples(solid: Shape, tree: FacetTree, rays: int, step: float) -> tuple[Floats, Floats]:
    """Points (n, 3) inside a solid and the volume (n,) each stands for: on `rays` rays along each of the three axes, about `step` apart.

    A point counts only on the axis along which it is least deep: so rays that run along a wall,
    few of which would stand for all of it, are left to the other axes. The places of
    the rays follow the R2 sequence (Roberts 2018), so that they meet flat walls evenly.
    """
    span = solid.box[1] - solid.box[0]
    eps = 1e-9 * solid.diagonal
    points, volume = [], []
    k = np.arange(rays)
    u, v = (k * 0.7548776662466927 + 0.5) % 1, (k * 0.5698402909980532 + 0.5) % 1
    for axis in range(3):
        others = [(axis + 1) % 3, (axis + 2) % 3]
        start = np.empty((rays, 3))
        start[:, axis] = solid.box[0, axis] - 0.01 * solid.diagonal
        start[:, others[0]], start[:, others[1]] = (solid.box[0, o] + s * span[o] for o, s in zip(others, (u, v), strict=True))
        enter, leave, ray = _chords(tree, start, axis, eps)
        count = np.clip(np.ceil((leave - enter) / max(step, 1e-300)), 1, MOST_PLACES).astype(np.int64)
        which = np.repeat(np.arange(len(ray)), count)
        place = np.arange(len(which)) - np.repeat(np.cumsum(count) - count, count)
        share = (place + (np.arange(len(which)) * 0.41421356237309515 + 0.3) % 1) / count[which]
        depth = (leave - enter)[which]
        p = start[ray[which]].copy()
        p[:, axis] += enter[which] + share * depth
        least = np.ones(len(p), bool)
        for other in others:  # of chords of one length the first axis counts
            left = np.flatnonzero(least)
            chord = _depth(tree, p[left], other, depth[left] + 2 * eps)
            least[left] = (depth[left] < chord - eps) | ((np.abs(depth[left] - chord) <= eps) & (axis < other))
        points.append(p[least])
        volume.append((depth / count[which])[least] * float(np.prod(span[others])) / rays)
    return np.concatenate(points), np.concatenate(volume)


def _chords(tree: FacetTree, start: Floats, axis: int, eps: float) -> tuple[Floats, Floats, NDArray[np.int64]]:
    """Where rays along an axis enter and leave the solid: distances (n,), and the ray (n,) of each chord."""
    way = np.zeros((len(start), 3))
    way[:, axis] = 1.0
    hits: list[Floats] = []
    at = np.zeros(len(start))
    alive = np.arange(len(start))
    for _ in range(MOST_HITS):
        far, hit = tree.cast(start[alive] + at[alive, None] * way[alive], way[alive], least=eps)
        alive, far = alive[hit >= 0], far[hit >= 0]
        if not len(alive):
            break
        at[alive] += far
        column = np.full(len(start), np.nan)
        column[alive] = at[alive]
        hits.append(column)
    table = np.array(hits).T if hits else np.empty((len(start), 0))
    count = (~np.isnan(table)).sum(axis=1)
    enter, leave, ray = [], [], []
    for j in range(0, table.shape[1] - 1, 2):
        mine = np.flatnonzero((count > j + 1) & (count % 2 == 0))  # an odd count: the ray ran along an edge
        enter.append(table[mine, j])
        leave.append(table[mine, j + 1])
        ray.append(mine)
    if not ray:
        return np.empty(0), np.empty(0), np.empty(0, np.int64)
    return np.concatenate(enter), np.concatenate(leave), np.concatenate(ray)


def _depth(tree: FacetTree, points: Floats, axis: int, most: Floats) -> Floats:
    """Length (n,) of the chord along an axis through points inside; infinite beyond `most`."""
    way = np.zeros((len(points), 3))
    way[:, axis] = 1.0
    up = tree.cast(points, way, reach=most)[0]
    down = np.full(len(points), np.inf)
    near = np.flatnonzero(np.isfinite(up))
    down[near] = tree.cast(points[near], -way[near], reach=most[near])[0]
    return np.asarray(up + down)
