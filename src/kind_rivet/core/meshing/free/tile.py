"""The best way to cut a polygon into quads between its own corners, found exactly (dynamic programming over chords).

For polygon corners i … j closed by the chord i–j the best worst quad is
D[i, j] = max over k, l of min(quality(i, k, l, j), D[i, k], D[k, l], D[l, j]), with odd
steps between the corners. After Gilbert's and Klincsek's optimal triangulations
(Klincsek, "Minimal triangulations of polygonal domains", 1980), carried over to quads.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.kernels import kernel
from kind_rivet.core.meshing.free.shapes2d import sized_score

MOST_CORNERS = 40


@kernel
def _best(points, size, value, first, second):  # type: ignore[no-untyped-def]
    n = len(points)
    el = np.empty((1, 4), np.int32)
    for i in range(n - 1):
        value[i, i + 1] = 2.0
    for gap in range(3, n, 2):
        for i in range(n - gap):
            j = i + gap
            best = -1.0
            for k in range(i + 1, j - 1, 2):
                if value[i, k] <= max(best, 0.0):
                    continue
                for m in range(k + 1, j, 2):
                    low = min(value[i, k], value[k, m], value[m, j])
                    if low <= max(best, 0.0):
                        continue
                    el[0, 0], el[0, 1], el[0, 2], el[0, 3] = i, k, m, j
                    low = min(low, sized_score(points, el, 0, size))
                    if low > max(best, 0.0):
                        best = low
                        first[i, j], second[i, j] = k, m
            value[i, j] = best


def tiled(loop: Floats, size: float) -> NDArray[np.int32] | None:
    """Quads (q, 4) that fill a polygon (n, 2), counter-clockwise, with no new points; None where that is impossible."""
    n = len(loop)
    if n % 2 or not 4 <= n <= MOST_CORNERS:
        return None
    value = np.full((n, n), -1.0)
    first, second = np.full((n, n), -1, np.int32), np.full((n, n), -1, np.int32)
    _best(np.ascontiguousarray(loop), size, value, first, second)
    if value[0, n - 1] <= 0:
        return None
    out, todo = [], [(0, n - 1)]
    while todo:
        i, j = todo.pop()
        if j - i < 3:
            continue
        k, m = int(first[i, j]), int(second[i, j])
        out.append((i, k, m, j))
        todo += [(i, k), (k, m), (m, j)]
    return np.array(out, np.int32)
