"""Several shapes that share facet nodes made into one, remembering which face and edge came from where."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.shape import Edge, Face, Shape


@dataclass(frozen=True)
class Welded:
    """`shape` with, per shape that went in, the new number of each of its points, faces and edges.

    A face that two shapes share appears once; it belongs to the first.
    """

    shape: Shape
    points: tuple[NDArray[np.int64], ...]
    faces: tuple[NDArray[np.int64], ...]
    edges: tuple[NDArray[np.int64], ...]


def weld(shapes: list[Shape], tolerance: float) -> Welded:
    """Join shapes at points that lie together within a tolerance; common faces and edges are found by their nodes."""
    lots = [s.points for s in shapes]
    every = np.concatenate(lots)
    number = _together(every, tolerance)
    _, first, number = np.unique(number, return_index=True, return_inverse=True)
    points = every[first]
    start = np.cumsum([0] + [len(p) for p in lots])
    maps = tuple(number[start[k] : start[k + 1]].astype(np.int64) for k in range(len(shapes)))
    known_faces: dict[tuple[tuple[int, ...], ...], int] = {}
    known_edges: dict[tuple[int, ...], int] = {}
    faces: list[Face] = []
    edges: list[Edge] = []
    facets, owners, normals = [], [], []
    face_maps, edge_maps = [], []
    for shape, at in zip(shapes, maps, strict=True):
        rows = at[shape.facets]
        to = np.empty(len(shape.faces), np.int64)
        fresh = np.zeros(len(shape.faces), bool)
        order = np.argsort(shape.facet_face, kind="stable")
        bounds = np.searchsorted(shape.facet_face[order], np.arange(len(shape.faces) + 1))
        for f in range(len(shape.faces)):
            mine = order[bounds[f] : bounds[f + 1]]
            key = tuple(sorted(map(tuple, np.sort(rows[mine], axis=1).tolist())))
            if key in known_faces and key:
                to[f] = known_faces[key]
                continue
            known_faces[key] = to[f] = len(faces)
            fresh[f] = True
            faces.append(shape.faces[f])
        new = fresh[shape.facet_face]
        facets.append(rows[new])
        owners.append(to[shape.facet_face[new]])
        normals.append(shape.normals[new])
        face_maps.append(to)
        line = np.empty(len(shape.edges), np.int64)
        for e, edge in enumerate(shape.edges):
            nodes = at[edge.nodes]
            key_edge = _line_key(nodes)
            if key_edge not in known_edges:
                known_edges[key_edge] = len(edges)
                edges.append(Edge(nodes.astype(np.int32), edge.carrier))
            line[e] = known_edges[key_edge]
        edge_maps.append(line)
    shape = Shape(
        points, np.concatenate(facets).astype(np.int32), np.concatenate(owners).astype(np.int32), np.concatenate(normals),
        tuple(faces), tuple(edges), False,
    )  # fmt: skip
    return Welded(shape, maps, tuple(face_maps), tuple(edge_maps))


def _line_key(nodes: NDArray[np.int64]) -> tuple[int, ...]:
    """One key for a chain of nodes in either sense; closed chains count wherever they begin."""
    row = nodes.tolist()
    if row[0] == row[-1]:
        return tuple(sorted(row[:-1]))
    return tuple(row) if row[0] < row[-1] else tuple(row[::-1])


def _together(points: Floats, tolerance: float) -> NDArray[np.int64]:
    """The lowest number among the points within the tolerance of each."""
    number = np.arange(len(points), dtype=np.int64)
    pairs = scipy.spatial.cKDTree(points).query_pairs(tolerance, output_type="ndarray")
    if len(pairs):
        graph = scipy.sparse.coo_matrix((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), shape=(len(points), len(points)))
        label = scipy.sparse.csgraph.connected_components(graph, directed=False)[1]
        first = np.full(label.max() + 1, len(points), np.int64)
        np.minimum.at(first, label, number)
        number = first[label]
    return number


def subshape(shape: Shape, faces: tuple[int, ...]) -> Shape:
    """Only some faces of a shape, as a sheet."""
    chosen = np.zeros(len(shape.faces), bool)
    chosen[list(faces)] = True
    new_face = np.cumsum(chosen) - 1
    facets = chosen[shape.facet_face]
    edges = [e for e, beside in zip(shape.edges, shape.edge_faces, strict=True) if any(chosen[f] for f in beside)]
    used = np.zeros(len(shape.points), bool)
    used[shape.facets[facets].ravel()] = True
    for e in edges:
        used[e.nodes] = True
    number = (np.cumsum(used) - 1).astype(np.int32)
    return Shape(
        shape.points[used], number[shape.facets[facets]], new_face[shape.facet_face[facets]].astype(np.int32), shape.normals[facets],
        tuple(f for f, keep in zip(shape.faces, chosen, strict=True) if keep), tuple(Edge(number[e.nodes], e.carrier) for e in edges), False,
    )  # fmt: skip
