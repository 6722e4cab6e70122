"""Rings that leave room for even rows between them and the border near by.

One and a half sizes from a border there is room for one row that is too wide, or for two that are narrow: a ring a little narrower
leaves room for two as wide as itself.
"""

from __future__ import annotations

import numpy as np

from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.gaps import loop_gap
from kind_rivet.core.meshing.patch import Patch
from kind_rivet.core.meshing.touching import touching_angle

AWKWARD = (1.25, 1.75)  # sizes between a ring and the border that are much for one row and little for two
NARROWEST = 0.6  # of the size that a ring may be for rows beyond it
HALF_TURN = 2.8  # radians; walls that turn more are no bends


def ring_in_rows(shape: Shape, patch: Patch, loop: int, width: float, size: float) -> float:
    """The width of the one ring round a hole (its `loop`), for which `width` is asked: a third of the way to the border where that suits better."""
    gap = loop_gap(patch.outlines[loop], patch.outlines[0])
    if gap - width > AWKWARD[1] * size:
        return width
    gap += _most_slid(shape, patch, size)
    row = gap / 3
    return row if AWKWARD[0] * size < gap - width < AWKWARD[1] * size and NARROWEST * size <= row <= width else width


def _most_slid(shape: Shape, patch: Patch, size: float) -> float:
    """How far the rows along the bends of a wall will be slid outward at most, about: that much wider do rows beside them become.

    Asked of the wall as a whole: a hole next to a free border often has a bend on its other side.
    """
    out = 0.0
    for face in {f for p in patch.loops[0] if p.edge >= 0 for f in shape.edge_faces[p.edge]} - set(patch.faces):
        if shape.faces[face].carrier.kind != "cylinder":
            continue
        radius = float(shape.faces[face].carrier.data[6])
        angle = float(shape.face_area[face]) / (max(float(shape.edge_length[e]) for e in shape.face_edges[face]) * radius)
        if angle < HALF_TURN:
            rows = max(1, round(angle * radius / size))
            out = max(out, radius * float(np.tan(touching_angle(angle, rows))))
    return out
