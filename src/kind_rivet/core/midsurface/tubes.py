"""Faces that close on themselves and cannot lie flat in one piece are divided: tubes without a seam along their length, balls round their middle."""

from __future__ import annotations

import contextlib
from dataclasses import replace

import numpy as np

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Floats, unit
from kind_rivet.core.geometry.loops import linked
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.split import split_faces
from kind_rivet.core.meshing.flatten import distorted, flatten_facets
from kind_rivet.core.midsurface.sheet import Sheet

BALL = 0.55  # of a whole sphere, from which a face is more than any plane can show
WAYS = 400  # directions in which a ball may be cut in two
AS_LONG = 0.25  # share of the longest border loop from which another one is an end, not a hole
ROUNDS = 2


def with_tubes_divided(sheet: Sheet) -> Sheet:
    """The sheet with every free-form tube cut into halves by a plane through both its ends, and every ball by one through its middle."""
    for face in range(len(sheet.shape.faces)):
        if _is_ball(sheet.shape, face):
            with contextlib.suppress(Refused):
                sheet = _ball_divided(sheet, face)
    for _ in range(ROUNDS):
        found = next((f for f in range(len(sheet.shape.faces)) if _is_tube(sheet.shape, f)), None)
        if found is None:
            break
        try:
            sheet = _divided(sheet, found)
        except Refused:
            break
    return sheet


def _is_ball(shape: Shape, face: int) -> bool:
    carrier = shape.faces[face].carrier
    return bool(carrier.kind == "sphere" and shape.face_area[face] > BALL * 4 * np.pi * carrier.data[3] ** 2)


def _ball_divided(sheet: Sheet, face: int) -> Sheet:
    """Without its seam, cut along the great circle that crosses fewest borders and stays clear of the others."""
    shape = sheet.shape
    d = shape.faces[face].carrier.array
    loops = [[e for e in loop if shape.edge_faces[e] != (face, face)] for loop in linked(shape, list(shape.face_edges[face]))]
    borders = [(np.concatenate([shape.points[shape.edges[e].nodes] for e in loop]) - d[:3]) / d[3] for loop in loops if loop]
    whole = replace(shape, edges=tuple(edge for edge, beside in zip(shape.edges, shape.edge_faces, strict=True) if beside != (face, face)))
    corners = shape.points[shape.facets[shape.facet_face == face]]
    split, made = split_faces(whole, "plane", (*d[:3].tolist(), *_clear_of(borders).tolist()), corners.mean(axis=1)[0])
    if not made:
        raise Refused("A ball could not be cut in two.", "Split it by hand.")
    return _as_in(sheet, split, face)


def _clear_of(borders: list[Floats]) -> Floats:
    """The direction (3,) square to the great circle that crosses fewest borders (each (n, 3) on the unit sphere), those near their middles, and lies far from the others."""
    at = np.arange(WAYS) + 0.5
    height, turn = at / WAYS, np.pi * (1 + np.sqrt(5)) * at  # evenly over half a sphere
    ways = np.column_stack((np.sqrt(1 - height**2) * np.cos(turn), np.sqrt(1 - height**2) * np.sin(turn), height))
    crossed, clear, aside = np.zeros(WAYS), np.ones(WAYS), np.zeros(WAYS)
    for border in borders:
        away = border @ ways.T
        here = (away.min(axis=0) < 0) & (away.max(axis=0) > 0)
        crossed += here
        clear = np.where(here, clear, np.minimum(clear, np.abs(away).min(axis=0)))
        aside += np.where(here, np.abs(away.mean(axis=0)), 0.0)
    return np.asarray(ways[int(np.lexsort((aside - clear, crossed))[0])])


def _ends(shape: Shape, face: int) -> list[list[int]]:
    """The two longest border loops of a face where it has two long ones, else nothing."""
    loops = sorted(linked(shape, list(shape.face_edges[face])), key=lambda loop: -sum(shape.edge_length[e] for e in loop))
    length = [sum(shape.edge_length[e] for e in loop) for loop in loops[:2]]
    return loops[:2] if len(loops) > 1 and length[1] > AS_LONG * length[0] else []


def _is_tube(shape: Shape, face: int) -> bool:
    """Is a face without a seam curved both ways, with two long borders, and much distorted when laid flat?"""
    seam = any(shape.edge_faces[e] == (face, face) for e in shape.face_edges[face])
    if seam or shape.faces[face].carrier.kind not in ("free", "torus", "sphere") or not _ends(shape, face):
        return False
    nodes, local = np.unique(shape.facets[shape.facet_face == face], return_inverse=True)
    facets = local.reshape(-1, 3)
    space = shape.points[nodes]
    try:
        flat = flatten_facets(space, facets.astype(np.int64))
    except Refused:
        return True
    return distorted(space, flat, facets)


def _divided(sheet: Sheet, face: int) -> Sheet:
    """Cut by the plane through the middles of both ends and the first point of the longer one."""
    shape = sheet.shape
    chains = [np.concatenate([shape.points[shape.edges[e].nodes] for e in loop]) for loop in _ends(shape, face)]
    first, second = (chain.mean(axis=0) for chain in chains)
    normal = np.cross(second - first, chains[0][0] - first)
    if np.linalg.norm(normal) < 1e-12 * shape.diagonal**2:
        raise Refused("A tube has no length to be cut along.", "Split it by hand.")
    corners = shape.points[shape.facets[shape.facet_face == face]]
    measures = tuple(float(v) for v in (*first, *unit(normal)))
    split, made = split_faces(shape, "plane", measures, corners.mean(axis=1)[0])
    if not made:
        raise Refused("A tube could not be cut along.", "Split it by hand.")
    return _as_in(sheet, split, face)


def _as_in(sheet: Sheet, split: Shape, face: int) -> Sheet:
    """A sheet's shape after one of its faces was split: its parts are as thick as it was."""
    more = len(split.faces) - len(sheet.shape.faces)
    thickness = np.concatenate((sheet.thickness, np.full(more, sheet.thickness[face])))
    tapers = (*sheet.tapers, *([sheet.tapers[face]] * more)) if sheet.tapers else ()
    remarks = tuple(replace(r, edges=()) for r in sheet.remarks)  # edges have other numbers now
    return replace(sheet, shape=split, thickness=thickness, tapers=tapers, remarks=remarks)
