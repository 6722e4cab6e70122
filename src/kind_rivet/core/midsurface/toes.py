"""Toes of blends: the rim of a wall goes straight on to the wall that it ends on.

Where a blend rounds the corner between the end of a rib and what the rib stands on, the outline of the rib's
middle swings out along the other wall. What lies there is the blend's, and would give the rib a corner of very small shells.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kind_rivet.core.geometry.carriers import Floats, unit
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.simplify import leaving, tidied
from kind_rivet.core.geometry.split import cut_between

TOE = 2.0  # walls of the thicker one that a toe may be long, along either wall
SMOOTH = 0.97  # cosine with which a rim runs on into its toe
BESIDE = 1e-3  # walls that the rim's line may pass beside the joint


def without_toes(shape: Shape, thickness: Floats) -> Shape:
    """The sheet without the toes of its walls (thickness (f,)); faces keep their numbers, joints end where the rims do."""
    whole = tuple(range(len(shape.faces)))
    while True:
        before = shape
        for face, vertex, place in _toes(shape, thickness):
            shape = _cut_off(shape, face, vertex, place)
        if shape is before:
            return shape
        shape = tidied(shape, whole)


def _toes(shape: Shape, thickness: Floats) -> list[tuple[int, int, Floats]]:
    """Faces with a toe, the vertex at which the rim swings out, and the place on the joint that it would come to."""
    out = []
    for e, beside in enumerate(shape.edge_faces):
        edge = shape.edges[e]
        if len(beside) != 1 or edge.closed or edge.carrier.kind == "line":
            continue
        for near, far in (edge.nodes[[0, -1]], edge.nodes[[-1, 0]]):
            found = _place_on_joint(shape, thickness, e, int(near), int(far))
            if found is not None:
                out.append((beside[0], int(near), found))
    return out


def _place_on_joint(shape: Shape, thickness: Floats, arc: int, near: int, far: int) -> Floats | None:
    """Where the rim that runs into an arc at `near` would meet the joint that the outline comes to from `far`; None if that is no toe."""
    face = shape.edge_faces[arc][0]
    rim, foot = _following(shape, face, arc, near), _end_of_run(shape, face, arc, far, TOE * float(thickness[face]))
    if rim is None or foot in (None, near) or shape.edges[rim].carrier.kind != "line":
        return None
    heading = -leaving(shape, rim, near)
    if heading @ leaving(shape, arc, near) < SMOOTH:
        return None
    at = [k for k in shape.vertices.get(foot, []) if len(shape.edge_faces[k]) > 1]
    if len(at) != 1 or face not in shape.edge_faces[at[0]] or shape.edges[at[0]].carrier.kind != "line":
        return None
    wall = max(float(thickness[f]) for f in shape.edge_faces[at[0]])
    other = _other_end(shape, at[0], foot)
    start, tip = shape.points[foot], shape.points[near]
    along, length = unit(shape.points[other] - start), float(np.linalg.norm(shape.points[other] - start))
    place = _meeting(tip, heading, start, along, BESIDE * wall)
    if place is None:
        return None
    down, back = float((place - tip) @ heading), float((place - start) @ along)
    if not 0 < down < TOE * wall or not 0 < back < min(TOE * wall, length + BESIDE * wall):
        return None
    return place if back < length - BESIDE * wall else shape.points[other]  # where another rim has come to it already


def _end_of_run(shape: Shape, face: int, edge: int, vertex: int, most: float) -> int | None:
    """The vertex at which the open edges of a face that follow one of them end, as long as there is but one; None where they are longer than `most`."""
    length = 0.0
    first = edge
    while length < most and (following := _following(shape, face, edge, vertex)) not in (None, first):
        edge = following
        length += float(shape.edge_length[edge])
        vertex = _other_end(shape, edge, vertex)
    return vertex if 0 < length < most else None


def _other_end(shape: Shape, edge: int, vertex: int) -> int:
    ends = shape.edges[edge].nodes
    return int(ends[-1] if int(ends[0]) == vertex else ends[0])


def _following(shape: Shape, face: int, edge: int, vertex: int) -> int | None:
    """The open edge of a face that follows one of its open edges at a vertex, where there is no other."""
    at = [k for k in shape.vertices.get(vertex, []) if k != edge]
    return at[0] if len(at) == 1 and shape.edge_faces[at[0]] == (face,) and not shape.edges[at[0]].closed else None


def _meeting(tip: Floats, heading: Floats, start: Floats, along: Floats, beside: float) -> Floats | None:
    """Where a line comes nearest to another, on the other one; None where it passes further than `beside`, or runs along it."""
    cosine = float(heading @ along)
    if abs(cosine) > SMOOTH:
        return None
    between = start - tip
    t = (between @ heading - cosine * (between @ along)) / (1 - cosine**2)
    place = start + along * float((tip + t * heading - start) @ along)
    return place if np.linalg.norm(tip + t * heading - place) < beside else None


def _cut_off(shape: Shape, face: int, vertex: int, place: Floats) -> Shape:
    """The shape with what lies beyond a line across a face as its last face; as it was where that cannot be cut."""
    last, area = len(shape.faces), float(shape.face_area[face])
    cut = cut_between(shape, face, vertex, place)
    if cut is None or len(cut.faces) != last + 1:
        return shape
    if cut.face_area[last] < area / 2:
        return cut
    owner = cut.facet_face.copy()  # what stays keeps the number
    owner[cut.facet_face == face], owner[cut.facet_face == last] = last, face
    return replace(cut, facet_face=owner)
