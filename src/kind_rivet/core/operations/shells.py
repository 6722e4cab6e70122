"""Mesh: shells on midsurfaces."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from kind_rivet.core.document.document import TINTS, Document, MeshChoices, Part
from kind_rivet.core.document.live_sets import refreshed
from kind_rivet.core.errors import Refused
from kind_rivet.core.mesh.mesh import Mesh
from kind_rivet.core.meshing.neighbours import shared_lines
from kind_rivet.core.meshing.reuse import Earlier, renumbered, ring_numbers, set_in
from kind_rivet.core.meshing.rules import WasherRule
from kind_rivet.core.meshing.sheet_mesh import SheetMesh
from kind_rivet.core.operations.chosen import sheet_with
from kind_rivet.core.operations.columns import with_columns
from kind_rivet.core.operations.lots import Made, make_lot, make_lots, rules_word
from kind_rivet.core.operations.registry import Parameters, Progress, operation

MOST_ELEMENTS = 3_000_000


class MeshShells(Parameters):
    size: float = Field(title="Element size", description="Wanted side length", json_schema_extra={"unit": "length"})
    bodies: tuple[int, ...] = Field((), title="Bodies", description="Empty: all bodies with a midsurface")
    rings: int = Field(1, ge=0, le=4, title="Rings round holes", description="0: no washers; a table of rules by diameter comes first")
    ring_width: float = Field(0.0, ge=0, le=5, title="Ring width, sizes", description="0: chosen for each hole")
    growth: float = Field(0.25, gt=0.02, le=1.0, title="Growth", description="How much a side may lengthen per length from fine to coarse")
    kind: Literal["quads", "trias", "right-angled trias"] = Field(
        "quads", title="Elements", description="Quads with as few trias as can be, or trias only"
    )
    neighbours: Literal["mesh together", "take their nodes", "leave apart"] = Field(
        "mesh together", title="Joined bodies", description="Mesh them with this one, keep their mesh and match it, or share nothing"
    )
    smooth: bool = Field(True, title="Optimise", description="Move nodes until the index no longer rises")


@operation("mesh.shells", "Mesh with shells", "mesh", MeshShells)
def mesh_shells(document: Document, parameters: MeshShells, progress: Progress) -> Document:
    """Quad-dominant shells on midsurfaces, with washers round round holes and the walls' thickness on every element."""
    check_size(document, parameters.size)
    same = document.choices.size > 0 and len(document.choices.washers) > 1  # a table of rules stays until it is changed
    washers = document.choices.washers if same else (WasherRule(rings=parameters.rings, width=parameters.ring_width),)
    trias = {"quads": "", "trias": "tria", "right-angled trias": "right-angled"}[parameters.kind]
    choices = replace(document.choices, size=parameters.size, growth=parameters.growth, washers=washers, trias=trias)
    keys = list(parameters.bodies) or list(document.sheets)
    return mesh_again(replace(document, choices=choices), keys, progress, parameters.smooth, afresh=True, neighbours=parameters.neighbours)


def check_size(document: Document, size: float) -> None:
    """Raises `Refused` for sizes that make no sense or would make far too many elements."""
    if not document.sheets:
        raise Refused("There is no midsurface to mesh.", "Extract midsurfaces first.")
    if not np.isfinite(size) or size <= 0:
        raise Refused(f"The element size must be a positive length, not {size:g}.", f"Give a size in {document.units}.")
    largest = max(s.shape.diagonal for s in document.sheets.values())
    if size > largest:
        raise Refused(
            f"An element of {size:g} {document.units} is larger than the part ({largest:.4g} {document.units}).", "Give a smaller size."
        )
    count = estimate(document, size)
    if count > MOST_ELEMENTS:
        raise Refused(
            f"Size {size:g} would make about {count:.2g} elements.",
            f"Give at least {np.sqrt(sum(s.area for s in document.sheets.values()) / MOST_ELEMENTS):.3g} {document.units}.",
        )


