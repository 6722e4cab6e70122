"""Charts of freely curved tubes, however they bend: how far along, and how far round, by harmonic functions on their facets."""

from __future__ import annotations

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, unit
from kind_rivet.core.geometry.harmonic import added_up, laplacian, side_weights, solved
from kind_rivet.core.geometry.soup import facet_neighbours
from kind_rivet.core.midsurface.charts import FacetChart
from kind_rivet.core.midsurface.fields import FacetField, Field

AS_LONG = 0.25  # share of the longest border loop from which another one is an end of the tube, not a hole
TIP = 0.05  # the same for noses, which no other chart serves
BESIDE = 0.6  # periods from the middle up to which facets are laid out: some of them twice
SLOT = 0.12  # roundness (4π × area / length²) of a border loop below which it is a slot, where a rib stands, and no end
DOUBT = 0.35  # the same where the other side of the wall is no tube
FAR = 1e3  # extents within which a map must stay
MARGIN = 8.0  # walls beyond its ends that a tube is led on
STEEP = 0.6  # length of the mean of all normals below which they look to all sides
BINS = 40  # stretches along a tube in which its length is measured, and round it
SPARE = 1e-9  # of a period by which a place may lie beyond the cut

Ints = NDArray[np.int64]


class TubeChart(FacetChart):
    """Facets of a tube laid out round (first coordinate, with a period) and along it, with margins beyond both its ends.

    space (k, 3); around (m, 3) and along (m, 3) at the corners of facets (m, 3), the former in one turn.
    """

    def __init__(self, space: Floats, facets: Ints, around: Floats, along: Floats, period: float, start: float) -> None:
        self.base = space, facets, around, along
        self.period, self.start = period, start
        first = (around[:, :1] - start) % period - period / 2
        lots = []
        for turn in (-period, 0.0, period):
            here = first + around - around[:, :1] + turn
            mine = (here.max(axis=1) > -BESIDE * period) & (here.min(axis=1) < BESIDE * period)
            lots.append((space[facets[mine]].reshape(-1, 3), np.column_stack((here[mine].ravel(), along[mine].ravel()))))
        corners, flat = (np.concatenate(lot) for lot in zip(*lots, strict=True))
        super().__init__(corners, flat, np.arange(len(corners)).reshape(-1, 3))

    @staticmethod
    def around(side: FacetField, between: Field, wall: float, as_long: float = AS_LONG, slot: float = SLOT) -> TubeChart | None:
        """The chart of the middle under a side; None where that is no tube. `as_long`, `slot`: see `tube_ends`."""
        facets, middle = side.tree.facets.astype(np.int64), side.moved_to(between, wall)
        ends = tube_ends(middle, facets, as_long, slot)
        return _laid_out(middle, facets, *ends, MARGIN * wall) if ends is not None else None

    @property
    def steep(self) -> bool:
        """Do its facets look to all sides, as those of a tube do, rather than one way, as those of a ring?"""
        space, facets = self.base[:2]
        p = space[facets]
        normal = np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])
        return bool(np.linalg.norm(normal.sum(axis=0)) < STEEP * np.linalg.norm(normal, axis=1).sum())

    def cut_at(self, u: float) -> TubeChart:
        return TubeChart(*self.base, self.period, self.start + u + self.period / 2)

    def flat(self, p: Floats) -> Floats:
        return self._in_one_turn(super().flat(p))

    def lift(self, uv: Floats) -> Floats:
        return super().lift(self._in_one_turn(uv))

    def normal(self, uv: Floats) -> Floats:
        return super().normal(self._in_one_turn(uv))

    def _in_one_turn(self, uv: Floats) -> Floats:
        beyond = np.abs(uv[:, 0]) > (0.5 + SPARE) * self.period
        out = uv.copy()
        out[beyond, 0] = (uv[beyond, 0] + self.period / 2) % self.period - self.period / 2
        return out


