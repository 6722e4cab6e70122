#!/usr/bin/env python3
"""Draw made-up ducts with flanges, and trays whose flanges end flush, and write them as STEP.

    python examples/draw_duct_parts.py [FOLDER] [NAME ...]

They serve the tests; none is kept in the repository.
"""

from __future__ import annotations

import math

from draw_moulded_parts import rounded_box
from draw_parts import box, cut, write_all
from draw_thin_parts import cylinder, fused, on_circle, turned, without
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeWire
from OCP.BRepOffsetAPI import BRepOffsetAPI_ThruSections
from OCP.BRepPrimAPI import BRepPrimAPI_MakePrism, BRepPrimAPI_MakeRevol
from OCP.GC import GC_MakeArcOfCircle
from OCP.gp import gp_Ax1, gp_Ax2, gp_Circ, gp_Dir, gp_Pnt, gp_Vec
from OCP.TopoDS import TopoDS_Shape, TopoDS_Wire


def rounded_rectangle(centre: gp_Pnt, first: gp_Dir, second: gp_Dir, length: float, width: float, radius: float) -> TopoDS_Wire:
    """A closed outline about a centre, `length` along the first direction and `width` along the second."""

    def at(u: float, v: float) -> gp_Pnt:
        return centre.Translated(gp_Vec(first).Multiplied(u)).Translated(gp_Vec(second).Multiplied(v))

    wire = BRepBuilderAPI_MakeWire()
    for k in range(4):
        c, s = round(math.cos(k * math.pi / 2)), round(math.sin(k * math.pi / 2))
        half = (length / 2, width / 2) if k % 2 == 0 else (width / 2, length / 2)
        rays = [(half[0], radius - half[1]), (half[0], half[1] - radius)]  # one side, turned by k quarters
        sides = [at(c * x - s * y, s * x + c * y) for x, y in rays]
        bend = half[0] - radius * (1 - math.sqrt(0.5)), half[1] - radius * (1 - math.sqrt(0.5))
        end = half[0] - radius, half[1]
        arc = [at(c * x - s * y, s * x + c * y) for x, y in (bend, end)]
        wire.Add(BRepBuilderAPI_MakeEdge(*sides).Edge())
        wire.Add(BRepBuilderAPI_MakeEdge(GC_MakeArcOfCircle(sides[1], *arc).Value()).Edge())
    return wire.Wire()


def flanged_elbow(wall: float = 1.5) -> TopoDS_Shape:
    """A duct of rounded section that goes round a quarter, and ends on a flange with four holes: bends that are tori."""
    centre, out, up = gp_Pnt(80, 0, 0), gp_Dir(1, 0, 0), gp_Dir(0, 0, 1)

    def section(grow: float) -> TopoDS_Shape:
        return BRepBuilderAPI_MakeFace(rounded_rectangle(centre, out, up, 47 + grow, 33 + grow, 6.5 + grow / 2)).Face()

    axis = gp_Ax1(gp_Pnt(0, 0, 0), up)
    outer, inner = (BRepPrimAPI_MakeRevol(section(grow), axis, math.pi / 2).Shape() for grow in (2 * wall, 0.0))
    plate = BRepPrimAPI_MakePrism(section(26.0), gp_Vec(0, -2 * wall, 0)).Shape()
    passage = BRepPrimAPI_MakePrism(section(0.0), gp_Vec(0, -2 * wall, 0)).Shape()
    part = fused([cut(outer, inner), cut(plate, passage)])
    return without(part, [cylinder((80 + x, -10, z), (0, 1, 0), 2.5, 20) for x in (-31, 31) for z in (-24, 24)])


