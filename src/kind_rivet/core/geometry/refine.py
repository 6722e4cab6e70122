"""Cutting facets at points on their sides, so that neighbours stay joined and edges keep their nodes."""

from __future__ import annotations

import itertools
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, project, unit
from kind_rivet.core.geometry.shape import Edge, Shape

Segment = tuple[int, int]


def cut_sides(shape: Shape, at: dict[Segment, Floats]) -> tuple[Shape, dict[Segment, int]]:
    """The shape with a new node on each named side (lower node first), at the given place (3,).

    Facets with one, two or three cut sides fall into two, three or four; edges take the
    new nodes in. Returns the shape and the number of each new node.
    """
    if not at:
        return shape, {}
    first = len(shape.points)
    new = {segment: first + k for k, segment in enumerate(at)}
    points = np.vstack((shape.points, np.array(list(at.values()))))
    n = np.int64(first)
    keys = np.array([a * n + b for a, b in at], np.int64)
    touched = np.zeros(len(shape.facets), bool)
    for k in range(3):
        a, b = shape.facets[:, k].astype(np.int64), shape.facets[:, (k + 1) % 3].astype(np.int64)
        touched |= np.isin(np.minimum(a, b) * n + np.maximum(a, b), keys)
    rows, owners, normals = [], [], []
    for f in np.flatnonzero(touched).tolist():
        corner = [int(v) for v in shape.facets[f]]
        middle = [new.get(_key(corner[k], corner[(k + 1) % 3]), -1) for k in range(3)]
        normal = {corner[k]: shape.normals[f, k] for k in range(3)}
        for k in range(3):
            if middle[k] >= 0:
                p, q = corner[k], corner[(k + 1) % 3]
                span = points[q] - points[p]
                t = float((points[middle[k]] - points[p]) @ span / max(float(span @ span), 1e-300))
                normal[middle[k]] = unit((1 - t) * normal[p] + t * normal[q])
        for row in _pieces(points, corner, middle):
            rows.append(row)
            owners.append(int(shape.facet_face[f]))
            normals.append([normal[v] for v in row])
    facets = np.vstack((shape.facets[~touched], np.array(rows, np.int32).reshape(-1, 3)))
    owner = np.concatenate((shape.facet_face[~touched], np.array(owners, np.int32)))
    corner_normals = np.concatenate((shape.normals[~touched], np.array(normals).reshape(-1, 3, 3)))
    edges = tuple(Edge(_with(edge.nodes, new), edge.carrier) for edge in shape.edges)
    return Shape(points, facets, owner, corner_normals, shape.faces, edges, shape.solid), new


def _key(a: int, b: int) -> Segment:
    return (a, b) if a < b else (b, a)


def _with(nodes: NDArray[np.int32], new: dict[Segment, int]) -> NDArray[np.int32]:
    out = [int(nodes[0])]
    for a, b in itertools.pairwise(nodes.tolist()):
        middle = new.get(_key(a, b))
        out += [b] if middle is None else [middle, b]
    return nodes if len(out) == len(nodes) else np.array(out, np.int32)


def _pieces(points: Floats, corner: list[int], middle: list[int]) -> list[tuple[int, int, int]]:
    """Triangles of one facet whose sides k (corner k to k + 1) carry the nodes `middle` (−1: none)."""
    cut = [k for k in range(3) if middle[k] >= 0]
    if len(cut) == 1:
        k = cut[0]
        a, b, c, m = corner[k], corner[(k + 1) % 3], corner[(k + 2) % 3], middle[k]
        return [(a, m, c), (m, b, c)]
    if len(cut) == 3:
        a, b, c = corner
        p, q, r = middle
        return [(a, p, r), (p, b, q), (r, q, c), (p, q, r)]
    k = next(k for k in range(3) if middle[k] < 0)  # the whole side a–b lies against the corner c
    a, b, c = corner[k], corner[(k + 1) % 3], corner[(k + 2) % 3]
    q, r = middle[(k + 1) % 3], middle[(k + 2) % 3]  # on b–c and c–a
    if np.linalg.norm(points[a] - points[q]) < np.linalg.norm(points[b] - points[r]):
        return [(r, q, c), (a, b, q), (a, q, r)]
    return [(r, q, c), (a, b, r), (b, q, r)]


