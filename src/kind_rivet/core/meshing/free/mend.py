"""Poor places of a filled region filled again: the elements round a poor one are taken out and the cavity gets several tries.

What one front cannot see — how the rows of two near borders will meet — a few different
fronts in a small cavity often find. A try is kept only if the worst element of the cavity
and its surroundings rises, or stray trias vanish while nothing gets poor.
"""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.kernels import kernel
from kind_rivet.core.meshing.free import cleanup, smooth
from kind_rivet.core.meshing.free.given import Given
from kind_rivet.core.meshing.free.shapes2d import shortest_made, sized_score
from kind_rivet.core.meshing.free.tile import tiled

Ints = NDArray[np.int32]
Fill = Callable[[list[Floats], Floats, float, float], tuple[Floats, Ints]]  # loops, hard points, keep off, size factor → points, elements

POOR = 0.66  # a quad with an angle below about 41° or above 139°
SHORT = 0.36  # of the size: shorter sides are about to fail
GOOD = 0.8  # better than this counts as this
TRIA_COST = 0.06
TRIES = ((0.68, 1.0), (0.6, 1.0), (0.76, 1.0), (0.68, 0.88), (0.68, 1.15), (0.85, 1.0))  # keep off, size factor
NO_POINTS = (np.inf, 1.0)  # the exact tiling between the cavity's own nodes


@kernel
def _scores(points, elements, size, given, fine, growth, out):  # type: ignore[no-untyped-def]
    for e in range(len(elements)):
        out[e] = sized_score(points, elements, e, size)
        made, least = shortest_made(points, elements, e, given), SHORT * size
        if made < least and len(fine) > 0:
            n = 3 if elements[e, 3] < 0 else 4
            x, y = 0.0, 0.0
            for k in range(n):
                x += points[elements[e, k], 0] / n
                y += points[elements[e, k], 1] / n
            for i in range(len(fine)):
                d = math.sqrt((fine[i, 0] - x) ** 2 + (fine[i, 1] - y) ** 2) - fine[i, 2]
                least = min(least, fine[i, 3] + growth * max(d, 0.0))
        out[e] = min(out[e], POOR * made / least)


def score_of(points: Floats, elements: Ints, size: float, given: Given | None = None) -> Floats:
    """`sized_score` of every element (m,).

    Sides that are not `given` count as poor where they are shorter than SHORT sizes and than what is wanted near finer sides.
    """
    out = np.empty(len(elements))
    given = Given(len(points)) if given is None else given
    _scores(points, elements, size, given.count, given.fine, given.growth, out)
    return out


def mend(
    points: Floats, elements: Ints, fixed: int, hard: int, size: float, fill: Fill, budget: int, sharp: NDArray[np.int64] | None = None,
    given: Given | None = None,
) -> tuple[Floats, Ints]:  # fmt: skip
    """The mesh with its poor places filled again; the first `fixed` points stay, the last `hard` of them lie inside the region.

    `budget` limits the number of tries. Worst elements come first, each with growing
    cavities; those at `sharp` border corners are what they must be. `given` as for `score_of`.
    """
    given_up: set[tuple[int, ...]] = set()
    changed = True
    while changed and budget > 0:
        changed = False
        score = score_of(points, elements, size, given)
        forced = np.isin(elements, sharp).any(axis=1) if sharp is not None and len(sharp) else np.zeros(len(elements), bool)
        poor = np.flatnonzero((score < POOR) & ~forced | (elements[:, 3] < 0))
        round_ = _Round(elements, len(points))
        for e in poor[np.argsort(score[poor] + np.where(elements[poor, 3] < 0, 0.3, 0.0), kind="stable")].tolist():
            name = tuple(elements[e].tolist())
            if name in given_up or budget <= 0:
                continue
            found = _opened(points, elements, round_, e, fixed, size, given)
            for rings in (1, 2, 3) if found is None else ():
                found, used = _better(points, elements, round_, e, rings, fixed, hard, size, fill, given)
                budget -= used
                if found is not None:
                    break
            if found is not None:
                points, elements = found
                changed = True
            if changed:
                break
            given_up.add(name)
    return without_unused(points, elements, fixed)


class _Round:
    """Elements round each node, to look about in without going through the whole mesh."""

    def __init__(self, elements: Ints, nodes: int) -> None:
        element, k = np.nonzero(elements >= 0)
        node = elements[element, k]
        self.elements = elements
        self.inc = element[np.argsort(node, kind="stable")]
        self.start = np.concatenate(([0], np.cumsum(np.bincount(node, minlength=nodes))))

    def touching(self, lot: NDArray[np.int64]) -> NDArray[np.int64]:
        """Elements that share a node with some of a lot, these included."""
        nodes = np.unique(self.elements[lot])
        return np.unique(np.concatenate([self.inc[self.start[v] : self.start[v + 1]] for v in nodes[nodes >= 0]]))


