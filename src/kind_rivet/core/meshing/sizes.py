"""The wanted size at every place: walls and edges with sizes of their own, balls and boxes, graded edges."""

from __future__ import annotations

import numpy as np

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.meshing.patch import Patch
from kind_rivet.core.meshing.rules import Grading, LocalSize, ShellRules

SAMPLES = 64  # places along an edge at which the size is asked
MOST_SPOTS = 400
EVENLY = 0.2  # price of a count other than the one wanted, per factor e
SHORT, LONG = (0.6, 0.35), (1.5, 2.2)  # comfort and limit of the default sheet for the sides of elements, in sizes


def poor_sides(sides: Floats) -> Floats:
    """How far sides, in sizes, are from comfort (0) to failing (1) by the default limit sheet."""
    short = (SHORT[0] - sides) / (SHORT[0] - SHORT[1])
    long = (sides - LONG[0]) / (LONG[1] - LONG[0])
    return np.clip(np.maximum(short, long), 0.0, 1.0)


def price_of_count(count: int, lengths: Floats, wanted: float) -> float:
    """How poor rows of some lengths (k,), in sizes, become with a count, and a little for being far from the count wanted."""
    return float(poor_sides(lengths / count).mean()) + EVENLY * abs(float(np.log(count / wanted)))


def in_places(points: Floats, sizes: Floats, places: tuple[LocalSize, ...], growth: float) -> Floats:
    """Sizes (n,) at points (n, 3), lowered to what balls and boxes ask and what may grow from there."""
    out = np.asarray(sizes, float).copy()
    for place in places:
        low = np.array(place.low)
        if place.kind == "ball":
            away = np.linalg.norm(points - low, axis=1) - place.radius
        else:
            outside = np.maximum(np.maximum(low - points, points - np.array(place.high)), 0.0)
            away = np.linalg.norm(outside, axis=1)
        out = np.minimum(out, place.size + growth * np.maximum(away, 0.0))
    return out


def along(curve: Curve, edge: int, faces: tuple[int, ...], rules: ShellRules) -> Floats | None:
    """Wanted sizes at SAMPLES + 1 even places along an edge; None where it is the size of the whole body all along."""
    base = rules.edge_size.get(edge)
    if base is None:
        base = rules.size_on(faces) if faces else rules.size
    if not rules.places:
        return None if base == rules.size else np.full(SAMPLES + 1, base)
    places = np.linspace(0.0, curve.length, SAMPLES + 1)
    return in_places(curve.at(places), np.full(SAMPLES + 1, base), rules.places, rules.growth)


def wanted_count(curve: Curve, sizes: Floats | None, rules: ShellRules) -> float:
    """Sides that fit along an edge (not rounded): its length over the size, summed."""
    if sizes is None:
        return curve.length / rules.size
    each = (1 / sizes[1:] + 1 / sizes[:-1]) / 2
    return float(each.mean() * curve.length)


def stations(curve: Curve, count: int, sizes: Floats | None, grading: Grading | None) -> Floats:
    """Places (count + 1,) of the nodes along an edge: even, graded by hand, or closer where the size is smaller."""
    even = np.linspace(0.0, 1.0, count + 1)
    if grading is not None and count > 1 and grading.ratio > 1:
        return np.asarray(curve.length * _graded(count, grading))
    if sizes is None or np.ptp(sizes) < 1e-9 * sizes.max():
        return np.asarray(curve.length * even)
    each = (1 / sizes[1:] + 1 / sizes[:-1]) / 2
    total = np.concatenate(([0.0], np.cumsum(each)))
    return np.asarray(curve.length * np.interp(even * total[-1], total, np.linspace(0.0, 1.0, len(total))))


def _graded(count: int, grading: Grading) -> Floats:
    """Shares (count + 1,) of the length, side lengths in geometric progression."""
    k = np.arange(count)
    if grading.towards in ("start", "end"):
        step = k / (count - 1)
    else:
        middle = np.abs(2 * k - (count - 1)) / (count - 1)  # 1 at both ends
        step = 1 - middle if grading.towards == "both ends" else middle
    length = grading.ratio ** (1 - step if grading.towards == "end" else step)
    return np.concatenate(([0.0], np.cumsum(length) / length.sum()))


def spots_of(patch: Patch, rules: ShellRules) -> Floats:
    """Balls and boxes as discs in the plane of a region: (s, 4) x, y, radius, size."""
    out: list[tuple[float, float, float, float]] = []
    low, high = patch.space.min(axis=0), patch.space.max(axis=0)
    for place in rules.places:
        if place.size >= rules.size_on(patch.faces):
            continue
        if place.kind == "ball":
            centre = np.array(place.low)
            foot = patch.to_space(patch.to_plane(centre[None]))[0][0]
            off = float(np.linalg.norm(foot - centre))
            flat = patch.to_plane(centre[None])[0]
            radius = np.sqrt(max(place.radius**2 - off**2, 0.0))
            rise = place.size + rules.growth * max(off - place.radius, 0.0)
            if rise < rules.size_on(patch.faces):
                out.append((float(flat[0]), float(flat[1]), float(radius), rise))
            continue
        a, b = np.maximum(low, place.low), np.minimum(high, place.high)
        if (b < a).any():
            continue
        step = max(float(np.ptp(np.stack((a, b)), axis=0).max()) / 12, place.size)
        grids = [np.arange(x, y + step, step) if y > x else np.array([x]) for x, y in zip(a, b, strict=True)]
        points = np.stack(np.meshgrid(*grids, indexing="ij"), axis=-1).reshape(-1, 3)[:20000]
        flat = patch.to_plane(points)
        near = np.linalg.norm(patch.to_space(flat)[0] - points, axis=1) < step
        for x, y in np.unique(np.round(flat[near] / (0.5 * step)), axis=0)[:MOST_SPOTS] * 0.5 * step:
            out.append((float(x), float(y), 0.75 * step, place.size))
    return np.array(out).reshape(-1, 4)


def wanted_on(shape: Shape, points: Floats, faces: np.ndarray, rules: ShellRules) -> Floats:
    """Wanted size (n,) at element centres (n, 3) on the given faces (n,)."""
    sizes = np.array([rules.face_size.get(int(f), rules.size) for f in range(len(shape.faces))])
    base = np.where(faces >= 0, sizes[np.clip(faces, 0, max(len(sizes) - 1, 0))], rules.size)
    for e, size in rules.edge_size.items():
        if 0 <= e < len(shape.edges):
            line = shape.points[shape.edges[e].nodes]
            away = np.min(np.linalg.norm(points[:, None] - line[None, :: max(1, len(line) // 40)], axis=2), axis=1)
            base = np.minimum(base, size + rules.growth * away)
    return in_places(points, base, rules.places, rules.growth)


def shared_out(count: int, shares: list[float]) -> list[int]:
    """A count dealt out by shares, at least one each; sums to the count wherever it is large enough (largest remainders first)."""
    out = [max(1, int(count * s + 1e-6)) for s in shares]
    for k in sorted(range(len(shares)), key=lambda k: out[k] - count * shares[k]):
        if sum(out) < count:
            out[k] += 1
    return out
