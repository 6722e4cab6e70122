"""Reading B-rep files with the CAD kernel: the only module that imports it.

The kernel may crash or hang on damaged files, so `read_step` is meant to run in a
process that can be killed (`kind_rivet.worker`); everything it returns is arrays.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from kind_rivet.core.errors import Unreadable
from kind_rivet.core.geometry.carriers import FREE, Carrier, unit
from kind_rivet.core.geometry.shape import Edge, Face, Shape


@dataclass(frozen=True)
class ReadBody:
    """One body as it came from the file."""

    name: str
    colour: str
    shape: Shape


@dataclass(frozen=True)
class ReadResult:
    bodies: tuple[ReadBody, ...]
    file_unit: str
    warnings: tuple[str, ...]


def check_step_text(path: Path) -> None:
    """Refuse what is plainly no complete STEP file before the kernel sees it.

    Raises `Unreadable` for a missing file, a folder, an empty file, another format
    or a file that ends before its closing section.
    """
    if not path.exists():
        raise Unreadable(f"There is no file {path}.", "Check the name and the folder.")
    if path.is_dir():
        raise Unreadable(f"{path} is a folder, not a STEP file.", "Choose a .step or .stp file inside it.")
    try:
        size = path.stat().st_size
        with path.open("rb") as file:
            head = file.read(4096)
            file.seek(max(0, size - 4096))
            tail = file.read()
    except OSError as error:
        raise Unreadable(f"{path.name} cannot be read ({error.strerror}).", "Check the permissions of the file.") from error
    if not head.strip():
        raise Unreadable(f"{path.name} is empty.", "Export the part from the CAD system again.")
    if b"ISO-10303-21" not in head:
        raise Unreadable(
            f"{path.name} is not a STEP file: its first line does not say ISO-10303-21.", "Export the part as STEP (AP203, AP214 or AP242)."
        )
    if b"END-ISO-10303-21" not in tail:
        raise Unreadable(f"{path.name} ends in the middle: its closing line is missing.", "Copy or export the file again.")


def read_step(path: Path, deflection: float = 2e-4, angle: float = 0.15) -> ReadResult:
    """Bodies of a STEP file in millimetres with names and colours.

    `deflection` is the facets' greatest distance from the surface as a share of the
    body's diagonal, `angle` (rad) the greatest turn between neighbouring facets.
    Raises `Unreadable` with the reason.
    """
    check_step_text(path)
    from OCP.collections import Sequence_TCollection_AsciiString
    from OCP.IFSelect import IFSelect_RetDone
    from OCP.Interface import Interface_Static
    from OCP.Message import Message, Message_Gravity
    from OCP.STEPCAFControl import STEPCAFControl_Reader
    from OCP.STEPControl import STEPControl_Controller
    from OCP.TCollection import TCollection_ExtendedString
    from OCP.TDocStd import TDocStd_Document
    from OCP.XCAFApp import XCAFApp_Application

    for printer in Message.DefaultMessenger_s().Printers():
        printer.SetTraceLevel(Message_Gravity.Message_Fail)
    STEPControl_Controller.Init_s()
    Interface_Static.SetIVal_s("read.stepcaf.subshapes.name", 1)
    app = XCAFApp_Application.GetApplication_s()
    document = TDocStd_Document(TCollection_ExtendedString("MDTV-XCAF"))
    app.NewDocument(TCollection_ExtendedString("MDTV-XCAF"), document)
    reader = STEPCAFControl_Reader()
    reader.SetColorMode(True)
    reader.SetNameMode(True)
    if reader.ReadFile(str(path)) != IFSelect_RetDone:
        raise Unreadable(f"{path.name} cannot be read as STEP: its contents do not follow the format.", "Export the part again.")
    warnings: list[str] = []
    fails = _model_faults(reader)
    if fails:
        raise Unreadable(f"{path.name} is damaged: {fails} of its entries are faulty.", "Export the part again.")
    lengths, angles, solid_angles = (Sequence_TCollection_AsciiString() for _ in range(3))
    reader.ChangeReader().FileUnits(lengths, angles, solid_angles)
    unit_name = lengths.Value(1).ToCString() if lengths.Length() else "millimetre"
    if not reader.Transfer(document):
        raise Unreadable(f"{path.name} holds nothing that can be turned into geometry.", "Export the part as a solid.")
    found = _bodies(document)
    if not found:
        raise Unreadable(f"{path.name} holds no solid.", "Export the part as a solid, not as curves or drawing.")
    bodies = []
    for name, colour, shape in found:
        faceted = facet_shape(shape, deflection, angle)
        if faceted.volume <= 1e-12 * faceted.diagonal**3:
            warnings.append(f"{name}: the solid is open or inside out and was left out.")
            continue
        bodies.append(ReadBody(name or path.stem, colour, faceted))
    if not bodies:
        raise Unreadable(f"{path.name} holds no closed solid.", "Close the solid in the CAD system and export it again.")
    return ReadResult(tuple(bodies), unit_name.lower(), tuple(warnings))


def _model_faults(reader: Any) -> int:
    """Entries the kernel's model check calls faulty; healthy files have none."""
    checks = reader.ChangeReader().WS().ModelCheckList()
    total = 0
    checks.Start()
    while checks.More():
        total += checks.Value().NbFails()
        checks.Next()
    return total