def _better(
    points: Floats,
    elements: Ints,
    near: _Round,
    element: int,
    rings: int,
    fixed: int,
    hard: int,
    size: float,
    fill: Fill,
    given: Given | None,
) -> tuple[tuple[Floats, Ints] | None, int]:
    """The mesh with a better filling of the cavity of so many rings round an element, and the tries made."""
    inside = np.array([element])
    for _ in range(rings):
        inside = near.touching(inside)
    around = near.touching(inside)
    loops = outline(elements[inside])
    if loops is None or (len(around) == len(inside) == len(elements) and rings > 1):
        return None, 0
    border = np.concatenate(loops)
    within = np.unique(elements[inside][elements[inside] >= 0])
    held = np.setdiff1d(within, border)
    held = held[(held >= fixed - hard) & (held < fixed)]
    if len(np.setdiff1d(within[within < fixed], np.concatenate((border, held)))):
        return None, 0
    before = _rank(points, elements[around], size, given)
    shell = np.setdiff1d(around, inside)
    best: tuple[Floats, Ints] | None = None
    best_rank = before + 0.01
    used = 0
    for keep_off, factor in (NO_POINTS, *TRIES):
        used += 1
        try:
            if (keep_off, factor) == NO_POINTS:
                if len(loops) > 1 or len(held) or (quads := tiled(points[border], size)) is None:
                    continue
                new_points, new = points[border], quads
            else:
                new_points, new = fill([points[loop] for loop in loops], points[held], keep_off, factor)
        except ValueError:
            continue
        table = np.concatenate((border, held, len(points) + np.arange(len(new_points) - len(border) - len(held))))
        more = np.concatenate((points, new_points[len(border) + len(held) :]))
        own = np.where(new >= 0, table[np.maximum(new, 0)], -1).astype(np.int32)
        patch = np.concatenate((own, elements[shell]))
        more = smoothed(more, patch, fixed, elements[shell], border)
        now = _rank(more, patch, size, given)
        if now > best_rank:
            best_rank = now
            keep = np.ones(len(elements), bool)
            keep[inside] = False
            best = more, np.concatenate((elements[keep], own))
            if now >= GOOD - 1e-9:
                break
    return best, used


def _opened(
    points: Floats, elements: Ints, near: _Round, element: int, fixed: int, size: float, given: Given | None
) -> tuple[Floats, Ints] | None:
    """The mesh with three quads round a new node in place of a poor quad and one beside it, where nothing poor is left of them."""
    row = elements[element]
    if row[3] < 0:
        return None
    best: tuple[Floats, Ints] | None = None
    best_rank = POOR
    for other in near.touching(np.array([element])).tolist():
        pair = np.array([element, other])
        if other == element or elements[other, 3] < 0 or len(np.intersect1d(row, elements[other])) != 2:
            continue
        loops = outline(elements[pair])
        if loops is None or len(loops) != 1 or len(loops[0]) != 6:
            continue
        ring, new = loops[0], len(points)
        shell = np.setdiff1d(near.touching(pair), pair)
        more = np.concatenate((points, points[ring].mean(axis=0)[None]))
        for first in (0, 1):
            own = np.array([[new, ring[k], ring[(k + 1) % 6], ring[(k + 2) % 6]] for k in (first, first + 2, first + 4)], np.int32)
            patch = np.concatenate((own, elements[shell]))
            tried = smoothed(more, patch, fixed, elements[shell], ring)
            rank = _rank(tried, patch, size, given)
            if rank > best_rank:
                keep = np.ones(len(elements), bool)
                keep[pair] = False
                best, best_rank = (tried, np.concatenate((elements[keep], own))), rank
    return best


def _rank(points: Floats, elements: Ints, size: float, given: Given | None) -> float:
    """Worst score, less the cost of trias; both capped so that what is good enough counts alike."""
    trias = int((elements[:, 3] < 0).sum())
    return min(float(score_of(points, elements, size, given).min()), GOOD) - TRIA_COST * trias


def outline(elements: Ints) -> list[NDArray[np.int64]] | None:
    """Border loops of a lot of elements, the outer one first in no special order; None where they touch themselves."""
    following: dict[int, int] = {}
    sides: set[tuple[int, int]] = set()
    for row in elements.tolist():
        n = 3 if row[3] < 0 else 4
        for k in range(n):
            sides.add((row[k], row[(k + 1) % n]))
    for a, b in sides:
        if (b, a) not in sides:
            if a in following:
                return None
            following[a] = b
    loops = []
    while following:
        start = min(following)
        ring = [start]
        while (nxt := following.pop(ring[-1])) != start:
            ring.append(nxt)
            if nxt not in following:
                return None
        loops.append(np.array(ring))
    return loops


def smoothed(points: Floats, patch: Ints, fixed: int, outer: Ints, border: NDArray[np.int64]) -> Floats:
    """Points after smoothing what lies inside a patch and on the cavity's `border`; other nodes of the elements round it (`outer`) stay."""
    nodes = np.unique(patch[patch >= 0])
    local = np.where(patch >= 0, np.searchsorted(nodes, np.maximum(patch, 0)), -1).astype(np.int32)
    free = nodes >= fixed
    stay = np.setdiff1d(outer[outer >= 0], border)
    free[np.isin(nodes, stay)] = False
    xy = points[nodes].copy()
    inc, deg = cleanup.link(local, len(nodes))
    smooth.smooth(xy, local, inc, deg, free, np.arange(len(nodes)), 6, 0)
    out = points.copy()
    out[nodes] = xy
    return out


def without_unused(points: Floats, elements: Ints, fixed: int) -> tuple[Floats, Ints]:
    """Points (the first `fixed` always) and elements without the points that no element uses."""
    used = np.zeros(len(points), bool)
    used[:fixed] = True
    used[elements[elements >= 0]] = True
    number = np.cumsum(used) - 1
    return points[used], np.where(elements >= 0, number[np.maximum(elements, 0)], -1).astype(np.int32)
