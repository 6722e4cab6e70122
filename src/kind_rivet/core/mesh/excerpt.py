"""A few elements of a mesh as a mesh of their own, and what became of them put back: so that trials cost what they touch."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.mesh.mesh import ELEMENT_FIELDS, NODE_FIELDS, Mesh


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
    known_nodes, known = np.isin(after.node_id, before.node_id), np.isin(after.element_id, before.element_id)
    nodes = {name: getattr(mesh, name).copy() for name in NODE_FIELDS}
    rows = {name: getattr(mesh, name).copy() for name in ELEMENT_FIELDS}
    order = np.argsort(mesh.node_id)
    place = np.empty(after.nodes, np.int64)  # of every node of `after` in the mesh
    place[known_nodes] = order[np.searchsorted(mesh.node_id, after.node_id[known_nodes], sorter=order)]
    place[~known_nodes] = mesh.nodes + np.arange(int((~known_nodes).sum()))
    element_order = np.argsort(mesh.element_id)
    at = element_order[np.searchsorted(mesh.element_id, after.element_id[known], sorter=element_order)]
    conn = np.where(after.conn >= 0, place[np.maximum(after.conn, 0)], -1).astype(np.int32)
    first_node, first = int(mesh.node_id.max(initial=0)) + 1, int(mesh.element_id.max(initial=0)) + 1
    for name in NODE_FIELDS:
        value = getattr(after, name)
        fresh = value[~known_nodes] if name != "node_id" else first_node + np.arange(int((~known_nodes).sum()), dtype=np.int32)
        nodes[name][place[known_nodes]] = value[known_nodes]
        nodes[name] = np.concatenate((nodes[name], fresh))
    for name in ELEMENT_FIELDS:
        value = conn if name == "conn" else getattr(after, name)
        fresh = value[~known] if name != "element_id" else first + np.arange(int((~known).sum()), dtype=np.int32)
        rows[name][at] = value[known]
        rows[name] = np.concatenate((rows[name], fresh))
    gone = np.isin(mesh.element_id, np.setdiff1d(before.element_id, after.element_id))
    lost = np.isin(mesh.node_id, np.setdiff1d(before.node_id, after.node_id))
    stay = np.concatenate((~gone, np.ones(int((~known).sum()), bool)))
    keep = np.concatenate((~lost, np.ones(int((~known_nodes).sum()), bool)))
    number = np.cumsum(keep) - 1
    out = {name: value[keep] for name, value in nodes.items()} | {name: value[stay] for name, value in rows.items()}
    out["conn"] = np.where(out["conn"] >= 0, number[np.maximum(out["conn"], 0)], -1).astype(np.int32)
    return Mesh(**out)
