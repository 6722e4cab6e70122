"""Even borders for all regions at once: a system of equations over {0, 1}, for what single walks cannot mend."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray


def odd_changes(regions: list[list[int]], count: NDArray[np.int64], held: NDArray[np.bool_], cost: NDArray[np.float64]) -> list[int]:
    """Edges whose count must change by one so that every region has an even number of border sides.

    regions : edges round each region, twice where it lies on both sides. Held edges stay.
    Cheap edges are preferred. What cannot be solved (all edges of a region held) is left
    out of the system. Returns the edges to change, possibly none.
    """
    passes = [np.bincount(r, minlength=len(count)) % 2 == 1 if r else np.zeros(len(count), bool) for r in regions]
    need = np.array([bool(np.sum(count[r]) % 2) if r else False for r in regions])
    free = np.flatnonzero(~held)
    free = free[np.argsort(cost[free], kind="stable")]
    table = np.array([p[free] for p in passes], bool).reshape(len(regions), len(free))
    rows = table.any(axis=1) | need
    table, right = table[rows], need[rows]
    pivots: list[tuple[int, int]] = []
    top = 0
    for column in range(table.shape[1]):
        if top >= len(table):
            break
        hits = np.flatnonzero(table[top:, column])
        if not len(hits):
            continue
        pivot = top + int(hits[0])
        table[[top, pivot]], right[[top, pivot]] = table[[pivot, top]], right[[pivot, top]]
        others = np.flatnonzero(table[:, column])
        others = others[others != top]
        table[others] ^= table[top]
        right[others] ^= right[top]
        pivots.append((top, column))
        top += 1
    return [int(free[column]) for row, column in pivots if right[row]]
