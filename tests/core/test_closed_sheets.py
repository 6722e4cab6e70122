"""Sheets that close on themselves or are curved both ways: tubes, cones, spheres, box sections."""

from __future__ import annotations

import math

import numpy as np
import pytest
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeWire
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder, BRepPrimAPI_MakeRevol
from OCP.GC import GC_MakeArcOfCircle
from OCP.gp import gp_Ax1, gp_Ax2, gp_Dir, gp_Pnt
from OCP.TopAbs import TopAbs_SOLID
from OCP.TopExp import TopExp_Explorer
from OCP.TopoDS import TopoDS_Shape

from kind_rivet.core.document.document import Body, Document
from kind_rivet.core.geometry.first_look import look
from kind_rivet.core.geometry.kernel.facets import facet_shape
from kind_rivet.core.mesh.topology import flipped_pairs, loops_of, pieces, shell_sides
from kind_rivet.core.operations import perform


def cylinder(
    radius: float, height: float, at: tuple[float, float, float] = (0, 0, 0), axis: tuple[float, float, float] = (0, 0, 1)
) -> TopoDS_Shape:
    return BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(*at), gp_Dir(*axis)), radius, height).Shape()


def revolved(outline: list[tuple[float, float]], arcs: dict[int, tuple[float, float]]) -> TopoDS_Shape:
    wire = BRepBuilderAPI_MakeWire()
    for k, (x, z) in enumerate(outline):
        u, w = outline[(k + 1) % len(outline)]
        a, b = gp_Pnt(x, 0, z), gp_Pnt(u, 0, w)
        if k in arcs:
            wire.Add(BRepBuilderAPI_MakeEdge(GC_MakeArcOfCircle(a, gp_Pnt(arcs[k][0], 0, arcs[k][1]), b).Value()).Edge())
        else:
            wire.Add(BRepBuilderAPI_MakeEdge(a, b).Edge())
    return BRepPrimAPI_MakeRevol(BRepBuilderAPI_MakeFace(wire.Wire()).Face(), gp_Ax1(gp_Pnt(0, 0, 0), gp_Dir(0, 0, 1))).Shape()


def tube() -> TopoDS_Shape:
    return BRepAlgoAPI_Cut(cylinder(20, 80), cylinder(18, 80)).Shape()


def drilled_tube() -> TopoDS_Shape:
    return BRepAlgoAPI_Cut(tube(), cylinder(5, 30, (0, 0, 40), (1, 0, 0))).Shape()


def cone() -> TopoDS_Shape:
    return revolved([(40, 0), (60, 50), (62, 50), (42, 0)], {})


def half_sphere() -> TopoDS_Shape:
    q = math.sqrt(0.5)
    return revolved([(0, -30), (0, -28), (28, 0), (30, 0)], {1: (28 * q, -28 * q), 3: (30 * q, -30 * q)})


def box_tube() -> TopoDS_Shape:
    return BRepAlgoAPI_Cut(BRepPrimAPI_MakeBox(60, 40, 100).Shape(), BRepPrimAPI_MakeBox(gp_Pnt(2, 2, 0), 56, 36, 100).Shape()).Shape()


def disc() -> TopoDS_Shape:
    return cylinder(30, 2)


CASES = [
    (tube, 2, 2.0),
    (drilled_tube, 3, 2.0),
    (cone, 2, 2 * math.cos(math.atan2(20, 50))),
    (half_sphere, 1, 2.0),
    (box_tube, 2, 2.0),
    (disc, 1, 2.0),
]


@pytest.mark.parametrize(("draw", "loops", "wall"), CASES, ids=lambda v: getattr(v, "__name__", None))
def test_closed_and_curved_sheets(draw, loops: int, wall: float) -> None:  # type: ignore[no-untyped-def]
    shape = facet_shape(TopExp_Explorer(draw(), TopAbs_SOLID).Current(), 2e-4, 0.1)
    seen = look(shape)
    d = Document(name="x", bodies=(Body(1, "x", "#9DB4A0", shape, seen.walls, seen.thin_share, seen.holes, "drawn"),))
    d = perform(d, "midsurface.extract", {})
    sheet = d.sheets[1]
    assert sheet.thicknesses == [pytest.approx(wall, rel=2e-4)]
    assert sheet.proof.mass_ratio == pytest.approx(1, abs=0.004)
    assert sheet.proof.cover > 0.998
    d = perform(d, "mesh.shells", {"size": 5.0})
    assert pieces(d.mesh) == 1
    assert loops_of(shell_sides(d.mesh.shells()).free) == loops
    assert flipped_pairs(d.mesh) == 0
    assert "tria" not in d.mesh.counts()
    assert d.quality.worst_by_metric(d.mesh)["scaled_jacobian"] > 0.6
    assert not len(d.quality.failing)


def test_round_walls_have_their_elements_on_the_middle() -> None:
    """Coarse elements round a tube: chords lie inside the circle, so the nodes stand off it a little."""
    shape = facet_shape(TopExp_Explorer(drilled_tube(), TopAbs_SOLID).Current(), 2e-4, 0.1)
    seen = look(shape)
    d = Document(name="x", bodies=(Body(1, "x", "#9DB4A0", shape, seen.walls, seen.thin_share, seen.holes, "drawn"),))
    d = perform(d, "midsurface.extract", {})
    plain, d = (perform(d, "mesh.shells", {"size": 4.0, "smooth": smooth}) for smooth in (False, True))
    carrier = d.sheets[1].shape.faces[0].carrier.array
    for mesh in (d.mesh, perform(plain, "quality.optimise", {"scope": "all"}).mesh):
        q = mesh.centres() - carrier[:3]
        radius = np.linalg.norm(q - (q @ carrier[3:6])[:, None] * carrier[3:6], axis=1)
        off = np.abs(radius - carrier[6]) / 2.0
        assert np.percentile(off, 95) < 0.03
