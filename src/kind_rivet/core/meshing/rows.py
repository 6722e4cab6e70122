"""Regular meshes of flat regions, also of those that were regular without their holes and rounded corners."""

from __future__ import annotations

from functools import partial

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.choice import EASY, easiest, tried
from kind_rivet.core.meshing.free.clearings import cleared_elements, filled_anew
from kind_rivet.core.meshing.free.fill import FlatMesh
from kind_rivet.core.meshing.free.mend import score_of
from kind_rivet.core.meshing.free.pieces import Fill
from kind_rivet.core.meshing.free.repeats import Repeats
from kind_rivet.core.meshing.lattice import fill_lattice
from kind_rivet.core.meshing.mapped import fill_blocks, fill_disc, fill_mapped, fill_rings
from kind_rivet.core.meshing.on_torus import fill_torus
from kind_rivet.core.meshing.patch import Patch
from kind_rivet.core.meshing.rounded import rounded_turns

SOUND = 0.65  # worst scaled Jacobian of rows that clearings are worth making in
CROWDED = 0.5  # worst scaled Jacobian up to which there is no room for rows between holes
MANY = 16  # holes from which fewer widths are tried
LONG = 300  # border nodes from which the first lattice that fits rounded corners is taken
WIDE = (0.81, 1.23, 1.63, 2.07)  # sizes round a hole that rows keep clear of


def regular_inside(patch: Patch, loop: Floats, size: float, turn: NDArray[np.int64] | None) -> FlatMesh | None:
    """Rows, blocks or a disc inside one border loop."""
    return fill_torus(patch, loop) or fill_mapped(loop) or _along_lattice(loop, turn) or fill_blocks(loop) or fill_disc(loop, size)


def rows_with_clearings(
    patch: Patch, loops: list[Floats], size: float, growth: float, turn: NDArray[np.int64] | None, clearing: Fill
) -> FlatMesh | None:
    """The calmest mesh that is regular away from holes and rounded corners, where the region were regular without them."""
    found = _bare_rows(patch, loops, size, turn)
    if found is None:
        return None
    whole, along = found
    holes = [loop for k, loop in enumerate(loops) if k not in along]
    poor = score_of(whole.points, whole.elements, size) < EASY  # in rounded corners
    cleared: list[NDArray[np.bool_]] = []
    for wide in WIDE if len(holes) <= MANY else WIDE[:2]:
        lot = cleared_elements(whole, holes, wide * size, poor, (wide - WIDE[0]) * size)
        if lot is not None and lot.any() and not any(np.array_equal(lot, other) for other in cleared):
            cleared.append(lot)
    repeats = Repeats(size, clearing)
    made = [tried(partial(filled_anew, whole, along, loops, lot, repeats.filled)) for lot in cleared]
    sound = [mesh for mesh in made if mesh is not None and mesh.worst > CROWDED]
    return easiest(sound, loops, size, growth) if sound else None


def _bare_rows(patch: Patch, loops: list[Floats], size: float, turn: NDArray[np.int64] | None) -> tuple[FlatMesh, list[int]] | None:
    """Rows as if there were no holes and no rounded corners, and the loops that they run along."""
    if len(loops) > 1:
        whole = regular_inside(patch, loops[0], size, turn)
        if whole is not None and whole.worst > SOUND and not whole.trias:
            return whole, [0]
    if len(loops) > 2:
        inner = next((k for k in range(1, len(loops)) if len(loops[k]) == len(loops[0])), None)
        whole = fill_rings(loops[0], loops[inner], size) if inner is not None else None
        if whole is not None and inner is not None and whole.worst > SOUND:
            return whole, [0, inner]
    made: list[FlatMesh] = []
    for corners in rounded_turns(loops[0]):
        rounded = fill_lattice(loops[0], corners)
        made += [rounded] if rounded is not None else []
        if made and len(loops[0]) > LONG:
            break
    return (max(made, key=lambda mesh: mesh.worst), [0]) if made else None


def _along_lattice(loop: Floats, turn: NDArray[np.int64] | None) -> FlatMesh | None:
    """Rows between four sides whose corners the surface tells, or between the sides of a lattice."""
    if turn is None or len(turn) != len(loop):
        return None
    corners = np.flatnonzero(turn)
    if len(corners) == 4 and (turn[corners] == 1).all():
        return fill_mapped(loop, corners.tolist())
    return fill_lattice(loop, turn)
