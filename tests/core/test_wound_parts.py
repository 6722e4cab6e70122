"""Parts that wind about an axis, ribs that end under flanges, steps in thickness round bends."""

from __future__ import annotations

import numpy as np
import pytest

from kind_rivet.core.midsurface.wound import unwound
from tests.thin_meshes import drawn, drawn_sheet, made

NAMES = ["screw", "flanged_wheel", "two_wall_rail"]


@pytest.mark.parametrize("name", NAMES)
def test_the_sheet_is_whole_and_weighs_what_its_solid_weighs(name: str) -> None:
    proof = drawn_sheet(name).proof
    assert proof is not None
    assert (proof.pieces, proof.inner_free_length) == (1, 0)
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


@pytest.mark.parametrize("name", ["louvre", "offset_duct", "moulded_cover"])
def test_faces_that_do_not_wind_stay_as_they_are(name: str) -> None:
    solid = drawn(name)
    assert unwound(solid)[0] is solid


def test_a_step_round_bends_is_one_line_for_both_walls() -> None:
    shape = drawn_sheet("two_wall_rail").shape
    step = [e for e, edge in enumerate(shape.edges) if np.abs(shape.points[edge.nodes][:, 0] - 80).max() < 1e-6]
    assert len(step) == 5
    assert all(len(shape.edge_faces[e]) == 2 for e in step)
