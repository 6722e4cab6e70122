"""Bends that a hole lies across: cut on both sides of the hole, so that only there their border lines give way to it.

Cuts are for meshing only, as those of `rib_ends`: what comes out speaks of the sheet as it was.
"""

from __future__ import annotations

import itertools
from collections.abc import Collection

import numpy as np

from kind_rivet.core.geometry.loops import free_loops
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.cut_sheet import CutSheet
from kind_rivet.core.meshing.one_region import across_bends, is_hole
from kind_rivet.core.meshing.rules import ShellRules

CLEAR = 2.2  # sizes between a hole and a cut: a ring and a row
ROOM = 1.5  # sizes of a bend that a cut leaves at least
PARALLEL = 1e-3  # of its length: how far a border of a bend may lead off its axis

Stretch = tuple[float, float]  # from where to where along an axis


def cut_bends(sheet: CutSheet, rules: ShellRules, fixed: Collection[int] = ()) -> CutSheet:
    """The sheet with every bend that holes lie across cut beside them; `fixed` edges must stay whole."""
    whole = sheet.whole
    taken = {*fixed, *rules.grading, *rules.divisions}
    across: dict[int, list[list[int]]] = {}
    for faces, loop in across_bends(whole, rules.size):
        for f in faces:
            across.setdefault(f, []).append(loop)
    for face in sorted(across):
        if whole.faces[face].carrier.kind == "cylinder" and int((sheet.faces == face).sum()) == 1:
            for level in _levels(whole, face, across[face], rules.size, taken):
                sheet = sheet.cut_at(face, level)
    return sheet


def _levels(shape: Shape, face: int, across: list[list[int]], size: float, fixed: set[int]) -> list[float]:
    """Places along a bend's axis, clear of the holes that lie `across` it and of all others in it, at which it is cut."""
    d = shape.faces[face].carrier.array
    level = {e: (shape.points[shape.edges[e].nodes] - d[:3]) @ d[3:6] for e in shape.face_edges[face]}
    facets = (shape.points[np.unique(shape.facets[shape.facet_face == face])] - d[:3]) @ d[3:6]
    low, high = float(facets.min()), float(facets.max())
    stretches: list[Stretch] = []
    within = [loop for loop in free_loops(shape) if is_hole(shape, loop) and not level.keys().isdisjoint(loop)]
    for loop in [*across, *within]:
        along = (shape.points[np.concatenate([shape.edges[e].nodes for e in loop])] - d[:3]) @ d[3:6]
        stretches.append((float(along.min()) - CLEAR * size, float(along.max()) + CLEAR * size))
    out: list[float] = []
    for at in itertools.chain.from_iterable(_joined(stretches, ROOM * size)):
        crossed = [e for e in level if level[e].min() < at < level[e].max()]
        straight = all(np.ptp(level[e]) > (1 - PARALLEL) * shape.edge_length[e] for e in crossed)
        if len(crossed) == 2 and straight and not fixed & set(crossed) and low + ROOM * size < at < high - ROOM * size:
            out.append(at)
    return out


def _joined(stretches: list[Stretch], room: float) -> list[Stretch]:
    """Stretches in order, those together that leave less than `room` between them."""
    out: list[Stretch] = []
    for low, high in sorted(stretches):
        if out and low < out[-1][1] + room:
            out[-1] = (out[-1][0], max(out[-1][1], high))
        else:
            out.append((low, high))
    return out
