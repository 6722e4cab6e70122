"""Walls that meet a tube on part of its round: the tube is cut all round at that height, so that even rows run above and below.

Cuts are for meshing only, as those of `rib_ends`: what comes out speaks of the sheet as it was.
"""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace

import numpy as np

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.cut_sheet import CutSheet
from kind_rivet.core.meshing.rules import ShellRules

ROOM = 0.75  # sizes between a cut and whatever lies above and below it
SAME = 1e-6  # of the diagonal: heights that differ by less are one
ASIDE = 3e-4  # of the diagonal: how far chance nodes are moved off a cut


def cut_tubes(sheet: CutSheet, rules: ShellRules, fixed: Collection[int] = ()) -> CutSheet:
    """The sheet with every tube cut all round where other walls stand on part of its round; `fixed` edges must stay whole."""
    for face in range(len(sheet.whole.faces)):
        if sheet.whole.faces[face].carrier.kind not in ("cylinder", "cone") or int((sheet.faces == face).sum()) != 1:
            continue
        for height in _heights(sheet.whole, face, ROOM * rules.size, {*fixed, *rules.grading, *rules.divisions}):
            sheet = _cut_round(sheet, face, height)
    return sheet


def _heights(shape: Shape, face: int, room: float, fixed: set[int]) -> list[float]:
    """Heights along the axis at which lines stand on part of a tube's round, with room above and below."""
    d = shape.faces[face].carrier.array
    level: dict[int, Floats] = {e: (shape.points[shape.edges[e].nodes] - d[:3]) @ d[3:6] for e in shape.face_edges[face]}
    beside = {e: shape.edge_faces[e] for e in level}
    seams = [e for e in level if len(beside[e]) == 2 and set(beside[e]) == {face}]
    lines = [e for e in level if beside[e].count(face) == 2 and len(beside[e]) > 2]
    flat = SAME * shape.diagonal
    if not seams or fixed & {*seams, *lines} or any(np.ptp(level[e]) > flat for e in lines):
        return []
    low, high = min(h.min() for h in level.values()), max(h.max() for h in level.values())
    others = [level[e] for e in level if e not in seams and e not in lines]
    out: list[float] = []
    for height in sorted(float(level[e].mean()) for e in lines):
        clear = all(h.min() > height + room or h.max() < height - room for h in others)
        if clear and low + room < height < high - room and (not out or height > out[-1] + room):
            out.append(height)
    return out


def _cut_round(sheet: CutSheet, face: int, height: float) -> CutSheet:
    levelled = replace(sheet, shape=_levelled(sheet.shape, sheet.whole.faces[face].carrier.array, height))
    cut = levelled.cut_at(face, height)
    return sheet if cut is levelled else cut


def _levelled(shape: Shape, d: Floats, height: float) -> Shape:
    """The shape with all edge nodes that lie at the height but for rounding exactly there, so that the cut runs along the lines.

    Nodes within faces that lie there by chance are moved off it, to where their neighbours are: beside a line they would
    lead a second one past it.
    """
    off = (shape.points - d[:3]) @ d[3:6] - height
    near = np.abs(off) < SAME * shape.diagonal
    on_edges = np.zeros(len(off), bool)
    on_edges[np.concatenate([edge.nodes for edge in shape.edges])] = True
    round_it = np.zeros(len(off))
    np.add.at(round_it, shape.facets.ravel(), np.repeat(off[shape.facets].sum(axis=1), 3))
    aside = np.where(round_it < 0, -ASIDE, ASIDE) * shape.diagonal
    points = shape.points.copy()
    points[near] += np.where(on_edges, -off, aside)[near, None] * d[3:6]
    return replace(shape, points=points)
