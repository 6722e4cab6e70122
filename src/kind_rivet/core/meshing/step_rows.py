"""A row of quads along a border of a plane wall that rises from a step all round, as a ring runs round a hole.

Nodes at a step lie half-way between the walls that meet there. A quad that touches it with one corner
only is warped, so the first row follows the step wherever it runs smoothly.
"""

from __future__ import annotations

import numpy as np

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.gaps import loop_gap
from kind_rivet.core.meshing.mapped import turns
from kind_rivet.core.meshing.patch import Patch
from kind_rivet.core.meshing.washers import LEAST_SIDE, STEEP, ring_outlines

WIDTHS = (0.9, 0.7, 0.5)  # of the size: tried one after the other
SMOOTH = 0.51  # quarter turns at one node up to which a border runs smoothly: no more than in an octagon
LEFT = 0.6  # sizes between the row and what is within
DISC_SIDE = 0.7  # sizes: shortest side of a row within a disc, which has to be filled from all sides
KITES = 8  # nodes of a row within which four quads round one node fill a disc, whatever its size
NARROWED = 0.45  # of a side at the step: shortest side across the row from it


def row_along(patch: Patch, loops: list[Floats], index: int, size: float) -> Floats | None:
    """Places (n, 2) of the nodes of a row into the region, one for each node of a loop (n, 2); None where none is needed or fits."""
    border, others = loops[index], [loop for k, loop in enumerate(loops) if k != index]
    if len(border) < 8 or len(patch.carriers) != 1 or patch.carriers[0].kind != "plane":
        return None
    plane, corners = patch.carriers[0].array, np.concatenate([p.corners for p in patch.loops[index]])
    off = np.abs((patch.space[corners] - plane[:3]) @ plane[3:6])
    if off.min() < STEEP * size or np.abs(turns(border)).max() > SMOOTH:
        return None
    disc = not others and len(patch.loops[0]) == 1
    side = np.linalg.norm(np.roll(border, -1, axis=0) - border, axis=1)
    if disc and len(border) == KITES:
        least, shares = LEAST_SIDE * size, [*WIDTHS, _narrowest(border, size)]
    else:
        least, shares = (DISC_SIDE if disc else LEAST_SIDE) * size, [*WIDTHS]
    for share in shares:
        row = ring_outlines(border, 1.0, (share * size,), False)[0]
        along = np.linalg.norm(np.roll(row, -1, axis=0) - row, axis=1)
        sound = along.min() > least and (along > NARROWED * side).all() and (along * NARROWED < side).all()
        if sound and loop_gap(row, border) > 0.8 * share * size and all(loop_gap(row, other) > LEFT * size for other in others):
            return row
    return None


def _narrowest(border: Floats, size: float) -> float:
    """Share of the size between a round border (n, 2) and a row whose sides are just long enough; too little where there is no room."""
    radius = float(np.linalg.norm(border - border.mean(axis=0), axis=1).mean())
    half = np.pi / len(border)
    share = (radius / size - 1.01 * LEAST_SIDE / (2 * np.sin(half))) * np.cos(half)
    return float(share) if share > LEAST_SIDE * np.cos(half) else 0.0  # nodes lie farther apart than the sides
