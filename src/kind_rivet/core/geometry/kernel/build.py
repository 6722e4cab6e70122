"""Building geometry with the kernel: lines, circles, plane faces, extruded and revolved sheets, projected curves."""

from __future__ import annotations

import itertools
from typing import Any

import numpy as np

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Floats, unit
from kind_rivet.core.geometry.kernel.edits import Bytes, Piece, piece_of
from kind_rivet.core.geometry.kernel.facets import from_bytes
from kind_rivet.core.geometry.kernel.parts import compound, parts_of


def _pnt(p: Floats) -> Any:
    from OCP.gp import gp_Pnt

    return gp_Pnt(*(float(v) for v in p))


def _dir(v: Floats) -> Any:
    from OCP.gp import gp_Dir

    return gp_Dir(*(float(x) for x in v))


def line(points: Floats) -> Piece:
    """A wire through points (n, 3). Raises `Refused` for points that fall together."""
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeWire

    points = np.asarray(points, float)
    if len(points) < 2 or np.linalg.norm(np.diff(points, axis=0), axis=1).min() < 1e-9:
        raise Refused("A line needs two different points or more.", "Choose points that lie apart.")
    wire = BRepBuilderAPI_MakeWire()
    for a, b in itertools.pairwise(points):
        wire.Add(BRepBuilderAPI_MakeEdge(_pnt(a), _pnt(b)).Edge())
    return piece_of(wire.Wire(), "wire")


def circle(centre: Floats, axis: Floats, radius: float) -> Piece:
    """A full circle as a wire."""
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeWire
    from OCP.gp import gp_Ax2, gp_Circ

    if not radius > 0 or np.linalg.norm(axis) < 1e-12:
        raise Refused("A circle needs a positive radius and an axis.", "Give both.")
    edge = BRepBuilderAPI_MakeEdge(gp_Circ(gp_Ax2(_pnt(centre), _dir(unit(np.asarray(axis, float)))), radius)).Edge()
    return piece_of(BRepBuilderAPI_MakeWire(edge).Wire(), "wire")


def face_from(wires: list[Bytes]) -> Piece:
    """A plane face whose outer border is the longest closed wire, the others its holes.

    Raises `Refused` when wires are open, or do not lie in one plane.
    """
    from OCP.BRep import BRep_Tool
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace

    closed = [w for data in wires for w in _joined_wires(from_bytes(data))]
    if not closed or not all(BRep_Tool.IsClosed_s(w) for w in closed):
        raise Refused("The outline is not closed.", "Choose lines that meet end to end and come back to their start.")
    closed.sort(key=lambda w: -_box_diagonal(w))
    maker = BRepBuilderAPI_MakeFace(closed[0], True)
    if not maker.IsDone():
        raise Refused("The outline does not lie in one plane.", "Choose lines of one plane.")
    face = maker.Face()
    for hole in closed[1:]:
        from OCP.ShapeFix import ShapeFix_Face

        with_hole = BRepBuilderAPI_MakeFace(face, hole)
        if not with_hole.IsDone():
            raise Refused("A hole's outline does not lie in the plane of the border.", "Choose lines of one plane.")
        fix = ShapeFix_Face(with_hole.Face())
        fix.FixOrientation()
        face = fix.Face()
    piece = piece_of(face, "sheet")
    if piece.shape.face_area.sum() <= 0:
        raise Refused("The outline encloses no area.", "Choose another outline.")
    return piece


def _joined_wires(shape: Any) -> list[Any]:
    """Edges of a shape linked into wires where their ends meet."""
    from OCP.collections import HSequence_TopoDS_Shape
    from OCP.ShapeAnalysis import ShapeAnalysis_FreeBounds
    from OCP.TopoDS import TopoDS

    edges = HSequence_TopoDS_Shape()
    for edge in parts_of(shape, "edge"):
        edges.Append(edge)
    out = HSequence_TopoDS_Shape()
    ShapeAnalysis_FreeBounds.ConnectEdgesToWires_s(edges, 1e-6, False, out)
    return [TopoDS.Wire(out.Value(k)) for k in range(1, out.Length() + 1)]


def _box_diagonal(shape: Any) -> float:
    from OCP.Bnd import Bnd_Box
    from OCP.BRepBndLib import BRepBndLib

    box = Bnd_Box()
    BRepBndLib.Add_s(shape, box)
    return float(box.CornerMin().Distance(box.CornerMax()))


def extrude(wire: Bytes, by: Floats) -> Piece:
    """A sheet swept by a curve along a vector."""
    from OCP.BRepPrimAPI import BRepPrimAPI_MakePrism
    from OCP.gp import gp_Vec

    if np.linalg.norm(by) < 1e-12:
        raise Refused("The length of an extrusion must not be zero.", "Give a direction and a length.")
    wires = _joined_wires(from_bytes(wire))
    swept = [BRepPrimAPI_MakePrism(w, gp_Vec(*map(float, by))).Shape() for w in wires]
    return piece_of(swept[0] if len(swept) == 1 else compound(swept), "sheet")


def revolve(wire: Bytes, origin: Floats, axis: Floats, degrees: float) -> Piece:
    """A sheet swept by a curve round an axis."""
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeRevol
    from OCP.gp import gp_Ax1

    if not 0 < abs(degrees) <= 360 or np.linalg.norm(axis) < 1e-12:
        raise Refused("The angle of a revolution must lie between 0° and 360°.", "Give an axis and an angle.")
    turn = gp_Ax1(_pnt(origin), _dir(unit(np.asarray(axis, float))))
    swept = [BRepPrimAPI_MakeRevol(w, turn, float(np.radians(degrees))).Shape() for w in _joined_wires(from_bytes(wire))]
    piece = piece_of(swept[0] if len(swept) == 1 else compound(swept), "sheet")
    if piece.shape.face_area.sum() <= 1e-12:
        raise Refused("The curve lies on the axis, so it sweeps no face.", "Choose another axis.")
    return piece


def project_curve(wire: Bytes, target: Bytes, direction: Floats) -> Piece:
    """A curve projected along a direction onto a body. Raises `Refused` where it misses."""
    from OCP.BRepProj import BRepProj_Projection
    from OCP.TopoDS import TopoDS

    found = []
    for w in _joined_wires(from_bytes(wire)):
        tool = BRepProj_Projection(TopoDS.Wire(w), from_bytes(target), _dir(unit(np.asarray(direction, float))))
        while tool.More():
            found.append(tool.Current())
            tool.Next()
    if not found:
        raise Refused("The curve does not meet the body in that direction.", "Choose another direction.")
    return piece_of(found[0] if len(found) == 1 else compound(found), "wire")
