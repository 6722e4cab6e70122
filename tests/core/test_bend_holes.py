"""Holes across bends and beside them: only near the hole do the borders of the bend give way, and rings there are hardly warped."""

from __future__ import annotations

from functools import cache

import numpy as np
import pytest

from kind_rivet.core.meshing.bend_cuts import _joined, cut_bends
from kind_rivet.core.meshing.cut_sheet import CutSheet
from kind_rivet.core.meshing.one_region import across_bends, is_hole, regions_of
from kind_rivet.core.meshing.patch import lay_flat
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.washers import NARROW, _unwarped, bend_along
from kind_rivet.core.midsurface.extract import extract
from kind_rivet.core.midsurface.sheet import Sheet
from kind_rivet.core.quality.shell_metrics import WARP
from tests.thin_meshes import Made, drawing, meshed, solid_of

SIZE = 2.0
MIDDLE = 4.0  # radius of the bends' middle


@cache
def sheet() -> Sheet:
    """A bent rail with a hole across one of its bends and one in its floor, 1 mm from where the other bend begins."""
    thin, q = drawing(), np.sqrt(0.5)
    rail = thin.bent_rail(2.0, 3.0)
    return extract(
        solid_of(thin.without(rail, [thin.cylinder((28, -10, -10), (0, q, q), 3.8, 20), thin.cylinder((62, 31, -1), (0, 0, 1), 3, 4)]))
    )


@cache
def rail() -> Made:
    return meshed(sheet(), SIZE)


def uncut() -> CutSheet:
    shape = sheet().shape
    return CutSheet(shape, shape, np.arange(len(shape.edges)), np.arange(len(shape.faces)))


def test_a_hole_across_a_bend_and_one_beside_it_join_the_walls_they_lie_in() -> None:
    shape = sheet().shape
    found = across_bends(shape, SIZE)
    assert sorted(len(faces) for faces, _ in found) == [2, 4]  # the hole leaves two parts of its bend
    assert all(is_hole(shape, loop) for _, loop in found)
    assert [len(faces) for faces, _ in across_bends(shape, 1.0)] == [4]  # 1 mm is room enough for elements of 1 mm
    assert sorted(map(len, regions_of(shape, 1.0))) == [1, 1, 4]
    assert len(regions_of(shape, SIZE)) == 2


def test_bends_are_cut_beside_holes_clear_of_them() -> None:
    cut = cut_bends(uncut(), ShellRules(SIZE))
    lines = [cut.shape.points[cut.shape.edges[e].nodes] for e in np.flatnonzero(cut.edges < 0)]
    assert len(lines) == 4
    at = sorted(float(line[:, 0].mean()) for line in lines)
    assert all(np.ptp(line[:, 0]) < 1e-6 for line in lines)
    clear = 2.2 * SIZE
    assert at == pytest.approx([28 - 3.8 - clear, 28 + 3.8 + clear, 62 - 3 - clear, 62 + 3 + clear], abs=0.05)
    assert cut.whole is sheet().shape


def test_a_cut_is_made_only_where_it_goes_through_its_face() -> None:
    shape = sheet().shape
    bend = next(f for f, face in enumerate(shape.faces) if face.carrier.kind == "cylinder")
    d = shape.faces[bend].carrier.array
    level = (shape.points[np.unique(shape.facets[shape.facet_face == bend])] - d[:3]) @ d[3:6]
    whole = uncut()
    assert whole.cut_at(bend, float(level.max()) + 1.0) is whole
    cut = whole.cut_at(bend, float(level.min() + 0.2 * np.ptp(level)))
    assert len(cut.shape.faces) == len(shape.faces) + 1
    assert (cut.faces == bend).sum() == 2
    assert cut.shape.face_area.sum() == pytest.approx(shape.face_area.sum(), rel=1e-6)


def test_edges_held_by_hand_are_not_cut_and_short_bends_stay_whole() -> None:
    every = range(len(sheet().shape.edges))
    assert cut_bends(uncut(), ShellRules(SIZE), every).shape is sheet().shape
    assert cut_bends(uncut(), ShellRules(SIZE, divisions=dict.fromkeys(every, 4))).shape is sheet().shape
    assert cut_bends(uncut(), ShellRules(20.0)).shape is sheet().shape


def test_stretches_near_each_other_are_one() -> None:
    assert _joined([(5.0, 9.0), (0.0, 2.0), (8.0, 12.0), (12.5, 14.0)], 1.0) == [(0.0, 2.0), (5.0, 14.0)]


def test_the_mesh_is_sound_and_speaks_of_the_sheet_as_it_was() -> None:
    made = rail()
    assert (made.pieces, made.coincident()) == (1, 0)
    assert made.quad_share >= 0.985
    assert len(made.quality.failing) <= 1  # a quad beside the border of a bend, half a degree too warped
    assert set(np.unique(made.mesh.face)) == set(range(len(sheet().shape.faces)))
    assert len(made.shells.edge_nodes) == len(sheet().shape.edges)
    assert sum(1 for hole in made.shells.holes if hole.widths) == 2


def test_away_from_its_hole_a_bend_keeps_its_borders() -> None:
    made, shape = rail(), sheet().shape
    for e, edge in enumerate(shape.edges):
        line = shape.points[edge.nodes]
        if len(shape.edge_faces[e]) != 2 or np.ptp(line[:, 0]) < 70:
            continue
        places = np.sort(made.mesh.points[made.shells.edge_nodes[e], 0])
        far = places[places > 72]  # from both holes
        assert len(far) >= 3
        assert np.diff(far).max() < 1.6 * SIZE


def test_rings_on_bends_are_narrow_enough_not_to_be_warped() -> None:
    made = rail()
    across = next(k for k, hole in enumerate(made.shells.holes) if not hole.round)
    ring = made.mesh.ring == across
    assert ring.sum() >= 8
    assert made.quality.values[ring, WARP].max() < 12
    shape = sheet().shape
    patch = lay_flat(shape, max(regions_of(shape, 1.0), key=len))
    loop = max(range(1, len(patch.loops)), key=lambda k: len(patch.loops[k]))
    assert bend_along(patch, loop) == pytest.approx(1 / MIDDLE, rel=0.1)


def test_rings_are_narrowed_and_divided_more_often_only_where_a_bend_asks_for_it() -> None:
    assert _unwarped((2.0,), 24.0, 12, 0.0, 2.0) == ((2.0,), 12)
    assert _unwarped((), 24.0, 12, 0.2, 2.0) == ((), 12)
    assert _unwarped((2.0,), 24.0, 12, 2.0, 2.0) == ((2.0,), 12)  # a crease
    widths, count = _unwarped((2.0, 2.0), 24.0, 12, 0.19, 2.0)
    assert (len(widths), count) == (2, 16)
    assert NARROW * 2.0 <= widths[0] < 2.0
    assert np.degrees(0.19 / 2 * np.hypot(24.0 / count, widths[0])) <= 10.6
