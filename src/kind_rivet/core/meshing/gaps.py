"""How near one outline comes to another."""

from __future__ import annotations

import numpy as np

from kind_rivet.core.geometry.carriers import Floats


def loop_gap(ring: Floats, other: Floats) -> float:
    """Least distance between the points of one closed polygon and the sides of another."""
    a, b = other, np.roll(other, -1, axis=0)
    side = b - a
    square = np.maximum(np.einsum("ij,ij->i", side, side), 1e-300)
    q = ring[:, None, :] - a[None]
    s = np.clip(np.einsum("pij,ij->pi", q, side) / square, 0, 1)
    return float(np.linalg.norm(q - s[:, :, None] * side[None], axis=2).min())
