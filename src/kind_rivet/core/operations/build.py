"""Part: build geometry around what came in — planes, points, lines, circles, faces, sheets, copies."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np
from pydantic import Field

from kind_rivet.core.document.changes import WorkingPlane, WorkingPoint
from kind_rivet.core.document.document import Document
from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Triple, frame, triple, unit
from kind_rivet.core.geometry.kernel import build, edits
from kind_rivet.core.geometry.kernel.edits import Piece
from kind_rivet.core.geometry.measure import circle_through
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.operations.bodies import exact, with_kernel
from kind_rivet.core.operations.part import free_name, new_body
from kind_rivet.core.operations.registry import Parameters, Progress, operation


def _added(document: Document, name: str, piece: Piece, sentence: str) -> Document:
    body = new_body(document, free_name(document, name), piece.kind, piece.shape, piece.brep)
    return replace(document, bodies=(*document.bodies, body), notes=(sentence.format(name=body.name),))


def _number(document: Document, lot: str) -> int:
    return len(getattr(document, lot)) + 1


# -- planes and points --------------------------------------------------------------
class BuildPlane(Parameters):
    way: Literal["three points", "face", "origin and normal"] = Field("three points", title="By")
    points: tuple[Triple, ...] = Field((), title="Points", description="Three points, or the origin")
    normal: Triple = Field((0.0, 0.0, 1.0), title="Normal")
    body: int = Field(0, title="Body", description="By face: the body")
    face: int = Field(-1, title="Face", description="By face: a plane face, from 0")
    offset: float = Field(0.0, title="Offset", description="Along the normal", json_schema_extra={"unit": "length"})
    name: str = Field("", title="Name")


@operation("build.plane", "Working plane", "part", BuildPlane)
def build_plane(document: Document, parameters: BuildPlane, progress: Progress) -> Document:
    """A plane to build on and to cut with: through three points, on a face, or by origin and normal, on wish offset."""
    if parameters.way == "three points":
        if len(parameters.points) != 3:
            raise Refused("A plane needs three points.", "Choose three points in the Stage.")
        a, b, c = (np.array(p) for p in parameters.points)
        origin, normal = a, np.cross(b - a, c - a)
        if np.linalg.norm(normal) < 1e-9 * max(float(np.linalg.norm(b - a)), 1e-300) * max(float(np.linalg.norm(c - a)), 1e-300):
            raise Refused("The three points lie in a line, so no plane is fixed by them.", "Choose a third point off the line.")
    elif parameters.way == "face":
        body = document.body(parameters.body)
        if not 0 <= parameters.face < len(body.shape.faces) or body.shape.faces[parameters.face].carrier.kind != "plane":
            raise Refused("That is no plane face.", "Choose a plane face in the Stage.")
        mine = body.shape.facet_face == parameters.face
        origin = body.shape.points[body.shape.facets[mine]].mean(axis=(0, 1))
        normal = body.shape.facet_normal[mine].mean(axis=0)
    else:
        origin = np.array(parameters.points[0] if parameters.points else (0.0, 0.0, 0.0))
        normal = np.array(parameters.normal)
    if np.linalg.norm(normal) < 1e-12:
        raise Refused("The plane has no direction.", "Give a normal that is not zero.")
    normal = unit(normal)
    name = parameters.name or f"Plane {_number(document, 'planes')}"
    plane = WorkingPlane(name, triple(origin + parameters.offset * normal), triple(normal))
    return replace(document, planes=(*(p for p in document.planes if p.name != name), plane), notes=(f"Working plane {name}.",))


class BuildPoint(Parameters):
    way: Literal["coordinates", "midpoint", "intersection", "arc centre", "projected"] = Field("coordinates", title="By")
    points: tuple[Triple, ...] = Field((), title="Points", description="One; for a midpoint two; for an intersection four (two lines)")
    body: int = Field(0, title="Body", description="Arc centre, projection: the body")
    edge: int = Field(-1, title="Edge", description="Arc centre: the edge, from 0")
    name: str = Field("", title="Name")


@operation("build.point", "Working point", "part", BuildPoint)
def build_point(document: Document, parameters: BuildPoint, progress: Progress) -> Document:
    """A point to build on: at coordinates, midway, where two lines meet, at an arc's centre, or projected onto a body."""
    p = [np.array(q) for q in parameters.points]
    needed = {"coordinates": 1, "midpoint": 2, "intersection": 4, "arc centre": 0, "projected": 1}[parameters.way]
    if len(p) < needed:
        raise Refused(f"This needs {needed} point{'s' if needed > 1 else ''}.", "Choose them in the Stage or type coordinates.")
    if parameters.way == "coordinates":
        place = p[0]
    elif parameters.way == "midpoint":
        place = (p[0] + p[1]) / 2
    elif parameters.way == "intersection":
        place = _crossing(*p[:4])
    elif parameters.way == "arc centre":
        shape = document.body(parameters.body).shape
        if not 0 <= parameters.edge < len(shape.edges) or shape.edges[parameters.edge].carrier.kind != "circle":
            raise Refused("That edge is no arc.", "Choose a round edge in the Stage.")
        place = shape.edges[parameters.edge].carrier.array[:3]
    else:
        shape = document.body(parameters.body).shape
        if not len(shape.facets):
            raise Refused("That body has no faces to project onto.", "Choose a solid or a sheet.")
        facet, weight, _ = FacetTree.over(shape.points, shape.facets).nearest(p[0][None])
        place = weight[0] @ shape.points[shape.facets[facet[0]]]
    name = parameters.name or f"Point {_number(document, 'points')}"
    words = ", ".join(f"{v:.5g}" for v in place)
    points = (*(q for q in document.points if q.name != name), WorkingPoint(name, triple(place)))
    return replace(document, points=points, notes=(f"{name} at ({words}).",))


