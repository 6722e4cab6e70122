"""Mixed elements: materials, beams, solid layers, spiders, masses, merging."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from kind_rivet.core.document.document import TINTS, Document, LumpedMass, Part, Rule, Section, Spider
from kind_rivet.core.document.live_sets import Finder, hole_nodes
from kind_rivet.core.errors import Refused
from kind_rivet.core.mesh.coincident import coincident_groups, merged
from kind_rivet.core.mesh.kinds import BEAM
from kind_rivet.core.meshing.layers import grow_layers
from kind_rivet.core.operations.registry import Parameters, Progress, operation


class AssignMaterial(Parameters):
    material: str = Field("Steel", title="Material")
    bodies: tuple[int, ...] = Field((), title="Bodies", description="Empty: all bodies")


@operation("mixed.material", "Assign a material", "mixed", AssignMaterial)
def assign_material(document: Document, parameters: AssignMaterial, progress: Progress) -> Document:
    """Give bodies a material; all meshed on them inherits it."""
    if document.material(parameters.material) is None:
        raise Refused(f"There is no material called {parameters.material}.", f"Known: {', '.join(m.name for m in document.materials)}.")
    keys = list(parameters.bodies) or [b.key for b in document.bodies]
    given = dict(document.body_material) | dict.fromkeys(keys, parameters.material)
    names = {document.body(k).name for k in keys}
    parts = tuple(replace(p, material=parameters.material) if p.kind == "shell" and p.name in names else p for p in document.parts)
    return replace(
        document,
        body_material=given,
        parts=parts,
        notes=(f"{parameters.material} for {len(keys)} {'body' if len(keys) == 1 else 'bodies'}.",),
    )


def _section(shape: str, width: float, height: float, wall: float) -> Section:
    least = width if shape == "tube" else min(width, height)
    if 2 * wall >= least:
        raise Refused(f"A wall of {wall:g} leaves no hollow in a section of {least:g}.", "Make the wall thinner than half the width.")
    return Section("tube", (width, wall)) if shape == "tube" else Section("box", (width, height, wall))


def _part(document: Document, name: str, kind: str, material: str, section: Section | None = None) -> tuple[tuple[Part, ...], int]:
    """Parts with one of this name and make; a part that is there already is used again."""
    for p in document.parts:
        if p.name == name and p.kind == kind and p.section == section and p.material == material:
            return document.parts, p.key
    taken = {p.name for p in document.parts}
    label, k = name, 2
    while label in taken:
        label, k = f"{name} {k}", k + 1
    key = document.next_part_key()
    return (*document.parts, Part(key, label, TINTS[(key + 1) % len(TINTS)], kind, material, section)), key


class BeamsAlongEdges(Parameters):
    body: int
    edges: tuple[int, ...] = Field(title="Edges")
    section: Literal["tube", "box"] = Field("tube", title="Section")
    width: float = Field(20.0, gt=0, title="Width", description="Outer diameter of a tube", json_schema_extra={"unit": "length"})
    height: float = Field(20.0, gt=0, title="Height", description="Boxes only", json_schema_extra={"unit": "length"})
    wall: float = Field(1.5, gt=0, title="Wall", json_schema_extra={"unit": "length"})
    material: str = Field("Steel", title="Material")


@operation("mixed.beams_along", "Beams along edges", "mixed", BeamsAlongEdges)
def beams_along(document: Document, parameters: BeamsAlongEdges, progress: Progress) -> Document:
    """Beam elements on the mesh nodes along picked edges."""
    lines = document.mesh_edges.get(parameters.body)
    if lines is None:
        raise Refused("This body has no shells yet, so its edges have no nodes.", "Mesh it first.")
    if not parameters.edges or any(not 0 <= e < len(lines) for e in parameters.edges):
        raise Refused("No edge is chosen.", "Choose edges in the Stage.")
    section = _section(parameters.section, parameters.width, parameters.height, parameters.wall)
    parts, key = _part(document, f"Beams {section.label}", "beam", parameters.material, section)
    index = document.node_index
    chains = [np.array([index[int(n)] for n in lines[e]]) for e in parameters.edges]
    conn = np.concatenate([np.column_stack((c[:-1], c[1:])) for c in chains])
    mesh = document.mesh.with_elements(BEAM, conn, key)
    return replace(
        document,
        mesh=mesh,
        parts=parts,
        notes=(f"{len(conn)} beams along {len(chains)} edge{'s' if len(chains) > 1 else ''}, {section.label}.",),
    )


class BeamBetween(Parameters):
    start: int = Field(title="From node")
    end: int = Field(title="To node")
    section: Literal["tube", "box"] = Field("tube", title="Section")
    width: float = Field(20.0, gt=0, title="Width", json_schema_extra={"unit": "length"})
    height: float = Field(20.0, gt=0, title="Height", json_schema_extra={"unit": "length"})
    wall: float = Field(1.5, gt=0, title="Wall", json_schema_extra={"unit": "length"})
    material: str = Field("Steel", title="Material")
    divisions: int = Field(0, ge=0, le=10000, title="Divisions", description="0: by the element size")


@operation("mixed.beam_between", "Beam between two nodes", "mixed", BeamBetween)
def beam_between(document: Document, parameters: BeamBetween, progress: Progress) -> Document:
    """A straight row of beams from one node to another."""
    a, b = _node(document, parameters.start), _node(document, parameters.end)
    p, q = document.mesh.points[a], document.mesh.points[b]
    length = float(np.linalg.norm(q - p))
    if a == b or length == 0:
        raise Refused("Both ends are the same node.", "Choose two different nodes.")
    section = _section(parameters.section, parameters.width, parameters.height, parameters.wall)
    n = parameters.divisions or max(1, round(length / (document.choices.size or length)))
    inner = p + (q - p) * (np.arange(1, n) / n)[:, None]
    parts, key = _part(document, f"Beams {section.label}", "beam", parameters.material, section)
    first = document.mesh.nodes
    chain = np.concatenate(([a], first + np.arange(n - 1), [b]))
    mesh = document.mesh.with_nodes(inner).with_elements(BEAM, np.column_stack((chain[:-1], chain[1:])), key)
    return replace(document, mesh=mesh, parts=parts, notes=(f"{n} beams over {length:.4g} {document.units}, {section.label}.",))


def _node(document: Document, number: int) -> int:
    index = document.node_index.get(number)
    if index is None:
        raise Refused(f"There is no node {number}.", "Choose a node in the Stage.")
    return index


def element_indices(document: Document, numbers: tuple[int, ...]) -> NDArray[np.int64]:
    """Indices of elements by their stable numbers. Raises `Refused` when one is unknown."""
    wanted = np.array(numbers, np.int64)
    order = np.argsort(document.mesh.element_id, kind="stable")
    ids = document.mesh.element_id[order]
    at = np.searchsorted(ids, wanted)
    if len(wanted) and (at.max(initial=0) >= len(ids) or (ids[np.minimum(at, len(ids) - 1)] != wanted).any()):
        raise Refused("Some of the chosen elements no longer exist.", "Choose them again.")
    return np.asarray(order[at], np.int64)


class SolidLayers(Parameters):
    elements: tuple[int, ...] = Field(title="Shells", description="Element numbers the layers grow from")
    along: Literal["normals", "x", "y", "z"] = Field("normals", title="Along")
    height: float = Field(10.0, title="Height", description="Negative: to the other side", json_schema_extra={"unit": "length"})
    layers: int = Field(2, ge=1, le=200, title="Layers")
    material: str = Field("Aluminium", title="Material")


@operation("mixed.layers", "Solid layers from shells", "mixed", SolidLayers)
def solid_layers(document: Document, parameters: SolidLayers, progress: Progress) -> Document:
    """Grow hexahedra and wedges from chosen shells, along their normals or an axis."""
    if parameters.height == 0:
        raise Refused("The height is zero.", "Give a height; a negative one grows to the other side.")
    chosen = element_indices(document, parameters.elements)
    axis = None if parameters.along == "normals" else np.eye(3)["xyz".index(parameters.along)]
    parts, key = _part(document, "Solid layers", "solid", parameters.material)
    mesh = grow_layers(document.mesh, chosen, parameters.layers, parameters.height, key, axis)
    made = mesh.elements - document.mesh.elements
    return replace(
        document,
        mesh=mesh,
        parts=parts,
        notes=(f"{made} solids in {parameters.layers} layers, {abs(parameters.height):g} {document.units} high.",),
    )


class SpidersOnHoles(Parameters):
    holes: tuple[tuple[int, float, float, float], ...] = Field(title="Holes", description="Body and centre of each hole")
    mass: float = Field(0.0, ge=0, title="Mass on each centre, t", description="0: none")


@operation("mixed.spiders", "Rigid spiders on holes", "mixed", SpidersOnHoles)
def spiders_on_holes(document: Document, parameters: SpidersOnHoles, progress: Progress) -> Document:
    """One rigid spider per chosen hole, its centre node found, on wish with a lumped mass."""
    if not parameters.holes:
        raise Refused("No hole is chosen.", "Choose holes in the Stage; each gets its own spider.")
    mesh, spiders, masses = document.mesh, list(document.spiders), list(document.masses)
    taken = {s.hole for s in spiders}
    find = Finder(document)
    made = 0
    for body, x, y, z in parameters.holes:
        number = find.hole_number(Rule("hole", body, (x, y, z)))
        if number < 0:
            raise Refused(f"There is no meshed hole at ({x:.4g}, {y:.4g}, {z:.4g}).", "Mesh the body first, then choose its holes.")
        label = f"{body}:{number}"
        if label in taken:
            continue
        taken.add(label)
        hole = document.mesh_holes[body][number]
        nodes = hole_nodes(document, body, number)
        mesh = mesh.with_nodes(np.array([hole.centre]))
        centre = int(mesh.node_id[-1])
        spiders.append(Spider(f"Spider {len(spiders) + 1}", centre, nodes, label))
        if parameters.mass > 0:
            masses.append(LumpedMass(centre, parameters.mass))
        made += 1
    if not made:
        raise Refused("Every chosen hole already has a spider.", "Choose other holes.")
    note = f"{made} rigid spider{'s' if made > 1 else ''}, one per hole" + (
        f", each with {parameters.mass:g} t." if parameters.mass > 0 else "."
    )
    return replace(document, mesh=mesh, spiders=tuple(spiders), masses=tuple(masses), notes=(note,))


class MassOnNode(Parameters):
    node: int = Field(title="Node")
    mass: float = Field(gt=0, title="Mass, t")


@operation("mixed.mass", "Lumped mass on a node", "mixed", MassOnNode)
def mass_on_node(document: Document, parameters: MassOnNode, progress: Progress) -> Document:
    """Put a mass in tonnes on a node; a mass that is there already is replaced."""
    _node(document, parameters.node)
    rest = tuple(m for m in document.masses if m.node != parameters.node)
    note = f"{parameters.mass:g} t ({1000 * parameters.mass:g} kg) on node {parameters.node}."
    return replace(document, masses=(*rest, LumpedMass(parameters.node, parameters.mass)), notes=(note,))


class MergeNodes(Parameters):
    tolerance: float = Field(0.01, gt=0, title="Tolerance", json_schema_extra={"unit": "length"})


@operation("mixed.merge", "Merge coincident nodes", "mixed", MergeNodes)
def merge_nodes(document: Document, parameters: MergeNodes, progress: Progress) -> Document:
    """Merge nodes within a tolerance, keeping the lowest number; elements are never collapsed."""
    groups = coincident_groups(document.mesh, parameters.tolerance)
    if not groups:
        raise Refused(
            f"No nodes lie within {parameters.tolerance:g} {document.units} of each other.",
            "Nothing needs merging, or the tolerance is too small.",
        )
    mesh, dropped, left = merged(document.mesh, groups)

    def now(ids: NDArray[np.int32]) -> NDArray[np.int32]:
        return np.array([dropped.get(int(i), int(i)) for i in ids], np.int32)

    sets = tuple(replace(s, ids=np.unique(now(s.ids))) if s.kind == "node" else s for s in document.sets)
    spiders = tuple(replace(s, centre=dropped.get(s.centre, s.centre), nodes=np.unique(now(s.nodes))) for s in document.spiders)
    masses = tuple(replace(m, node=dropped.get(m.node, m.node)) for m in document.masses)
    edges = {k: tuple(now(line) for line in lines) for k, lines in document.mesh_edges.items()}
    notes = [f"{len(dropped)} nodes merged in {len(groups) - left} places."]
    if left:
        notes.append(f"{left} places were left: merging there would collapse an element.")
    return replace(document, mesh=mesh, sets=sets, spiders=spiders, masses=masses, mesh_edges=edges, notes=tuple(notes))
