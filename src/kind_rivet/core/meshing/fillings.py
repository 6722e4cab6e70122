"""Which mesh a flat region gets: regular, symmetric, in cells, in bands or free, by comparing what comes out."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.free.bands import fill_with_bands
from kind_rivet.core.meshing.free.cells import fill_in_cells
from kind_rivet.core.meshing.free.fill import CannotFill, FlatMesh, faults_of, fill
from kind_rivet.core.meshing.free.flow import Flow, field_of
from kind_rivet.core.meshing.free.refill import Before, refilled
from kind_rivet.core.meshing.free.regular import IRREGULAR, TRIA
from kind_rivet.core.meshing.free.symmetry import fill_symmetric
from kind_rivet.core.meshing.lattice import fill_lattice
from kind_rivet.core.meshing.mapped import fill_blocks, fill_disc, fill_mapped, fill_rings, fill_star
from kind_rivet.core.meshing.on_torus import fill_torus
from kind_rivet.core.meshing.patch import Patch
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.sizes import spots_of

SIGNED = 0.65  # scaled Jacobian from which a mesh with three mirror axes or more and no tria is taken without trying another
ALIKE = 1.02  # unease of a symmetric mesh against a free one up to which it is preferred
CALM_ROWS = 0.25  # unease on average up to which a regular mesh is taken without trying the free one
MANY = 16  # borders from which cells that came out well are taken without trying anything else
WORTH_CELLS = 0.9  # unease of a mesh in cells between few holes, against that of another, from which it is taken
STRAY = 5e-4  # share of trias up to which a mesh in cells or bands has come out well
FEW = 0.5  # faults that one mesh may have more than another and still be taken for its rows
EVEN = 0.05  # of the scaled Jacobian by which quads round one node may be worse than another filling of a cell


def best_filling(
    patch: Patch, loops: list[Floats], hard: Floats, rules: ShellRules, turn: NDArray[np.int64] | None, before: Before | None = None
) -> FlatMesh:
    """Regular where that is at least as good, else symmetric or free, or as forced for a face. Raises `CannotFill` where nothing works.

    `turn`: whole quarter turns at the nodes of the outer loop, where it runs along two directions.
    `before`: what filled a large region, of which all stays that is not near changes.
    """
    size, spots = rules.size_on(patch.faces), spots_of(patch, rules)
    way = next((rules.ways[f] for f in patch.faces if f in rules.ways), "")
    regular = None
    if not len(hard) and way != "free" and (not len(spots) or way == "regular"):
        regular = (
            fill_torus(patch, loops[0])
            or fill_mapped(loops[0])
            or _along_lattice(loops[0], turn)
            or fill_blocks(loops[0])
            or fill_disc(loops[0], size)
            if len(loops) == 1
            else fill_rings(loops[0], loops[1], size)
            if len(loops) == 2
            else None
        )
    flow = Flow(field_of(loops), size, rules.growth, spots)
    if regular is not None and (
        regular.worst > 0.0 if way == "regular" else regular.worst > 0.6 and _unrest(regular, loops, flow) < CALM_ROWS
    ):
        return regular
    if before is not None and not len(hard) and not len(spots) and (mesh := refilled(before, loops, size, rules.growth)) is not None:
        return mesh
    alike = None
    if not len(hard) and not len(spots):
        alike, axes = _symmetric(loops, size, rules.growth)
        if regular is None and alike is not None and axes > 2 and alike.worst > SIGNED and alike.trias == 0:
            return alike
    try:
        if len(hard) or len(spots):
            free = fill(loops, size, rules.growth, hard, spots)
        else:
            free = _filled(loops, size, rules.growth, alike is None or faults_of(alike, loops, size) > FEW)
    except CannotFill:
        if regular is not None and regular.worst > 0:
            return regular
        raise
    if alike is not None and alike.worst > min(0.6, free.worst) and _unrest(alike, loops, flow) <= ALIKE * _unrest(free, loops, flow):
        free = alike
    return free if regular is None else _better(regular, free, loops, flow)


def _symmetric(loops: list[Floats], size: float, growth: float) -> tuple[FlatMesh | None, int]:
    """A mesh as symmetric as the border, where that can be, and the number of its mirror axes."""
    try:
        return fill_symmetric(loops, size, growth, lambda lot: _part(lot, size, growth, _filled))
    except CannotFill:
        return None, 0


def _filled(loops: list[Floats], size: float, growth: float, few: bool = True) -> FlatMesh:
    """In cells between holes (`few`: even between a few), in bands between borders that face each other, or free. Raises `CannotFill`."""
    in_cells = _tried(_in_cells, loops, size, growth) if few or len(loops) > MANY else None
    if in_cells is not None and len(loops) > MANY and _came_out_well(in_cells):
        return in_cells
    in_bands = _tried(_with_bands, loops, size, growth)
    if in_bands is not None and _came_out_well(in_bands):
        best = in_bands
    else:
        made = [mesh for mesh in (in_bands, fill(loops, size, growth)) if mesh is not None]
        best = _calmest(_least_faults(made, loops, size), loops, size, growth)
    if in_cells is None:
        return best
    faults, others = (faults_of(mesh, loops, size) for mesh in (in_cells, best))
    flow = Flow(field_of(loops), size, growth, np.empty((0, 4)))
    calmer = faults <= others + FEW and _unrest(in_cells, loops, flow) < WORTH_CELLS * _unrest(best, loops, flow)
    return in_cells if calmer or faults < others - FEW else best


def _tried(
    way: Callable[[list[Floats], float, float], FlatMesh | None], loops: list[Floats], size: float, growth: float
) -> FlatMesh | None:
    try:
        return way(loops, size, growth)
    except CannotFill:
        return None


def _came_out_well(mesh: FlatMesh) -> bool:
    return mesh.worst > SIGNED and mesh.trias <= STRAY * len(mesh.elements)


def _with_bands(loops: list[Floats], size: float, growth: float) -> FlatMesh | None:
    return fill_with_bands(loops, size, lambda lot: _part(lot, size, growth, fill))


def _in_cells(loops: list[Floats], size: float, growth: float) -> FlatMesh | None:
    return fill_in_cells(loops, size, growth, lambda lot: _cell(lot, size, growth))


def _cell(lot: list[Floats], size: float, growth: float) -> FlatMesh:
    """A cell between holes: the calmest of what is regular, symmetric or free."""
    star = fill_star(lot[0]) if len(lot) == 1 else None
    made = [fill_mapped(lot[0]), fill_blocks(lot[0]), star] if len(lot) == 1 else []
    made += [_symmetric(lot, size, growth)[0], fill(lot, size, growth)]
    sound = _least_faults([mesh for mesh in made if mesh is not None], lot, size)
    if star is not None and any(mesh is star for mesh in sound) and star.worst >= max(mesh.worst for mesh in sound) - EVEN:
        return star  # seen alike from all holes round it
    return _calmest(sound, lot, size, growth)


def _least_faults(made: list[FlatMesh], loops: list[Floats], size: float) -> list[FlatMesh]:
    """Those with hardly more faults than the best."""
    faults = [faults_of(mesh, loops, size) for mesh in made]
    return [mesh for mesh, count in zip(made, faults, strict=True) if count <= min(faults) + FEW]


def _calmest(made: list[FlatMesh], loops: list[Floats], size: float, growth: float) -> FlatMesh:
    flow = Flow(field_of(loops), size, growth, np.empty((0, 4)))
    return min(made, key=lambda mesh: _unrest(mesh, loops, flow))


def _part(lot: list[Floats], size: float, growth: float, filled: Callable[[list[Floats], float, float], FlatMesh]) -> FlatMesh:
    """Part of a region: regular where that is at least as good as what `filled` makes."""
    regular = fill_mapped(lot[0]) or fill_blocks(lot[0]) if len(lot) == 1 else None
    flow = Flow(field_of(lot), size, growth, np.empty((0, 4)))
    if regular is not None and regular.worst > 0.6 and _unrest(regular, lot, flow) < CALM_ROWS:
        return regular
    free = filled(lot, size, growth)
    return free if regular is None else _better(regular, free, lot, flow)


def _better(regular: FlatMesh, free: FlatMesh, loops: list[Floats], flow: Flow) -> FlatMesh:
    if regular.worst <= 0:
        return free
    if min(regular.worst, free.worst) > 0.6:
        return regular if _unrest(regular, loops, flow) <= _unrest(free, loops, flow) else free
    return regular if regular.worst >= free.worst else free


def _unrest(mesh: FlatMesh, loops: list[Floats], flow: Flow) -> float:
    """What an element of a flat mesh lacks on average, irregular nodes and trias counted in."""
    border = sum(len(loop) for loop in loops)
    used = np.bincount(mesh.elements[mesh.elements >= 0], minlength=len(mesh.points))
    odd = IRREGULAR * int((used[border:] != 4).sum()) + TRIA * mesh.trias
    return (float(flow.unease(mesh.points, mesh.elements).sum()) + odd) / len(mesh.elements)


def _along_lattice(loop: Floats, turn: NDArray[np.int64] | None) -> FlatMesh | None:
    """Rows between four sides whose corners the surface tells, or between the sides of a lattice."""
    if turn is None or len(turn) != len(loop):
        return None
    corners = np.flatnonzero(turn)
    if len(corners) == 4 and (turn[corners] == 1).all():
        return fill_mapped(loop, corners.tolist())
    return fill_lattice(loop, turn)
