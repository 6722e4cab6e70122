"""Seams of closed round walls moved off the holes they cross: a hole that a seam cuts in two would be none to the mesher."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Floats, frame
from kind_rivet.core.geometry.shape import Edge, Shape
from kind_rivet.core.geometry.split import split_faces
from kind_rivet.core.midsurface.charts import gap_of, widest_gap

ALL_ROUND = 5.0  # radians: edges that reach further round are ends of the wall, not holes
ROOM = 0.1  # radians that a new seam must have free


def with_seams_clear(shape: Shape) -> Shape:
    """The shape with every seam that holes interrupt laid where no hole is. Faces keep their numbers."""
    for face in range(len(shape.faces)):
        seams = _seams(shape, face)
        if shape.faces[face].carrier.kind in ("cylinder", "cone") and len(seams) > 1:
            try:
                shape = _moved(shape, face, seams)
            except Refused:
                continue
    return shape


def _seams(shape: Shape, face: int) -> list[int]:
    return [e for e in shape.face_edges[face] if len(shape.edge_faces[e]) == 2 and set(shape.edge_faces[e]) == {face}]


def _angles(shape: Shape, face: int, points: Floats) -> Floats:
    d = shape.faces[face].carrier.array
    u, v = frame(d[3:6])
    q = points - d[:3]
    return np.asarray(np.arctan2(q @ v, q @ u))


def _moved(shape: Shape, face: int, seams: list[int]) -> Shape:
    taken = []
    for e in shape.face_edges[face]:
        angle = np.unwrap(_angles(shape, face, shape.points[shape.edges[e].nodes]))
        if e not in seams and np.ptp(angle) < ALL_ROUND:
            taken.append(np.linspace(angle.min(), angle.max(), 30))
    if not taken or gap_of(np.concatenate(taken)) < 2 * ROOM:
        return shape
    at = widest_gap(np.concatenate(taken))
    d = shape.faces[face].carrier.array
    u, v = frame(d[3:6])
    normal = -np.sin(at) * u + np.cos(at) * v
    centre = shape.points[shape.facets[shape.facet_face == face]].mean(axis=1)
    split, _ = split_faces(shape, "plane", tuple(float(x) for x in (*d[:3], *normal)), centre[0])
    pieces = {face, *range(len(shape.faces), len(split.faces))}
    keep: list[Edge] = []
    for edge, beside in zip(split.edges, split.edge_faces, strict=True):
        if len(beside) == 2 and set(beside) <= pieces:
            away = (_angles(split, face, split.points[edge.nodes]) - at + np.pi) % (2 * np.pi) - np.pi
            if np.abs(away).max() > 1e-6:  # the old seam, and where the plane leaves the wall on the other side
                continue
        keep.append(edge)
    owner = np.where(np.isin(split.facet_face, list(pieces)), face, split.facet_face).astype(np.int32)
    return replace(split, facet_face=owner, faces=split.faces[: len(shape.faces)], edges=tuple(keep))
