"""What the Stage shows of a document at each stop: which actors, colours, legend, labels."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from vtkmodules.vtkCommonDataModel import vtkPlane
from vtkmodules.vtkRenderingCore import vtkActor

from kind_rivet.app.stage import scene
from kind_rivet.app.stage.selection import Selection
from kind_rivet.app.theme import COPPER, FAILING, FOCUS, INK, MUTED, PANEL, SOUND, UNEASY, number, rgb
from kind_rivet.core.document.document import Document
from kind_rivet.core.document.live_sets import hole_nodes
from kind_rivet.core.geometry.carriers import Floats, frame
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.weld import weld
from kind_rivet.core.quality.index import FAILING as FAILS
from kind_rivet.core.quality.limits import LABELS
from kind_rivet.core.quality.shell_metrics import METRICS

SIDE, RIM = "#7FA8A2", "#D8CDB8"  # faces of solids with and without a wall behind them
STOPS = ("part", "prepare", "midsurface", "mesh", "mixed", "quality", "deliver")


@dataclass
class Look:
    """How things are drawn: `colour` is part, thickness, index or a metric; `style` shaded, see-through or thick."""

    stop: str = "part"
    colour: str = "part"
    style: str = "shaded"
    hidden: set[str] = field(default_factory=set)
    only_elements: np.ndarray | None = None
    on_sheet: bool = False  # in Prepare: show the sheets, because the open card works on them
    on_solid: bool = False  # in Midsurface: show the bodies, because the open card works on their sides
    pointed: tuple[Floats, str] | None = None  # a place to look at, with a word
    section: tuple[Floats, Floats] | None = None  # origin and normal: what lies behind it is shown


@dataclass
class Dressed:
    actors: list[vtkActor]
    lines: list[vtkActor]
    box: Floats | None
    legend: list[tuple[str, str]]
    labels: list[tuple[Floats, str, str]]
    shows_mesh: bool
    shows_sheets: bool
    coarse: list[tuple[vtkActor, vtkActor]] = field(default_factory=list)


def dress(document: Document, look: Look, proposed: bool, selection: Selection) -> Dressed:
    """Actors for a document at a stop."""
    stop = STOPS.index(look.stop)
    shows_mesh = (stop >= 3 or not document.bodies) and bool(document.mesh.elements)  # a mesh from a file is all there is to see at first
    shows_sheets = ((stop >= 2 and not (stop == 2 and look.on_solid)) or (stop == 1 and look.on_sheet)) and bool(document.sheets)
    rough: list[tuple[vtkActor, vtkActor]] = []
    actors: list[vtkActor] = []
    lines: list[vtkActor] = []
    legend: list[tuple[str, str]] = []
    labels: list[tuple[Floats, str, str]] = []
    boxes = [b.shape.box for b in document.bodies]
    if document.mesh.nodes:
        boxes.append(np.array([document.mesh.points.min(axis=0), document.mesh.points.max(axis=0)]))
    for body in document.bodies:
        if f"body:{body.key}" in look.hidden:
            continue
        sheet = document.sheets.get(body.key)
        meshed = shows_mesh and bool((document.mesh.body == body.key).any())
        if sheet is not None and shows_sheets and not meshed:
            values = sheet.thickness
            if look.style == "thick" and values.max(initial=0.0) > 0:
                actors.append(scene.actor(scene.thick_sheet(sheet), body.colour))
                actors += scene.body_actors(body.shape, body.colour, 0.14)[0]
                continue
            if look.stop == "midsurface" or look.colour == "thickness":
                tints = _thickness_colours(values, legend, document.units)
                actors += scene.sheet_actors(sheet.shape, body.colour, by_face=tints)
            else:
                actors += scene.sheet_actors(sheet.shape, body.colour)
            if (COPPER, "free edge") not in legend:
                legend += [(COPPER, "free edge"), (INK, "joined edge")]
            if (FOCUS, "joint of walls") not in legend and any(len(f) > 2 for f in sheet.shape.edge_faces):
                legend.append((FOCUS, "joint of walls"))
        if sheet is None or not shows_sheets or (look.style == "see-through"):
            if sheet is not None and sheet.sides and look.on_solid and stop == 2:
                tints = np.full((len(body.shape.faces), 3), rgb(RIM))
                tints[list(sheet.sides)] = rgb(SIDE)
                actors += scene.tinted_body(body.shape, tints)
                if (SIDE, "side of a wall") not in legend:
                    legend += [(SIDE, "side of a wall"), (RIM, "rim, blend or not thin")]
                continue
            ghost = (sheet is not None and shows_sheets) or meshed
            made, stand_in = scene.body_actors(body.shape, body.colour, 0.18 if ghost or look.style == "see-through" else 1.0)
            actors += made
            if stand_in is not None:
                rough.append((made[0], stand_in))
    if 1 <= stop <= 2 and document.joined:
        _junctions(document, look, shows_sheets, actors, legend)
    labels += [(np.array(j.place), f"gap {j.width:.3g}", FAILING) for j in document.joints if j.kind == "gap" and stop == 1]
    if stop <= 1:
        actors += _working(document, labels)
    if shows_mesh:
        _mesh(document, look, proposed, actors, lines, legend)
    if stop == 1:
        labels += [(np.array(p.place), "hard point", MUTED) for p in document.hard_points[:60]]
    if stop == 1 or (stop == 0 and document.left_out):
        labels += [
            (np.array(h.centre), f"left out Ø{h.diameter:g}" + (" · hard point" if h.hard_point else ""), MUTED) for h in document.left_out
        ]
    if look.stop == "part":
        labels += _first_look(document)
    if look.pointed is not None and look.stop == "midsurface":
        labels.append((look.pointed[0], look.pointed[1], FAILING))
    actors += _selected(document, selection, shows_mesh, shows_sheets or shows_mesh)
    if look.section is not None:
        plane = vtkPlane()
        plane.SetOrigin(*look.section[0])
        plane.SetNormal(*look.section[1])
        for made_actor in (*actors, *(r for _, r in rough)):
            made_actor.GetMapper().AddClippingPlane(plane)
    box = np.array([np.min([b[0] for b in boxes], axis=0), np.max([b[1] for b in boxes], axis=0)]) if boxes else None
    return Dressed(actors, lines, box, legend, labels, shows_mesh, shows_sheets, rough)


_WELDED: dict[tuple[int, ...], tuple[list[Shape], Shape]] = {}


def _junctions(document: Document, look: Look, sheets: bool, actors: list[vtkActor], legend: list[tuple[str, str]]) -> None:
    """Edges of joined bodies: three or more faces meet in double focus blue, free ones copper."""
    for group in document.joined:
        shapes = []
        for key in group:
            sheet = document.sheets.get(key)
            body = next((b for b in document.bodies if b.key == key), None)
            if body is not None and f"body:{key}" not in look.hidden:
                shapes.append(sheet.shape if sheet is not None and sheets else body.shape)
        if len(shapes) < 2:
            continue
        names = tuple(map(id, shapes))
        if names not in _WELDED:
            if len(_WELDED) > 20:
                _WELDED.clear()
            _WELDED[names] = (shapes, weld(shapes, 1e-7 * max(s.diagonal for s in shapes)).shape)
        welded = _WELDED[names][1]
        uses = [len(f) for f in welded.edge_faces]
        for wanted, tint, width in (((1,), COPPER, 2.4), ((3, 4, 5, 6, 7, 8), FOCUS, 4.5), ((3, 4, 5, 6, 7, 8), PANEL, 1.4)):
            chosen = [e for e, n in enumerate(uses) if n in wanted]
            if chosen:
                actors.append(
                    scene.actor(scene.edge_lines(welded, chosen), tint, 1.0, width, lit=False, lift=-3.0 if tint != PANEL else -4.0)
                )
        if (FOCUS, "junction edge") not in legend:
            legend += [(FOCUS, "junction edge")] + (
                [] if (COPPER, "free edge") in legend else [(COPPER, "free edge"), (INK, "joined edge")]
            )


def _working(document: Document, labels: list[tuple[Floats, str, str]]) -> list[vtkActor]:
    """Working planes as pale squares with their names, working points as dots."""
    out: list[vtkActor] = []
    boxes = [b.shape.box for b in document.bodies]
    reach = 0.6 * float(np.linalg.norm(np.max(boxes, axis=0)[1] - np.min(boxes, axis=0)[0])) / 2 if boxes else 50.0
    for plane in document.planes:
        u, v = frame(np.array(plane.normal))
        o = np.array(plane.origin)
        corners = np.array([o - reach * u - reach * v, o + reach * u - reach * v, o + reach * u + reach * v, o - reach * u + reach * v])
        out.append(scene.actor(scene.poly(corners, np.array([[0, 1, 2, 3]])), FOCUS, 0.12, lit=False))
        out.append(scene.actor(scene.poly(corners, np.array([[0, 1], [1, 2], [2, 3], [3, 0]]), lines=True), FOCUS, 0.8, 1.4, lit=False))
        labels.append((corners[3], plane.name, FOCUS))
    if document.points:
        out += _dots(np.array([p.place for p in document.points]))
        labels += [(np.array(p.place), p.name, FOCUS) for p in document.points[:30]]
    return out


def _first_look(document: Document) -> list[tuple[Floats, str, str]]:
    """Tags in the Stage after opening: size and wall of each body, and one tag per kind of hole."""
    labels: list[tuple[Floats, str, str]] = []
    for body in document.bodies[:12]:
        low, high = body.shape.box
        x, y, z = high - low
        wall = f" · wall {body.walls[0][0]:g}" if body.walls and body.walls[0][1] > 0.1 else ""
        labels.append((np.array([low[0], low[1], high[2]]), f"{x:.4g} × {y:.4g} × {z:.4g} {document.units}{wall}", INK))
        groups: dict[tuple[str, float, float], list[int]] = {}
        for k, h in enumerate(body.holes):
            groups.setdefault((h.kind, round(h.diameter, 3), round(h.length, 2)), []).append(k)
        for (kind, diameter, length), members in list(groups.items())[:10]:
            text = f"{len(members)} × Ø {diameter:g}" if kind == "round" else f"cut-out {length:.3g}"
            labels.append((np.array(body.holes[members[-1]].centre), text, FOCUS))
    return labels


def _thickness_colours(values: Floats, legend: list[tuple[str, str]], units: str) -> Floats:
    """Thin walls pale, thick ones deep; a single thickness gets a middle tone."""
    low, high = float(values.min()), float(values.max())
    floor = low - max(0.35 * (high - low), 0.5 * low if high - low < 1e-6 * high else 0.0)
    top = high if high - low > 1e-6 * high else low + low
    for t in sorted({float(f"{v:.3g}") for v in values})[:6]:
        colour = scene.scale_colours(np.array([t]), floor, top)[0]
        legend.append(("#" + "".join(f"{round(c * 255):02X}" for c in colour), f"{t:g} {units}"))
    return scene.scale_colours(values, floor, top)


def _mesh(
    document: Document, look: Look, proposed: bool, actors: list[vtkActor], lines: list[vtkActor], legend: list[tuple[str, str]]
) -> None:
    mesh = document.mesh
    hidden_parts = [p.key for p in document.parts if f"part:{p.key}" in look.hidden]
    visible = np.flatnonzero(mesh.is_shell & ~np.isin(mesh.part, hidden_parts))
    if look.only_elements is not None:
        visible = np.intersect1d(visible, look.only_elements)
    if look.style == "thick":
        actors.append(scene.actor(scene.thick_shells(mesh), "#9DB4A0"))
        return
    cells, element = scene.shell_cells(mesh, visible)
    colours = _element_colours(document, look, element, legend)
    data = scene.coloured(scene.poly(mesh.points, cells), colours)
    faces = scene.actor(data, None, lift=1.0)
    faces.GetProperty().SetAmbient(0.35)
    actors.append(faces)
    outline = scene.actor(data, COPPER if proposed else INK, 0.6 if proposed else 0.5, 1.0, lit=False)
    outline.GetProperty().SetRepresentationToWireframe()
    actors.append(outline)
    lines.append(outline)
    if look.colour in ("index", *METRICS):
        failing = element[document.quality.grade[element] == FAILS]
        if len(failing):
            bad, _ = scene.shell_cells(mesh, failing)
            frame = scene.actor(scene.poly(mesh.points, bad), FAILING, 1.0, 3.0, lit=False, lift=-2.0)
            frame.GetProperty().SetRepresentationToWireframe()
            actors.append(frame)
    skin, owner = scene.solid_skin(mesh)
    if skin:
        data = scene.coloured(scene.poly(mesh.points, skin), _part_colours(document, owner))
        actors.append(scene.actor(data, None, lift=1.0))
        outline = scene.actor(data, INK, 0.5, 1.0, lit=False)
        outline.GetProperty().SetRepresentationToWireframe()
        actors.append(outline)
        lines.append(outline)
    beams = scene.beam_actor(document)
    if beams is not None:
        actors.append(beams)
    actors += scene.spider_actors(document)


def _element_colours(document: Document, look: Look, element: np.ndarray, legend: list[tuple[str, str]]) -> Floats:
    mesh = document.mesh
    if look.colour == "index":
        legend += [(SOUND, "sound"), (UNEASY, "uneasy"), (FAILING, "failing")]
        return np.asarray(scene.GRADE[np.maximum(document.quality.grade[element], 0)])
    if look.colour in METRICS:
        values = document.quality.values[element, METRICS.index(look.colour)]
        good = values[np.isfinite(values)]
        low, high = (float(good.min()), float(good.max())) if len(good) else (0.0, 1.0)
        label, unit, _ = LABELS[look.colour]
        for share in (0.0, 0.5, 1.0):
            c = scene.scale_colours(np.array([share]), 0, 1)[0]
            legend.append(
                (
                    "#" + "".join(f"{round(x * 255):02X}" for x in c),
                    f"{label} {number(low + share * (high - low), 3)}{'' if unit == 'length' else unit}",
                )
            )
        return scene.scale_colours(np.nan_to_num(values), low, high)
    if look.colour == "thickness":
        return _thickness_colours(mesh.thickness[element], legend, document.units)
    if look.colour == "offset":
        off = np.abs(mesh.offset[element]) / np.maximum(mesh.thickness[element], 1e-300)
        high = max(0.05, float(np.percentile(off, 99)) if len(off) else 0.0)
        for share in (0.0, 0.5, 1.0):
            c = scene.scale_colours(np.array([share]), 0, 1)[0]
            legend.append(("#" + "".join(f"{round(x * 255):02X}" for x in c), f"{100 * share * high:.3g} % of the wall off its middle"))
        return scene.scale_colours(np.minimum(off, high), 0.0, high)
    out = _part_colours(document, element)
    rings = mesh.ring[element] >= 0
    out[rings] = 0.55 * out[rings] + 0.45 * np.array(rgb("#E9DFC8"))  # washers stand out quietly
    return out


def _part_colours(document: Document, element: np.ndarray) -> Floats:
    """The colour (m, 3) of each element's part."""
    tints = {p.key: rgb(p.colour) for p in document.parts}
    keys, of = np.unique(document.mesh.part[element], return_inverse=True)
    return np.array([tints.get(int(k), rgb("#9AA9AD")) for k in keys]).reshape(-1, 3)[of]


