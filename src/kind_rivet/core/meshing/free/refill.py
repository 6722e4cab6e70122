"""A large region whose border changed in few places: only what lies near them is filled again, all else stays.

A count changed by one on one edge of a wall of thousands of shells must show at once, and
an analyst expects the rest of the wall to stay as it was.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.free.fill import CannotFill, FlatMesh, fill, flat_worst
from kind_rivet.core.meshing.free.loops import next_nodes, sides_at, with_holes
from kind_rivet.core.meshing.free.mend import POOR, score_of, smoothed
from kind_rivet.core.meshing.free.pieces import filled_pieces

Ints = NDArray[np.int32]
WORTH = 1500  # elements from which a region is not simply filled anew
SAME = 0.1  # of the side there: an earlier border node so near to one of the present border is that one
MOST = 0.6  # share of border nodes that may be new
REACH = 3.0  # sides round a change that are filled again, before the way that growth takes
LARGE = 0.7  # share of the elements from which filling a part does not pay
GROWN = 2  # how often the part is made larger where its outline touches itself
AT_ONCE = 2  # fronts that a part gets: as many as run side by side
STRAYS = 0.002  # share of trias in the whole region up to which some may be added
FEW = 2  # poor elements that may be added
LOOSE = 3  # rows round what was filled again whose nodes may move
SOUND = 0.6  # scaled Jacobian that is good enough whatever was there before


@dataclass(frozen=True)
class Before:
    """What filled a region before: places (n, 2) in the plane and (n, 3) in space, elements (m, 4), trias with −1 last."""

    points: Floats
    space: Floats
    elements: Ints


def refilled(before: Before, loops: list[Floats], size: float, growth: float) -> FlatMesh | None:
    """The earlier mesh with what lies near changed border nodes filled again, border nodes first in the order of `loops`.

    None where that does not pay, cannot be done, or would leave more poor elements than there were.
    """
    number = _same_nodes(before, loops, size)
    if number is None or len(before.elements) < WORTH:
        return None
    border = np.concatenate(loops)
    places = np.concatenate((border, before.points))  # of matched nodes the earlier place is not used
    rows = np.where(before.elements >= 0, number[np.maximum(before.elements, 0)], -1)
    gone = (rows == -2).any(axis=1)
    cavity = gone | _near(before, number, loops, size, growth)
    if not cavity.any():
        return _compact(places, rows, len(border), len(before.points), np.empty(0, np.int64))
    for _ in range(GROWN):
        if cavity.mean() > LARGE:
            return None
        pieces = _pieces(rows[~cavity], loops, places)
        if pieces is not None:
            break
        cavity |= _touched(rows, cavity)
    else:
        return None
    stay = rows[~cavity]
    try:
        whole = filled_pieces(places, pieces, lambda lot: fill(lot, size, growth, most=AT_ONCE), [stay.astype(np.int32)])
    except CannotFill:
        return None
    new = whole.elements[len(stay) :]
    ring = rows[~cavity & _touched(rows, cavity)]
    patch = np.concatenate((new, ring)).astype(np.int32)
    points = smoothed(whole.points, patch, len(border), ring.astype(np.int32), np.concatenate([np.concatenate(p) for p in pieces]))
    if not _as_good(points, patch, before, cavity | _touched(rows, cavity), size):
        return None
    near = cavity
    for _ in range(LOOSE):
        near = _touched(rows, near)
    return _compact(points, np.concatenate((stay, new)), len(border), len(before.points), np.unique(rows[near]))


def _same_nodes(before: Before, loops: list[Floats], size: float) -> NDArray[np.int64] | None:
    """For every earlier node its number in the new order: border nodes, then all earlier ones; −2 where it is no longer there.

    None where too much of the border is new.
    """
    border, side = np.concatenate(loops), sides_at(loops)
    number = len(border) + np.arange(len(before.points))
    rim = _rim(before.elements)
    away, at = scipy.spatial.cKDTree(border).query(before.points[rim])
    same = away < SAME * np.minimum(side[at], size)
    if len(np.unique(at[same])) != same.sum() or same.sum() < (1 - MOST) * len(border):
        return None
    number[rim] = np.where(same, at, -2)
    return number


def _sides(rows: NDArray[np.int64]) -> NDArray[np.int64]:
    """Directed sides (s, 2) that no other element has the other way."""
    last = np.where(rows[:, 3] < 0, 2, 3)
    a = np.concatenate([rows[:, k][last >= k] for k in range(4)])
    b = np.concatenate([np.where(last == k, rows[:, 0], rows[:, (k + 1) % 4])[last >= k] for k in range(4)])
    top = int(max(a.max(initial=0), b.max(initial=0))) + 1
    lone = ~np.isin(a * top + b, b * top + a)
    return np.column_stack((a[lone], b[lone]))


def _rim(elements: Ints) -> NDArray[np.int64]:
    return np.unique(_sides(elements.astype(np.int64)))


def _near(before: Before, number: NDArray[np.int64], loops: list[Floats], size: float, growth: float) -> NDArray[np.bool_]:
    """Elements (m,) near border nodes that came or went, as far as their sides take to grow into those inside."""
    border, side = np.concatenate(loops), sides_at(loops)
    fresh = np.setdiff1d(np.arange(len(border)), number)
    gone = before.points[number == -2]
    changed = np.concatenate((border[fresh], gone))
    if not len(changed):
        return np.zeros(len(before.elements), bool)
    longest = max(size, float(side[fresh].max(initial=0.0)))
    shortest = min(size, float(side[fresh].min(initial=size)))
    reach = REACH * longest + (longest - shortest) / max(growth, 0.05)
    away, _ = scipy.spatial.cKDTree(changed).query(before.points, distance_upper_bound=reach)
    near = np.isfinite(away)
    return np.asarray(np.where(before.elements >= 0, near[np.maximum(before.elements, 0)], False).any(axis=1))


def _touched(rows: NDArray[np.int64], lot: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Elements (m,) that share a node with some of a lot, these included."""
    nodes = np.unique(rows[lot])
    return np.asarray(np.isin(rows, nodes[nodes >= 0]).any(axis=1))


