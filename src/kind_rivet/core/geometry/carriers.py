"""Exact surfaces and curves that faces and edges lie on.

A carrier is a kind and a flat parameter array, so that it travels between
processes and into files without any kernel:

========== =========================================================
plane      point (3), normal (3)
cylinder   point on the axis (3), axis (3), radius
cone       apex (3), axis pointing into the opening (3), half angle
sphere     centre (3), radius
torus      centre (3), axis (3), major radius, minor radius
free       nothing: the facets with their exact normals stand for it
========== =========================================================

Curves: ``line`` point (3), direction (3); ``circle`` centre (3), axis (3),
radius; ``free`` nothing.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Triple = tuple[float, float, float]


@dataclass(frozen=True)
class Carrier:
    """A surface or curve: `kind` as in the module's table, `data` its parameters."""

    kind: str
    data: tuple[float, ...] = ()

    @property
    def array(self) -> Floats:
        return np.array(self.data, dtype=float)


FREE = Carrier("free")
COARSEST = 1.2  # radii: longer chords tell no circle
UNEVEN = 4.0  # times as long as the shortest of three chords: a trapezium has its corners on a circle as well


def triple(p: Floats | tuple[float, ...]) -> Triple:
    """A point or direction as plain numbers."""
    return (float(p[0]), float(p[1]), float(p[2]))


def unit(v: Floats) -> Floats:
    """Rows of `v` (…, 3) scaled to length one; zero rows stay zero."""
    length = np.linalg.norm(v, axis=-1, keepdims=True)
    return np.divide(v, length, out=np.zeros_like(v), where=length > 0)


def arc_lengths(points: Floats) -> Floats:
    """Length (n,) of a chain of points (n, 2 or 3) from its first point up to each."""
    return np.concatenate(([0.0], np.cumsum(np.linalg.norm(np.diff(points, axis=0), axis=1))))


def frame(axis: Floats) -> tuple[Floats, Floats]:
    """Two unit vectors perpendicular to the unit vector `axis` (3,) and each other, right-handed."""
    helper = np.eye(3)[int(np.argmin(np.abs(axis)))]
    u = unit(np.cross(helper, axis))
    return u, np.cross(axis, u)


def project(carrier: Carrier, points: Floats) -> Floats:
    """Nearest points (n, 3) on an analytic carrier; `free` returns the points unchanged."""
    d, p = carrier.array, np.asarray(points, float)
    if carrier.kind == "plane":
        return p - ((p - d[:3]) @ d[3:6])[:, None] * d[3:6]
    if carrier.kind == "cylinder":
        along = ((p - d[:3]) @ d[3:6])[:, None] * d[3:6]
        radial = p - d[:3] - along
        return d[:3] + along + d[6] * unit(radial)
    if carrier.kind == "cone":
        h = (p - d[:3]) @ d[3:6]
        radial = p - d[:3] - h[:, None] * d[3:6]
        ray = np.cos(d[6]) * d[3:6] + np.sin(d[6]) * unit(radial)
        return d[:3] + np.maximum(np.einsum("ij,ij->i", p - d[:3], ray), 0.0)[:, None] * ray
    if carrier.kind == "sphere":
        return d[:3] + d[3] * unit(p - d[:3])
    if carrier.kind == "torus":
        h = ((p - d[:3]) @ d[3:6])[:, None] * d[3:6]
        ring = d[:3] + d[6] * unit(p - d[:3] - h)
        return ring + d[7] * unit(p - ring)
    return p


def surface_normals(carrier: Carrier, points: Floats) -> Floats:
    """Unit normals (n, 3) of a round carrier, pointing away from its axis or centre."""
    d = carrier.array
    if carrier.kind == "sphere":
        return unit(points - d[:3])
    h = ((points - d[:3]) @ d[3:6])[:, None] * d[3:6]
    radial = unit(points - d[:3] - h)
    if carrier.kind == "cone":
        return np.cos(d[6]) * radial - np.sin(d[6]) * d[3:6]
    if carrier.kind == "torus":
        return unit(points - d[:3] - d[6] * radial)
    return radial


def distance(carrier: Carrier, points: Floats) -> Floats:
    """Distance (n,) of points from an analytic carrier (zero for `free`)."""
    return np.linalg.norm(project(carrier, points) - points, axis=1)


