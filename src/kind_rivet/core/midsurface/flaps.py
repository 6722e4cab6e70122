"""Flaps: specks of a wall that hang on joints of other walls and end inside the solid.

Where two bends of unlike rounding meet at a corner of a plate, the line of each on the plate begins at another
depth. Between them the plate runs on to the line of the bend that ends there, and its border would touch itself.
"""

from __future__ import annotations

from collections import Counter
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.simplify import tidied
from kind_rivet.core.geometry.split import pieces_between

SPECK = 0.3  # squared walls that a flap may have
FREE = 0.25  # of its border that at least is free


def without_flaps(shape: Shape, thickness: Floats) -> Shape:
    """The sheet without the flaps of its walls (thickness (f,)); faces keep their numbers. Nothing is open without them that was not before."""
    touching = {f for beside in shape.edge_faces for f, uses in Counter(beside).items() if uses > 1 and len(beside) > 2}
    gone = np.zeros(len(shape.facets), bool)
    for face in sorted(touching):
        facets = np.flatnonzero(shape.facet_face == face)
        label = pieces_between(shape, facets, set(shape.segment_faces))
        pieces = [label == k for k in range(label.max() + 1)]
        for flap in pieces if len(pieces) > 1 else ():
            if shape.facet_area[flap].sum() <= SPECK * thickness[face] ** 2 and _hangs(shape, flap):
                gone |= flap
    if not gone.any():
        return shape
    kept = replace(shape, facets=shape.facets[~gone], facet_face=shape.facet_face[~gone], normals=shape.normals[~gone])
    return tidied(kept, tuple(range(len(shape.faces))))


def _hangs(shape: Shape, flap: NDArray[np.bool_]) -> bool:
    """Is enough of the border of these facets (f,) free, and does more than one facet stay wherever it is not?"""
    border = free = 0.0
    for (a, b), facets in shape.segment_faces.items():
        if flap[facets].sum() != 1:
            continue
        length = float(np.linalg.norm(shape.points[b] - shape.points[a]))
        border += length
        if len(facets) == 1:
            free += length
        elif len(facets) == 2:
            return False
    return free > FREE * border
