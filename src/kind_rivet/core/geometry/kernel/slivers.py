"""Faces so narrow that the kernel makes no facets on them: closed between their two long borders, so that solids stay closed."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, arc_lengths, unit

Ints = NDArray[np.int32]


def sliver_facets(points: Floats, chains: list[Ints], facets: NDArray[np.int64] | Ints, widest: float) -> Ints | None:
    """Facets (m, 3) over the nodes of one face's border, turned to fit the facets beside it.

    chains : nodes along each edge of the face, in any order and sense; facets : those of all other faces
    widest : None is returned where the face is wider, or where its border is no single ring.
    """
    ring = _ring(chains)
    if ring is None or len(ring) < 3:
        return None
    p = points[ring]
    ends = np.unravel_index(int(np.argmax(np.linalg.norm(p[:, None] - p[None], axis=2))), (len(ring), len(ring)))
    first, second = sorted(int(k) for k in ends)
    one, other = ring[first : second + 1], [*ring[second:], *ring[: first + 1]][::-1]
    if _apart(points[one], points[other]) > widest or _apart(points[other], points[one]) > widest:
        return None
    rows = _zipped(points, one, other)
    beside = set(map(tuple, np.asarray(facets)[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2).tolist()))
    if any((a, b) in beside for row in rows for a, b in zip(row, [*row[1:], row[0]], strict=True)):
        rows = [[a, c, b] for a, b, c in rows]
    return np.array(rows, np.int32).reshape(-1, 3)


def normals_over(points: Floats, facets: Ints) -> Floats:
    """Unit normals (m, 3, 3) at the corners of facets, those without area taking the direction of the rest."""
    a, b, c = (points[facets[:, k]] for k in range(3))
    across = np.cross(b - a, c - a)
    total = unit(across.sum(axis=0)) if np.linalg.norm(across.sum(axis=0)) > 0 else np.array([0.0, 0.0, 1.0])
    length = np.linalg.norm(across, axis=1, keepdims=True)
    own = np.where(length > 1e-12 * max(float(length.max()), 1e-300), across / np.maximum(length, 1e-300), total)
    return np.repeat(own[:, None, :], 3, axis=1)


def _ring(chains: list[Ints]) -> list[int] | None:
    """Nodes once round a border made of chains; None where they are not one closed ring."""
    left = [chain.tolist() for chain in chains if len(chain) > 1]
    if not left:
        return None
    ring = left.pop(0)
    while left:
        k = next((k for k, chain in enumerate(left) if ring[-1] in (chain[0], chain[-1])), None)
        if k is None:
            return None
        chain = left.pop(k)
        ring += chain[1:] if chain[0] == ring[-1] else chain[-2::-1]
    return ring[:-1] if ring[0] == ring[-1] and len(set(ring)) == len(ring) - 1 else None


def _apart(p: Floats, line: Floats) -> float:
    """Greatest distance of points from a polyline."""
    a, d = line[:-1], np.diff(line, axis=0)
    t = np.clip(((p[:, None] - a) * d).sum(axis=2) / np.maximum((d * d).sum(axis=1), 1e-300), 0, 1)
    return float(np.linalg.norm(p[:, None] - a - t[..., None] * d, axis=2).min(axis=1).max())


def _zipped(points: Floats, one: list[int], other: list[int]) -> list[list[int]]:
    """Triangles between two rows of nodes with common ends, going on where the next node is nearer to the start."""
    along = [arc_lengths(points[row]) for row in (one, other)]
    share = [s / max(float(s[-1]), 1e-300) for s in along]
    i = j = 0
    rows: list[list[int]] = []
    while i < len(one) - 1 or j < len(other) - 1:
        ahead = j == len(other) - 1 or (i < len(one) - 1 and share[0][i + 1] <= share[1][j + 1])
        row = [one[i], one[i + 1], other[j]] if ahead else [one[i], other[j + 1], other[j]]
        i, j = (i + 1, j) if ahead else (i, j + 1)
        if len(set(row)) == 3:
            rows.append(row)
    return rows
