"""Edges that face each other across a narrow part of a region get equal divisions, so that rows can run straight across."""

from __future__ import annotations

from collections import Counter

import numpy as np
import scipy

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.patch import Patch

WIDEST = 2.5  # sizes across
SAMPLES = 9  # places along an edge that look across
OPPOSITE, AHEAD = 0.85, 0.9  # cosines between the two normals, and between what leads across and a normal
UNLIKE = 0.62  # ratio of lengths from which two edges are not given one count
MOST_EDGES = 4000  # of a region that is looked at


def facing_edges(patch: Patch, size: float) -> list[tuple[int, int]]:
    """Pairs of open edges of a region that face each other all along."""
    parts = [p for loop in patch.loops for p in loop if p.edge >= 0 and p.corners[0] != p.corners[-1]]
    if not 2 <= len(parts) <= MOST_EDGES:
        return []
    at, normal, length = (np.array(lot) for lot in zip(*(_looks(patch.flat[p.corners]) for p in parts), strict=True))
    places, ways = at.reshape(-1, 2), normal.reshape(-1, 2)
    owner = np.repeat(np.arange(len(parts)), SAMPLES)
    a, b = scipy.spatial.cKDTree(places).query_pairs(WIDEST * size, output_type="ndarray").T
    a, b = np.concatenate((a, b)), np.concatenate((b, a))
    way = places[b] - places[a]
    far = np.linalg.norm(way, axis=1)
    way /= np.maximum(far, 1e-300)[:, None]
    good = (owner[a] != owner[b]) & (np.einsum("ij,ij->i", ways[a], ways[b]) < -OPPOSITE) & (np.einsum("ij,ij->i", way, ways[a]) > AHEAD)
    a, b, far = a[good], b[good], far[good]
    sees = np.full(len(places), -1)
    for k in np.argsort(-far, kind="stable").tolist():  # the nearest comes last
        sees[a[k]] = owner[b[k]]
    most = [Counter(row.tolist()).most_common(1)[0] for row in sees.reshape(-1, SAMPLES)]
    other = [k if n == SAMPLES else -1 for k, n in most]  # where one goes on beyond the other, their counts differ
    pairs = [(i, j) for i, j in enumerate(other) if j > i and other[j] == i and min(length[[i, j]]) > UNLIKE * max(length[[i, j]])]
    return [(parts[i].edge, parts[j].edge) for i, j in pairs if parts[i].edge != parts[j].edge]


def _looks(line: Floats) -> tuple[Floats, Floats, float]:
    """Places (SAMPLES, 2) evenly along a passage, the normals there into the region, and its length."""
    side = np.diff(line, axis=0)
    each = np.linalg.norm(side, axis=1)
    s = np.concatenate(([0.0], np.cumsum(each)))
    wanted = (np.arange(SAMPLES) + 0.5) / SAMPLES * s[-1]
    k = np.clip(np.searchsorted(s, wanted) - 1, 0, len(side) - 1)
    share = (wanted - s[k]) / np.maximum(each[k], 1e-300)
    normal = np.column_stack((-side[k, 1], side[k, 0])) / np.maximum(each[k], 1e-300)[:, None]
    return line[k] + share[:, None] * side[k], normal, float(s[-1])
