"""A ruled strip between two edges of a sheet, sharing their facet nodes."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import FREE, Carrier, Floats, fit_curve, unit
from kind_rivet.core.geometry.shape import Edge, Face, Shape


def bridged(shape: Shape, first: int, second: int) -> Shape:
    """The sheet with one more face, its last, between two open free edges.

    Ends that already touch stay one; else straight edges close the strip. Raises `Refused`
    for edges that are not free or close on themselves.
    """
    for e in (first, second):
        if len(shape.edge_faces[e]) != 1 or shape.edges[e].closed:
            raise Refused("A strip goes between two open free edges.", "Choose edges drawn as free.")
    if first == second:
        raise Refused("Both edges are the same one.", "Choose two edges.")
    return with_strip(shape, shape.edges[first].nodes, shape.edges[second].nodes)


def with_strip(shape: Shape, a: NDArray[np.int32], b: NDArray[np.int32]) -> Shape:
    """The sheet with one more face, its last, between two chains of its nodes. Raises `Refused` where they touch all along."""
    p = shape.points
    straight = np.linalg.norm(p[a[0]] - p[b[0]]) + np.linalg.norm(p[a[-1]] - p[b[-1]])
    crossed = np.linalg.norm(p[a[0]] - p[b[-1]]) + np.linalg.norm(p[a[-1]] - p[b[0]])
    if crossed < straight:
        b = b[::-1]
    facets = zipped(p, a, b)
    if not len(facets):
        raise Refused("The two edges touch along their whole length.", "")
    corner = p[facets]
    flat = unit(np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]))
    mean = unit(flat.sum(axis=0))
    carrier = FREE
    middle = corner.reshape(-1, 3).mean(axis=0)
    if np.abs((corner.reshape(-1, 3) - middle) @ mean).max() < 1e-6 * shape.diagonal:
        carrier = Carrier("plane", (*middle, *mean))
        flat = np.broadcast_to(mean, flat.shape)
    ends = [(int(a[0]), int(b[0])), (int(a[-1]), int(b[-1]))]
    edges = tuple(Edge(np.array(pair, np.int32), fit_curve(p[list(pair)], 1e-6 * shape.diagonal)) for pair in ends if pair[0] != pair[1])
    return replace(
        shape, facets=np.concatenate((shape.facets, facets)), facet_face=np.concatenate((shape.facet_face, np.full(len(facets), len(shape.faces), np.int32))),
        normals=np.concatenate((shape.normals, np.repeat(flat[:, None], 3, axis=1))), faces=(*shape.faces, Face(carrier)), edges=(*shape.edges, *edges),
    )  # fmt: skip


def zipped(p: Floats, a: NDArray[np.int32], b: NDArray[np.int32]) -> NDArray[np.int32]:
    """Triangles between two chains, always closing the shorter diagonal."""
    out = []
    i = j = 0
    while i < len(a) - 1 or j < len(b) - 1:
        on_a = i < len(a) - 1 and (j == len(b) - 1 or np.linalg.norm(p[a[i + 1]] - p[b[j]]) <= np.linalg.norm(p[a[i]] - p[b[j + 1]]))
        row = (a[i], a[i + 1], b[j]) if on_a else (a[i], b[j + 1], b[j])
        if len(set(row)) == 3:
            out.append(row)
        i, j = (i + 1, j) if on_a else (i, j + 1)
    return np.array(out, np.int32).reshape(-1, 3)
