"""Sets with a rule: finding their members again after every remesh."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.document.document import Document, EntitySet, Rule
from kind_rivet.core.mesh.mesh import Mesh


def members(document: Document, rule: Rule, kind: str) -> NDArray[np.int32]:
    """Stable numbers of the nodes or elements a rule names; empty when its place is gone."""
    mesh = document.mesh
    if rule.kind in ("hole", "ring"):
        number = hole_number(document, rule)
        if number < 0:
            return np.empty(0, np.int32)
        elements = (mesh.body == rule.body) & (mesh.ring == number)
        if rule.kind == "ring":
            return _of(mesh, np.flatnonzero(elements), kind)
        nodes = hole_nodes(document, rule.body, number)
        if kind == "node":
            return nodes
        touching = np.isin(np.where(mesh.conn >= 0, mesh.node_id[np.maximum(mesh.conn, 0)], -1), nodes).any(axis=1)
        return mesh.element_id[touching]
    if rule.kind == "face":
        return _of(mesh, np.flatnonzero((mesh.body == rule.body) & (mesh.face == rule.number)), kind)
    if rule.kind == "part":
        return _of(mesh, np.flatnonzero(mesh.part == rule.number), kind)
    return np.empty(0, np.int32)


def hole_number(document: Document, rule: Rule) -> int:
    """Number among the body's meshed holes of the one at the rule's centre, −1 when it is gone."""
    holes = document.mesh_holes.get(rule.body, ())
    if not holes:
        return -1
    away = [float(np.linalg.norm(np.subtract(h.centre, rule.centre))) for h in holes]
    best = int(np.argmin(away))
    return best if away[best] < 0.5 * holes[best].radius else -1


def hole_nodes(document: Document, body: int, number: int) -> NDArray[np.int32]:
    """Node numbers round a meshed hole."""
    hole = document.mesh_holes[body][number]
    return np.unique(np.concatenate([document.mesh_edges[body][e] for e in hole.edges])).astype(np.int32)


def _of(mesh: Mesh, elements: NDArray[np.int64], kind: str) -> NDArray[np.int32]:
    if kind == "element":
        return mesh.element_id[elements]
    conn = mesh.conn[elements]
    return mesh.node_id[np.unique(conn[conn >= 0])]


def refreshed(document: Document) -> Document:
    """The document with every live set's members found again."""
    sets = tuple(replace(s, ids=members(document, s.rule, s.kind)) if s.rule is not None else s for s in document.sets)
    return replace(document, sets=sets)


def with_set(document: Document, new: EntitySet) -> Document:
    """The set added, or replacing the one of the same name."""
    return replace(document, sets=(*(s for s in document.sets if s.name != new.name), new))