def _bodies(document: Any) -> list[tuple[str, str, Any]]:
    """Name, colour and located solid of every solid in the document tree."""
    from OCP.collections import Sequence_TDF_Label
    from OCP.TopAbs import TopAbs_SOLID
    from OCP.TopExp import TopExp_Explorer
    from OCP.TopLoc import TopLoc_Location
    from OCP.XCAFDoc import XCAFDoc_DocumentTool, XCAFDoc_ShapeTool

    tool = XCAFDoc_DocumentTool.ShapeTool_s(document.Main())
    out: list[tuple[str, str, Any]] = []

    def walk(label: Any, where: Any, name: str) -> None:
        from OCP.TDF import TDF_Label

        own = _label_name(label) or name
        if XCAFDoc_ShapeTool.IsReference_s(label):
            target = TDF_Label()
            XCAFDoc_ShapeTool.GetReferredShape_s(label, target)
            walk(target, where.Multiplied(XCAFDoc_ShapeTool.GetLocation_s(label)), own)
            return
        if XCAFDoc_ShapeTool.IsAssembly_s(label):
            parts = Sequence_TDF_Label()
            XCAFDoc_ShapeTool.GetComponents_s(label, parts)
            for i in range(1, parts.Length() + 1):
                walk(parts.Value(i), where, own)
            return
        shape = XCAFDoc_ShapeTool.GetShape_s(label)
        explorer = TopExp_Explorer(shape, TopAbs_SOLID)
        while explorer.More():
            out.append((own, _label_colour(document, label), explorer.Current().Moved(where)))
            explorer.Next()

    roots = Sequence_TDF_Label()
    tool.GetFreeShapes(roots)
    for i in range(1, roots.Length() + 1):
        walk(roots.Value(i), TopLoc_Location(), "")
    counts: dict[str, int] = {}
    for name, _, _ in out:
        counts[name] = counts.get(name, 0) + 1
    seen: dict[str, int] = {}
    named = []
    for name, colour, shape in out:
        if counts[name] > 1:
            seen[name] = seen.get(name, 0) + 1
            name = f"{name} {seen[name]}"
        named.append((name, colour, shape))
    return named


def _label_name(label: Any) -> str:
    from OCP.TDataStd import TDataStd_Name

    identity = TDataStd_Name.GetID_s()
    if not label.IsAttribute(identity):  # FindAttribute crashes when it is absent
        return ""
    attribute = TDataStd_Name()
    label.FindAttribute(identity, attribute)
    return str(attribute.Get().ToExtString())