def _crossing(a: np.ndarray, b: np.ndarray, c: np.ndarray, d: np.ndarray) -> np.ndarray:
    """Where the lines a–b and c–d meet. Raises `Refused` when they run past each other."""
    u, v = b - a, d - c
    n = np.cross(u, v)
    if n @ n < 1e-12 * (u @ u) * (v @ v):
        raise Refused("The two lines are parallel.", "Choose lines that cross.")
    s = np.cross(c - a, v) @ n / (n @ n)
    t = np.cross(c - a, u) @ n / (n @ n)
    one, two = a + s * u, c + t * v
    if np.linalg.norm(one - two) > 1e-3 * max(float(np.linalg.norm(u)), float(np.linalg.norm(v))):
        raise Refused(f"The lines pass each other at {np.linalg.norm(one - two):.3g}.", "Choose lines that cross.")
    return (one + two) / 2


# -- curves --------------------------------------------------------------------------
class BuildLine(Parameters):
    points: tuple[Triple, ...] = Field(min_length=2, title="Points")
    closed: bool = Field(False, title="Back to the start")
    name: str = Field("Line", title="Name")


@operation("build.line", "Line", "part", BuildLine)
def build_line(document: Document, parameters: BuildLine, progress: Progress) -> Document:
    """Straight lines from point to point, on wish back to the first."""
    points = np.array(parameters.points)
    if parameters.closed:
        points = np.vstack((points, points[:1]))
    return _added(document, parameters.name, build.line(points), f"{{name}}: {len(points) - 1} lines.")


class BuildCircle(Parameters):
    way: Literal["centre and radius", "three points"] = Field("centre and radius", title="By")
    points: tuple[Triple, ...] = Field(min_length=1, title="Points", description="The centre, or three points on the circle")
    radius: float = Field(10.0, gt=0, title="Radius", json_schema_extra={"unit": "length"})
    axis: Triple = Field((0.0, 0.0, 1.0), title="Axis")
    name: str = Field("Circle", title="Name")


@operation("build.circle", "Circle", "part", BuildCircle)
def build_circle(document: Document, parameters: BuildCircle, progress: Progress) -> Document:
    """A circle about a centre, or through three points."""
    if parameters.way == "three points":
        if len(parameters.points) < 3:
            raise Refused("This needs three points.", "Choose them in the Stage.")
        centre, axis, radius = circle_through(*(np.array(p) for p in parameters.points[:3]))
    else:
        centre, axis, radius = np.array(parameters.points[0]), np.array(parameters.axis), parameters.radius
    return _added(document, parameters.name, build.circle(centre, axis, radius), f"{{name}}: radius {radius:.5g} {document.units}.")


