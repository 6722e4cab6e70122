"""Parts with generous blends and rounded edges: walls run on under them, and meshes are as sound as without."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
import pytest
from OCP.BRepAlgoAPI import BRepAlgoAPI_Common
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeWire
from OCP.BRepPrimAPI import BRepPrimAPI_MakePrism
from OCP.collections import HArray1_gp_Pnt
from OCP.GeomAPI import GeomAPI_Interpolate
from OCP.gp import gp_Pnt, gp_Vec
from OCP.TopoDS import TopoDS_Shape

from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.midsurface.extract import extract
from kind_rivet.core.midsurface.sheet import Sheet
from kind_rivet.core.midsurface.skins import skin_patches
from tests.thin_meshes import drawing, meshed, solid_of
from tests.thin_parts import box, cut, cylinder, fused

rounded = drawing("draw_thin_parts").rounded
prism = drawing("draw_parts").prism


def stadium(half: float, radius: float, z: float, height: float) -> TopoDS_Shape:
    """A block with round ends about (±half, 0)."""
    ends = [cylinder((x, 0, z), (0, 0, 1), radius, height) for x in (-half, half)]
    return fused(box(-half, -radius, z, 2 * half, 2 * radius, height), ends)


TUB = cut(fused(stadium(50, 22.5, 0, 43), [stadium(50, 34.5, 40, 3)]), [stadium(50, 19.5, 3, 50)])  # 3 thick, with a flange


@lru_cache
def blended_tub() -> Sheet:
    """The tub with blends of 4 at its bottom and under its flange."""

    def foot(a: gp_Pnt, b: gp_Pnt) -> bool:
        return all(abs(p.Z() - 3) < 0.01 for p in (a, b))

    def under(a: gp_Pnt, b: gp_Pnt) -> bool:
        return all(abs(p.Z() - 40) < 0.01 and abs(abs(p.Y()) - 22.5) < 0.01 for p in (a, b))

    return extract(solid_of(rounded(rounded(TUB, 4.0, foot), 4.0, under)))


def test_bends_between_walls_that_blends_shorten_reach_both_joints() -> None:
    """The bend's edges end 7 above the bottom inside and 7 below the flange outside; taken from one alone the walls ran past each other."""
    sheet = blended_tub()
    assert sorted(face.carrier.kind for face in sheet.shape.faces) == ["cylinder"] * 2 + ["plane"] * 4
    assert sheet.proof is not None and sheet.proof.inner_free_length == 0
    bends = [
        e
        for e, beside in enumerate(sheet.shape.edge_faces)
        if len(beside) == 2
        and {sheet.shape.faces[f].carrier.kind for f in beside} == {"cylinder", "plane"}
        and sheet.shape.edges[e].carrier.kind == "line"
    ]
    assert sheet.shape.edge_length[bends] == pytest.approx([40.0] * 4)
    assert not len(meshed(sheet, 5.0).quality.failing)


def test_a_rib_flush_with_a_flange_ends_at_the_wall() -> None:
    """Above the flange's middle it would go on to the wall's outer side, by half a wall, and be joined there by a corner alone."""
    sheet = extract(solid_of(fused(TUB, [box(48.8, -21, 1.5, 2.4, 42, 41.5)])))
    above = sheet.shape.points[sheet.shape.points[:, 2] > 41.6]
    assert len(above) and np.abs(above[:, 1]).max() == pytest.approx(21.0)
    mesh = meshed(sheet, 5.0)
    assert not len(mesh.quality.failing)
    assert mesh.least_jacobian > 0.7


def wave(y: float) -> list[gp_Pnt]:
    x = np.linspace(-40, 40, 9)
    return [gp_Pnt(float(p), float(12 * np.sin(p / 18) + y), 1.0) for p in x]


def spline(points: list[gp_Pnt]) -> TopoDS_Shape:
    array = HArray1_gp_Pnt(1, len(points))
    for k, point in enumerate(points, 1):
        array.SetValue(k, point)
    made = GeomAPI_Interpolate(array, False, 1e-6)
    made.Perform()
    return BRepBuilderAPI_MakeEdge(made.Curve()).Edge()


@lru_cache
def wavy_rib() -> Sheet:
    """A plate 2 thick with a rib along a curve, 2 thick, and blends of 3.4 along both its sides."""
    there, back = wave(-1.0), wave(1.0)
    wire = BRepBuilderAPI_MakeWire()
    for edge in (
        spline(there),
        BRepBuilderAPI_MakeEdge(there[-1], back[-1]).Edge(),
        spline(back),
        BRepBuilderAPI_MakeEdge(back[0], there[0]).Edge(),
    ):
        wire.Add(edge)
    rib = BRepPrimAPI_MakePrism(BRepBuilderAPI_MakeFace(wire.Wire()).Face(), gp_Vec(0, 0, 16)).Shape()
    part = fused(box(-40, -30, 0, 80, 60, 2), [rib])
    blended = rounded(part, 3.4, lambda a, b: all(abs(p.Z() - 2) < 0.01 and abs(p.Y()) < 20 for p in (a, b)) and abs(a.X() - b.X()) > 70)
    return extract(solid_of(blended))


def test_blends_along_a_curved_rib_are_no_patches_of_its_skin() -> None:
    """With them each side of the rib was one skin with its blend, and the sheet fell into twenty faces."""
    sheet = wavy_rib()
    assert sorted(face.carrier.kind for face in sheet.shape.faces) == ["free", "plane", "plane"]
    mesh = meshed(sheet, 3.0)
    assert not len(mesh.quality.failing) and mesh.quad_share > 0.99


