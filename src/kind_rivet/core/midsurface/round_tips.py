"""Walls that end in half a round: what they stand on is parted there as where a wall ends square."""

from __future__ import annotations

import numpy as np

from kind_rivet.core.geometry.carriers import Carrier, same, unit
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.midsurface.blends import hollow

HALF_ROUND = 0.05  # cosine between a round tip's way out and its sides at most
TIP = 0.6  # walls of radius that a round tip has at most
EXACT = 1e-3  # radii: two halves of a round differ by no more
NOWHERE = np.empty((0, 3))  # cylinders are told apart without places on them


def round_tip(shape: Shape, face: int, wall: float) -> Carrier | None:
    """The plane that a wall's end touches where it is half a round, of which a face is all or half; none where it is not.

    A wall that ends square has that plane for its end, and what it stands on is parted there.
    """
    carrier = shape.faces[face].carrier
    if carrier.kind != "cylinder" or carrier.data[6] > TIP * wall or hollow(shape, face):
        return None
    axis, radius = carrier.array[3:6], carrier.data[6]
    lot = [face] + [g for g in shape.face_neighbours[face] if same(shape.faces[g].carrier, carrier, NOWHERE, EXACT * radius)]
    mine = np.isin(shape.facet_face, lot)
    normals = shape.normals[mine].reshape(-1, 3)
    if not mine.any() or np.abs(normals @ axis).max() > HALF_ROUND:
        return None
    out = unit((shape.normals[mine].sum(axis=1) * shape.facet_area[mine][:, None]).sum(axis=0))
    if not -HALF_ROUND < float((normals @ out).min()) < HALF_ROUND:
        return None
    return Carrier("plane", (*(carrier.array[:3] + radius * out).tolist(), *out.tolist()))
