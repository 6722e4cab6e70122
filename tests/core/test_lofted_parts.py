"""Ducts and hoppers lofted from one outline to another: freely curved walls that run on smoothly into each other, with tubes and flanges on their ends."""

from __future__ import annotations

import math
from functools import cache

import pytest
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeWire
from OCP.BRepOffsetAPI import BRepOffsetAPI_ThruSections
from OCP.GC import GC_MakeArcOfCircle
from OCP.gp import gp_Ax2, gp_Circ, gp_Dir, gp_Pnt
from OCP.TopoDS import TopoDS_Shape, TopoDS_Wire

from kind_rivet.core.midsurface.extract import extract
from kind_rivet.core.midsurface.sheet import Sheet
from tests.thin_meshes import meshed, solid_of
from tests.thin_parts import cut, cylinder, fused

Z = (0, 0, 1)


def ring(radius: float, z: float) -> TopoDS_Wire:
    return BRepBuilderAPI_MakeWire(BRepBuilderAPI_MakeEdge(gp_Circ(gp_Ax2(gp_Pnt(0, 0, z), gp_Dir(*Z)), radius)).Edge()).Wire()


def rounded(dx: float, dy: float, radius: float, z: float) -> TopoDS_Wire:
    """A rectangle about the origin with rounded corners."""
    wire = BRepBuilderAPI_MakeWire()
    turns = [0, math.pi / 2, math.pi, 3 * math.pi / 2]
    centres = [(x * (dx / 2 - radius), y * (dy / 2 - radius)) for x, y in ((1, 1), (-1, 1), (-1, -1), (1, -1))]

    def at(k: int, turn: float) -> gp_Pnt:
        return gp_Pnt(centres[k][0] + radius * math.cos(turn), centres[k][1] + radius * math.sin(turn), z)

    for k, turn in enumerate(turns):
        wire.Add(BRepBuilderAPI_MakeEdge(GC_MakeArcOfCircle(*(at(k, turn + s * math.pi / 4) for s in range(3))).Value()).Edge())
        wire.Add(BRepBuilderAPI_MakeEdge(at(k, turn + math.pi / 2), at((k + 1) % 4, turn + math.pi / 2)).Edge())
    return wire.Wire()


def loft(*wires: TopoDS_Wire) -> TopoDS_Shape:
    made = BRepOffsetAPI_ThruSections(True)
    for wire in wires:
        made.AddWire(wire)
    made.Build()
    return made.Shape()


@cache
def hopper(stub: bool, flange: bool) -> Sheet:
    """From 100 × 80 down to a circle of 40, 2.1 to 2.3 thick."""
    parts = [cylinder((0, 0, -40), Z, 20, 40)] if stub else []
    parts += [loft(rounded(124, 104, 20, 60), rounded(124, 104, 20, 62.5))] if flange else []
    knives = [loft(rounded(95, 75, 7.5, 60), ring(17.5, 0))]
    knives += [cylinder((0, 0, -41), Z, 17.5, 41)] if stub else []
    knives += [loft(rounded(95, 75, 7.5, 60), rounded(95, 75, 7.5, 63))] if flange else []
    return extract(solid_of(cut(fused(loft(rounded(100, 80, 10, 60), ring(20, 0)), parts), knives)))


@pytest.mark.parametrize(("stub", "flange"), [(False, False), (True, True)], ids=["plain", "with a tube and a flange"])
def test_a_hopper_is_one_sheet_without_an_edge_inside(stub: bool, flange: bool) -> None:
    sheet = hopper(stub, flange)
    assert sheet.proof is not None
    assert sheet.proof.pieces == 1
    assert sheet.proof.inner_free_length < 0.1
    assert sheet.proof.mass_ratio == pytest.approx(1.0, abs=0.011)
    assert not any(r.kind == "lost" for r in sheet.remarks)
    assert sheet.shape.box[1, 2] == pytest.approx(61.25 if flange else 60.0, abs=1e-3)  # nothing stands out beyond the flange
    mesh = meshed(sheet, 4.0)
    assert mesh.pieces == 1
    assert len(mesh.quality.failing) <= 3
    assert mesh.least_jacobian > 0.5
