"""Moving single nodes on their carriers so that the index of the elements round them rises: a compass search, compiled.

No element round a node ends worse than the worst there was before, unless that is sound and elements become more like their neighbours in size.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.onto import onto
from kind_rivet.core.kernels import kernel
from kind_rivet.core.quality.growth import excess, sizes
from kind_rivet.core.quality.index import least_margin
from kind_rivet.core.quality.limits import LimitSheet
from kind_rivet.core.quality.shell_metrics import DEGREES, LEAST_ANGLE, LONGEST, SCALED_JACOBIAN, SHORTEST, SIDE_RATIO, element_values

ON_EDGES = 0.5  # borders keep their even spacing unless an element beside them is not sound
FAILS = 1.0  # cost of an element that fails, beside what its margin costs
SQUARE = 0.3  # scaled Jacobian below which none may fall further, whatever else is worse beside it
PAST_HELP = 16.0  # cost of each unit of margin below −1
GROWTH = 6.0  # cost of the square of growth above its aim (`growth.excess`)
LEANING, STRAIGHT = math.sin(math.radians(65.0)), math.sin(math.radians(85.0))  # sines of least angles: see `Aim.upright`
SOUND = 0.5  # least margin, and
UPRIGHT = 0.75  # least scaled Jacobian, below which nothing falls for the sake of its neighbours' sizes
ENOUGH = 0.999  # margin from which on elements are left alone
EASY_ROUNDS = 12


class Aim(NamedTuple):
    """What elements are judged by while nodes move.

    table : of the limits (`LimitSheet.table`); scale : (e,) times the size that the sides of each element should be
    upright : (e,) sine of the least angle from which on each quad is not seen as narrower than its sides are long
    """

    table: Floats
    scale: Floats
    upright: Floats


def aim_for(sheet: LimitSheet, size: float, scale: Floats, upright: float = LEANING) -> Aim:
    """What all elements of a mesh are judged by alike, but for the sizes (e,) in `scale`."""
    return Aim(sheet.table(size), scale, np.full(len(scale), upright))


@kernel
def margin_of(points, shells, e, aim, values):  # type: ignore[no-untyped-def]
    """Least margin of shell e, its metrics left in `values`.

    Sides of a leaning quad count as long as they reach across it, though not so short that it failed for it: else
    narrow rows, as on tight bends, would lean over to have longer sides.
    """
    element_values(points, shells, e, values)
    values[SHORTEST] /= aim.scale[e]
    values[LONGEST] /= aim.scale[e]
    if shells[e, 3] < 0:
        return least_margin(values, aim.table[0])[0]
    lean, least = math.sin(values[LEAST_ANGLE] / DEGREES) / aim.upright[e], aim.table[1, SHORTEST, 0, 1]
    if lean < 1.0 and values[SHORTEST] > least:
        across = max(lean * values[SHORTEST], least)
        values[SIDE_RATIO] *= values[SHORTEST] / across
        values[SHORTEST] = across
    return least_margin(values, aim.table[1])[0]


@kernel
def cost_of(margin, corner):  # type: ignore[no-untyped-def]
    """What an element with a least margin and a least scaled Jacobian costs: (1 − margin)⁴ over margins from −1 to 1, and more where it fails."""
    cost = 0.0
    if margin < -1.0:  # what is past help must not ruin its neighbours
        cost += 16.0 + PAST_HELP * (-1.0 - margin)
    elif margin < 1.0:
        cost += (1.0 - margin) ** 4
    if margin < 0.0:
        cost += FAILS
    # A gentle pull towards even angles keeps rows straight once all margins are full.
    return cost + 0.02 * (1.0 - min(corner, 1.0))


@kernel
def star(points, v, shells, inc, start, aim, values, most=np.inf):  # type: ignore[no-untyped-def]
    """Cost (`cost_of`), least margin and least scaled Jacobian of the elements round node v; of some of them once these cost `most` or more."""
    cost, worst, square = 0.0, np.inf, np.inf
    for i in range(start[v], start[v + 1]):
        m = max(margin_of(points, shells, inc[i], aim, values), -20.0)
        worst = min(worst, m)
        square = min(square, values[SCALED_JACOBIAN])
        cost += cost_of(m, values[SCALED_JACOBIAN])
        if cost >= most:  # no element costs less than nothing
            break
    return cost, worst, square


@kernel
def no_worse(worst, square, low, corner):  # type: ignore[no-untyped-def]
    """May a least margin and a least scaled Jacobian (`worst`, `square`) become others (`low`, `corner`)?"""
    return low >= min(worst, 1.0) - 1e-12 and corner >= min(square, SQUARE) - 1e-12


@kernel
def _sound_still(worst, square, low, corner):  # type: ignore[no-untyped-def]
    """May they become so for the sake of like sizes?"""
    return low >= min(worst, SOUND) - 1e-12 and corner >= min(square, UPRIGHT) - 1e-12


@kernel
def _frame(points, v, shells, inc, start):  # type: ignore[no-untyped-def]
    """Two unit vectors tangent to the elements round node v, and their mean side length."""
    nx, ny, nz, reach, count = 0.0, 0.0, 0.0, 0.0, 0
    for i in range(start[v], start[v + 1]):
        e = inc[i]
        n = 3 if shells[e, 3] < 0 else 4
        for k in range(n):
            if shells[e, k] == v:
                a, b = shells[e, (k + 1) % n], shells[e, (k + n - 1) % n]
                ux, uy, uz = points[a, 0] - points[v, 0], points[a, 1] - points[v, 1], points[a, 2] - points[v, 2]
                wx, wy, wz = points[b, 0] - points[v, 0], points[b, 1] - points[v, 1], points[b, 2] - points[v, 2]
                nx += uy * wz - uz * wy
                ny += uz * wx - ux * wz
                nz += ux * wy - uy * wx
                reach += math.sqrt(ux * ux + uy * uy + uz * uz)
                count += 1
    size = math.sqrt(nx * nx + ny * ny + nz * nz)
    if size == 0.0 or count == 0:
        return 1.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0
    nx, ny, nz = nx / size, ny / size, nz / size
    if abs(nx) <= abs(ny) and abs(nx) <= abs(nz):
        tx, ty, tz = 0.0, nz, -ny
    elif abs(ny) <= abs(nz):
        tx, ty, tz = -nz, 0.0, nx
    else:
        tx, ty, tz = ny, -nx, 0.0
    size = math.sqrt(tx * tx + ty * ty + tz * tz)
    tx, ty, tz = tx / size, ty / size, tz / size
    return tx, ty, tz, ny * tz - nz * ty, nz * tx - nx * tz, nx * ty - ny * tx, reach / count


@kernel
def move_rounds(points, order, shells, inc, start, beside, aim, code, data, rounds, target, firm=GROWTH):  # type: ignore[no-untyped-def]
    """Compass search of each node in `order` on its carrier; returns moves made. `beside`: neighbours (`growth.beside`) that sizes should be like,
    `firm`: what the square of growth above its aim costs."""
    values = np.empty(10)
    size = sizes(points, shells)
    moves = 0
    awake = np.ones(len(points), np.bool_)
    for _ in range(rounds):
        moved_any = False
        for idx in range(len(order)):
            v = order[idx]
            if not awake[v]:
                continue
            awake[v] = False
            best, worst, square = star(points, v, shells, inc, start, aim, values)
            over = excess(points, v, shells, inc, start, beside, size)
            if over == 0.0 and (worst >= target or (code[v] >= 6 and worst >= ON_EDGES)):
                continue
            tx, ty, tz, bx, by, bz, reach = _frame(points, v, shells, inc, start)
            if reach == 0.0:
                continue
            x, y, z = points[v, 0], points[v, 1], points[v, 2]
            x0, y0, z0 = x, y, z
            pull = firm if worst >= 0.0 else 0.0  # what fails comes first
            best += pull * over
            step = 0.15 * reach
            for _ in range(5):
                better = False
                for q in range(8):
                    a = q * (math.pi / 4)
                    c, s = step * math.cos(a), step * math.sin(a)
                    px, py, pz = onto(code[v], data[v], x + c * tx + s * bx, y + c * ty + s * by, z + c * tz + s * bz)
                    points[v, 0], points[v, 1], points[v, 2] = px, py, pz
                    now, low, corner = star(points, v, shells, inc, start, aim, values, best)
                    if now >= best:
                        continue
                    left = excess(points, v, shells, inc, start, beside, size)
                    now += pull * left
                    if now < best * (1 - 1e-6) and (
                        no_worse(worst, square, low, corner) or (pull > 0.0 and left < over and _sound_still(worst, square, low, corner))
                    ):
                        best, over, worst, square, x, y, z = now, left, low, corner, px, py, pz
                        better = True
                        break
                if not better:
                    step *= 0.4
            points[v, 0], points[v, 1], points[v, 2] = x, y, z
            excess(points, v, shells, inc, start, beside, size)
            if (x - x0) ** 2 + (y - y0) ** 2 + (z - z0) ** 2 > (5e-3 * reach) ** 2:
                moves += 1
                moved_any = True
                awake[v] = True
                for i in range(start[v], start[v + 1]):
                    for k in range(4):
                        w = shells[inc[i], k]
                        if w >= 0:
                            awake[w] = True
        if not moved_any:
            break
    return moves


@kernel
def keep_gains(points, trial, order, shells, inc, start, beside, aim):  # type: ignore[no-untyped-def]
    """Take each node in `order` to its place in `trial` (n, 3), in place, where the cost round it falls and nothing gets worse; returns how many."""
    values = np.empty(10)
    size = sizes(points, shells)
    kept = 0
    for v in order:
        x, y, z = points[v, 0], points[v, 1], points[v, 2]
        cost, worst, square = star(points, v, shells, inc, start, aim, values)
        cost += GROWTH * excess(points, v, shells, inc, start, beside, size)
        points[v, 0], points[v, 1], points[v, 2] = trial[v, 0], trial[v, 1], trial[v, 2]
        now, low, corner = star(points, v, shells, inc, start, aim, values)
        now += GROWTH * excess(points, v, shells, inc, start, beside, size)
        if now < cost and no_worse(worst, square, low, corner):
            kept += 1
        else:
            points[v, 0], points[v, 1], points[v, 2] = x, y, z
            excess(points, v, shells, inc, start, beside, size)
    return kept


def node_elements(shells: NDArray[np.int32], nodes: int) -> tuple[NDArray[np.int32], NDArray[np.int64]]:
    """Elements round each node as (inc, start): those of node v are inc[start[v] : start[v + 1]]."""
    element, k = np.nonzero(shells >= 0)
    node = shells[element, k]
    order = np.argsort(node, kind="stable")
    start = np.concatenate(([0], np.cumsum(np.bincount(node, minlength=nodes)))).astype(np.int64)
    return element[order].astype(np.int32), start


def eased(
    points: Floats,
    shells: NDArray[np.int32],
    nodes: NDArray[np.int64],
    code: NDArray[np.int8],
    data: Floats,
    sheet: LimitSheet,
    size: float,
) -> Floats:
    """Places (n, 3) of all nodes after `nodes` moved on analytic carriers (`Holds`), for rows (m, 4) that are not part of a mesh yet."""
    inc, start = node_elements(shells, len(points))
    out = points.copy()
    alone = np.full((len(shells), 4), -1, np.int32)  # what they will lie beside is not known yet
    move_rounds(out, nodes, shells, inc, start, alone, aim_for(sheet, size, np.ones(len(shells))), code, data, EASY_ROUNDS, ENOUGH)
    return out
