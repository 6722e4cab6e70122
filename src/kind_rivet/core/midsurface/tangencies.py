"""Where a round wall lies tangent to another that goes on both ways, as a trough in a box, or to those beside a corner it is put round: no edge of the solid marks that line."""

from __future__ import annotations

import numpy as np

from kind_rivet.core.geometry.carriers import Carrier, Floats, frame, unit
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.midsurface.middles import Middle
from kind_rivet.core.midsurface.stations import away_from
from kind_rivet.core.midsurface.traces import TURN, Line, contact_field, inside

TOUCH = 0.01  # walls between two middles that touch
SAME = 0.03  # share by which the walls may differ
PARALLEL = 1e-6  # sine of the angle between axes or planes
STEPS = 200  # places along a line at which to ask whether it lies in the solid
OVER = 0.01  # walls by which a line is drawn beyond the solid, so that it surely cuts what ends there


def tangencies(shape: Shape, solid: FacetTree, middles: list[Middle], close: set[tuple[int, int]], bends: list[Line]) -> list[Line]:
    """Lines in which a round middle touches a flat or a round one near by, as far as they lie in the solid; not where a bend is known.

    Both middles are looked at as far as there.
    """
    out = []
    for a, b in sorted(close):
        if middles[a].corner != middles[b].corner and (circle := _contact_circle(middles[a], middles[b])) is not None:
            out += [Line("bend", points, (), (a, b)) for points in _held_round(*circle, shape, solid)]
            continue
        contact = _contact_line(middles[a], middles[b])
        if contact is None:
            continue
        place, axis, normal = contact
        wall = min(middles[a].wall, middles[b].wall)
        known = [line.points for line in bends if set(line.middles) == {a, b}]
        for points in _within(place, axis, middles[a], middles[b], shape, solid):
            if any(away_from(points.mean(axis=0)[None], line)[0] < wall for line in known):
                continue
            for m in (a, b):  # what lies between the wall as it is found and the line belongs to it too
                middles[m].least_reach = max(middles[m].least_reach, _gap(middles[m], points) + middles[m].around)
            field = contact_field(axis, place, normal)
            out.append(Line("bend", points, (field,) if field is not None else (), (a, b)))
    return out


def _contact_line(a: Middle, b: Middle) -> tuple[Floats, Floats, Floats] | None:
    """A point of the line in which two middles touch, its direction, and the normal there."""
    one, other = (a, b) if a.carrier.kind == "cylinder" else (b, a)
    if one.carrier.kind != "cylinder" or (abs(a.wall - b.wall) > SAME * a.wall and not (a.corner or b.corner)):
        return None
    tolerance = TOUCH * min(a.wall, b.wall)
    centre, axis, radius = one.carrier.array[:3], one.carrier.array[3:6], float(one.carrier.data[6])
    if other.carrier.kind == "plane":
        normal = other.carrier.array[3:6]
        if abs(float(normal @ axis)) > PARALLEL:
            return None
        height = float((centre - other.carrier.array[:3]) @ normal)
        return (centre - height * normal, axis, normal) if abs(abs(height) - radius) < tolerance else None
    if other.carrier.kind == "cylinder":
        return _between_rounds(one.carrier, other.carrier, tolerance)
    return None


def _contact_circle(a: Middle, b: Middle) -> tuple[Floats, Floats, float] | None:
    """Centre, axis and radius of the circle in which a torus put round a corner touches the flat or round wall beside it."""
    torus, other = (a, b) if a.corner else (b, a)
    if torus.carrier.kind != "torus":
        return None
    centre, axis, (major, minor) = torus.carrier.array[:3], torus.carrier.array[3:6], torus.carrier.data[6:8]
    tolerance = TOUCH * other.wall
    away = other.carrier.array[:3] - centre
    if other.carrier.kind == "plane":
        high = float(away @ axis)
        return (centre + high * axis, axis, major) if abs(abs(high) - minor) < tolerance else None
    if other.carrier.kind == "cylinder" and np.linalg.norm(away - (away @ axis) * axis) < tolerance:
        radius = other.carrier.data[6]
        return (centre, axis, radius) if abs(abs(radius - major) - minor) < tolerance else None
    return None


