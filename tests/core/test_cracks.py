"""Walls that part from one another at a tangent: bent sheet lapped on a plate, drawn as one solid."""

from __future__ import annotations

import pytest
from OCP.TopoDS import TopoDS_Shape

from kind_rivet.core.geometry.kernel.facets import facet_shape
from kind_rivet.core.midsurface.extract import extract
from kind_rivet.core.quality.shell_metrics import SCALED_JACOBIAN
from tests.thin_meshes import meshed, moved
from tests.thin_parts import box, cut, cylinder, fused

T = 2.5  # of the bent sheet


def angle(inner: float, width: float) -> TopoDS_Shape:
    """A sheet bent up: its flange lies on z = 0, its leg stands on x = 0 … T."""
    y, outer = -width / 2, inner + T
    ring = cut(cylinder((-inner, y, outer), (0, 1, 0), outer, width), [cylinder((-inner, y - 1, outer), (0, 1, 0), inner, width + 2)])
    away = [box(-inner - 2 * outer, y - 1, -1, 2 * outer, width + 2, 4 * outer), box(-inner, y - 1, outer, 3 * outer, width + 2, 3 * outer)]
    return fused(cut(ring, away), [box(-inner - 34, y, 0, 34, width, T), box(0, y, outer, T, width, 45)])


def lapped(plate: float, inner: float, width: float) -> TopoDS_Shape:
    return fused(box(-60, -40, -plate, 130, 80, plate), [angle(inner, width)])


@pytest.mark.parametrize(("plate", "inner", "width"), [(3.0, 4.75, 60.0), (3.0, 4.75, 80.0), (2.0, 2.5, 50.0), (4.0, 8.0, 60.0)])
def test_a_bend_that_leaves_its_plate_is_joined_to_it(plate: float, inner: float, width: float) -> None:
    sheet = extract(facet_shape(lapped(plate, inner, width)))
    proof = sheet.proof
    assert proof.pieces == 1 and proof.inner_free_length == pytest.approx(0, abs=1e-6)
    assert 0.995 < proof.mass_ratio < 1.01 and proof.cover > 0.99  # rows that slope at the step are longer than the walls
    thick = sorted({round(t, 3) for t in sheet.thickness.tolist()})
    assert thick == pytest.approx(sorted({T, plate, T + plate}), abs=0.01)
    three = [faces for faces in sheet.shape.edge_faces if len(faces) == 3]
    assert len(three) == 1 and len({round(float(sheet.thickness[f]), 3) for f in three[0]}) == 3
    made = meshed(sheet, 4.0)
    assert made.pieces == 1 and len(made.quality.failing) <= 0.002 * made.mesh.elements
    assert made.quality.values[:, SCALED_JACOBIAN].min() > 0.5 and made.quad_share > 0.985


def test_it_does_not_matter_how_the_part_lies() -> None:
    for how in ("mirrored", "turned", "0.01"):
        proof = extract(facet_shape(moved(lapped(3.0, 4.75, 60.0), how))).proof
        assert proof.pieces == 1 and 0.995 < proof.mass_ratio < 1.01


def test_a_sheet_that_touches_a_plate_only_along_a_line_is_no_lap() -> None:
    """A tube lying on a plate, a hair sunk into it: nothing is as thick as both together beside the line."""
    tube = cut(cylinder((0, -30, 10.2), (0, 1, 0), 10.5, 60), [cylinder((0, -31, 10.2), (0, 1, 0), 8.5, 62)])
    sheet = extract(facet_shape(fused(box(-40, -30, -2, 80, 60, 2), [tube])))
    assert not any(len(set(faces)) == 3 and sheet.thickness[list(faces)].max() > 2.6 for faces in sheet.shape.edge_faces)
