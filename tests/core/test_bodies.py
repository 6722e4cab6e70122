"""Changing and building bodies with the kernel: removing, splitting, joining, sectors, curves, faces, copies."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from kind_rivet.core.checks.gate import check
from kind_rivet.core.document.document import Document
from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.kernel.edits import piece_of
from kind_rivet.core.guard import BrokeDown, apart
from kind_rivet.core.mesh.topology import pieces
from kind_rivet.core.operations import all_operations, perform
from kind_rivet.core.operations.part import new_body
from tests.conftest import EXAMPLES


def with_boxes(*boxes: tuple[float, ...]) -> Document:
    """Solid boxes (x, y, z, dx, dy, dz)."""
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox
    from OCP.gp import gp_Pnt

    d = Document()
    for k, (x, y, z, *size) in enumerate(boxes):
        piece = piece_of(BRepPrimAPI_MakeBox(gp_Pnt(x, y, z), *size).Shape(), "solid")
        d = replace(d, bodies=(*d.bodies, new_body(d, f"Block {k + 1}", "solid", piece.shape, piece.brep)))
    return d


@pytest.fixture(scope="module")
def cover() -> Document:
    return perform(Document(), "part.open", {"path": str(EXAMPLES / "ribbed_cover.step")})


# -- removing -----------------------------------------------------------------------
def test_through_and_blind_holes_are_closed_exactly(cover: Document) -> None:
    d = perform(cover, "prepare.remove_holes", {"below": 5.0, "hard_points": True})
    gained = d.bodies[0].shape.volume - cover.bodies[0].shape.volume
    assert gained == pytest.approx(3 * np.pi * 1.5**2 * 2 + 4 * np.pi * 1.6**2 * 7, rel=0.02)
    assert len(d.hard_points) == 7
    assert not [h for h in d.bodies[0].holes if h.kind == "round"]
    assert len(d.bodies[0].shape.faces) == len(cover.bodies[0].shape.faces) - 11


def test_blends_and_bosses_are_removed_and_the_volume_is_guarded(cover: Document) -> None:
    blends = perform(cover, "prepare.remove_blends", {"below": 4.0})
    corner = (1 - np.pi / 4) * 3.0**2 * 16
    assert blends.bodies[0].shape.volume - cover.bodies[0].shape.volume == pytest.approx(4 * corner, rel=0.02)
    shape = cover.bodies[0].shape
    bosses = [f for f, face in enumerate(shape.faces) if face.carrier.kind == "cylinder" and abs(face.carrier.data[-1] - 4) < 1e-6]
    d = perform(cover, "prepare.remove_faces", {"body": 1, "faces": bosses[:1]})
    assert d.bodies[0].shape.volume < shape.volume
    assert "%" in d.notes[0]


def test_what_cannot_be_removed_is_named(cover: Document) -> None:
    with pytest.raises(Refused):
        perform(cover, "prepare.remove_faces", {"body": 1, "faces": [0]})
    with pytest.raises(Refused, match="could be removed"):
        perform(cover, "prepare.remove_holes", {"below": 0.5})
    hole = next(h for h in cover.bodies[0].holes if h.diameter == pytest.approx(3.0))
    some = perform(cover, "prepare.remove_faces", {"body": 1, "faces": [*hole.faces, 0]})  # the hole goes, the outer wall cannot
    assert any(n.startswith("Faces 1 stay") for n in some.notes)
    assert len(some.bodies[0].shape.faces) == len(cover.bodies[0].shape.faces) - 1


def test_holes_in_sheets_are_filled() -> None:
    d = perform(Document(), "part.open", {"path": str(EXAMPLES / "sliver_tray.step")})
    filled = perform(d, "prepare.remove_holes", {"below": 15.0})
    gained = filled.bodies[0].shape.face_area.sum() - d.bodies[0].shape.face_area.sum()
    assert gained == pytest.approx(4 * np.pi * 36, rel=0.01)


# -- splitting, sectors --------------------------------------------------------------
def test_halves_of_a_tray_share_their_interface_and_mesh_as_one(tray: Document) -> None:
    d = perform(tray, "prepare.split_body", {"body": 1, "origin": (210, 0, 0), "normal": (1, 0, 0)})
    assert [b.name for b in d.bodies] == ["Cradle tray a", "Cradle tray b"]
    assert sum(b.shape.volume for b in d.bodies) == pytest.approx(tray.bodies[0].shape.volume, rel=1e-6)
    assert d.joined == ((d.bodies[0].key, d.bodies[1].key),)
    d = perform(d, "midsurface.extract", {})
    d = perform(d, "mesh.shells", {"size": 8.0})
    assert pieces(d.mesh) == 1
    assert not any(f.grade == "blocking" for f in check(d))
    assert len({p.name for p in d.parts}) == 2
    with pytest.raises(Refused, match="misses"):
        perform(tray, "prepare.split_body", {"body": 1, "origin": (9999, 0, 0), "normal": (1, 0, 0)})
    with pytest.raises(Refused, match="no direction"):
        perform(tray, "prepare.split_body", {"body": 1, "normal": (0, 0, 0)})


def test_a_body_is_split_by_one_of_its_faces() -> None:
    d = perform(Document(), "part.open", {"path": str(EXAMPLES / "lug_inch.step")})
    shape = d.bodies[0].shape
    top_of_foot = next(
        f
        for f, face in enumerate(shape.faces)
        if face.carrier.kind == "plane" and abs(face.carrier.data[2] - 8) < 1e-6 and abs(face.carrier.data[5]) > 0.9
    )
    split = perform(d, "prepare.split_body", {"body": 1, "face": top_of_foot})
    assert len(split.bodies) == 2
    assert sum(b.shape.volume for b in split.bodies) == pytest.approx(shape.volume, rel=1e-5)


def test_a_quarter_is_cut_meshed_mirrored_and_copied_without_a_gap(tray: Document) -> None:
    d = perform(tray, "prepare.sector", {"body": 1, "origin": (210, 90, 0), "normal": (1, 0, 0), "normal_2": (0, 1, 0)})
    assert 0.2 < d.bodies[0].shape.volume / tray.bodies[0].shape.volume < 0.3
    copy = perform(d, "build.copies", {"bodies": [1], "way": "mirror", "origin": (210, 90, 0), "axis": (1, 0, 0)})
    a, b = copy.bodies
    assert b.shape.volume == pytest.approx(a.shape.volume, rel=1e-6)
    assert b.shape.box[1][0] == pytest.approx(a.shape.box[0][0], abs=1e-6)
    joined = perform(copy, "prepare.join", {})
    assert joined.joints[0].kind == "joined"
    with pytest.raises(Refused, match=r"Nothing is left|miss"):
        perform(tray, "prepare.sector", {"body": 1, "origin": (9999, 0, 0), "normal": (1, 0, 0)})


# -- joining --------------------------------------------------------------------------
@pytest.fixture(scope="module")
def blocks() -> Document:
    """Three touching blocks and a sheet on top."""
    d = with_boxes((0, 0, 0, 40, 40, 20), (40, 0, 0, 30, 40, 20), (10, 40, 0, 50, 20, 20))
    d = perform(d, "build.line", {"points": [(5, 5, 20), (65, 5, 20), (65, 50, 20), (5, 50, 20)], "closed": True})
    return perform(d, "build.face", {"curves": [4], "name": "Lid"})


def skins(d: Document) -> Document:
    for body in d.bodies:
        if body.kind != "wire":
            d = perform(d, "midsurface.take_faces", {"body": body.key, "thickness": 1.0})
    return perform(d, "mesh.shells", {"size": 6.0})


def test_three_blocks_and_a_sheet_share_nodes_once_joined(blocks: Document) -> None:
    apart_ = skins(blocks)
    words = " ".join(f.text for f in check(apart_))
    assert "coincident nodes" in words
    assert pieces(apart_.mesh) == 4
    together = perform(blocks, "prepare.join", {})
    assert together.joined == ((1, 2, 3, 5),)
    meshed = skins(together)
    assert pieces(meshed.mesh) == 1
    assert not any("coincident" in f.text or "double" in f.text for f in check(meshed))
    assert {int(k) for k in np.unique(meshed.mesh.body)} == {1, 2, 3, 5}
    for key in (1, 2, 3):
        assert together.body(key).shape.volume == pytest.approx(blocks.body(key).shape.volume)


def test_gaps_are_listed_and_overlaps_refused() -> None:
    d = with_boxes((0, 0, 0, 10, 10, 10), (10, 0, 0, 10, 10, 10), (20.2, 0, 0, 10, 10, 10))
    joined = perform(d, "prepare.join", {"tolerance": 0.01})
    gap = next(j for j in joined.joints if j.kind == "gap")
    assert gap.width == pytest.approx(0.2, abs=1e-6)
    assert any("apart by 0.2" in n for n in joined.notes)
    with pytest.raises(Refused, match="overlap"):
        perform(with_boxes((0, 0, 0, 10, 10, 10), (5, 5, 5, 10, 10, 10)), "prepare.join", {})
    with pytest.raises(Refused, match="not small"):
        perform(d, "prepare.join", {"tolerance": 500.0})
    with pytest.raises(Refused, match="touch"):
        perform(with_boxes((0, 0, 0, 10, 10, 10), (50, 0, 0, 10, 10, 10)), "prepare.join", {})


def two_strips(gap: float) -> Document:
    d = perform(Document(), "build.line", {"points": [(0, 0, 0), (50, 0, 0)]})
    d = perform(d, "build.line", {"points": [(0, gap, 10), (50, gap, 10)]})
    d = perform(d, "build.extrude", {"curve": 1, "length": 10})
    return perform(d, "build.extrude", {"curve": 2, "length": 10})


def test_sheets_are_stitched_within_the_tolerance_and_gaps_are_listed() -> None:
    sewn = perform(two_strips(0.05), "prepare.stitch", {"bodies": [3, 4], "tolerance": 0.1})
    body = sewn.body(3)
    assert sum(len(b) == 1 for b in body.shape.edge_faces) == 6
    assert sum(len(b) == 2 for b in body.shape.edge_faces) == 1
    left = perform(two_strips(0.05), "prepare.stitch", {"bodies": [3, 4], "tolerance": 0.01})
    assert any("gap of 0.05" in n for n in left.notes)
    with pytest.raises(Refused, match="not small"):
        perform(two_strips(0.05), "prepare.stitch", {"bodies": [3, 4], "tolerance": 1000.0})


# -- building -----------------------------------------------------------------------
def test_lines_circles_and_faces_with_holes() -> None:
    d = perform(Document(), "build.line", {"points": [(0, 0, 0), (50, 0, 0), (50, 20, 0), (0, 20, 0)], "closed": True})
    d = perform(d, "build.circle", {"points": [(25, 10, 0)], "radius": 4.0})
    d = perform(d, "build.circle", {"way": "three points", "points": [(40, 10, 0), (43, 13, 0), (46, 10, 0)]})
    d = perform(d, "build.face", {"curves": [1, 2, 3]})
    assert d.bodies[-1].shape.face_area.sum() == pytest.approx(1000 - np.pi * 16 - np.pi * 9, rel=2e-3)
    with pytest.raises(Refused, match="in a line"):
        perform(d, "build.circle", {"way": "three points", "points": [(0, 0, 0), (1, 1, 0), (2, 2, 0)]})
    with pytest.raises(Refused, match="not closed"):
        perform(perform(Document(), "build.line", {"points": [(0, 0, 0), (5, 0, 0)]}), "build.face", {"curves": [1]})


def test_extruded_revolved_scaled_and_projected() -> None:
    d = perform(Document(), "build.line", {"points": [(0, 10, 0), (30, 10, 0)]})
    d = perform(d, "build.revolve", {"curve": 1, "axis": (1, 0, 0), "angle": 180})
    assert d.bodies[-1].shape.face_area.sum() == pytest.approx(np.pi * 10 * 30, rel=2e-3)
    d = perform(d, "build.circle", {"points": [(15, 0, 40)], "radius": 5.0})
    d = perform(d, "build.project", {"curve": 3, "body": 2, "direction": (0, 0, -1)})
    on = d.bodies[-1].shape.points
    assert np.allclose(np.hypot(on[:, 1], on[:, 2]), 10, atol=0.02)
    d = perform(d, "build.scale", {"body": 3, "about": (15, 0, 40), "factor": 2.0})
    assert d.bodies[-1].shape.edge_length.sum() == pytest.approx(20 * np.pi, rel=1e-2)
    d = perform(d, "build.curve", {"body": 2, "edges": [0]})
    assert d.bodies[-1].kind == "wire"
    with pytest.raises(Refused, match="does not meet"):
        perform(d, "build.project", {"curve": 3, "body": 2, "direction": (1, 0, 0)})
    with pytest.raises(Refused, match="zero"):
        perform(d, "build.extrude", {"curve": 1, "length": 0.0})


def test_copies_move_mirror_and_rotate() -> None:
    d = with_boxes((10, 0, 0, 5, 5, 5))
    moved = perform(d, "build.copies", {"bodies": [1], "by": (20, 0, 0), "count": 3})
    assert [b.shape.box[0][0] for b in moved.bodies] == pytest.approx([10, 30, 50, 70])
    turned = perform(d, "build.copies", {"bodies": [1], "way": "rotate", "axis": (0, 0, 1), "angle": 90, "count": 3})
    assert turned.bodies[2].shape.box[0] == pytest.approx([-15, -5, 0], abs=1e-6)
    mirrored = perform(d, "build.copies", {"bodies": [1], "way": "mirror", "axis": (1, 0, 0)})
    assert mirrored.bodies[1].shape.volume == pytest.approx(125)
    with pytest.raises(Refused, match="on the original"):
        perform(d, "build.copies", {"bodies": [1]})


def test_planes_and_points() -> None:
    d = with_boxes((0, 0, 0, 10, 10, 10))
    d = perform(d, "build.plane", {"points": [(0, 0, 0), (1, 0, 0), (0, 1, 0)], "offset": 3})
    assert d.planes[0].origin == pytest.approx((0, 0, 3))
    top = next(
        f
        for f, face in enumerate(d.bodies[0].shape.faces)
        if face.carrier.data[5] == pytest.approx(1) and face.carrier.data[2] == pytest.approx(10)
    )
    d = perform(d, "build.plane", {"way": "face", "body": 1, "face": top, "offset": -2, "name": "Cut"})
    assert d.planes[1].origin[2] == pytest.approx(8)
    d = perform(d, "build.point", {"way": "intersection", "points": [(0, 0, 0), (2, 2, 0), (0, 2, 0), (2, 0, 0)]})
    assert d.points[0].place == pytest.approx((1, 1, 0))
    d = perform(d, "build.point", {"way": "projected", "points": [(5, 5, 30)], "body": 1})
    assert d.points[1].place == pytest.approx((5, 5, 10))
    with pytest.raises(Refused, match="in a line"):
        perform(d, "build.plane", {"points": [(0, 0, 0), (1, 0, 0), (2, 0, 0)]})
    with pytest.raises(Refused, match="pass each other"):
        perform(d, "build.point", {"way": "intersection", "points": [(0, 0, 0), (2, 2, 0), (0, 2, 5), (2, 0, 5)]})


# -- names, views, and all of it undone -------------------------------------------------
def test_names_colours_views_and_removal(blocks: Document) -> None:
    d = perform(blocks, "part.rename", {"body": 1, "name": "Foot"})
    d = perform(d, "part.colour", {"bodies": [1, 2], "colour": "#112233"})
    assert (d.body(1).name, d.body(2).colour) == ("Foot", "#112233")
    with pytest.raises(Refused, match="already"):
        perform(d, "part.rename", {"body": 2, "name": "Foot"})
    d = perform(d, "part.save_view", {"name": "Corner", "camera": list(range(10))})
    assert d.views[0].camera == tuple(range(10))
    d = perform(skins(d), "part.remove", {"bodies": [1]})
    assert not (d.mesh.body == 1).any()
    assert 1 not in d.sheets
    assert len(d.bodies) == len(blocks.bodies) - 1


def test_no_operation_changes_the_document_it_is_given(blocks: Document) -> None:
    """Undo is going back to the value before: nothing in it may have changed."""
    before = [b.fingerprint for b in blocks.bodies]
    perform(blocks, "prepare.join", {})
    perform(blocks, "prepare.split_body", {"body": 1, "origin": (20, 0, 0), "normal": (1, 0, 0)})
    perform(blocks, "build.copies", {"bodies": [1], "by": (0, 0, 99)})
    assert [b.fingerprint for b in blocks.bodies] == before
    assert len(blocks.bodies) == 5
    assert not blocks.joined
    assert {"prepare.join", "build.plane", "part.faces_from_mesh"} <= set(all_operations())


def test_a_hang_or_a_crash_costs_only_its_process() -> None:
    import os
    import time

    with pytest.raises(BrokeDown, match=r"longer than 0\.3 s"):
        apart(time.sleep, (30.0,), 0.3, "waiting")
    with pytest.raises(BrokeDown, match="broke down"):
        apart(os._exit, (3,), 5.0, "leaving")
    assert apart(sum, ([1, 2, 3],), 5.0, "adding") == 6