class ScaleOutline(Parameters):
    body: int = Field(title="Body")
    about: Triple = Field(title="About")
    factor: float = Field(1.5, gt=0, title="Factor")


@operation("build.scale", "Scaled copy about a point", "part", ScaleOutline)
def scale_outline(document: Document, parameters: ScaleOutline, progress: Progress) -> Document:
    """A copy of an outline, sheet or solid, larger or smaller about a point."""
    body = exact(document, parameters.body)
    about = np.array(parameters.about)
    matrix = np.column_stack((parameters.factor * np.eye(3), (1 - parameters.factor) * about))
    piece = with_kernel(edits.moved, (body.brep, body.kind, matrix), "scaling")
    return _added(document, f"{body.name} × {parameters.factor:g}", piece, "{name} made.")


class ProjectCurve(Parameters):
    curve: int = Field(title="Curve")
    body: int = Field(title="Onto body")
    direction: Triple = Field((0.0, 0.0, -1.0), title="Along")


@operation("build.project", "Project a curve", "part", ProjectCurve)
def project_curve(document: Document, parameters: ProjectCurve, progress: Progress) -> Document:
    """A curve's shadow on a body, along a direction."""
    curve, body = exact(document, parameters.curve), exact(document, parameters.body)
    if np.linalg.norm(parameters.direction) < 1e-12:
        raise Refused("The direction is zero.", "Give one.")
    piece = with_kernel(build.project_curve, (curve.brep, body.brep, np.array(parameters.direction)), "projecting")
    return _added(document, f"{curve.name} on {body.name}", piece, "{name}: projected.")


# -- faces and sheets -------------------------------------------------------------------
class BuildFace(Parameters):
    curves: tuple[int, ...] = Field(min_length=1, title="Curves", description="The border and, inside it, the borders of holes")
    name: str = Field("Face", title="Name")


@operation("build.face", "Plane face", "part", BuildFace)
def build_face(document: Document, parameters: BuildFace, progress: Progress) -> Document:
    """A plane face inside a closed outline; outlines inside it become holes."""
    wires = [exact(document, k) for k in parameters.curves]
    piece = with_kernel(build.face_from, ([w.brep for w in wires],), "making the face")
    return _added(document, parameters.name, piece, f"{{name}}: {piece.shape.face_area.sum():.5g} {document.units}².")


class Extrude(Parameters):
    curve: int = Field(title="Curve")
    direction: Triple = Field((0.0, 0.0, 1.0), title="Direction")
    length: float = Field(10.0, title="Length", description="Negative: the other way", json_schema_extra={"unit": "length"})
    name: str = Field("Sheet", title="Name")


@operation("build.extrude", "Extrude a curve", "part", Extrude)
def extrude(document: Document, parameters: Extrude, progress: Progress) -> Document:
    """The sheet that a curve sweeps along a direction."""
    curve = exact(document, parameters.curve)
    if np.linalg.norm(parameters.direction) < 1e-12:
        raise Refused("The direction is zero.", "Give one.")
    by = unit(np.array(parameters.direction)) * parameters.length
    piece = with_kernel(build.extrude, (curve.brep, by), "extruding")
    return _added(document, parameters.name, piece, f"{{name}}: {len(piece.shape.faces)} faces.")


class Revolve(Parameters):
    curve: int = Field(title="Curve")
    origin: Triple = Field((0.0, 0.0, 0.0), title="Axis through")
    axis: Triple = Field((0.0, 0.0, 1.0), title="Axis")
    angle: float = Field(360.0, title="Angle", description="Degrees")
    name: str = Field("Revolved", title="Name")


