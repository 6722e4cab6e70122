"""Holes that left no room for a ring of their own, yet have one: even quads all round that meet those of their neighbours."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.meshing.sheet_mesh import SheetMesh


def with_shared_rings(mesh: SheetMesh) -> SheetMesh:
    """The mesh with the elements round such holes known as their rings."""
    bare = [k for k, hole in enumerate(mesh.holes) if hole.wanted > 0 and not hole.widths]
    if not bare:
        return mesh
    owner = np.full(len(mesh.points), -1)
    for k in bare:
        for e in mesh.holes[k].edges:
            owner[mesh.edge_nodes[e]] = k
    of = np.where(mesh.elements >= 0, owner[np.maximum(mesh.elements, 0)], -1)
    rows = np.flatnonzero(of.max(axis=1) >= 0)
    lots: dict[int, list[int]] = {}
    for row in rows.tolist():
        for k in set(of[row].tolist()) - {-1}:
            lots.setdefault(k, []).append(row)
    ring = mesh.ring.copy()
    for k, lot in lots.items():
        if (ring[lot] < 0).all() and _is_ring(mesh.elements[lot], of[lot] == k):
            ring[lot] = k
    return replace(mesh, ring=ring)


def _is_ring(elements: NDArray[np.int32], inner: NDArray[np.bool_]) -> bool:
    """Are these quads (n, 4), all that touch a hole, a closed ring with as many nodes outside as inside?"""
    if (elements[:, 3] < 0).any() or (inner.sum(axis=1) != 2).any():
        return False
    return all(
        len(count) == len(elements) and (count == 2).all()
        for count in (np.unique(elements[side], return_counts=True)[1] for side in (inner, ~inner))
    )
