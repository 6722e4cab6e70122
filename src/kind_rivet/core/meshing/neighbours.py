"""What a body shares with joined bodies that are meshed already: the node numbers along common edges."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.weld import weld
from kind_rivet.core.mesh.mesh import Mesh

Ints = NDArray[np.int32]


def shared_lines(mesh: Mesh, own: Shape, others: Mapping[int, Shape], nodes: Mapping[int, tuple[Ints, ...]]) -> dict[int, Ints]:
    """Edge of `own` → node numbers along it, in its own sense, where a meshed body of `others` has the same edge.

    `nodes`: for each of these bodies the node numbers along all its edges.
    """
    if not others:
        return {}
    keys = list(others)
    tolerance = 1e-7 * max(s.diagonal for s in (own, *others.values()))
    welded = weld([own, *others.values()], tolerance)
    place = {int(n): p for n, p in zip(mesh.node_id.tolist(), mesh.points, strict=True)}
    out: dict[int, Ints] = {}
    for k, key in enumerate(keys):
        theirs = {int(g): e for e, g in enumerate(welded.edges[k + 1])}
        for e, g in enumerate(welded.edges[0].tolist()):
            line = nodes[key][theirs[g]] if g in theirs and theirs[g] < len(nodes[key]) else np.empty(0, np.int32)
            if e in out or len(line) < 2 or not all(int(n) in place for n in line):
                continue
            chain = own.points[own.edges[e].nodes]
            there = np.array([place[int(n)] for n in line])
            out[e] = line if _runs_alike(chain, there) else line[::-1]
    return out


def _runs_alike(chain: NDArray[np.float64], nodes: NDArray[np.float64]) -> bool:
    """Do nodes run along a chain in its own sense? Told a quarter of the way along, so that closed chains answer too."""
    early, late = chain[len(chain) // 4], chain[-1 - len(chain) // 4]
    if len(chain) < 4:
        early, late = chain[0], chain[-1]
        return bool(
            np.linalg.norm(nodes[0] - early) + np.linalg.norm(nodes[-1] - late)
            <= np.linalg.norm(nodes[-1] - early) + np.linalg.norm(nodes[0] - late)
        )
    first, last = (np.linalg.norm(nodes - p, axis=1).argmin() for p in (early, late))
    return bool(first <= last)
