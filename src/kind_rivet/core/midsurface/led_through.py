"""Skins of tubes led through under what stands round them: lengths between rings, collars and flanges belong to one wall."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, unit
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.midsurface.fields import FacetField, Field, together
from kind_rivet.core.midsurface.tube_charts import sides_along, tube_ends

AHEAD = np.cos(np.radians(30.0))  # least cosine between where one end leads and where the other one lies
ALIKE = np.cos(np.radians(40.0))  # least cosine between normals of nodes at both ends that may lie aside
WIDE = 0.25  # of a ring's length: how far apart two ends may be

Ints = NDArray[np.int64]


@dataclass(frozen=True)
class End:
    """The nodes (n,) of a ring at one end of a tube, as its facets go round it; their points, normals, and directions away from the tube (n, 3)."""

    nodes: Ints
    points: Floats
    normals: Floats
    ahead: Floats


def led_through(fields: list[Field]) -> list[Field]:
    """The fields of all faces; tubes whose ends face each other share one, with a strip of facets from end to end."""
    tubes: dict[int, tuple[FacetField, list[int]]] = {}  # field, by identity, and the faces that have it
    for f, field in enumerate(fields):
        if isinstance(field, FacetField):
            tubes.setdefault(id(field), (field, []))[1].append(f)
    open_ends = [(field, faces, end) for field, faces in tubes.values() for end in _ends(field)]
    out = list(fields)
    while True:
        pair = next(((a, b) for k, a in enumerate(open_ends) for b in open_ends[k + 1 :] if a[0] is not b[0] and _facing(a[2], b[2])), None)
        if pair is None:
            return out
        (first, mine, end), (second, others, other) = pair
        joined = _joined(first, second, end, other)
        shift = len(first.tree.points)
        left = [lot for lot in open_ends if lot[2] is not end and lot[2] is not other]
        faces = mine + others
        open_ends = [(f, lot, e) for f, lot, e in left if f is not first and f is not second]
        open_ends += [(joined, faces, e) for f, _, e in left if f is first]
        open_ends += [(joined, faces, End(e.nodes + shift, e.points, e.normals, e.ahead)) for f, _, e in left if f is second]
        for f in faces:
            out[f] = joined


def _ends(field: FacetField) -> list[End]:
    """Both ends of a field's facets, where they are a tube."""
    facets, points = field.tree.facets.astype(np.int64), field.tree.points
    found = tube_ends(points, facets)
    if found is None:
        return []
    normals = field.point_normals
    out = []
    for end in found:
        f, k = sides_along(facets, end, len(points))
        after = dict(zip(facets[f, k].tolist(), facets[f, (k + 1) % 3].tolist(), strict=True))
        ring = [int(end[0])]
        while len(ring) < len(end) and (step := after.get(ring[-1])) is not None and step != ring[0]:
            ring.append(step)
        if len(ring) < len(end):
            return []
        nodes = np.array(ring, np.int64)
        p = points[nodes]
        ahead = unit(np.cross(np.roll(p, -1, axis=0) - np.roll(p, 1, axis=0), normals[nodes]))
        out.append(End(nodes, p, normals[nodes], ahead))
    return out


def _facing(a: End, b: End) -> bool:
    """Does each end lead to the other one, and look the same way there?"""
    length = float(np.linalg.norm(np.roll(a.points, -1, axis=0) - a.points, axis=1).sum())
    for one, other in ((a, b), (b, a)):
        far, near = scipy.spatial.cKDTree(other.points).query(one.points)
        if far.max() > WIDE * length or far.min() <= 0:
            return False
        n, ahead = one.normals, one.ahead
        way = other.points[near] - one.points
        along = np.cross(ahead, n)
        way = unit(way - np.einsum("ij,ij->i", way, along)[:, None] * along)  # the nearest node lies aside
        if np.einsum("ij,ij->i", way, ahead).min() < AHEAD or np.einsum("ij,ij->i", n, other.normals[near]).min() < ALIKE:
            return False
    return True


def _joined(first: FacetField, second: FacetField, end: End, other: End) -> FacetField:
    """One field of two tubes, with a strip of facets between two of their ends: always the shorter diagonal next."""
    shift = len(first.tree.points)
    back = other.nodes[::-1]
    there = other.points[::-1]
    start = int(np.argmin(np.linalg.norm(there - end.points[0], axis=1)))
    back, there = np.roll(back, -start), np.roll(there, -start, axis=0)
    n, m = len(end.nodes), len(back)
    strip, whose = [], []
    k = j = 0
    normals = end.normals, np.roll(other.normals[::-1], -start, axis=0)
    while k < n or j < m:
        step_here = np.linalg.norm(end.points[(k + 1) % n] - there[j % m])
        step_there = np.linalg.norm(end.points[k % n] - there[(j + 1) % m])
        if j == m or (k < n and step_here <= step_there):
            strip.append((end.nodes[(k + 1) % n], end.nodes[k % n], back[j % m] + shift))
            whose.append((normals[0][(k + 1) % n], normals[0][k % n], normals[1][j % m]))
            k += 1
        else:
            strip.append((end.nodes[k % n], back[j % m] + shift, back[(j + 1) % m] + shift))
            whose.append((normals[0][k % n], normals[1][j % m], normals[1][(j + 1) % m]))
            j += 1
    both = together([first, second])
    facets = np.concatenate((both.tree.facets, np.array(strip)))
    return FacetField(FacetTree.over(both.tree.points, facets.astype(np.int32)), np.concatenate((both.normals, np.array(whose))))
