"""Regular meshes of walls whose sides run along two directions: L-, U- and T-shapes, and walls that others stand on and end within.

Every corner of the border turns by whole quarters; walked along with one step per side,
the border closes on an integer lattice, and the lattice cells inside it are the quads
(sub-mapping after Whiteley, White, Benzley and Blacker, "Two and three-quarter
dimensional meshing facilitators", 1996).
"""

from __future__ import annotations

import itertools

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.free import cleanup, smooth
from kind_rivet.core.meshing.free.fill import FlatMesh, flat_worst
from kind_rivet.core.meshing.patch import BorderEdge, Patch

EAST, NORTH, WEST, SOUTH = range(4)
UNCLEAR = 0.35  # quarter turns off a whole number from which a corner may also be taken for its neighbour number
MOST_BOW = 1.25  # quarter turns that a side may bow in all: the short side of a drawn corner bows by one
FARTHEST = 0.62  # further than this no corner is bent to fit
STEP = np.array([(1, 0), (0, 1), (-1, 0), (0, -1)])
MOST_CORNERS = 60
SOUND = 0.7  # worst scaled Jacobian from which the lattice's own places stay


def corner_turns(patch: Patch) -> NDArray[np.int64] | None:
    """As `outer_turns`, None also where there are holes."""
    return outer_turns(patch) if len(patch.loops) == 1 else None


def outer_turns(patch: Patch) -> NDArray[np.int64] | None:
    """Whole quarter turns (p,) at the start of every passage of the outer border; None unless they add up to four and the passages run smoothly.

    1: a corner, −1: a corner that enters the region, −2: the end of a wall that stands on this one.
    """
    if len(patch.loops[0]) > MOST_CORNERS:
        return None
    loop = patch.loops[0]
    at_start = np.array([patch.turn[p.corners[0]] for p in loop])
    for part in loop:
        inner = np.abs(patch.turn[part.corners[1:-1]])
        if len(inner) and (inner.max() > 0.45 or inner.sum() > MOST_BOW):
            return None
    whole = np.clip(np.round(at_start), -2, 1).astype(np.int64)
    missing = 4 - int(whole.sum())
    if abs(missing) > 3:
        return None
    sign = int(np.sign(missing))
    for _ in range(abs(missing)):  # the corner nearest to the next number is taken for it
        off = (at_start - whole) * sign
        k = int(np.argmax(np.where(np.abs(whole + sign + 0.5) <= 2, off, -np.inf)))
        if off[k] < UNCLEAR:
            return None
        whole[k] += sign
    return whole if np.abs(at_start - whole).max() < FARTHEST else None


def sides_by_heading(patch: Patch) -> tuple[list[BorderEdge], list[BorderEdge], list[BorderEdge], list[BorderEdge]] | None:
    """Passages of the outer border that head east, north, west and south; None where the corners do not allow a lattice."""
    whole = outer_turns(patch)
    if whole is None:
        return None
    out: tuple[list[BorderEdge], list[BorderEdge], list[BorderEdge], list[BorderEdge]] = ([], [], [], [])
    for part, heading in zip(patch.loops[0], (np.cumsum(whole) % 4).tolist(), strict=True):
        out[heading].append(part)
    return out if all(out) else None


def node_turns(patch: Patch, counts: list[int]) -> NDArray[np.int64] | None:
    """Whole turns at the nodes of the outer border when its passages have `counts` divisions; None where there is no lattice."""
    whole = outer_turns(patch)
    if whole is None or sum(counts) < 4:
        return None
    out = np.zeros(sum(counts), np.int64)
    starts = np.concatenate(([0], np.cumsum(counts)[:-1])) % len(out)
    np.add.at(out, starts, whole)
    return out if out.min() >= -2 and out.max() <= 2 else None


