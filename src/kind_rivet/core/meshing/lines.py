"""Shells without faces: between two rows of nodes, inside a closed outline, along a path."""

from __future__ import annotations

import itertools

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Floats, arc_lengths, frame, unit
from kind_rivet.core.meshing.fillings import plane_filling
from kind_rivet.core.meshing.free.fill import CannotFill

Ints = NDArray[np.int32]


def facing(first: Floats, second: Floats) -> Floats:
    """The second row (m, 3), turned round where the strip between the rows would cross itself."""
    straight = np.linalg.norm(first[0] - second[0]) + np.linalg.norm(first[-1] - second[-1])
    crossed = np.linalg.norm(first[0] - second[-1]) + np.linalg.norm(first[-1] - second[0])
    return second if straight <= crossed else second[::-1]


def ruled_strip(first: Floats, second: Floats, rows: int, size: float) -> tuple[Floats, Ints]:
    """Shells between two rows (n, 3) and (m, 3): points and elements.

    The points begin with the first row, then the second as it was given. Equal counts give
    `rows` rows of quads; unequal ones are filled freely.
    """
    turned = facing(first, second)
    back = not np.array_equal(turned, second)
    n, m = len(first), len(turned)
    if n == m:
        share = np.linspace(0.0, 1.0, rows + 1)[1:-1]
        inner = [(1 - s) * first + s * turned for s in share]
        lines = [
            np.arange(n),
            *[2 * n + k * n + np.arange(n) for k in range(len(inner))],
            n + (np.arange(n)[::-1] if back else np.arange(n)),
        ]
        quads = [np.column_stack((a[:-1], a[1:], b[1:], b[:-1])) for a, b in itertools.pairwise(lines)]
        return np.concatenate((first, second, *inner)), np.concatenate(quads).astype(np.int32)
    u, v = _shares(first), _shares(turned)
    length = (_length(first) + _length(turned)) / 2
    height = float(np.linalg.norm(_at(first, np.linspace(0, 1, 20)) - _at(turned, np.linspace(0, 1, 20)), axis=1).mean())
    if height < 1e-9 * length:
        raise Refused("The two rows lie on each other.", "Choose rows with a gap between them.")
    steps = np.linspace(0.0, 1.0, rows + 1)[1:-1]
    right = np.column_stack((np.full(len(steps), length), steps * height))
    left = np.column_stack((np.zeros(len(steps)), steps[::-1] * height))
    loop = np.concatenate((np.column_stack((u * length, 0 * u)), right, np.column_stack((v * length, 0 * v + height))[::-1], left))
    flat = plane_filling([loop], size)
    x, y = flat.points[:, 0] / length, flat.points[:, 1] / height
    points = (1 - y)[:, None] * _at(first, x) + y[:, None] * _at(turned, x)
    k = len(steps)
    top = n + k + np.arange(m)[::-1]  # of the turned row, in its own order
    order = np.concatenate(
        (np.arange(n), top[::-1] if back else top, np.setdiff1d(np.arange(len(points)), np.concatenate((np.arange(n), top))))
    )
    place = np.empty(len(points), np.int64)
    place[order] = np.arange(len(points))
    elements = np.where(flat.elements >= 0, place[np.maximum(flat.elements, 0)], -1).astype(np.int32)
    points = points[order]
    points[:n], points[n : n + m] = first, second
    return points, elements


def filled_outline(loop: Floats, size: float) -> tuple[Floats, Ints]:
    """Shells inside a closed outline (n, 3), outline first: in its plane, else a smooth patch that hangs between its sides.

    Raises `Refused` where the outline crosses itself seen square to its mean plane.
    """
    following = np.roll(loop, -1, axis=0)
    normal = np.cross(loop - loop.mean(axis=0), following - loop.mean(axis=0)).sum(axis=0)
    if np.linalg.norm(normal) < 1e-12 * _length(loop) ** 2:
        raise Refused("The outline encloses no area.", "Choose nodes round a gap, in order.")
    u, v = frame(unit(normal))
    flat = np.column_stack((loop @ u, loop @ v))
    try:
        mesh = plane_filling([flat], size)
    except CannotFill as trouble:
        raise Refused("The outline crosses itself.", "Choose its nodes in order round the gap.") from trouble
    level = loop @ unit(normal)
    lift = _hung(mesh.points, mesh.elements, len(loop), level)
    points = mesh.points[:, :1] * u + mesh.points[:, 1:] * v + lift[:, None] * unit(normal)
    points[: len(loop)] = loop
    return points, mesh.elements


def dragged(row: Floats, steps: Floats) -> tuple[Floats, Ints]:
    """Shells swept by a row (n, 3) through the shifts `steps` (k, 3), each counted from the row; points row by row."""
    n = len(row)
    points = np.concatenate((row, *[row + s for s in steps]))
    a = np.concatenate(
        [np.column_stack((np.arange(n - 1), np.arange(1, n), n + np.arange(1, n), n + np.arange(n - 1))) + k * n for k in range(len(steps))]
    )
    return points, a.astype(np.int32)


def _hung(points: Floats, elements: Ints, border: int, level: Floats) -> Floats:
    """Heights (n,) that are the mean of their neighbours', the border's given (a discrete membrane)."""

    n = len(points)
    out = np.zeros(n)
    out[:border] = level
    if n == border or np.ptp(level) < 1e-12 * max(1.0, float(np.abs(level).max())):
        out[border:] = level.mean()
        return out
    pairs = []
    for k in range(4):
        for row in elements:
            size = 3 if row[3] < 0 else 4
            if k < size:
                pairs.append((row[k], row[(k + 1) % size]))
    ends = np.unique(np.sort(np.array(pairs), axis=1), axis=0)
    weight = scipy.sparse.coo_matrix((np.ones(2 * len(ends)), (ends.ravel(), ends[:, ::-1].ravel())), shape=(n, n)).tocsr()
    system = scipy.sparse.diags(np.asarray(weight.sum(axis=1)).ravel()) - weight
    out[border:] = scipy.sparse.linalg.spsolve(system[border:, border:].tocsc(), -(system[border:, :border] @ level))
    return out


def _length(row: Floats) -> float:
    return float(np.linalg.norm(np.diff(row, axis=0), axis=1).sum())


def _shares(row: Floats) -> Floats:
    s = arc_lengths(row)
    return np.asarray(s / s[-1])


def _at(row: Floats, share: Floats) -> Floats:
    s = _shares(row)
    return np.column_stack([np.interp(share, s, row[:, k]) for k in range(3)])
