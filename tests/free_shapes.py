"""Freely curved solids for tests: panels, bells, noses, hulls."""

from __future__ import annotations

import itertools

import numpy as np
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeWire
from OCP.BRepOffsetAPI import BRepOffsetAPI_ThruSections
from OCP.BRepPrimAPI import BRepPrimAPI_MakeRevol
from OCP.collections import HArray1_gp_Pnt
from OCP.GeomAPI import GeomAPI_Interpolate
from OCP.gp import gp_Ax1, gp_Dir, gp_Pnt, gp_Vec
from OCP.TopoDS import TopoDS_Edge, TopoDS_Shape

from kind_rivet.core.geometry.carriers import Floats


def curve(points: Floats, closed: bool, ways: tuple[gp_Vec, gp_Vec] | None = None) -> TopoDS_Edge:
    """A spline through points (n, 3)."""
    table = HArray1_gp_Pnt(1, len(points))
    for k, p in enumerate(points.tolist()):
        table.SetValue(k + 1, gp_Pnt(*p))
    made = GeomAPI_Interpolate(table, closed, 1e-6)
    if ways is not None:
        made.Load(*ways)
    made.Perform()
    return BRepBuilderAPI_MakeEdge(made.Curve()).Edge()


def dish(bottom: float, top: float) -> TopoDS_Shape:
    """What lies between two heights over a panel that is curved both ways."""
    loft = BRepOffsetAPI_ThruSections(True, False)
    x = np.linspace(0, 160, 7)
    for y, k in ((0, 0.8), (60, 1.2), (120, 0.9)):
        z = 20 * k * np.sin(np.pi * x / 160) + 8 * (1 - ((y - 60) / 60) ** 2)
        low, high = (np.column_stack((x, np.full(7, float(y)), z + off)) for off in (bottom, top))
        wire = BRepBuilderAPI_MakeWire(curve(low, False))
        wire.Add(BRepBuilderAPI_MakeEdge(gp_Pnt(*low[-1]), gp_Pnt(*high[-1])).Edge())
        wire.Add(curve(high, False))
        wire.Add(BRepBuilderAPI_MakeEdge(gp_Pnt(*high[0]), gp_Pnt(*low[0])).Edge())
        loft.AddWire(wire.Wire())
    loft.Build()
    return loft.Shape()


def turned(line: Floats) -> TopoDS_Shape:
    """What a spline through places (n, 2), by radius and height, encloses with the axis."""
    place = np.column_stack((line[:, 0], np.zeros(len(line)), line[:, 1]))
    corners = [place[-1], [0, 0, place[-1][2]], [0, 0, place[0][2]], place[0]]
    wire = BRepBuilderAPI_MakeWire(curve(place, False))
    for a, b in itertools.pairwise(corners):
        if not np.allclose(a, b):
            wire.Add(BRepBuilderAPI_MakeEdge(gp_Pnt(*map(float, a)), gp_Pnt(*map(float, b))).Edge())
    return BRepPrimAPI_MakeRevol(BRepBuilderAPI_MakeFace(wire.Wire()).Face(), gp_Ax1(gp_Pnt(0, 0, 0), gp_Dir(0, 0, 1))).Shape()


def bell(inner: bool) -> TopoDS_Shape:
    """A turned bell with a wall of 3, or what it encloses."""
    profile = np.array([[41.0, 0.0], [47, 30], [70, 80], [101, 120]])
    way = np.gradient(profile, axis=0)
    out = np.column_stack((way[:, 1], -way[:, 0])) / np.linalg.norm(way, axis=1)[:, None]
    return turned(profile if inner else profile + 3.0 * out)


def hull(off: float) -> TopoDS_Shape:
    """What a boat's hull, curved both ways, encloses; `off` inside its skin."""
    loft = BRepOffsetAPI_ThruSections(True, False)
    for x, w, d in ((0.0, 40.0, 30.0), (110.0, 54.0, 42.0), (220.0, 36.0, 30.0)):
        w, d = w - off, d - off
        line = np.array([[x, -w, 0], [x, -0.8 * w, -0.7 * d], [x, 0, -d], [x, 0.8 * w, -0.7 * d], [x, w, 0]])
        wire = BRepBuilderAPI_MakeWire(curve(line, False))
        wire.Add(BRepBuilderAPI_MakeEdge(gp_Pnt(x, w, 0), gp_Pnt(x, -w, 0)).Edge())
        loft.AddWire(wire.Wire())
    loft.Build()
    return loft.Shape()
