"""Faces and edges for meshes that came without geometry."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from pydantic import Field

from kind_rivet.core.document.document import Document
from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.flats import walls_and_bends
from kind_rivet.core.geometry.soup import Soup
from kind_rivet.core.meshing.seats import FEATURE, faces_under, seats_on
from kind_rivet.core.midsurface.sheet import Sheet
from kind_rivet.core.operations.midsurface import AS_MESHED, with_sheet
from kind_rivet.core.operations.part import free_name, new_body
from kind_rivet.core.operations.registry import Parameters, Progress, operation
from kind_rivet.core.words import counted


class FacesFromMesh(Parameters):
    angle: float = Field(FEATURE, gt=1, lt=90, title="Feature angle", description="Faces end where elements turn by more (degrees)")
    parts: tuple[int, ...] = Field((), title="Parts", description="Empty: all shells that have no geometry")


@operation("part.faces_from_mesh", "Faces from a mesh", "part", FacesFromMesh)
def faces_from_mesh(document: Document, parameters: FacesFromMesh, progress: Progress) -> Document:
    """Make faces and edges by feature angle under shells without geometry, or again under those of a facet body, at another angle."""
    mesh = document.mesh
    chosen = mesh.is_shell & (np.isin(mesh.part, parameters.parts) if parameters.parts else mesh.body < 0)
    facets = [b for b in document.bodies if b.kind == "facets"]
    if not chosen.any() and not facets:
        raise Refused("There are no shells without geometry, and no facet body.", "Open an STL, OBJ, PLY, VTU or Exodus file first.")
    if chosen.any():
        progress(0.1, "finding faces and edges")
        names = {p.name for p in document.parts if p.key in set(mesh.part[chosen].tolist())}
        name = free_name(document, names.pop() if len(names) == 1 else document.name)
        return _under(document, chosen, parameters.angle, name, 0)
    notes: list[str] = []
    for body in facets:
        mine = document.mesh.is_shell & (document.mesh.body == body.key)
        if mine.any() and f"rules:{body.key}" not in document.basis:  # not meshed again yet
            document = _under(document, mine, parameters.angle, body.name, body.key)
            notes += document.notes
            continue
        soup = walls_and_bends(body.shape.points, body.shape.facets, parameters.angle, welded=True)
        again = new_body(document, body.name, "facets", soup.shape, colour=body.colour, source=body.source, key=body.key)
        document = replace(document, bodies=tuple(again if b.key == body.key else b for b in document.bodies))
        notes.append(_found(body.name, soup, parameters.angle))
    return replace(document, notes=tuple(notes))


def _found(name: str, soup: Soup, angle: float) -> str:
    return f"{name}: {counted(len(soup.shape.faces), 'face')} and {counted(len(soup.shape.edges), 'edge')} at {angle:g}°."


def _under(document: Document, chosen: np.ndarray, angle: float, name: str, key: int) -> Document:
    """The document with a body under the chosen shells (key 0: a new one). An open one becomes the sheet that they lie on, with their thickness."""
    mesh = document.mesh
    soup = faces_under(mesh, chosen, angle, laid=True)
    body = new_body(document, name, "facets", soup.shape, key=key)
    bodies = (*(b for b in document.bodies if b.key != body.key), body)
    document = replace(document, bodies=bodies, notes=(_found(name, soup, angle), *soup.notes))
    if soup.closed:  # a skin round a solid: whether it is to be meshed as it is, or its middle, is not known yet
        return document
    if key:
        on = np.where(mesh.on_body == key, 0, mesh.on_kind).astype(np.uint8)
        mesh = replace(mesh, on_kind=on)
    seats = seats_on(mesh, chosen, soup)
    walls = _walls(mesh.thickness[chosen], seats.face, len(soup.shape.faces))
    notes = document.notes
    document, more = with_sheet(document, body, Sheet(soup.shape, walls, AS_MESHED, None))
    key = body.key
    lines = tuple(mesh.node_id[line].astype(np.int32) for line in seats.lines)
    document = replace(
        document, mesh=seats.put(mesh, key), meshed=dict(document.meshed) | {key: document.sheets[key]},
        mesh_edges=dict(document.mesh_edges) | {key: lines}, mesh_holes=dict(document.mesh_holes) | {key: seats.holes},
    )  # fmt: skip
    lie = f"Its {int(chosen.sum())} shells lie on them and are moved, repaired and meshed again there."
    return replace(document, basis=dict(document.basis) | {f"mesh:{key}": document.mesh_state(key)}, notes=(*notes, lie, *more))


def _walls(thickness: np.ndarray, face: np.ndarray, faces: int) -> np.ndarray:
    """The thickness (f,) of every wall: the middle one of the shells (s,) on it, 0 where there is none."""
    lots = [thickness[face == f] for f in range(faces)]
    return np.array([float(np.median(lot)) if len(lot) else 0.0 for lot in lots])


def with_walls_as_meshed(document: Document) -> Document:
    """The document with the walls of sheets under meshes as thick as the shells on them now are."""
    mesh = document.mesh
    raw, ready, meshed = dict(document.raw_sheets), dict(document.sheets), dict(document.meshed)
    for key, sheet in document.sheets.items():
        mine = mesh.is_shell & (mesh.body == key)
        if sheet.way == AS_MESHED and mine.any():
            walls = _walls(mesh.thickness[mine], mesh.face[mine], len(sheet.shape.faces))
            for lot in (raw, ready, meshed):
                if key in lot and len(lot[key].thickness) == len(walls):
                    lot[key] = replace(lot[key], thickness=walls)
    return replace(document, raw_sheets=raw, sheets=ready, meshed=meshed)
