"""Vessels and ducts: domes, hairline steps all the way round, wedges that thin out, corners of freely curved walls."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from OCP.BRepPrimAPI import BRepPrimAPI_MakeSphere
from OCP.gp import gp_Pnt
from OCP.TopoDS import TopoDS_Shape

from kind_rivet.core.geometry.carriers import Carrier, fit_curve
from kind_rivet.core.meshing.fillings import plane_filling
from kind_rivet.core.meshing.free.fill import fill
from kind_rivet.core.meshing.free.symmetry import fill_symmetric
from kind_rivet.core.meshing.trias import without_repeats
from kind_rivet.core.midsurface.charts import CylinderChart
from kind_rivet.core.midsurface.extract import extract
from kind_rivet.core.midsurface.fields import CarrierField
from kind_rivet.core.midsurface.middles import Middle
from kind_rivet.core.midsurface.traces import crossing
from tests.thin_meshes import drawn_sheet, made, meshed, solid_of
from tests.thin_parts import cut, cylinder, fused

PROOFS = {"tank": (0.001, 0.999), "drum_on_cone": (0.002, 0.998), "scoop": (0.003, 0.998), "offset_duct": (0.002, 0.997)}


@pytest.mark.parametrize("name", PROOFS)
def test_the_sheet_is_one_piece_and_weighs_what_its_solid_weighs(name: str) -> None:
    sheet = drawn_sheet(name)
    proof = sheet.proof
    assert proof is not None
    mass, cover = PROOFS[name]
    assert sheet.way.startswith("walls")
    assert (proof.pieces, proof.inner_free_length) == (1, 0)
    assert proof.mass_ratio == pytest.approx(1, abs=mass)
    assert proof.cover > cover


@pytest.mark.parametrize(("name", "failing"), [("tank", 0), ("scoop", 12), ("offset_duct", 10)])
def test_nothing_of_a_mesh_lies_far_from_its_sheet(name: str, failing: int) -> None:
    mesh = made(name)
    assert (mesh.pieces, mesh.coincident()) == (1, 0)
    assert len(mesh.quality.failing) <= failing
    assert mesh.least_jacobian > 0.1
    low, high = mesh.sheet.points.min(axis=0), mesh.sheet.points.max(axis=0)
    assert (mesh.mesh.points > low - 0.1 * mesh.size).all()
    assert (mesh.mesh.points < high + 0.1 * mesh.size).all()


def test_four_places_by_chance_on_a_circle_are_none() -> None:
    flat = np.array([(-40.0, 0.0, 0.0), (-39.5, 1.0, 0.0), (39.5, 1.0, 0.0), (40.0, 0.0, 0.0)])
    assert fit_curve(flat, 1e-6).kind == "free"
    t = np.linspace(0, np.pi / 2, 4)
    arc = np.column_stack((np.cos(t), np.sin(t), 0 * t))
    assert fit_curve(arc, 1e-6).kind == "circle"


def drum() -> Middle:
    carrier = Carrier("cylinder", (0.0, 0.0, 0.0, 0.0, 0.0, 1.0, 40.0))
    t = np.linspace(0, 2 * np.pi, 60, endpoint=False)
    samples = np.column_stack((40 * np.cos(t), 40 * np.sin(t), 10 + 0 * t))
    sides = [CarrierField(Carrier("cylinder", (*carrier.data[:6], r)), 1.0) for r in (39.0, 41.0)]
    return Middle(carrier, CylinderChart.over(carrier, samples), CarrierField(carrier, 1.0), sides[0], sides[1], ({0}, {1}), 2.0, samples)


@pytest.mark.parametrize("lack", [0.0, 0.4, 3.0, 60.0])
def test_curves_round_a_drum_never_overlap_themselves(lack: float) -> None:
    """However little of the drum is left out of what is looked at (in units; 251 all the way round)."""
    middle = drum()
    half = middle.chart.period / 2
    level = CarrierField(Carrier("plane", (0.0, 0.0, 10.0, 0.0, 0.0, 1.0)), 1.0)
    found = crossing(middle, level, np.array([-half + lack, 0.0]), np.array([half, 20.0]), 0.8, 1e-6)
    assert len(found) == 1
    length = np.linalg.norm(np.diff(found[0], axis=0), axis=1).sum()
    assert middle.chart.period - lack - 2 < length < middle.chart.period + 1e-6
    assert np.allclose(found[0][:, 2], 10)


def test_elements_that_use_a_node_twice_become_trias_or_go() -> None:
    shells = made("tank").shells
    assert without_repeats(shells) is shells
    a, b, c, d = shells.elements[0].tolist()
    rows = np.array([(a, b, c, c), (a, b, a, d), (a, b, b, -1)], np.int32)
    more = replace(
        shells,
        elements=np.concatenate((shells.elements, rows)),
        face=np.append(shells.face, shells.face[:3]),
        ring=np.append(shells.ring, shells.ring[:3]),
    )
    kept = without_repeats(more)
    assert kept.elements[:-1].tolist() == shells.elements.tolist()
    assert kept.elements[-1].tolist() == [a, b, c, -1]


def graded() -> np.ndarray:
    """A rectangle whose left side is eight times as fine as its right one."""
    x = np.array([0, 1, 2.25, 3.8, 5.7, 8.1, 11.1, 15, 20, 26, 33, 41, 48.0])
    right, left = np.linspace(0, 32, 5), np.linspace(32, 0, 33)
    bottom = np.column_stack((x[:-1], 0 * x[:-1]))
    top = np.column_stack((x[:0:-1], 32 + 0 * x[1:]))
    return np.vstack((bottom, np.column_stack((48 + 0 * right[:-1], right[:-1])), top, np.column_stack((0 * left[:-1], left[:-1]))))


def test_mirrored_halves_keep_fine_sides_apart() -> None:
    loop = graded()
    mesh, axes = fill_symmetric([loop], 8.0, 0.25, lambda part: fill(part, 8.0))
    assert mesh is not None
    assert axes == 1
    assert mesh.worst > 0.3
    assert np.array_equal(mesh.points[: len(loop)], loop)


def test_plane_regions_get_the_best_of_all_fillings() -> None:
    t = -np.linspace(0, 2 * np.pi, 21)[:-1]
    square = np.array(
        [
            *[(k, 0.0) for k in range(16)],
            *[(16.0, k) for k in range(16)],
            *[(16.0 - k, 16.0) for k in range(16)],
            *[(0.0, 16.0 - k) for k in range(16)],
        ]
    )
    loops = [square, np.column_stack((8 + 3 * np.cos(t), 8 + 3 * np.sin(t)))]
    best, free = plane_filling(loops, 1.0), fill(loops, 1.0)
    assert best.worst >= free.worst
    assert best.trias == 0
    used = np.bincount(best.elements[best.elements >= 0], minlength=len(best.points))
    assert (used[len(square) + 20 :] == 4).all()


def ball(radius: float) -> TopoDS_Shape:
    return BRepPrimAPI_MakeSphere(gp_Pnt(0, 0, 0), radius).Shape()


def test_a_ball_with_necks_all_round_is_whole_though_poles_lie_on_it() -> None:
    """Longitudes of a chart meet in its poles: where these lie on the wall its border runs on across them."""
    ways = [(0.0, 0.0, 1.0), (1.0, 0.3, 0.2), (-0.6, 0.9, -0.1), (-0.2, -0.8, -0.7), (0.3, 0.5, -1.0)]
    necks, bores = ([cylinder((0, 0, 0), way, radius, 75) for way in ways] for radius in (13.0, 10.0))
    sheet = extract(solid_of(cut(fused(ball(50), [*necks, cylinder((0, 0, 65), (0, 0, 1), 24, 3)]), [ball(47), *bores])))
    proof = sheet.proof
    assert proof is not None
    assert not [r for r in sheet.remarks if r.kind == "lost"]
    assert sorted(face.carrier.kind for face in sheet.shape.faces) == [*["cylinder"] * 6, "plane", "sphere", "sphere"]
    assert proof.pieces == 1
    assert proof.mass_ratio == pytest.approx(1, abs=5e-3)
    assert proof.inner_free_length == 0.0
    whole = meshed(sheet, 5.0)
    assert whole.pieces == 1
    assert not len(whole.quality.failing)


def test_a_ball_with_one_hole_is_cut_before_it_is_laid_flat() -> None:
    """In one piece it is three times as large in the plane as in space at some places, which no size there can make up for."""
    whole = meshed(extract(solid_of(cut(ball(50), [ball(47), cylinder((0, 0, 0), (0, 0, 1), 15, 100)]))), 5.0)
    assert whole.pieces == 1
    assert not len(whole.quality.failing)
    assert whole.quad_share > 0.98
