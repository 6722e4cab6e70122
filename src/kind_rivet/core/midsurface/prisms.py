"""Freely curved walls that run straight along one axis: rolled off exactly, and known again on the other side of what interrupts them."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, arc_lengths, frame, unit
from kind_rivet.core.geometry.harmonic import added_up
from kind_rivet.core.geometry.prism_axis import axis_of
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.midsurface.fields import FacetField, Field, together

PARALLEL = 1e-6  # one less cosine between two axes that are one
ROUND = 0.02  # share of its length by which ways round a closed profile may differ
FINE, MOST = 0.25, 4000  # walls between points of a profile, and how many of them at most
CLOSE = 1e-3  # walls within which two points of a profile are one
NEAREST = 3  # stretches of a profile that are asked for the nearest place
ON = 5e-5  # diagonals off a prism up to which facets lie on it
WITHIN = 10.0  # times as much along it
ALIKE = 0.99  # least cosine between normals at one place


@dataclass(frozen=True)
class PrismChart:
    """Length along the profile, and along the axis. Open profiles run on straight."""

    axis: Floats
    u: Floats
    v: Floats
    profile: Floats  # (n + 1, 2) points at even steps, along u and v
    step: float
    period: float  # 0 where the profile is open
    start: float = 0.0  # of the first coordinate, where the profile is closed

    @staticmethod
    def over(side: FacetField, between: Field, wall: float) -> PrismChart | None:
        """The chart of the middle under a side; None where that is no prism, or one whose profile cannot be followed."""
        axis = axis_of(side.normals.reshape(-1, 3))
        if axis is None:
            return None
        facets = _largest_piece(side.tree.facets.astype(np.int64), len(side.tree.points))
        used, local = np.unique(facets, return_inverse=True)
        middle = side.moved_to(between, wall)[used]
        u, v = frame(axis)
        flat = np.column_stack((middle @ u, middle @ v))
        normal = between(middle)[1]
        across = unit(np.column_stack((normal @ u, normal @ v)))
        found = _profile(flat, np.column_stack((-across[:, 1], across[:, 0])), local.reshape(-1, 3), CLOSE * wall)
        if found is None:
            return None
        points, closed = found
        length = float(np.linalg.norm(np.diff(points, axis=0), axis=1).sum())
        return PrismChart(axis, u, v, points, length / (len(points) - 1), length if closed else 0.0)

    def cut_at(self, u: float) -> PrismChart:
        return replace(self, start=self.start + u - self.period / 2) if self.period else self

    def flat(self, p: Floats) -> Floats:
        q = np.column_stack((p @ self.u, p @ self.v))
        a, way = self.profile[:-1], np.diff(self.profile, axis=0)
        _, near = scipy.spatial.cKDTree(a + way / 2).query(q, k=min(NEAREST, len(a)))
        near = near.reshape(len(q), -1)
        away = q[:, None] - a[near]
        square = np.einsum("ij,ij->i", way, way)
        share = np.einsum("ijk,ijk->ij", away, way[near]) / square[near]
        least, most = np.zeros(len(a)), np.ones(len(a))
        if not self.period:
            least[0], most[-1] = -np.inf, np.inf
        share = np.clip(share, least[near], most[near])
        best = np.linalg.norm(away - share[..., None] * way[near], axis=2).argmin(axis=1)
        rows = np.arange(len(q))
        along = (near[rows, best] + share[rows, best]) * self.step
        if self.period:
            along = (along - self.start) % self.period - self.period / 2
        return np.column_stack((along, p @ self.axis))

    def _along(self, u: Floats) -> tuple[NDArray[np.int64], Floats]:
        """Stretch of the profile (n,) in which the first coordinate falls, and the share of it (n, 1)."""
        at = ((u + self.period / 2 + self.start) % self.period if self.period else u) / self.step
        stretch = np.clip(np.floor(at), 0, len(self.profile) - 2).astype(np.int64)
        return stretch, (at - stretch)[:, None]

    def lift(self, uv: Floats) -> Floats:
        k, share = self._along(uv[:, 0])
        flat = self.profile[k] + share * (self.profile[k + 1] - self.profile[k])
        return np.asarray(flat[:, :1] * self.u + flat[:, 1:] * self.v + uv[:, 1:] * self.axis)

    def normal(self, uv: Floats) -> Floats:
        k, share = self._along(uv[:, 0])
        way = unit(np.diff(self.profile, axis=0))
        ends = np.concatenate((way[:1], unit(way[1:] + way[:-1]), way[-1:]))
        if self.period:
            ends[0] = ends[-1] = unit(way[0] + way[-1])
        share = np.clip(share, 0.0, 1.0)
        flat = unit((1 - share) * ends[k] + share * ends[k + 1])
        return np.asarray(-flat[:, 1:] * self.u + flat[:, :1] * self.v)


def _largest_piece(facets: NDArray[np.int64], count: int) -> NDArray[np.int64]:
    """Those facets that hang together with most others; `count` is how many points there are."""
    a, b = facets[:, [0, 1]].ravel(), facets[:, [1, 2]].ravel()
    _, label = scipy.sparse.csgraph.connected_components(scipy.sparse.coo_matrix((np.ones(len(a)), (a, b)), (count, count)))
    own = label[facets[:, 0]]
    return facets[own == np.bincount(own).argmax()]


def _profile(points: Floats, tangents: Floats, facets: NDArray[np.int64], close: float) -> tuple[Floats, bool] | None:
    """The curve (n, 2) on which points (k, 2) of facets seen along a prism's axis lie, at even steps, and whether it closes.

    Lengths along it are added up from point to point along the sides of facets, each as long as the arc
    that its ends' tangents tell: what does not fit in the end is the way round.
    """
    sides = np.unique(np.sort(np.concatenate((facets[:, :2], facets[:, 1:], facets[:, ::2])), axis=1), axis=0)
    i, j = sides.T
    length = _arcs(points[j] - points[i], tangents[i], tangents[j])
    at = added_up(len(points), sides, length)
    if np.isnan(at).any():
        return None
    left = np.abs(at[j] - at[i] - length)
    round_ = left[left > ROUND * np.ptp(at)]
    period = float(np.median(round_)) if len(round_) else 0.0
    if len(round_) and np.abs(round_ - period).max() > ROUND * period:
        return None
    if period:
        at = at % period
    order = np.argsort(at)
    step = np.diff(at[order], prepend=at[order][0] - 2 * close)
    lot = np.cumsum(step > close) - 1
    number = np.bincount(lot).astype(float)[:, None]
    chain = np.column_stack([np.bincount(lot, points[order, c]) for c in (0, 1)]) / number
    way = unit(np.column_stack([np.bincount(lot, tangents[order, c]) for c in (0, 1)]))
    if period:
        if np.linalg.norm(chain[0] - chain[-1]) < 2 * close:
            chain, way = chain[:-1], way[:-1]
        chain, way = np.vstack((chain, chain[:1])), np.vstack((way, way[:1]))
    if len(chain) < 3:
        return None
    gone = _arcs(np.diff(chain, axis=0), way[:-1], way[1:])
    if gone.min() <= 0:
        return None
    curve = scipy.interpolate.CubicHermiteSpline(np.concatenate(([0.0], np.cumsum(gone))), chain, way)
    total = float(gone.sum())
    count = int(np.clip(np.ceil(total / (FINE * close / CLOSE)), 64, MOST))
    dense = curve(np.linspace(0.0, total, 4 * count + 1))
    walked = arc_lengths(dense)
    even = np.linspace(0.0, walked[-1], count + 1)
    return np.column_stack([np.interp(even, walked, c) for c in dense.T]), bool(period)


def _arcs(chord: Floats, first: Floats, last: Floats) -> Floats:
    """Lengths (n,) of arcs over chords (n, 2) from the tangents at both ends; negative against these."""
    length = np.linalg.norm(chord, axis=1)
    half = 0.5 * np.arccos(np.clip(np.einsum("ij,ij->i", first, last), -1.0, 1.0))
    sign = np.sign(np.einsum("ij,ij->i", chord, first + last))
    return np.asarray(sign * length * np.where(half > 1e-6, half / np.maximum(np.sin(half), 1e-12), 1.0))


def prisms_in_one(shape: Shape, fields: list[Field]) -> list[Field]:
    """The fields of all faces, those that lie on one prism made one: a rib or a flange has parted them."""
    known = {f: (field, axis_of(field.normals.reshape(-1, 3))) for f, field in enumerate(fields) if isinstance(field, FacetField)}
    prisms = {f: (field, axis) for f, (field, axis) in known.items() if axis is not None}
    left = sorted(prisms, key=lambda f: -float(shape.face_area[f]))
    out = list(fields)
    while left:
        lot = [f for f in left if f == left[0] or _lies_on(*prisms[left[0]], *prisms[f], ON * shape.diagonal)]
        left = [f for f in left if f not in lot]
        if len(lot) > 1:
            joined = together([prisms[f][0] for f in lot])
            for f in lot:
                out[f] = joined
    return out


def _lies_on(field: FacetField, axis: Floats, other: FacetField, own: Floats, tolerance: float) -> bool:
    """Do all corners of another face lie on a prism, beside none of its ends, and look the same way?"""
    if abs(axis @ own) < 1 - PARALLEL:
        return False
    tree = field.tree
    along = tree.points @ axis
    corners = other.tree.points[other.tree.facets].reshape(-1, 3)
    beside = corners + (0.5 * (along.min() + along.max()) - corners @ axis)[:, None] * axis
    value, normal = field(beside)
    if np.abs(value).max() > tolerance or np.einsum("ij,ij->i", normal, other.normals.reshape(-1, 3)).min() < ALIKE:
        return False
    facet, weight, _ = tree.nearest(beside)
    away = beside - np.einsum("ij,ijk->ik", weight, tree.points[tree.facets[facet]])
    return bool(np.abs(np.einsum("ij,ij->i", away, np.cross(axis, normal))).max() < WITHIN * tolerance)