def tube_ends(space: Floats, facets: Ints, as_long: float = AS_LONG, slot: float = SLOT) -> tuple[Ints, Ints] | None:
    """The points on both ends of facets that are a tube, maybe with holes; None where they are none.

    `as_long`: share of the longest border loop from which another one is an end. `slot`: roundness, 4π × area / length², from which it is.
    """
    turning = np.concatenate((facets[:, :2], facets[:, 1:], facets[:, ::-2]))
    pairs, once, count = np.unique(np.sort(turning, axis=1), axis=0, return_index=True, return_counts=True)
    used = np.unique(facets)
    if (count > 2).any():
        return None
    border = turning[once[count == 1]]
    size = len(space)
    whole = scipy.sparse.csgraph.connected_components(scipy.sparse.coo_matrix((np.ones(len(pairs)), pairs.T), (size, size)))[1]
    if len(np.unique(whole[used])) > 1 or not len(border):
        return None
    loop = scipy.sparse.csgraph.connected_components(scipy.sparse.coo_matrix((np.ones(len(border)), border.T), (size, size)))[1]
    names, own = np.unique(loop[border[:, 0]], return_inverse=True)
    if len(used) - len(pairs) + len(facets) != 2 - len(names) or len(names) < 2:  # Euler's number of a sphere with so many openings
        return None
    a, b = space[border[:, 0]], space[border[:, 1]]
    length = np.bincount(own, np.linalg.norm(b - a, axis=1))
    spanned = np.stack([np.bincount(own, c) for c in np.cross(a, b).T / 2], axis=1)
    roundness = 4 * np.pi * np.linalg.norm(spanned, axis=1) / length**2
    first, last = np.lexsort((-length, (roundness < slot) & (roundness.max() >= slot)))[:2]
    if length[last] < as_long * length[first] or (roundness[last] < slot and roundness[first] >= slot):
        return None
    return np.unique(border[own == first]), np.unique(border[own == last])


def sides_along(facets: Ints, end: Ints, count: int) -> tuple[Ints, Ints]:
    """Border sides of facets between points of one end of a tube: facet (n,), and corner (n,) from which each leads to the next one. `count` points."""
    beside, _ = facet_neighbours(facets.astype(np.int32), count)
    there = np.isin(facets, end)
    f, k = np.nonzero((beside == -1) & there & np.roll(there, -1, axis=1))
    return f, k


def _laid_out(space: Floats, facets: Ints, first: Ints, last: Ints, margin: float) -> TubeChart | None:
    """How far along: harmonic between both ends. How far round: what turns a quarter from it everywhere. Straight on for a margin beyond the ends."""
    sides, weights = side_weights(space, facets)
    laplace = laplacian(len(space), sides, weights)
    along = solved(laplace, np.concatenate((first, last)), np.repeat([0.0, 1.0], (len(first), len(last))))
    p = space[facets]
    normal = np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])
    double = np.linalg.norm(normal, axis=1)
    if not double.min() > 0:
        return None
    # The gradient of a linear function on a facet is normal × (sum of opposite sides times values) over twice the area squared.
    slope = sum(along[facets[:, k], None] * (p[:, (k + 2) % 3] - p[:, (k + 1) % 3]) for k in range(3)) / double[:, None]
    gradient = np.cross(normal / double[:, None], slope)
    across = np.cross(normal / double[:, None], gradient)
    # What each side should gain going round, by the facets beside it, weighed as in Laplace's equation.
    gain = np.concatenate([np.einsum("ij,ij->i", across, p[:, (k + 2) % 3] - p[:, (k + 1) % 3]) for k in range(3)])
    found = _way_round(len(space), sides, weights, gain)
    if found is None:
        return None
    around, period = found
    area = double / 2
    scale = float(np.sqrt(area.sum() / period))  # of a map true to angles that is as large as the tube
    corners = around[facets]
    corners = corners[:, :1] + (corners - corners[:, :1] + period / 2) % period - period / 2
    length = _lengths(along[facets].mean(axis=1), 1.0 / np.maximum(np.linalg.norm(gradient, axis=1), 1e-300), area)
    best = _shortest((corners.mean(axis=1) % period) / period, np.linalg.norm(gradient, axis=1), area)
    place = np.stack((scale * corners, np.interp(along[facets], *length)), axis=2)
    if not np.abs(place).max() < FAR * np.ptp(space, axis=0).max():  # parts of it have no way from end to end
        return None
    for end, way in ((first, -1.0), (last, 1.0)):
        space, facets, place = _led_on(space, facets, place, end, way, margin)
    return TubeChart(space, facets, place[..., 0], place[..., 1], scale * period, scale * period * best)


