"""The axis along which a freely curved face runs straight, as what was extruded does."""

from __future__ import annotations

import numpy as np

from kind_rivet.core.geometry.carriers import Floats

STRAIGHT = 1e-6  # mean square of what normals have along the axis of a prism
CURVED = 1e-4  # mean square of the normals across, both ways, from which the axis is known


def axis_of(normals: Floats) -> Floats | None:
    """The axis along which no normal (n, 3) points, where they tell one."""
    if not len(normals) or not np.isfinite(normals).all():
        return None
    square, axes = np.linalg.eigh(normals.T @ normals / len(normals))
    return np.asarray(axes[:, 0]) if square[0] < STRAIGHT and square[1] > CURVED else None
