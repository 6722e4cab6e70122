#!/usr/bin/env python3
"""Draw the made-up parts for looking over and preparing geometry, and write them beside this script.

    python examples/draw_prepare_parts.py [FOLDER]

A tray handed over as a sheet with slivers and split lines, an assembly of tray, doubler,
lug and rails, a ribbed cover with bosses, the lug in inches, the doubler as IGES.
"""

from __future__ import annotations

import itertools
import math
import sys
from dataclasses import dataclass
from pathlib import Path

from draw_parts import Tray, box, cut, draw_tray, drill, fuse, only_solid
from OCP.BRep import BRep_Builder
from OCP.BRepAlgoAPI import BRepAlgoAPI_Splitter
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeWire, BRepBuilderAPI_Sewing
from OCP.BRepFilletAPI import BRepFilletAPI_MakeFillet
from OCP.BRepPrimAPI import BRepPrimAPI_MakeCylinder, BRepPrimAPI_MakePrism
from OCP.collections import List_TopoDS_Shape
from OCP.GC import GC_MakeArcOfCircle
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt, gp_Vec
from OCP.IGESControl import IGESControl_Controller, IGESControl_Writer
from OCP.Interface import Interface_Static
from OCP.Quantity import Quantity_Color, Quantity_TypeOfColor
from OCP.ShapeUpgrade import ShapeUpgrade_UnifySameDomain
from OCP.STEPCAFControl import STEPCAFControl_Controller, STEPCAFControl_Writer
from OCP.STEPControl import STEPControl_AsIs
from OCP.TCollection import TCollection_ExtendedString
from OCP.TDataStd import TDataStd_Name
from OCP.TDocStd import TDocStd_Document
from OCP.TopAbs import TopAbs_EDGE
from OCP.TopExp import TopExp_Explorer
from OCP.TopLoc import TopLoc_Location
from OCP.TopoDS import TopoDS, TopoDS_Compound, TopoDS_Shape
from OCP.XCAFApp import XCAFApp_Application
from OCP.XCAFDoc import XCAFDoc_ColorTool, XCAFDoc_ColorType, XCAFDoc_DocumentTool


def outline(points: list[tuple[float, float, float]]) -> TopoDS_Shape:
    """A wire through points."""
    wire = BRepBuilderAPI_MakeWire()
    for a, b in itertools.pairwise(points):
        wire.Add(BRepBuilderAPI_MakeEdge(gp_Pnt(*a), gp_Pnt(*b)).Edge())
    return wire.Wire()


def plate(x: float, y: float, dx: float, dy: float, z: float) -> TopoDS_Shape:
    """A rectangular face."""
    corners = [(x, y, z), (x + dx, y, z), (x + dx, y + dy, z), (x, y + dy, z), (x, y, z)]
    return BRepBuilderAPI_MakeFace(outline(corners)).Face()


def standing(points: list[tuple[float, float, float]], height: float) -> TopoDS_Shape:
    """A sheet standing on a line."""
    return BRepPrimAPI_MakePrism(outline(points), gp_Vec(0, 0, height)).Shape()


def splitted(shape: TopoDS_Shape, tools: list[TopoDS_Shape]) -> TopoDS_Shape:
    arguments, knives = List_TopoDS_Shape(), List_TopoDS_Shape()
    arguments.Append(shape)
    for tool in tools:
        knives.Append(tool)
    split = BRepAlgoAPI_Splitter()
    split.SetArguments(arguments)
    split.SetTools(knives)
    split.Build()
    return split.Shape()


def sliver_tray() -> TopoDS_Shape:
    """A shallow tray as a sheet; wedges, a narrow strip and a doubled split line run across its floor and one flange."""
    length, width, height = 240.0, 120.0, 25.0
    floor = plate(0, 0, length, width, 0)
    for x, y, d in ((40, 30, 12.0), (40, 90, 12.0), (200, 30, 12.0), (200, 90, 12.0), (120, 60, 40.0)):
        hole = BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(x, y, -5), gp_Dir(0, 0, 1)), d / 2, 10).Shape()
        floor = cut(floor, hole)
    knives = [
        standing([(0.0, 12.0, -5), (240.0, 12.0, -5)], 10),  # a wedge that runs out to a point at the right border
        standing([(0.0, 15.5, -5), (240.0, 12.05, -5)], 10),
        standing([(70.0, -5.0, -5), (70.0, 125.0, -5)], 10),  # a doubled split line
        standing([(71.2, -5.0, -5), (71.2, 125.0, -5)], 10),
        standing([(165.0, -5.0, -5), (167.8, 125.0, -5)], 10),  # two lines that nearly meet at the far border
        standing([(169.0, -5.0, -5), (168.0, 125.0, -5)], 10),
    ]
    floor = splitted(floor, knives)
    front = splitted(
        standing([(0, 0, 0), (length, 0, 0)], height),
        [standing([(30.0, -5.0, -5), (30.0, 5.0, -5)], 40), standing([(31.0, -5.0, -5), (31.0, 5.0, -5)], 40)],
    )
    sewing = BRepBuilderAPI_Sewing(1e-4)
    for piece in (floor, front, standing([(0, width, 0), (length, width, 0)], height)):
        sewing.Add(piece)
    sewing.Perform()
    return sewing.SewedShape()


