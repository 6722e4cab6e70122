"""Walls as they are found, before they are joined: what is kept of a body that runs out of time."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kind_rivet.core.geometry.carriers import fit_curve, unit
from kind_rivet.core.geometry.shape import Edge, Face, Shape
from kind_rivet.core.geometry.weld import subshape
from kind_rivet.core.midsurface.fields import settle
from kind_rivet.core.midsurface.middles import Middle
from kind_rivet.core.midsurface.sheet import Sheet

LOOSE = "walls that are not joined yet"


def loose_walls(solid: Shape, middles: list[Middle]) -> Sheet:
    """One side of each wall, moved to its middle, without proof; the walls share no edges."""
    shapes = [_moved(solid, middle) for middle in middles]
    points, facets, owner, normals = [], [], [], []
    faces: list[Face] = []
    edges: list[Edge] = []
    wall: list[float] = []
    nodes = count = 0
    for shape, middle in zip(shapes, middles, strict=True):
        points.append(shape.points)
        facets.append(shape.facets + nodes)
        owner.append(shape.facet_face + count)
        normals.append(shape.normals)
        faces += shape.faces
        edges += [Edge((edge.nodes + nodes).astype(np.int32), edge.carrier) for edge in shape.edges]
        wall += [middle.wall] * len(shape.faces)
        nodes += len(shape.points)
        count += len(shape.faces)
    whole = Shape(
        np.concatenate(points), np.concatenate(facets).astype(np.int32), np.concatenate(owner).astype(np.int32), np.concatenate(normals), tuple(faces), tuple(edges), False
    )  # fmt: skip
    return Sheet(whole, np.array(wall), LOOSE, None)


def _moved(solid: Shape, middle: Middle) -> Shape:
    side = min(middle.sides, key=lambda faces: (float(solid.face_area[list(faces)].sum()), sorted(faces)))
    shape = subshape(solid, tuple(sorted(side)))
    points = settle(shape.points, [middle.field])[0]
    corner = points[shape.facets].reshape(-1, 3)
    normal = unit(middle.field(corner)[1]).reshape(-1, 3, 3)
    if np.einsum("ijk,ijk->", normal, shape.normals) < 0:
        normal = -normal
    tolerance = 1e-6 * solid.diagonal
    edges = tuple(Edge(e.nodes, fit_curve(points[e.nodes], tolerance)) for e in shape.edges)
    return replace(
        shape, points=points, normals=normal, edges=edges, faces=tuple(Face(middle.carrier, f.name, f.colour) for f in shape.faces)
    )  # fmt: skip
