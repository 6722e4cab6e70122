"""Ways to cut a patch with three to six sides into quads with as few irregular nodes as its counts allow.

Only how nodes join is made here; places follow later. A patch is a ring of nodes, counter-clockwise
from a corner, with the number of parts of each side. Four sides with equal opposite counts are a
grid; three or five are blocks round one node; four or six others are two patches of three or five
sides on both sides of a path, or a grid opened along lines that turn a corner (after Takayama, Panozzo and Sorkine-Hornung, "Pattern-based
quadrangulation for n-sided patches", 2014, with only the patterns that need at most two irregular nodes).
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

Ints = NDArray[np.int64]
MOST_PATHS = 3  # ways to lay a path through a patch that are tried
OPEN_AT = ((0.5, 0.5), (0.25, 0.75), (0.75, 0.25))  # where the line along which a grid is opened turns, in shares of its sides


@dataclass(frozen=True)
class Template:
    """quads (q, 4) over the nodes of the ring, 0 … n − 1, and `inner` new ones after them; `irregular` of the new ones."""

    quads: Ints
    inner: int
    irregular: int


def fewest(counts: tuple[int, ...]) -> int:
    """Irregular nodes that the best filling of a patch with these counts can have."""
    return 0 if len(counts) == 4 and counts[0] == counts[2] and counts[1] == counts[3] else 1 if len(counts) in (3, 5) else 2


def templates(counts: tuple[int, ...], corners: NDArray[np.float64]) -> list[Template]:
    """Fillings of a patch, most promising first; `corners` (c, 2) places of its corners, to lay paths where they are straightest."""
    sides, total = len(counts), sum(counts)
    if total % 2 or min(counts) < 1:
        return []
    if sides == 4 and counts[0] == counts[2] and counts[1] == counts[3]:
        quads, inner = _grid(np.arange(total), counts[0], counts[1], total)
        return [Template(quads, inner, 0)]
    if sides in (3, 5):
        made = _blocks(counts)
        return [] if made is None else [Template(*made, 1)]
    return [*(_opened_grids(counts) if sides == 4 else ()), *_two_patches(counts, corners)] if sides in (4, 6) else []


def _grid(ring: Ints, n: int, m: int, first: int) -> tuple[Ints, int]:
    """Rows and columns inside a ring that runs n parts, m parts, n, m; new nodes are numbered from `first`."""
    number = np.empty((m + 1, n + 1), np.int64)
    number[1:m, 1:n] = first + np.arange((m - 1) * (n - 1)).reshape(m - 1, n - 1)
    number[0], number[:, n] = ring[: n + 1], ring[n : n + m + 1]
    number[m] = ring[n + m : 2 * n + m + 1][::-1]
    number[:, 0] = np.append(ring[2 * n + m :], ring[0])[::-1]
    quads = np.stack((number[:-1, :-1], number[:-1, 1:], number[1:, 1:], number[1:, :-1]), axis=-1).reshape(-1, 4)
    return quads, (m - 1) * (n - 1)


# Twice the parts r of each side behind its cut from the counts n, where r_i + r_(i−2) = n_i.
_BEHIND = {
    sides: np.array([[(-1) ** ((i - j) * (sides + 1) // 2 % sides) for j in range(sides)] for i in range(sides)]) for sides in (3, 5)
}


def fits(counts: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Can sides with these counts (…, 3 or 5) be cut into blocks with at least one row each?"""
    twice = counts @ _BEHIND[counts.shape[-1]].T
    return np.asarray(((twice % 2 == 0) & (twice >= 2) & (2 * counts - twice >= 2)).all(axis=-1))


