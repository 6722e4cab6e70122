"""A coarse picture of many facets, for while the view turns."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats


def coarse(points: Floats, facets: NDArray[np.int32], cells: int = 90) -> tuple[Floats, NDArray[np.int32]]:
    """Points that fall into one cell of a grid become one; facets that collapse are left out.

    `cells` is the number of cells along the longest side of the box (vertex clustering, Rossignac and Borrel 1993).
    """
    low = points.min(axis=0)
    width = max(float(np.ptp(points, axis=0).max()), 1e-300) / cells
    cell = ((points - low) / width).astype(np.int64)
    key = (cell[:, 0] * (cells + 2) + cell[:, 1]) * (cells + 2) + cell[:, 2]
    _, first, number = np.unique(key, return_index=True, return_inverse=True)
    rows = number[facets]
    whole = (rows[:, 0] != rows[:, 1]) & (rows[:, 1] != rows[:, 2]) & (rows[:, 2] != rows[:, 0])
    rows = np.unique(rows[whole], axis=0)
    return points[first], rows.astype(np.int32)
