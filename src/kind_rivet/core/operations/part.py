"""Part: bring it in, name it, colour it, keep views of it."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any, Literal

import numpy as np
from pydantic import Field

from kind_rivet.core.document.changes import SavedView
from kind_rivet.core.document.document import TINTS, Body, Document
from kind_rivet.core.document.preparing import working_shape
from kind_rivet.core.errors import Refused, Unreadable
from kind_rivet.core.files.exchange import with_parts_named
from kind_rivet.core.files.facets import SUFFIXES as FACETS
from kind_rivet.core.files.facets import read_facets
from kind_rivet.core.geometry import measure
from kind_rivet.core.geometry.first_look import look, suggested_size
from kind_rivet.core.geometry.flats import walls_and_bends
from kind_rivet.core.geometry.measure import Measured
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.guard import reading
from kind_rivet.core.mesh.quadratic import linear
from kind_rivet.core.mesh.tidy import tidied
from kind_rivet.core.operations.registry import Parameters, Progress, operation

READ_LIMIT = 120.0  # seconds a file may take to be read
MESHES = (".vtu", ".exo", ".e", ".ex2")


def new_body(
    document: Document, name: str, kind: str, shape: Shape, brep: np.ndarray | None = None, colour: str = "", source: str = "", key: int = 0
) -> Body:
    """A body that has been looked at; without `key` it gets the next free one."""
    key = key or max((b.key for b in document.bodies), default=0) + 1
    seen = look(shape)
    data = brep if brep is not None else np.empty(0, np.uint8)
    return Body(key, name, colour or TINTS[(key - 1) % len(TINTS)], shape, seen.walls, seen.thin_share, seen.holes, source, kind, data)


def free_name(document: Document, name: str) -> str:
    """The name, with a number behind it where it is taken."""
    taken = {b.name for b in document.bodies}
    k, out = 2, name
    while out in taken:
        out, k = f"{name} {k}", k + 1
    return out


class OpenPart(Parameters):
    path: str = Field(title="File", description="STEP, IGES, BREP; STL, OBJ, PLY; VTU, Exodus II")
    angle: float = Field(30.0, gt=1, lt=90, title="Feature angle", description="Facet files: faces end where facets turn by more (degrees)")


@operation("part.open", "Open a part", "part", OpenPart)
def open_part(document: Document, parameters: OpenPart, progress: Progress) -> Document:
    """Read geometry, facets or a mesh from a file with names, colours and units, and take a first look at it."""
    path = Path(parameters.path)
    suffix = path.suffix.lower()
    progress(0.05, f"reading {path.name}")
    if suffix in MESHES:
        return _open_mesh(document, path)
    if suffix in FACETS:
        return _open_facets(document, path, parameters.angle, progress)
    from kind_rivet.core.geometry.kernel.read import BREP, IGES, STEP, look_at_text, read_geometry

    if path.exists() and suffix not in (*STEP, *IGES, *BREP):
        raise Unreadable(f"{path.name} is of no kind this program reads.", "Open STEP, IGES, BREP, STL, OBJ, PLY, VTU or Exodus II files.")
    look_at_text(path)
    result = reading(read_geometry, (path,), READ_LIMIT, path.name)
    grown = document
    for k, read in enumerate(result.bodies):
        progress(0.6 + 0.4 * k / len(result.bodies), f"looking at {read.name}")
        body = new_body(grown, free_name(grown, read.name), read.kind, read.shape, read.brep, read.colour, path.name)
        grown = replace(grown, bodies=(*grown.bodies, body))
    count = len(result.bodies)
    unit = "" if result.file_unit.startswith("milli") else f" (the file's {result.file_unit} became millimetres)"
    sorts = {k: sum(b.kind == k for b in result.bodies) for k in ("solid", "sheet", "wire")}
    words = ", ".join(f"{n} {k}{'s' if n > 1 else ''}" for k, n in sorts.items() if n)
    notes = (f"Opened {path.name}: {count} {'body' if count == 1 else 'bodies'} ({words}){unit}.", *result.warnings)
    return _opened(document, grown, path, notes)


def _opened(before: Document, after: Document, path: Path, notes: tuple[str, ...]) -> Document:
    """Name and suggested size of a document that something was opened into."""
    size = before.choices.size
    new = after.bodies[len(before.bodies) :]
    if not size and new:
        largest = max(new, key=lambda b: (b.kind != "wire", b.shape.diagonal))
        size = suggested_size(largest.shape, largest.walls, largest.holes)
    name = path.stem if before.name == "Untitled" else before.name
    return replace(after, name=name, choices=replace(after.choices, size=size), notes=notes)


def _open_facets(document: Document, path: Path, angle: float, progress: Progress) -> Document:
    points, triangles = read_facets(path)
    progress(0.3, "finding faces and edges")
    try:
        soup = walls_and_bends(points, triangles, angle)
    except Refused as refused:
        raise Unreadable(f"{path.name}: {refused.reason}", refused.remedy) from None
    progress(0.7, "looking at it")
    body = new_body(document, free_name(document, path.stem), "facets", soup.shape, source=path.name)
    notes = (
        f"Opened {path.name}: {len(soup.shape.facets)} facets, {len(soup.shape.faces)} faces at {angle:g}°. The file names no unit; millimetres are assumed.",
        *(f"{path.name}: {note}" for note in soup.notes),
    )
    return _opened(document, replace(document, bodies=(*document.bodies, body)), path, notes)


def _open_mesh(document: Document, path: Path) -> Document:
    from kind_rivet.core.files.exodus import read_exodus
    from kind_rivet.core.files.vtu import read_vtu

    if not path.exists():
        raise Unreadable(f"There is no file {path}.", "Check the name and the folder.")
    exchange = read_vtu(path) if path.suffix.lower() == ".vtu" else read_exodus(path)
    mesh = linear(exchange.mesh)
    high = mesh is not exchange.mesh
    mesh, wrong = tidied(mesh)
    if not mesh.elements:
        raise Unreadable(
            f"{path.name} holds no elements that can be read.", " ".join((*exchange.notes, *wrong)) or "Export the mesh again."
        )
    mesh, named = with_parts_named(mesh, exchange.parts, path.stem)
    taken = max((p.key for p in document.parts), default=0)
    parts = tuple(replace(p, key=p.key + taken) for p in named)
    first_node = int(document.mesh.node_id.max(initial=0))
    first_element = int(document.mesh.element_id.max(initial=0))
    sets = tuple(replace(s, ids=s.ids[np.isin(s.ids, mesh.node_id if s.kind == "node" else mesh.element_id)]) for s in exchange.sets)
    sets = tuple(s for s in sets if len(s.ids))
    if document.mesh.elements:
        sets = tuple(replace(s, ids=(s.ids + (first_node if s.kind == "node" else first_element)).astype(np.int32)) for s in sets)
        mesh = replace(mesh, node_id=mesh.node_id + first_node, element_id=mesh.element_id + first_element)
    nowhere, loose = np.full(mesh.elements, -1, np.int32), np.full(mesh.nodes, -1, np.int32)
    mesh = replace(
        mesh, part=(mesh.part + taken).astype(np.int32), body=nowhere, face=nowhere, ring=nowhere,
        on_kind=np.zeros(mesh.nodes, np.uint8), on_item=loose, on_body=loose,
    )  # fmt: skip
    whole = document.mesh.plus(mesh) if document.mesh.elements else mesh
    counts = ", ".join(f"{n} {k}" for k, n in mesh.counts().items())
    size = document.choices.size or _usual_side(mesh.points, mesh.conn[mesh.is_shell, :3])
    name = path.stem if document.name == "Untitled" else document.name
    spiders = (*document.spiders, *exchange.spiders) if not first_node else document.spiders
    masses = (*document.masses, *exchange.masses) if not first_node else document.masses
    return replace(
        document, name=name, mesh=whole, parts=(*document.parts, *parts), sets=(*document.sets, *sets), spiders=spiders, masses=masses,
        choices=replace(document.choices, size=size, quadratic=high or document.choices.quadratic),
        notes=(
            f"Opened {path.name}: {mesh.nodes} nodes, {counts}; a mesh without geometry.",
            *(("Its mid-side nodes are made anew when the mesh is handed over.",) if high else ()),
            *exchange.notes,
            *wrong,
        ),
    )  # fmt: skip


def _usual_side(points: np.ndarray, rows: np.ndarray) -> float:
    if not len(rows):
        return 0.0
    return float(f"{np.median(np.linalg.norm(points[rows[:, 1]] - points[rows[:, 0]], axis=1)):.3g}")


class Rename(Parameters):
    body: int = Field(title="Body")
    name: str = Field(min_length=1, max_length=120, title="Name")


@operation("part.rename", "Rename a body", "part", Rename)
def rename(document: Document, parameters: Rename, progress: Progress) -> Document:
    """Give a body another name; its shell part follows."""
    body = document.body(parameters.body)
    if any(b.name == parameters.name and b.key != body.key for b in document.bodies):
        raise Refused(f"Another body is called “{parameters.name}” already.", "Choose another name.")
    bodies = tuple(replace(b, name=parameters.name) if b.key == body.key else b for b in document.bodies)
    parts = tuple(replace(p, name=parameters.name) if p.name == body.name and p.kind == "shell" else p for p in document.parts)
    return replace(document, bodies=bodies, parts=parts, notes=(f"{body.name} is now called {parameters.name}.",))


class Recolour(Parameters):
    bodies: tuple[int, ...] = Field(title="Bodies")
    colour: str = Field(pattern="^#[0-9A-Fa-f]{6}$", title="Colour", description="As #RRGGBB")


@operation("part.colour", "Colour bodies", "part", Recolour)
def recolour(document: Document, parameters: Recolour, progress: Progress) -> Document:
    """Give bodies and their shell parts a colour."""
    chosen = [document.body(k) for k in parameters.bodies]
    if not chosen:
        raise Refused("No body is chosen.", "Choose bodies in Contents or in the Stage.")
    names = {b.name for b in chosen}
    bodies = tuple(replace(b, colour=parameters.colour) if b in chosen else b for b in document.bodies)
    parts = tuple(replace(p, colour=parameters.colour) if p.name in names and p.kind == "shell" else p for p in document.parts)
    return replace(document, bodies=bodies, parts=parts, notes=(f"Coloured {', '.join(sorted(names))}.",))


class RemoveBodies(Parameters):
    bodies: tuple[int, ...] = Field(title="Bodies")


@operation("part.remove", "Remove bodies", "part", RemoveBodies)
def remove_bodies(document: Document, parameters: RemoveBodies, progress: Progress) -> Document:
    """Take bodies out of the document with their sheets and shells."""
    gone = {document.body(k).key: document.body(k).name for k in parameters.bodies}
    if not gone:
        raise Refused("No body is chosen.", "Choose bodies in Contents or in the Stage.")
    return replace(without_bodies(document, set(gone)), notes=(f"Removed {', '.join(gone.values())}.",))


def without_bodies(document: Document, keys: set[int]) -> Document:
    """The document without some bodies and everything made from them."""
    from kind_rivet.core.operations.shells import without_lost

    mesh = document.mesh
    mine = np.isin(mesh.body, list(keys)) & (mesh.body >= 0)
    if mine.any():
        mesh = mesh.without_elements(mine)
    keep = lambda table: {k: v for k, v in table.items() if k not in keys}  # noqa: E731
    lots: dict[str, Any] = {
        name: tuple(c for c in getattr(document, name) if c.body not in keys)
        for name in ("left_out", "looked_past", "splits", "hard_points", "wall_choices", "bridges", "moves")
    }
    out = replace(
        document, bodies=tuple(b for b in document.bodies if b.key not in keys), mesh=mesh, sheets=keep(document.sheets), raw_sheets=keep(document.raw_sheets),
        mesh_edges=keep(document.mesh_edges), mesh_holes=keep(document.mesh_holes), body_material=keep(document.body_material),
        joined=tuple(g for g in document.joined if not keys & set(g)), joints=tuple(j for j in document.joints if not keys & set(j.bodies)), **lots,
    )  # fmt: skip
    return without_lost(out, [])


class SaveView(Parameters):
    name: str = Field(min_length=1, title="Name")
    camera: tuple[float, ...] = Field(min_length=10, max_length=10, title="Camera")
    hidden: tuple[str, ...] = Field((), title="Hidden", description="What is not shown, as `body:1` or `part:2`")


@operation("part.save_view", "Save this view", "part", SaveView)
def save_view(document: Document, parameters: SaveView, progress: Progress) -> Document:
    """Keep the present view and what is hidden under a name."""
    rest = tuple(v for v in document.views if v.name != parameters.name)
    view = SavedView(parameters.name, parameters.camera, parameters.hidden)
    return replace(document, views=(*rest, view), notes=(f"Saved the view “{parameters.name}”.",))


class Measure(Parameters):
    what: Literal["distance", "circle", "angle", "area", "least distance", "wall"] = Field("distance", title="What")
    points: tuple[tuple[float, float, float], ...] = Field((), title="Points")
    edges: tuple[tuple[int, int], ...] = Field((), title="Edges", description="Body and edge")
    faces: tuple[tuple[int, int], ...] = Field((), title="Faces", description="Body and face")
    bodies: tuple[int, ...] = Field((), title="Bodies")


def measured(document: Document, parameters: Measure) -> Measured:
    """What a measurement gives. Raises `Refused` when too little is chosen for it."""
    p = [np.array(q) for q in parameters.points]
    shape = lambda key: working_shape(document, key)  # noqa: E731
    if parameters.what == "distance" and len(p) >= 2:
        return measure.between_points(p[0], p[1])
    if parameters.what == "circle" and parameters.edges:
        return measure.circle_of_edge(shape(parameters.edges[0][0]), parameters.edges[0][1])
    if parameters.what == "circle" and len(p) >= 3:
        return measure.circle_of_points(*p[:3])
    if parameters.what == "angle" and len(p) >= 3:
        return measure.angle_of_points(*p[:3])
    if parameters.what == "angle" and len(parameters.faces) >= 2:
        (a, f), (b, g) = parameters.faces[:2]
        return measure.angle_of_faces(shape(a), f, shape(b), g)
    if parameters.what == "area" and parameters.faces:
        return measure.area_of_faces([(shape(b), f) for b, f in parameters.faces])
    if parameters.what == "least distance" and len(parameters.bodies) >= 2:
        return measure.least_distance(document.body(parameters.bodies[0]).shape, document.body(parameters.bodies[1]).shape)
    if parameters.what == "wall" and p:
        nearest = [b for b in document.bodies if b.shape.solid and len(b.shape.facets)]
        if not nearest:
            raise Refused("There is no solid to measure a wall of.", "Open a solid.")
        away = [float(np.linalg.norm(np.maximum(np.maximum(b.shape.box[0] - p[0], p[0] - b.shape.box[1]), 0))) for b in nearest]
        return measure.wall_at(nearest[int(np.argmin(away))].shape, p[0])
    needs = {
        "distance": "two points", "circle": "a round edge or three points", "angle": "a corner and two points, or two faces",
        "area": "one or more faces", "least distance": "two bodies", "wall": "a point on a solid",
    }  # fmt: skip
    raise Refused(f"Measuring this needs {needs[parameters.what]}.", "Choose them in the Stage (Ctrl adds).")


@operation("part.measure", "Measure", "part", Measure)
def measure_it(document: Document, parameters: Measure, progress: Progress) -> Document:
    """Distance, circle, angle, area, least distance between bodies, or the wall under a point; the result goes to the Trail."""
    found = measured(document, parameters)
    unit = {"length": f" {document.units}", "area": f" {document.units}²", "degrees": ""}[found.unit]
    return replace(document, notes=(f"{found.words.capitalize()}{unit}.",))
