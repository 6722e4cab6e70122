"""Ribs between a tube and a flange it runs through, ribs flush with a doubler's edge, round walls in a row: no notches, no pieces, no circles in two parts."""

from __future__ import annotations

from functools import cache

import numpy as np
import pytest
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeWire
from OCP.BRepPrimAPI import BRepPrimAPI_MakeRevol
from OCP.GC import GC_MakeArcOfCircle
from OCP.gp import gp_Ax1, gp_Dir, gp_Pnt
from OCP.TopoDS import TopoDS_Shape

from kind_rivet.core.midsurface.extract import CROSSING, extract
from kind_rivet.core.midsurface.sheet import Sheet
from tests.thin_meshes import Made, meshed, solid_of
from tests.thin_parts import box, cut, cylinder, fused, turned

Z = (0, 0, 1)


def ring(inner: float, outer: float, z: float, height: float) -> TopoDS_Shape:
    return cut(cylinder((0, 0, z), Z, outer, height), [cylinder((0, 0, z - 1), Z, inner, height + 2)])


@cache
def gusseted(outside: bool) -> Sheet:
    """A tube, 3 thick, through a flange of 3, with four ribs of 2.5 in the corner between them."""
    x = 58.5 if outside else -58.0
    ribs = [box(x, -1.25, 0, 16.0 if outside else 12.0, 2.5, 30), box(-1.25, x, 0, 2.5, 16.0 if outside else 12.0, 30)]
    bore = [cylinder((0, 0, -40), Z, 57, 80)]
    tube = ring(57, 60, -30, 60)
    flange = ring(45, 75, -1.5, 3)
    return extract(solid_of(fused(tube, [flange, *(cut(rib, bore) if outside else rib for rib in ribs)])))


@pytest.mark.parametrize("outside", [True, False])
def test_ribs_fill_the_corner_where_a_tube_runs_through_a_flange(outside: bool) -> None:
    sheet = gusseted(outside)
    assert sheet.proof is not None
    assert sheet.proof.mass_ratio == pytest.approx(1, abs=0.003)
    shape = sheet.shape
    corners = [e for e, beside in enumerate(shape.edge_faces) if len(set(beside)) > 2]
    free = [e for e, beside in enumerate(shape.edge_faces) if len(beside) == 1]
    assert len(corners) >= 4
    assert shape.edge_length[free].min() > 2.0  # a notch had sides of 1.5, half of each wall
    made = meshed(sheet, 5.0)
    assert not len(made.quality.failing)
    assert made.least_jacobian > 0.8


def dished() -> TopoDS_Shape:
    """A bottom rounded into a tube, 3 thick: a plane, a torus and a cylinder in a row."""
    points = [(30, -1.5), (54, -1.5), (61.5, 6), (61.5, 40), (58.5, 40), (58.5, 6), (54, 1.5), (30, 1.5)]
    at = [gp_Pnt(r, 0, z) for r, z in points]
    wire = BRepBuilderAPI_MakeWire()
    for k in range(8):
        a, b = at[k], at[(k + 1) % 8]
        if k in (1, 5):
            reach = (7.5 if k == 1 else 4.5) * np.sqrt(0.5)
            wire.Add(BRepBuilderAPI_MakeEdge(GC_MakeArcOfCircle(a, gp_Pnt(54 + reach, 0, 6 - reach), b).Value()).Edge())
        else:
            wire.Add(BRepBuilderAPI_MakeEdge(a, b).Edge())
    return BRepPrimAPI_MakeRevol(BRepBuilderAPI_MakeFace(wire.Wire()).Face(), gp_Ax1(gp_Pnt(0, 0, 0), gp_Dir(*Z))).Shape()


@cache
def flanged() -> tuple[Sheet, Made]:
    """The same with a flange round its tube, tilted."""
    sheet = extract(solid_of(turned(fused(dished(), [ring(60, 85, 25, 3)]), 25.0)))
    return sheet, meshed(sheet, 5.0)


