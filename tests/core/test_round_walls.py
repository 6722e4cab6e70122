"""Round walls with pads, seams and rims: steps on cylinders, cans with slots, lids with ribs under their rounding."""

from __future__ import annotations

from functools import cache

import numpy as np
import pytest
from OCP.BRepAlgoAPI import BRepAlgoAPI_Common
from OCP.BRepPrimAPI import BRepPrimAPI_MakeTorus
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt
from OCP.TopoDS import TopoDS_Shape

from kind_rivet.core.geometry.carriers import project
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.assemble import as_mesh, measure_thickness
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.sheet_mesh import FACE
from kind_rivet.core.meshing.shells import mesh_sheet
from kind_rivet.core.midsurface.extract import CROSSING, OFFSET, extract
from kind_rivet.core.midsurface.sheet import Sheet
from tests.thin_meshes import meshed, solid_of
from tests.thin_parts import box, combined, cut, cylinder, fused

X, Z = (1, 0, 0), (0, 0, 1)


def _common(a: TopoDS_Shape, b: TopoDS_Shape) -> TopoDS_Shape:
    return combined(BRepAlgoAPI_Common, a, [b])


PADS = {
    "round": lambda: _common(cylinder((0, 0, 0), X, 28, 90), cylinder((0, 0, -40), Z, 63, 80)),
    "square": lambda: _common(box(30, -25, -25, 60, 50, 50), cylinder((0, 0, -40), Z, 63, 80)),
    "all round": lambda: cylinder((0, 0, -20), Z, 63, 40),
}


@cache
def padded(pad: str) -> tuple[Shape, Sheet]:
    """A tube, 3 thick and 60 in radius, with a pad on it as thick again."""
    solid = solid_of(cut(fused(cylinder((0, 0, -75), Z, 60, 150), [PADS[pad]()]), [cylinder((0, 0, -76), Z, 57, 152)]))
    return solid, extract(solid)


@pytest.mark.parametrize("pad", PADS)
def test_a_pad_on_a_tube_is_a_wall_of_its_own(pad: str) -> None:
    _, sheet = padded(pad)
    assert sheet.thicknesses == pytest.approx([3.0, 6.0], rel=5e-3)
    assert sheet.proof is not None
    assert sheet.proof.pieces == 1
    assert sheet.proof.inner_free_length < 1e-6
    assert sheet.proof.mass_ratio == pytest.approx(1.0, abs=0.008)
    assert all(r.kind == "bare" for r in sheet.remarks)  # beside a seam whose ends are lifted


def test_nodes_beside_a_step_lie_on_their_tube_and_have_its_thickness() -> None:
    """Seams run beside the tube where one of their ends is lifted, and chords were balanced against lifted borders."""
    solid, sheet = padded("all round")
    shells = mesh_sheet(sheet.shape, ShellRules(4.0))
    for face, carrier in enumerate(f.carrier for f in sheet.shape.faces):
        inside = shells.points[(shells.on_kind == FACE) & (shells.on_item == face)]
        assert np.abs(project(carrier, inside) - inside).max(initial=0.0) < 1e-9
    mesh = as_mesh(shells, sheet.shape, 1, 1, 4.0)
    radius = np.hypot(mesh.points[:, 0], mesh.points[:, 1])
    assert radius.min() > 58.45
    assert radius.max() < 60.1
    thickness, _ = measure_thickness(mesh, 1, solid, sheet)
    assert set(np.round(thickness, 2)) == {3.0, 6.0}


def drum(radius: float, height: float, blend: float) -> TopoDS_Shape:
    """A solid drum whose upper edge is rounded."""
    torus = BRepPrimAPI_MakeTorus(gp_Ax2(gp_Pnt(0, 0, height - blend), gp_Dir(*Z)), radius - blend, blend).Shape()
    return fused(cylinder((0, 0, 0), Z, radius, height - blend), [cylinder((0, 0, 0), Z, radius - blend, height), torus])


def cup(radius: float, height: float, wall: float, blend: float) -> TopoDS_Shape:
    """Open below, its upper edge rounded inside and outside."""
    return cut(drum(radius, height, blend), [drum(radius - wall, height - wall, blend - wall)])


def test_the_seams_of_a_can_move_off_its_slots_together() -> None:
    """Else the circle between wall and rounding falls into two arcs, and its count differs from the next one's."""
    slots = [box(20, -2.5, 13, 20, 5, 14), box(-40, -2.5, 30, 20, 5, 10)]
    sheet = extract(solid_of(cut(cup(30, 50, 1.2, 4), slots)))
    shells = mesh_sheet(sheet.shape, ShellRules(2.0))
    circles = [e for e, edge in enumerate(sheet.shape.edges) if edge.closed and edge.carrier.kind == "circle"]
    assert len(circles) == 3
    assert len({int(shells.divisions[e]) for e in circles}) == 1
    assert len(meshed(sheet, 2.0).quality.failing) == 0


def test_a_rounded_rim_over_ribs_is_whole() -> None:
    """Ribs cut the inside of the rim into sectors; its map is made for all of them, not for the first."""
    inside = drum(39.25, 11.25, 2.25)  # as far as the middle of the wall: ribs end in it
    ribs = [_common(rib, inside) for rib in (box(-0.6, -45, 5, 1.2, 90, 9), box(-45, -0.6, 5, 90, 1.2, 9))]
    sheet = extract(solid_of(fused(cup(40, 12, 1.5, 3), ribs)))
    assert sheet.proof is not None
    assert sheet.proof.pieces == 1
    assert sheet.proof.inner_free_length < 0.1
    assert sheet.proof.cover > 0.997
    assert sheet.proof.mass_ratio == pytest.approx(1.0, abs=0.005)
    assert len(meshed(sheet, 2.5).quality.failing) == 0


@pytest.mark.parametrize("way", [OFFSET, CROSSING])
def test_a_tube_full_of_holes_is_cut_through_their_middles(way: str) -> None:
    """Between the columns of holes 0.3 mm are left: a cut there would leave slivers beside every hole."""
    height = [10.0, 24.0, 38.0]
    turns = [(z, np.pi / 12 * (2 * k + row % 2)) for row, z in enumerate(height) for k in range(12)]
    holes = [cylinder((0, 0, z), (np.cos(a), np.sin(a), 0), 3.5, 40) for z, a in turns]
    tube = cylinder((0, 0, 0), (0, 0, 1), 30, 48)
    if way == CROSSING:
        tube = fused(tube, [cylinder((0, 0, 0), (0, 0, 1), 38, 1.5)])
    sheet = extract(solid_of(cut(tube, [cylinder((0, 0, 1.5 if way == CROSSING else -1), (0, 0, 1), 28.5, 60), *holes])))
    assert sheet.way == way
    shape = sheet.shape
    seams = [e for e, beside in enumerate(shape.edge_faces) if len(beside) == 2 and len(set(beside)) == 1]
    ends = np.array([shape.points[v] for e in seams for v in shape.edges[e].nodes[[0, -1]] if 5 < shape.points[v][2] < 43])
    assert len(ends)
    middle = np.abs(ends[:, 2:] - np.array(height)).min(axis=1)
    assert middle == pytest.approx(3.5, abs=0.02)  # where it meets a hole it does so at its top or bottom
    made = meshed(sheet, 2.5)
    assert not len(made.quality.failing)
    assert made.quad_share > 0.99
