"""Bends led on into the walls they end on: where a duct meets its flange, its bends end at the skin, its walls at the flange's middle."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from kind_rivet.core.geometry.carriers import FREE, Carrier, Floats, fit_curve, unit
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.midsurface.fields import settle
from kind_rivet.core.midsurface.middles import Middle
from kind_rivet.core.midsurface.stations import away_from
from kind_rivet.core.midsurface.tangencies import OVER
from kind_rivet.core.midsurface.traces import Line, inside, resampled

INTO = 1.5  # of the thickest wall near by: how far bends are led on into it
PLACES = 20  # on that way, at which to ask
DEEP = 0.15  # walls below the surface from which a place lies well inside
HEAD_ON = 0.5  # walls: as near as that the surface must lie ahead where a line gets less deep than DEEP, else it runs along it


def led_into_walls(bends: list[Line], middles: list[Middle], shape: Shape, solid: FacetTree, tolerance: float) -> list[Line]:
    """The bends, with their ends led on into a wall they end on; not where another bend passes."""
    low, high = (np.array([f(line.points, axis=0) for line in bends]).reshape(-1, 3) for f in (np.min, np.max))

    def alone(k: int, end: Floats) -> bool:
        near = np.flatnonzero(((low <= end + tolerance) & (high >= end - tolerance)).all(axis=1))
        return all(j == k or away_from(end[None], bends[j].points)[0] >= tolerance for j in near.tolist())

    onward = _Onward(shape, solid, 0.1 * tolerance)
    out = []
    for k, line in enumerate(bends):
        points = line.points
        curve = FREE if line.closed else fit_curve(points, onward.tolerance)
        for end in () if line.closed else (0, -1):
            if alone(k, line.points[end]):
                points = onward.from_end(points, end, curve, [middles[m] for m in line.middles])
        out.append(line if points is line.points else replace(line, points=points))
    return out


@dataclass(frozen=True)
class _Onward:
    """What leads chains on within a solid; they are resampled to a tolerance."""

    shape: Shape
    solid: FacetTree
    tolerance: float

    def from_end(self, points: Floats, end: int, curve: Carrier, middles: list[Middle]) -> Floats:
        """A chain along a curve, led on at its first (0) or last (−1) point as long as it lies well inside the solid; not along a border.

        Straight ones stay straight, circles go on round their axis; curved ones stay on both middles.
        """
        straight = len(points) == 2
        wall = min(m.wall for m in middles)
        tip, before = points[end], points[1 if end == 0 else -2]
        lengths = np.linspace(1 / PLACES, 1.0, PLACES) * INTO * max(m.around for m in middles)
        if curve.kind == "circle":
            way = _round(curve, before, tip, lengths)
        else:
            way = tip + lengths[:, None] * unit(tip - before)
        if not straight:
            way = settle(way, [m.field for m in middles], cutoff=0.1)[0]
        deep = inside(way, self.solid, self.shape) & (self.solid.nearest(way)[2] > DEEP * wall)
        count = len(deep) if deep.all() else int(np.argmin(deep))
        if count == 0:
            return points
        more = np.vstack((tip, way[:count]))
        if count < len(deep):
            more = np.vstack((more, self._out_of(more[-1], unit(more[-1] - more[-2]), wall)))
        if straight:
            return np.array([more[-1], before] if end == 0 else [before, more[-1]])
        more = resampled(more, [m.field for m in middles], self.tolerance, wall)[1:]
        return np.vstack((more[::-1], points) if end == 0 else (points, more))

    def _out_of(self, place: Floats, way: Floats, wall: float) -> Floats:
        """One place (1, 3) a little beyond the skin where it lies head-on just ahead, so that the line surely cuts what ends there; else none."""
        far = float(self.solid.cast(place[None], way[None])[0][0])
        return (place + (far + OVER * wall) * way)[None] if far < HEAD_ON * wall else np.empty((0, 3))


def _round(circle: Carrier, before: Floats, tip: Floats, lengths: Floats) -> Floats:
    """Points (n, 3) further round a circle than its point `tip`, by lengths (n,), coming from `before`."""
    centre, axis, radius = circle.array[:3], circle.array[3:6], float(circle.data[6])
    out = tip - centre
    across = np.cross(axis, out)
    turn = np.sign(across @ (tip - before)) * np.minimum(lengths / radius, np.pi / 4)
    return np.asarray(centre + np.cos(turn)[:, None] * out + np.sin(turn)[:, None] * across)
