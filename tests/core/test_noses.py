"""Blades whose skin is one face all round get two sides, and a thickness that goes down to nothing at their noses."""

from __future__ import annotations

from functools import cache

import numpy as np
import pytest
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeWire
from OCP.BRepPrimAPI import BRepPrimAPI_MakePrism
from OCP.GC import GC_MakeArcOfCircle
from OCP.gp import gp_Ax2, gp_Dir, gp_Elips, gp_Pnt, gp_Vec
from OCP.TopoDS import TopoDS_Edge, TopoDS_Shape

from kind_rivet.core.geometry.kernel.facets import facet_shape
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.midsurface.extract import extract
from kind_rivet.core.midsurface.noses import parted
from kind_rivet.core.midsurface.sheet import Sheet, Varying
from tests.thin_meshes import meshed
from tests.thin_parts import box, fused

LONG, THICK = 18.0, 1.4  # half axes of the ellipse


def prism(edges: list[TopoDS_Edge], height: float = 60.0) -> TopoDS_Shape:
    wire = BRepBuilderAPI_MakeWire()
    for edge in edges:
        wire.Add(edge)
    return BRepPrimAPI_MakePrism(BRepBuilderAPI_MakeFace(wire.Wire()).Face(), gp_Vec(0, 0, height)).Shape()


def ellipse(a: float = LONG, b: float = THICK) -> list[TopoDS_Edge]:
    return [BRepBuilderAPI_MakeEdge(gp_Elips(gp_Ax2(gp_Pnt(0, 0, 0), gp_Dir(0, 0, 1)), a, b)).Edge()]


def lens() -> list[TopoDS_Edge]:
    tip, other = gp_Pnt(-LONG, 0, 0), gp_Pnt(LONG, 0, 0)
    return [BRepBuilderAPI_MakeEdge(GC_MakeArcOfCircle(tip, gp_Pnt(0, y, 0), other).Value()).Edge() for y in (1.6, -1.6)]


@cache
def on_a_plate(profile: str) -> tuple[Shape, Sheet]:
    """A blade that stands on a plate of 3."""
    solid = facet_shape(fused(box(-45, -25, -3, 90, 50, 3), [prism(ellipse() if profile == "ellipse" else lens())]))
    return solid, extract(solid)


def test_a_skin_opposed_to_itself_is_parted_along_its_noses() -> None:
    solid = facet_shape(prism(ellipse()))
    shape, origin = parted(solid, FacetTree.over(solid.points, solid.facets), np.arange(len(solid.faces)))
    free = [f for f, face in enumerate(shape.faces) if face.carrier.kind == "free"]
    assert len(free) == 2
    assert len(set(origin[free].tolist())) == 1
    assert shape.face_area[free[0]] == pytest.approx(shape.face_area[free[1]], rel=0.01)
    for f in free:
        y = shape.points[shape.facets[shape.facet_face == f]][:, :, 1].mean(axis=1)
        assert min(y.max(), -y.min()) < 0.15 * THICK  # only at a nose may a facet reach over


@pytest.mark.parametrize(("a", "b"), [(3.0, 2.2), (18.0, 12.0)])
def test_a_pin_stays_in_one(a: float, b: float) -> None:
    solid = facet_shape(prism(ellipse(a, b)))
    shape, _ = parted(solid, FacetTree.over(solid.points, solid.facets), np.arange(len(solid.faces)))
    assert len(shape.faces) == len(solid.faces)


@pytest.mark.parametrize("profile", ["ellipse", "lens"])
def test_a_blade_on_a_plate_is_proved(profile: str) -> None:
    _, sheet = on_a_plate(profile)
    assert sheet.proof is not None
    assert (sheet.proof.pieces, sheet.proof.inner_free_length) == (1, 0.0)
    assert sheet.proof.mass_ratio == pytest.approx(1, abs=0.002)
    assert sheet.proof.cover > 0.999
    assert not [r for r in sheet.remarks if r.kind == "inner edge"]
    low, high = sheet.shape.box
    assert (low[2], high[2]) == pytest.approx((-1.5, 60.0), abs=1e-6)


def test_its_thickness_is_that_of_the_ellipse() -> None:
    _, sheet = on_a_plate("ellipse")
    blade = next(f for f in range(len(sheet.shape.faces)) if isinstance(sheet.taper(f), Varying))
    x = np.linspace(-0.85 * LONG, 0.85 * LONG, 21)
    at = np.column_stack((x, np.zeros(21), np.full(21, 30.0)))
    wanted = 2 * THICK * np.sqrt(1 - (x / LONG) ** 2)
    assert sheet.thickness_at(at, np.full(21, blade)) == pytest.approx(wanted, rel=0.03)
    made = meshed(sheet, 4.0)
    assert not len(made.quality.failing)
    assert made.pieces == 1
