"""Sets with a rule: finding their members again after every remesh."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.document.document import Document, EntitySet, Rule
from kind_rivet.core.mesh.mesh import Mesh


class Finder:
    """Finds members of live sets in one document; its holes are laid out in search trees once."""

    def __init__(self, document: Document) -> None:
        self._document = document
        self._trees: dict[int, scipy.spatial.cKDTree] = {}

    def members(self, rule: Rule, kind: str) -> NDArray[np.int32]:
        """Stable numbers of the nodes or elements a rule names; empty when its place is gone."""
        mesh = self._document.mesh
        if rule.kind in ("hole", "ring"):
            number = self.hole_number(rule)
            if number < 0:
                return np.empty(0, np.int32)
            if rule.kind == "ring":
                return _of(mesh, np.flatnonzero((mesh.body == rule.body) & (mesh.ring == number)), kind)
            nodes = hole_nodes(self._document, rule.body, number)
            if kind == "node":
                return nodes
            touching = np.isin(np.where(mesh.conn >= 0, mesh.node_id[np.maximum(mesh.conn, 0)], -1), nodes).any(axis=1)
            return mesh.element_id[touching]
        if rule.kind == "face":
            return _of(mesh, np.flatnonzero((mesh.body == rule.body) & (mesh.face == rule.number)), kind)
        if rule.kind == "part":
            return _of(mesh, np.flatnonzero(mesh.part == rule.number), kind)
        return np.empty(0, np.int32)

    def hole_number(self, rule: Rule) -> int:
        """Number among the body's meshed holes of the one at the rule's centre, −1 when it is gone."""
        holes = self._document.mesh_holes.get(rule.body, ())
        if not holes:
            return -1
        if rule.body not in self._trees:
            self._trees[rule.body] = scipy.spatial.cKDTree(np.array([hole.centre for hole in holes]))
        away, best = self._trees[rule.body].query(rule.centre)
        return int(best) if away < 0.5 * holes[int(best)].radius else -1


def members(document: Document, rule: Rule, kind: str) -> NDArray[np.int32]:
    """Stable numbers of the nodes or elements a rule names; empty when its place is gone."""
    return Finder(document).members(rule, kind)


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
    find = Finder(document)
    sets = tuple(replace(s, ids=find.members(s.rule, s.kind)) if s.rule is not None else s for s in document.sets)
    return replace(document, sets=sets)


def followed(document: Document, mesh: Mesh) -> Document:
    """The document with another mesh, whose shells were partly made anew: sets by number follow, live ones are found again.

    What is gone leaves its sets; what is new joins those of the nearest one that is gone.
    """
    before = document.mesh
    sets = []
    for s in document.sets:
        if s.rule is not None or s.kind not in ("node", "element"):
            sets.append(s)
            continue
        old, new = (before.node_id, mesh.node_id) if s.kind == "node" else (before.element_id, mesh.element_id)
        gone, fresh = np.flatnonzero(~np.isin(old, new)), np.flatnonzero(~np.isin(new, old))
        ids = s.ids[np.isin(s.ids, new)]
        if len(gone) and len(fresh):
            there, here = (before.points, mesh.points) if s.kind == "node" else (before.centres(), mesh.centres())
            like = old[gone[scipy.spatial.cKDTree(there[gone]).query(here[fresh])[1]]]
            ids = np.union1d(ids, new[fresh[np.isin(like, s.ids)]])
        sets.append(replace(s, ids=ids.astype(np.int32)))
    return refreshed(replace(document, mesh=mesh, sets=tuple(sets)))


def with_set(document: Document, *new: EntitySet) -> Document:
    """The sets added, or replacing those of the same names."""
    names = {s.name for s in new}
    return replace(document, sets=(*(s for s in document.sets if s.name not in names), *new))
