"""Meshes of all made-up thin parts at three sizes, and of seeded ones: what an analyst asks of them first."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from kind_rivet.core.errors import Refused
from kind_rivet.core.midsurface import extract as extract_module
from kind_rivet.core.midsurface.extract import CROSSING, HALF_WAY, extract
from kind_rivet.core.midsurface.sheet import Sheet
from tests import thin_parts
from tests.thin_meshes import MOST_GROWTH, drawn, drawn_sheet, made, meshed, size_for

SMOOTH = ("bent_rail", "sharp_rail", "box_tube", "round_tube", "louvre", "drawn_pan", "duct", "drafted_tray")  # sheet parts
OTHERS = (
    "ribbed_plate", "ribbed_plate_blends", "stepped_flush", "stepped_centred", "cone_flange", "moulded_cover", "pocket_part",
    "fork_bracket", "rimmed_wheel",
)  # fmt: skip


@pytest.mark.parametrize("name", [*SMOOTH, *OTHERS])
def test_made_up_parts_at_three_sizes(name: str) -> None:
    for times in (0.6, 1.0, 2.0):
        mesh = made(name, times)
        assert mesh.least_jacobian > 0.15
        assert mesh.pieces == 1
        assert mesh.coincident() == 0
        assert mesh.quad_share >= (0.95 if times > 1 else 0.985 if name in SMOOTH else 0.97)
        if times <= 1:
            assert mesh.angle_spread() < 1.0
            assert len(mesh.quality.failing) <= 0.002 * mesh.mesh.elements
            assert np.mean(mesh.growth > MOST_GROWTH) < 0.001  # none here; round-off elsewhere may leave one at the limit
            assert mesh.growth.max() < MOST_GROWTH + 0.02


def test_rib_lattice_keeps_its_skin_whole() -> None:
    """Ribs that nearly meet in points leave no holes in the skin under them."""
    panel = drawn_sheet("lattice_panel")
    skin = [f for f, face in enumerate(panel.shape.faces) if face.carrier.kind == "plane" and abs(face.carrier.array[5]) > 0.99]
    corners = panel.shape.points[panel.shape.facets[np.isin(panel.shape.facet_face, skin)]]
    x, y = corners[:, :, 0], corners[:, :, 1]
    area = np.abs((x[:, 1] - x[:, 0]) * (y[:, 2] - y[:, 0]) - (x[:, 2] - x[:, 0]) * (y[:, 1] - y[:, 0])).sum() / 2
    # Along the border the skin ends at the ribs' middles, 1 mm in, at most on three sides.
    assert 149.0 * 98.0 <= area <= 150.0 * 100.0 * (1 + 1e-9)
    mesh = made("lattice_panel", 1.0)
    assert mesh.least_jacobian > 0
    assert mesh.pieces == 1
    assert len(mesh.quality.failing) < 0.015 * mesh.mesh.elements


@pytest.mark.parametrize(("mass", "kind", "way"), [(0.975, "free", CROSSING), (0.95, "free", HALF_WAY), (0.95, "plane", CROSSING)])
def test_freely_curved_walls_that_prove_badly_are_tried_half_way(mass: float, kind: str, way: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """A square duct drawn out to a round one lost the material in its corners (97.4 % of the mass), though one piece without edges inside."""
    made = drawn_sheet("duct")
    assert made.proof is not None
    first, *others = made.shape.faces
    shape = replace(made.shape, faces=(replace(first, carrier=replace(first.carrier, kind=kind)), *others))
    poor = replace(made, shape=shape, way=CROSSING, proof=replace(made.proof, mass_ratio=mass))

    def refused(*_: object) -> Sheet:
        raise Refused("No offset.", "Another way.")

    monkeypatch.setattr(extract_module, "_by_offset", refused)
    monkeypatch.setattr(extract_module, "_by_crossing", lambda *_: poor)
    assert extract(drawn("duct")).way == way


def test_walls_that_vary_go_half_way() -> None:
    duct = drawn_sheet("duct")
    assert duct.way == HALF_WAY
    assert duct.proof is not None
    assert duct.proof.mass_ratio == pytest.approx(1, abs=0.006)
    assert duct.proof.cover > 0.998
    assert duct.proof.off_middle < 0.02
    low, high = duct.shape.box
    assert low[2] == pytest.approx(0, abs=1e-6)  # borders stay on their rims, though these stand aslant to the wall
    assert high[2] == pytest.approx(60, abs=1e-6)


def test_joints_all_the_way_round_are_sewn() -> None:
    wheel = drawn_sheet("rimmed_wheel")
    assert len(wheel.shape.faces) == 5  # web, and hub and rim on both sides of it
    assert wheel.proof is not None
    assert wheel.proof.pieces == 1
    assert wheel.proof.inner_free_length == 0
    joints = [e for e, beside in enumerate(wheel.shape.edge_faces) if len(beside) == 3]
    round_ = sum(float(wheel.shape.edge_length[e]) for e in joints)
    assert round_ == pytest.approx(2 * np.pi * (12 + 42), rel=1e-3)


def test_drawn_corners_follow_their_bends() -> None:
    """The corner of a drawn pan gets rows both ways, and its elements lie in the middle of the wall."""
    mesh = made("drawn_pan", 1.0)
    corners = [f for f, face in enumerate(mesh.sheet.faces) if face.carrier.kind == "torus"]
    assert len(corners) == 4
    for f in corners:
        rows = mesh.mesh.shells()[mesh.shells.face == f]
        assert (rows[:, 3] >= 0).all()
        d = mesh.sheet.faces[f].carrier.array
        q = mesh.mesh.points[rows].mean(axis=1) - d[:3]
        h = q @ d[3:6]
        rho = np.linalg.norm(q - h[:, None] * d[3:6], axis=1)
        off = np.hypot(rho - d[6], h) - d[7]
        assert np.abs(off).max() < 0.05 * 2.0
    assert mesh.quality.index.min() > 0


def test_eyes_near_a_rounded_end_get_rows_to_the_edge() -> None:
    mesh = made("fork_bracket", 1.0)
    eyes = [h for h in mesh.shells.holes if h.round and h.radius == pytest.approx(7)]
    assert len(eyes) == 2
    assert all(h.widths for h in eyes)
    assert len(mesh.quality.failing) == 0
    lug = mesh.sheet.faces[eyes[0].region] if eyes[0].region < len(mesh.sheet.faces) else None
    assert lug is not None
    arcs = [e for e, edge in enumerate(mesh.sheet.edges) if edge.carrier.kind == "circle" and edge.carrier.data[6] == pytest.approx(12)]
    assert len(arcs) == 4
    assert {int(mesh.shells.divisions[e]) for e in arcs} == {3}  # of the ring's sixteen, three lie behind each rounded corner


def test_seeded_parts_mesh_without_inverted_elements() -> None:
    elements = failing = clean = 0
    seeds = range(200, 214)
    for seed in seeds:
        part = thin_parts.draw(seed)
        mesh = meshed(extract(part.solid), size_for(part.solid))
        assert mesh.least_jacobian > 0, seed
        assert mesh.coincident() == 0, seed
        elements += mesh.mesh.elements
        failing += len(mesh.quality.failing)
        clean += len(mesh.quality.failing) <= 0.002 * mesh.mesh.elements
    assert failing <= 0.002 * elements
    assert clean >= 0.85 * len(seeds)


@pytest.mark.parametrize("name", ["drawn_pan", "fork_bracket", "rimmed_wheel"])
@pytest.mark.parametrize("times", [8.0, 20.0])
def test_far_too_coarse_sizes_give_a_mesh_or_a_reason(name: str, times: float) -> None:
    mesh = made(name, times)
    assert mesh.mesh.elements > 0
    assert mesh.least_jacobian > 0
    lost = set(range(len(mesh.sheet.faces))) - set(mesh.shells.face.tolist())
    assert not lost or mesh.shells.notes
