"""Regular meshes: rows between four sides, blocks in three or five, rings between two loops, discs."""

from __future__ import annotations

import itertools

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, arc_lengths
from kind_rivet.core.meshing.free import cleanup, smooth
from kind_rivet.core.meshing.free.fill import FlatMesh, flat_worst

EVENING = 8  # rounds of averaging inside a disc
FAN = 4  # quads round the middle of the smallest discs
WIDE_FAN = 0.975  # sizes of radius up to which there are
SQUARE = 0.58  # how far out the corners of a disc's inner square lie
MOST_ROUND = 12  # border nodes of a region with one inner node


def corner_nodes(loop: Floats) -> list[int] | None:
    """The four border nodes that turn the corner of a four-sided region, or None.

    A node turns by (π − interior angle) / (π/2): corners near 1, all others near 0.
    """
    turn = turns(loop)
    corners = np.flatnonzero(turn > 0.5)
    rest = np.delete(turn, corners)
    if len(corners) != 4 or (len(rest) and np.abs(rest).max() > 0.45):
        return None
    return [int(c) for c in corners]


def turns(loop: Floats) -> Floats:
    """Turn at each node of a closed polygon (k, 2) in quarter turns, left positive."""
    before, after = loop - np.roll(loop, 1, axis=0), np.roll(loop, -1, axis=0) - loop
    cross = before[:, 0] * after[:, 1] - before[:, 1] * after[:, 0]
    return np.asarray(np.arctan2(cross, np.einsum("ij,ij->i", before, after)) / (np.pi / 2))


def fill_mapped(loop: Floats, corners: list[int] | None = None) -> FlatMesh | None:
    """Rows and columns between four sides with equal opposite counts (transfinite); None where that does not fit.

    The points come border first, in the order of the loop. `corners`: nodes to take as the
    corners, ascending; found by the turns of the loop where not given.
    """
    corners = corners or corner_nodes(loop)
    if corners is None:
        return None
    k = len(loop)
    sides = [[(corners[i] + j) % k for j in range((corners[(i + 1) % 4] - corners[i]) % k + 1)] for i in range(4)]
    n, m = len(sides[0]) - 1, len(sides[1]) - 1
    if len(sides[2]) - 1 != n or len(sides[3]) - 1 != m or n < 1 or m < 1:
        return None
    bottom, right, top, left = loop[sides[0]], loop[sides[1]], loop[sides[2]][::-1], loop[sides[3]][::-1]
    number = np.full((m + 1, n + 1), -1, np.int64)
    number[0], number[:, n], number[m], number[:, 0] = sides[0], sides[1], sides[2][::-1], sides[3][::-1]
    number[1:m, 1:n] = k + np.arange((m - 1) * (n - 1)).reshape(m - 1, n - 1)
    u0, u1 = _shares(bottom)[None, 1:n], _shares(top)[None, 1:n]
    v0, v1 = _shares(left)[1:m, None], _shares(right)[1:m, None]
    # Crossing of the straight lines between opposite shares keeps gradings of both sides.
    du, dv = u1 - u0, v1 - v0
    u = ((u0 + v0 * du) / (1 - du * dv))[..., None]
    v = v0[..., None] + u * dv[..., None]
    a = (1 - v) * bottom[None, 1:n] + v * top[None, 1:n]
    b = (1 - u) * left[1:m, None] + u * right[1:m, None]
    c = (1 - u) * (1 - v) * bottom[0] + u * (1 - v) * bottom[n] + (1 - u) * v * top[0] + u * v * top[n]
    place = (a + b - c).reshape(-1, 2)
    quads = np.stack((number[:-1, :-1], number[:-1, 1:], number[1:, 1:], number[1:, :-1]), axis=-1).reshape(-1, 4).astype(np.int32)
    points = np.concatenate((loop, place))
    return FlatMesh(points, quads, flat_worst(points, quads))


