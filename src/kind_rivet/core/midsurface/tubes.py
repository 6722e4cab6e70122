"""Faces that close on themselves without a seam and cannot lie flat in one piece are divided along their length."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import unit
from kind_rivet.core.geometry.loops import linked
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.split import split_faces
from kind_rivet.core.meshing.flatten import distorted, flatten_facets
from kind_rivet.core.midsurface.sheet import Sheet

AS_LONG = 0.25  # share of the longest border loop from which another one is an end, not a hole
ROUNDS = 2


def with_tubes_divided(sheet: Sheet) -> Sheet:
    """The sheet with every free-form tube cut into halves by a plane through both its ends."""
    for _ in range(ROUNDS):
        found = next((f for f in range(len(sheet.shape.faces)) if _is_tube(sheet.shape, f)), None)
        if found is None:
            break
        try:
            sheet = _divided(sheet, found)
        except Refused:
            break
    return sheet


def _ends(shape: Shape, face: int) -> list[list[int]]:
    """The two longest border loops of a face where it has two long ones, else nothing."""
    loops = sorted(linked(shape, list(shape.face_edges[face])), key=lambda loop: -sum(shape.edge_length[e] for e in loop))
    length = [sum(shape.edge_length[e] for e in loop) for loop in loops[:2]]
    return loops[:2] if len(loops) > 1 and length[1] > AS_LONG * length[0] else []


def _is_tube(shape: Shape, face: int) -> bool:
    """Is a face curved both ways, with two long borders, and much distorted when laid flat?"""
    if shape.faces[face].carrier.kind not in ("free", "torus", "sphere") or not _ends(shape, face):
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
    more = len(split.faces) - len(shape.faces)
    thickness = np.concatenate((sheet.thickness, np.full(more, sheet.thickness[face])))
    tapers = (*sheet.tapers, *([sheet.tapers[face]] * more)) if sheet.tapers else ()
    remarks = tuple(replace(r, edges=()) for r in sheet.remarks)  # edges have other numbers now
    return replace(sheet, shape=split, thickness=thickness, tapers=tapers, remarks=remarks)