def draw_doubler() -> TopoDS_Shape:
    """A flat plate under the tray's floor, with the bolt holes of its middle."""
    part = box(130.0, 18.0, -1.5, 160.0, 144.0, 1.5)
    for x in (150.0, 270.0):
        for y in (28.0, 152.0):
            part = drill(part, x, y, -0.75, 9.0)
    return part


def draw_lug() -> TopoDS_Shape:
    """A machined lug standing on the tray's floor: a foot, an eye, an inner round."""
    part = fuse(box(-20, -15, 0, 40, 30, 8), box(-6, -15, 8, 12, 30, 20))
    eye = BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(-6, 0, 28), gp_Dir(1, 0, 0)), 15.0, 12.0).Shape()
    part = fuse(part, eye)
    part = cut(part, BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(-20, 0, 28), gp_Dir(1, 0, 0)), 6.0, 40.0).Shape())
    for x in (-14.0, 14.0):
        for y in (-9.0, 9.0):
            part = drill(part, x, y, 4.0, 5.0)
    tidy = ShapeUpgrade_UnifySameDomain(part, True, True, True)
    tidy.Build()
    return tidy.Shape()


def rail(y: float) -> TopoDS_Shape:
    """A rail under the tray as a wire: two straights with a bend."""
    wire = BRepBuilderAPI_MakeWire()
    bend = GC_MakeArcOfCircle(
        gp_Pnt(340, y, -14),
        gp_Pnt(340 + 60 * math.sin(0.35), y, -14 + 60 * (1 - math.cos(0.35))),
        gp_Pnt(340 + 60 * math.sin(0.7), y, -14 + 60 * (1 - math.cos(0.7))),
    ).Value()
    end = gp_Pnt(340 + 60 * math.sin(0.7) + 80 * math.cos(0.7), y, -14 + 60 * (1 - math.cos(0.7)) + 80 * math.sin(0.7))
    for edge in (
        BRepBuilderAPI_MakeEdge(gp_Pnt(-40, y, -14), gp_Pnt(340, y, -14)),
        BRepBuilderAPI_MakeEdge(bend),
        BRepBuilderAPI_MakeEdge(gp_Pnt(340 + 60 * math.sin(0.7), y, -14 + 60 * (1 - math.cos(0.7))), end),
    ):
        wire.Add(edge.Edge())
    return wire.Wire()


def draw_cover() -> TopoDS_Shape:
    """A moulded cover: plate, rim, crossing ribs, four bosses with holes, rounded outer corners, small holes."""
    length, width, wall, rim, rib = 140.0, 90.0, 2.0, 16.0, 1.4
    part = box(0, 0, 0, length, width, rim)
    standing_edges = []
    explorer = TopExp_Explorer(part, TopAbs_EDGE)
    while explorer.More():
        edge = TopoDS.Edge(explorer.Current())
        explorer.Next()
        if _is_upright(edge) and not any(edge.IsSame(e) for e in standing_edges):
            standing_edges.append(edge)
    fillet = BRepFilletAPI_MakeFillet(part)
    for edge in standing_edges:
        fillet.Add(3.0, edge)
    part = cut(fillet.Shape(), box(wall, wall, wall, length - 2 * wall, width - 2 * wall, rim))
    for x in (46.0, 93.0):
        part = fuse(part, box(x - rib / 2, wall, wall, rib, width - 2 * wall, 9.0))
    part = fuse(part, box(wall, width / 2 - rib / 2, wall, length - 2 * wall, rib, 9.0))
    for x in (16.0, 124.0):
        for y in (16.0, 74.0):
            part = fuse(part, BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(x, y, wall), gp_Dir(0, 0, 1)), 4.0, 10.0).Shape())
            part = cut(part, BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(x, y, wall + 3), gp_Dir(0, 0, 1)), 1.6, 20.0).Shape())
    for x in (30.0, 70.0, 110.0):
        part = cut(part, BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(x, 25, -5), gp_Dir(0, 0, 1)), 1.5, 10.0).Shape())
    tidy = ShapeUpgrade_UnifySameDomain(part, True, True, True)
    tidy.Build()
    return only_solid(tidy.Shape())