def test_round_walls_in_a_row_have_their_seams_in_a_row() -> None:
    sheet, made = flanged()
    assert sheet.way == CROSSING
    shape = sheet.shape
    seams = [e for e, beside in enumerate(shape.edge_faces) if len(beside) == 2 and len(set(beside)) == 1]
    circles = [e for e, edge in enumerate(shape.edges) if edge.carrier.kind == "circle" and e not in seams]
    assert (len(seams), len(circles)) == (3, 6)
    assert all(shape.edges[e].closed for e in circles)
    torus = next(f for f, face in enumerate(shape.faces) if face.carrier.kind == "torus")
    ends = [e for e in shape.face_edges[torus] if e in circles]
    assert len(ends) == 2
    assert len({int(made.shells.divisions[e]) for e in ends}) == 1
    assert not len(made.quality.failing)
    assert made.quad_share == 1.0


@pytest.mark.parametrize("inset", [0.0, 3.0])
def test_ribs_flush_with_the_edge_of_a_doubler_join_it_to_its_plate(inset: float) -> None:
    """The plate's middle lies lower than the doubler's: what of the rib leads from one to the other stays, not what would end at the plate's skin."""
    plate = fused(box(0, 0, 0, 120, 60, 2.5), [box(40, 0, 2.5, 40, 60, 3)])
    ribs = [box(x, 0, 0, 3, 60, 40) for x in (40 + inset, 77 - inset)]
    sheet = extract(solid_of(fused(plate, ribs)))
    assert sheet.proof is not None
    assert sheet.proof.pieces == 1
    assert sheet.proof.mass_ratio == pytest.approx(1, abs=0.008)
    low, _ = sheet.shape.box
    assert low[2] == pytest.approx(1.25)  # nothing hangs below the plate's middle
    made = meshed(sheet, 5.0)
    assert made.pieces == 1
    assert not len(made.quality.failing)


def test_what_cannot_be_made_for_a_wedge_is_made_without_it() -> None:
    """A plate that lies within a tube's wall where it touches it: the wedge between them is no wall, and must not cost the tube."""
    tube = ring(77, 80, 0, 120)
    web = cut(box(78, -20, -60, 3, 40, 100), [cylinder((0, 0, -70), Z, 78.5, 200)])
    sheet = extract(solid_of(fused(tube, [web, box(78, -20, -60, 30, 3, 100), box(78, 17, -60, 30, 3, 100)])))
    assert sheet.proof is not None
    assert sheet.proof.mass_ratio == pytest.approx(1, abs=0.04)  # of the wedges nothing is held
    assert not [r for r in sheet.remarks if r.kind == "lost"]
    assert any(face.carrier.kind == "cylinder" for face in sheet.shape.faces)


@pytest.mark.parametrize("in_middle", [23.5, 25.5])
def test_a_wall_that_runs_into_a_tube_at_a_graze_ends_at_its_middle(in_middle: float) -> None:
    """The walls of a box tube enter the wall of a round one at 12° or less: what lies along each other is no wall of its own."""
    outer, inner = in_middle + 1.5, in_middle - 1.5
    arm = cut(box(-80, -outer, -20, 160, 2 * outer, 40), [box(-81, -inner, -17, 162, 2 * inner, 34)])
    eye = [cylinder((80, 0, -24), Z, outer + 1, 48)]
    sheet = extract(solid_of(cut(fused(arm, eye), [cylinder((80, 0, -30), Z, outer - 3, 60)])))
    assert sheet.proof is not None
    assert sheet.proof.pieces == 1
    assert sheet.proof.mass_ratio == pytest.approx(1, abs=0.005)
    assert sheet.proof.inner_free_length == 0.0
    sides = [f for f, face in enumerate(sheet.shape.faces) if face.carrier.kind == "plane" and abs(face.carrier.array[4]) > 0.9]
    places = sheet.shape.points[np.unique(sheet.shape.facets[np.isin(sheet.shape.facet_face, sides)])]
    assert places[:, 0].max() < 80  # not on past the middle of the eye


def test_a_lug_a_little_narrower_than_its_plate_leaves_no_spur() -> None:
    """At the plate's end strips 0.35 wide and 4 long would lie beside the lug's foot."""
    plate = fused(box(0, 0, 0, 60, 50, 8), [box(52, 0.35, 8, 8, 49.3, 40)])
    sheet = extract(solid_of(plate))
    flat = sheet.shape.points[np.abs(sheet.shape.points[:, 2] - 4) < 1e-9]
    assert flat[:, 0].max() == pytest.approx(56)
    assert sheet.proof is not None
    assert sheet.proof.inner_free_length == 0
    assert sheet.proof.mass_ratio == pytest.approx(1, abs=0.005)
