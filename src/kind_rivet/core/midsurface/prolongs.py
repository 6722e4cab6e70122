"""Outlines run on inside the solid: where a rim ends at a wall, or a window at a bar, the curve it follows goes on."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kind_rivet.core.geometry.carriers import Floats, same, unit
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.midsurface.fields import settle
from kind_rivet.core.midsurface.middles import Middle
from kind_rivet.core.midsurface.traces import Line, inside, resampled

SAME_CURVE = 0.05  # walls off a prolonged curve up to which the end of another outline lies on it
ALONG = 0.97  # cosine between the two there


def prolongs(rims: list[Line], middle: Middle, number: int, solid: FacetTree, shape: Shape, length: float) -> list[Line]:
    """The outlines of a middle run on beyond their ends, where that leads into the solid.

    What two windows beside a bar have in common is drawn once, from the end of one to the end of
    the other: two chains of chords along one curve would cross each other by a hair.
    """
    tips = [(line, end) for line in rims if not line.closed for end in (0, -1)]
    places = np.array([line.points[end] for line, end in tips]).reshape(-1, 3)
    off = SAME_CURVE * middle.wall
    out: list[Line] = []
    drawn: set[tuple[bytes, bytes]] = set()
    for line in rims:
        for more in _run_on(line, middle, number, solid, shape, length):
            points = more.points
            if len(points) > 2:
                near = ((places >= points.min(axis=0) - off) & (places <= points.max(axis=0) + off)).all(axis=1)
                met = [
                    tips[k] for k in np.flatnonzero(near).tolist() if _one_surface(shape, tips[k][0].face, more.face, points, middle.wall)
                ]
                points = _as_far_as(points, [(other.points[end], _outward(other, end)) for other, end in met], middle.wall)
                if (points[-1].tobytes(), points[0].tobytes()) in drawn:
                    continue
                drawn.add((points[0].tobytes(), points[-1].tobytes()))
            out.append(replace(more, points=points))
    return out


def _one_surface(shape: Shape, face: int, other: int, points: Floats, wall: float) -> bool:
    """Do two faces lie on one surface, as seen at points (n, 3)?"""
    return face == other or same(shape.faces[other].carrier, shape.faces[face].carrier, points, 1e-3 * wall)


def _outward(line: Line, end: int) -> Floats:
    """Direction in which a line would run on at its first (0) or last (−1) point."""
    before = line.points[1] if end == 0 else line.points[-2]
    return np.asarray(unit(line.points[end] - before))


def _as_far_as(points: Floats, tips: list[tuple[Floats, Floats]], wall: float) -> Floats:
    """A chain as far as the first end of another line that comes to meet it along the same curve."""
    way = np.diff(points, axis=0)
    square = np.maximum(np.einsum("ij,ij->i", way, way), 1e-300)
    best: tuple[float, Floats] | None = None
    for tip, outward in tips:
        t = np.clip(np.einsum("ij,ij->i", tip - points[:-1], way) / square, 0, 1)
        off = np.linalg.norm(points[:-1] + t[:, None] * way - tip, axis=1)
        k = int(np.argmin(off))
        station = k + float(t[k])
        if off[k] < SAME_CURVE * wall and station > 0.5 and unit(way[k]) @ outward < -ALONG and (best is None or station < best[0]):
            best = station, tip
    if best is None:
        return points
    kept = points[: int(np.ceil(best[0]))]
    return np.vstack((kept, best[1]))


def _run_on(line: Line, middle: Middle, number: int, solid: FacetTree, shape: Shape, length: float) -> list[Line]:
    """The outline run on beyond its ends, where that leads into the solid."""
    if line.closed:
        return []
    out = []
    h = 0.3 * middle.wall
    for end in (0, -1):
        tip = line.points[end]
        direction = _outward(line, end)
        if not direction.any():
            continue
        both = [middle.field, *line.fields]
        chain = [tip]
        first, left = settle((tip + 0.05 * middle.wall * direction)[None], both)
        if left[0] > 0.01 * middle.wall or not inside(first, solid, shape)[0]:
            continue
        if len(line.points) == 2:  # straight: as far as the solid goes
            far, _ = solid.cast(first, direction[None])
            points = np.array([tip, tip + min(float(far[0]) + h, length) * direction])
            out.append(Line("prolong", points, line.fields, (number,), line.face))
            continue
        for k in range(int(np.ceil(length / h))):
            nxt, left = settle((chain[-1] + h * direction)[None], both)
            step = nxt[0] - chain[-1]
            size = float(np.linalg.norm(step))
            if left[0] > 0.01 * middle.wall or not 0.3 * h < size < 2 * h or step @ direction < 0.3 * size:
                break
            chain.append(nxt[0])
            direction = step / size
            if k > 0 and not inside(nxt, solid, shape)[0]:
                break
        if len(chain) > 2:
            points = resampled(np.array(chain), both, 1e-6 * middle.wall, middle.wall)
            out.append(Line("prolong", points, line.fields, (number,), line.face))
    return out
