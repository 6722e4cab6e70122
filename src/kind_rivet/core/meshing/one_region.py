"""Faces that are meshed as one region: those that a hole across a bend belongs to, or that a hole all but reaches."""

from __future__ import annotations

import numpy as np

from kind_rivet.core.geometry.carriers import Floats, same, unit
from kind_rivet.core.geometry.loops import free_loops
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.curves import Curve

NEAR = 0.6  # of the size: what lies between a hole and the border of a bend is too narrow for a ring and a row when it is less
SMOOTH = 0.97  # cosine between the walls' normals along a border of a bend
STRAIGHT = 0.999  # end to end over length of a line along a bend
WHOLE = 5.5  # radians that the edges of a hole turn in all
SMALL = 0.3  # of the sheet's diagonal: the longest way round a hole that lies in several faces


def regions_of(shape: Shape, size: float = 0.0) -> list[tuple[int, ...]]:
    """Faces that are meshed as one, for elements of some size; all others alone.

    Faces of one carrier stay apart: the line between them was drawn on purpose.
    """
    parent = list(range(len(shape.faces)))

    def root(f: int) -> int:
        while parent[f] != f:
            f = parent[f]
        return f

    for faces, _ in across_bends(shape, size):
        for f in faces[1:]:
            parent[root(f)] = root(faces[0])
    groups: dict[int, list[int]] = {}
    for f in range(len(shape.faces)):
        if shape.face_edges[f]:
            groups.setdefault(root(f), []).append(f)
    return [tuple(g) for g in groups.values()]


def across_bends(shape: Shape, size: float) -> list[tuple[list[int], list[int]]]:
    """Holes that lie across bends, or all but reach the border of one: the faces they belong to, and their edges."""
    out = []
    inner: dict[int, list[int]] = {}  # edges between a face and one other
    for e, beside in enumerate(shape.edge_faces):
        if len(beside) == 2 and beside[0] != beside[1]:
            for f in beside:
                inner.setdefault(f, []).append(e)
    for loop in free_loops(shape):
        if not is_hole(shape, loop):
            continue
        faces = sorted({shape.edge_faces[e][0] for e in loop})
        if _bend_between(shape, faces) and _is_round(shape, loop):
            out.append((faces, loop))
        elif size > 0:
            for f in faces:
                reached = _all_but_reached(shape, loop, f, inner.get(f, []), NEAR * size)
                out += [([f, *reached], loop)] if reached else []
    return out


def is_hole(shape: Shape, loop: list[int]) -> bool:
    """Is a free loop a hole and not the border of the sheet, since it is short or lies in one face?"""
    return sum(shape.edge_length[e] for e in loop) < SMALL * shape.diagonal or len({shape.edge_faces[e][0] for e in loop}) == 1


def _is_round(shape: Shape, loop: list[int]) -> bool:
    """Does a loop go round once on arcs and freely curved edges?"""
    if any(shape.edges[e].carrier.kind not in ("circle", "free") for e in loop):
        return False
    return sum(Curve.through(shape.points[shape.edges[e].nodes], shape.edges[e].carrier).turning() for e in loop) > WHOLE


def _bend_between(shape: Shape, faces: list[int]) -> bool:
    """Do several faces lie on different carriers?"""
    if len(faces) < 2:
        return False
    first, tolerance = shape.faces[faces[0]].carrier, 1e-6 * shape.diagonal
    points = shape.points[shape.facets[shape.facet_face == faces[0]]].reshape(-1, 3)
    return any(not same(first, shape.faces[f].carrier, points, tolerance) for f in faces[1:])


def _all_but_reached(shape: Shape, loop: list[int], face: int, borders: list[int], near: float) -> list[int]:
    """Faces that run smoothly on from the one a hole lies in, across `borders` nearer to the hole than `near`, where one of both is a bend along them."""
    rim = np.concatenate([shape.points[shape.edges[e].nodes] for e in loop if shape.edge_faces[e][0] == face])
    ends = {int(n) for e in loop for n in shape.edges[e].nodes[[0, -1]]}
    low, high = rim.min(axis=0) - near, rim.max(axis=0) + near
    out: list[int] = []
    for e in borders:
        if not ends.isdisjoint(shape.edges[e].nodes[[0, -1]].tolist()):
            continue
        line = shape.points[shape.edges[e].nodes]
        if (line.max(axis=0) < low).any() or (line.min(axis=0) > high).any() or _apart(rim, line) >= near:
            continue
        other = next(f for f in shape.edge_faces[e] if f != face)
        straight = np.linalg.norm(line[-1] - line[0]) > STRAIGHT * shape.edge_length[e]
        bent = "cylinder" in (shape.faces[face].carrier.kind, shape.faces[other].carrier.kind)
        if straight and bent and _smooth(shape, face, other, shape.edges[e].nodes):
            out.append(other)
    return out


def _apart(points: Floats, line: Floats) -> float:
    """Least distance between points (n, 3) and a polyline (m, 3)."""
    start, side = line[:-1], np.diff(line, axis=0)
    away = points[:, None] - start
    share = np.clip(np.einsum("nmk,mk->nm", away, side) / np.maximum(np.einsum("mk,mk->m", side, side), 1e-300), 0.0, 1.0)
    return float(np.linalg.norm(away - share[..., None] * side, axis=2).min())


def _smooth(shape: Shape, one: int, other: int, nodes: np.ndarray) -> bool:
    """Do two faces have one tangent plane along the edge between them?"""
    at = []
    for face in (one, other):
        mine = shape.facet_face == face
        corner = np.isin(shape.facets[mine], nodes)
        at.append(unit(shape.normals[mine][corner].mean(axis=0)[None])[0])
    return bool(abs(at[0] @ at[1]) > SMOOTH)
