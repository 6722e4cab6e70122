"""Rows on tight bends put straight again after the search for better places, where nothing is lost by it.

The search moves nodes one by one and takes the first way that pays, so that whole rows drift along a tight bend:
all of their shells lean alike, and no single node could go back without making its neighbours worse. Here all nodes
amid four quads, on rows of narrow shells and one beside them, move at once towards the lines between their neighbours;
those round which anything gets worse stay.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.onto import onto
from kind_rivet.core.kernels import kernel
from kind_rivet.core.quality.easing import STRAIGHT, Aim, star
from kind_rivet.core.quality.growth import excess, sizes
from kind_rivet.core.quality.shell_metrics import LEAST_ANGLE, WARP, shell_metrics

ROUNDS = 6  # of moving all nodes
STEP = 0.7  # of the way to where a row would be straight: whole steps could swing to and fro
ON_EDGES = 6  # codes from which on nodes keep to edges, whose even spacing rows follow
SOUND, UPRIGHT = 0.5, 0.9  # least margin and scaled Jacobian below which nothing falls for the sake of straight rows
NARROW = 1.5  # times as long as wide: quads of rows on tight bends
WARPED = 5.0  # degrees of warp from which on a quad may need its neighbours to lean
ALIKE = 1e-3  # `growth.excess` up to which sizes are alike enough
HAIR = 1e-9  # by which anything may get worse
LEAST = 1e-3  # of the row's spacing: moves that change nothing


def straightened(
    points: Floats, nodes: NDArray[np.int64], shells: NDArray[np.int32], inc: NDArray[np.int32], start: NDArray[np.int64],
    beside: NDArray[np.int32], aim: Aim, code: NDArray[np.int8], data: Floats,
) -> Floats:  # fmt: skip
    """Places (n, 3) of all nodes with rows put straight; arguments as for `easing.move_rounds`, `nodes` those that may move."""
    across = np.empty((len(nodes), 4), np.int64)
    amid = _crossings(nodes, shells, inc, start, across) & (code[nodes] < ON_EDGES) & _by_narrow(points, shells)[nodes]
    nodes, across = nodes[amid], across[amid]
    out = points.copy()
    for _ in range(ROUNDS):
        before = np.empty((len(nodes), 3))
        _stars(out, nodes, shells, inc, start, beside, aim, before)
        trial = out.copy()
        going = _shifted(trial, out, nodes, across, code, data)
        while going.any():  # who goes back may make others worse
            after = np.empty((len(nodes), 3))
            _stars(trial, nodes, shells, inc, start, beside, aim, after)
            worse = going & _worse(before, after)
            if not worse.any():
                break
            trial[nodes[worse]] = out[nodes[worse]]
            going &= ~worse
        if not going.any():
            break
        out = trial
    return out


def _by_narrow(points: Floats, shells: NDArray[np.int32]) -> NDArray[np.bool_]:
    """Which nodes (n,) lie at narrow quads, or at quads that share a node with one."""
    quads = shells[shells[:, 3] >= 0]
    out = np.zeros(len(points), bool)
    out[quads[_narrow(points, quads)]] = True
    out[quads[out[quads].any(axis=1)]] = True
    return out


def _narrow(points: Floats, quads: NDArray[np.int32]) -> NDArray[np.bool_]:
    """Which quads (m,) are much longer than wide."""
    side = np.linalg.norm(points[quads] - points[np.roll(quads, -1, axis=1)], axis=2)
    one, other = side[:, 0] + side[:, 2], side[:, 1] + side[:, 3]
    return np.asarray(np.maximum(one, other) > NARROW * np.minimum(one, other))


def narrow_rows(points: Floats, shells: NDArray[np.int32]) -> NDArray[np.int64]:
    """Quads much longer than wide that do not lean, as rows on tight bends: they are to stay upright, away from warped ones, which may need to lean."""
    quads = np.flatnonzero(shells[:, 3] >= 0)
    values = shell_metrics(points, shells[quads])
    upright = np.sin(np.radians(values[:, LEAST_ANGLE])) > STRAIGHT
    near = np.zeros(len(points), bool)
    near[shells[quads[values[:, WARP] > WARPED]]] = True
    return quads[upright & _narrow(points, shells[quads]) & ~near[shells[quads]].any(axis=1)]


def _worse(before: Floats, after: Floats) -> NDArray[np.bool_]:
    """Round which nodes anything got worse; rows of least margin, least scaled Jacobian and how unlike sizes are."""
    return np.asarray(
        (after[:, 0] < np.minimum(before[:, 0], SOUND) - HAIR)
        | (after[:, 1] < np.minimum(before[:, 1], UPRIGHT) - HAIR)
        | (after[:, 2] > np.maximum(before[:, 2], ALIKE) + HAIR)
    )


@kernel
def _stars(points, nodes, shells, inc, start, beside, aim, out):  # type: ignore[no-untyped-def]
    values = np.empty(10)
    size = sizes(points, shells)
    for i in range(len(nodes)):
        _, out[i, 0], out[i, 1] = star(points, nodes[i], shells, inc, start, aim, values)
        out[i, 2] = excess(points, nodes[i], shells, inc, start, beside, size)


@kernel
def _shifted(out, points, nodes, across, code, data):  # type: ignore[no-untyped-def]
    """Moves each node along either of its two lines towards the middle of the other one's ends; tells which moved."""
    moved = np.zeros(len(nodes), np.bool_)
    for i in range(len(nodes)):
        v = nodes[i]
        x, y, z = points[v, 0], points[v, 1], points[v, 2]
        dx, dy, dz = 0.0, 0.0, 0.0
        for axis in range(2):
            a, b, c, d = across[i, axis], across[i, axis + 2], across[i, 1 - axis], across[i, 3 - axis]
            wx, wy, wz = points[c, 0] - points[d, 0], points[c, 1] - points[d, 1], points[c, 2] - points[d, 2]
            ox, oy, oz = (points[a, 0] + points[b, 0]) / 2 - x, (points[a, 1] + points[b, 1]) / 2 - y, (points[a, 2] + points[b, 2]) / 2 - z
            share = (ox * wx + oy * wy + oz * wz) / max(wx * wx + wy * wy + wz * wz, 1e-300)
            if abs(share) > LEAST:
                dx, dy, dz = dx + STEP * share * wx, dy + STEP * share * wy, dz + STEP * share * wz
                moved[i] = True
        if moved[i]:
            out[v, 0], out[v, 1], out[v, 2] = onto(code[v], data[v], x + dx, y + dy, z + dz)
    return moved


@kernel
def _crossings(nodes, shells, inc, start, across):  # type: ignore[no-untyped-def]
    """Which nodes lie amid four quads; `across` gets the four neighbours in turn round each."""
    out = np.zeros(len(nodes), np.bool_)
    for i in range(len(nodes)):
        v = nodes[i]
        if start[v + 1] - start[v] != 4:
            continue
        e, found = inc[start[v]], 0
        for turn in range(4):
            if shells[e, 3] < 0:
                break
            k = 0
            while shells[e, k] != v:
                k += 1
            across[i, turn] = shells[e, (k + 1) % 4]
            back = shells[e, (k + 3) % 4]
            following = -1
            for j in range(start[v], start[v + 1]):
                f = inc[j]
                for q in range(4):
                    if f != e and shells[f, 3] >= 0 and shells[f, q] == v and shells[f, (q + 1) % 4] == back:
                        following = f
            if following < 0:
                break
            e = following
            found += 1
        out[i] = found == 4 and e == inc[start[v]]
    return out