def _label_colour(document: Any, label: Any) -> str:
    from OCP.Quantity import Quantity_Color
    from OCP.XCAFDoc import XCAFDoc_ColorTool, XCAFDoc_ColorType

    colour = Quantity_Color()
    for kind in (XCAFDoc_ColorType.XCAFDoc_ColorSurf, XCAFDoc_ColorType.XCAFDoc_ColorGen):
        if XCAFDoc_ColorTool.GetColor_s(label, kind, colour):
            linear = np.array([colour.Red(), colour.Green(), colour.Blue()])
            srgb = np.where(linear <= 0.0031308, 12.92 * linear, 1.055 * linear ** (1 / 2.4) - 0.055)
            return "#" + "".join(f"{round(float(c) * 255):02X}" for c in np.clip(srgb, 0, 1))
    return ""


def facet_shape(shape: Any, deflection: float, angle: float) -> Shape:
    """Facets, faces and edges of a kernel shape as a `Shape`; nodes on edges are shared by construction."""
    from OCP.Bnd import Bnd_Box
    from OCP.BRep import BRep_Tool
    from OCP.BRepBndLib import BRepBndLib
    from OCP.BRepMesh import BRepMesh_IncrementalMesh
    from OCP.collections import IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher as ShapeMap
    from OCP.TopAbs import TopAbs_EDGE, TopAbs_FACE, TopAbs_REVERSED, TopAbs_VERTEX
    from OCP.TopExp import TopExp
    from OCP.TopLoc import TopLoc_Location
    from OCP.TopoDS import TopoDS

    box = Bnd_Box()
    BRepBndLib.Add_s(shape, box)
    low, high = box.CornerMin(), box.CornerMax()
    size = low.Distance(high)
    BRepMesh_IncrementalMesh(shape, deflection * size, False, angle, False)  # without threads: a process with them must not fork
    faces, edges, corners = ShapeMap(), ShapeMap(), ShapeMap()
    TopExp.MapShapes_s(shape, TopAbs_FACE, faces)
    TopExp.MapShapes_s(shape, TopAbs_EDGE, edges)
    TopExp.MapShapes_s(shape, TopAbs_VERTEX, corners)
    points: list[np.ndarray] = []
    count = 0
    corner_node: dict[int, int] = {}
    edge_nodes: dict[int, np.ndarray] = {}
    facet_list, owner_list, normal_list, face_list = [], [], [], []

    for f in range(1, faces.Extent() + 1):
        face = TopoDS.Face(faces.FindKey(f))
        where = TopLoc_Location()
        mesh = BRep_Tool.Triangulation_s(face, where)
        if mesh is None:
            face_list.append(Face())
            continue
        move = where.Transformation()
        n = mesh.NbNodes()
        local = np.empty((n, 3))
        for i in range(1, n + 1):
            p = mesh.Node(i).Transformed(move)
            local[i - 1] = p.X(), p.Y(), p.Z()
        node = np.full(n, -1, np.int32)
        own_edges = ShapeMap()
        TopExp.MapShapes_s(face, TopAbs_EDGE, own_edges)
        for k in range(1, own_edges.Extent() + 1):
            edge = TopoDS.Edge(own_edges.FindKey(k))
            on_face = BRep_Tool.PolygonOnTriangulation_s(edge, mesh, where)
            if on_face is None or BRep_Tool.Degenerated_s(edge):
                continue
            ids = np.array([on_face.Node(i) for i in range(1, on_face.NbNodes() + 1)], np.int32) - 1
            e = edges.FindIndex(edge)
            first, last = (corners.FindIndex(v) for v in _edge_ends(edge))
            if e not in edge_nodes:
                chain = np.empty(len(ids), np.int32)
                for i, number in enumerate(ids):
                    corner = first if i == 0 else last if i == len(ids) - 1 else 0
                    if corner and corner in corner_node:
                        chain[i] = corner_node[corner]
                        continue
                    points.append(local[number])
                    chain[i] = count
                    if corner:
                        corner_node[corner] = count
                    count += 1
                edge_nodes[e] = chain
            chain = edge_nodes[e]
            if len(chain) == len(ids):
                node[ids] = chain
            if BRep_Tool.IsClosed_s(edge, face):  # a seam: its second side uses other local nodes
                second = BRep_Tool.PolygonOnTriangulation_s(TopoDS.Edge(edge.Reversed()), mesh, where)
                if second is not None:
                    other = np.array([second.Node(i) for i in range(1, second.NbNodes() + 1)], np.int32) - 1
                    if len(other) == len(chain):
                        node[other] = chain
        missing = np.flatnonzero(node < 0)
        # Degenerated edges (apex of a cone, pole of a sphere) leave several nodes at one point: weld those.
        spots: dict[tuple[float, ...], int] = {}
        for i in missing.tolist():
            key = tuple(np.round(local[i] / (1e-9 * size + 1e-300)).tolist())
            if key not in spots:
                spots[key] = count
                points.append(local[i])
                count += 1
            node[i] = spots[key]
        reverse = face.Orientation() == TopAbs_REVERSED
        tri = np.array([mesh.Triangle(i).Get() for i in range(1, mesh.NbTriangles() + 1)], np.int32).reshape(-1, 3) - 1
        if reverse:
            tri = tri[:, [0, 2, 1]]
        carrier, normal = _carrier_and_normals(face, mesh, local, tri, reverse)
        facet_list.append(node[tri])
        owner_list.append(np.full(len(tri), f - 1, np.int32))
        normal_list.append(normal[tri])
        face_list.append(Face(carrier))
    xyz = np.array(points).reshape(-1, 3)
    facets = np.concatenate(facet_list) if facet_list else np.empty((0, 3), np.int32)
    owner = np.concatenate(owner_list) if owner_list else np.empty(0, np.int32)
    normals = np.concatenate(normal_list) if normal_list else np.empty((0, 3, 3))
    whole = (facets[:, 0] != facets[:, 1]) & (facets[:, 1] != facets[:, 2]) & (facets[:, 2] != facets[:, 0])
    edge_list = tuple(Edge(chain, _curve(TopoDS.Edge(edges.FindKey(e)))) for e, chain in sorted(edge_nodes.items()))
    used = set(map(tuple, np.sort(facets[whole][:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1).tolist()))
    edge_list = tuple(e for e in edge_list if tuple(sorted(e.nodes[:2].tolist())) in used)
    return Shape(xyz, facets[whole], owner[whole], normals[whole], tuple(face_list), edge_list)


def _edge_ends(edge: Any) -> tuple[Any, Any]:
    """First and last vertex along the edge's own curve."""
    from OCP.TopAbs import TopAbs_FORWARD
    from OCP.TopExp import TopExp
    from OCP.TopoDS import TopoDS

    forward = TopoDS.Edge(edge.Oriented(TopAbs_FORWARD))
    return TopExp.FirstVertex_s(forward), TopExp.LastVertex_s(forward)


def _curve(edge: Any) -> Carrier:
    from OCP.BRepAdaptor import BRepAdaptor_Curve
    from OCP.GeomAbs import GeomAbs_CurveType as Kind

    curve = BRepAdaptor_Curve(edge)
    if curve.GetType() == Kind.GeomAbs_Line:
        line = curve.Line()
        return Carrier("line", (*_xyz(line.Location()), *_xyz(line.Direction())))
    if curve.GetType() == Kind.GeomAbs_Circle:
        circle = curve.Circle()
        return Carrier("circle", (*_xyz(circle.Location()), *_xyz(circle.Axis().Direction()), circle.Radius()))
    return FREE


def _xyz(p: Any) -> tuple[float, float, float]:
    return (p.X(), p.Y(), p.Z())


def _carrier_and_normals(face: Any, mesh: Any, local: np.ndarray, tri: np.ndarray, reverse: bool) -> tuple[Carrier, np.ndarray]:
    """Carrier of a face and exact outward normals at its facet nodes (n, 3)."""
    from OCP.BRep import BRep_Tool
    from OCP.BRepAdaptor import BRepAdaptor_Surface
    from OCP.GeomAbs import GeomAbs_SurfaceType as Kind
    from OCP.GeomLib import GeomLib_IsPlanarSurface
    from OCP.gp import gp_Pnt, gp_Vec

    surface = BRepAdaptor_Surface(face)
    kind = surface.GetType()
    carrier = FREE
    if kind == Kind.GeomAbs_Plane:
        plane = surface.Plane()
        carrier = Carrier("plane", (*_xyz(plane.Location()), *_xyz(plane.Axis().Direction())))
    elif kind == Kind.GeomAbs_Cylinder:
        c = surface.Cylinder()
        carrier = Carrier("cylinder", (*_xyz(c.Location()), *_xyz(c.Axis().Direction()), c.Radius()))
    elif kind == Kind.GeomAbs_Cone:
        cone = surface.Cone()
        axis = np.array(_xyz(cone.Axis().Direction()))
        angle = cone.SemiAngle()
        apex = np.array(_xyz(cone.Apex()))
        middle = local.mean(axis=0)
        if (middle - apex) @ axis < 0:
            axis = -axis
        carrier = Carrier("cone", (*apex, *axis, abs(angle)))
    elif kind == Kind.GeomAbs_Sphere:
        s = surface.Sphere()
        carrier = Carrier("sphere", (*_xyz(s.Location()), s.Radius()))
    elif kind == Kind.GeomAbs_Torus:
        torus = surface.Torus()
        carrier = Carrier("torus", (*_xyz(torus.Location()), *_xyz(torus.Axis().Direction()), torus.MajorRadius(), torus.MinorRadius()))
    else:
        flat = GeomLib_IsPlanarSurface(BRep_Tool.Surface_s(face), 1e-6)
        if flat.IsPlanar():
            plane = flat.Plan()
            moved = surface.Trsf()
            plane.Transform(moved)
            carrier = Carrier("plane", (*_xyz(plane.Location()), *_xyz(plane.Axis().Direction())))
    facet = np.cross(local[tri[:, 1]] - local[tri[:, 0]], local[tri[:, 2]] - local[tri[:, 0]])
    rough = np.zeros_like(local)
    for k in range(3):
        np.add.at(rough, tri[:, k], facet)
    rough = unit(rough)
    if carrier.kind == "plane":
        normal = np.broadcast_to(carrier.array[3:6], local.shape).copy()
    elif carrier.kind != "free":
        normal = surface_normals(carrier, local)
    else:
        normal = rough.copy()
        if mesh.HasUVNodes():
            point, du, dv = gp_Pnt(), gp_Vec(), gp_Vec()
            for i in range(len(local)):
                uv = mesh.UVNode(i + 1)
                surface.D1(uv.X(), uv.Y(), point, du, dv)
                n = du.Crossed(dv)
                if n.Magnitude() > 1e-12 * (du.Magnitude() * dv.Magnitude() + 1e-300):
                    normal[i] = _xyz(n)
            normal = unit(normal)
    flip = np.einsum("ij,ij->i", normal, rough) < 0
    if flip.mean() > 0.5:
        flip[:] = True
    elif carrier.kind != "free":
        flip[:] = False
    normal[flip] *= -1
    return carrier, normal


def surface_normals(carrier: Carrier, points: np.ndarray) -> np.ndarray:
    """Unit normals (n, 3) of a round carrier, pointing away from its axis or centre."""
    d = carrier.array
    if carrier.kind == "sphere":
        return unit(points - d[:3])
    h = ((points - d[:3]) @ d[3:6])[:, None] * d[3:6]
    radial = unit(points - d[:3] - h)
    if carrier.kind == "cone":
        return np.cos(d[6]) * radial - np.sin(d[6]) * d[3:6]
    if carrier.kind == "torus":
        return unit(points - d[:3] - d[6] * radial)
    return radial
