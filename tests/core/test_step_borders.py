"""Steps between walls of different thickness: the sheet leaves the walls' middles only beside them, and meshes beside them stay sound when fine."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from kind_rivet.core.document.document import Document
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.midsurface.sew import BESIDE
from kind_rivet.core.midsurface.sheet import Sheet
from kind_rivet.core.operations import lots, perform
from kind_rivet.core.operations.lots import _earlier, _failed_before
from kind_rivet.core.quality.limits import Limit, LimitSheet
from tests.thin_meshes import Made, drawn_sheet, made


def off_plane(sheet: Sheet, at: np.ndarray, face: int) -> np.ndarray:
    carrier = sheet.shape.faces[face].carrier
    return np.abs((at - carrier.array[:3]) @ carrier.array[3:6])


@pytest.mark.parametrize("name", ["stepped_flush", "stepped_centred"])
def test_free_edges_leave_the_middle_only_beside_steps(name: str) -> None:
    sheet = drawn_sheet(name)
    shape = sheet.shape
    steps = [e for e, faces in enumerate(shape.edge_faces) if len(faces) == 2]
    places = np.concatenate([shape.points[shape.edges[e].nodes] for e in steps])
    seen = 0
    for e, faces in enumerate(shape.edge_faces):
        if len(faces) != 1:
            continue
        curve = Curve.through(shape.points[shape.edges[e].nodes], shape.edges[e].carrier)
        at = curve.at(np.linspace(0, curve.length, 200))
        away = np.abs(at[:, None, 0] - places[None, :, 0]).min(axis=1)  # the steps of both plates run across x
        far = away > 2.01 * BESIDE * sheet.thickness[faces[0]]
        assert off_plane(sheet, at[far], faces[0]).max(initial=0.0) < 1e-6
        seen += int(far.sum())
    assert seen > 500


def test_edges_beside_steps_keep_one_curve_from_corner_to_corner() -> None:
    """The nodes that hold a free edge to its wall are no vertices: the edge takes one count from the step to the corner."""
    shape = drawn_sheet("stepped_flush").shape
    assert len(shape.edges) == 10
    assert all(len(lot) > 1 for lot in shape.vertices.values())


@pytest.mark.parametrize("times", [2.0, 1.0, 0.5, 0.25])
def test_stepped_plates_are_regular_at_any_size(times: float) -> None:
    mesh = made("stepped_flush", times)
    assert not len(mesh.quality.failing)
    assert mesh.quality.mesh_index > 99.5
    assert mesh.quad_share == 1.0


def rims_of_pads(mesh: Made) -> list[int]:
    return [k for k, hole in enumerate(mesh.shells.holes) if hole.radius == pytest.approx(10)]


@pytest.mark.parametrize("times", [0.5, 0.25])
def test_pads_that_step_have_a_ring_at_small_sizes_too(times: float) -> None:
    mesh = made("padded_plate", times)
    assert not len(mesh.quality.failing)
    assert mesh.quality.worst > 0.5
    pads = rims_of_pads(mesh)
    assert len(pads) == 4
    for k in pads:
        hole = mesh.shells.holes[k]
        assert hole.widths
        assert (mesh.shells.ring == k).sum() == hole.divisions


def test_round_walls_that_go_on_without_a_step_get_no_ring() -> None:
    """A tube that stands on its flange is no pad: at a small size nothing but the tube's own rows lies round it."""
    mesh = made("flanged_pipe", 0.4)
    joined = [h for h in mesh.shells.holes if all(len(mesh.sheet.edge_faces[e]) > 1 for e in h.edges)]
    assert joined and all(not h.widths for h in joined if h.radius > 3 * mesh.size)


def test_shells_that_failed_before_do_not_have_more_walls_meshed_again(tray_mesh: Document, monkeypatch: pytest.MonkeyPatch) -> None:
    """Only where a changed count makes more shells fail than did are the walls beside tried as well."""
    strict = replace(tray_mesh, limit_sheet=LimitSheet("nothing passes", (Limit("side_ratio", 0.1, 0.5),)))
    assert len(strict.quality.failing) == strict.mesh.elements
    tries: list[frozenset[int]] = []
    whole = lots.mesh_sheet
    monkeypatch.setattr(lots, "mesh_sheet", lambda shape, rules, hard, kept: (tries.append(kept.faces), whole(shape, rules, hard, kept))[1])
    shape = tray_mesh.sheets[1].shape
    line = max((e for e, faces in enumerate(shape.edge_faces) if len(faces) == 1), key=lambda e: len(tray_mesh.mesh_edges[1][e]))
    count = len(tray_mesh.mesh_edges[1][line]) - 1
    perform(strict, "mesh.divisions", {"body": 1, "edges": [line], "count": count - 2})  # fewer shells, so fewer fail
    assert len(tries) == 1 and len(tries[0]) == len(shape.faces)
    perform(strict, "mesh.divisions", {"body": 1, "edges": [line], "count": count + 2})
    assert len(tries) == 3 and len(tries[2]) < len(tries[1])


def test_failing_shells_of_the_earlier_mesh_are_counted_on_their_walls(tray_mesh: Document) -> None:
    strict = replace(tray_mesh, limit_sheet=LimitSheet("nothing passes", (Limit("side_ratio", 0.1, 0.5),)))
    earlier = _earlier(strict, 1)
    assert earlier is not None
    shells = np.bincount(strict.mesh.face[strict.mesh.body == 1], minlength=2)
    assert _failed_before(strict, 1, earlier, np.array([0], np.int32)) == shells[0]
    assert _failed_before(strict, 1, earlier, np.array([0, 1, 1], np.int32)) == shells[0] + shells[1]
    assert _failed_before(strict, 2, earlier, np.array([0], np.int32)) == 0  # another body
    assert _failed_before(strict, 1, earlier, np.empty(0, np.int32)) == 0
    assert _failed_before(strict, 1, None, np.array([0], np.int32)) == 0
