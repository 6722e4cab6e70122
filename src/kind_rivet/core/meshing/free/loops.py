"""Closed border loops of flat regions: area, order of nodes, sides, which loop lies in which."""

from __future__ import annotations

import numpy as np
import shapely
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats


def area_of(loop: Floats) -> float:
    """Area inside a loop (n, 2), negative where it runs clockwise."""
    x, y = loop.T
    return float(np.sum(x * np.roll(y, -1) - np.roll(x, -1) * y) / 2)


def next_nodes(loops: list[Floats]) -> NDArray[np.int64]:
    """The number (n,) of the node after each, along its loop; nodes are numbered loop after loop."""
    out, first = [], 0
    for loop in loops:
        out.append(first + (np.arange(len(loop)) + 1) % len(loop))
        first += len(loop)
    return np.concatenate(out)


def sides_at(loops: list[Floats]) -> Floats:
    """Mean length (n,) of the two sides at each node."""
    length = [np.linalg.norm(np.roll(loop, -1, axis=0) - loop, axis=1) for loop in loops]
    return np.concatenate([(one + np.roll(one, 1)) / 2 for one in length])


def normals_at(nodes: Floats, after: NDArray[np.int64]) -> tuple[Floats, Floats]:
    """Unit normals (n, 2) into the region, half-way between those of the two sides at each node, and the cosine (n,) between the two.

    `after`: the node after each (see `next_nodes`).
    """
    before = np.empty(len(nodes), np.int64)
    before[after] = np.arange(len(nodes))
    side = nodes[after] - nodes
    side /= np.maximum(np.linalg.norm(side, axis=1, keepdims=True), 1e-300)
    normal = np.column_stack((-side[:, 1], side[:, 0]))
    both = normal + normal[before]
    both /= np.maximum(np.linalg.norm(both, axis=1, keepdims=True), 1e-300)
    return both, np.einsum("ij,ij->i", normal, normal[before])


def with_holes(loops: list[Floats]) -> list[list[int]] | None:
    """Numbers of the loops that run counter-clockwise, each with the clockwise ones that lie in it and in no smaller one.

    None where a clockwise one lies in none.
    """
    area = [area_of(loop) for loop in loops]
    outer = [k for k, a in enumerate(area) if a > 0]
    out = {k: [k] for k in outer}
    inner = [k for k, a in enumerate(area) if a <= 0]
    if inner:
        tree = shapely.STRtree([shapely.Polygon(loops[k]) for k in outer])
        for k in inner:
            hits = [outer[j] for j in tree.query(shapely.Point(loops[k][0]), predicate="within").tolist()]
            if not hits:
                return None
            out[min(hits, key=lambda j: area[j])].append(k)
    return list(out.values())
