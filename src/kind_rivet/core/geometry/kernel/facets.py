"""From kernel shapes to facets, faces, edges and exact carriers as arrays, and to bytes and back."""

from __future__ import annotations

import io
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import FREE, Carrier, distance, fit_curve, surface_normals, unit
from kind_rivet.core.geometry.hidden import hidden_carrier
from kind_rivet.core.geometry.kernel.slivers import normals_over, sliver_facets
from kind_rivet.core.geometry.plane_facets import plane_facets
from kind_rivet.core.geometry.shape import Edge, Face, Shape

DEFLECTION, ANGLE = 2e-4, 0.15
MOST_BORDERS = 30  # of a plane face whose facets the kernel makes
MOST_PLACES = 400  # at which a spline is asked whether it is round


def to_bytes(shape: Any) -> NDArray[np.uint8]:
    """The kernel's own binary form of a shape, without facets."""
    from OCP.BinTools import BinTools, BinTools_FormatVersion

    stream = io.BytesIO()
    BinTools.Write_s(shape, stream, False, False, BinTools_FormatVersion.BinTools_FormatVersion_CURRENT)
    return np.frombuffer(stream.getvalue(), np.uint8)


def from_bytes(data: NDArray[np.uint8]) -> Any:
    """The shape that `to_bytes` wrote; its faces and edges keep their order."""
    from OCP.BinTools import BinTools
    from OCP.TopoDS import TopoDS_Shape

    shape = TopoDS_Shape()
    BinTools.Read_s(shape, io.BytesIO(np.ascontiguousarray(data).tobytes()))
    return shape