def cowl(wall: float = 2.0) -> TopoDS_Shape:
    """From round to a rounded square in smooth patches, with a slot on either side and a bolted flange."""

    def loft(grow: float) -> TopoDS_Shape:
        made = BRepOffsetAPI_ThruSections(True, False)
        circle = gp_Circ(gp_Ax2(gp_Pnt(0, 0, 0), gp_Dir(0, 0, 1)), 43 + grow)
        made.AddWire(BRepBuilderAPI_MakeWire(BRepBuilderAPI_MakeEdge(circle).Edge()).Wire())
        made.AddWire(rounded_rectangle(gp_Pnt(0, 0, 50), gp_Dir(1, 0, 0), gp_Dir(0, 1, 0), 66 + 2 * grow, 66 + 2 * grow, 12 + grow))
        made.Build()
        return made.Shape()

    flange = cut(cylinder((0, 0, -2), (0, 0, 1), 58, 2.5), cylinder((0, 0, -3), (0, 0, 1), 43, 5))
    part = fused([cut(loft(wall), loft(0.0)), flange])
    slot = fused([box(-9, -60, 25, 18, 120, 6), *(cylinder((x, -60, 28), (0, 1, 0), 3, 120) for x in (-9, 9))])
    return without(part, [slot, *(cylinder((x, y, -5), (0, 0, 1), 2.5, 10) for x, y in on_circle(4, 52, 45))])


def flush_tray(wall: float = 3.0) -> TopoDS_Shape:
    """A tray with partitions and two flanges that end flush with its other sides, and with ears flush with its front."""
    tray = cut(box(-90, -60, 0, 180, 120, 40), box(wall - 90, wall - 60, wall, 180 - 2 * wall, 120 - 2 * wall, 50))
    flanges = [box(x, -60, 40 - wall, 20, 120, wall) for x in (-110 + wall, 90 - wall)]
    ears = [box(x, -60, 0, 22, wall, 24) for x in (-110 + wall, 88 - wall)]
    part = fused([tray, *flanges, *ears, box(-wall / 2, wall - 60, wall, wall, 120 - 2 * wall, 25)])
    return without(part, [cylinder((x, y, 30), (0, 0, 1), 4, 20) for x in (-99, 99) for y in (-40, 40)])


def flanged_s_duct(wall: float = 2.0) -> TopoDS_Shape:
    """A rounded section led along an S, lofted smoothly, on a flange: its flat sides meet freely curved ones."""
    places = [(20.0 * k, 15 * (1 - math.cos(math.pi * k / 6))) for k in range(7)]

    def loft(grow: float) -> TopoDS_Shape:
        made = BRepOffsetAPI_ThruSections(True, False)
        for y, z in places:
            made.AddWire(rounded_rectangle(gp_Pnt(0, y, z), gp_Dir(1, 0, 0), gp_Dir(0, 0, 1), 46 + 2 * grow, 32 + 2 * grow, 6 + grow))
        made.Build()
        return made.Shape()

    flange = cut(rounded_box(-37, -30, -3, 74, 60, 3, 8), rounded_box(-23, -16, -4, 46, 32, 6, 6))
    return fused([cut(loft(wall), loft(0.0)), turned(flange, (0, 0, 0), (1, 0, 0), -90)])


def tapered_tray(wall: float = 3.0) -> TopoDS_Shape:
    """A tray drawn out upwards, thicker at its foot, with a flange: the rounding of its corners begins a millimetre later inside than outside."""

    def drawn_out(low: float, high: float, length: float, width: float, radius: float, draft: float) -> TopoDS_Shape:
        made = BRepOffsetAPI_ThruSections(True, True)
        for z in (low, high):
            grow = draft * (z - low)
            made.AddWire(
                rounded_rectangle(gp_Pnt(0, 0, z), gp_Dir(1, 0, 0), gp_Dir(0, 1, 0), length + 2 * grow, width + 2 * grow, radius + grow)
            )
        made.Build()
        return made.Shape()

    outer, inner = drawn_out(0, 19.7, 203.8, 162, 8, 0.063), drawn_out(wall, 25, 197.8, 156, 6, 0.06)
    flange = rounded_box(-116.5, -95.5, 19.7 - wall, 233, 191, wall, 20)
    return cut(fused([outer, flange]), fused([inner, *(cylinder((x, 0, -5), (0, 0, 1), 8, 20) for x in (-40, 30))]))


PARTS = {
    "tapered_tray": tapered_tray,
    "flanged_elbow": flanged_elbow,
    "cowl": cowl,
    "flush_tray": flush_tray,
    "flanged_s_duct": flanged_s_duct,
}


if __name__ == "__main__":
    write_all(PARTS)
