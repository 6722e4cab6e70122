"""Meshing only what was touched: the rest of an earlier mesh stays, with its node and element numbers."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.recognise import recognise, recognise_edges
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.mesh.mesh import ELEMENT_FIELDS, NODE_FIELDS, Mesh
from kind_rivet.core.mesh.numbers import Numbers
from kind_rivet.core.meshing.sheet_mesh import EDGE, FACE, VERTEX, Kept, SheetMesh
from kind_rivet.core.meshing.washers import RoundHole

Ints = NDArray[np.int32]
UNKNOWN_VERTEX = -2  # at a vertex whose number is no longer known (`HARD_POINT` is −1)


@dataclass(frozen=True)
class Earlier:
    """An earlier mesh seen from a body's present sheet: node numbers along edges, faces as they were, old → new numbers."""

    lines: dict[int, Ints]
    faces: frozenset[int]
    face_map: dict[int, int]
    edge_map: dict[int, int]


def earlier_mesh(old: Shape, new: Shape, lines: Sequence[Ints]) -> Earlier:
    """What of a mesh on `old` can stay on `new`; `lines` are its node numbers along the old edges."""
    if old is new or _alike(old, new):
        faces = {f: f for f in range(len(new.faces))}
        edges = {e: e for e in range(len(new.edges))}
        return Earlier(dict(enumerate(lines)), frozenset(faces), faces, edges)
    found = recognise(old, new)
    line_map = recognise_edges(old, new, found.faces)
    face_map = {f: int(g) for f, g in enumerate(found.faces) if g >= 0}
    edge_map = {e: int(g) for e, g in enumerate(line_map) if g >= 0}
    tolerance = 1e-6 * new.diagonal
    same_lines = {}
    for e, g in edge_map.items():
        a, b = old.points[old.edges[e].nodes], new.points[new.edges[g].nodes]
        if abs(old.edge_length[e] - new.edge_length[g]) > tolerance or e >= len(lines):
            continue
        if np.linalg.norm(a[0] - b[0]) < tolerance and np.linalg.norm(a[-1] - b[-1]) < tolerance:
            same_lines[g] = lines[e] if not old.edges[e].closed or _same_sense(a, b) else lines[e][::-1]
        elif np.linalg.norm(a[0] - b[-1]) < tolerance and np.linalg.norm(a[-1] - b[0]) < tolerance:
            same_lines[g] = lines[e][::-1]
    unchanged = frozenset(face_map[f] for f in face_map if found.unchanged[f])
    return Earlier(same_lines, unchanged, face_map, edge_map)


def _alike(a: Shape, b: Shape) -> bool:
    """Are two shapes the same by value (as after saving and opening)?"""
    pairs = ((a.points, b.points), (a.facets, b.facets), (a.facet_face, b.facet_face))
    if len(a.edges) != len(b.edges) or not all(np.array_equal(x, y) for x, y in pairs):
        return False
    return all(np.array_equal(x.nodes, y.nodes) for x, y in zip(a.edges, b.edges, strict=True))


