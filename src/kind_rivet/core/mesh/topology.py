"""Sides of elements: who shares them, free ones, pieces."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.soup import facet_neighbours, to_be_turned
from kind_rivet.core.mesh.mesh import Mesh


@dataclass(frozen=True)
class ShellSides:
    """Distinct sides of the shell elements.

    ends : (s, 2) node indices, lower first; uses : (s,) number of shells with the side;
    element, side : (u,) every use; of_use : (u,) the side it belongs to; forward : (u,)
    whether the element runs from the lower to the higher node
    """

    ends: NDArray[np.int64]
    uses: NDArray[np.int64]
    element: NDArray[np.int64]
    of_use: NDArray[np.int64]
    forward: NDArray[np.bool_]

    @property
    def free(self) -> NDArray[np.int64]:
        return self.ends[self.uses == 1]

    @property
    def junctions(self) -> NDArray[np.int64]:
        return self.ends[self.uses > 2]


def shell_sides(shells: NDArray[np.int32]) -> ShellSides:
    """Sides of shell rows (m, 4) as from `Mesh.shells`; rows of −1 are skipped."""
    element, a, b = [], [], []
    for k in range(4):
        nxt = np.where((k == 2) & (shells[:, 3] < 0), shells[:, 0], shells[:, (k + 1) % 4])
        good = np.flatnonzero((shells[:, k] >= 0) & (nxt >= 0))
        element.append(good)
        a.append(shells[good, k])
        b.append(nxt[good])
    el, p, q = np.concatenate(element), np.concatenate(a).astype(np.int64), np.concatenate(b).astype(np.int64)
    low, high = np.minimum(p, q), np.maximum(p, q)
    big = int(shells.max(initial=0)) + 1
    keys, of_use, uses = np.unique(low * big + high, return_inverse=True, return_counts=True)
    return ShellSides(np.column_stack((keys // big, keys % big)), uses, el, of_use, p < q)


def next_corners(shells: NDArray[np.int32]) -> NDArray[np.int32]:
    """The node (m, 4) at the other end of the side that begins at each corner of shell rows (m, 4); −1 where there is no side."""
    after = np.where((np.arange(4) == 2) & (shells[:, 3:] < 0), shells[:, :1], shells[:, [1, 2, 3, 0]])
    return np.where(shells >= 0, after, -1).astype(np.int32)


def as_triangles(shells: NDArray[np.int32]) -> tuple[NDArray[np.int32], NDArray[np.int64]]:
    """Shells (m, 4) as triangles (t, 3), the first of each in order and then the second ones of quads; and the shell of each triangle."""
    quads = np.flatnonzero(shells[:, 3] >= 0)
    return np.vstack((shells[:, :3], shells[quads][:, [0, 2, 3]])).astype(np.int32), np.concatenate((np.arange(len(shells)), quads))


def turned_as_most(shells: NDArray[np.int32], nodes: int) -> NDArray[np.int32]:
    """The shells (m, 4), those turned that run against what most of their neighbours do."""
    triangles, _ = as_triangles(shells)
    turn, piece = to_be_turned(triangles, facet_neighbours(triangles, nodes)[0])
    turn, piece = turn[: len(shells)], piece[: len(shells)]
    most = np.bincount(piece, turn) * 2 > np.bincount(piece)
    back = np.flatnonzero(turn != most[piece])
    out = shells.copy()
    rows = shells[back]
    out[back] = np.where(rows[:, 3:] >= 0, rows[:, [0, 3, 2, 1]], rows[:, [0, 2, 1, 3]])
    return out


def at_nodes(mesh: Mesh, values: Floats) -> Floats:
    """Mean (n,) of values (m,) of the shells round each node; 0 where there is none."""
    shells = np.flatnonzero(mesh.is_shell)
    rows = mesh.conn[shells, :4]
    total, count = np.zeros(mesh.nodes), np.zeros(mesh.nodes)
    for k in range(4):
        good = rows[:, k] >= 0
        np.add.at(total, rows[good, k], values[shells[good]])
        np.add.at(count, rows[good, k], 1.0)
    return total / np.maximum(count, 1.0)


def loops_of(sides: NDArray[np.int64]) -> int:
    """How many separate chains the sides (s, 2) form."""
    return _components(sides)


def pieces(mesh: Mesh) -> int:
    """Connected pieces of the mesh (through shared nodes), masses aside."""
    there = mesh.conn >= 0
    first = np.broadcast_to(mesh.conn[:, :1], mesh.conn.shape)
    return _components(np.column_stack((first[there], mesh.conn[there])).astype(np.int64))


def _components(pairs: NDArray[np.int64]) -> int:
    if not len(pairs):
        return 0
    nodes, index = np.unique(pairs, return_inverse=True)
    index = index.reshape(-1, 2)
    graph = scipy.sparse.coo_matrix((np.ones(len(index)), (index[:, 0], index[:, 1])), shape=(len(nodes), len(nodes)))
    return int(scipy.sparse.csgraph.connected_components(graph, directed=False)[0])


def flipped_pairs(mesh: Mesh) -> int:
    """Sides where two neighbouring shells run the same way, so their normals disagree."""
    sides = shell_sides(mesh.shells())
    forward = np.bincount(sides.of_use, sides.forward, len(sides.uses))
    return int(((sides.uses == 2) & (forward != 1)).sum())
