"""Changing solids and sheets with the kernel: removing features, splitting, stitching, sharing interfaces.

All functions take and give bytes and arrays and are meant to run through
`kind_rivet.core.guard.apart`: the kernel's booleans may hang or crash.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Floats, unit
from kind_rivet.core.geometry.kernel.closing import sewn
from kind_rivet.core.geometry.kernel.facets import facet_shape, from_bytes, mesh_facets, to_bytes
from kind_rivet.core.geometry.kernel.parts import compound, parts_of
from kind_rivet.core.geometry.shape import Shape

Bytes = NDArray[np.uint8]


@dataclass(frozen=True)
class Piece:
    """A shape that an edit made: `kind` solid, sheet or wire."""

    kind: str
    shape: Shape
    brep: Bytes


def piece_of(shape: Any, kind: str, faceted: bool = False) -> Piece:
    """Facets and bytes of a kernel shape; `faceted` when its facets are made already and must not change."""
    return Piece(kind, facet_shape(shape, solid=kind == "solid", keep_facets=faceted), to_bytes(shape))


def numbered_faces(shape: Any) -> list[Any]:
    """The faces in the order of `facet_shape`."""
    return _numbered(shape, "face")


def numbered_edges(shape: Any) -> list[Any]:
    return _numbered(shape, "edge")


def _numbered(shape: Any, sort: str) -> list[Any]:
    from OCP.collections import IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher as ShapeMap
    from OCP.TopAbs import TopAbs_EDGE, TopAbs_FACE
    from OCP.TopExp import TopExp
    from OCP.TopoDS import TopoDS

    found = ShapeMap()
    TopExp.MapShapes_s(shape, TopAbs_FACE if sort == "face" else TopAbs_EDGE, found)
    cast = TopoDS.Face if sort == "face" else TopoDS.Edge
    return [cast(found.FindKey(k)) for k in range(1, found.Extent() + 1)]


def shape_list(parts: Sequence[Any]) -> Any:
    from OCP.collections import List_TopoDS_Shape

    out = List_TopoDS_Shape()
    for part in parts:
        out.Append(part)
    return out


def volume_of(shape: Any) -> float:
    from OCP.BRepGProp import BRepGProp
    from OCP.GProp import GProp_GProps

    properties = GProp_GProps()
    BRepGProp.VolumeProperties_s(shape, properties)
    return float(properties.Mass())


def _valid(shape: Any) -> bool:
    from OCP.BRepCheck import BRepCheck_Analyzer

    return bool(BRepCheck_Analyzer(shape).IsValid())


# -- removing ------------------------------------------------------------------
def remove_faces(brep: Bytes, faces: tuple[int, ...]) -> Piece:
    """The solid without the given faces, the gap closed by its neighbours.

    Raises `Refused` when the result would not be one valid solid of plausible volume.
    """
    before = from_bytes(brep)
    solids = parts_of(before, "solid")
    if len(solids) != 1:
        raise Refused("Faces can be removed from single solids only.", "For sheets, fill holes instead.")
    every = numbered_faces(before)
    chosen = [every[f] for f in faces if 0 <= f < len(every)]
    if not chosen or len(chosen) == len(every):
        raise Refused("No face that could be removed is chosen.", "Choose the faces of a hole, blend or boss.")
    for attempt in (_drop_loops, _defeature):
        after = attempt(before, chosen)
        if after is not None and not _wrong(before, after, len(chosen), len(every)):
            return piece_of(after, "solid")
    raise Refused("The neighbouring faces cannot close the gap.", "Choose all faces of the feature, or fewer features at a time.")


def _drop_loops(shape: Any, chosen: list[Any]) -> Any:
    """Where every border of the chosen faces is an inner loop of its neighbours, rebuild those without the loops."""
    from OCP.BRepTools import BRepTools, BRepTools_ReShape
    from OCP.collections import IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher as ShapeMap
    from OCP.TopAbs import TopAbs_EDGE
    from OCP.TopExp import TopExp

    gone = ShapeMap()
    for face in chosen:
        gone.Add(face)
    border, inner = ShapeMap(), ShapeMap()
    for face in chosen:
        edges = ShapeMap()
        TopExp.MapShapes_s(face, TopAbs_EDGE, edges)
        for k in range(1, edges.Extent() + 1):
            (inner if border.Contains(edges.FindKey(k)) else border).Add(edges.FindKey(k))
    reshape = BRepTools_ReShape()
    met = 0
    needed = sum(1 for k in range(1, border.Extent() + 1) if not inner.Contains(border.FindKey(k)))
    for face in numbered_faces(shape):
        if gone.Contains(face):
            continue
        outer = BRepTools.OuterWire_s(face)
        keep, drop = [], 0
        for wire in _wires_of(face):
            own = parts_of(wire, "edge")
            hits = sum(border.Contains(e) for e in own)
            if hits and (hits != len(own) or wire.IsSame(outer)):
                return None
            if hits:
                drop += len(own)
            else:
                keep.append(wire)
        if drop:
            met += drop
            reshape.Replace(face, _with_wires(face, keep))
    if not met or met < needed:
        return None
    for face in chosen:
        reshape.Remove(face)
    return reshape.Apply(shape)


def _wires_of(face: Any) -> list[Any]:
    """The border wires of a face, as they run on it turned forward."""
    from OCP.TopAbs import TopAbs_FORWARD

    return parts_of(face.Oriented(TopAbs_FORWARD), "wire")


def _with_wires(face: Any, wires: list[Any]) -> Any:
    """The face with only these of its border wires."""
    from OCP.BRep import BRep_Builder
    from OCP.TopAbs import TopAbs_FORWARD

    fresh = face.Oriented(TopAbs_FORWARD).EmptyCopied()
    builder = BRep_Builder()
    for wire in wires:
        builder.Add(fresh, wire)
    return fresh.Oriented(face.Orientation())


def _defeature(shape: Any, chosen: list[Any]) -> Any:
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Defeaturing

    tool = BRepAlgoAPI_Defeaturing()
    tool.SetShape(shape)
    tool.AddFacesToRemove(shape_list(chosen))
    tool.SetRunParallel(False)
    tool.Build()
    return tool.Shape() if tool.IsDone() else None


def _wrong(before: Any, after: Any, removed: int, faces: int) -> str:
    """Why a removal cannot be trusted; empty when it can."""
    solids = parts_of(after, "solid")
    if len(solids) != 1 or not _valid(after):
        return "it is no valid single solid"
    if len(numbered_faces(after)) > faces - removed:
        return "not every face went"
    old, new = volume_of(before), volume_of(after)
    if new <= 0 or not 0.3 * old < new < 3 * old or abs(new - old) < 1e-12 * old:
        return "its volume is not plausible"
    box_old, box_new = _box(before), _box(after)
    slack = 1e-4 * float(np.linalg.norm(box_old[1] - box_old[0]))
    if np.any(box_new[0] < box_old[0] - slack) or np.any(box_new[1] > box_old[1] + slack):
        return "it grew"
    return ""


def _box(shape: Any) -> Floats:
    from OCP.Bnd import Bnd_Box
    from OCP.BRepBndLib import BRepBndLib

    box = Bnd_Box()
    BRepBndLib.Add_s(shape, box, False)
    low, high = box.CornerMin(), box.CornerMax()
    return np.array([[low.X(), low.Y(), low.Z()], [high.X(), high.Y(), high.Z()]])


def fill_sheet_holes(brep: Bytes, edges: tuple[int, ...]) -> Piece:
    """A sheet without the inner loops that the given edges (numbers of the kernel's map) belong to."""
    from OCP.BRepTools import BRepTools, BRepTools_ReShape

    shape = from_bytes(brep)
    every = numbered_edges(shape)
    chosen = [every[k] for k in edges if 0 <= k < len(every)]
    reshape = BRepTools_ReShape()
    count = 0
    for face in numbered_faces(shape):
        outer, wires = BRepTools.OuterWire_s(face), _wires_of(face)
        keep = [w for w in wires if w.IsSame(outer) or not any(c.IsSame(e) for c in chosen for e in parts_of(w, "edge"))]
        if len(keep) < len(wires):
            count += len(wires) - len(keep)
            reshape.Replace(face, _with_wires(face, keep))
    if not count:
        raise Refused("No hole inside a single face is chosen.", "Holes across a bend are left out at the midsurface instead.")
    return piece_of(reshape.Apply(shape), "sheet")


# -- splitting bodies --------------------------------------------------------------
def plane_face(origin: Floats, normal: Floats, reach: float) -> Any:
    """A square face, `reach` to every side."""
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace
    from OCP.gp import gp_Dir, gp_Pln, gp_Pnt

    plane = gp_Pln(gp_Pnt(*map(float, origin)), gp_Dir(*map(float, normal)))
    return BRepBuilderAPI_MakeFace(plane, -reach, reach, -reach, reach).Face()


def split_body(brep: Bytes, kind: str, origin: Floats, normal: Floats) -> list[Piece]:
    """The pieces of a body on both sides of a plane; their common faces have the same facets.

    Raises `Refused` when the plane misses the body.
    """
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Splitter

    shape = from_bytes(brep)
    box = _box(shape)
    reach = 2 * float(np.linalg.norm(box[1] - box[0])) + float(np.linalg.norm(box.mean(axis=0) - origin))
    tool = BRepAlgoAPI_Splitter()
    tool.SetArguments(shape_list([shape]))
    tool.SetTools(shape_list([plane_face(origin, unit(np.asarray(normal, float)), reach)]))
    tool.SetRunParallel(False)
    tool.SetFuzzyValue(1e-7 * reach)
    tool.Build()
    if not tool.IsDone():
        raise Refused("The kernel could not split the body there.", "Move the plane a little.")
    result = tool.Shape()
    pieces = parts_of(result, "solid") if kind == "solid" else _sheet_pieces(result, origin, normal)
    if len(pieces) < 2:
        raise Refused("The plane misses the body.", "Move it so that it crosses the body.")
    if kind == "solid" and abs(sum(volume_of(p) for p in pieces) / volume_of(shape) - 1) > 1e-3:
        raise Refused("The pieces do not add up to the body.", "Move the plane a little.")
    mesh_facets(result)
    return [piece_of(p, kind, faceted=True) for p in pieces]


def _sheet_pieces(result: Any, origin: Floats, normal: Floats) -> list[Any]:
    """Faces on either side of a plane, each side one sheet."""
    sides: dict[bool, list[Any]] = {True: [], False: []}
    for face in parts_of(result, "face"):
        middle = _box(face).mean(axis=0)
        sides[bool((middle - origin) @ normal > 0)].append(face)
    return [compound(faces) for faces in sides.values() if faces]


def split_by_face(brep: Bytes, face: int) -> list[Piece]:
    """The pieces of a solid on both sides of the prolonged surface of one of its faces."""
    shape = from_bytes(brep)
    faced = facet_shape(shape)
    if not 0 <= face < len(faced.faces) or faced.faces[face].carrier.kind != "plane":
        raise Refused("Only plane faces can be prolonged through the body.", "Choose a plane face, or split with a plane.")
    d = faced.faces[face].carrier.array
    return split_body(brep, "solid", d[:3], d[3:6])


def sector(brep: Bytes, kind: str, planes: list[tuple[Floats, Floats]]) -> Piece:
    """What lies on the positive side of every plane (origin, normal). Raises `Refused` when nothing is left or nothing is cut."""
    pieces = [Piece(kind, facet_shape(from_bytes(brep), solid=kind == "solid"), brep)]
    cut = False
    for origin, normal in planes:
        kept: list[Piece] = []
        for piece in pieces:
            try:
                parts = split_body(piece.brep, kind, origin, normal)
                cut = True
            except Refused:
                parts = [piece]
            kept += [p for p in parts if _side(p.shape, origin, normal) > 0]
        pieces = kept
    if not cut:
        raise Refused("The planes miss the body.", "Move them so that they cross it.")
    if not pieces:
        raise Refused("Nothing is left on that side of the planes.", "Turn the planes round.")
    if len(pieces) == 1:
        return pieces[0]
    return piece_of(compound([from_bytes(p.brep) for p in pieces]), kind)


def _side(shape: Shape, origin: Floats, normal: Floats) -> float:
    centre = shape.points[shape.facets].mean(axis=1)
    return float(((centre - origin) @ normal * shape.facet_area).sum())


# -- joining ---------------------------------------------------------------------
def share_interfaces(bodies: list[tuple[Bytes, str]], tolerance: float) -> list[Piece]:
    """The bodies with common faces and edges where they touch within a tolerance, in the given order.

    Facets of common faces are the same in both. Raises `Refused` when the kernel cannot.
    """
    from OCP.BOPAlgo import BOPAlgo_Builder

    shapes = [from_bytes(b) for b, _ in bodies]
    tool = BOPAlgo_Builder()
    for shape in shapes:
        tool.AddArgument(shape)
    tool.SetRunParallel(False)
    tool.SetFuzzyValue(tolerance)
    tool.Perform()
    if tool.HasErrors():
        raise Refused("The kernel could not join these bodies.", "Try fewer at a time, or a smaller tolerance.")
    mesh_facets(tool.Shape())
    out = []
    for shape, (_, kind) in zip(shapes, bodies, strict=True):
        sort = "solid" if kind == "solid" else "face"
        images: list[Any] = []
        for part in parts_of(shape, sort):
            modified = list(tool.Modified(part))
            images += modified if modified else ([] if tool.IsDeleted(part) else [part])
        if kind == "solid" and len(images) != 1:
            raise Refused("The bodies overlap instead of touching.", "Cut one with the other first, or move it.")
        new = images[0] if len(images) == 1 else compound(images)
        if kind == "solid" and abs(volume_of(new) / volume_of(shape) - 1) > 1e-3:
            raise Refused("The bodies overlap instead of touching.", "Cut one with the other first, or move it.")
        out.append(piece_of(new, kind, faceted=True))
    return out


def stitch(breps: list[Bytes], tolerance: float) -> Piece:
    """Sheets sewn along edges within a tolerance; what closes becomes a solid.

    Raises `Refused` when nothing was sewn.
    """
    result, closes = sewn([from_bytes(b) for b in breps], tolerance)
    if result.IsNull():
        raise Refused("The kernel could not stitch these sheets.", "Try a smaller tolerance.")
    return piece_of(result, "solid" if closes else "sheet")


def moved(brep: Bytes, kind: str, matrix: Floats) -> Piece:
    """A copy of a body under a motion, mirror or scale (3, 4)."""
    from OCP.BRepBuilderAPI import BRepBuilderAPI_Transform
    from OCP.gp import gp_Trsf

    m = np.asarray(matrix, float)
    mirrored = np.linalg.det(m[:, :3]) < 0
    move = gp_Trsf()
    if mirrored:  # the kernel takes mirrors as such: split off the mirror in z = 0
        turn = m.copy()
        turn[:, 2] *= -1
        rest = gp_Trsf()
        rest.SetValues(*turn.ravel().tolist())
        from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt

        mirror = gp_Trsf()
        mirror.SetMirror(gp_Ax2(gp_Pnt(0, 0, 0), gp_Dir(0, 0, 1)))
        move = rest.Multiplied(mirror)
    else:
        move.SetValues(*m.ravel().tolist())
    piece = piece_of(BRepBuilderAPI_Transform(from_bytes(brep), move, True).Shape(), kind)
    if kind == "solid" and piece.shape.volume < 0:
        return piece_of(from_bytes(piece.brep).Reversed(), kind)
    return piece


def edges_at(brep: Bytes, places: Floats) -> Piece:
    """The edges whose facet nodes have these means (k, 3), as a wire body."""
    shape = from_bytes(brep)
    mesh_facets(shape)
    every = numbered_edges(shape)
    means = np.array([facet_shape(e, keep_facets=True).points.mean(axis=0) for e in every])
    chosen = [every[int(np.argmin(np.linalg.norm(means - place, axis=1)))] for place in places]
    return piece_of(compound(chosen), "wire")
