"""Facets split where a curved middle passes through them more often than their corners tell.

A plane face may have facets far larger than what bends through them: a rib along an arc
ends with both its ends on one side of a plate, and one facet reaches from end to end.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.midsurface.fields import Field

FLAT = 1e-6  # of its longest side: height up to which a facet is hardly more than a line
ROUND_OFF = 1e-9  # of the least side: by so much the field may be off zero
SHARES = np.arange(9) / 8  # places along a side that are looked at
# Places within a facet, as weights of its corners.
WITHIN = np.array([(1, 1, 1), (4, 1, 1), (1, 4, 1), (1, 1, 4), (1, 3, 3), (3, 1, 3), (3, 3, 1)], float)


def without_hidden_crossings(
    points: Floats, facets: NDArray[np.int64], field: Field, least: float
) -> tuple[Floats, NDArray[np.int64], NDArray[np.int64]]:
    """Points, facets, and which of the given facets each was: on no side longer than `least` does the field change its sign twice, nor within a facet alone."""
    sides = np.stack((facets, np.roll(facets, -1, axis=1)), axis=2)
    ends = np.sort(sides.reshape(-1, 2), axis=1)
    names, index = np.unique(ends, axis=0, return_inverse=True)
    split = _Split(points, field, least)
    turns = split.turning(points[names[:, 0]], points[names[:, 1]])
    middles = np.einsum("kj,fjx->fkx", WITHIN / WITHIN.sum(axis=1, keepdims=True), points[facets])
    seen = split.in_front(np.vstack((points[facets].reshape(-1, 3), middles.reshape(-1, 3))))
    corner, inner = seen[: 3 * len(facets)].reshape(-1, 3), seen[3 * len(facets) :].reshape(-1, len(WITHIN))
    alone = (corner.all(axis=1) & ~inner.all(axis=1)) | (~corner.any(axis=1) & inner.any(axis=1))
    asked = turns[index.reshape(-1, 3)].any(axis=1) | alone
    if not asked.any():
        return points, facets, np.arange(len(facets))
    out, of = [facets[~asked]], [np.flatnonzero(~asked)]
    needle = _are_needles(points[facets])
    for f in (*np.flatnonzero(asked & ~needle).tolist(), *np.flatnonzero(asked & needle).tolist()):  # needles follow what is beside them
        rows = split.facet(tuple(facets[f].tolist()))
        out.append(np.array(rows, np.int64).reshape(-1, 3))
        of.append(np.full(len(rows), f))
    return np.vstack((points, *split.fresh)), np.concatenate(out), np.concatenate(of)


def _extents(corners: Floats) -> tuple[Floats, Floats]:
    """Heights (f,) of facets (f, 3, 3) over their longest sides, and those sides' lengths (f,)."""
    longest = np.linalg.norm(corners - np.roll(corners, -1, axis=1), axis=2).max(axis=1)
    area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    return area / np.maximum(longest, 1e-300), longest


def _are_needles(corners: Floats) -> NDArray[np.bool_]:
    """Which facets (f, 3, 3) are hardly more than a line."""
    height, longest = _extents(corners)
    return np.asarray(height <= FLAT * longest)


class _Split:
    """Sides and facets split as often as that takes; a side is split alike for both facets beside it."""

    def __init__(self, points: Floats, field: Field, least: float) -> None:
        self.points = points
        self.fresh: list[Floats] = []
        self.field = field
        self.least = least
        self.zero = -ROUND_OFF * least
        self.of_side: dict[tuple[int, int], int] = {}

    def in_front(self, at: Floats) -> NDArray[np.bool_]:
        """Where the field is not below zero by more than round-off, which changes its sign everywhere on a facet that lies on it."""
        return np.asarray(self.field(at)[0] >= self.zero)

    def turning(self, a: Floats, b: Floats) -> NDArray[np.bool_]:
        """On which sides from a to b (n, 3) the field changes its sign more than once."""
        along = a[:, None] + SHARES[None, :, None] * (b - a)[:, None]
        front = self.in_front(along.reshape(-1, 3)).reshape(len(a), -1)
        return np.asarray(((np.diff(front, axis=1) != 0).sum(axis=1) > 1) & (np.linalg.norm(b - a, axis=1) > self.least))

    def facet(self, row: tuple[int, ...]) -> list[tuple[int, ...]]:
        """The facets that one facet falls into, turned as it was.

        One that is hardly more than a line is split by the nodes of others alone: its own sides lie on each other, and would be split without end.
        """
        a, b, c = row
        needle = bool(_are_needles(np.array([[self._at(k) for k in row]]))[0])
        for one, other, third in ((a, b, c), (b, c, a), (c, a, b)):
            low, high = min(one, other), max(one, other)
            node = self.of_side.get((low, high), -1) if needle else self._on_side(low, high)
            if node >= 0:
                return self.facet((one, node, third)) + self.facet((node, other, third))
        node = self._within(row)
        if node >= 0:
            return self.facet((a, b, node)) + self.facet((b, c, node)) + self.facet((c, a, node))
        return [row]

    def _on_side(self, i: int, j: int) -> int:
        """The node that splits a side, −1 where none does: as far as can be on the other side of what both its ends lie on."""
        if (i, j) not in self.of_side:
            a, b = self._at(i), self._at(j)
            node = -1
            if self.turning(a[None], b[None])[0]:
                inner = a + SHARES[1:-1, None] * (b - a)
                value = self.field(inner)[0]
                ends = self.in_front(np.array([a, b]))
                away = np.where(ends[0] == ends[1], np.abs(value) * ((value >= self.zero) != ends[0]), np.r_[0, 0, 0, 1, 0, 0, 0])
                node = self._added(inner[int(np.argmax(away))])
            self.of_side[i, j] = node
        return self.of_side[i, j]

    def _within(self, row: tuple[int, ...]) -> int:
        """A node inside a facet beyond what all its corners lie on, −1 where there is none."""
        corners = np.array([self._at(k) for k in row])
        if _extents(corners[None])[0][0] <= self.least:  # nodes within do not make its longest side shorter
            return -1
        inner = WITHIN @ corners / WITHIN.sum(axis=1, keepdims=True)
        value, front = self.field(inner)[0], self.in_front(corners)
        beyond = (value >= self.zero) != front[0]
        if len(set(front.tolist())) > 1 or not beyond.any():
            return -1
        return self._added(inner[int(np.argmax(np.abs(value) * beyond))])

    def _added(self, point: Floats) -> int:
        self.fresh.append(point)
        return len(self.points) + len(self.fresh) - 1

    def _at(self, node: int) -> Floats:
        known = len(self.points)
        return np.asarray(self.points[node] if node < known else self.fresh[node - known])
