"""Parts that wind about an axis, ribs that end under flanges, steps in thickness round bends."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from kind_rivet.core.geometry.kernel.facets import facet_shape
from kind_rivet.core.geometry.kernel.parts import parts_of
from kind_rivet.core.midsurface.extract import extract
from kind_rivet.core.midsurface.sheet import Sheet
from kind_rivet.core.midsurface.wound import _covers_itself, _screw_axis, unwound
from tests.thin_meshes import drawing, drawn, drawn_sheet, made, moved, whole_proof

NAMES = ["screw", "flanged_wheel", "two_wall_rail"]


@pytest.mark.parametrize("name", NAMES)
def test_the_sheet_is_whole_and_weighs_what_its_solid_weighs(name: str) -> None:
    proof = whole_proof(name)
    assert proof.mass_ratio == pytest.approx(1, abs=0.006)
    assert proof.cover > 0.996
    assert not [remark for remark in drawn_sheet(name).remarks if remark.kind != "bare"]  # sharp corners reach beyond their walls


@pytest.mark.parametrize("name", NAMES)
def test_it_meshes_without_a_failing_element(name: str) -> None:
    mesh = made(name)
    assert (mesh.pieces, mesh.coincident()) == (1, 0)
    assert len(mesh.quality.failing) <= (2 if name == "screw" else 0)
    assert mesh.quad_share > 0.985
    assert mesh.least_jacobian > 0.4


def test_sides_that_wind_are_cut_alike_through_their_axis() -> None:
    solid = drawn("screw")
    cut, origin = unwound(solid)
    added = origin[len(solid.faces) :]
    assert sorted(origin[: len(solid.faces)]) == list(range(len(solid.faces)))
    assert len(set(added.tolist())) == 2  # above and below
    assert len(set(np.bincount(added)[np.bincount(added) > 0].tolist())) == 1
    assert cut.volume == pytest.approx(solid.volume, rel=1e-3)
    for f in np.unique(np.append(added, range(len(solid.faces), len(cut.faces)))).tolist():
        points = cut.points[np.unique(cut.facets[cut.facet_face == f])]
        turn = np.ptp(np.unwrap(np.arctan2(points[:, 1], points[:, 0])[np.argsort(points[:, 2])]))
        assert turn < 2 * np.pi
    again, same = unwound(cut)
    assert again is cut
    assert same.tolist() == list(range(len(cut.faces)))


def test_a_flight_is_cut_alike_in_any_size_and_attitude() -> None:
    first, solid = drawn_sheet("screw"), parts_of(drawing("draw_wound_parts").screw(), "solid")[0]

    def flight(sheet: Sheet) -> np.ndarray:
        return np.sort([area for area, face in zip(sheet.shape.face_area, sheet.shape.faces, strict=True) if face.carrier.kind == "free"])

    for how in ("0.01", "100", "turned", "mirrored"):
        scale = float(how) if how[0] in "01" else 1.0
        other = extract(facet_shape(moved(solid, how)))
        assert flight(other) / scale**2 == pytest.approx(flight(first), rel=0.03)
        assert other.area / scale**2 == pytest.approx(first.area, rel=2e-4)
        assert other.proof is not None
        assert (other.proof.pieces, other.proof.inner_free_length) == (1, 0)


def helicoid(turns: float, pitch: float) -> tuple[np.ndarray, np.ndarray]:
    """Points and facets of a ruled strip that winds about the z axis."""
    turn, reach = np.meshgrid(np.linspace(0, 2 * np.pi * turns, 61), np.linspace(3.0, 8.0, 6), indexing="ij")
    points = np.stack((reach * np.cos(turn), reach * np.sin(turn), pitch * turn / (2 * np.pi)), axis=-1).reshape(-1, 3)
    corner = (np.arange(60)[:, None] * 6 + np.arange(5)).ravel()
    return points, np.concatenate([np.column_stack((corner, corner + a, corner + b)) for a, b in ((6, 7), (7, 1))])


@pytest.mark.parametrize(("turns", "pitch"), [(0.4, 10.0), (1.3, 6.0), (2.0, 12.0)])
def test_the_axis_of_a_strip_that_winds_is_found_in_any_attitude(turns: float, pitch: float) -> None:
    points, facets = helicoid(turns, pitch)
    turned = Rotation.from_rotvec((0.4, -1.1, 0.7))
    shift = np.array([120.0, -40.0, 7.0])
    at, axis = _screw_axis(turned.apply(points) + shift, facets)
    assert abs(axis @ turned.apply((0, 0, 1))) == pytest.approx(1, abs=1e-3)
    off = turned.inv().apply(at - shift)
    assert np.hypot(off[0], off[1]) < 0.04 * 8  # chords of a coarse strip


def test_a_strip_that_does_not_turn_slides_along_itself() -> None:
    x, y = np.meshgrid(np.linspace(0, 30, 31), np.linspace(0, 2 * np.pi, 21), indexing="ij")
    points = np.stack((x, 4 * y, 3 * np.sin(y)), axis=-1).reshape(-1, 3)
    corner = (np.arange(30)[:, None] * 21 + np.arange(20)).ravel()
    facets = np.concatenate([np.column_stack((corner, corner + a, corner + b)) for a, b in ((21, 22), (22, 1))])
    at, axis = _screw_axis(points, facets)
    assert abs(axis[0]) == pytest.approx(1, abs=1e-6)
    assert np.isfinite(at).all()


@pytest.mark.parametrize(("turns", "covers"), [(0.4, False), (0.9, False), (1.6, True)])
def test_only_what_winds_further_than_once_covers_itself(turns: float, covers: bool) -> None:
    assert _covers_itself(*helicoid(turns, 4.0)) == covers


@pytest.mark.parametrize("name", ["louvre", "offset_duct", "moulded_cover"])
def test_faces_that_do_not_wind_stay_as_they_are(name: str) -> None:
    solid = drawn(name)
    assert unwound(solid)[0] is solid


def test_a_step_round_bends_is_one_line_for_both_walls() -> None:
    shape = drawn_sheet("two_wall_rail").shape
    step = [e for e, edge in enumerate(shape.edges) if np.abs(shape.points[edge.nodes][:, 0] - 80).max() < 1e-6]
    assert len(step) == 5
    assert all(len(shape.edge_faces[e]) == 2 for e in step)
