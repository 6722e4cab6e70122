"""Mesh: shells on midsurfaces."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from kind_rivet.core.document.document import TINTS, Document, MeshChoices, Part, shell_rules
from kind_rivet.core.document.live_sets import refreshed
from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.weld import Welded, weld
from kind_rivet.core.mesh.mesh import Mesh
from kind_rivet.core.meshing.assemble import as_mesh, measure_thickness
from kind_rivet.core.meshing.neighbours import shared_lines
from kind_rivet.core.meshing.reuse import Earlier, earlier_mesh, renumbered, ring_numbers, set_in, what_stays
from kind_rivet.core.meshing.rules import ShellRules, WasherRule
from kind_rivet.core.meshing.sheet_mesh import EDGE, FACE, HARD_POINT, VERTEX, Kept, SheetMesh
from kind_rivet.core.meshing.shells import mesh_sheet
from kind_rivet.core.meshing.sizes import wanted_on
from kind_rivet.core.operations.registry import Parameters, Progress, operation
from kind_rivet.core.repair.holds import holds_of
from kind_rivet.core.repair.optimise import optimise

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
    lots: list[list[int]] = []
    for key in keys:
        if document.sheets.get(key) is None:
            raise Refused(f"{document.body(key).name} has no midsurface.", "Extract it first.")
        if key not in done:
            group = next((g for g in document.joined if key in g and neighbours == "mesh together"), (key,))
            lots.append([k for k in group if k in document.sheets])
            done |= set(lots[-1])
    for k, lot in enumerate(lots):
        name = document.body(lot[0]).name if len(lot) == 1 else f"{len(lot)} joined bodies"

        def part_of(share: float, what: str, k: int = k, name: str = name) -> None:
            progress((k + share) / len(lots), f"{what} {name}")

        lines = _lines_of_neighbours(result, lot[0]) if neighbours == "take their nodes" else {}
        result = _mesh_lot(result, lot, part_of, smooth, afresh, notes, lines)
    result = without_lost(result, notes)
    basis = dict(result.basis)
    for key in done:
        basis[f"mesh:{key}"] = result.mesh_state(key)
        basis[f"rules:{key}"] = _rules_word(result, key)
    result = refreshed(replace(result, basis=basis))
    quality = result.quality
    shells_made = int(sum((result.mesh.body == key).sum() for key in done))
    sentence = f"{shells_made} shells at size {document.choices.size:g} {document.units}: index {quality.mesh_index:.1f}, {len(quality.failing)} failing."
    return replace(result, notes=(sentence, *notes))


def _rules_word(document: Document, body: int) -> str:
    return f"{document.choices.size:g}|{document.choices.growth:g}|{document.choices.washers}{document.choices.beside_size(body)}"


def _lines_of_neighbours(document: Document, key: int) -> dict[int, NDArray[np.int32]]:
    """Node numbers along the edges that a body shares with joined bodies that are meshed."""
    group = next((g for g in document.joined if key in g), (key,))
    others = {
        k: document.meshed[k].shape
        for k in group
        if k != key and k in document.meshed and k in document.mesh_edges and (document.mesh.body == k).any()
    }
    return shared_lines(document.mesh, document.sheets[key].shape, others, document.mesh_edges)


def _mesh_lot(
    document: Document,
    lot: list[int],
    progress: Progress,
    smooth: bool,
    afresh: bool,
    notes: list[str],
    lines: dict[int, NDArray[np.int32]],
) -> Document:
    """Mesh one body, or several that share their borders. `lines`: node numbers of neighbours along edges of a single body."""
    progress(0.0, "meshing")
    size = document.choices.size
    sheets = [document.sheets[k] for k in lot]
    welded = weld([s.shape for s in sheets], 1e-7 * max(s.shape.diagonal for s in sheets)) if len(lot) > 1 else None
    shape = welded.shape if welded else sheets[0].shape
    rules = _rules_of(document, lot, welded)
    hard = [h.centre for h in document.left_out if h.body in lot and h.hard_point] + [
        h.place for h in document.hard_points if h.body in lot
    ]
    points = np.array(hard).reshape(-1, 3)
    earlier = None if afresh or welded or lines else _earlier(document, lot[0])
    kept = (
        what_stays(document.mesh, shape, earlier.lines, _without_hard(earlier.faces, shape, document, lot[0], points)) if earlier else None
    )
    if lines:
        kept = Kept(frozenset(), {}, what_stays(document.mesh, shape, lines, frozenset()).lines)
        rules = replace(rules, divisions=dict(rules.divisions) | {e: len(line) - 1 for e, line in lines.items()})
    shells = mesh_sheet(shape, rules, points, kept)
    name = document.body(lot[0]).name if len(lot) == 1 else "Joined bodies"
    unfit = sum(1 for h in shells.holes if h.wanted > 0 and not h.widths)
    narrowed = sum(1 for h in shells.holes if h.widths and sum(h.widths) < h.wanted * len(h.widths) * 0.99)
    if unfit:
        notes.append(f"{name}: {unfit} hole{'s have' if unfit > 1 else ' has'} no room for a ring.")
    if narrowed:
        notes.append(f"{name}: {narrowed} ring{'s were' if narrowed > 1 else ' was'} narrowed to fit.")
    notes += [f"{name}: {note}" for note in shells.notes]
    parts, numbers = _shell_parts(document, lot)
    new = as_mesh(shells, shape, lot[0], numbers[0], size)
    if smooth:
        progress(0.7, "optimising")
        holds = holds_of(new, {lot[0]: shape})
        for e in shells.kept_edges:
            holds.movable[shells.edge_nodes[e]] = False
        refined = bool(rules.face_size or rules.edge_size or rules.places)
        wanted = wanted_on(shape, new.centres(), new.face, rules) if refined else None
        new = optimise(new, holds, document.limit_sheet, size, wanted=wanted).mesh
    if welded:
        new = _shared_out(new, welded, lot, numbers)
    for key, sheet in zip(lot, sheets, strict=True):
        thickness, offset = measure_thickness(new, key, document.body(key).shape, sheet)
        new = replace(new, thickness=thickness, offset=offset)
    meshed = dict(document.meshed) | dict(zip(lot, sheets, strict=True))
    if earlier is not None and shells.kept_faces:
        return _set_in(replace(document, parts=parts, meshed=meshed), lot[0], new, shells, earlier, notes)
    if lines:
        return _beside_neighbours(replace(document, parts=parts, meshed=meshed), lot[0], new, shells, lines, notes)
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
        if welded is None:
            edges[key], holes[key] = along, shells.holes
            continue
        edges[key] = tuple(along[e] for e in welded.edges[k])
        there = {int(e): j for j, e in enumerate(welded.edges[k])}
        holes[key] = tuple(replace(h, edges=tuple(there.get(e, -1) for e in h.edges)) for h in shells.holes if set(h.edges) <= set(there))
    return replace(document, mesh=mesh, parts=parts, mesh_edges=edges, mesh_holes=holes, meshed=meshed, notes=())


def _earlier(document: Document, key: int) -> Earlier | None:
    """What there is of an earlier mesh made by the same rules; None when there is none."""
    old, new = document.meshed.get(key), document.sheets[key]
    if old is None or key not in document.mesh_edges or document.basis.get(f"rules:{key}") != _rules_word(document, key):
        return None
    if not (document.mesh.body == key).any():
        return None
    return earlier_mesh(old.shape, new.shape, document.mesh_edges[key])


def _without_hard(faces: frozenset[int], shape: Shape, document: Document, key: int, points: NDArray[np.float64]) -> frozenset[int]:
    """Faces whose hard points are nodes already: the others must be meshed again."""
    mesh = document.mesh
    held = mesh.points[(mesh.on_body == key) & (mesh.on_kind == VERTEX) & (mesh.on_item == HARD_POINT)]
    touched: list[NDArray[np.float64]] = []
    for lot, other in ((points, held), (held, points)):
        for p in lot:
            if not len(other) or np.linalg.norm(other - p, axis=1).min() > 0.25 * document.choices.size:
                touched.append(p)
    if not touched:
        return faces
    facet, _, _ = FacetTree.over(shape.points, shape.facets).nearest(np.array(touched))
    return faces - {int(f) for f in shape.facet_face[facet]}


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


def _rules_of(document: Document, lot: list[int], welded: Welded | None) -> ShellRules:
    """The mesher's rules for one body, or for several with their faces and edges numbered as in the welded sheet."""
    if welded is None:
        return shell_rules(document.choices, lot[0])
    rules = ShellRules(document.choices.size, document.choices.growth, washers=document.choices.washers, trias=document.choices.trias)
    for k, key in enumerate(lot):
        mine = shell_rules(document.choices, key)
        edge, face = welded.edges[k], welded.faces[k]
        rules = replace(
            rules, places=mine.places, washers_at=rules.washers_at + mine.washers_at,
            divisions=dict(rules.divisions) | {int(edge[e]): n for e, n in mine.divisions.items() if 0 <= e < len(edge)},
            grading=dict(rules.grading) | {int(edge[e]): g for e, g in mine.grading.items() if 0 <= e < len(edge)},
            edge_size=dict(rules.edge_size) | {int(edge[e]): v for e, v in mine.edge_size.items() if 0 <= e < len(edge)},
            face_size=dict(rules.face_size) | {int(face[f]): v for f, v in mine.face_size.items() if 0 <= f < len(face)},
            ways=dict(rules.ways) | {int(face[f]): w for f, w in mine.ways.items() if 0 <= f < len(face)},
        )  # fmt: skip
    return rules