def estimate(document: Document, size: float) -> float:
    """Elements to expect on all midsurfaces at a size."""
    return float(sum(s.area for s in document.sheets.values()) / size**2)


def mesh_again(
    document: Document, keys: list[int], progress: Progress, smooth: bool = True, afresh: bool = False, neighbours: str = "mesh together"
) -> Document:
    """Mesh the given bodies with the document's choices, replacing their shells and what hung on them.

    Bodies that were joined are meshed together, so that their shells share nodes, or (`neighbours`)
    take the nodes of those that are meshed already, or are left apart. Regions
    of single bodies that come out as before stay with their numbers, unless `afresh`.
    """
    notes: list[str] = []
    result = document
    done: set[int] = set()
    lots: list[tuple[int, ...]] = []
    for key in keys:
        if document.sheets.get(key) is None:
            raise Refused(f"{document.body(key).name} has no midsurface.", "Extract it first.")
        if key not in done:
            group = next((g for g in document.joined if key in g and neighbours == "mesh together"), (key,))
            lots.append(tuple(k for k in group if k in document.sheets))
            done |= set(lots[-1])
    if neighbours == "take their nodes":  # one after the other: each sees those before it
        for k, lot in enumerate(lots):
            progress(k / len(lots), f"meshing {_name(document, lot)}")
            lines = _lines_of_neighbours(result, lot[0])
            result = _set(result, make_lot(result, lot, smooth, afresh, lines), notes, lines)
    else:
        for made in make_lots(document, lots, progress, smooth, afresh):
            result = _set(result, made, notes, {})
    result = without_lost(result, notes)
    basis = dict(result.basis)
    for key in done:
        basis[f"mesh:{key}"] = result.mesh_state(key)
        basis[f"rules:{key}"] = rules_word(result, key)
    result = refreshed(replace(result, basis=basis))
    quality = result.quality
    shells_made = int(sum((result.mesh.body == key).sum() for key in done))
    sentence = f"{shells_made} shells at size {document.choices.size:g} {document.units}: index {quality.mesh_index:.1f}, {len(quality.failing)} failing."
    return replace(result, notes=(sentence, *notes))


def _lines_of_neighbours(document: Document, key: int) -> dict[int, NDArray[np.int32]]:
    """Node numbers along the edges that a body shares with joined bodies that are meshed."""
    group = next((g for g in document.joined if key in g), (key,))
    others = {
        k: document.meshed[k].shape
        for k in group
        if k != key and k in document.meshed and k in document.mesh_edges and (document.mesh.body == k).any()
    }
    return shared_lines(document.mesh, document.sheets[key].shape, others, document.mesh_edges)


