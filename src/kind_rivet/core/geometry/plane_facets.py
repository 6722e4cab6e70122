"""Facets of a plane face between border chains: Delaunay with every border side kept, inside told by crossing borders."""

from __future__ import annotations

import itertools

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, frame


def plane_facets(points: Floats, chains: list[NDArray[np.int32]], normal: Floats) -> NDArray[np.int32] | None:
    """Facets (m, 3) over the nodes of closed borders made of `chains`, counter-clockwise about `normal`; None where borders cross.

    A place is inside when an odd number of borders lies between it and far away.
    """
    from kind_rivet.core.meshing.free.constrained import constrained_triangles

    nodes, local = np.unique(np.concatenate(chains), return_inverse=True)
    sides = []
    start = 0
    for chain in chains:
        own = local[start : start + len(chain)].tolist()
        start += len(chain)
        sides += [(a, b) for a, b in itertools.pairwise(own) if a != b]
    u, v = frame(normal)
    flat = np.column_stack((points[nodes] @ u, points[nodes] @ v))
    made = constrained_triangles(flat, np.array(sides, np.int32))
    if made is None:
        return None
    tri, nbr, con = made
    return np.asarray(nodes[tri[_inside(tri, nbr, con, len(nodes))]], np.int32)


def _inside(tri: NDArray[np.int32], nbr: NDArray[np.int32], con: NDArray[np.bool_], n: int) -> NDArray[np.bool_]:
    """Triangles behind an odd number of borders, seen from the corners of the square round them all (nodes from n on)."""
    depth = np.full(len(tri), -1)
    layer = np.flatnonzero((tri >= n).any(axis=1))
    depth[layer] = 0
    level = 0
    while len(layer):
        behind: list[NDArray[np.int32]] = []
        while len(layer):  # all that hangs together without crossing a border
            t, k = np.nonzero(nbr[layer] >= 0)
            to, border = nbr[layer[t], k], con[layer[t], k]
            behind.append(to[border & (depth[to] < 0)])
            layer = np.unique(to[~border & (depth[to] < 0)])
            depth[layer] = level
        level += 1
        layer = np.unique(np.concatenate(behind)).astype(np.int64) if behind else np.empty(0, np.int64)
        layer = layer[depth[layer] < 0]
        depth[layer] = level
    return np.asarray(depth % 2 == 1)
