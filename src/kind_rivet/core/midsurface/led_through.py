"""Skins of tubes led through under what stands round them: lengths between rings, collars and flanges belong to one wall.

So do lengths that touch, as where the rims of frames inside left edges on the skin, once the lengths opposite are known to be one.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, unit
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.midsurface.fields import FacetField, Field, by_field, together
from kind_rivet.core.midsurface.tube_charts import sides_along, tube_ends

AHEAD = np.cos(np.radians(30.0))  # least cosine between where one end leads and where the other one lies
ALIKE = np.cos(np.radians(40.0))  # least cosine between normals of nodes at both ends that may lie aside
WIDE = 0.25  # of a ring's length: how far apart two ends may be
ON = 1e-9  # of a ring's length up to which ends touch
FLUSH = np.cos(np.radians(5.0))  # least cosine between normals of ends that touch, beyond which there is a crease

Ints = NDArray[np.int64]


@dataclass(frozen=True)
class End:
    """The nodes (n,) of a ring at one end of a tube, as its facets go round it; their points, normals, and directions away from the tube (n, 3)."""

    nodes: Ints
    points: Floats
    normals: Floats
    ahead: Floats


@dataclass(frozen=True)
class Opening:
    """An end of a tube, with the tube's field and the faces that have it."""

    field: FacetField
    faces: list[int]
    end: End


def led_through(fields: list[Field]) -> list[Field]:
    """The fields of all faces; tubes whose ends face each other share one, with a strip of facets from end to end. Ends that touch another face none."""
    openings = _openings(fields)
    touch = [any(a.field is not b.field and np.isfinite(_touching(a.end, b.end)) for b in openings) for a in openings]
    return _made_one(fields, [a for a, there in zip(openings, touch, strict=True) if not there], _facing, _joined)


def grown_together(fields: list[Field], sides: list[tuple[int, int]], blends: set[int]) -> list[Field]:
    """The fields of all faces; tubes that touch without a crease share one, where what two of them lie opposite has been led through.

    `sides`: faces opposite each other; `blends`: faces that run on smoothly into a skin but are none of it.
    """
    opposite: dict[int, set[int]] = {}
    for a, b in sides:
        opposite.setdefault(a, set()).add(b)
        opposite.setdefault(b, set()).add(a)
    openings = [o for o in _openings(fields) if not blends & set(o.faces)]
    touching = [
        (a.faces[0], b.faces[0]) for a in openings for b in openings if a.field is not b.field and np.isfinite(_touching(a.end, b.end))
    ]
    graph = scipy.sparse.coo_matrix((np.ones(len(touching)), np.array(touching, int).reshape(-1, 2).T), (len(fields), len(fields)))
    _, lot = scipy.sparse.csgraph.connected_components(graph, directed=False)
    out = fields
    for name in sorted({int(lot[f]) for f, _ in touching}):
        mine = [o for o in openings if lot[o.faces[0]] == name]
        behind = {g for o in mine for f in o.faces for g in opposite.get(f, ())}
        if len(behind) > len({id(fields[g]) for g in behind}):
            out = _made_one(out, mine, _touching, _welded)
    return out


def _openings(fields: list[Field]) -> list[Opening]:
    return [Opening(field, faces, end) for field, faces in by_field(fields) for end in _ends(field)]


def _made_one(
    fields: list[Field],
    openings: list[Opening],
    apart: Callable[[End, End], float],
    join: Callable[[FacetField, FacetField, End, End], tuple[FacetField, Ints]],
) -> list[Field]:
    """The fields of all faces; tubes with ends that belong together (are less than infinitely far `apart`) are joined, the nearest ones first."""
    out = list(fields)
    while True:
        pairs = [(apart(a.end, b.end), k, j) for k, a in enumerate(openings) for j, b in enumerate(openings[:k]) if a.field is not b.field]
        far, k, j = min(pairs, default=(np.inf, 0, 0))
        if not np.isfinite(far):
            return out
        first, second = openings[j], openings[k]
        joined, place = join(first.field, second.field, first.end, second.end)
        faces = first.faces + second.faces
        rest = [o for o in openings if o is not first and o is not second]
        openings = [o for o in rest if o.field is not first.field and o.field is not second.field]
        openings += [Opening(joined, faces, o.end) for o in rest if o.field is first.field]
        openings += [Opening(joined, faces, replace(o.end, nodes=place[o.end.nodes])) for o in rest if o.field is second.field]
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


def _facing(a: End, b: End) -> float:
    """How far apart two ends are of which each leads to the other one, and looks the same way there; else infinity."""
    length = float(np.linalg.norm(np.roll(a.points, -1, axis=0) - a.points, axis=1).sum())
    most = 0.0
    for one, other in ((a, b), (b, a)):
        far, near = scipy.spatial.cKDTree(other.points).query(one.points)
        most = max(most, float(far.max()))
        if far.max() > WIDE * length or far.min() <= 0:
            return np.inf
        n, ahead = one.normals, one.ahead
        way = other.points[near] - one.points
        along = np.cross(ahead, n)
        way = unit(way - np.einsum("ij,ij->i", way, along)[:, None] * along)  # the nearest node lies aside
        if np.einsum("ij,ij->i", way, ahead).min() < AHEAD or np.einsum("ij,ij->i", n, other.normals[near]).min() < ALIKE:
            return np.inf
    return most


def _touching(a: End, b: End) -> float:
    """0 where both ends are one ring, without a crease there; else infinity."""
    if len(a.nodes) != len(b.nodes):
        return np.inf
    length = float(np.linalg.norm(np.roll(a.points, -1, axis=0) - a.points, axis=1).sum())
    far, near = scipy.spatial.cKDTree(b.points).query(a.points)
    return 0.0 if far.max() <= ON * length and np.einsum("ij,ij->i", a.normals, b.normals[near]).min() > FLUSH else np.inf


def _welded(first: FacetField, second: FacetField, end: End, other: End) -> tuple[FacetField, Ints]:
    """One field of two tubes that touch, and the place (n,) of each point of the second among its points."""
    place = np.full(len(second.tree.points), -1, np.int64)
    place[other.nodes] = end.nodes[scipy.spatial.cKDTree(end.points).query(other.points)[1]]
    new = np.flatnonzero(place < 0)
    place[new] = len(first.tree.points) + np.arange(len(new))
    points = np.concatenate((first.tree.points, second.tree.points[new]))
    facets = np.concatenate((first.tree.facets, place[second.tree.facets]))
    return FacetField(FacetTree.over(points, facets.astype(np.int32)), np.concatenate((first.normals, second.normals))), place


def _joined(first: FacetField, second: FacetField, end: End, other: End) -> tuple[FacetField, Ints]:
    """One field of two tubes, with a strip of facets between two of their ends (always the shorter diagonal next), and the place (n,) of each point of the second."""
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
    field = FacetField(FacetTree.over(both.tree.points, facets.astype(np.int32)), np.concatenate((both.normals, np.array(whose))))
    return field, shift + np.arange(len(second.tree.points))