def _selected(document: Document, selection: Selection, shows_mesh: bool, sheets: bool) -> list[vtkActor]:
    """What is chosen, in focus blue over everything."""
    mesh = document.mesh
    out: list[vtkActor] = []
    if selection.kind in ("face", "body") and selection.items:
        for item in selection.items:
            key, face = (item, None) if selection.kind == "body" else item
            body = next((b for b in document.bodies if b.key == key), None)
            if body is None:
                continue
            if shows_mesh and (mesh.body == key).any():
                chosen = np.flatnonzero((mesh.body == key) & ((mesh.face == face) if face is not None else True))
                cells, _ = scene.shell_cells(mesh, chosen)
                out.append(scene.actor(scene.poly(mesh.points, cells), FOCUS, 0.45, lit=False, lift=-2.0))
                continue
            sheet = document.sheets.get(key) if sheets else None
            shape = sheet.shape if sheet is not None else body.shape
            if not len(shape.facets):
                out.append(scene.actor(scene.edge_lines(shape, list(range(len(shape.edges)))), FOCUS, 1.0, 5.0, lit=False, lift=-4.0))
                continue
            facets = shape.facets if face is None else shape.facets[shape.facet_face == face]
            out.append(scene.actor(scene.poly(shape.points, facets.astype(np.int64)), FOCUS, 0.45, lit=False, lift=-2.0))
    elif selection.kind == "edge":
        for key, e in selection.items:
            sheet = document.sheets.get(key) if sheets else None
            body = next((b for b in document.bodies if b.key == key), None)
            whole = sheet.shape if sheet is not None else body.shape if body else None
            if whole is not None and e < len(whole.edges):
                out.append(scene.actor(scene.edge_lines(whole, [e]), FOCUS, 1.0, 5.0, lit=False, lift=-4.0))
    elif selection.kind == "point" and selection.items:
        out += _dots(np.array([i[:3] for i in selection.items]))
    elif selection.kind == "element" and selection.items:
        chosen = np.flatnonzero(np.isin(mesh.element_id, selection.items))
        cells, _ = scene.shell_cells(mesh, chosen)
        if cells:
            out.append(scene.actor(scene.poly(mesh.points, cells), FOCUS, 0.55, lit=False, lift=-2.0))
    elif selection.kind == "node" and selection.items:
        out += _dots(mesh.points[np.isin(mesh.node_id, selection.items)])
    elif selection.kind in ("hole", "ring"):
        for key, k in selection.items:
            holes: Any = document.mesh_holes.get(key) if shows_mesh else None
            if holes is not None and k < len(holes):
                if selection.kind == "hole":
                    out += _dots(mesh.points[np.isin(mesh.node_id, hole_nodes(document, key, k))])
                else:
                    cells, _ = scene.shell_cells(mesh, np.flatnonzero((mesh.body == key) & (mesh.ring == k)))
                    out.append(scene.actor(scene.poly(mesh.points, cells), FOCUS, 0.55, lit=False, lift=-2.0))
            elif not shows_mesh:
                body = next((b for b in document.bodies if b.key == key), None)
                if body is not None and k < len(body.holes):
                    shape = body.shape
                    facets = shape.facets[np.isin(shape.facet_face, body.holes[k].faces)]
                    out.append(scene.actor(scene.poly(shape.points, facets.astype(np.int64)), FOCUS, 0.9, lit=False, lift=-3.0))
    return out


def _dots(points: Floats) -> list[vtkActor]:
    if not len(points):
        return []
    data = scene.poly(points, [])
    from vtkmodules.vtkCommonDataModel import vtkCellArray

    verts = vtkCellArray()
    for i in range(len(points)):
        verts.InsertNextCell(1, [i])
    data.SetVerts(verts)
    dots = scene.actor(data, FOCUS, 1.0, lit=False, lift=-4.0)
    dots.GetProperty().SetPointSize(8)
    dots.GetProperty().SetRenderPointsAsSpheres(True)
    return [dots]