def _set(document: Document, made: Made, notes: list[str], lines: dict[int, NDArray[np.int32]]) -> Document:
    """The document with the shells of one lot in place of what its bodies had. `lines`: nodes of neighbours that were taken."""
    lot, shells, new = made.lot, made.shells, made.mesh
    sheets = [document.sheets[k] for k in lot]
    name = _name(document, lot)
    ringed = set(np.unique(shells.ring).tolist())
    bare = [k for k, h in enumerate(shells.holes) if h.wanted > 0 and not h.widths]
    unfit, shared = sum(k not in ringed for k in bare), sum(k in ringed for k in bare)
    narrowed = sum(1 for h in shells.holes if h.widths and sum(h.widths) < h.wanted * len(h.widths) * 0.99)
    if unfit:
        notes.append(f"{name}: {unfit} hole{'s have' if unfit > 1 else ' has'} no room for a ring.")
    if shared:
        notes.append(f"{name}: {shared} ring{'s reach' if shared > 1 else ' reaches'} half-way to the next hole.")
    if narrowed:
        notes.append(f"{name}: {narrowed} ring{'s were' if narrowed > 1 else ' was'} narrowed to fit.")
    notes += [f"{name}: {note}" for note in shells.notes]
    parts, numbers = _shell_parts(document, lot)
    new = replace(new, part=np.array(numbers, np.int32)[new.part])
    meshed = dict(document.meshed) | dict(zip(lot, sheets, strict=True))
    document = replace(document, parts=parts, meshed=meshed)
    if made.earlier is not None and shells.kept_faces:
        return _set_in(document, lot[0], new, shells, made.earlier, notes)
    if lines:
        return _beside_neighbours(document, lot[0], new, shells, lines, notes)
    mesh, dropped = document.mesh, 0
    for key in lot[1:]:
        mesh, more = _replaced(mesh, None, key)
        dropped += more
    mesh, more = _replaced(mesh, new, lot[0])
    dropped += more
    if dropped:
        notes.append(f"{dropped} elements that hung on the old shells of {name} were dropped; undo brings them back.")
    edges, holes = dict(document.mesh_edges), dict(document.mesh_holes)
    first = mesh.nodes - new.nodes
    along = tuple(mesh.node_id[first + nodes].astype(np.int32) for nodes in shells.edge_nodes)
    for k, key in enumerate(lot):
        if made.welded is None:
            edges[key], holes[key] = along, shells.holes
            continue
        edges[key] = tuple(along[e] for e in made.welded.edges[k])
        there = {int(e): j for j, e in enumerate(made.welded.edges[k])}
        holes[key] = tuple(replace(h, edges=tuple(there.get(e, -1) for e in h.edges)) for h in shells.holes if set(h.edges) <= set(there))
    return replace(document, mesh=mesh, mesh_edges=edges, mesh_holes=holes, notes=())


def _name(document: Document, lot: tuple[int, ...]) -> str:
    return document.body(lot[0]).name if len(lot) == 1 else "Joined bodies"


def _set_in(document: Document, key: int, new: Mesh, shells: SheetMesh, earlier: Earlier, notes: list[str]) -> Document:
    """The newly meshed regions beside those that stay."""
    rings = ring_numbers(document.mesh_holes.get(key, ()), shells.holes, earlier.edge_map)
    old = renumbered(document.mesh, key, earlier.face_map, earlier.edge_map, rings)
    mesh, lines, dropped = set_in(old, new, shells, key, earlier.lines)
    if dropped:
        notes.append(f"{dropped} elements that hung on old shells were dropped; undo brings them back.")
    again = len({int(f) for f in new.face})
    notes.append(f"{again} of {len(document.sheets[key].shape.faces)} walls were meshed again; the others kept their nodes.")
    edges, holes = dict(document.mesh_edges) | {key: lines}, dict(document.mesh_holes) | {key: shells.holes}
    return replace(document, mesh=mesh, mesh_edges=edges, mesh_holes=holes, notes=())


def _beside_neighbours(
    document: Document, key: int, new: Mesh, shells: SheetMesh, lines: dict[int, NDArray[np.int32]], notes: list[str]
) -> Document:
    """A newly meshed body that takes the nodes of its neighbours along common edges."""
    mesh, along, dropped = set_in(document.mesh, new, shells, key, lines)
    matched = len(shells.kept_edges)
    notes.append(f"{document.body(key).name}: {matched} of {len(lines)} edges in common took the nodes of the mesh beside them.")
    if dropped:
        notes.append(f"{dropped} elements that hung on old shells were dropped; undo brings them back.")
    edges, holes = dict(document.mesh_edges) | {key: along}, dict(document.mesh_holes) | {key: shells.holes}
    return replace(document, mesh=mesh, mesh_edges=edges, mesh_holes=holes, notes=())


