"""Ducts whose bends end on flanges, skins of smooth patches with windows, trays with flanges that end flush or go all round."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from kind_rivet.core.geometry.simplify import simplify
from kind_rivet.core.meshing.assemble import measure_thickness
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.meshing.detail import small_detail
from kind_rivet.core.meshing.rules import ShellRules
from tests.thin_meshes import drawn, drawn_sheet, made, whole_proof

NAMES = ["flanged_elbow", "flanged_s_duct", "cowl", "flush_tray", "tapered_tray"]


@pytest.mark.parametrize("name", NAMES)
def test_the_sheet_is_whole_and_weighs_what_its_solid_weighs(name: str) -> None:
    proof = whole_proof(name)
    assert proof.mass_ratio == pytest.approx(1, abs=0.002)
    assert proof.cover > (0.997 if name == "flush_tray" else 0.998)  # its corners are sharp


@pytest.mark.parametrize("name", NAMES)
def test_it_meshes_without_a_failing_element(name: str) -> None:
    mesh = made(name)
    assert (mesh.pieces, mesh.coincident()) == (1, 0)
    assert not len(mesh.quality.failing)
    assert mesh.quad_share > 0.99
    assert mesh.growth.max() < 1.55


@pytest.mark.parametrize("name", ["flanged_elbow", "flanged_s_duct"])
def test_walls_end_at_the_middle_of_the_flange_they_stand_on(name: str) -> None:
    shape = drawn_sheet(name).shape
    flange = {f for f, face in enumerate(shape.faces) if face.carrier.kind == "plane" and abs(face.carrier.array[4]) > 0.99}
    middle = np.concatenate([shape.points[shape.facets[shape.facet_face == f]][:, :, 1].ravel() for f in flange])
    assert np.abs(middle + 1.5).max() < 0.06  # half of its 3; where freely curved walls meet, the corner gives way a little
    assert shape.points[:, 1].min() > -1.56


def test_windows_do_not_keep_patches_from_being_one_tube() -> None:
    solid = drawn("cowl")
    free = [f for f, face in enumerate(solid.faces) if face.carrier.kind == "free"]
    joined, _ = simplify(solid, blends=True, turning=np.pi, tubes=frozenset(free))
    assert len(free) > 12
    assert sum(face.carrier.kind == "free" for face in joined.faces) == 2  # inside and outside


def test_no_crumbs_of_walls_are_left_beyond_a_corner() -> None:
    sheet = drawn_sheet("flush_tray")
    assert sheet.shape.face_area.min() > 10 * sheet.thickness.max() ** 2
    assert len(sheet.shape.faces) == 11  # two halves of the floor, four walls, a partition, two flanges, two ears


def test_short_edges_at_a_corner_of_three_walls_shrink_together() -> None:
    shape = drawn_sheet("flush_tray").shape
    curves = [Curve.through(shape.points[edge.nodes], edge.carrier) for edge in shape.edges]
    rules = ShellRules(size=5.0)
    half_walls = {e for e, length in enumerate(shape.edge_length) if length == pytest.approx(1.5, abs=1e-3)}
    assert len(half_walls) >= 8
    short = small_detail(shape, curves, [None], rules)
    assert half_walls <= set(np.flatnonzero(short).tolist())
    kept = small_detail(shape, curves, [None], replace(rules, look_past=0.25))
    assert not kept.any()


def test_strips_narrower_than_the_wall_between_roundings_are_no_walls_of_their_own() -> None:
    sheet = drawn_sheet("tapered_tray")
    assert sorted(face.carrier.kind for face in sheet.shape.faces) == ["free"] * 4 + ["plane"] * 6
    assert sheet.shape.face_area.min() > 100  # four corners, four sides, a floor and a flange


def test_what_a_ray_meets_of_the_wall_beside_it_is_not_the_thickness_of_the_floor() -> None:
    solid, sheet, mesh = drawn("tapered_tray"), drawn_sheet("tapered_tray"), made("tapered_tray", 0.6).mesh
    thickness, _ = measure_thickness(mesh, 1, solid, sheet)
    floor = np.flatnonzero(np.abs(mesh.centres()[:, 2] - 1.5) < 1e-6)
    assert len(floor) > 3000
    assert thickness[floor] == pytest.approx(3, rel=1e-6)  # half of the outermost shells lie within the sides, which lean outward
    assert np.unique(thickness.round(2)).size > 10  # those thin out upwards
