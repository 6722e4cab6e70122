"""Plane regions of the same kind, as equal ribs, gussets and lugs are, get the same mesh: the best that filling a few of them gives."""

from __future__ import annotations

import numpy as np

from kind_rivet.core.kernels import side_by_side
from kind_rivet.core.meshing.free.fill import CannotFill, FlatMesh, faults_of
from kind_rivet.core.meshing.free.repeats import SAME, Kinds, carried, matched
from kind_rivet.core.meshing.regions import Answers, Region, filled_region
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.sizes import spots_of

TRIED = 3  # regions of a kind that are filled: a front takes another way when it starts from another node
MOST_NODES, MOST_HOLES = 400, 12  # of a region that is compared with others


def filled_regions(regions: list[Region], rules: ShellRules, answers: Answers) -> list[FlatMesh | CannotFill]:
    """The flat mesh of each region, or why there is none."""
    lots = _kinds(regions, rules)
    tried = sorted(k for lot in lots for k in lot[:TRIED])
    made = dict(zip(tried, side_by_side(lambda k: filled_region(regions[k], rules, answers), tried), strict=True))
    for lot in (lot for lot in lots if len(lot) > 1):
        best = _best({k: made[k] for k in lot[:TRIED]}, regions, rules)
        for k in lot:
            mesh = _as_in(best, made[best], regions, k, rules) if best is not None and k != best else None
            if mesh is not None:
                made[k] = mesh
            elif k not in made:
                made[k] = filled_region(regions[k], rules, answers)
    return [made[k] for k in range(len(regions))]


def _kinds(regions: list[Region], rules: ShellRules) -> list[list[int]]:
    """The numbers of regions of one kind each, the first of each kind first."""
    kinds = Kinds[list[int]](rules.size, MOST_NODES, MOST_HOLES)
    out: list[list[int]] = []
    for k, region in enumerate(regions):
        plain = not len(region.inner) and region.before is None and not len(spots_of(region.patch, rules))
        flat = len(region.patch.carriers) == 1 and region.patch.carriers[0].kind == "plane"
        if not plain or not flat or not kinds.comparable(region.flat):
            out.append([k])
            continue
        faces = region.patch.faces
        turn = () if region.turn is None else tuple(np.sort(region.turn).tolist())
        key = rules.size_on(faces), tuple(rules.ways.get(f) for f in faces), turn
        found = kinds.find(region.flat, key)
        if found is not None:
            found[1].append(k)
        else:
            out.append([k])
            kinds.add(region.flat, out[-1], key)
    return out


def _best(made: dict[int, FlatMesh | CannotFill], regions: list[Region], rules: ShellRules) -> int | None:
    """The number of the region with fewest faults; None where none could be filled."""
    faults = {
        k: (round(faults_of(mesh, regions[k].flat, rules.size_on(regions[k].patch.faces)), 3), -round(mesh.worst, 3))
        for k, mesh in made.items()
        if isinstance(mesh, FlatMesh)
    }
    return min(faults, key=lambda k: (faults[k], k)) if faults else None


def _as_in(best: int, mesh: FlatMesh | CannotFill, regions: list[Region], k: int, rules: ShellRules) -> FlatMesh | None:
    """The mesh of the best region of a kind laid on another; None where they do not quite match."""
    known, loops = regions[best].flat, regions[k].flat
    match = matched(known, loops, 2 * SAME * rules.size)
    if match is None or not isinstance(mesh, FlatMesh):
        return None
    return carried(mesh, loops, [len(loop) for loop in known], match)
