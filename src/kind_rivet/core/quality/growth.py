"""How much larger shells are than those beside them.

The size of a shell is the side of the square of its area, for trias of twice their area;
growth is the larger size over the smaller one, across a side that two shells share.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.kernels import kernel
from kind_rivet.core.mesh.topology import ShellSides, shell_sides

AIM = 1.46  # growth that nodes are moved for, a little below the 1.5 that analysts put up with


@kernel
def size_of(points, shells, e):  # type: ignore[no-untyped-def]
    """Size of shell row e; 0 for rows of −1."""
    a, b, c = shells[e, 0], shells[e, 1], shells[e, 2]
    d = shells[e, 3]
    if a < 0:
        return 0.0
    ux, uy, uz = points[c, 0] - points[a, 0], points[c, 1] - points[a, 1], points[c, 2] - points[a, 2]
    f, g = (a, b) if d < 0 else (b, d)  # across a quad's diagonals, or from a tria's first corner
    wx, wy, wz = points[g, 0] - points[f, 0], points[g, 1] - points[f, 1], points[g, 2] - points[f, 2]
    x, y, z = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
    double = math.sqrt(x * x + y * y + z * z)
    return math.sqrt(double if d < 0 else double / 2)


@kernel
def sizes(points, shells):  # type: ignore[no-untyped-def]
    """Sizes (m,) of all shell rows."""
    out = np.empty(len(shells))
    for e in range(len(shells)):
        out[e] = size_of(points, shells, e)
    return out


@kernel
def excess(points, v, shells, inc, start, beside, size):  # type: ignore[no-untyped-def]
    """Sum of the squares of growth above the aim across the sides of the elements round node v; leaves their present sizes in `size`."""
    for i in range(start[v], start[v + 1]):
        size[inc[i]] = size_of(points, shells, inc[i])
    total = 0.0
    for i in range(start[v], start[v + 1]):
        e = inc[i]
        for k in range(4):
            f = beside[e, k]
            if f >= 0:
                growth = max(size[e], size[f]) / max(min(size[e], size[f]), 1e-300)
                if growth > AIM:
                    total += (min(growth, 10.0) - AIM) ** 2
    return total


def beside(shells: NDArray[np.int32]) -> NDArray[np.int32]:
    """(m, 4) the shells across the sides that exactly two share, in no order, −1 where there are fewer."""
    first, second = _pairs(shell_sides(shells))
    one, other = np.concatenate((first, second)), np.concatenate((second, first))
    order = np.argsort(one, kind="stable")
    one, other = one[order], other[order]
    begin = np.concatenate(([0], np.cumsum(np.bincount(one, minlength=len(shells)))))
    out = np.full((len(shells), 4), -1, np.int32)
    out[one, np.arange(len(one)) - begin[one]] = other
    return out


def growths(points: Floats, shells: NDArray[np.int32]) -> Floats:
    """(p,) growth across each side that two shells share."""
    return _across_sides(points, shells)[1]


def unlike_pairs(points: Floats, shells: NDArray[np.int32], most: float) -> NDArray[np.int64]:
    """(p, 2) neighbours of which one is more than `most` times as large as the other, the worst first."""
    pair, growth = _across_sides(points, shells)
    order = np.argsort(-growth, kind="stable")
    return np.asarray(pair[order[growth[order] > most]])


def unlike(points: Floats, shells: NDArray[np.int32], most: float) -> int:
    """Pairs of neighbours of which one is more than `most` times as large as the other."""
    return int((growths(points, shells) > most).sum())


def _across_sides(points: Floats, shells: NDArray[np.int32]) -> tuple[NDArray[np.int64], Floats]:
    """The two shells (p, 2) at each side that has two, and the growth (p,) across it."""
    first, second = _pairs(shell_sides(shells))
    size = sizes(points, shells)
    growth = np.maximum(size[first], size[second]) / np.maximum(np.minimum(size[first], size[second]), 1e-300)
    return np.column_stack((first, second)), growth


def _pairs(sides: ShellSides) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """The two shells at each side that has two."""
    order = np.argsort(sides.of_use, kind="stable")
    order = order[sides.uses[sides.of_use[order]] == 2]
    element = sides.element[order]
    return element[::2], element[1::2]
