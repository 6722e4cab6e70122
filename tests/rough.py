"""The same solid as other programs hand it on: its faces splines, split without need, or its edges broken."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
from OCP.BRepAlgoAPI import BRepAlgoAPI_Common, BRepAlgoAPI_Fuse, BRepAlgoAPI_Splitter
from OCP.BRepBuilderAPI import (
    BRepBuilderAPI_MakeEdge,
    BRepBuilderAPI_MakeFace,
    BRepBuilderAPI_MakeSolid,
    BRepBuilderAPI_NurbsConvert,
    BRepBuilderAPI_Sewing,
)
from OCP.BRepFill import BRepFill
from OCP.BRepFilletAPI import BRepFilletAPI_MakeFillet
from OCP.BRepLib import BRepLib
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeHalfSpace
from OCP.collections import Array1_gp_Pnt, Array2_gp_Pnt, IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher, List_TopoDS_Shape
from OCP.GeomAbs import GeomAbs_Shape
from OCP.GeomAPI import GeomAPI_PointsToBSpline, GeomAPI_PointsToBSplineSurface
from OCP.gp import gp_Dir, gp_Pln, gp_Pnt
from OCP.TopAbs import TopAbs_EDGE, TopAbs_FACE, TopAbs_SHELL
from OCP.TopExp import TopExp, TopExp_Explorer
from OCP.TopoDS import TopoDS, TopoDS_Shape

from kind_rivet.core.geometry.holes import falls_away
from kind_rivet.core.geometry.kernel.facets import facet_shape
from kind_rivet.core.midsurface.offset_side import smooth_edge

Plane = tuple[tuple[float, float, float], tuple[float, float, float]]


def as_splines(solid: TopoDS_Shape) -> TopoDS_Shape:
    return BRepBuilderAPI_NurbsConvert(solid, True).Shape()


def split(solid: TopoDS_Shape, planes: list[Plane], reach: float = 1e3) -> TopoDS_Shape:
    """The faces of a solid split along planes (point, normal); the solid stays whole."""
    skins, tools = List_TopoDS_Shape(), List_TopoDS_Shape()
    for shell in _parts(solid, TopAbs_SHELL):
        skins.Append(shell)
    for at, normal in planes:
        tools.Append(BRepBuilderAPI_MakeFace(gp_Pln(gp_Pnt(*at), gp_Dir(*normal)), -reach, reach, -reach, reach).Face())
    splitter = BRepAlgoAPI_Splitter()
    splitter.SetArguments(skins)
    splitter.SetTools(tools)
    splitter.Build()
    sewing = BRepBuilderAPI_Sewing(1e-6)
    for face in _parts(splitter.Shape(), TopAbs_FACE):
        sewing.Add(face)
    sewing.Perform()
    whole = BRepBuilderAPI_MakeSolid()
    for shell in _parts(sewing.SewedShape(), TopAbs_SHELL):
        whole.Add(TopoDS.Shell(shell))
    return whole.Solid()


def rounded(solid: TopoDS_Shape, radius: float, inner: bool = False, upright: bool = False) -> TopoDS_Shape:
    """The solid with all its sharp outer edges rounded, or blends in all its inner corners; only those along z if `upright`."""
    shape, edges = facet_shape(solid), IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher()
    TopExp.MapShapes_s(solid, TopAbs_EDGE, edges)
    maker = BRepFilletAPI_MakeFillet(solid)
    for number, faces in enumerate(shape.edge_faces):
        if upright and abs(np.diff(shape.points[shape.edges[number].nodes[[0, -1]]], axis=0)[0, :2]).max() > 1e-9:
            continue
        if len(set(faces)) == 2 and not smooth_edge(shape, number) and falls_away(shape, faces[0], number) != inner:
            maker.Add(radius, TopoDS.Edge(edges.FindKey(number + 1)))
    maker.Build()
    return maker.Shape()


def _parts(shape: TopoDS_Shape, kind: object) -> list[TopoDS_Shape]:
    out, explorer = [], TopExp_Explorer(shape, kind)
    while explorer.More():
        out.append(explorer.Current())
        explorer.Next()
    return out


def patched_skin(rib_from: float) -> TopoDS_Shape:
    """A freely curved skin, 2 thick, of six patches on each side, cut at other places; two ribs that cross stand under it, one from `rib_from`."""
    outer, inner = ([0.0, 37, 80, 120], [0.0, 45, 80]), ([0.0, 55, 120], [0.0, 20, 60, 80])
    sewing = BRepBuilderAPI_Sewing(5e-3)
    for (across, along), deep in ((outer, 0.0), (inner, 2.0)):
        for a, b in pairwise(across):
            for c, d in pairwise(along):
                sewing.Add(_patch(deep, a, b, c, d))
    for a, b in pairwise(sorted({*outer[0], *inner[0]})):
        for y in (0.0, 80.0):
            sewing.Add(_rim(np.linspace(a, b, 14), np.full(14, y)))
    for c, d in pairwise(sorted({*outer[1], *inner[1]})):
        for x in (0.0, 120.0):
            sewing.Add(_rim(np.full(14, x), np.linspace(c, d, 14)))
    sewing.Perform()
    whole = BRepBuilderAPI_MakeSolid(TopoDS.Shell(_parts(sewing.SewedShape(), TopAbs_SHELL)[0]))
    skin: TopoDS_Shape = whole.Solid()
    BRepLib.OrientClosedSolid_s(skin)
    under = BRepPrimAPI_MakeHalfSpace(_patch(1.0, -4, 124, -4, 84), gp_Pnt(50, 40, -35)).Solid()
    for low, high in (((50, rib_from, -30), (51.6, 75, 50)), ((10, 50, -30), (110, 51.4, 50))):
        rib = BRepAlgoAPI_Common(BRepPrimAPI_MakeBox(gp_Pnt(*low), gp_Pnt(*high)).Shape(), under).Shape()
        skin = BRepAlgoAPI_Fuse(skin, rib).Shape()
    return skin


def _places(x: np.ndarray, y: np.ndarray, deep: float) -> np.ndarray:
    z = 0.0015 * (x - 60) ** 2 * (1 + y / 120) + 0.002 * (y - 40) ** 2
    slope = np.stack((-0.003 * (x - 60) * (1 + y / 120), -0.0015 * (x - 60) ** 2 / 120 - 0.004 * (y - 40), np.ones_like(x)), axis=-1)
    return np.asarray(np.stack((x, y, z), axis=-1) - deep * slope / np.linalg.norm(slope, axis=-1, keepdims=True))


def _patch(deep: float, x0: float, x1: float, y0: float, y1: float, n: int = 14) -> TopoDS_Shape:
    x, y = np.meshgrid(np.linspace(x0, x1, n), np.linspace(y0, y1, n), indexing="ij")
    net, places = Array2_gp_Pnt(1, n, 1, n), _places(x, y, deep)
    for i in range(n):
        for j in range(n):
            net.SetValue(i + 1, j + 1, gp_Pnt(*places[i, j].tolist()))
    surface = GeomAPI_PointsToBSplineSurface()
    surface.Interpolate(net)
    return BRepBuilderAPI_MakeFace(surface.Surface(), 1e-6).Face()


def _rim(x: np.ndarray, y: np.ndarray) -> TopoDS_Shape:
    edges = []
    for deep in (0.0, 2.0):
        row = Array1_gp_Pnt(1, len(x))
        for i, place in enumerate(_places(x, y, deep).tolist()):
            row.SetValue(i + 1, gp_Pnt(*place))
        edges.append(BRepBuilderAPI_MakeEdge(GeomAPI_PointsToBSpline(row, 3, 8, GeomAbs_Shape.GeomAbs_C2, 1e-6).Curve()).Edge())
    return BRepFill.Face_s(*edges)