def _is_upright(edge: TopoDS_Shape) -> bool:
    from OCP.BRepAdaptor import BRepAdaptor_Curve

    curve = BRepAdaptor_Curve(edge)
    a, b = curve.Value(curve.FirstParameter()), curve.Value(curve.LastParameter())
    return abs(a.X() - b.X()) < 1e-6 and abs(a.Y() - b.Y()) < 1e-6


@dataclass(frozen=True)
class Item:
    """A shape in an assembly: name, colour, place."""

    name: str
    shape: TopoDS_Shape
    colour: tuple[float, float, float] | None = None
    at: tuple[float, float, float] = (0.0, 0.0, 0.0)


def new_document() -> TDocStd_Document:
    document = TDocStd_Document(TCollection_ExtendedString("MDTV-XCAF"))
    XCAFApp_Application.GetApplication_s().NewDocument(TCollection_ExtendedString("MDTV-XCAF"), document)
    return document


def write_assembly(path: Path, name: str, groups: dict[str, list[Item]], unit: str = "MM") -> None:
    """A STEP file with sub-assemblies, names and colours; a group with an empty name goes to the top."""
    from OCP.gp import gp_Trsf

    STEPCAFControl_Controller.Init_s()
    Interface_Static.SetCVal_s("write.step.unit", unit)
    document = new_document()
    shapes = XCAFDoc_DocumentTool.ShapeTool_s(document.Main())
    colours: XCAFDoc_ColorTool = XCAFDoc_DocumentTool.ColorTool_s(document.Main())

    def assembly(title: str):
        empty = TopoDS_Compound()
        BRep_Builder().MakeCompound(empty)
        label = shapes.AddShape(empty, True)
        TDataStd_Name.Set_s(label, TCollection_ExtendedString(title))
        return label

    single = sum(len(items) for items in groups.values()) == 1
    top = None if single else assembly(name)
    for group, items in groups.items():
        parent = top if not group else assembly(group)
        for item in items:
            label = shapes.AddShape(item.shape, False)
            TDataStd_Name.Set_s(label, TCollection_ExtendedString(item.name))
            if item.colour:
                colours.SetColor(
                    label, Quantity_Color(*item.colour, Quantity_TypeOfColor.Quantity_TOC_sRGB), XCAFDoc_ColorType.XCAFDoc_ColorGen
                )
            if parent is not None:
                move = gp_Trsf()
                move.SetTranslation(gp_Vec(*item.at))
                placed = shapes.AddComponent(parent, label, TopLoc_Location(move))
                TDataStd_Name.Set_s(placed, TCollection_ExtendedString(item.name))
        if group and top is not None:
            shapes.AddComponent(top, parent, TopLoc_Location())
    shapes.UpdateAssemblies()
    writer = STEPCAFControl_Writer()
    writer.SetNameMode(True)
    writer.SetColorMode(True)
    writer.Transfer(document, STEPControl_AsIs)
    writer.Write(str(path))


def write_iges(shape: TopoDS_Shape, path: Path) -> None:
    IGESControl_Controller.Init_s()
    writer = IGESControl_Writer("MM", 1)
    writer.AddShape(shape)
    writer.ComputeModel()
    writer.Write(str(path))


def main() -> None:
    folder = Path(sys.argv[1]) if len(sys.argv) > 1 else Path(__file__).parent
    write_assembly(folder / "sliver_tray.step", "Sliver tray", {"": [Item("Sliver tray", sliver_tray())]})
    write_assembly(folder / "ribbed_cover.step", "Ribbed cover", {"": [Item("Ribbed cover", draw_cover())]})
    write_assembly(folder / "lug_inch.step", "Lug", {"": [Item("Lug", draw_lug())]}, "INCH")
    write_iges(draw_doubler(), folder / "doubler.igs")
    rails = [Item("Rail left", rail(20.0)), Item("Rail right", rail(160.0))]
    sheets = [
        Item("Tray", only_solid(draw_tray(Tray())), (0.62, 0.71, 0.63)),
        Item("Doubler", draw_doubler(), (0.79, 0.63, 0.54)),
    ]
    lugs = [Item("Lug", draw_lug(), (0.56, 0.64, 0.70), at) for at in ((90.0, 60.0, 1.5), (330.0, 60.0, 1.5))]
    write_assembly(folder / "cradle_assembly.step", "Cradle", {"Sheets": sheets, "Lugs": lugs, "Rails": rails})


if __name__ == "__main__":
    main()
