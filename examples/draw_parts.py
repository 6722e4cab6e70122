#!/usr/bin/env python3
"""Draw the made-up sample parts and write them as STEP files beside this script.

    python examples/draw_parts.py [FOLDER]

The cradle tray: pressed steel, 1.5 mm, floor with four bent flanges, bolt holes,
lightening holes, rivet holes, one slot and one odd cut-out. Revision two moves a
lightening hole and lengthens one flange.
"""

from __future__ import annotations

import math
import sys
from collections.abc import Callable, Collection
from dataclasses import dataclass
from pathlib import Path

from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeWire
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder, BRepPrimAPI_MakePrism
from OCP.GC import GC_MakeArcOfCircle
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt, gp_Vec
from OCP.Interface import Interface_Static
from OCP.ShapeUpgrade import ShapeUpgrade_UnifySameDomain
from OCP.STEPCAFControl import STEPCAFControl_Controller, STEPCAFControl_Writer
from OCP.STEPControl import STEPControl_AsIs
from OCP.TCollection import TCollection_ExtendedString
from OCP.TDataStd import TDataStd_Name
from OCP.TDocStd import TDocStd_Document
from OCP.TopAbs import TopAbs_SOLID
from OCP.TopExp import TopExp_Explorer
from OCP.TopoDS import TopoDS_Shape
from OCP.XCAFApp import XCAFApp_Application
from OCP.XCAFDoc import XCAFDoc_DocumentTool


@dataclass(frozen=True)
class Tray:
    """Measures of the tray in millimetres (outer faces)."""

    length: float = 420.0
    width: float = 180.0
    height: float = 45.0
    end_height: float = 30.0
    wall: float = 1.5
    inner_radius: float = 3.0
    relief: float = 6.0  # the corners are cut open so that the flanges can be bent
    moved_hole: float = 0.0
    long_flange: float = 0.0


def box(x: float, y: float, z: float, dx: float, dy: float, dz: float) -> TopoDS_Shape:
    return BRepPrimAPI_MakeBox(gp_Pnt(x, y, z), dx, dy, dz).Shape()


def prism(
    points: list[tuple[float, float, float]], arcs: dict[int, tuple[float, float, float]], along: tuple[float, float, float]
) -> TopoDS_Shape:
    """Extrude a closed outline; `arcs` gives a point on the arc that replaces the line from corner i."""
    wire = BRepBuilderAPI_MakeWire()
    for i, start in enumerate(points):
        a, b = gp_Pnt(*start), gp_Pnt(*points[(i + 1) % len(points)])
        if i in arcs:
            wire.Add(BRepBuilderAPI_MakeEdge(GC_MakeArcOfCircle(a, gp_Pnt(*arcs[i]), b).Value()).Edge())
        else:
            wire.Add(BRepBuilderAPI_MakeEdge(a, b).Edge())
    return BRepPrimAPI_MakePrism(BRepBuilderAPI_MakeFace(wire.Wire()).Face(), gp_Vec(*along)).Shape()


def fuse(a: TopoDS_Shape, b: TopoDS_Shape) -> TopoDS_Shape:
    return BRepAlgoAPI_Fuse(a, b).Shape()


def cut(a: TopoDS_Shape, b: TopoDS_Shape) -> TopoDS_Shape:
    return BRepAlgoAPI_Cut(a, b).Shape()


def flange(tray: Tray, side: int, height: float) -> TopoDS_Shape:
    """One bent flange: a quarter bend and a wall, extruded along its side (0, 1: along x; 2, 3: along y)."""
    t, r = tray.wall, tray.inner_radius
    s = r + t
    run = (tray.length if side < 2 else tray.width) - 2 * (s + tray.relief)
    q = math.sqrt(0.5)
    # Outline in (u, z): u runs outward from the bend line at the floor's end.
    outline = [(0.0, 0.0), (s, s), (s, height), (r, height), (r, s), (0.0, t)]
    bow = {0: (s * q, s - s * q), 4: (r * q, s - r * q)}

    def place(u: float, z: float) -> tuple[float, float, float]:
        start = s + tray.relief
        if side == 0:
            return (start, s - u, z)
        if side == 1:
            return (start, tray.width - s + u, z)
        if side == 2:
            return (s - u, start, z)
        return (tray.length - s + u, start, z)

    along = (run, 0.0, 0.0) if side < 2 else (0.0, run, 0.0)
    return prism([place(*p) for p in outline], {k: place(*p) for k, p in bow.items()}, along)


def drill(part: TopoDS_Shape, x: float, y: float, z: float, diameter: float, axis: tuple[float, float, float] = (0, 0, 1)) -> TopoDS_Shape:
    depth = 10.0
    start = gp_Pnt(x - depth / 2 * axis[0], y - depth / 2 * axis[1], z - depth / 2 * axis[2])
    return cut(part, BRepPrimAPI_MakeCylinder(gp_Ax2(start, gp_Dir(*axis)), diameter / 2, depth).Shape())


