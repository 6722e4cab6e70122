"""Mesh: shells on midsurfaces."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from pydantic import Field

from kind_rivet.core.document.document import TINTS, Document, MeshChoices, Part
from kind_rivet.core.document.live_sets import refreshed
from kind_rivet.core.errors import Refused
from kind_rivet.core.mesh.mesh import Mesh
from kind_rivet.core.meshing.assemble import as_mesh, measure_thickness
from kind_rivet.core.meshing.rules import ShellRules, WasherRule
from kind_rivet.core.meshing.shells import mesh_sheet
from kind_rivet.core.operations.registry import Parameters, Progress, operation
from kind_rivet.core.repair.holds import holds_of
from kind_rivet.core.repair.optimise import optimise

MOST_ELEMENTS = 3_000_000


class MeshShells(Parameters):
    size: float = Field(title="Element size", description="Wanted side length", json_schema_extra={"unit": "length"})
    bodies: tuple[int, ...] = Field((), title="Bodies", description="Empty: all bodies with a midsurface")
    rings: int = Field(1, ge=0, le=4, title="Rings round holes", description="0: no washers")
    ring_width: float = Field(0.0, ge=0, le=5, title="Ring width, sizes", description="0: chosen for each hole")
    growth: float = Field(0.25, gt=0.02, le=1.0, title="Growth", description="How much a side may lengthen per length from fine to coarse")
    smooth: bool = Field(True, title="Optimise", description="Move nodes until the index no longer rises")


@operation("mesh.shells", "Mesh with shells", "mesh", MeshShells)
def mesh_shells(document: Document, parameters: MeshShells, progress: Progress) -> Document:
    """Quad-dominant shells on midsurfaces, with washers round round holes and the walls' thickness on every element."""
    check_size(document, parameters.size)
    washers = (WasherRule(rings=parameters.rings, width=parameters.ring_width),)
    choices = replace(document.choices, size=parameters.size, growth=parameters.growth, washers=washers)
    keys = list(parameters.bodies) or list(document.sheets)
    return mesh_again(replace(document, choices=choices), keys, progress, parameters.smooth)


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


def mesh_again(document: Document, keys: list[int], progress: Progress, smooth: bool = True) -> Document:
    """Mesh the given bodies with the document's choices, replacing their shells and what hung on them."""
    mesh, parts = document.mesh, list(document.parts)
    notes: list[str] = []
    edges, holes, basis = dict(document.mesh_edges), dict(document.mesh_holes), dict(document.basis)
    for k, key in enumerate(keys):
        sheet, body = document.sheets.get(key), document.body(key)
        if sheet is None:
            raise Refused(f"{body.name} has no midsurface.", "Extract it first.")
        progress(k / len(keys), f"meshing {body.name}")
        rules = ShellRules(
            document.choices.size,
            document.choices.growth,
            washers=document.choices.washers,
            divisions=document.choices.divisions.get(str(key), {}),
        )
        hard = np.array([h.centre for h in document.left_out if h.body == key and h.hard_point]).reshape(-1, 3)
        shells = mesh_sheet(sheet.shape, rules, hard)
        part = next((p for p in parts if p.kind == "shell" and p.name == body.name), None)
        if part is None:
            part = Part(
                max((p.key for p in parts), default=0) + 1,
                body.name,
                TINTS[len(parts) % len(TINTS)],
                "shell",
                document.body_material.get(key, ""),
            )
            parts.append(part)
        new = as_mesh(shells, sheet.shape, key, part.key, document.choices.size)
        if smooth:
            progress((k + 0.7) / len(keys), f"optimising {body.name}")
            new = optimise(new, holds_of(new, {key: sheet.shape}), document.limit_sheet, document.choices.size).mesh
        thickness, offset = measure_thickness(new, key, body.shape, sheet.shape, sheet.thickness)
        new = replace(new, thickness=thickness, offset=offset)
        mesh, dropped = _replaced(mesh, new, key)
        if dropped:
            notes.append(f"{dropped} elements that hung on the old shells of {body.name} were dropped; undo brings them back.")
        first = mesh.nodes - new.nodes
        edges[key] = tuple(mesh.node_id[first + nodes].astype(np.int32) for nodes in shells.edge_nodes)
        holes[key] = shells.holes
        unfit = sum(1 for h in shells.holes if h.wanted > 0 and not h.widths)
        narrowed = sum(1 for h in shells.holes if h.widths and sum(h.widths) < h.wanted * len(h.widths) * 0.99)
        if unfit:
            notes.append(f"{body.name}: {unfit} hole{'s have' if unfit > 1 else ' has'} no room for a ring.")
        if narrowed:
            notes.append(f"{body.name}: {narrowed} ring{'s were' if narrowed > 1 else ' was'} narrowed to fit.")
        notes += [f"{body.name}: {note}" for note in shells.notes]
    result = replace(
        document, mesh=mesh, parts=tuple(parts), mesh_edges=edges, mesh_holes=holes, notes=(),
    )  # fmt: skip
    result = _without_lost(result, notes)
    for key in keys:
        basis[f"mesh:{key}"] = result.mesh_state(key)
    result = refreshed(replace(result, basis=basis))
    quality = result.quality
    shells_made = int(sum((result.mesh.body == key).sum() for key in keys))
    sentence = f"{shells_made} shells at size {document.choices.size:g} {document.units}: index {quality.mesh_index:.1f}, {len(quality.failing)} failing."
    return replace(result, notes=(sentence, *notes))


def _replaced(mesh: Mesh, new: Mesh, body: int) -> tuple[Mesh, int]:
    """The mesh with the shells of a body replaced; elements that used their nodes go too."""
    old = mesh.body == body
    if not old.any():
        return mesh.plus(new), 0
    shell_nodes = np.zeros(mesh.nodes, bool)
    conn = mesh.conn[old & mesh.is_shell]
    shell_nodes[conn[conn >= 0]] = True
    hangs = ~old & np.where(mesh.conn >= 0, shell_nodes[np.maximum(mesh.conn, 0)], False).any(axis=1)
    return mesh.without_elements(old | hangs).plus(new), int(hangs.sum())


def _without_lost(document: Document, notes: list[str]) -> Document:
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

    sheets = [k for k in document.sheets if document.basis.get(f"sheet:{k}") != document.prepare_state(k)]
    if sheets:
        document = extract_midsurfaces(document, ExtractMidsurface(bodies=tuple(sheets)), progress)
    meshes = [k for k in document.mesh_edges if k in sheets or document.basis.get(f"mesh:{k}") != document.mesh_state(k)]
    if meshes:
        document = mesh_again(document, meshes, progress)
    if not sheets and not meshes:
        raise Refused("Nothing is stale.", "")
    return document
