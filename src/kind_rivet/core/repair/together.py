"""Several nodes moved at once for the sake of the sizes of the shells at them, each on what holds it."""

from __future__ import annotations

import numpy as np

from kind_rivet.core.geometry.onto import onto
from kind_rivet.core.kernels import kernel
from kind_rivet.core.quality.easing import cost_of, margin_of
from kind_rivet.core.quality.growth import AIM, size_of
from kind_rivet.core.quality.shell_metrics import SCALED_JACOBIAN

FIRM = 40.0  # cost of the square of growth above its aim, beside what margins cost
SOUND, UPRIGHT = 0.25, 0.6  # least margin and scaled Jacobian below which nothing falls for the sake of its neighbours' sizes


@kernel
def _cost(points, lot, shells, beside, aim, found):  # type: ignore[no-untyped-def]
    """Cost of some shells and of what they differ from their neighbours in size; their least margins and scaled Jacobians go to `found` (k, 2)."""
    total, values = 0.0, np.empty(10)
    for i in range(len(lot)):
        e = lot[i]
        found[i, 0] = max(margin_of(points, shells, e, aim, values), -20.0)
        found[i, 1] = values[SCALED_JACOBIAN]
        total += cost_of(found[i, 0], found[i, 1])
        mine = size_of(points, shells, e)
        for k in range(4):
            f = beside[e, k]
            if f >= 0:
                other = size_of(points, shells, f)
                growth = max(mine, other) / max(min(mine, other), 1e-300)
                if growth > AIM:
                    total += FIRM * (min(growth, 10.0) - AIM) ** 2
    return total


@kernel
def _sound_still(was, now):  # type: ignore[no-untyped-def]
    """Did no shell fall below what is sound and what it was? Rows of least margin and scaled Jacobian."""
    sound = True
    for i in range(len(was)):
        sound = sound and now[i, 0] >= min(was[i, 0], SOUND) - 1e-9 and now[i, 1] >= min(was[i, 1], UPRIGHT) - 1e-9
    return sound


@kernel
def shells_at(nodes, inc, start):  # type: ignore[no-untyped-def]
    """The shells at some nodes, each once."""
    total = 0
    for v in nodes:
        total += start[v + 1] - start[v]
    lot = np.empty(total, np.int64)
    for v in nodes:
        total -= start[v + 1] - start[v]
        lot[total : total + start[v + 1] - start[v]] = inc[start[v] : start[v + 1]]
    return np.unique(lot)


@kernel
def shifted(points, nodes, to, lot, code, data, shells, beside, aim):  # type: ignore[no-untyped-def]
    """Move nodes towards places (k, 3), each on its carrier, if the cost of the `lot` of all shells at them falls and all stay sound; did they?"""
    was, now = np.empty((len(lot), 2)), np.empty((len(lot), 2))
    before = _cost(points, lot, shells, beside, aim, was)
    keep = points[nodes]
    for i in range(len(nodes)):
        v = nodes[i]
        points[v, 0], points[v, 1], points[v, 2] = onto(code[v], data[v], to[i, 0], to[i, 1], to[i, 2])
    if _cost(points, lot, shells, beside, aim, now) < before * (1 - 1e-6) and _sound_still(was, now):
        return True
    points[nodes] = keep
    return False
