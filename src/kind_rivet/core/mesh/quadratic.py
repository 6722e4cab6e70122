"""Shells with mid-side nodes: made from linear ones when a mesh is handed over, the middles placed on the geometry.

The mesh that is worked on stays linear; its corner nodes keep their numbers, mid-side nodes
get the numbers after them. Bends whose rows were set so that flat elements touch the arc
(`meshing.bends`) go back onto it first, for curved elements need no such help.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, project
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.mesh.kinds import QUAD, QUAD8, TRIA, TRIA6
from kind_rivet.core.mesh.mesh import ELEMENT_FIELDS, NODE_FIELDS, ON_EDGE, ON_FACE, ON_VERTEX, Mesh
from kind_rivet.core.meshing.curves import Curve

FARTHEST = 0.2  # of a side: a middle that would stand farther off the chord stays on it
ON_CURVE = 1e-3  # of its length: a hard point nearer to an edge than this is on it (arcs are told by their facets)
MOST_MOVED = 0.3  # of the shortest side beside it: a corner farther off its place stays


@dataclass(frozen=True)
class MidSides:
    """ends (s, 2) corner nodes of every shell side; points (s, 3) their middles; straight: how many could not follow the geometry."""

    ends: NDArray[np.int32]
    points: Floats
    straight: int


def with_mid_sides(mesh: Mesh, sheets: Mapping[int, Shape]) -> tuple[Mesh, MidSides]:
    """All trias and quads with six and eight nodes; `sheets` by body hold the geometry. Other elements keep their kinds."""
    shells = np.flatnonzero(mesh.is_shell)
    conn = mesh.conn[shells, :4]
    tria = mesh.kind[shells] == TRIA
    points = _settled(mesh, sheets)
    n = np.where(tria, 3, 4)
    row = np.repeat(np.arange(len(shells)), n)
    k = np.arange(len(row)) - np.repeat(np.cumsum(n) - n, n)
    a, b = conn[row, k], conn[row, (k + 1) % n[row]]
    ends, first, side = np.unique(np.sort(np.column_stack((a, b)), axis=1), axis=0, return_index=True, return_inverse=True)
    side = side.ravel()
    middle, straight = _middles(points, mesh, ends, shells[row[first]], sheets)
    new = np.full((len(shells), mesh.conn.shape[1]), -1, np.int32)
    corner = np.arange(4)[None] < n[:, None]
    new[:, :4][corner] = conn[corner]
    new[row, n[row] + k] = mesh.nodes + side
    whole = mesh.conn.copy()
    whole[shells] = new
    kind = mesh.kind.copy()
    kind[shells] = np.where(tria, TRIA6, QUAD8)
    s = len(ends)
    more: dict[str, NDArray[Any]] = {
        "points": middle, "node_id": int(mesh.node_id.max(initial=0)) + 1 + np.arange(s, dtype=np.int32), "on_kind": np.zeros(s, np.uint8),
        "on_item": np.full(s, -1, np.int32), "on_body": np.full(s, -1, np.int32), "height": np.zeros(s),
    }  # fmt: skip
    nodes: dict[str, NDArray[Any]] = {name: np.concatenate((getattr(mesh, name), more[name])) for name in NODE_FIELDS}
    nodes["points"] = np.concatenate((points, middle))
    elements = {name: getattr(mesh, name) for name in ELEMENT_FIELDS} | {"kind": kind, "conn": whole}
    return Mesh(**nodes, **elements), MidSides(ends.astype(np.int32), middle, straight)


def linear(mesh: Mesh) -> Mesh:
    """The mesh with four- and three-node shells in place of eight- and six-node ones; nodes that only these had are left out."""
    high = (mesh.kind == QUAD8) | (mesh.kind == TRIA6)
    if not high.any():
        return mesh
    conn = mesh.conn.copy()
    was = np.zeros(mesh.nodes, bool)
    was[conn[high][conn[high] >= 0]] = True
    conn[mesh.kind == QUAD8, 4:] = -1
    conn[mesh.kind == TRIA6, 3:] = -1
    kind = np.where(mesh.kind == QUAD8, QUAD, np.where(mesh.kind == TRIA6, TRIA, mesh.kind)).astype(np.uint8)
    used = np.zeros(mesh.nodes, bool)
    used[conn[conn >= 0]] = True
    stay = used | ~was
    number = np.cumsum(stay) - 1
    nodes = {name: getattr(mesh, name)[stay] for name in NODE_FIELDS}
    conn = np.where(conn >= 0, number[np.maximum(conn, 0)], -1).astype(np.int32)
    return replace(mesh, **nodes, kind=kind, conn=conn)


def members_between(ids: NDArray[np.int32], mesh: Mesh, middles: MidSides, first: int) -> NDArray[np.int32]:
    """A node set with the mid-side nodes (numbered from `first`) whose both ends belong to it."""
    inside = np.isin(mesh.node_id, ids)
    both = np.flatnonzero(inside[middles.ends].all(axis=1))
    return np.concatenate((ids, first + both)).astype(np.int32)


def _settled(mesh: Mesh, sheets: Mapping[int, Shape]) -> Floats:
    """Points (n, 3) with nodes that stand off their face, edge or vertex on purpose put back onto it."""
    points = mesh.points.copy()
    conn = mesh.conn[mesh.is_shell, :4]
    conn = np.where(conn >= 0, conn, conn[:, :1])
    side = np.linalg.norm(points[conn] - points[np.roll(conn, 1, axis=1)], axis=2)
    shortest = np.full(mesh.nodes, np.inf)
    np.minimum.at(shortest, conn.ravel(), np.where(side > 0, side, np.inf).min(axis=1).repeat(4))
    for body, shape in sheets.items():
        mine = mesh.on_body == body
        raised = {int(f) for f in np.unique(mesh.on_item[mine & (mesh.on_kind == ON_FACE) & (mesh.height != 0)])}
        edges = {e for f in raised if f < len(shape.faces) for e in shape.face_edges[f]}
        for f in raised:
            if f < len(shape.faces) and shape.faces[f].carrier.kind != "free":
                nodes = np.flatnonzero(mine & (mesh.on_kind == ON_FACE) & (mesh.on_item == f))
                _put(points, nodes, project(shape.faces[f].carrier, points[nodes]), shortest)
        for e in edges:
            nodes = np.flatnonzero(mine & (mesh.on_kind == ON_EDGE) & (mesh.on_item == e))
            curve = Curve.through(shape.points[shape.edges[e].nodes], shape.edges[e].carrier)
            _put(points, nodes, _feet(curve, points[nodes]), shortest)
        corners = {int(v) for e in edges for v in shape.edges[e].nodes[[0, -1]]}
        nodes = np.flatnonzero(mine & (mesh.on_kind == ON_VERTEX) & np.isin(mesh.on_item, list(corners)))
        _put(points, nodes, shape.points[mesh.on_item[nodes]], shortest)
    return points


def _put(points: Floats, nodes: NDArray[np.int64], target: Floats, shortest: Floats) -> None:
    good = np.linalg.norm(target - points[nodes], axis=1) < MOST_MOVED * shortest[nodes]
    points[nodes[good]] = target[good]


def _feet(curve: Curve, points: Floats) -> Floats:
    """Nearest points (n, 3) on a curve."""
    return curve.at(np.array([curve.nearest_station(p) for p in points])) if len(points) else points


def _middles(
    points: Floats, mesh: Mesh, ends: NDArray[np.int32], element: NDArray[np.int64], sheets: Mapping[int, Shape]
) -> tuple[Floats, int]:
    """Middles (s, 3) of sides: on the edge that both ends lie on, else on the face of an element beside; and how many stay on the chord."""
    chord = points[ends].mean(axis=1)
    out = chord.copy()
    for body, shape in sheets.items():
        mine = np.flatnonzero(mesh.body[element] == body)
        face = mesh.face[element[mine]]
        for f in np.unique(face[(face >= 0) & (face < len(shape.faces))]).tolist():
            lot = mine[face == f]
            carrier = shape.faces[f].carrier
            if carrier.kind != "free":
                out[lot] = project(carrier, chord[lot])
            else:
                facets = shape.facets[shape.facet_face == f]
                facet, weight, _ = FacetTree.over(shape.points, facets).nearest(chord[lot])
                out[lot] = np.einsum("ij,ijk->ik", weight, shape.points[facets[facet]])
        for e, edge in enumerate(shape.edges):
            if edge.carrier.kind == "line":
                continue
            on = (mesh.on_body == body) & (mesh.on_kind == ON_EDGE) & (mesh.on_item == e)
            tips = (mesh.on_body == body) & (mesh.on_kind == ON_VERTEX) & np.isin(mesh.on_item, edge.nodes[[0, -1]])
            curve = Curve.through(shape.points[edge.nodes], edge.carrier)
            pinned = np.flatnonzero((mesh.on_body == body) & (mesh.on_kind == ON_VERTEX) & (mesh.on_item < 0))  # hard points, some on edges
            tips[pinned] = np.linalg.norm(_feet(curve, points[pinned]) - points[pinned], axis=1) < ON_CURVE * curve.length
            there = (on | tips)[ends].all(axis=1)
            there &= on[ends].any(axis=1) | (np.linalg.norm(np.diff(points[ends], axis=1)[:, 0], axis=1) > 0.9 * shape.edge_length[e])
            lot = np.flatnonzero(there)
            if len(lot):
                foot = _feet(curve, chord[lot])
                near = np.linalg.norm(foot - chord[lot], axis=1) < FARTHEST * np.linalg.norm(
                    np.diff(points[ends[lot]], axis=1)[:, 0], axis=1
                )
                out[lot[near]] = foot[near]
    length = np.linalg.norm(points[ends[:, 1]] - points[ends[:, 0]], axis=1)
    far = np.linalg.norm(out - chord, axis=1) > FARTHEST * length
    out[far] = chord[far]
    return out, int(far.sum())