def _shell_parts(document: Document, lot: list[int]) -> tuple[tuple[Part, ...], list[int]]:
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


def _shared_out(mesh: Mesh, welded: Welded, lot: list[int], parts: list[int]) -> Mesh:
    """Elements and nodes of a welded sheet given to the bodies they came from (common ones to the first)."""
    owner_face = np.full(len(welded.shape.faces), -1)
    local_face = np.zeros(len(welded.shape.faces), np.int32)
    owner_edge, local_edge = np.full(len(welded.shape.edges), -1), np.zeros(len(welded.shape.edges), np.int32)
    owner_point, local_point = np.full(len(welded.shape.points), -1), np.zeros(len(welded.shape.points), np.int32)
    tables = ((owner_face, local_face, welded.faces), (owner_edge, local_edge, welded.edges), (owner_point, local_point, welded.points))
    for owner, local, maps in tables:
        for k in range(len(lot) - 1, -1, -1):
            owner[maps[k]] = k
            local[maps[k]] = np.arange(len(maps[k]))
    keys, numbers = np.array(lot, np.int32), np.array(parts, np.int32)
    whose = owner_face[mesh.face]
    item, on = mesh.on_item.copy(), np.zeros(mesh.nodes, np.int64)
    for kind, owner, local in ((VERTEX, owner_point, local_point), (EDGE, owner_edge, local_edge), (FACE, owner_face, local_face)):
        mine = (mesh.on_kind == kind) & (mesh.on_item >= 0)
        on[mine], item[mine] = owner[mesh.on_item[mine]], local[mesh.on_item[mine]]
    return replace(mesh, body=keys[whose], part=numbers[whose], face=local_face[mesh.face].astype(np.int32), on_item=item, on_body=keys[on])


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
    sheet = document.sheets.get(parameters.body)
    if sheet is None or parameters.body not in document.mesh_edges:
        raise Refused("This body has no shells yet.", "Mesh it first.")
    if any(not 0 <= e < len(sheet.shape.edges) for e in parameters.edges) or not parameters.edges:
        raise Refused("No such edge.", "Choose an edge of the midsurface.")
    divisions = {k: dict(v) for k, v in document.choices.divisions.items()}
    mine = divisions.setdefault(str(parameters.body), {})
    for e in parameters.edges:
        mine[e] = parameters.count
    choices: MeshChoices = replace(document.choices, divisions=divisions)
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