def test_a_flange_goes_on_under_the_blends_of_its_web() -> None:
    """A tee 19 wide: what the blends leave of the flange's inner sides is narrower than it is thick."""
    tee = prism(
        [(-9.5, 0, 0), (9.5, 0, 0), (9.5, 0, 5), (2.5, 0, 5), (2.5, 0, 40), (-2.5, 0, 40), (-2.5, 0, 5), (-9.5, 0, 5)], {}, (0, 120, 0)
    )
    part = rounded(
        tee, 4.0, lambda a, b: all(abs(p.Z() - 5) < 0.01 and abs(abs(p.X()) - 2.5) < 0.01 for p in (a, b)) and abs(a.Y() - b.Y()) > 1
    )
    sheet = extract(solid_of(part))
    assert len(sheet.shape.faces) == 3
    assert np.ptp(sheet.shape.points, axis=0) == pytest.approx([19, 120, 37.5])


@lru_cache
def rounded_plate() -> Sheet:
    """A ribbed plate, 120 × 80 × 4, with a rib from one side to the other; all outer edges are rounded by 1."""
    part = fused(box(0, 0, 0, 120, 80, 4), [box(0, 38, 2, 120, 4, 20)])
    return extract(solid_of(rounded(part, 1.0, lambda a, b: not all(abs(p.Z() - 4) < 0.01 and 1 < p.Y() < 79 for p in (a, b)))))


def test_rims_beyond_roundings_are_no_unused_faces() -> None:
    proof = rounded_plate().proof
    assert proof is not None
    assert proof.unused_faces == ()


@pytest.mark.parametrize("size", [6.0, 4.3])
def test_a_rounded_corner_that_is_looked_past_keeps_its_middle(size: float) -> None:
    """One of its ends would be the corner of the mesh, and one of two alike sides would lean. As one side it is short enough at 4.3 too."""
    mesh = meshed(rounded_plate(), size)
    corner = np.linalg.norm(mesh.shells.points - (0.0, 0.0, 2.0), axis=1).min()
    assert corner == pytest.approx(2**0.5 - 1, abs=0.01)  # of radius 1
    assert not len(mesh.quality.failing)


def test_skins_are_made_of_all_freely_curved_faces_but_blends() -> None:
    duct = solid_of(drawing("draw_thin_parts").duct())
    free = {f for f, face in enumerate(duct.faces) if face.carrier.kind == "free"}
    assert skin_patches(duct, FacetTree.over(duct.points, duct.facets)) == free


def test_toes_of_several_edges_end_at_the_joint() -> None:
    """Where the rib's edges are rounded as well, its outline comes down to the plate in pieces."""
    part = fused(box(-40, -40, -2, 80, 80, 4), [box(-30, -2, -13, 60, 4, 26)])
    part = rounded(part, 1.5, lambda a, b: all(abs(abs(p.Z()) - 2) < 0.01 and abs(p.X()) < 32 and abs(p.Y()) < 4 for p in (a, b)))
    part = rounded(part, 1.0, lambda a, b: all(abs(p.X()) < 31 and abs(p.Y()) < 5 for p in (a, b)) and min(abs(a.Z()), abs(b.Z())) > 3.4)
    sheet = extract(solid_of(part)).shape
    free = [e for e, beside in enumerate(sheet.edge_faces) if len(beside) == 1 and np.ptp(sheet.points[sheet.edges[e].nodes][:, 1]) < 1e-3]
    upright = [e for e in free if abs(np.ptp(sheet.points[sheet.edges[e].nodes][:, 0])) < 1e-3]
    assert sheet.edge_length[upright] == pytest.approx([12.0] * 4, abs=1e-3)  # from the joint to the rounding


def test_a_round_side_that_runs_out_on_a_flat_end_makes_no_wall_with_it() -> None:
    """A rib along an arc is cut off aslant at both ends of its plate: half-way between end and side there were walls of their own."""
    ring = cut(cylinder((0, 45.4, 0), (0, 0, 1), 70.7, 24), [cylinder((0, 45.4, -1), (0, 0, 1), 68.7, 26)])
    rib = BRepAlgoAPI_Common(ring, box(-64.5, -57, 0, 129, 114, 24)).Shape()
    sheet = extract(solid_of(fused(box(-64.5, -57, -3, 129, 114, 3), [rib])))
    assert sorted(face.carrier.kind for face in sheet.shape.faces) == ["cylinder", "plane", "plane"]


def test_a_plate_flush_with_a_lip_of_round_edge_ends_at_the_lip() -> None:
    """A half round parted nothing of the plate: under the lip a strip of half a wall stayed, with edges of 1.5 all round."""
    channel = fused(box(0, 0, 0, 200, 80, 3), [box(0, 77, -30, 200, 3, 33), box(0, 57, -30, 200, 23, 3), box(0, 0, -28.5, 200, 3, 31.5)])
    channel = fused(channel, [cylinder((0, 57, -28.5), (1, 0, 0), 1.5, 200), cylinder((0, 1.5, -28.5), (1, 0, 0), 1.5, 200)])
    sheet = extract(solid_of(fused(channel, [box(-3, 0, -30, 3, 80, 33)])))
    assert sheet.proof is not None and sheet.proof.inner_free_length == 0
    assert len(sheet.shape.faces) == 5
    end = sheet.shape.points[(np.abs(sheet.shape.points[:, 0] + 1.5) < 1e-6) & (sheet.shape.points[:, 2] < -28.6)]
    assert len(end) and end[:, 1].max() < 56  # between the edges of lip and side wall the plate goes on to its own
    assert not len(meshed(sheet, 6.0).quality.failing)