def offset(carrier: Carrier, point: Floats, normal: Floats, by: float) -> Carrier:
    """The carrier moved by `by` along `normal`, the outward normal at `point` on it."""
    d = carrier.array
    if carrier.kind == "plane":
        return Carrier("plane", (*(d[:3] + by * normal), *d[3:6]))
    if carrier.kind == "cylinder":
        axial = ((point - d[:3]) @ d[3:6]) * d[3:6]
        sign = 1.0 if (point - d[:3] - axial) @ normal > 0 else -1.0
        return Carrier("cylinder", (*d[:6], d[6] + sign * by))
    if carrier.kind == "cone":
        axial = ((point - d[:3]) @ d[3:6]) * d[3:6]
        sign = 1.0 if (point - d[:3] - axial) @ normal > 0 else -1.0
        return Carrier("cone", (*(d[:3] - sign * by / np.sin(d[6]) * d[3:6]), *d[3:7]))
    if carrier.kind == "sphere":
        sign = 1.0 if (point - d[:3]) @ normal > 0 else -1.0
        return Carrier("sphere", (*d[:3], d[3] + sign * by))
    if carrier.kind == "torus":
        h = ((point - d[:3]) @ d[3:6]) * d[3:6]
        ring = d[:3] + d[6] * unit(point - d[:3] - h)
        sign = 1.0 if (point - ring) @ normal > 0 else -1.0
        return Carrier("torus", (*d[:7], d[7] + sign * by))
    return FREE


def same(a: Carrier, b: Carrier, points: Floats, tolerance: float) -> bool:
    """Are two analytic carriers of one kind the same, as seen at `points` (n, 3) of the first?

    Points alone do not tell: pipes of one radius that meet share the curve they meet in.
    """
    if a.kind != b.kind or a.kind == "free":
        return False
    p, q = a.array, b.array
    if a.kind != "sphere" and abs(p[3:6] @ q[3:6]) < 1 - 1e-9:
        return False
    if a.kind in ("cylinder", "sphere", "torus") and np.abs(p[6:] - q[6:] if a.kind == "torus" else p[-1:] - q[-1:]).max() > tolerance:
        return False
    if a.kind == "cone" and abs(p[6] - q[6]) > 1e-6:
        return False
    if a.kind in ("sphere", "torus") and np.linalg.norm(p[:3] - q[:3]) > tolerance:
        return False
    if a.kind in ("cylinder", "cone") and np.linalg.norm(np.cross(q[:3] - p[:3], p[3:6])) > tolerance:
        return False
    # All that tells planes and cones apart may be where they lie along their axes; of the others nothing is left to ask.
    return a.kind not in ("plane", "cone") or bool(np.all(distance(b, points) < tolerance))


def circle_in_plane(places: Floats) -> tuple[Floats, float] | None:
    """Centre (2,) and radius of the circle that fits places (n, 2) best: least squares of 2 q·c + k = |q|². None when there is none."""
    solution, *_ = np.linalg.lstsq(np.column_stack((2 * places, np.ones(len(places)))), (places**2).sum(axis=1), rcond=None)
    square = float(solution[2] + solution[:2] @ solution[:2])
    return (solution[:2], float(np.sqrt(square))) if np.isfinite(square) and square > 0 else None


def fit_curve(points: Floats, tolerance: float) -> Carrier:
    """Recognise a line or a circle through ordered points (n, 3), the circle in their best plane; else `free`."""
    p = np.asarray(points, float)
    span = p[-1] - p[0]
    length = float(np.linalg.norm(span))
    centre = p.mean(axis=0)
    if length > tolerance:
        direction = span / length
        away = p - p[0] - ((p - p[0]) @ direction)[:, None] * direction
        if np.linalg.norm(away, axis=1).max() <= tolerance:
            return Carrier("line", (*p[0], *direction))
    if len(p) < 4:
        return FREE
    _, _, axes = np.linalg.svd(p - centre, full_matrices=False)
    q = (p - centre) @ axes[:2].T
    found = circle_in_plane(q)
    if found is None:
        return FREE
    at, radius = found
    middle = centre + at @ axes[:2]
    chord = np.linalg.norm(np.diff(p, axis=0), axis=1)
    if chord.max() > COARSEST * radius or (len(p) == 4 and chord.max() > UNEVEN * chord.min()):  # four places are easily on one by chance
        return FREE
    off_plane = np.abs((p - centre) @ axes[2]).max()
    off_circle = np.abs(np.linalg.norm(q - at, axis=1) - radius).max()
    if off_plane <= tolerance and off_circle <= tolerance and radius < 1e4 * max(length, float(np.ptp(q))):
        return Carrier("circle", (*middle, *axes[2], radius))
    return FREE
