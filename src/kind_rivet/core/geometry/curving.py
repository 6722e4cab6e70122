"""Edges across which two freely curved faces curve on alike: CAD has split one surface there, or two patches of one skin meet."""

from __future__ import annotations

import numpy as np

from kind_rivet.core.geometry.carriers import Floats, unit
from kind_rivet.core.geometry.shape import Shape

SMOOTH = np.cos(np.radians(0.5))
SOFT = np.cos(np.radians(5.0))  # patches of lofts meet at a degree or two
ALIKE = 0.35  # share of the larger curvature by which both sides may differ, as read from facets
TURN = 0.02  # rad over its width by which a sliver's curvature may differ
FLAT = 0.1  # how far a face may turn over its mean width by what is not alike, rad


def smooth_on(shape: Shape) -> list[int]:
    """The edges between free faces that have nearly one normal on both sides."""
    out = []
    for e in _between_free(shape):
        one, other = (_across(shape, e, f) for f in shape.edge_faces[e])
        known = ~np.isnan(one[0]) & ~np.isnan(other[0])
        if known.any() and np.einsum("ij,ij->i", one[1][known], other[1][known]).min() >= SOFT:
            out.append(e)
    return out


def _between_free(shape: Shape) -> list[int]:
    free = np.array([face.carrier.kind == "free" for face in shape.faces], bool)
    return [e for e, beside in enumerate(shape.edge_faces) if len(beside) == 2 and beside[0] != beside[1] and free[list(beside)].all()]


def curving_on(shape: Shape) -> list[int]:
    """The edges between free faces that have one normal on both sides and, square to the edge, nearly one curvature."""
    asked = _between_free(shape)
    if not asked:
        return []
    width = 2 * shape.face_area / np.maximum(shape.face_border_length, 1e-300)
    found: list[int] = []
    slivers: dict[int, int] = {}  # face too narrow to turn, to its longest smooth edge
    for e in asked:
        one, other = (_across(shape, e, f) for f in shape.edge_faces[e])
        known = ~np.isnan(one[0]) & ~np.isnan(other[0])
        if not known.any():
            continue
        if np.einsum("ij,ij->i", one[1][known], other[1][known]).min() < SMOOTH:
            continue
        k, m = one[0][known], other[0][known]
        allowed = ALIKE * np.median(np.maximum(np.abs(k), np.abs(m))) + FLAT / max(float(width[f]) for f in shape.edge_faces[e])
        apart = float(np.median(np.abs(k - m)))
        if apart < allowed:
            found.append(e)
            continue
        narrow = min(shape.edge_faces[e], key=lambda f: float(width[f]))
        longest = slivers.get(narrow)
        if apart * width[narrow] < TURN and (longest is None or shape.edge_length[e] > shape.edge_length[longest]):
            slivers[narrow] = e
    joined = {f for e in found for f in shape.edge_faces[e]}
    return found + [e for f, e in slivers.items() if f not in joined]


def _across(shape: Shape, edge: int, face: int) -> tuple[Floats, Floats]:
    """Curvature (s,) of a face square to each segment of an edge, and its normal (s, 3) there; nan where no facet tells it."""
    nodes = shape.edges[edge].nodes
    curvature, normal = np.full(len(nodes) - 1, np.nan), np.zeros((len(nodes) - 1, 3))
    for s, (a, b) in enumerate(zip(nodes[:-1].tolist(), nodes[1:].tolist(), strict=True)):
        t = next((t for t in shape.segment_faces[min(a, b), max(a, b)] if shape.facet_face[t] == face), None)
        if t is None:
            continue
        corners = shape.facets[t].tolist()
        i, j = corners.index(a), corners.index(b)
        k = 3 - i - j
        p, n = shape.points[shape.facets[t]], shape.normals[t]
        along = p[j] - p[i]
        at = float(np.clip((p[k] - p[i]) @ along / max(float(along @ along), 1e-300), 0.0, 1.0))
        away = p[k] - p[i] - at * along
        foot = (1 - at) * n[i] + at * n[j]
        normal[s] = unit(n[i] + n[j])
        square = float(away @ away)
        if square > 0:
            curvature[s] = (n[k] - foot) @ away / square
    return curvature, normal
