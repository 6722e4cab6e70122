"""Flat maps of surfaces, to draw and cut lines on: nearly true to length, one period wide where the surface closes.

`flat` maps points near the surface to places (n, 2); `lift` maps places to points on or
near it. `period` is the width after which the first coordinate repeats, 0 if it does not;
places run from −period/2 to period/2 with the cut where no wall is, if there is such a gap.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Protocol, Self, cast

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Carrier, Floats, frame, unit

BORDER = 1e-9  # weight of a facet's corner below which a place lies on the side across from it
NEEDLE = 1e-7  # height of a facet over its longest side up to which it is a line
WAYS = 1441  # places round a chart that are tried
NEAR_POLE = 1.05  # rad of latitude from which a pole is too near
ROUND_DOME = 1.95  # rad from its middle up to which a wall is a dome


class Chart(Protocol):
    period: float

    def flat(self, p: Floats) -> Floats: ...

    def lift(self, uv: Floats) -> Floats: ...

    def normal(self, uv: Floats) -> Floats:
        """Directions (n, 3) along which `flat` does not change."""
        ...

    def cut_at(self, u: float) -> Chart:
        """The same chart with its cut at the first coordinate u; itself where it has no period."""
        ...


class _Round:
    """Charts that close round their axis."""

    axis: Floats
    u: Floats
    v: Floats
    period: float

    def cut_at(self, u: float) -> Self:
        angle = 2 * np.pi * u / self.period - np.pi
        c, s = np.cos(angle), np.sin(angle)
        return replace(self, u=c * self.u + s * self.v, v=c * self.v - s * self.u)  # type: ignore[type-var]


@dataclass(frozen=True)
class PlaneChart:
    origin: Floats
    u: Floats
    v: Floats
    period: float = 0.0

    @staticmethod
    def over(carrier: Carrier, samples: Floats) -> PlaneChart:
        d = carrier.array
        u, v = frame(d[3:6])
        centre = samples.mean(axis=0)
        return PlaneChart(centre - ((centre - d[:3]) @ d[3:6]) * d[3:6], u, v)

    def flat(self, p: Floats) -> Floats:
        q = p - self.origin
        return np.column_stack((q @ self.u, q @ self.v))

    def lift(self, uv: Floats) -> Floats:
        return np.asarray(self.origin + uv[:, :1] * self.u + uv[:, 1:] * self.v)

    def normal(self, uv: Floats) -> Floats:
        return np.broadcast_to(np.cross(self.u, self.v), (len(uv), 3))

    def cut_at(self, u: float) -> PlaneChart:
        return self


def widest_gap(angle: Floats) -> float:
    """The angle in the middle of the widest stretch without any of the given angles."""
    a = np.sort(angle % (2 * np.pi))
    gap = np.diff(np.r_[a, a[0] + 2 * np.pi])
    k = int(np.argmax(gap))
    return float(a[k] + gap[k] / 2)


def gap_of(angle: Floats) -> float:
    """The widest stretch without any of the given angles."""
    a = np.sort(angle % (2 * np.pi))
    return float(np.diff(np.r_[a, a[0] + 2 * np.pi]).max())


def roomiest(ends: Floats, period: float, barred: Floats | None = None) -> tuple[float, float]:
    """The place round a period that lies furthest from `ends` (n,), and how far; not in `barred` stretches (k, 2)."""
    ways = np.linspace(-period / 2, period / 2, WAYS)
    room = np.abs((ways[:, None] - ends + period / 2) % period - period / 2).min(axis=1, initial=period / 2)
    if barred is not None and len(barred):
        room[((ways[:, None] - barred[:, 0]) % period < barred[:, 1] - barred[:, 0]).any(axis=1)] = 0.0
    best = int(np.argmax(room))
    return float(ways[best]), float(room[best])


def _turned(axis: Floats, q: Floats) -> tuple[Floats, Floats]:
    """Axes u, v square to `axis` such that the samples q lie away from the half plane of angle ±π."""
    u, v = frame(axis)
    cut = widest_gap(np.arctan2(q @ v, q @ u))
    c, s = np.cos(cut - np.pi), np.sin(cut - np.pi)
    return c * u + s * v, c * v - s * u


@dataclass(frozen=True)
class CylinderChart(_Round):
    origin: Floats
    axis: Floats
    u: Floats
    v: Floats
    radius: float
    period: float

    @staticmethod
    def over(carrier: Carrier, samples: Floats) -> CylinderChart:
        d = carrier.array
        u, v = _turned(d[3:6], samples - d[:3])
        return CylinderChart(d[:3], d[3:6], u, v, float(d[6]), float(2 * np.pi * d[6]))

    def flat(self, p: Floats) -> Floats:
        q = p - self.origin
        return np.column_stack((self.radius * np.arctan2(q @ self.v, q @ self.u), q @ self.axis))

    def lift(self, uv: Floats) -> Floats:
        a = uv[:, :1] / self.radius
        return np.asarray(self.origin + self.radius * (np.cos(a) * self.u + np.sin(a) * self.v) + uv[:, 1:] * self.axis)

    def normal(self, uv: Floats) -> Floats:
        a = uv[:, :1] / self.radius
        return np.asarray(np.cos(a) * self.u + np.sin(a) * self.v)


@dataclass(frozen=True)
class ConeChart(_Round):
    """Angle times the mean radius, and length along the generator."""

    apex: Floats
    axis: Floats
    u: Floats
    v: Floats
    half_angle: float
    mean: float
    period: float

    @staticmethod
    def over(carrier: Carrier, samples: Floats) -> ConeChart:
        d = carrier.array
        q = samples - d[:3]
        u, v = _turned(d[3:6], q)
        mean = float(np.linalg.norm(q - (q @ d[3:6])[:, None] * d[3:6], axis=1).mean())
        return ConeChart(d[:3], d[3:6], u, v, float(d[6]), mean, float(2 * np.pi * mean))

    def flat(self, p: Floats) -> Floats:
        q = p - self.apex
        h = q @ self.axis
        rho = np.linalg.norm(q - h[:, None] * self.axis, axis=1)
        along = h * np.cos(self.half_angle) + rho * np.sin(self.half_angle)
        return np.column_stack((self.mean * np.arctan2(q @ self.v, q @ self.u), along))

    def lift(self, uv: Floats) -> Floats:
        a = uv[:, :1] / self.mean
        ray = np.cos(self.half_angle) * self.axis + np.sin(self.half_angle) * (np.cos(a) * self.u + np.sin(a) * self.v)
        return np.asarray(self.apex + uv[:, 1:] * ray)

    def normal(self, uv: Floats) -> Floats:
        a = uv[:, :1] / self.mean
        return np.asarray(np.cos(self.half_angle) * (np.cos(a) * self.u + np.sin(a) * self.v) - np.sin(self.half_angle) * self.axis)


@dataclass(frozen=True)
class SphereChart(_Round):
    """Longitude and latitude about an axis square to the middle of the samples."""

    centre: Floats
    axis: Floats
    u: Floats
    v: Floats
    radius: float
    period: float

    @staticmethod
    def over(carrier: Carrier, samples: Floats) -> SphereChart:
        d = carrier.array
        q = samples - d[:3]
        _, vectors = np.linalg.eigh(q.T @ q)
        mean = unit(q.mean(axis=0))
        axis = vectors[:, 0] - (vectors[:, 0] @ mean) * mean if np.linalg.norm(mean) > 0.1 else vectors[:, 0]
        axis = unit(axis) if np.linalg.norm(axis) > 1e-6 else frame(mean)[0]
        u, v = _turned(axis, q)
        return SphereChart(d[:3], axis, u, v, float(d[3]), float(2 * np.pi * d[3]))

    def flat(self, p: Floats) -> Floats:
        q = unit(p - self.centre)
        return self.radius * np.column_stack((np.arctan2(q @ self.v, q @ self.u), np.arcsin(np.clip(q @ self.axis, -1, 1))))

    def lift(self, uv: Floats) -> Floats:
        a, b = uv[:, :1] / self.radius, np.clip(uv[:, 1:] / self.radius, -1.57, 1.57)
        return np.asarray(self.centre + self.radius * (np.cos(b) * (np.cos(a) * self.u + np.sin(a) * self.v) + np.sin(b) * self.axis))

    def normal(self, uv: Floats) -> Floats:
        return unit(self.lift(uv) - self.centre)


@dataclass(frozen=True)
class DomeChart:
    """Angle from the middle of a dome times its radius, in all directions: no pole lies on the wall, as one would of longitudes."""

    centre: Floats
    axis: Floats
    u: Floats
    v: Floats
    radius: float
    period: float = 0.0

    @staticmethod
    def over(carrier: Carrier, samples: Floats) -> DomeChart:
        d = carrier.array
        axis = unit((samples - d[:3]).mean(axis=0))
        return DomeChart(d[:3], axis, *frame(axis), float(d[3]))

    def flat(self, p: Floats) -> Floats:
        q = unit(p - self.centre)
        x, y = q @ self.u, q @ self.v
        away = np.hypot(x, y)
        angle = np.arctan2(away, q @ self.axis)
        scale = self.radius * np.where(away > 1e-12, angle / np.maximum(away, 1e-12), 1.0)
        return np.column_stack((x * scale, y * scale))

    def lift(self, uv: Floats) -> Floats:
        angle = np.linalg.norm(uv, axis=1, keepdims=True) / self.radius
        across = (uv[:, :1] * self.u + uv[:, 1:] * self.v) * np.sinc(np.minimum(angle, np.pi) / np.pi)
        return np.asarray(self.centre + across + self.radius * np.cos(np.minimum(angle, np.pi)) * self.axis)

    def normal(self, uv: Floats) -> Floats:
        return unit(self.lift(uv) - self.centre)

    def cut_at(self, u: float) -> DomeChart:
        return self


def sphere_chart(carrier: Carrier, samples: Floats) -> Chart:
    """By longitude and latitude, or from the middle of a dome where samples (n, 3) lie near a pole of the former and none lies opposite that middle."""
    plain = SphereChart.over(carrier, samples)
    if np.abs(plain.flat(samples)[:, 1]).max() < NEAR_POLE * plain.radius:
        return cast(Chart, plain)
    dome = DomeChart.over(carrier, samples)
    return cast(Chart, dome if np.linalg.norm(dome.flat(samples), axis=1).max() < ROUND_DOME * dome.radius else plain)


@dataclass(frozen=True)
class TorusChart(_Round):
    """Angle round the axis times the mean radius, and angle round the tube times its radius, cut where no sample is.

    Elbows close round their tube and rings round the axis: the way that closes comes first.
    """

    centre: Floats
    axis: Floats
    u: Floats
    v: Floats
    major: float
    minor: float
    turn: float
    mean: float
    period: float
    elbow: bool

    @staticmethod
    def over(carrier: Carrier, samples: Floats) -> TorusChart:
        d = carrier.array
        q = samples - d[:3]
        u, v = _turned(d[3:6], q)
        h = q @ d[3:6]
        rho = np.linalg.norm(q - h[:, None] * d[3:6], axis=1)
        about, round_ = np.arctan2(q @ v, q @ u), np.arctan2(h, rho - d[6])
        turn = widest_gap(round_) - np.pi
        mean = float(rho.mean())
        elbow = gap_of(round_) < gap_of(about)
        return TorusChart(
            d[:3], d[3:6], u, v, float(d[6]), float(d[7]), turn, mean, float(2 * np.pi * (d[7] if elbow else mean)), bool(elbow)
        )

    def flat(self, p: Floats) -> Floats:
        q = p - self.centre
        h = q @ self.axis
        rho = np.linalg.norm(q - h[:, None] * self.axis, axis=1)
        round_ = (np.arctan2(h, rho - self.major) - self.turn + np.pi) % (2 * np.pi) - np.pi
        about = np.arctan2(q @ self.v, q @ self.u)
        if self.elbow:
            return np.column_stack((self.minor * round_, -self.mean * about))
        return np.column_stack((self.mean * about, self.minor * round_))

    def cut_at(self, u: float) -> TorusChart:
        return replace(self, turn=self.turn + u / self.minor - np.pi) if self.elbow else super().cut_at(u)

    def _angles(self, uv: Floats) -> tuple[Floats, Floats]:
        """Angles (n, 1) round the axis and round the tube."""
        if self.elbow:
            return -uv[:, 1:] / self.mean, uv[:, :1] / self.minor + self.turn
        return uv[:, :1] / self.mean, uv[:, 1:] / self.minor + self.turn

    def lift(self, uv: Floats) -> Floats:
        a, b = self._angles(uv)
        out = np.cos(a) * self.u + np.sin(a) * self.v
        return np.asarray(self.centre + (self.major + self.minor * np.cos(b)) * out + self.minor * np.sin(b) * self.axis)

    def normal(self, uv: Floats) -> Floats:
        a, b = self._angles(uv)
        return np.asarray(np.cos(b) * (np.cos(a) * self.u + np.sin(a) * self.v) + np.sin(b) * self.axis)


def _frames(corners: Floats, side: NDArray[np.int64]) -> tuple[Floats, Floats]:
    """Unit vectors (n, 3) along one side (n,) of each triangle (n, 3, 3), and across it in its plane."""
    rows = np.arange(len(side))
    a, b, c = (corners[rows, (side + k) % 3] for k in range(3))
    along = unit(b - a)
    return along, np.cross(unit(np.cross(along, c - a)), along)


def _stands(points: Floats, facets: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Which facets are more than a line, so that they have a map."""
    p = points[facets]
    doubled = np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1)
    return np.asarray(doubled > NEEDLE * np.square(p - np.roll(p, 1, axis=1)).sum(axis=2).max(axis=1))


