"""Webs between hubs: they end beside them, and the hubs are cut all round for even rows."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from kind_rivet.core.mesh.topology import pieces
from kind_rivet.core.meshing.rib_ends import cut_at_ends
from kind_rivet.core.meshing.rules import Grading, ShellRules
from kind_rivet.core.meshing.sheet_mesh import EDGE, FACE
from kind_rivet.core.meshing.shells import mesh_sheet
from kind_rivet.core.meshing.tube_cuts import cut_tubes
from kind_rivet.core.meshing.tube_sectors import cut_along_tubes
from tests.thin_meshes import drawn_sheet, made, meshed, sound_quads

SIZE = 6.0


def _hubs(name: str) -> list[int]:
    return [f for f, face in enumerate(drawn_sheet(name).shape.faces) if face.carrier.kind == "cylinder"]


@pytest.mark.parametrize("name", ["crank", "narrow_crank"])
def test_a_web_ends_beside_its_hubs(name: str) -> None:
    sheet = drawn_sheet(name)
    assert sheet.proof is not None and sheet.proof.pieces == 1 and sheet.proof.cover > 0.98
    web = next(f for f, face in enumerate(sheet.shape.faces) if face.carrier.kind == "plane")
    corners = sheet.shape.points[np.unique(sheet.shape.facets[sheet.shape.facet_face == web])]
    assert corners[:, 0].min() > 0 and corners[:, 0].max() < 70  # nothing goes on round the hubs
    assert np.linalg.norm(corners[:, :2], axis=1).min() == pytest.approx(16, abs=1e-3)
    assert np.linalg.norm(corners[:, :2] - [70, 0], axis=1).min() == pytest.approx(10.5, abs=1e-3)


@pytest.mark.parametrize("name", ["crank", "narrow_crank"])
def test_hubs_get_even_rows(name: str) -> None:
    mesh = made(name)
    assert mesh.pieces == 1
    assert mesh.coincident() == 0
    assert len(mesh.quality.failing) <= 2  # beside the small hub, where the web's border ends in stubs a quarter as long as the size
    at_web = np.isclose(mesh.shells.points[:, 2], 10, atol=1e-6)
    for hub in _hubs(name):
        rows = mesh.shells.elements[mesh.shells.face == hub]
        assert (rows[:, 3] >= 0).all()
        below = mesh.shells.points[rows, 2].max(axis=1) <= 10 + 1e-6
        above = mesh.shells.points[rows, 2].min(axis=1) >= 10 - 1e-6
        assert (below ^ above).all()  # no element reaches across the height of the web
        assert at_web[np.unique(rows)].sum() >= 10


@pytest.mark.parametrize("name", ["crank", "narrow_crank"])
def test_the_cut_runs_once_round_through_the_joint(name: str) -> None:
    sheet = drawn_sheet(name).shape
    cut = cut_tubes(cut_at_ends(sheet, ShellRules(SIZE)), ShellRules(SIZE))
    assert len(cut.shape.faces) == len(sheet.faces) + 2
    assert cut.shape.face_area.sum() == pytest.approx(sheet.face_area.sum(), rel=2e-3)
    for hub, radius in zip(_hubs(name), (16, 10.5), strict=True):
        halves = set(np.flatnonzero(cut.faces == hub).tolist())
        assert len(halves) == 2
        ring = [e for e, beside in enumerate(cut.shape.edge_faces) if halves <= set(beside)]
        assert cut.shape.edge_length[ring].sum() == pytest.approx(2 * np.pi * radius, rel=3e-3)
    for e in range(len(sheet.edges)):  # every edge is still there, in one run
        parts = cut.parts(e)
        assert cut.shape.edge_length[parts].sum() == pytest.approx(sheet.edge_length[e], rel=1e-4)
        assert int(cut.shape.edges[parts[0]].nodes[0]) == int(sheet.edges[e].nodes[0])


def test_the_mesh_is_told_in_terms_of_the_whole_sheet() -> None:
    sheet = drawn_sheet("narrow_crank").shape
    mesh = mesh_sheet(sheet, ShellRules(SIZE))
    assert len(mesh.divisions) == len(mesh.edge_nodes) == len(sheet.edges)
    assert set(np.unique(mesh.face).tolist()) == set(range(len(sheet.faces)))
    for e, line in enumerate(mesh.edge_nodes):
        assert len(line) == mesh.divisions[e] + 1
    hub = _hubs("narrow_crank")[0]
    free = np.isclose(mesh.points[:, 2], 10, atol=1e-6) & (mesh.points[:, 0] < -1)  # on the cut, away from the web
    assert free.sum() >= 6
    seam = {e for e in sheet.face_edges[hub] if set(sheet.edge_faces[e]) == {hub}}
    assert all(
        (kind == FACE and item == hub) or (kind == EDGE and item in seam)
        for kind, item in zip(mesh.on_kind[free].tolist(), mesh.on_item[free].tolist(), strict=True)
    )


def test_what_is_held_is_not_cut() -> None:
    sheet = drawn_sheet("narrow_crank").shape
    hubs = _hubs("narrow_crank")
    seams = [next(e for e in sheet.face_edges[h] if set(sheet.edge_faces[e]) == {h}) for h in hubs]
    whole = cut_at_ends(sheet, ShellRules(SIZE))
    assert len(cut_tubes(whole, ShellRules(SIZE), seams).shape.faces) == len(sheet.faces)
    by_hand = ShellRules(SIZE, divisions={seams[0]: 3})
    assert len(cut_tubes(whole, by_hand).shape.faces) == len(sheet.faces) + 1
    graded = ShellRules(SIZE, grading={seams[0]: Grading("start", 2.0)})
    assert len(cut_tubes(whole, graded).shape.faces) == len(sheet.faces) + 1


def test_without_room_above_and_below_nothing_is_cut() -> None:
    sheet = drawn_sheet("narrow_crank").shape
    assert cut_tubes(cut_at_ends(sheet, ShellRules(14.0)), ShellRules(14.0)).shape is sheet


def test_tubes_on_which_nothing_stands_stay_whole() -> None:
    sheet = drawn_sheet("swaged_tube").shape
    whole = cut_at_ends(sheet, ShellRules(3.0))
    assert cut_tubes(whole, ShellRules(3.0)) is whole
    assert pieces(meshed(drawn_sheet("swaged_tube"), 3.0).mesh) == 1


@pytest.mark.parametrize("times", [0.6, 1.0, 1.8])
def test_a_hub_with_spokes_that_end_before_its_rims_has_rows_all_over(times: float) -> None:
    mesh = sound_quads("long_hub", times)
    assert mesh.least_jacobian > 0.8
    assert mesh.growth.max() < 1.46
    assert len(mesh.shells.divisions) == len(mesh.sheet.edges)  # cuts are none of the sheet's edges


def test_a_tube_is_cut_straight_from_each_end_of_a_line_to_its_rims() -> None:
    sheet = drawn_sheet("long_hub").shape
    rules = ShellRules(SIZE)
    cut = cut_along_tubes(cut_at_ends(sheet, ShellRules(1.0)), rules)
    hub = next(f for f, face in enumerate(sheet.faces) if face.carrier.kind == "cylinder" and face.carrier.data[6] < 20)
    assert (cut.faces == hub).sum() == 5 + 1  # sectors, one of them parted by the seam
    assert cut.shape.face_area.sum() == pytest.approx(sheet.face_area.sum(), rel=1e-5)
    new = np.flatnonzero(cut.edges < 0)
    assert len(new) == 20  # both ends of five spokes, on the hub and on the rim
    for e in new.tolist():
        a, b = cut.shape.points[cut.shape.edges[e].nodes[[0, -1]]]
        assert a[:2] == pytest.approx(b[:2], abs=1e-6)
        assert abs(b[2]) in (pytest.approx(22), pytest.approx(30))
    held = replace(rules, divisions=dict.fromkeys(range(len(sheet.edges)), 4))
    assert cut_along_tubes(cut_at_ends(sheet, ShellRules(1.0)), held).shape is sheet


@pytest.mark.parametrize(("times", "narrow"), [(1.0, False), (1.8, True)])
def test_a_hole_amid_a_narrow_ring_faces_the_nodes_of_its_rim(times: float, narrow: bool) -> None:
    """Fins at uneven angles divide the rim: at even angles all round the hole, columns would lean by half their width."""
    mesh = sound_quads("finned_collar", times)
    points = mesh.mesh.points
    radius, angle = np.hypot(points[:, 0], points[:, 1]), np.degrees(np.arctan2(points[:, 1], points[:, 0]))
    hole = np.sort(angle[np.abs(radius - 19.2) < 1e-6])
    rim = np.sort(angle[(np.abs(radius - 23) < 1e-6) & (np.abs(points[:, 2] - 39) < 1e-6)])
    assert len(hole) == len(rim) >= 20
    lean = np.abs((hole[:, None] - rim[None] + 180) % 360 - 180).min(axis=1) * len(rim) / 360
    assert (lean.max() < 0.02) == narrow
    assert (np.ptp(np.diff(hole)) < 0.1) != narrow  # rings with room keep equal angles


def test_a_fin_that_ends_flush_with_a_collar_leaves_no_corner_on_it() -> None:
    """Above the collar's middle it would run on to the inside of the tube, and part its narrow ring."""
    sheet = drawn_sheet("finned_collar").shape
    for f, face in enumerate(sheet.faces):
        if face.carrier.kind == "plane" and abs(face.carrier.array[5]) < 0.5:
            nodes = sheet.points[sheet.facets[sheet.facet_face == f]].reshape(-1, 3)
            assert np.hypot(nodes[:, 0], nodes[:, 1]).min() == pytest.approx(23, abs=1e-3)
            assert nodes[:, 2].max() == pytest.approx(40)