@lru_cache(maxsize=4096)
def _blocks(counts: tuple[int, ...]) -> tuple[Ints, int] | None:
    """Blocks round one node: every side is cut so that the spokes from its cut to the node match. (quads, new nodes)."""
    count = np.array(counts)
    if not fits(count):
        return None
    sides, total = len(counts), sum(counts)
    ring = np.arange(total)
    behind = _BEHIND[sides] @ count // 2
    ahead = count - behind
    corner = np.concatenate(([0], np.cumsum(count)[:-1]))
    cut = corner + ahead
    centre, new = total, total + 1
    spokes = []
    for i in range(sides):
        n = int(ahead[(i + 1) % sides])
        spokes.append(np.concatenate(([ring[cut[i]]], np.arange(new, new + n - 1), [centre])))
        new += n - 1
    quads = []
    for i in range(sides):
        j = (i + 1) % sides
        along = ring[(cut[i] + np.arange(behind[i] + 1)) % total]
        beyond = ring[(corner[j] + np.arange(ahead[j] + 1)) % total]
        block = np.concatenate((along[:-1], beyond[:-1], spokes[j][:-1], spokes[i][::-1][:-1]))
        own, inner = _grid(block, int(behind[i]), int(ahead[j]), new)
        quads.append(own)
        new += inner
    return np.concatenate(quads), new - total