def fill_blocks(loop: Floats) -> FlatMesh | None:
    """A region with three or five sides as blocks round one inner node; None where its counts or corners do not fit.

    Every side i is cut into r_i + l_i parts so that spokes to the inner node match:
    l_i = r_(i−2), hence r_i + r_(i−2) = n_i.
    """
    turn = turns(loop)
    corners = np.flatnonzero(turn > 0.5)
    sides = len(corners)
    rest = np.delete(turn, corners)
    if sides not in (3, 5) or (len(rest) and np.abs(rest).max() > 0.45):
        return None
    k = len(loop)
    count = [int((corners[(i + 1) % sides] - corners[i]) % k) for i in range(sides)]
    system = np.eye(sides) + np.roll(np.eye(sides), -2, axis=1)
    after = np.linalg.solve(system, np.array(count, float))  # r_i: parts of side i behind its cut
    if (np.abs(after - np.round(after)) > 1e-6).any() or after.min() < 0.9 or (np.array(count) - after).min() < 0.9:
        return None
    behind = np.round(after).astype(int)
    ahead = np.array(count) - behind
    cut = [int((corners[i] + ahead[i]) % k) for i in range(sides)]
    centre = loop[cut].mean(axis=0)
    points = [loop, centre[None]]
    total = k + 1
    spokes = []
    for i in range(sides):  # from the cut of side i to the centre
        n = int(ahead[(i + 1) % sides])
        inner = np.arange(total, total + n - 1)
        total += n - 1
        share = np.linspace(0, 1, n + 1)[1:-1, None]
        points.append((1 - share) * loop[cut[i]] + share * centre)
        spokes.append(np.concatenate(([cut[i]], inner, [k])))
    place = np.concatenate(points)
    quads = []
    for i in range(sides):
        j = (i + 1) % sides
        first = (cut[i] + np.arange(behind[i] + 1)) % k  # along side i to its corner with side j
        second = (corners[j] + np.arange(ahead[j] + 1)) % k
        ring = np.concatenate((first[:-1], second[:-1], spokes[j][:-1], spokes[i][::-1][:-1]))
        block = _block(place[ring], int(behind[i]), int(ahead[j]))
        if block is None:
            return None
        between, own = block
        table = np.concatenate((ring, np.arange(total, total + len(between))))
        total += len(between)
        place = np.concatenate((place, between))
        quads.append(table[own].astype(np.int32))
    elements = np.concatenate(quads)
    free = np.arange(len(place)) >= k
    inc, deg = cleanup.link(elements, len(place))
    smooth.smooth(place, elements, inc, deg, free, np.arange(len(place)), 12, 2)
    return FlatMesh(place, elements, flat_worst(place, elements))


def _block(ring: Floats, n: int, m: int) -> tuple[Floats, NDArray[np.int64]] | None:
    """Inner points and quads of a four-sided block; `ring` runs n parts, m parts, n, m from one corner."""
    if len(ring) != 2 * (n + m):
        return None
    number = np.empty((m + 1, n + 1), np.int64)
    number[0], number[:, n] = np.arange(n + 1), n + np.arange(m + 1)
    number[m] = (n + m + np.arange(n + 1))[::-1]
    number[:, 0] = np.append((2 * n + m + np.arange(m)), 0)[::-1]
    inner: list[Floats] = []
    for i in range(1, m):
        for j in range(1, n):
            u, v = j / n, i / m
            edge = (1 - v) * ring[number[0, j]] + v * ring[number[m, j]] + (1 - u) * ring[number[i, 0]] + u * ring[number[i, n]]
            corner = (1 - u) * (1 - v) * ring[0] + u * (1 - v) * ring[n] + (1 - u) * v * ring[number[m, 0]] + u * v * ring[number[m, n]]
            number[i, j] = len(ring) + len(inner)
            inner.append(edge - corner)
    quads = np.stack((number[:-1, :-1], number[:-1, 1:], number[1:, 1:], number[1:, :-1]), axis=-1).reshape(-1, 4)
    return np.array(inner).reshape(-1, 2), quads


