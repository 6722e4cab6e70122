"""Offset of one side: exact sheets, and refusals with a reason."""

from __future__ import annotations

import numpy as np
import pytest

from kind_rivet.core.document.document import Document
from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import distance
from kind_rivet.core.midsurface.extract import extract
from kind_rivet.core.midsurface.verify import _border_sides, _layers
from kind_rivet.core.operations import perform
from tests.made_up import cube, sharp_channel
from tests.thin_meshes import drawn_sheet


def test_tray_midsurface_is_exact(tray_sheet: Document) -> None:
    sheet = tray_sheet.sheets[1]
    assert sheet.thicknesses == [1.5]
    assert sheet.proof.mass_ratio == pytest.approx(1, abs=1e-3)
    assert sheet.proof.cover > 0.999
    assert sheet.proof.pieces == 1
    assert sheet.proof.off_middle < 0.002
    assert sheet.proof.inner_free_length == 0
    assert len(sheet.shape.faces) == 9  # floor, four bends, four flanges
    for f, face in enumerate(sheet.shape.faces):
        nodes = np.unique(sheet.shape.facets[sheet.shape.facet_face == f])
        assert distance(face.carrier, sheet.shape.points[nodes]).max() < 1e-6


def test_holes_come_out_with_exact_radius(tray_sheet: Document) -> None:
    shape = tray_sheet.sheets[1].shape
    radii = sorted(round(e.carrier.data[6], 6) for e in shape.edges if e.closed)
    assert radii == [2.1] * 6 + [4.5] * 14 + [18.0] * 4


def test_sharp_bends_are_mitred() -> None:
    sheet = extract(sharp_channel())
    assert sheet.area == pytest.approx((38 + 19 + 19) * 60, rel=1e-9)
    assert sheet.thicknesses == [2.0]


def test_what_cannot_be_done_is_refused_with_the_reason() -> None:
    with pytest.raises(Refused) as refusal:
        extract(cube())
    assert "thin" in refusal.value.reason
    assert refusal.value.remedy


def test_holes_left_out_are_closed_and_leave_hard_points(tray: Document) -> None:
    d = perform(tray, "prepare.leave_out_holes", {"below": 5.0, "hard_points": True})
    assert len(d.left_out) == 6
    d = perform(d, "midsurface.extract", {})
    assert not any(e.closed and abs(e.carrier.data[6] - 2.1) < 1e-6 for e in d.sheets[1].shape.edges)
    d = perform(d, "mesh.shells", {"size": 8.0})
    for hole in d.left_out:
        assert np.linalg.norm(d.mesh.points - np.array(hole.centre), axis=1).min() < 1e-6
    back = perform(d, "prepare.take_back", {"body": 1, "centre": d.left_out[0].centre})
    assert len(back.left_out) == 5
    assert any("shells" in s for s in back.stale)
    assert sum(e.closed for e in back.sheets[1].shape.edges) == sum(e.closed for e in d.sheets[1].shape.edges) + 1
    updated = perform(back, "mesh.update", {})
    assert not updated.stale
    assert len(updated.mesh_holes[1]) == len(d.mesh_holes[1]) + 1


def test_the_weigh_in_counts_joints_once_and_nothing_beside_them() -> None:
    """What several walls hold is counted once, what lies just beyond the end of one is not; true to a fifth of a per cent."""
    sheet = drawn_sheet("lever")
    assert sheet.proof is not None
    assert sheet.proof.mass_ratio == pytest.approx(1.0, abs=0.002)
    assert sheet.proof.plain_ratio > 1.05  # every wall for itself
    web = next(f for f, face in enumerate(sheet.shape.faces) if face.carrier.kind == "plane" and abs(face.carrier.array[5]) > 0.9)
    rim = next(f for f, face in enumerate(sheet.shape.faces) if face.carrier.kind == "cylinder" and face.carrier.data[6] > 17)
    axis = sheet.shape.faces[rim].carrier.array[:3]
    middle, wall = sheet.shape.faces[rim].carrier.data[6], sheet.thickness[rim]
    half = np.sign(sheet.shape.points[sheet.shape.facets[sheet.shape.facet_face == rim]][..., 2].mean())
    at = [axis[0] - middle, axis[1], 0.3 * half * sheet.thickness[web]]  # on the rim, within the web's height, just where the web ends
    normal = np.array([[-1.0, 0.0, 0.0]])
    layers = [_layers(sheet, np.array([at]), by * normal, np.array([wall]), np.array([rim]))[0] for by in (1.0, -1.0)]
    assert sorted(layers) == [1.0, 2.0]  # the quarter of the wall inwards lies in the web too, that outwards does not
    square = np.array([[0, 1, 2], [0, 2, 3]], np.int32)
    assert _border_sides(square).tolist() == [[True, False, True], [True, True, False]]
