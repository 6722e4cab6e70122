"""Making room for a column put in, or closing up after one was taken out: nodes near it move along their walls, farther ones stay.

Every side should be the vector it was before; least squares spread what cannot be over all sides nearby,
each by the same share of its length.
"""

from __future__ import annotations

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.onto import onto
from kind_rivet.core.kernels import kernel
from kind_rivet.core.mesh.topology import next_corners
from kind_rivet.core.repair.holds import Holds


def spread_out(points: Floats, rows: NDArray[np.int32], wish: Floats, free: NDArray[np.bool_]) -> Floats:
    """Places (n, 3) of all nodes after the `free` (n,) ones moved so that the sides of shell rows (m, 4) come near to `wish` (m, 4, 3)."""
    after = next_corners(rows)
    there = after >= 0
    a, b, want = rows[there], after[there], wish[there]
    matters = free[a] | free[b]
    a, b, want = a[matters], b[matters], want[matters]
    weight = 1.0 / np.maximum(np.einsum("ij,ij->i", want, want), 1e-300)
    short = (want - (points[b] - points[a])) * weight[:, None]
    number = np.cumsum(free) - 1
    size = int(free.sum())
    right = np.zeros((size, 3))
    for node, sign in ((a, -1.0), (b, 1.0)):
        mine = free[node]
        for k in range(3):
            right[:, k] += sign * np.bincount(number[node[mine]], short[mine, k], size)
    both = free[a] & free[b]
    i, j, w = number[a[both]], number[b[both]], weight[both]
    diagonal = np.zeros(size)
    for node in (a, b):
        mine = free[node]
        diagonal += np.bincount(number[node[mine]], weight[mine], size)
    matrix = scipy.sparse.coo_matrix(
        (np.concatenate((-w, -w, diagonal)), (np.concatenate((i, j, np.arange(size))), np.concatenate((j, i, np.arange(size))))),
        shape=(size, size),
    ).tocsc()
    out = points.copy()
    out[free] += scipy.sparse.linalg.splu(matrix, permc_spec="MMD_AT_PLUS_A", options={"SymmetricMode": True}).solve(right)
    return out


def back_onto_walls(points: Floats, nodes: NDArray[np.int64], holds: Holds, on_body: NDArray[np.int32]) -> None:
    """Put moved nodes back onto what holds them, in place."""
    analytic = nodes[holds.code[nodes] > 0]
    _onto_all(points, analytic, holds.code, holds.data)
    holds.back_on_facets(points, nodes[holds.code[nodes] == 0], on_body)


@kernel
def _onto_all(points, nodes, code, data):  # type: ignore[no-untyped-def]
    for v in nodes:
        x, y, z = onto(code[v], data[v], points[v, 0], points[v, 1], points[v, 2])
        points[v, 0], points[v, 1], points[v, 2] = x, y, z
