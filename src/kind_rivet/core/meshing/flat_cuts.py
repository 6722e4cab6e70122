"""Faces that cannot be laid flat, or only over themselves: cut in two for meshing only, and tried again."""

from __future__ import annotations

from collections.abc import Collection, Iterable

import numpy as np

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.split import split_faces
from kind_rivet.core.meshing.cut_sheet import CutSheet

ASIDE = (0.0, 0.07, -0.07)  # of the face's height: where else it is cut when its middle will not do


def cut_in_two(sheet: CutSheet, faces: Iterable[int], fixed: Collection[int]) -> CutSheet:
    """The sheet with each of these faces of its shape cut by a plane through its middle, square to where its normals vary most.

    The same sheet where no cut can be made; edges of the whole sheet that are `fixed` stay whole.
    """
    for face in faces:
        shape = sheet.shape
        mine = np.flatnonzero(shape.facet_face == face)
        area = shape.facet_area[mine]
        if not area.sum() > 0:
            continue
        centre = shape.points[shape.facets[mine]].mean(axis=1)
        normal = shape.facet_normal[mine]
        away = (normal - np.average(normal, axis=0, weights=area)) * np.sqrt(area)[:, None]
        across = np.linalg.eigh(away.T @ away)[1][:, 2]
        height = centre @ across
        middle = np.average(centre, axis=0, weights=area)
        for aside in ASIDE:
            origin = middle + aside * np.ptp(height) * across
            at = centre[int(np.argmax(np.abs(height - origin @ across)))]
            try:
                after, lines = split_faces(shape, "plane", (*origin.tolist(), *across.tolist()), at)
            except Refused:
                continue
            new = sheet.followed_by(after, lines, face)
            if {int(e) for e in new.edges[len(shape.edges) :]} & set(fixed):
                continue
            sheet = new
            break
    return sheet