def fill_lattice(loop: Floats, turn: NDArray[np.int64]) -> FlatMesh | None:
    """Quads on the lattice that the border spans; None where it does not close or would lie on itself.

    loop (k, 2) counter-clockwise, turn (k,) whole quarter turns at its nodes. The points come border first.
    """
    if int(turn.sum()) != 4:
        return None
    step = STEP[np.cumsum(turn) % 4]
    if step.sum(axis=0).any():
        return None
    at = np.cumsum(np.vstack(([0, 0], step[:-1])), axis=0)
    at -= at.min(axis=0)
    wide, high = at.max(axis=0).tolist()
    inside = _covered(at, step, wide, high)
    if inside is None:
        return None
    number = np.full((high + 1, wide + 1), -1, np.int64)
    number[at[:, 1], at[:, 0]] = np.arange(len(loop))
    there = loop[number[at[:, 1], at[:, 0]]]
    side = float(np.linalg.norm(np.roll(loop, -1, axis=0) - loop, axis=1).mean())
    if np.linalg.norm(there - loop, axis=1).max() > 0.1 * side:  # two places of the border on one lattice point
        return None
    cells = np.argwhere(inside)
    corner = np.stack([cells + d for d in ((0, 0), (0, 1), (1, 1), (1, 0))], axis=1)
    used = np.zeros_like(number, bool)
    used[corner[..., 0].ravel(), corner[..., 1].ravel()] = True
    inner = np.argwhere(used & (number < 0))
    number[inner[:, 0], inner[:, 1]] = len(loop) + np.arange(len(inner))
    dx, dy = _spacing(at, step, loop, 0, wide), _spacing(at, step, loop, 1, high)
    points = np.concatenate((loop, _relaxed(inner, number, loop, dx, dy)))
    quads = number[corner[..., 0], corner[..., 1]].astype(np.int32)
    free = np.arange(len(points)) >= len(loop)
    if len(inner) and flat_worst(points, quads) < SOUND:
        inc, deg = cleanup.link(quads, len(points))
        smooth.smooth(points, quads, inc, deg, free, np.arange(len(points)), 12, 2)
    return FlatMesh(points, quads, flat_worst(points, quads))


def _covered(at: NDArray[np.int64], step: NDArray[np.int64], wide: int, high: int) -> NDArray[np.bool_] | None:
    """Lattice cells (high, wide) that the border goes round once; None where it goes round any other than once or not at all."""
    if wide < 1 or high < 1 or wide * high > 4_000_000:
        return None
    change = np.zeros((high, wide + 1), np.int64)
    up = step[:, 1] > 0
    down = step[:, 1] < 0
    np.add.at(change, (at[up, 1], at[up, 0]), 1)
    np.add.at(change, (at[down, 1] - 1, at[down, 0]), -1)
    rounds = np.cumsum(change[:, ::-1], axis=1)[:, ::-1][:, 1:]
    if rounds.min() < 0 or rounds.max() > 1:
        return None
    return np.asarray(rounds == 1)


def _spacing(at: NDArray[np.int64], step: NDArray[np.int64], loop: Floats, axis: int, cells: int) -> Floats:
    """Mean length (cells,) of the border's sides that cross each column (axis 0) or row (axis 1) of the lattice."""
    length = np.linalg.norm(np.roll(loop, -1, axis=0) - loop, axis=1)
    along = step[:, axis] != 0
    which = (at + np.minimum(step, 0))[along, axis]
    return np.asarray(np.bincount(which, length[along], cells) / np.bincount(which, minlength=cells))


def _relaxed(inner: NDArray[np.int64], number: NDArray[np.int64], loop: Floats, dx: Floats, dy: Floats) -> Floats:
    """Places (n, 2) of the inner lattice points: harmonic, with the spacing of the border, so straight uneven rows stay straight."""
    if not len(inner):
        return np.empty((0, 2))
    first, n = len(loop), len(inner)
    y, x = inner[:, 0], inner[:, 1]
    wide, high = (dx[x - 1] + dx[x]) / 2, (dy[y - 1] + dy[y]) / 2
    rows, columns, values, right, total = [], [], [], np.zeros((n, 2)), np.zeros(n)
    for sy, sx, weight in ((0, 1, high / dx[x]), (0, -1, high / dx[x - 1]), (1, 0, wide / dy[y]), (-1, 0, wide / dy[y - 1])):
        beside = number[y + sy, x + sx]
        fixed = beside < first
        right[fixed] += weight[fixed, None] * loop[beside[fixed]]
        total += weight
        rows.append(np.flatnonzero(~fixed))
        columns.append(beside[~fixed] - first)
        values.append(-weight[~fixed])
    r, c, v = np.concatenate(rows), np.concatenate(columns), np.concatenate(values)
    system = scipy.sparse.coo_matrix((np.r_[total, v], (np.r_[np.arange(n), r], np.r_[np.arange(n), c])), shape=(n, n))
    return np.asarray(scipy.sparse.linalg.spsolve(system.tocsc(), right)).reshape(n, 2)


def standing_lines(patch: Patch) -> list[tuple[BorderEdge, ...]]:
    """Chains of passages, from the border inwards, along which other walls stand on this one and end within it."""
    whole = corner_turns(patch)
    if whole is None:
        return []
    loop = patch.loops[0]
    out = []
    for k in np.flatnonzero(whole == -2).tolist():
        chain: list[BorderEdge] = []
        for j in itertools.count(1):
            before, after = loop[k - j], loop[(k + j - 1) % len(loop)]
            if j > len(loop) // 2 or before.edge != after.edge or (j > 1 and whole[(k - j + 1) % len(loop)] != 0):
                break
            chain.insert(0, before)
        if chain:
            out.append(tuple(chain))
    return out
