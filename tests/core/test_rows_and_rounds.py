"""Rows that strips become, circles that follow bolt holes, arcs that are no holes, blends that are one."""

from __future__ import annotations

import numpy as np
import pytest

from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.simplify import simplify
from kind_rivet.core.meshing.bolt_circles import _multiple, _on_one_circle
from kind_rivet.core.meshing.rules import ShellRules, WasherRule
from kind_rivet.core.meshing.shells import mesh_sheet
from kind_rivet.core.meshing.washers import RoundHole
from kind_rivet.core.midsurface.extract import extract
from tests.thin_meshes import drawing, drawn_sheet, solid_of

CENTRE, AXIS = np.zeros(3), np.array([0.0, 0.0, 1.0])


def bolt(angle: float, reach: float = 18.0, radius: float = 2.5) -> RoundHole:
    at = (reach * np.cos(angle), reach * np.sin(angle), 0.0)
    return RoundHole(0, 1, (1,), radius, at, (0.0, 0.0, 1.0), 8, (2.0,), 2.0)


# -- bolt circles ---------------------------------------------------------------------
@pytest.mark.parametrize(
    ("base", "bolts", "count"), [(50, 4, 48), (50, 6, 48), (36, 7, 42), (20, 8, 16), (10, 8, 8), (13, 9, None), (6, 8, None)]
)
def test_counts_become_multiples_of_the_bolts(base: int, bolts: int, count: int | None) -> None:
    assert _multiple(base, bolts) == count


def test_equal_bolts_at_equal_angles_are_a_circle() -> None:
    even = [bolt(k * np.pi / 2 + 0.3) for k in range(4)]
    found = _on_one_circle(even, CENTRE, AXIS, 24.0, 3.0)
    assert found is not None
    assert len(found) == 4


@pytest.mark.parametrize(
    "bolts",
    [
        [bolt(0.0), bolt(np.pi)],  # two are no circle
        [bolt(0.0), bolt(1.0), bolt(4.0)],  # at uneven angles
        [bolt(0.0), bolt(2 * np.pi / 3, radius=4.0), bolt(4 * np.pi / 3, radius=3.0)],  # unlike
        [bolt(k * 2 * np.pi / 3, reach=1.0, radius=0.2) for k in range(3)],  # round the axis, far from the border
    ],
)
def test_other_holes_are_none(bolts: list[RoundHole]) -> None:
    assert _on_one_circle(bolts, CENTRE, AXIS, 24.0, 3.0) is None


# -- strips -----------------------------------------------------------------------------
def test_strips_all_round_become_one_row_at_one_height() -> None:
    """The step between the lid's floor and the thicker one within its boss is half a millimetre: eight strips in a ring."""
    lid = drawn_sheet("ribbed_lid")
    before = lid.shape.points.copy()
    mesh = mesh_sheet(lid.shape, ShellRules(3.0, 0.25, washers=(WasherRule(rings=1, width=0.0),)))
    assert np.array_equal(lid.shape.points, before)  # the sheet itself stays
    assert any("narrow strips were looked past" in note for note in mesh.notes)
    reach = np.hypot(mesh.points[:, 0], mesh.points[:, 1])
    row = mesh.points[(np.abs(reach - 5.75) < 0.01) & (mesh.points[:, 2] < 2.0)]
    assert len(row) >= 16
    assert np.ptp(row[:, 2]) < 1e-9


def test_finer_meshes_keep_the_strips() -> None:
    mesh = mesh_sheet(drawn_sheet("ribbed_lid").shape, ShellRules(1.0, 0.25, washers=(WasherRule(rings=1, width=0.0),)))
    assert not any("strip" in note for note in mesh.notes)
    heights = mesh.points[np.abs(np.hypot(mesh.points[:, 0], mesh.points[:, 1]) - 5.75) < 0.01, 2]
    assert heights.min() == pytest.approx(1.0)
    assert (np.abs(heights - 1.5) < 1e-9).any()


# -- arcs on which walls stand ----------------------------------------------------------
def test_a_wall_that_stands_on_an_arc_makes_no_hole() -> None:
    draw = drawing()
    ring = draw.cut(draw.cylinder((0, 0, 0), (0, 0, 1), 47, 25), draw.cylinder((0, 0, -1), (0, 0, 1), 45, 30))
    shelf = draw.BRepAlgoAPI_Common(draw.box(20, -10, 12, 40, 20, 2), draw.cylinder((0, 0, 0), (0, 0, 1), 46, 30)).Shape()
    sheet = extract(solid_of(draw.fused([ring, shelf])))
    assert len(sheet.shape.faces) == 2
    mesh = mesh_sheet(sheet.shape, ShellRules(4.0, 0.25, washers=(WasherRule(rings=1, width=0.0),)))
    assert mesh.holes == ()
    joint = [e for e, beside in enumerate(sheet.shape.edge_faces) if len(beside) == 3]
    assert sum(float(sheet.shape.edge_length[e]) for e in joint) == pytest.approx(20.1, abs=0.3)
    assert 4 <= sum(int(mesh.divisions[e]) for e in joint) <= 8  # about their length over the size, not that of the whole circle


# -- blends ------------------------------------------------------------------------------
def test_mitred_fillets_are_joined_only_when_asked() -> None:
    draw = drawing()
    block = solid_of(draw.rounded(draw.box(0, 0, 0, 40, 30, 10), 2, lambda a, b: a.Z() > 9.9 and b.Z() > 9.9))

    def round_faces(shape: Shape) -> int:
        return sum(face.carrier.kind not in ("plane",) for face in shape.faces)

    apart, joined = simplify(block)[0], simplify(block, blends=True)[0]
    assert round_faces(joined) <= round_faces(apart)
    assert joined.face_area.sum() == pytest.approx(apart.face_area.sum())


def test_pipes_of_one_radius_are_no_blends() -> None:
    draw = drawing()
    cross = draw.fused([draw.cylinder((0, 0, -40), (0, 0, 1), 10, 80), draw.cylinder((-40, 0, 0), (1, 0, 0), 10, 80)])
    pipes = simplify(solid_of(cross), blends=True)[0]
    assert all(face.carrier.kind in ("plane", "cylinder") for face in pipes.faces)