class FacetChart:
    """The facets of a free side laid flat, with a straight margin round them."""

    period = 0.0

    def __init__(self, space: Floats, flat: Floats, facets: NDArray[np.int64]) -> None:
        from kind_rivet.core.geometry.rays import FacetTree

        flat = np.column_stack((flat, np.zeros(len(flat))))
        facets = facets[_stands(space, facets) & _stands(flat, facets)]
        self.space_tree = FacetTree.over(space, facets.astype(np.int32))
        self.flat_tree = FacetTree.over(flat, facets.astype(np.int32))

    @staticmethod
    def over(side, between, wall: float) -> FacetChart:  # type: ignore[no-untyped-def]
        from kind_rivet.core.errors import Refused
        from kind_rivet.core.meshing.flatten import flatten_facets
        from kind_rivet.core.midsurface.noses import apart_from_noses

        facets = side.tree.facets.astype(np.int64)
        points = side.tree.points
        middle = side.moved_to(between, wall)
        try:
            return FacetChart(middle, flatten_facets(middle, facets), facets)
        except Refused:
            kept = apart_from_noses(points, middle, facets)
            used, local = np.unique(facets[kept], return_inverse=True)
            if len(kept) == len(facets) or not len(kept):
                raise
            local = np.asarray(local, np.int64).reshape(-1, 3)
            return FacetChart(middle[used], flatten_facets(middle[used], local), local)

    @property
    def stretched(self) -> bool:
        """Do facets change their size much when laid flat, as those of a short tube do?"""
        from kind_rivet.core.meshing.flatten import distorted

        facets = self.space_tree.facets
        return distorted(self.space_tree.points, self.flat_tree.points, facets)

    @staticmethod
    def _through(tree_from, tree_to, q: Floats) -> Floats:  # type: ignore[no-untyped-def]
        """Places in the other map: by the nearest facet's affine map, beyond the border straight on from the nearest place on it."""
        facet, weight, _ = tree_from.nearest(q)
        here, there = (tree.points[tree.facets[facet]] for tree in (tree_from, tree_to))
        e1, e2 = here[:, 1] - here[:, 0], here[:, 2] - here[:, 0]
        g11, g12, g22 = (np.einsum("ij,ij->i", x, y) for x, y in ((e1, e1), (e1, e2), (e2, e2)))
        r1, r2 = np.einsum("ij,ij->i", e1, q - here[:, 0]), np.einsum("ij,ij->i", e2, q - here[:, 0])
        det = np.maximum(g11 * g22 - g12**2, 1e-300)
        s, t = (g22 * r1 - g12 * r2) / det, (g11 * r2 - g12 * r1) / det
        out = there[:, 0] + s[:, None] * (there[:, 1] - there[:, 0]) + t[:, None] * (there[:, 2] - there[:, 0])
        if (beyond := weight.min(axis=1) < BORDER).any():  # the map of a needle would lead anywhere there
            a, b, w = here[beyond], there[beyond], weight[beyond]
            away = q[beyond] - np.einsum("ij,ijk->ik", w, a)
            foot = np.einsum("ij,ijk->ik", w, b)
            side = np.argmax(np.linalg.norm(np.roll(a, -1, axis=1) - a, axis=2), axis=1)
            for one, other in zip(_frames(a, side), _frames(b, side), strict=True):
                foot += np.einsum("ij,ij->i", away, one)[:, None] * other
            out[beyond] = foot
        return np.asarray(out)

    def cut_at(self, u: float) -> FacetChart:
        return self

    def flat(self, p: Floats) -> Floats:
        return self._through(self.space_tree, self.flat_tree, p)[:, :2]

    def lift(self, uv: Floats) -> Floats:
        return self._through(self.flat_tree, self.space_tree, np.column_stack((uv, np.zeros(len(uv)))))

    def normal(self, uv: Floats) -> Floats:
        facet, _, _ = self.flat_tree.nearest(np.column_stack((uv, np.zeros(len(uv)))))
        a, b, c = (self.space_tree.points[self.space_tree.facets[facet, k]] for k in range(3))
        return unit(np.cross(b - a, c - a))
