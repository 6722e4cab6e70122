"""Meshing only what was touched: the rest of an earlier mesh stays, with its node and element numbers."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.mesh.mesh import ELEMENT_FIELDS, NODE_FIELDS, Mesh
from kind_rivet.core.meshing.shells import EDGE, FACE, VERTEX, Kept, SheetMesh
from kind_rivet.core.meshing.washers import RoundHole

Ints = NDArray[np.int32]


def what_stays(mesh: Mesh, shape: Shape, lines: Mapping[int, Ints], faces: frozenset[int]) -> Kept:
    """What an earlier mesh offers: `lines` names the nodes along edges (by the edge's present number), `faces` those still the same."""
    index = {int(n): i for i, n in enumerate(mesh.node_id)}
    places = {}
    for e, numbers in lines.items():
        at = [index.get(int(n), -1) for n in numbers]
        if len(at) > 1 and min(at) >= 0 and 0 <= e < len(shape.edges):
            places[e] = mesh.points[at]
    return Kept(faces, places)


def renumbered(mesh: Mesh, body: int, faces: Mapping[int, int], edges: Mapping[int, int], rings: Mapping[int, int]) -> Mesh:
    """The mesh with the sheet's new face, edge and hole numbers on the elements and nodes of a body (old → new; missing ones −1)."""
    mine = mesh.body == body
    face, ring, item = mesh.face.copy(), mesh.ring.copy(), mesh.on_item.copy()
    face[mine] = [faces.get(int(f), -1) for f in mesh.face[mine]]
    ring[mine] = [rings.get(int(r), -1) if r >= 0 else -1 for r in mesh.ring[mine]]
    on = mesh.on_body == body
    for kind, table in ((EDGE, edges), (FACE, faces), (VERTEX, {})):
        nodes = on & (mesh.on_kind == kind)
        item[nodes] = [table.get(int(k), -1) for k in mesh.on_item[nodes]]
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
    hangs = ~old & ~stays & np.where(mesh.conn >= 0, only_here[np.maximum(mesh.conn, 0)], False).any(axis=1)
    rest = mesh.without_elements(old | hangs)
    index = {int(n): i for i, n in enumerate(rest.node_id)}
    target = np.full(new.nodes, -1, np.int64)
    for e in shells.kept_edges:
        target[shells.edge_nodes[e]] = [index[int(n)] for n in lines[e]]
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
