"""Which mesh a flat region gets: regular, symmetric, in cells, in bands or free, by comparing what comes out."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import FREE, Floats
from kind_rivet.core.meshing.choice import FEW, calmest, easiest, least_faults, tried, unrest
from kind_rivet.core.meshing.free.bands import fill_with_bands
from kind_rivet.core.meshing.free.cells import PATTERN, fill_in_cells
from kind_rivet.core.meshing.free.fill import CannotFill, FlatMesh, faults_of, fill, lifted
from kind_rivet.core.meshing.free.flow import Flow, field_of
from kind_rivet.core.meshing.free.refill import Before, refilled
from kind_rivet.core.meshing.free.small import small_fillings
from kind_rivet.core.meshing.free.straddled import fill_straddled
from kind_rivet.core.meshing.free.symmetry import NEARLY, SAME, fill_symmetric
from kind_rivet.core.meshing.grain import grain_of, with_grain
from kind_rivet.core.meshing.mapped import fill_blocks, fill_mapped, fill_rings, fill_star
from kind_rivet.core.meshing.on_tube import fill_tube
from kind_rivet.core.meshing.patch import Patch
from kind_rivet.core.meshing.rows import regular_inside, rows_with_clearings
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.sizes import spots_of

SIGNED = 0.65  # scaled Jacobian from which a mesh with three mirror axes or more and no tria is taken without trying another
ON_TUBE = 0.5  # scaled Jacobian from which rows along and round a tube are taken at once
ALIKE, ALIKE_PATTERN = 1.15, 1.02  # unease of a symmetric mesh against a free one up to which it is preferred, and amid a pattern of holes
CALM_ROWS = 0.25  # unease on average up to which a regular mesh is taken without trying the free one
CALM_CLEARINGS, EASE = 0.04, 0.75  # unease and worst scaled Jacobian with which rows round clearings are taken at once
SMALL = 200  # border nodes of a region that need be symmetric only nearly
MANY = 16  # borders from which cells that came out well are taken without trying anything else
WORTH_CELLS = 0.9  # unease of a mesh in cells between few holes, against that of another, from which it is taken
STRAY = 5e-4  # share of trias up to which a mesh in cells or bands has come out well
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
    regular, plain = None, not len(hard) and not len(spots)
    if not len(hard) and way != "free" and (plain or way == "regular"):
        if len(loops) == 1 and (tube := fill_tube(patch, loops[0], size)) is not None and tube.worst > ON_TUBE:
            return tube
        if len(loops) == 1:
            regular = regular_inside(patch, loops[0], size, turn)
        elif len(loops) == 2:
            regular = fill_rings(loops[0], loops[1], size)
    grain = grain_of(patch, size)
    flow = Flow(field_of(loops, grain), size, rules.growth, spots)
    if regular is not None and (
        regular.worst > 0.0 if way == "regular" else regular.worst > 0.6 and unrest(regular, loops, flow) < CALM_ROWS
    ):
        return regular
    if before is not None and plain and (mesh := refilled(before, loops, size, rules.growth)) is not None:
        return mesh
    rows = None
    if plain and way != "free":
        rows = rows_with_clearings(patch, loops, size, rules.growth, turn, lambda lot: _clearing(lot, size, rules.growth))
    if rows is not None and rows.trias == 0 and rows.worst > EASE and unrest(rows, loops, flow) < CALM_CLEARINGS:
        return rows
    alike = None
    if plain:
        alike, axes = _symmetric(loops, size, rules.growth, NEARLY if sum(map(len, loops)) <= SMALL else SAME)
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
    if grain is not None:
        return with_grain(patch, [regular, rows, alike, free], loops, hard, spots, grain, size, rules.growth)
    leeway = ALIKE_PATTERN if len(loops) > PATTERN else ALIKE
    if alike is not None and alike.worst > min(0.6, free.worst) and unrest(alike, loops, flow) <= leeway * unrest(free, loops, flow):
        free = least_faults([free, alike], loops, size)[-1]  # the symmetric one, unless it has more faults
    if rows is not None and rows.trias <= free.trias and unrest(rows, loops, flow) < unrest(free, loops, flow):
        free = easiest([rows, free], loops, size, rules.growth)
    return free if regular is None else _better(regular, free, loops, flow)


def plane_filling(loops: list[Floats], size: float, growth: float = 0.25) -> FlatMesh:
    """As `best_filling`, for a region of the plane that no face gives (loops as for `fill`)."""
    nodes = np.concatenate(loops)
    space, up = np.column_stack((nodes, np.zeros(len(nodes)))), np.tile((0.0, 0.0, 1.0), (len(nodes), 1))
    bare = Patch((0,), (FREE,), np.empty((0, 3), np.int32), np.empty(0, np.int32), nodes, space, up, np.empty((0, 3, 3)), ())
    return lifted(best_filling(bare, loops, np.empty((0, 2)), ShellRules(size, growth), None), len(nodes))


def _clearing(lot: list[Floats], size: float, growth: float) -> FlatMesh:
    """What lies between rows and the holes they give way to: rings where counts are equal, else symmetric or free."""
    rings = fill_rings(lot[0], lot[1], size) if len(lot) == 2 else None
    if rings is not None and rings.worst > SIGNED:
        return rings
    flow = Flow(field_of(lot), size, growth, np.empty((0, 4)))
    alike, free = _symmetric(lot, size, growth)[0], fill(lot, size, growth)
    if alike is None or faults_of(alike, lot, size) > faults_of(free, lot, size) + FEW:
        return free
    return alike if unrest(alike, lot, flow) <= ALIKE * unrest(free, lot, flow) else free


def _symmetric(loops: list[Floats], size: float, growth: float, same: float = SAME) -> tuple[FlatMesh | None, int]:
    """A mesh as symmetric as the border (up to `same` sizes), where that can be, and the number of its mirror axes with nodes on them."""

    def fill_part(lot: list[Floats]) -> FlatMesh:
        return _part(lot, size, growth, _filled)

    astride = tried(lambda: fill_straddled(loops, size, growth, fill_part, same))
    try:
        alike, axes = fill_symmetric(loops, size, growth, fill_part, same)
    except CannotFill:
        alike, axes = None, 0
    if alike is None or astride is None:
        return (alike, axes) if astride is None else (astride, 0)
    better = calmest(least_faults([alike, astride], loops, size), loops, size, growth)
    return better, axes if better is alike else 0


def _filled(loops: list[Floats], size: float, growth: float, few: bool = True) -> FlatMesh:
    """In cells between holes (`few`: even between a few), in bands between borders that face each other, or free. Raises `CannotFill`."""
    in_cells = tried(lambda: _in_cells(loops, size, growth)) if few or len(loops) > MANY else None
    if in_cells is not None and len(loops) > MANY and _came_out_well(in_cells):
        return in_cells
    in_bands = tried(lambda: _with_bands(loops, size, growth))
    if in_bands is not None and _came_out_well(in_bands):
        best = in_bands
    else:
        made = [mesh for mesh in (in_bands, fill(loops, size, growth)) if mesh is not None]
        made += small_fillings(loops[0]) if len(loops) == 1 else []
        best = calmest(least_faults(made, loops, size), loops, size, growth)
    if in_cells is None:
        return best
    faults, others = (faults_of(mesh, loops, size) for mesh in (in_cells, best))
    flow = Flow(field_of(loops), size, growth, np.empty((0, 4)))
    worth = 1.0 if len(loops) > PATTERN else WORTH_CELLS  # amid a pattern, where holes are seen alike, cells need only be as calm
    calmer = faults <= others + FEW and unrest(in_cells, loops, flow) < worth * unrest(best, loops, flow)
    return in_cells if calmer or faults < others - FEW else best


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
    sound = least_faults([mesh for mesh in made if mesh is not None], lot, size)
    if star is not None and any(mesh is star for mesh in sound) and star.worst >= max(mesh.worst for mesh in sound) - EVEN:
        return star  # seen alike from all holes round it
    return calmest(sound, lot, size, growth)


def _part(lot: list[Floats], size: float, growth: float, filled: Callable[[list[Floats], float, float], FlatMesh]) -> FlatMesh:
    """Part of a region: regular where that is at least as good as what `filled` makes."""
    regular = fill_mapped(lot[0]) or fill_blocks(lot[0]) if len(lot) == 1 else None
    flow = Flow(field_of(lot), size, growth, np.empty((0, 4)))
    if regular is not None and regular.worst > 0.6 and unrest(regular, lot, flow) < CALM_ROWS:
        return regular
    free = filled(lot, size, growth)
    return free if regular is None else _better(regular, free, lot, flow)


def _better(regular: FlatMesh, free: FlatMesh, loops: list[Floats], flow: Flow) -> FlatMesh:
    if regular.worst <= 0:
        return free
    if min(regular.worst, free.worst) > 0.6:
        return regular if unrest(regular, loops, flow) <= unrest(free, loops, flow) else free
    return regular if regular.worst >= free.worst else free
