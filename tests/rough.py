"""The same solid as other programs hand it on: its faces splines, split without need, or its edges broken."""

from __future__ import annotations

from OCP.BRepAlgoAPI import BRepAlgoAPI_Splitter
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeSolid, BRepBuilderAPI_NurbsConvert, BRepBuilderAPI_Sewing
from OCP.BRepFilletAPI import BRepFilletAPI_MakeFillet
from OCP.collections import IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher, List_TopoDS_Shape
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


def rounded(solid: TopoDS_Shape, radius: float) -> TopoDS_Shape:
    """The solid with all its sharp outer edges rounded."""
    shape, edges = facet_shape(solid), IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher()
    TopExp.MapShapes_s(solid, TopAbs_EDGE, edges)
    maker = BRepFilletAPI_MakeFillet(solid)
    for number, faces in enumerate(shape.edge_faces):
        if len(set(faces)) == 2 and not smooth_edge(shape, number) and falls_away(shape, faces[0], number):
            maker.Add(radius, TopoDS.Edge(edges.FindKey(number + 1)))
    maker.Build()
    return maker.Shape()


def _parts(shape: TopoDS_Shape, kind: object) -> list[TopoDS_Shape]:
    out, explorer = [], TopExp_Explorer(shape, kind)
    while explorer.More():
        out.append(explorer.Current())
        explorer.Next()
    return out
