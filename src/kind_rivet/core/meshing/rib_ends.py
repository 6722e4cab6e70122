"""Lines that end inside a wall just before a border: cut through to it, so that what lies between can be looked past.

A rib that stops a little below the free edge of the wall it stands on, or that is flush with it
for part of the way, leaves a gap too narrow for elements. A short cut from the end of its line
to the border is an edge like others: it shrinks to a node, and between two such cuts lies a narrow strip.
The mesh is made on the cut sheet; what comes out speaks of the sheet as it was.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator

import numpy as np

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.cut_sheet import CutSheet
from kind_rivet.core.meshing.rules import ShellRules

REACH = 0.6  # of the size: wider gaps are meshed as they are
ROUND = 3.0  # gaps: a line shorter than this does not part the wall
SNAP = 0.35  # of the widest gap: a vertex this near to where a cut would end is its end
MOST = 400  # cuts in one sheet


def cut_at_ends(shape: Shape, rules: ShellRules, fixed: Collection[int] = ()) -> CutSheet:
    """The sheet with a cut wherever a line ends less than `REACH` of the size before a border.

    `fixed`: edges that must stay whole; graded ones do so too, and none falls into more parts than the count it has by hand.
    """
    out = CutSheet(shape, shape, np.arange(len(shape.edges)), np.arange(len(shape.faces)))
    fixed = {*fixed, *rules.grading}
    limit = max(rules.look_past, REACH) * rules.size
    for vertex, line, face in list(lone_ends(shape))[:MOST]:
        for f in np.flatnonzero(out.faces == face).tolist():
            if f not in out.shape.facet_face[(out.shape.facets == vertex).any(axis=1)]:
                continue
            full = {e for e, n in rules.divisions.items() if (out.edges == e).sum() >= n}
            place = _border_near(out, vertex, line, f, limit, fixed | full)
            if place is not None:
                out = out.cut_to(f, vertex, place)
    return out


def lone_ends(shape: Shape) -> Iterator[tuple[int, int, int]]:
    """Vertices at which a single line ends inside a face, with that line and face."""
    for vertex, edges in sorted(shape.vertices.items()):
        for e in edges:
            beside = shape.edge_faces[e]
            for f in sorted({f for f in beside if beside.count(f) == 2}):
                if sum(f in shape.edge_faces[k] for k in edges) == 1 and not shape.edges[e].closed:
                    yield vertex, e, f


def _border_near(sheet: CutSheet, vertex: int, line: int, face: int, limit: float, fixed: Collection[int]) -> Floats | None:
    """The place on the face's border nearest to the end of a line, None where it is further away than the limit."""
    shape = sheet.shape
    p = shape.points[vertex]
    best: tuple[float, Floats] | None = None
    for e in shape.face_edges[face]:
        if vertex in shape.edges[e].nodes or int(sheet.edges[e]) in fixed:
            continue
        chain = shape.points[shape.edges[e].nodes]
        a, d = chain[:-1], np.diff(chain, axis=0)
        s = np.clip(np.einsum("ij,ij->i", p - a, d) / np.maximum(np.einsum("ij,ij->i", d, d), 1e-300), 0, 1)
        foot = a + s[:, None] * d
        away = np.linalg.norm(foot - p, axis=1)
        k = int(np.argmin(away))
        if best is not None and away[k] >= best[0]:
            continue
        ends = chain[[0, -1]]
        near = ends[np.argmin(np.linalg.norm(ends - foot[k], axis=1))]
        snapped = np.linalg.norm(near - foot[k]) < SNAP * limit and np.linalg.norm(near - p) < limit
        best = float(away[k]), near if snapped else foot[k]
    if best is None or best[0] > limit or ROUND * best[0] > sheet.whole.edge_length[line]:
        return None
    return best[1]
