"""Walls that stand along a tube on part of its length (gussets, spokes on a hub): the tube is cut on from their ends, straight to its rims.

The tube falls into sectors with rows of their own. Cuts are for meshing only, as those of `rib_ends`.
"""

from __future__ import annotations

from collections.abc import Collection

import numpy as np

from kind_rivet.core.geometry.carriers import Floats, unit
from kind_rivet.core.meshing.cut_sheet import CutSheet
from kind_rivet.core.meshing.detail import to_line
from kind_rivet.core.meshing.rib_ends import lone_ends
from kind_rivet.core.meshing.rules import ShellRules

ROOM = 0.75  # sizes between a cut and whatever else lies beside it
ALONG = 0.5  # cosine between a cut and the border it would end on, at most
PLACES = 33  # on a cut at which that is asked
SAME = 1e-6  # of the diagonal: a cut that ends this near to a vertex ends at it
STRAIGHT = 1e-3  # sine between a line and the tube's own straight ones up to which it is one of them
MOST = 100  # cuts in one sheet


def cut_along_tubes(sheet: CutSheet, rules: ShellRules, fixed: Collection[int] = ()) -> CutSheet:
    """The sheet with every tube cut from the ends of lines along it to where it ends; `fixed` edges must stay whole."""
    held = {*fixed, *rules.grading, *rules.divisions}
    for vertex, line, face in list(lone_ends(sheet.shape))[:MOST]:
        for f in np.flatnonzero(sheet.faces == sheet.faces[face]).tolist():
            shape = sheet.shape
            at_end = [e for e in shape.vertices[vertex] if f in shape.edge_faces[e]]  # a cut may have come to it meanwhile
            if shape.faces[f].carrier.kind not in ("cylinder", "cone") or len(at_end) != 1:
                continue
            place = _end_of_tube(sheet, vertex, line, f, ROOM * rules.size, held)
            if place is not None:
                sheet = sheet.cut_to(f, vertex, place)
    return sheet


def _end_of_tube(sheet: CutSheet, vertex: int, line: int, face: int, room: float, held: set[int]) -> Floats | None:
    """Where the straight line of a tube that goes on from the end of a line meets the border, None where something else lies beside it."""
    shape = sheet.shape
    d = shape.faces[face].carrier.array
    chain = shape.points[shape.edges[line].nodes]
    if int(shape.edges[line].nodes[0]) == vertex:
        chain = chain[::-1]
    tip, ahead = chain[-1], unit(chain[-1] - chain[0])
    radial = unit(tip - d[:3] - (tip - d[:3]) @ d[3:6] * d[3:6])
    around = np.cross(d[3:6], radial)
    if np.abs((chain - tip) @ around).max() > STRAIGHT * np.linalg.norm(tip - chain[0]):
        return None  # it winds round the tube
    best: tuple[float, Floats, int] | None = None
    borders = {e: shape.points[shape.edges[e].nodes] for e in shape.face_edges[face] if vertex not in shape.edges[e].nodes}
    for e, points in borders.items():
        side = (points - tip) @ around
        for k in np.flatnonzero((side[1:] >= 0) != (side[:-1] >= 0)).tolist():
            at = points[k] + side[k] / (side[k] - side[k + 1]) * (points[k + 1] - points[k])
            far = float((at - tip) @ ahead)
            if far > 0 and (at - d[:3]) @ radial > 0 and (best is None or far < best[0]):
                best = far, at, e
    if best is None or int(sheet.edges[best[2]]) in held:
        return None
    _, at, reached = best
    way = borders.pop(reached)
    if abs(unit(way[-1] - way[0]) @ ahead) > ALONG and not shape.edges[reached].closed:
        return None  # it runs beside the line
    path = tip + np.linspace(0.0, 0.9, PLACES)[:, None] * (at - tip)
    if any(to_line(path, points).min() < room for points in borders.values()):
        return None
    end = way[0] if np.linalg.norm(way[0] - at) < np.linalg.norm(way[-1] - at) else way[-1]
    return end if np.linalg.norm(end - at) < SAME * shape.diagonal else at
