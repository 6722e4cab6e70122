"""Pressed and turned parts: slivers between walls, bolt circles, floors within bosses, pipes that meet, beads."""

from __future__ import annotations

import numpy as np
import pytest

from kind_rivet.core.geometry.carriers import Carrier, same
from kind_rivet.core.midsurface.extract import OFFSET
from tests.thin_meshes import drawn_sheet, made


@pytest.mark.parametrize("name", ["stamped_cup", "flanged_pipe", "ribbed_lid", "branch_pipe", "bead_panel"])
def test_parts_are_one_sheet_and_mesh_soundly(name: str) -> None:
    proof = drawn_sheet(name).proof
    assert proof is not None
    assert proof.pieces == 1
    assert proof.inner_free_length == 0
    assert proof.mass_ratio == pytest.approx(1, abs=0.006)
    assert proof.cover > 0.99
    mesh = made(name)
    assert mesh.pieces == 1
    assert mesh.coincident() == 0
    assert mesh.quad_share >= 0.985
    assert mesh.least_jacobian > (0.4 if name == "ribbed_lid" else 0.55)
    assert len(mesh.quality.failing) <= (0.01 if name == "ribbed_lid" else 0.002) * mesh.mesh.elements
    assert mesh.angle_spread() < 1.0


def test_no_sliver_is_left_between_walls_that_can_meet() -> None:
    cup = drawn_sheet("stamped_cup").shape
    width = 2 * cup.face_area / cup.face_border_length
    assert width.min() > 0.5  # of a wall of 1.2; the slivers were 0.12 wide


def test_bolt_holes_are_seen_alike_by_the_border() -> None:
    mesh = made("flanged_pipe")
    bolts = [h for h in mesh.shells.holes if h.radius == pytest.approx(2.5)]
    assert len(bolts) == 4
    assert all(h.widths for h in bolts)
    border = [
        e
        for e, edge in enumerate(mesh.sheet.edges)
        if edge.carrier.kind == "circle" and edge.carrier.data[6] == pytest.approx(24) and len(mesh.sheet.edge_faces[e]) == 1
    ]
    assert len(border) == 1
    nodes = mesh.shells.points[mesh.shells.edge_nodes[border[0]]]
    assert (len(nodes) - 1) % 8 == 0
    for bolt in bolts:
        way = np.array(bolt.centre[:2]) / np.linalg.norm(bolt.centre[:2])
        assert (nodes[:, :2] @ way).max() == pytest.approx(24, abs=1e-3)  # a node lies straight out from every hole


def test_a_thicker_floor_within_a_boss_is_one_wall() -> None:
    lid = drawn_sheet("ribbed_lid")
    floor = [
        f
        for f, face in enumerate(lid.shape.faces)
        if face.carrier.kind == "plane" and abs(face.carrier.array[5]) > 0.99 and lid.shape.face_area[f] < 150
    ]
    assert len(floor) == 1
    assert lid.thickness[floor[0]] == pytest.approx(3)


def test_pipes_of_one_radius_stay_apart() -> None:
    pipes = drawn_sheet("branch_pipe")
    assert pipes.way == OFFSET
    assert [face.carrier.kind for face in pipes.shape.faces] == ["cylinder"] * 3
    assert len([e for e, beside in enumerate(pipes.shape.edge_faces) if len(set(beside)) == 2]) == 3


def test_beads_without_a_radius_go_by_offset() -> None:
    panel = drawn_sheet("bead_panel")
    assert panel.way == OFFSET
    assert sorted({face.carrier.kind for face in panel.shape.faces}) == ["cylinder", "plane", "sphere"]


@pytest.mark.parametrize(
    ("kind", "first", "other"),
    [
        ("cylinder", (0, 0, 0, 0, 0, 1, 5.0), (0, 0, 0, 0, 0.6, 0.8, 5.0)),
        ("cylinder", (0, 0, 0, 0, 0, 1, 5.0), (1, 0, 0, 0, 0, 1, 5.0)),
        ("cone", (0, 0, 0, 0, 0, 1, 0.3), (0, 0, 0, 0, 0, 1, 0.4)),
        ("sphere", (0, 0, 0, 5.0), (0, 1, 0, 5.0)),
        ("torus", (0, 0, 0, 0, 0, 1, 9.0, 2.0), (0, 0, 1, 0, 0, 1, 9.0, 2.0)),
    ],
)
def test_carriers_that_only_share_a_curve_are_not_the_same(kind: str, first: tuple[float, ...], other: tuple[float, ...]) -> None:
    shared = np.array([[5.0, 0.0, 0.0]])
    one = Carrier(kind, tuple(map(float, first)))
    assert same(one, one, np.empty((0, 3)), 1e-6)
    assert not same(one, Carrier(kind, tuple(map(float, other))), np.empty((0, 3)) if kind != "plane" else shared, 1e-6)