def fill_star(loop: Floats) -> FlatMesh | None:
    """Quads round one inner node, which joins every other border node; None where the outline has too many nodes for that."""
    n = len(loop)
    if n % 2 or not 6 <= n <= MOST_ROUND:
        return None
    points = np.concatenate((loop, loop.mean(axis=0)[None]))
    best = None
    for first in (0, 1):
        k = first + np.arange(0, n, 2)
        quads = np.column_stack((np.full(n // 2, n), k, (k + 1) % n, (k + 2) % n)).astype(np.int32)
        worst = flat_worst(points, quads)
        if best is None or worst > best.worst:
            best = FlatMesh(points, quads, worst)
    return best


def fans_out(count: int, radius: float, size: float) -> bool:
    """Does a disc become four quads round a node, as those of rows with a ring round them were smaller yet?"""
    return count == 2 * FAN and radius < WIDE_FAN * size


def fill_disc(loop: Floats, size: float) -> FlatMesh | None:
    """A round region as a square of rows with one ring round it; None where it is not round or its count is no multiple of four.

    Eight sides of a small one become four quads round a node. The points come border first.
    """
    n, k = len(loop), len(loop) // 4
    turn = turns(loop)
    centre = loop.mean(axis=0)
    reach = np.linalg.norm(loop - centre, axis=1)
    if n % 4 or n < 8 or turn.max() > 2.4 * 4 / n or turn.min() < 0 or reach.min() < 0.8 * reach.max():
        return None
    if fans_out(n, reach.mean(), size):
        spoke = np.arange(0, n, 2)
        quads = np.column_stack((np.full(4, n), spoke, spoke + 1, (spoke + 2) % n)).astype(np.int32)
        fan = np.concatenate((loop, centre[None]))
        return FlatMesh(fan, quads, flat_worst(fan, quads))
    first = k // 2  # a corner of the square; with an even k rows then lie along the direction of the first node
    corners = [(first + i * k) % n for i in range(4)]
    square = np.empty((n, 2))
    for i in range(4):
        a, b = (centre + SQUARE * (loop[corners[j]] - centre) for j in (i, (i + 1) % 4))
        share = np.arange(k)[:, None] / k
        square[(corners[i] + np.arange(k)) % n] = (1 - share) * a + share * b
    ring = np.roll(np.arange(n), -first)
    block = _block(square[ring], k, k)
    if block is None:
        return None
    inner, rows = block
    table = np.concatenate((n + ring, np.arange(2 * n, 2 * n + len(inner))))
    around = np.arange(n)
    after = (around + 1) % n
    elements = np.concatenate((np.column_stack((around, after, n + after, n + around)), table[rows])).astype(np.int32)
    points = np.concatenate((loop, square, inner))
    for _ in range(EVENING):  # all at once, so that what is symmetric stays so
        mean, count = np.zeros_like(points), np.zeros(len(points))
        for k in range(4):
            for other in (elements[:, (k + 1) % 4], elements[:, (k + 3) % 4]):
                np.add.at(mean, elements[:, k], points[other])
                np.add.at(count, elements[:, k], 1.0)
        points[n:] = 0.5 * points[n:] + 0.5 * (mean / count[:, None])[n:]
    return FlatMesh(points, elements, flat_worst(points, elements))


def fill_rings(outer: Floats, inner: Floats, size: float) -> FlatMesh | None:
    """Rows between two loops with equal counts, one inside the other (outer counter-clockwise, inner clockwise).

    Nodes are joined straight to those they face; the points come outer loop first, then
    the inner one, then the rows from outside in. None where the counts differ.
    """
    n = len(outer)
    if len(inner) != n:
        return None
    facing = inner[::-1]
    shifts = [float(np.linalg.norm(outer - np.roll(facing, -s, axis=0), axis=1).sum()) for s in range(n)]
    shift = int(np.argmin(shifts))
    partner = np.roll(facing, -shift, axis=0)
    number = np.roll(np.arange(n, 2 * n)[::-1], -shift)
    gap = float(np.linalg.norm(outer - partner, axis=1).mean())
    rows = max(1, round(gap / size))
    lines, points = [np.arange(n)], [outer, inner]
    for k in range(1, rows):
        share = k / rows
        lines.append(2 * n + (k - 1) * n + np.arange(n))
        points.append((1 - share) * outer + share * partner)
    lines.append(number)
    quads = [np.column_stack((a, np.roll(a, -1), np.roll(b, -1), b)) for a, b in itertools.pairwise(lines)]
    mesh = np.concatenate(points)
    elements = np.concatenate(quads).astype(np.int32)
    return FlatMesh(mesh, elements, flat_worst(mesh, elements))


def ring_quads(count: int) -> np.ndarray:
    """One row of quads between two facing loops of `count` nodes: outer nodes 0 … count − 1, inner ones after them."""
    k = np.arange(count)
    return np.column_stack((k, (k + 1) % count, count + (k + 1) % count, count + k)).astype(np.int32)


def _shares(side: Floats) -> Floats:
    s = arc_lengths(side)
    return np.asarray(s / s[-1])