def facet_shape(shape: Any, deflection: float = DEFLECTION, angle: float = ANGLE, solid: bool = True, keep_facets: bool = False) -> Shape:
    """Facets, faces and edges of a kernel shape as a `Shape`; nodes on edges are shared by construction.

    `deflection` is the facets' greatest distance from the surface as a share of the
    diagonal, `angle` (rad) the greatest turn between neighbouring facets. Face f of the
    result is face f + 1 of the kernel's map. Edges without faces (wires) come along.
    """
    from OCP.BRep import BRep_Tool
    from OCP.collections import IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher as ShapeMap
    from OCP.TopAbs import TopAbs_EDGE, TopAbs_FACE, TopAbs_REVERSED, TopAbs_VERTEX
    from OCP.TopExp import TopExp
    from OCP.TopLoc import TopLoc_Location
    from OCP.TopoDS import TopoDS

    size = _size_of(shape)
    if not keep_facets:
        mesh_facets(shape, deflection, angle)
    faces, edges, corners = ShapeMap(), ShapeMap(), ShapeMap()
    TopExp.MapShapes_s(shape, TopAbs_FACE, faces)
    TopExp.MapShapes_s(shape, TopAbs_EDGE, edges)
    TopExp.MapShapes_s(shape, TopAbs_VERTEX, corners)
    points: list[np.ndarray] = []
    count = 0
    corner_node: dict[int, int] = {}
    edge_nodes: dict[int, np.ndarray] = {}
    facet_list, owner_list, normal_list, face_list = [], [], [], []
    ours: list[int] = []  # crowded plane faces, whose facets are made here
    narrow: list[int] = []  # faces on which the kernel makes none

    for f in range(1, faces.Extent() + 1):
        face = TopoDS.Face(faces.FindKey(f))
        where = TopLoc_Location()
        mesh = BRep_Tool.Triangulation_s(face, where)
        if mesh is None:
            face_list.append(Face())
            (ours if is_crowded(face) else narrow).append(f)
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
    bare: set[int] = set()
    of_ours = ShapeMap()
    for f in ours:
        TopExp.MapShapes_s(faces.FindKey(f), TopAbs_EDGE, of_ours)
    for e in range(1, edges.Extent() + 1):
        edge = TopoDS.Edge(edges.FindKey(e))
        if e in edge_nodes or BRep_Tool.Degenerated_s(edge):
            continue
        along = _along(edge, deflection * size, angle)
        if along is None:
            continue
        chain = np.arange(count, count + len(along), dtype=np.int32)
        first, last = (corners.FindIndex(v) for v in _edge_ends(edge))
        for i, corner in ((0, first), (len(along) - 1, last)):
            chain[i] = corner_node.setdefault(corner, int(chain[i])) if corner else chain[i]
        points += list(along)  # ends that are shared stay in the list unused
        count += len(along)
        edge_nodes[e] = chain
        if not of_ours.Contains(edge):
            bare.add(e)
    xyz = np.array(points).reshape(-1, 3)

    def chains_of(f: int) -> list[np.ndarray]:
        own_edges = ShapeMap()
        TopExp.MapShapes_s(faces.FindKey(f), TopAbs_EDGE, own_edges)
        numbers = (edges.FindIndex(own_edges.FindKey(k)) for k in range(1, own_edges.Extent() + 1))
        return [edge_nodes[e] for e in numbers if e in edge_nodes]

    for f in ours:
        carrier, outward = _plane_of(TopoDS.Face(faces.FindKey(f)))
        made = plane_facets(xyz, chains_of(f), outward)
        if made is None:
            raise Refused("The border of a plane face crosses itself.", "Export the part again.")
        facet_list.append(made)
        owner_list.append(np.full(len(made), f - 1, np.int32))
        normal_list.append(np.broadcast_to(outward, (len(made), 3, 3)))
        face_list[f - 1] = Face(carrier)
    for f in narrow:
        made = sliver_facets(xyz, chains_of(f), np.concatenate(facet_list), deflection * size) if facet_list else None
        if made is not None:
            facet_list.append(made)
            owner_list.append(np.full(len(made), f - 1, np.int32))
            normal_list.append(normals_over(xyz, made))
    facets = np.concatenate(facet_list) if facet_list else np.empty((0, 3), np.int32)
    owner = np.concatenate(owner_list) if owner_list else np.empty(0, np.int32)
    normals = np.concatenate(normal_list) if normal_list else np.empty((0, 3, 3))
    whole = (facets[:, 0] != facets[:, 1]) & (facets[:, 1] != facets[:, 2]) & (facets[:, 2] != facets[:, 0])
    used = set(map(tuple, np.sort(facets[whole][:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1).tolist()))
    edge_list = tuple(
        Edge(chain, _curve(TopoDS.Edge(edges.FindKey(e))))
        for e, chain in sorted(edge_nodes.items())
        if e in bare or tuple(sorted(chain[:2].tolist())) in used
    )
    if not np.isfinite(xyz).all():
        raise Refused("The geometry holds coordinates that are no numbers.", "Export the part again.")
    return _without_unused(Shape(xyz, facets[whole], owner[whole], normals[whole], tuple(face_list), edge_list, solid))


def _size_of(shape: Any) -> float:
    """Diagonal of the box round a kernel shape."""
    from OCP.Bnd import Bnd_Box
    from OCP.BRepBndLib import BRepBndLib

    box = Bnd_Box()
    BRepBndLib.Add_s(shape, box)
    return 0.0 if box.IsVoid() else float(box.CornerMin().Distance(box.CornerMax()))


def mesh_facets(shape: Any, deflection: float = DEFLECTION, angle: float = ANGLE) -> None:
    """Let the kernel make facets on all faces; common faces of several bodies get one set.

    Plane faces with very many holes are left to `facet_shape`: the kernel takes minutes for them.
    """
    from OCP.BRep import BRep_Builder
    from OCP.BRepMesh import BRepMesh_IncrementalMesh
    from OCP.TopAbs import TopAbs_FACE
    from OCP.TopExp import TopExp_Explorer
    from OCP.TopoDS import TopoDS, TopoDS_Compound

    size = _size_of(shape)
    rest, build = TopoDS_Compound(), BRep_Builder()
    build.MakeCompound(rest)
    crowded = False
    walk = TopExp_Explorer(shape, TopAbs_FACE)
    while walk.More():
        face = TopoDS.Face(walk.Current())
        walk.Next()
        if is_crowded(face):
            crowded = True
        else:
            build.Add(rest, face)
    BRepMesh_IncrementalMesh(
        rest if crowded else shape, deflection * size, False, angle, False
    )  # without threads: a process with them must not fork


def is_crowded(face: Any) -> bool:
    """A plane face with more borders than MOST_BORDERS."""
    from OCP.BRepAdaptor import BRepAdaptor_Surface
    from OCP.GeomAbs import GeomAbs_SurfaceType
    from OCP.TopAbs import TopAbs_WIRE
    from OCP.TopExp import TopExp_Explorer

    borders = 0
    walk = TopExp_Explorer(face, TopAbs_WIRE)
    while walk.More() and borders <= MOST_BORDERS:
        borders += 1
        walk.Next()
    return borders > MOST_BORDERS and BRepAdaptor_Surface(face).GetType() == GeomAbs_SurfaceType.GeomAbs_Plane


def _plane_of(face: Any) -> tuple[Carrier, np.ndarray]:
    """Carrier of a plane face and its outward normal (3,)."""
    from OCP.BRepAdaptor import BRepAdaptor_Surface
    from OCP.gp import gp_Pnt, gp_Vec
    from OCP.TopAbs import TopAbs_REVERSED

    surface = BRepAdaptor_Surface(face)
    at, du, dv = gp_Pnt(), gp_Vec(), gp_Vec()
    surface.D1(0.0, 0.0, at, du, dv)
    outward = unit(np.array(_xyz(du.Crossed(dv))))
    return _analytic(surface, np.array([_xyz(at)])), -outward if face.Orientation() == TopAbs_REVERSED else outward


def _without_unused(shape: Shape) -> Shape:
    """Points that neither facets nor edges use are left out."""
    used = np.zeros(len(shape.points), bool)
    used[shape.facets.ravel()] = True
    for edge in shape.edges:
        used[edge.nodes] = True
    if used.all():
        return shape
    number = (np.cumsum(used) - 1).astype(np.int32)
    edges = tuple(Edge(number[e.nodes], e.carrier) for e in shape.edges)
    return Shape(shape.points[used], number[shape.facets], shape.facet_face, shape.normals, shape.faces, edges, shape.solid)


def _along(edge: Any, deflection: float, angle: float) -> np.ndarray | None:
    """Points (n, 3) along an edge that belongs to no face."""
    from OCP.BRepAdaptor import BRepAdaptor_Curve
    from OCP.GCPnts import GCPnts_TangentialDeflection

    curve = BRepAdaptor_Curve(edge)
    along = GCPnts_TangentialDeflection(curve, angle, max(deflection, 1e-9))
    if along.NbPoints() < 2:
        return None
    return np.array([_xyz(along.Value(i)) for i in range(1, along.NbPoints() + 1)])


def _edge_ends(edge: Any) -> tuple[Any, Any]:
    """First and last vertex along the edge's own curve."""
    from OCP.TopAbs import TopAbs_FORWARD
    from OCP.TopExp import TopExp
    from OCP.TopoDS import TopoDS

    forward = TopoDS.Edge(edge.Oriented(TopAbs_FORWARD))
    return TopExp.FirstVertex_s(forward), TopExp.LastVertex_s(forward)


def _curve(edge: Any) -> Carrier:
    """The line or circle that an edge's curve is, given as a spline too; else `FREE`."""
    from OCP.BRepAdaptor import BRepAdaptor_Curve
    from OCP.GeomAbs import GeomAbs_CurveType as Kind

    curve = BRepAdaptor_Curve(edge)
    if curve.GetType() == Kind.GeomAbs_Line:
        line = curve.Line()
        return Carrier("line", (*_xyz(line.Location()), *_xyz(line.Direction())))
    if curve.GetType() == Kind.GeomAbs_Circle:
        circle = curve.Circle()
        return Carrier("circle", (*_xyz(circle.Location()), *_xyz(circle.Axis().Direction()), circle.Radius()))
    places = np.linspace(curve.FirstParameter(), curve.LastParameter(), 17)
    points = np.array([_xyz(curve.Value(t)) for t in places.tolist()])
    return fit_curve(points, 1e-6 * float(np.linalg.norm(np.ptp(points, axis=0))))


def _xyz(p: Any) -> tuple[float, float, float]:
    return (p.X(), p.Y(), p.Z())


def _carrier_and_normals(face: Any, mesh: Any, local: np.ndarray, tri: np.ndarray, reverse: bool) -> tuple[Carrier, np.ndarray]:
    """Carrier of a face and exact outward normals at its facet nodes (n, 3)."""
    from OCP.BRepAdaptor import BRepAdaptor_Surface
    from OCP.gp import gp_Pnt, gp_Vec

    surface = BRepAdaptor_Surface(face)
    carrier = _analytic(surface, local)
    if carrier.kind == "free":
        carrier = _hidden_carrier(face, surface, mesh, local, tri)
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


def _analytic(surface: Any, local: np.ndarray) -> Carrier:
    """Carrier of a kernel surface; `FREE` for splines and the like."""
    from OCP.GeomAbs import GeomAbs_SurfaceType as Kind

    kind = surface.GetType()
    if kind == Kind.GeomAbs_Plane:
        plane = surface.Plane()
        return Carrier("plane", (*_xyz(plane.Location()), *_xyz(plane.Axis().Direction())))
    if kind == Kind.GeomAbs_Cylinder:
        c = surface.Cylinder()
        return Carrier("cylinder", (*_xyz(c.Location()), *_xyz(c.Axis().Direction()), c.Radius()))
    if kind == Kind.GeomAbs_Cone:
        cone = surface.Cone()
        axis, apex = np.array(_xyz(cone.Axis().Direction())), np.array(_xyz(cone.Apex()))
        if (local.mean(axis=0) - apex) @ axis < 0:
            axis = -axis
        return Carrier("cone", (*apex, *axis, abs(cone.SemiAngle())))
    if kind == Kind.GeomAbs_Sphere:
        s = surface.Sphere()
        return Carrier("sphere", (*_xyz(s.Location()), s.Radius()))
    if kind == Kind.GeomAbs_Torus:
        torus = surface.Torus()
        return Carrier("torus", (*_xyz(torus.Location()), *_xyz(torus.Axis().Direction()), torus.MajorRadius(), torus.MinorRadius()))
    return FREE


def _places_on_spline(surface: Any, mesh: Any, tri: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Places (m, 3) at the nodes and within the facets of a face, and the exact unit normals there; none beside poles."""
    from OCP.gp import gp_Pnt, gp_Vec

    if not mesh.HasUVNodes():
        return np.zeros((0, 3)), np.zeros((0, 3))
    uv = np.array([(q.X(), q.Y()) for q in (mesh.UVNode(i + 1) for i in range(mesh.NbNodes()))])
    inside = uv[tri].mean(axis=1)
    uv = np.concatenate((uv[:: max(1, len(uv) // MOST_PLACES)], inside[:: max(1, len(inside) // MOST_PLACES)]))
    places, normals, sweep = np.zeros((len(uv), 3)), np.zeros((len(uv), 3)), np.zeros(len(uv))
    point, du, dv = gp_Pnt(), gp_Vec(), gp_Vec()
    for i, (u, v) in enumerate(uv.tolist()):
        surface.D1(u, v, point, du, dv)
        n = du.Crossed(dv)
        places[i], normals[i], sweep[i] = _xyz(point), _xyz(n), n.Magnitude()
    known = sweep > 1e-3 * np.median(sweep)  # beside poles the normals are not exact
    return places[known], unit(normals[known])


def _hidden_carrier(face: Any, surface: Any, mesh: Any, local: np.ndarray, tri: np.ndarray) -> Carrier:
    """The plane, cylinder, cone, sphere or torus that a spline face really is, to a millionth of the face's size."""
    from OCP.BRep import BRep_Tool
    from OCP.GeomAdaptor import GeomAdaptor_Surface
    from OCP.GeomConvert import GeomConvert_SurfToAnaSurf

    found = hidden_carrier(*_places_on_spline(surface, mesh, tri))
    size = float(np.linalg.norm(np.ptp(local, axis=0)))
    if found.kind != "free" and distance(found, local).max() <= 1e-5 * size:
        return found
    bounds = (surface.FirstUParameter(), surface.LastUParameter(), surface.FirstVParameter(), surface.LastVParameter())
    try:
        other = GeomConvert_SurfToAnaSurf(BRep_Tool.Surface_s(face)).ConvertToAnalytical(1e-6 * size, *bounds)
    except Exception:  # the kernel gives up on some splines with errors of many kinds
        return FREE
    if other is None:
        return FREE
    carrier = _analytic(GeomAdaptor_Surface(other), local)
    return carrier if carrier.kind != "free" and distance(carrier, local).max() <= 1e-5 * size else FREE
