"""Points along an edge: exact on lines and circles, smooth through the facet nodes elsewhere."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from kind_rivet.core.geometry.carriers import Carrier, Floats, arc_lengths, frame


def nearest_on_chain(chain: Floats, point: Floats) -> tuple[int, float, float]:
    """The side of a chain (n, 3) nearest to a point (3,), the share of it at which the foot lies, and the distance."""
    a, along = chain[:-1], np.diff(chain, axis=0)
    t = np.clip(np.einsum("kj,kj->k", point - a, along) / np.maximum(np.einsum("ij,ij->i", along, along), 1e-300), 0, 1)
    away = np.linalg.norm(a + t[:, None] * along - point, axis=1)
    k = int(np.argmin(away))
    return k, float(t[k]), float(away[k])


@dataclass(frozen=True)
class Curve:
    """An edge as a curve over [0, length]; `stations` (k,) are the places of its facet nodes `points` (k, 3)."""

    points: Floats
    stations: Floats
    carrier: Carrier

    @property
    def length(self) -> float:
        return float(self.stations[-1])

    @cached_property
    def closed(self) -> bool:
        return bool(np.allclose(self.points[0], self.points[-1]))

    @staticmethod
    def through(points: Floats, carrier: Carrier) -> Curve:
        if carrier.kind == "circle":
            d = carrier.array
            u, v = frame(d[3:6])
            q = points - d[:3]
            turn = np.unwrap(np.arctan2(q @ v, q @ u))
            stations = np.abs(turn - turn[0]) * d[6]
        else:
            stations = arc_lengths(points)
        return Curve(points, stations, carrier)

    def at(self, places: Floats) -> Floats:
        """Points (n, 3) at distances along the curve; free curves are cubic through the facet nodes (Catmull–Rom)."""
        s = np.clip(places, 0.0, self.length)
        if self.carrier.kind == "line" or len(self.points) == 2:
            ratio = (s / self.length)[:, None] if self.length > 0 else np.zeros((len(s), 1))
            return self.points[0] + ratio * (self.points[-1] - self.points[0])
        if self.carrier.kind == "circle":
            d = self.carrier.array
            u, v = frame(d[3:6])
            q = self.points[0] - d[:3]
            second = self.points[1] - d[:3]
            start = np.arctan2(q @ v, q @ u)
            sense = 1.0 if np.cross(q, second) @ d[3:6] > 0 else -1.0
            a = start + sense * s / d[6]
            return d[:3] + d[6] * (np.cos(a)[:, None] * u + np.sin(a)[:, None] * v)
        k, f = self.segment(s)
        p, x = self.points, self.stations
        slope = np.empty_like(p)
        slope[1:-1] = (p[2:] - p[:-2]) / np.maximum(x[2:] - x[:-2], 1e-300)[:, None]
        slope[0] = (p[1] - p[0]) / max(x[1] - x[0], 1e-300)
        slope[-1] = (p[-1] - p[-2]) / max(x[-1] - x[-2], 1e-300)
        if self.closed:
            slope[0] = slope[-1] = (p[1] - p[-2]) / max(x[1] - x[0] + x[-1] - x[-2], 1e-300)
        h = (x[k + 1] - x[k])[:, None]
        f = f[:, None]
        return (
            p[k] * (1 + 2 * f) * (1 - f) ** 2
            + slope[k] * h * f * (1 - f) ** 2
            + p[k + 1] * f**2 * (3 - 2 * f)
            + slope[k + 1] * h * f**2 * (f - 1)
        )

    def station_of(self, points: Floats) -> Floats:
        """Distances (n,) along the curve of points (n, 3) in order along it; the ends of an open curve count as such."""
        a, along = self.points[:-1], np.diff(self.points, axis=0)
        square = np.maximum(np.einsum("ij,ij->i", along, along), 1e-300)
        t = np.clip(np.einsum("nkj,kj->nk", points[:, None] - a[None], along) / square, 0, 1)
        gap = np.linalg.norm(a[None] + t[:, :, None] * along[None] - points[:, None], axis=2)
        k = np.argmin(gap, axis=1)
        place = self.stations[k] + t[np.arange(len(points)), k] * np.diff(self.stations)[k]
        if not self.closed or place[0] < 1e-9 * self.length or place[0] > (1 - 1e-9) * self.length:
            place[0], place[-1] = 0.0, self.length
        return np.asarray(place)

    def nearest_station(self, point: Floats) -> float:
        """Distance along the curve of the place nearest to a point (3,), by its facet segments."""
        k, t, _ = nearest_on_chain(self.points, point)
        return float(self.stations[k] + t * (self.stations[k + 1] - self.stations[k]))

    def segment(self, places: Floats) -> tuple[np.ndarray, Floats]:
        """Facet segment (n,) and share along it (n,) of distances along the curve."""
        s = np.clip(places, 0.0, self.length)
        k = np.clip(np.searchsorted(self.stations, s, side="right") - 1, 0, len(self.stations) - 2)
        return k, (s - self.stations[k]) / np.maximum(self.stations[k + 1] - self.stations[k], 1e-300)

    def turning(self, unseen: float = 0.0) -> float:
        """Total turn of the tangent (rad): how strongly the curve bends. One that stays within `unseen` of its chord counts as straight."""
        if self.carrier.kind == "line" or (unseen > 0 and self._bow() < unseen):
            return 0.0
        if self.carrier.kind == "circle":
            return self.length / self.carrier.data[6]
        t = np.diff(self.points, axis=0)
        t /= np.maximum(np.linalg.norm(t, axis=1, keepdims=True), 1e-300)
        return float(np.arccos(np.clip(np.einsum("ij,ij->i", t[1:], t[:-1]), -1, 1)).sum())

    def _bow(self) -> float:
        """Largest distance from the straight line through both ends."""
        chord = self.points[-1] - self.points[0]
        d = chord / max(float(np.linalg.norm(chord)), 1e-300)
        away = self.points - self.points[0]
        return float(np.linalg.norm(away - (away @ d)[:, None] * d, axis=1).max())