def _pieces(stay: NDArray[np.int64], loops: list[Floats], places: Floats) -> list[list[NDArray[np.int64]]] | None:
    """Outlines of what lies between the border and the elements that stay; None where they touch themselves."""
    after = next_nodes(loops)
    outer = {(k, int(after[k])) for k in range(len(after))}
    following: dict[int, int] = {}
    inner = []
    for a, b in _sides(stay).tolist():
        if (a, b) in outer:
            outer.discard((a, b))
        else:
            inner.append((b, a))
    for a, b in (*outer, *inner):
        if a in following:
            return None
        following[a] = b
    found = []
    while following:
        ring = [min(following)]
        while (nxt := following.pop(ring[-1], None)) is not None and nxt != ring[0]:
            ring.append(nxt)
        if nxt is None or len(ring) < 3:
            return None
        found.append(np.array(ring))
    groups = with_holes([places[ring] for ring in found])
    return None if groups is None else [[found[k] for k in group] for group in groups]


def _as_good(points: Floats, patch: Ints, before: Before, replaced: NDArray[np.bool_], size: float) -> bool:
    """Is the filled part hardly poorer than what it replaces, and nothing in it worse than that or than what is sound?"""
    old = before.elements[replaced]
    poor = int((score_of(points, patch, size) < POOR).sum()) - int((score_of(before.points, old, size) < POOR).sum())
    more, there = (int((rows[:, 3] < 0).sum()) for rows in (patch, before.elements[~replaced]))
    strays = more <= int((old[:, 3] < 0).sum()) or more + there <= STRAYS * len(before.elements)
    return strays and poor <= FEW and flat_worst(points, patch) >= min(SOUND, flat_worst(before.points, old))


def _compact(points: Floats, rows: NDArray[np.int64], border: int, earlier: int, loose: NDArray[np.int64]) -> FlatMesh:
    """Only the nodes that are used, border nodes first; all earlier ones stay where they were but the `loose`."""
    used = np.zeros(len(points), bool)
    used[:border] = True
    used[rows[rows >= 0]] = True
    number = np.cumsum(used) - 1
    was = np.arange(len(points)) - border
    was[earlier + border :] = -1
    was[:border] = was[loose[loose >= 0]] = -1
    elements = np.where(rows >= 0, number[np.maximum(rows, 0)], -1).astype(np.int32)
    return FlatMesh(points[used], elements, flat_worst(points[used], elements), was[used])