@lru_cache(maxsize=4096)
def _paths(counts: tuple[int, ...]) -> NDArray[np.int64]:
    """Paths (p, 4) that leave a patch of three or five sides on each hand: side i, its parts behind the start, those of the other side
    before the end, parts of the path."""
    sides, total = len(counts), sum(counts)
    over = _over(sides)
    count = np.array(counts)
    found = [np.empty((0, 4), np.int64)]
    for i in range(sides if sides == 4 else 3):
        j = (i + over) % sides
        a, b, s = (g.ravel() for g in np.meshgrid(np.arange(1, count[i]), np.arange(1, count[j]), np.arange(1, total // 2), indexing="ij"))
        between = [np.full(len(a), count[(i + k) % sides]) for k in range(1, over)]
        beyond = [np.full(len(a), count[(j + k) % sides]) for k in range(1, sides - over)]
        near = np.stack((a, *between, b, s), axis=-1)
        far = np.stack((count[j] - b, *beyond, count[i] - a, s), axis=-1)
        good = fits(near) & fits(far)
        found.append(np.column_stack((np.full(len(a), i), a, b, s))[good])
    return np.concatenate(found)


def _over(sides: int) -> int:
    """A path ends on the side so many corners after the one it starts on."""
    return 1 if sides == 4 else 3


def _two_patches(counts: tuple[int, ...], corners: NDArray[np.float64]) -> list[Template]:
    """Fillings by a path that leaves a patch of three or five sides on each hand: paths as long as their parts, well inside, come first."""
    sides, total = len(counts), sum(counts)
    over, count = _over(sides), np.array(counts)
    paths = _paths(counts)
    if not len(paths):
        return []
    i, a, b, s = paths.T
    j = (i + over) % sides
    start = np.concatenate(([0], np.cumsum(count)))
    after = np.roll(corners, -1, axis=0)
    p = corners[i] + (after[i] - corners[i]) * (1 - a / count[i])[:, None]
    q = corners[j] + (after[j] - corners[j]) * (b / count[j])[:, None]
    side = np.linalg.norm(after - corners, axis=1).sum() / total
    length = np.maximum(np.linalg.norm(q - p, axis=1) / side, 1e-9)
    best = np.argsort(np.round(np.abs(np.log(length / s)) + 0.5 / np.minimum(a, b), 6), kind="stable")[:MOST_PATHS]
    out = []
    for i, a, b, s in paths[best].tolist():
        j = (i + over) % sides
        first, last = int(start[i] + count[i] - a), int(start[j] + b)
        path = total + np.arange(s - 1)
        whole = np.concatenate((np.arange(total), np.arange(total)))
        rings = (
            np.concatenate((whole[first : last + 1 if last > first else last + total + 1], path[::-1])),
            np.concatenate((whole[last : first + 1 if first > last else first + total + 1], path)),
        )
        sizes = (
            (a, *(counts[(i + k) % sides] for k in range(1, over)), b, s),
            (counts[j] - b, *(counts[(j + k) % sides] for k in range(1, sides - over)), counts[i] - a, s),
        )
        quads, new = [], total + s - 1
        for ring, lot in zip(rings, sizes, strict=True):
            made = _blocks(lot)
            assert made is not None  # `fits` has said so
            quads.append(np.concatenate((ring, new + np.arange(made[1])))[made[0]])
            new += made[1]
        out.append(Template(np.concatenate(quads), new - total, 2))
    return out


def _opened_grids(counts: tuple[int, ...]) -> list[Template]:
    """Four sides whose opposite counts differ by one and one, or by two and none: a grid with a row more on one side of a corner."""
    for turn in range(4):
        a, b, c, d = (counts[(turn + k) % 4] for k in range(4))
        if (a - c, b - d) in ((1, 1), (2, 0)):
            out = []
            for quads, inner in _opened_grid(c, d - (a - c == 2), a - c == 2):
                first = sum(counts[:turn])
                table = np.concatenate(((np.arange(sum(counts)) + first) % sum(counts), sum(counts) + np.arange(inner)))
                out.append(Template(table[quads], inner, 2))
            return out
    return []


@lru_cache(maxsize=1024)
def _opened_grid(n: int, m: int, twice: bool) -> list[tuple[Ints, int]]:
    """A grid opened from its first side to its second (and again to its fourth): quads over the new ring from its first corner, inner nodes.

    The line runs up from the first side and turns where two irregular nodes with three and five elements come to lie.
    """
    if n < 2 or m < 2:
        return []
    ring = np.arange(2 * (n + m))
    quads, inner = _grid(ring, n, m, len(ring))
    number = np.empty((m + 1, n + 1), np.int64)
    number[1:m, 1:n] = len(ring) + np.arange((m - 1) * (n - 1)).reshape(m - 1, n - 1)
    number[0], number[:, n] = ring[: n + 1], ring[n : n + m + 1]
    number[m], number[:, 0] = ring[n + m : 2 * n + m + 1][::-1], np.append(ring[2 * n + m :], ring[0])[::-1]
    out, seen = [], set()
    for u, v in OPEN_AT:
        p, q = min(max(1, round(u * n)), n - 1), min(max(1, round(v * m)), m - 1)
        if (p, q) in seen:
            continue
        seen.add((p, q))
        own, total = quads, len(ring) + inner
        path = [int(x) for x in (*number[: q + 1, p], *number[q, p + 1 :])]
        own, copies = _opened(own, path, total)  # the copies lie left of the line: outside the corner
        total += len(path)
        if twice:
            up, outer = path[: q + 1], copies[path[q]]
            own, _ = _opened(own, [*up, outer, *(int(x) for x in number[q, :p][::-1])], total)
            total += q + 2 + p
        out.append(_from_corner(own, total, int(ring[0])))
    return out


def _opened(quads: Ints, path: list[int], first: int) -> tuple[Ints, dict[int, int]]:
    """Quads with a new row along a path from border to border; nodes left of it become copies numbered from `first`."""
    left_of = {(int(row[k]), int(row[(k + 1) % 4])): q for q, row in enumerate(quads) for k in range(4)}
    copies = {v: first + k for k, v in enumerate(path)}
    out = quads.copy()
    for k, v in enumerate(path):
        stop = left_of.get((path[k - 1], v)) if k else None
        q = left_of.get((v, path[k + 1])) if k + 1 < len(path) else stop
        while q is not None:  # counter-clockwise round the node
            out[q][quads[q] == v] = copies[v]
            if q == stop:
                break
            at = int(np.flatnonzero(quads[q] == v)[0])
            q = left_of.get((v, int(quads[q][(at + 3) % 4])))
    row = [(a, b, copies[b], copies[a]) for a, b in itertools.pairwise(path)]
    return np.concatenate((out, np.array(row))), copies


def _from_corner(quads: Ints, total: int, corner: int) -> tuple[Ints, int]:
    """The quads with their border renumbered 0 … from a corner, and how many nodes lie inside."""
    sides = {(int(row[k]), int(row[(k + 1) % 4])) for row in quads for k in range(4)}
    after = {a: b for a, b in sides if (b, a) not in sides}
    ring = [corner]
    while (nxt := after[ring[-1]]) != corner:
        ring.append(nxt)
    table = np.full(total, -1, np.int64)
    table[ring] = np.arange(len(ring))
    inner = np.flatnonzero(table < 0)
    table[inner] = len(ring) + np.arange(len(inner))
    return table[quads], len(inner)