def _held_round(centre: Floats, axis: Floats, radius: float, shape: Shape, solid: FacetTree) -> list[Floats]:
    """The arcs of a circle that lie in the solid, up to the next place beyond; closed if all does."""
    u, v = frame(axis)
    turn = np.linspace(0.0, 2 * np.pi, int(np.ceil(2 * np.pi / TURN)) + 1)
    points = centre + radius * (np.cos(turn)[:, None] * u + np.sin(turn)[:, None] * v)
    points[-1] = points[0]
    held = inside(points, solid, shape)
    if held.all() or not held.any():
        return [points] if held.all() else []
    first = int(np.flatnonzero(~held)[0])  # begin where it is open
    points, held = np.roll(points[:-1], -first, axis=0), np.roll(held[:-1], -first)
    points, held = np.vstack((points, points[:1])), np.append(held, held[0])
    turns = np.flatnonzero(np.diff(held.astype(int)))
    return [points[a : b + 2] for a, b in zip(turns[::2], turns[1::2], strict=True)]


def _between_rounds(one: Carrier, other: Carrier, tolerance: float) -> tuple[Floats, Floats, Floats] | None:
    """The same for two cylinders, which touch from outside or one within the other."""
    axis, radius, second = one.array[3:6], float(one.data[6]), float(other.data[6])
    if np.linalg.norm(np.cross(axis, other.array[3:6])) > PARALLEL:
        return None
    away = other.array[:3] - one.array[:3]
    away = away - (away @ axis) * axis
    gap = float(np.linalg.norm(away))
    if gap < tolerance or min(abs(gap - radius - second), abs(gap - abs(radius - second))) > tolerance:
        return None
    normal = unit(away) if gap > abs(radius - second) + tolerance or radius > second else -unit(away)
    return one.array[:3] + radius * normal, axis, normal


def _within(place: Floats, axis: Floats, a: Middle, b: Middle, shape: Shape, solid: FacetTree) -> list[Floats]:
    """The straight stretches (2, 3) of a line along two middles that lie in the solid."""
    ends = []
    for middle in (a, b):
        t = (middle.samples - place) @ axis
        ends.append((float(t.min()) - middle.reach, float(t.max()) + middle.reach))
    low, high = max(e[0] for e in ends), min(e[1] for e in ends)
    if low >= high:
        return []
    wall = min(a.wall, b.wall)
    runs = [(s - OVER * wall, t + OVER * wall) for s, t in held_along(place, axis, low, high, shape, solid)]
    return [place + np.array([[s], [t]]) * axis for s, t in runs if t - s > wall]


def held_along(place: Floats, axis: Floats, low: float, high: float, shape: Shape, solid: FacetTree) -> list[tuple[float, float]]:
    """The stretches of a line, by distance along it from a place (3,), that lie in the solid."""
    at = np.linspace(low, high, STEPS)
    held = inside(place + at[:, None] * axis, solid, shape)
    turns = np.flatnonzero(np.diff(held.astype(int)))
    edges = [_edge(place, axis, float(at[k]), float(at[k + 1]), bool(held[k]), shape, solid) for k in turns]
    bounds = ([low] if held[0] else []) + edges + ([high] if held[-1] else [])
    return [(bounds[k], bounds[k + 1]) for k in range(0, len(bounds) - 1, 2)]


def _gap(middle: Middle, points: Floats) -> float:
    """How far the middle of a line lies from the nearest place at which the wall was found."""
    return float(np.linalg.norm(middle.samples - points.mean(axis=0), axis=1).min())


def _edge(place: Floats, axis: Floats, low: float, high: float, held: bool, shape: Shape, solid: FacetTree) -> float:
    """Where a line enters or leaves the solid between two places on it, the first of which is `held` by it or not."""
    for _ in range(30):
        half = (low + high) / 2
        if bool(inside((place + half * axis)[None], solid, shape)[0]) == held:
            low = half
        else:
            high = half
    return (low + high) / 2