def _shell_parts(document: Document, lot: tuple[int, ...]) -> tuple[tuple[Part, ...], list[int]]:
    """The document's parts with a shell part for each body, and their keys."""
    parts = list(document.parts)
    numbers = []
    for key in lot:
        body = document.body(key)
        part = next((p for p in parts if p.kind == "shell" and p.name == body.name), None)
        if part is None:
            number = max((p.key for p in parts), default=0) + 1
            part = Part(number, body.name, TINTS[len(parts) % len(TINTS)], "shell", document.body_material.get(key, ""))
            parts.append(part)
        numbers.append(part.key)
    return tuple(parts), numbers


def _replaced(mesh: Mesh, new: Mesh | None, body: int) -> tuple[Mesh, int]:
    """The mesh with the shells of a body replaced (or only taken out); elements that used their nodes go too."""
    old = mesh.body == body
    if not old.any():
        return mesh.plus(new) if new is not None else mesh, 0
    shell_nodes = np.zeros(mesh.nodes, bool)
    conn = mesh.conn[old & mesh.is_shell]
    shell_nodes[conn[conn >= 0]] = True
    hangs = ~old & np.where(mesh.conn >= 0, shell_nodes[np.maximum(mesh.conn, 0)], False).any(axis=1)
    rest = mesh.without_elements(old | hangs)
    others = hangs & ~(mesh.is_shell & (mesh.body >= 0))
    return rest.plus(new) if new is not None else rest, int(others.sum())


def without_lost(document: Document, notes: list[str]) -> Document:
    """Spiders and masses whose nodes are gone are dropped, with a note."""
    known = set(document.mesh.node_id.tolist())
    spiders = tuple(s for s in document.spiders if s.centre in known and all(n in known for n in s.nodes.tolist()))
    masses = tuple(m for m in document.masses if m.node in known)
    lost = len(document.spiders) - len(spiders) + len(document.masses) - len(masses)
    if lost:
        notes.append(f"{lost} spiders or masses on the old shells were dropped; undo brings them back.")
    return replace(document, spiders=spiders, masses=masses)


class SetDivisions(Parameters):
    body: int
    edges: tuple[int, ...] = Field(title="Edges")
    count: int = Field(ge=1, le=5000, title="Divisions", description="Elements along each chosen edge")


@operation("mesh.divisions", "Change divisions", "mesh", SetDivisions)
def set_divisions(document: Document, parameters: SetDivisions, progress: Progress) -> Document:
    """Give edges a number of elements by hand and mesh the body again."""
    if parameters.body not in document.mesh_edges:
        raise Refused("This body has no shells yet.", "Mesh it first.")
    sheet_with(document, parameters.body, parameters.edges, "edge")
    divisions = {k: dict(v) for k, v in document.choices.divisions.items()}
    mine = divisions.setdefault(str(parameters.body), {})
    for e in parameters.edges:
        mine[e] = parameters.count
    choices: MeshChoices = replace(document.choices, divisions=divisions)
    soon = with_columns(document, choices, parameters.body, dict.fromkeys(parameters.edges, parameters.count))
    if soon is not None:
        return soon
    return mesh_again(replace(document, choices=choices), [parameters.body], progress)


class UpdateStale(Parameters):
    pass


@operation("mesh.update", "Update what is stale", "mesh", UpdateStale)
def update_stale(document: Document, parameters: UpdateStale, progress: Progress) -> Document:
    """Make again the midsurfaces and shells whose geometry or choices changed."""
    from kind_rivet.core.operations.midsurface import ExtractMidsurface, extract_midsurfaces

    alive = {b.key for b in document.bodies}
    sheets = [k for k in document.sheets if k in alive and document.basis.get(f"sheet:{k}") != document.geometry_state(k)]
    if sheets:
        document = extract_midsurfaces(document, ExtractMidsurface(bodies=tuple(sheets), limit=300.0), progress)
    meshes = [k for k in document.mesh_edges if k in sheets or document.basis.get(f"mesh:{k}") != document.mesh_state(k)]
    if meshes:
        document = mesh_again(document, meshes, progress)
    if not sheets and not meshes:
        raise Refused("Nothing is stale.", "")
    return document
