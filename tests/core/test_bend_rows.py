"""Rows on bends and beside them: not warped at their ends, with room beside rings, and no wider than neighbours may grow."""

from __future__ import annotations

from functools import cache
from types import SimpleNamespace

import numpy as np
import pytest

from kind_rivet.core.document.document import Document
from kind_rivet.core.meshing.assemble import as_mesh
from kind_rivet.core.meshing.ring_rows import ring_in_rows
from kind_rivet.core.meshing.rules import ShellRules, WasherRule
from kind_rivet.core.meshing.shells import mesh_sheet
from kind_rivet.core.midsurface.extract import extract
from kind_rivet.core.midsurface.sheet import Sheet
from kind_rivet.core.quality.growth import growths
from kind_rivet.core.quality.limits import DEFAULT
from kind_rivet.core.quality.shell_metrics import WARP, shell_metrics
from kind_rivet.core.repair.holds import holds_of
from kind_rivet.core.repair.optimise import optimise
from tests.made_up import circle, polygon
from tests.thin_meshes import MOST_GROWTH, drawing, meshed, solid_of


@cache
def rail() -> Sheet:
    """A rail with tight bends, four holes in its flanges and two in its floor."""
    thin = drawing()
    holes = [thin.cylinder((x, -10, 14), (0, 1, 0), 3.3, 60) for x in (20, 60)]
    holes += [thin.cylinder((x, 20, -1), (0, 0, 1), 4.0, 6) for x in (25, 55)]
    return extract(solid_of(thin.without(thin.bent_rail(2.0, 2.0), holes)))


def test_the_ends_of_bends_beside_relief_cuts_are_hardly_warped(small_sheet: Document) -> None:
    """Of the four corners of the last shell on a bend one stayed where the cut ends, the others were slid: it was warped by 16.6°."""
    shape = small_sheet.sheets[1].shape
    shells = as_mesh(mesh_sheet(shape, ShellRules(8.0, 0.25, washers=(WasherRule(rings=1, width=0.0),))), shape, 1, 1, 8.0)
    bends = [f for f, face in enumerate(shape.faces) if face.carrier.kind == "cylinder"]
    assert len(bends) == 4
    for f in bends:
        lot = shells.shells()[shells.face == f]
        assert shell_metrics(shells.points, lot)[:, WARP].max() < 1.0
        d = shape.faces[f].carrier.array
        centre = shells.points[lot].mean(axis=1) - d[:3]
        off = np.abs(np.linalg.norm(centre - (centre @ d[3:6])[:, None] * d[3:6], axis=1) - d[6])
        assert (off < 1e-6).sum() == len(lot) - 2  # all but those at its two ends


@pytest.mark.parametrize(("size", "width", "expected"), [(7.0, 6.0, 16 / 3), (7.0, 5.0, 5.0), (6.0, 5.0, 5.0), (9.0, 6.0, 6.0)])
def test_a_ring_gives_way_where_one_row_is_too_wide_and_two_are_narrow(size: float, width: float, expected: float) -> None:
    """A hole 16 from the border: ring and two rows a third of that each, unless rows fit as it is."""
    outlines = [polygon([(0, 0), (40, 0), (40, 40), (0, 40)], 4.0), circle(20, 20, 4.0, 48)]
    patch = SimpleNamespace(outlines=outlines, loops=[[], []], faces=(0,))  # no bend beside it
    assert ring_in_rows(rail().shape, patch, 1, width, size) == pytest.approx(expected, rel=0.01)


def test_rows_between_rings_and_bends_are_of_like_size() -> None:
    mesh = meshed(rail(), 3.0)
    assert not len(mesh.quality.failing)
    assert mesh.growth.max() < MOST_GROWTH
    assert mesh.quality.mesh_index > 92.0  # 89.8 with rings as wide as asked for


def test_the_more_neighbours_become_alike_the_more_of_the_index_is_given_up() -> None:
    """Two points were all: 63 pairs beside the bends stayed, since evening them out costs four."""
    shape = rail().shape
    new = mesh_sheet(shape, ShellRules(5.0, 0.25, washers=(WasherRule(rings=1, width=0.0),)))
    mesh = as_mesh(new, shape, 1, 1, 5.0)
    held = holds_of(mesh, {1: shape})
    unlike = {}
    for points in (0.0, 2.0):
        made = optimise(mesh, held, DEFAULT, 5.0, given_up=points)
        unlike[points] = int((growths(made.mesh.points, mesh.shells()) > MOST_GROWTH).sum())
    assert unlike[2.0] < 20 < 50 < unlike[0.0]
