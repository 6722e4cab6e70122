"""Seams of closed round walls moved off the holes they cross: a hole that a seam cuts in two would be none to the mesher.

Round walls that follow them get their seams beside theirs, else the circle between them would fall into two arcs.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Floats, frame
from kind_rivet.core.geometry.shape import Edge, Shape
from kind_rivet.core.geometry.split import split_faces
from kind_rivet.core.midsurface.charts import gap_of, roomiest, widest_gap

ALL_ROUND = 5.0  # radians: edges that reach further round are ends of the wall, not holes
ONE_AXIS = 1e-6  # rad, and share of the diagonal, up to which two axes are one
ROOM = 0.1  # radians that a new seam must have free
BETTER = 1.5  # times as far from the sides of holes as the present seam, where there is no such room


def with_seams_clear(shape: Shape) -> Shape:
    """The shape with every seam that holes interrupt laid where no hole is. Faces keep their numbers."""
    for face in range(len(shape.faces)):
        seams = _seams(shape, face)
        if shape.faces[face].carrier.kind not in ("cylinder", "cone") or len(seams) < 2:
            continue
        towards = _clear(shape, face, seams)
        if towards is None:
            continue
        todo, done = [face], {face}
        while todo:
            f = todo.pop()
            try:
                shape = _moved(shape, f, towards)
            except Refused:
                continue
            following = _following(shape, f) - done
            done |= following
            todo += sorted(following)
    return shape


def _following(shape: Shape, face: int) -> set[int]:
    """Round walls about the same axis, closed by one seam, with which a wall shares circles."""
    d = shape.faces[face].carrier.array
    out = set()
    for e in shape.face_edges[face]:
        for f in set(shape.edge_faces[e]) - {face}:
            c = shape.faces[f].carrier
            if c.kind not in ("cylinder", "cone", "torus") or shape.edges[e].carrier.kind != "circle" or len(_seams(shape, f)) != 1:
                continue
            aslant, beside = (np.linalg.norm(np.cross(x, d[3:6])) for x in (c.array[3:6], c.array[:3] - d[:3]))
            if aslant < ONE_AXIS and beside < ONE_AXIS * shape.diagonal:
                out.add(f)
    return out


def _seams(shape: Shape, face: int) -> list[int]:
    return [e for e in shape.face_edges[face] if len(shape.edge_faces[e]) == 2 and set(shape.edge_faces[e]) == {face}]


def _angles(shape: Shape, face: int, points: Floats) -> Floats:
    d = shape.faces[face].carrier.array
    u, v = frame(d[3:6])
    q = points - d[:3]
    return np.asarray(np.arctan2(q @ v, q @ u))


def _clear(shape: Shape, face: int, seams: list[int]) -> Floats | None:
    """A direction (3,) from the axis in which a seam meets no hole, else one far from the sides of all holes; None where that is no better."""
    taken = []
    for e in shape.face_edges[face]:
        angle = np.unwrap(_angles(shape, face, shape.points[shape.edges[e].nodes]))
        if e not in seams and np.ptp(angle) < ALL_ROUND:
            taken.append((float(angle.min()), float(angle.max())))
    if not taken:
        return None
    spread = np.concatenate([np.linspace(low, high, 30) for low, high in taken])
    if gap_of(spread) >= 2 * ROOM:
        at = widest_gap(spread)
    else:
        now = float(_angles(shape, face, shape.points[shape.edges[seams[0]].nodes[:1]])[0])
        ends = np.array(taken).ravel()
        ends = ends[np.abs(_turned(ends - now)) > ONE_AXIS]  # holes that the seam cuts now end at it, but not really
        at, room = roomiest(ends, 2 * np.pi)
        if room < BETTER * np.abs(_turned(ends - now)).min(initial=np.pi):
            return None
    u, v = frame(shape.faces[face].carrier.array[3:6])
    return np.asarray(np.cos(at) * u + np.sin(at) * v)


def _turned(angle: Floats) -> Floats:
    """Angles (rad) between −π and π."""
    return (angle + np.pi) % (2 * np.pi) - np.pi


def _moved(shape: Shape, face: int, towards: Floats) -> Shape:
    """The shape with a face's seam in a direction (3,) from its axis."""
    d = shape.faces[face].carrier.array
    at = float(_angles(shape, face, d[:3] + towards[None])[0])
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
