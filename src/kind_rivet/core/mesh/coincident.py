"""Coincident nodes: found, shown, merged."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.mesh.mesh import NODE_FIELDS, Mesh


def coincident_groups(mesh: Mesh, tolerance: float) -> list[NDArray[np.int64]]:
    """Groups of node indices within `tolerance` of each other (linked), lowest number first."""

    if mesh.nodes < 2:
        return []
    pairs = scipy.spatial.cKDTree(mesh.points).query_pairs(tolerance, output_type="ndarray")
    if not len(pairs):
        return []
    graph = scipy.sparse.coo_matrix((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), shape=(mesh.nodes, mesh.nodes))
    _, label = scipy.sparse.csgraph.connected_components(graph, directed=False)
    members = np.unique(pairs)
    order = members[np.argsort(label[members], kind="stable")]
    groups = np.split(order, np.flatnonzero(np.diff(label[order])) + 1)
    return [g[np.argsort(mesh.node_id[g])] for g in groups]


def merged(mesh: Mesh, groups: list[NDArray[np.int64]]) -> tuple[Mesh, dict[int, int], int]:
    """Merge each group into its lowest-numbered node.

    A group whose merging would collapse an element (two of its nodes in one group) is
    left as it is. Returns the mesh, {dropped node number: kept one} and the groups left.
    """
    target = np.arange(mesh.nodes)
    for g in groups:
        target[g] = g[0]
    there = mesh.conn >= 0
    mapped = np.where(there, target[np.maximum(mesh.conn, 0)], -1 - np.arange(mesh.conn.shape[1]))
    ordered = np.sort(mapped, axis=1)
    collapsing = (ordered[:, 1:] == ordered[:, :-1]).any(axis=1)
    bad = set(target[mesh.conn[collapsing][mesh.conn[collapsing] >= 0]].tolist())
    left = 0
    for g in groups:
        if int(g[0]) in bad:
            target[g] = g
            left += 1
    conn = np.where(there, target[np.maximum(mesh.conn, 0)], -1).astype(np.int32)
    keep = target == np.arange(mesh.nodes)
    number = np.cumsum(keep) - 1
    conn = np.where(conn >= 0, number[np.maximum(conn, 0)], -1).astype(np.int32)
    dropped = {int(mesh.node_id[i]): int(mesh.node_id[target[i]]) for i in np.flatnonzero(~keep)}
    out = replace(mesh, conn=conn, **{name: getattr(mesh, name)[keep] for name in NODE_FIELDS})
    return out, dropped, left


def duplicate_elements(mesh: Mesh) -> NDArray[np.int64]:
    """Elements on the same nodes as an earlier one of the same kind."""
    # Elements on the same nodes have the same sum of a number drawn for each node; only those that share one are looked at.
    drawn = np.random.default_rng(1).integers(1 << 63, size=mesh.nodes + 1, dtype=np.uint64)
    drawn[-1] = 0  # for places without a node
    _, lot, count = np.unique(drawn[mesh.conn].sum(axis=1), return_inverse=True, return_counts=True)
    doubtful = np.flatnonzero(count[lot] > 1)
    key = np.column_stack((mesh.kind[doubtful].astype(np.int64), np.sort(mesh.conn[doubtful], axis=1)))
    _, first = np.unique(key, axis=0, return_index=True)
    return np.setdiff1d(doubtful, doubtful[first])


def unused_nodes(mesh: Mesh, also: NDArray[np.int32]) -> NDArray[np.int64]:
    """Nodes that no element uses and whose numbers are not in `also`."""
    used = np.zeros(mesh.nodes, bool)
    used[mesh.conn[mesh.conn >= 0]] = True
    return np.flatnonzero(~used & ~np.isin(mesh.node_id, also))
