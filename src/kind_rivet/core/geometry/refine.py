"""Cutting facets at points on their sides, so that neighbours stay joined and edges keep their nodes."""

from __future__ import annotations

import itertools

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


def on_carriers(shape: Shape, segments: list[Segment], places: Floats) -> Floats:
    """Places (s, 3) on facet sides lifted onto the exact edge or face that each side belongs to."""
    out = np.array(places, float)
    edge_of: dict[Segment, int] = {}
    for e, edge in enumerate(shape.edges):
        for a, b in itertools.pairwise(edge.nodes.tolist()):
            edge_of[_key(a, b)] = e
    beside = _faces_of_sides(shape, segments)
    for k, segment in enumerate(segments):
        on = edge_of.get(segment)
        if on is not None and shape.edges[on].carrier.kind != "free":
            out[k] = _on_curve(shape.edges[on].carrier.kind, shape.edges[on].carrier.array, out[k])
        elif on is None and beside[k] >= 0:
            out[k] = project(shape.faces[beside[k]].carrier, out[k][None])[0]
    return out


def _on_curve(kind: str, d: Floats, p: Floats) -> Floats:
    if kind == "line":
        return np.asarray(d[:3] + ((p - d[:3]) @ d[3:6]) * d[3:6])
    flat = p - ((p - d[:3]) @ d[3:6]) * d[3:6]
    return np.asarray(d[:3] + d[6] * unit(flat - d[:3]))


def _faces_of_sides(shape: Shape, segments: list[Segment]) -> list[int]:
    wanted = dict.fromkeys(segments, -1)
    n = np.int64(len(shape.points))
    keys = np.array([a * n + b for a, b in segments], np.int64)
    for k in range(3):
        a, b = shape.facets[:, k].astype(np.int64), shape.facets[:, (k + 1) % 3].astype(np.int64)
        low, high = np.minimum(a, b), np.maximum(a, b)
        for f in np.flatnonzero(np.isin(low * n + high, keys)).tolist():
            wanted[(int(low[f]), int(high[f]))] = int(shape.facet_face[f])
    return [wanted[s] for s in segments]


def sides_of(shape: Shape, facets: NDArray[np.int64]) -> NDArray[np.int64]:
    """The different sides (s, 2) of some facets, lower node first."""
    rows = shape.facets[facets].astype(np.int64)
    sides = np.sort(rows[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1)
    return np.unique(sides, axis=0)


def refined(shape: Shape, chosen: NDArray[np.bool_], near: NDArray[np.bool_], longest: float, rounds: int = 12) -> Shape:
    """Sides of the chosen faces' facets longer than `longest` halved while one of their ends is `near`.

    chosen (f,) marks faces, near (p,) marks points; halves of marked sides stay marked.
    """
    for _ in range(rounds):
        sides = sides_of(shape, np.flatnonzero(chosen[shape.facet_face]))
        length = np.linalg.norm(shape.points[sides[:, 0]] - shape.points[sides[:, 1]], axis=1)
        long = sides[(length > longest) & (near[sides[:, 0]] | near[sides[:, 1]])]
        if not len(long):
            break
        segments = [(int(a), int(b)) for a, b in long]
        places = on_carriers(shape, segments, shape.points[long].mean(axis=1))
        shape, _ = cut_sides(shape, dict(zip(segments, places, strict=True)))
        near = np.concatenate((near, np.ones(len(segments), bool)))
    return shape
