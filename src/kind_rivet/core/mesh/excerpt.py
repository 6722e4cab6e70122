"""A few elements of a mesh as a mesh of their own, and what became of them put back: so that trials cost what they touch."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.mesh.mesh import ELEMENT_FIELDS, NODE_FIELDS, Mesh

Ints = NDArray[np.int32]


class Around:
    """Which elements of a mesh touch which nodes, worked out once for it."""

    def __init__(self, mesh: Mesh) -> None:
        self.mesh = mesh
        element, k = np.nonzero(mesh.conn >= 0)
        node = mesh.conn[element, k]
        order = np.argsort(node, kind="stable")
        self._element = element[order]
        self._start = np.concatenate(([0], np.cumsum(np.bincount(node, minlength=mesh.nodes))))

    def touching(self, elements: NDArray[np.int64]) -> NDArray[np.int64]:
        """All elements that have a node of these, in order."""
        rows = self.mesh.conn[elements]
        nodes = np.unique(rows[rows >= 0])
        first, count = self._start[nodes], self._start[nodes + 1] - self._start[nodes]
        step = np.arange(int(count.sum())) - np.repeat(np.cumsum(count) - count, count)
        return np.unique(self._element[np.repeat(first, count) + step])

    def widened(self, elements: NDArray[np.int64], rows: int, among: NDArray[np.bool_]) -> NDArray[np.int64]:
        """The elements and so many rows round them of those `among` (m,) which others may be taken."""
        for _ in range(rows):
            more = self.touching(elements)
            elements = np.union1d(elements, more[among[more]])
        return elements


def excerpt(mesh: Mesh, elements: NDArray[np.int64]) -> Mesh:
    """The elements (k,) and the nodes they use, with their numbers and seats."""
    rows = mesh.conn[elements]
    nodes = np.unique(rows[rows >= 0])
    values = {name: getattr(mesh, name)[nodes] for name in NODE_FIELDS} | {name: getattr(mesh, name)[elements] for name in ELEMENT_FIELDS}
    values["conn"] = np.where(rows >= 0, np.searchsorted(nodes, rows), -1).astype(np.int32)
    return Mesh(**values)


def put_back(mesh: Mesh, before: Mesh, after: Mesh) -> Mesh:
    """The mesh with its excerpt `before` replaced by `after`: what has a number of `before` takes its place, new nodes and elements come last.

    Nodes and elements of `before` that are gone from `after` must be used by nothing else.
    """
    nodes, place = _over(mesh, after, before.node_id, "node_id", NODE_FIELDS)
    conn = np.where(after.conn >= 0, place[np.maximum(after.conn, 0)], -1).astype(np.int32)
    elements, _ = _over(mesh, replace(after, conn=conn), before.element_id, "element_id", ELEMENT_FIELDS)
    whole = Mesh(**nodes, **elements)
    lost = np.isin(whole.node_id, np.setdiff1d(before.node_id, after.node_id))
    gone = np.isin(whole.element_id, np.setdiff1d(before.element_id, after.element_id))
    return whole._taken(~lost, ~gone)


def _over(mesh: Mesh, after: Mesh, before: Ints, number: str, fields: tuple[str, ...]) -> tuple[dict[str, Any], NDArray[np.int64]]:
    """The fields of a mesh with those of `after` written over them, and the place of each node or element of `after`.

    before : the numbers that have a place; all others of `after` are new, come last and are numbered on.
    """
    have, own = getattr(after, number), getattr(mesh, number)
    known = np.isin(have, before)
    count = int((~known).sum())
    order = np.argsort(own)
    place = np.empty(len(have), np.int64)
    place[known] = order[np.searchsorted(own, have[known], sorter=order)]
    place[~known] = len(own) + np.arange(count)
    out = {name: np.concatenate((getattr(mesh, name), getattr(after, name)[~known])) for name in fields}
    for name in fields:
        out[name][place] = getattr(after, name)
    out[number][len(own) :] = int(own.max(initial=0)) + 1 + np.arange(count)
    return out, place