def _led_on(space: Floats, facets: Ints, place: Floats, end: Ints, way: float, margin: float) -> tuple[Floats, Ints, Floats]:
    """Facets and the places (m, 3, 2) of their corners, with a strip straight on beyond one end, where the second coordinate goes on by `way`."""
    f, k = sides_along(facets, end, len(space))
    i, j = facets[f, k], facets[f, (k + 1) % 3]
    p = space[facets[f]]
    out = unit(np.cross(space[j] - space[i], np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])))
    beyond = np.zeros_like(space)
    np.add.at(beyond, np.concatenate((i, j)), np.concatenate((out, out)))
    number = np.full(len(space), -1)
    number[end] = len(space) + np.arange(len(end))
    moved = space[end] + margin * unit(beyond[end])
    a, b = place[f, k], place[f, (k + 1) % 3]
    shift = np.array([0.0, way * margin])
    strip = np.concatenate((np.column_stack((j, i, number[i])), np.column_stack((j, number[i], number[j]))))
    where = np.concatenate((np.stack((b, a, a + shift), axis=1), np.stack((b, a + shift, b + shift), axis=1)))
    return np.vstack((space, moved)), np.concatenate((facets, strip)), np.concatenate((place, where))


def _way_round(count: int, sides: Ints, weights: Floats, gain: Floats) -> tuple[Floats, float] | None:
    """How far round points are, from gains along sides, and how much that is once round.

    Gains are added up from side to side; where that does not fit, by once round, the side crosses a cut. Knowing the cuts, values
    are found that fit all gains as well as possible.
    """
    low, high = sides.min(axis=1), sides.max(axis=1)
    signed = np.where(sides[:, 0] == low, gain, -gain)
    key, own = np.unique(low * count + high, return_inverse=True)
    mean = np.bincount(own, signed) / np.bincount(own)
    i, j = key // count, key % count
    at = added_up(count, np.column_stack((i, j)), mean)
    left = at[j] - at[i] - mean
    turned = np.abs(left) > 0.5 * np.abs(left).max()
    period = float(np.median(np.abs(left[turned]))) if turned.any() else 0.0
    if not period > 4 * np.median(np.abs(mean)):
        return None
    wanted = weights * (signed + period * np.round(left / period)[own])
    right = (np.bincount(high, wanted, count) - np.bincount(low, wanted, count)).astype(float)
    return solved(laplacian(count, sides, weights), i[:1], np.zeros(1), right), period


def _lengths(along: Floats, long: Floats, area: Floats) -> tuple[Floats, Floats]:
    """Knots of the length along a tube over the harmonic function (m,), by what facets of some area (m,) measure for each unit of it (m,)."""
    knots = np.linspace(0.0, 1.0, BINS + 1)
    lot = np.clip((along * BINS).astype(int), 0, BINS - 1)
    weight = np.bincount(lot, area, BINS)
    mean = np.bincount(lot, area * long, BINS) / np.maximum(weight, 1e-300)
    known = np.flatnonzero(weight > 0)
    mean = np.interp(np.arange(BINS), known, mean[known])
    return knots, np.concatenate(([0.0], np.cumsum(mean / BINS)))


def _shortest(around: Floats, slope: Floats, area: Floats) -> float:
    """How far round, in turns, the tube is shortest: where its facets rise most steeply."""
    lot = np.clip((around * BINS).astype(int), 0, BINS - 1)
    weight = np.bincount(lot, area, BINS)
    mean = np.bincount(lot, area * slope, BINS) / np.maximum(weight, 1e-300)
    return float((np.argmax(mean) + 0.5) / BINS)