class SideCarriers:
    """Which edge or face each of some facet sides lies on, so that points on them can be lifted onto it."""

    def __init__(self, shape: Shape, segments: list[Segment]) -> None:
        self.shape = shape
        n = np.int64(len(shape.points))
        keys = np.array([a * n + b for a, b in segments], np.int64)
        order = np.argsort(keys)
        self.edge = np.full(len(segments), -1)
        for e, edge in enumerate(shape.edges):
            row = np.sort(np.column_stack((edge.nodes[:-1], edge.nodes[1:])).astype(np.int64), axis=1)
            found = _lookup(keys, order, row[:, 0] * n + row[:, 1])
            self.edge[found[found >= 0]] = e
        self.face = np.full(len(segments), -1)
        for k in range(3):
            a, b = shape.facets[:, k].astype(np.int64), shape.facets[:, (k + 1) % 3].astype(np.int64)
            found = _lookup(keys, order, np.minimum(a, b) * n + np.maximum(a, b))
            hit = found >= 0
            self.face[found[hit]] = shape.facet_face[hit]

    def lifted(self, places: Floats) -> Floats:
        """Places (s, 3), one on each side, moved onto the exact curve or surface."""
        out = np.array(places, float)
        for e in np.unique(self.edge[self.edge >= 0]).tolist():
            carrier, mine = self.shape.edges[e].carrier, self.edge == e
            if carrier.kind != "free":
                out[mine] = _on_curve(carrier.kind, carrier.array, out[mine])
        for f in np.unique(self.face[(self.edge < 0) & (self.face >= 0)]).tolist():
            mine = (self.face == f) & (self.edge < 0)
            out[mine] = project(self.shape.faces[f].carrier, out[mine])
        return out


def _lookup(keys: NDArray[np.int64], order: NDArray[np.int64], wanted: NDArray[np.int64]) -> NDArray[np.int64]:
    """Place of each wanted key among `keys` (sorted by `order`), −1 where it is not there."""
    if not len(keys):
        return np.full(len(wanted), -1, np.int64)
    at = np.minimum(np.searchsorted(keys[order], wanted), len(keys) - 1)
    return np.where(keys[order[at]] == wanted, order[at], -1)


def _on_curve(kind: str, d: Floats, p: Floats) -> Floats:
    along = ((p - d[:3]) @ d[3:6])[:, None] * d[3:6]
    if kind == "line":
        return np.asarray(d[:3] + along)
    return np.asarray(d[:3] + d[6] * unit(p - d[:3] - along))


def sides_of(shape: Shape, facets: NDArray[np.int64]) -> NDArray[np.int64]:
    """The different sides (s, 2) of some facets, lower node first."""
    rows = shape.facets[facets].astype(np.int64)
    sides = np.sort(rows[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1)
    return np.unique(sides, axis=0)


def refined(shape: Shape, chosen: NDArray[np.bool_], field: Callable[[Floats], Floats], longest: float) -> Shape:
    """Facets of the chosen faces (f,) that the field's zero line may touch, bisected until their sides are at most `longest`.

    The field must be a distance (steepness at most 1): then a facet whose middle is
    farther from the line than its corners cannot touch it.
    """
    for _ in range(60):
        busy = np.flatnonzero(chosen[shape.facet_face])
        corners = shape.points[shape.facets[busy]]
        middle = corners.mean(axis=1)
        radius = np.linalg.norm(corners - middle[:, None], axis=2).max(axis=1)
        side = np.linalg.norm(corners - np.roll(corners, -1, axis=1), axis=2)
        large = (side.max(axis=1) > longest) & (np.abs(field(middle)) <= 1.1 * radius)
        if not large.any():
            break
        rows, k = shape.facets[busy[large]], np.argmax(side[large], axis=1)
        i = np.arange(len(rows))
        pairs = np.unique(np.sort(np.column_stack((rows[i, k], rows[i, (k + 1) % 3])), axis=1), axis=0)
        segments = [(int(a), int(b)) for a, b in pairs]
        places = SideCarriers(shape, segments).lifted(shape.points[pairs].mean(axis=1))
        shape, _ = cut_sides(shape, dict(zip(segments, places, strict=True)))
    return shape