@operation("build.revolve", "Revolve a curve", "part", Revolve)
def revolve(document: Document, parameters: Revolve, progress: Progress) -> Document:
    """The sheet that a curve sweeps round an axis."""
    curve = exact(document, parameters.curve)
    arguments = (curve.brep, np.array(parameters.origin), np.array(parameters.axis), parameters.angle)
    piece = with_kernel(build.revolve, arguments, "revolving")
    return _added(document, parameters.name, piece, f"{{name}}: {len(piece.shape.faces)} faces.")


# -- copies --------------------------------------------------------------------------
class Copies(Parameters):
    bodies: tuple[int, ...] = Field(min_length=1, title="Bodies")
    way: Literal["move", "mirror", "rotate"] = Field("move", title="How")
    by: Triple = Field((0.0, 0.0, 0.0), title="By", description="Move: the step")
    origin: Triple = Field((0.0, 0.0, 0.0), title="Through", description="Mirror plane or axis through this point")
    axis: Triple = Field((1.0, 0.0, 0.0), title="Axis or normal")
    angle: float = Field(90.0, title="Angle", description="Rotate: degrees per copy")
    count: int = Field(1, ge=1, le=360, title="Copies")


@operation("build.copies", "Copies of bodies", "part", Copies)
def copies(document: Document, parameters: Copies, progress: Progress) -> Document:
    """Bodies moved, mirrored or rotated, once or several times; the originals stay."""
    out = document
    made = 0
    times = 1 if parameters.way == "mirror" else parameters.count
    for key in parameters.bodies:
        body = exact(document, key)
        for k in range(1, times + 1):
            progress(made / (times * len(parameters.bodies)), f"copying {body.name}")
            piece = with_kernel(edits.moved, (body.brep, body.kind, matrix_of(parameters, k)), "copying")
            new = new_body(out, free_name(out, f"{body.name} copy"), piece.kind, piece.shape, piece.brep, body.colour, body.source)
            out = replace(out, bodies=(*out.bodies, new))
            material = document.body_material.get(key)
            if material:
                out = replace(out, body_material=dict(out.body_material) | {new.key: material})
            made += 1
    return replace(out, notes=(f"{made} cop{'ies' if made > 1 else 'y'} made.",))


def matrix_of(parameters: Copies, k: int) -> np.ndarray:
    """The motion (3, 4) of the k-th copy. Raises `Refused` for motions that go nowhere."""
    origin, axis = np.array(parameters.origin), np.array(parameters.axis)
    if parameters.way == "move":
        if np.linalg.norm(parameters.by) < 1e-12:
            raise Refused("The copy would lie on the original.", "Give a step that is not zero.")
        return np.column_stack((np.eye(3), k * np.array(parameters.by)))
    if np.linalg.norm(axis) < 1e-12:
        raise Refused("The axis is zero.", "Give one.")
    n = unit(axis)
    if parameters.way == "mirror":
        turn = np.eye(3) - 2 * np.outer(n, n)
    else:
        a = np.radians(k * parameters.angle)
        u, v = frame(n)
        basis = np.column_stack((u, v, n))
        turn = basis @ np.array([[np.cos(a), -np.sin(a), 0], [np.sin(a), np.cos(a), 0], [0, 0, 1]]) @ basis.T
    return np.column_stack((turn, origin - turn @ origin))


class CurveFromEdges(Parameters):
    body: int = Field(title="Body")
    edges: tuple[int, ...] = Field(min_length=1, title="Edges")
    name: str = Field("Curve", title="Name")


@operation("build.curve", "Curve from edges", "part", CurveFromEdges)
def curve_from_edges(document: Document, parameters: CurveFromEdges, progress: Progress) -> Document:
    """Edges of a body as a curve of their own, to extrude, revolve, scale or project."""
    body = exact(document, parameters.body)
    if any(not 0 <= e < len(body.shape.edges) for e in parameters.edges):
        raise Refused("No such edge.", "Choose edges in the Stage.")
    places = np.array([body.shape.points[body.shape.edges[e].nodes].mean(axis=0) for e in parameters.edges])
    piece = with_kernel(edits.edges_at, (body.brep, places), "taking edges")
    return _added(document, parameters.name, piece, f"{{name}}: {len(places)} edges of {body.name}.")
