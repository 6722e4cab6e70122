"""Blades of a louvre that begin steeply: drawn by shifting one spline upwards, they are thin where they are steep, and end aslant."""

from __future__ import annotations

from functools import cache

import numpy as np
import pytest
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeWire
from OCP.BRepPrimAPI import BRepPrimAPI_MakePrism
from OCP.gp import gp_Pnt, gp_Vec
from OCP.TopoDS import TopoDS_Shape

from kind_rivet.core.geometry.kernel.facets import facet_shape
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.midsurface.extract import extract
from kind_rivet.core.midsurface.pairs import find_opposed, find_pairs
from kind_rivet.core.midsurface.sheet import Sheet
from tests.free_shapes import curve
from tests.thin_meshes import meshed, size_for
from tests.thin_parts import box, cut, fused

HIGH, WIDE, PITCH = 1.75, 48.0, 14.0  # how far a blade's sides are apart, upwards, and how long it is


def blade(at: float) -> TopoDS_Shape:
    low = np.array([(-WIDE / 2, at + y * PITCH, z * PITCH) for y, z in ((-0.42, 0), (-0.15, 0.22), (0.12, 0.2), (0.4, 0.5))])
    high = low + [0, 0, HIGH]
    wire = BRepBuilderAPI_MakeWire(curve(low, False))
    wire.Add(BRepBuilderAPI_MakeEdge(gp_Pnt(*low[-1]), gp_Pnt(*high[-1])).Edge())
    wire.Add(curve(high[::-1], False))
    wire.Add(BRepBuilderAPI_MakeEdge(gp_Pnt(*high[0]), gp_Pnt(*low[0])).Edge())
    return BRepPrimAPI_MakePrism(BRepBuilderAPI_MakeFace(wire.Wire()).Face(), gp_Vec(WIDE, 0, 0)).Shape()


@cache
def louvre(reach: float) -> tuple[Shape, Sheet]:
    """Two blades between two webs on a frame; the blades' ends stand out of the webs by `reach`."""
    half = WIDE / 2 - HIGH - reach  # between the webs
    y = PITCH + 1
    frame = cut(
        box(-half - 9, -y - 8, 0, 2 * half + 18, 2 * y + 16, HIGH), [box(-half - HIGH / 2, -y, -1, 2 * half + HIGH, 2 * y, HIGH + 2)]
    )
    webs = [box(x, -y - 1, 0, HIGH, 2 * y + 2, 11.2) for x in (-half - HIGH, half)]
    solid = facet_shape(fused(frame, [*webs, blade(-PITCH / 2), blade(PITCH / 2)]))
    return solid, extract(solid)


@pytest.mark.parametrize("reach", [0.25, -0.5])
def test_it_is_one_sheet_of_a_frame_two_webs_and_two_blades(reach: float) -> None:
    """The blades had been left out up to where they are less steep (81 % of the mass), as if blends lay on both their sides."""
    _, sheet = louvre(reach)
    proof = sheet.proof
    assert proof is not None
    assert len(sheet.shape.faces) == 5
    assert sorted(face.carrier.kind for face in sheet.shape.faces) == ["free", "free", "plane", "plane", "plane"]
    assert (proof.pieces, proof.inner_free_length) == (1, 0)
    assert proof.mass_ratio == pytest.approx(1, abs=0.01)
    assert proof.cover > 0.99


def test_blades_reach_from_end_to_end() -> None:
    _, sheet = louvre(0.25)
    blades = [f for f, face in enumerate(sheet.shape.faces) if face.carrier.kind == "free"]
    used = np.unique(sheet.shape.facets[np.isin(sheet.shape.facet_face, blades)])
    assert np.ptp(sheet.shape.points[used][:, 1]) == pytest.approx(PITCH + 0.82 * PITCH, abs=0.01 * HIGH)


def test_what_lies_under_ends_cut_off_aslant_is_no_wall() -> None:
    solid, _ = louvre(0.25)
    pairs = find_pairs(solid, find_opposed(solid, FacetTree.over(solid.points, solid.facets)))
    assert min(pair.wall for pair in pairs) > 0.5 * HIGH


@pytest.mark.parametrize("reach", [0.25, -0.5])
def test_it_meshes_without_a_failing_shell(reach: float) -> None:
    """Beside the blades' joints notches had been left in webs and frame, of a third of a shell: up to 196 failed."""
    solid, sheet = louvre(reach)
    mesh = meshed(sheet, size_for(solid))
    assert mesh.pieces == 1
    assert mesh.coincident() == 0
    assert not len(mesh.quality.failing)
    assert mesh.quad_share > 0.98