def slot(x: float, y: float, length: float, width: float) -> TopoDS_Shape:
    h, r = length / 2 - width / 2, width / 2
    corners = [(x - h, y - r, -5.0), (x + h, y - r, -5.0), (x + h, y + r, -5.0), (x - h, y + r, -5.0)]
    return prism(corners, {1: (x + h + r, y, -5.0), 3: (x - h - r, y, -5.0)}, (0, 0, 10))


def window(x: float, y: float) -> TopoDS_Shape:
    """The odd cut-out: a D-shaped window with one slanted side."""
    corners = [(x, y, -5.0), (x + 34, y, -5.0), (x + 34, y + 26, -5.0), (x + 12, y + 26, -5.0), (x, y + 14, -5.0)]
    return prism(corners, {1: (x + 47, y + 13, -5.0)}, (0, 0, 10))


def draw_tray(tray: Tray) -> TopoDS_Shape:
    t, s = tray.wall, tray.inner_radius + tray.wall
    length, width = tray.length, tray.width
    part = box(s, s, 0, length - 2 * s, width - 2 * s, t)
    heights = (tray.height + tray.long_flange, tray.height, tray.end_height, tray.end_height)
    for side, height in enumerate(heights):
        part = fuse(part, flange(tray, side, height))
    for x in (28.0, 150.0, 270.0, 392.0):  # bolt holes of the floor
        for y in (28.0, width - 28.0):
            part = drill(part, x, y, t / 2, 9.0)
    for i, x in enumerate((70.0, 120.0, 300.0, 350.0)):  # lightening holes
        part = drill(part, x + (tray.moved_hole if i == 3 else 0.0), width / 2, t / 2, 36.0)
    for x in (95.0, 210.0, 325.0):  # rivet holes
        for y in (40.0, width - 40.0):
            part = drill(part, x, y, t / 2, 4.2)
    for x in (110.0, 210.0, 310.0):  # bolt holes of the long flanges
        part = drill(part, x, t / 2, 28.0, 9.0, (0, 1, 0))
        part = drill(part, x, width - t / 2, 28.0, 9.0, (0, 1, 0))
    part = cut(part, slot(210.0, width / 2 + 28.0, 48.0, 12.0))
    part = cut(part, window(190.0, 52.0))
    tidy = ShapeUpgrade_UnifySameDomain(part, True, True, True)
    tidy.Build()
    return tidy.Shape()


def write(shape: TopoDS_Shape, path: Path, name: str, whole: bool = False) -> None:
    """A STEP file with the part's name and colour, in millimetres; `whole`: with all its solids."""
    STEPCAFControl_Controller.Init_s()
    Interface_Static.SetCVal_s("write.step.unit", "MM")
    document = TDocStd_Document(TCollection_ExtendedString("MDTV-XCAF"))
    XCAFApp_Application.GetApplication_s().NewDocument(TCollection_ExtendedString("MDTV-XCAF"), document)
    label = XCAFDoc_DocumentTool.ShapeTool_s(document.Main()).AddShape(shape if whole else only_solid(shape), False)
    TDataStd_Name.Set_s(label, TCollection_ExtendedString(name))
    writer = STEPCAFControl_Writer()
    writer.SetNameMode(True)
    writer.Transfer(document, STEPControl_AsIs)
    writer.Write(str(path))


def write_all(parts: dict[str, Callable[[], TopoDS_Shape]], whole: Collection[str] = ()) -> None:
    """What a script that draws parts does: all of them, or those named, into the folder of the first argument or beside the script."""
    folder = Path(sys.argv[1]) if len(sys.argv) > 1 else Path(__file__).parent
    for name in sys.argv[2:] or parts:
        write(parts[name](), folder / f"{name}.step", name.replace("_", " ").capitalize(), name in whole)


def only_solid(shape: TopoDS_Shape) -> TopoDS_Shape:
    """The one solid inside a compound."""
    return TopExp_Explorer(shape, TopAbs_SOLID).Current()


PARTS = {
    "cradle_tray": ("Cradle tray", lambda: draw_tray(Tray())),
    "cradle_tray_rev2": ("Cradle tray, revision 2", lambda: draw_tray(Tray(moved_hole=-6.0, long_flange=8.0))),
}


def main() -> None:
    folder = Path(sys.argv[1]) if len(sys.argv) > 1 else Path(__file__).parent
    for stem, (name, draw) in PARTS.items():
        write(draw(), folder / f"{stem}.step", name)


if __name__ == "__main__":
    main()