def _same_sense(a: NDArray[np.float64], b: NDArray[np.float64]) -> bool:
    """Do two closed chains from one point run the same way round?"""
    quarter = a[len(a) // 4]
    return bool(np.linalg.norm(b[len(b) // 4] - quarter) <= np.linalg.norm(b[-1 - len(b) // 4] - quarter))


def what_stays(mesh: Mesh, shape: Shape, body: int, earlier: Earlier, holes: Sequence[RoundHole]) -> Kept:
    """What an earlier mesh of a body offers to its present sheet; `holes`: those of the earlier mesh."""
    was = {new: old for old, new in earlier.face_map.items()}
    ringed = [k for k, hole in enumerate(holes) if hole.widths]

    def inner(face: int) -> tuple[Floats, Ints]:
        rows = mesh.conn[(mesh.body == body) & (mesh.face == was[face]) & mesh.is_shell & ~np.isin(mesh.ring, ringed), :4]
        nodes = np.unique(rows[rows >= 0])
        return mesh.points[nodes], np.where(rows >= 0, np.searchsorted(nodes, np.maximum(rows, 0)), -1).astype(np.int32)

    return Kept(earlier.faces, places_along(mesh, shape, earlier.lines), inner=inner)


def places_along(mesh: Mesh, shape: Shape, lines: Mapping[int, Ints]) -> dict[int, Floats]:
    """Edge → places (n, 3) of the nodes whose numbers `lines` names along it (by the edge's present number), where all are there."""
    row = Numbers(mesh.node_id)
    places = {}
    for e, numbers in lines.items():
        at = row.of(numbers)
        if len(at) and at.min() >= 0 and 0 <= e < len(shape.edges):
            places[e] = mesh.points[at]
    return places


def _renamed(values: Ints, table: Mapping[int, int]) -> NDArray[np.int64]:
    """Each value by a table; −1 for negative ones and those it does not have."""
    lookup = np.full(max(int(values.max(initial=-1)), *table, -1) + 1, -1)
    for old, new in table.items():
        lookup[old] = new
    return np.where(values >= 0, lookup[np.maximum(values, 0)], -1) if len(lookup) else np.full(len(values), -1)


def renumbered(mesh: Mesh, body: int, faces: Mapping[int, int], edges: Mapping[int, int], rings: Mapping[int, int]) -> Mesh:
    """The mesh with the sheet's new face, edge and hole numbers on the elements and nodes of a body (old → new; missing ones −1)."""
    mine = mesh.body == body
    face, ring, item = mesh.face.copy(), mesh.ring.copy(), mesh.on_item.copy()
    face[mine] = _renamed(mesh.face[mine], faces)
    ring[mine] = _renamed(mesh.ring[mine], rings)
    on = mesh.on_body == body
    for kind, table in ((EDGE, edges), (FACE, faces)):
        nodes = on & (mesh.on_kind == kind)
        item[nodes] = _renamed(mesh.on_item[nodes], table)
    item[on & (mesh.on_kind == VERTEX) & (mesh.on_item >= 0)] = UNKNOWN_VERTEX
    return replace(mesh, face=face, ring=ring, on_item=item)


def ring_numbers(old: tuple[RoundHole, ...], new: tuple[RoundHole, ...], edges: Mapping[int, int]) -> dict[int, int]:
    """Old hole number → new one, by the edges round them."""
    by_edges = {frozenset(h.edges): k for k, h in enumerate(new)}
    out = {}
    for k, hole in enumerate(old):
        found = by_edges.get(frozenset(edges.get(e, -1) for e in hole.edges))
        if found is not None:
            out[k] = found
    return out


def set_in(mesh: Mesh, new: Mesh, shells: SheetMesh, body: int, lines: Mapping[int, Ints]) -> tuple[Mesh, tuple[Ints, ...], int]:
    """Put newly meshed regions of a body beside those of an earlier mesh that stay.

    Returns the mesh, the node numbers along every edge, and how many elements of other
    kinds hung on what went. `lines` are the earlier node numbers along the edges.
    """
    stays = np.isin(mesh.face, list(shells.kept_faces)) & (mesh.body == body)
    old = (mesh.body == body) & ~stays
    only_here = np.zeros(mesh.nodes, bool)
    conn = mesh.conn[old & mesh.is_shell]
    only_here[conn[conn >= 0]] = True
    conn = mesh.conn[stays]
    only_here[conn[conn >= 0]] = False
    held = np.concatenate([lines[e] for e in shells.kept_edges] or [np.empty(0, np.int32)])
    only_here[np.isin(mesh.node_id, held)] = False
    hangs = ~old & ~stays & np.where(mesh.conn >= 0, only_here[np.maximum(mesh.conn, 0)], False).any(axis=1)
    rest = mesh.without_elements(old | hangs)
    row = Numbers(rest.node_id)
    target = np.full(new.nodes, -1, np.int64)
    for e in shells.kept_edges:
        target[shells.edge_nodes[e]] = row.of(lines[e])
    fresh = target < 0
    target[fresh] = rest.nodes + np.arange(int(fresh.sum()))
    first_node, first_element = int(mesh.node_id.max(initial=0)), int(mesh.element_id.max(initial=0))
    node_values = {name: np.concatenate((getattr(rest, name), getattr(new, name)[fresh])) for name in NODE_FIELDS}
    node_values["node_id"][rest.nodes :] = first_node + 1 + np.arange(int(fresh.sum()))
    values = {name: np.concatenate((getattr(rest, name), getattr(new, name))) for name in ELEMENT_FIELDS}
    values["conn"][rest.elements :] = np.where(new.conn >= 0, target[np.maximum(new.conn, 0)], -1)
    values["element_id"][rest.elements :] = first_element + 1 + np.arange(new.elements)
    whole = Mesh(**node_values, **values)
    along = []
    for e, nodes in enumerate(shells.edge_nodes):
        if len(nodes) >= 2 or e not in lines:
            along.append(whole.node_id[target[nodes]].astype(np.int32) if len(nodes) else np.empty(0, np.int32))
        else:
            along.append(np.asarray(lines[e], np.int32))
    return whole, tuple(along), int((hangs & ~mesh.is_shell).sum())
