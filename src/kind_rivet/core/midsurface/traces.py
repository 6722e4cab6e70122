"""Lines on middles: where a middle leaves the solid, where it meets another, where a bend begins, where a rim would run on."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Carrier, Floats, arc_lengths, unit
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.midsurface.fields import CarrierField, FacetField, Field, settle
from kind_rivet.core.midsurface.hidden_crossings import without_hidden_crossings
from kind_rivet.core.midsurface.middles import Middle

CORNER, LEG = np.radians(35.0), 0.02  # a curve that turns by more at a place is sharp there, if both legs are longer than this in walls
TURN = 0.13  # radians from point to point along curves
HALVINGS, NEAR = 24, 0.02  # halvings of a facet's side in search of a middle, and walls off it that are near enough
SAG = 0.08  # squared chord over radius, in walls: a hundredth of the wall between chord and curve
ROUGH = 0.02  # walls: the last step to where a square lies on its middle

SQUARE = np.array([[0, 0], [1, 0], [1, 1], [0, 1]])  # corners of a square, in turn


@dataclass(frozen=True)
class Line:
    """A curve on one or two middles.

    kind : "outline" (the middle leaves the solid through `face`), "joint" (two middles meet),
        "bend" (they run on smoothly into each other), "riser" (`face` steps or ends on the wall here),
        "prolong" (an outline run on inside the solid), "step" (two middles end at one riser), "frame" (as far as the middle is looked at)
    points : (n, 3) exact points along it; closed curves repeat the first
    fields : what vanishes along it besides the middle
    middles : the middles it lies on
    face : face of the solid, −1 for joints and bends
    images : the points as they lie on each of the middles, where these stand apart (steps)
    """

    kind: str
    points: Floats
    fields: tuple[Field, ...]
    middles: tuple[int, ...]
    face: int = -1
    images: tuple[Floats, ...] = ()

    def on(self, middle: int) -> Floats:
        """The points as they lie on one of the middles."""
        return self.images[self.middles.index(middle)] if self.images else self.points

    @property
    def closed(self) -> bool:
        return bool(np.allclose(self.points[0], self.points[-1], rtol=0, atol=1e-12 + 1e-9 * float(np.ptp(self.points))))


def resampled(points: Floats, fields: list[Field], tolerance: float, wall: float, sharp: bool = False) -> Floats:
    """A smooth chain with points where it turns: two on a straight line, else at even arc lengths, settled on the fields.

    Chords stay within a hundredth of the wall of the curve. `sharp`: it may have corners, which are kept.
    """
    p = points
    step = np.linalg.norm(np.diff(p, axis=0), axis=1)
    keep = np.r_[True, step > 1e-3 * tolerance]
    p = p[keep]
    if len(p) < 3:
        return np.asarray(points[[0, -1]])
    chord = p[-1] - p[0]
    length = float(np.linalg.norm(chord))
    if length > tolerance:
        d = chord / length
        away = p - p[0] - ((p - p[0]) @ d)[:, None] * d
        if np.linalg.norm(away, axis=1).max() <= tolerance:
            return np.asarray(p[[0, -1]])
    station = arc_lengths(p)
    # Directions over stretches long enough that noise in the points does not count as turning.
    coarse = np.linspace(0, station[-1], min(len(p), 65))
    q = np.column_stack([np.interp(coarse, station, p[:, k]) for k in range(3)])
    d = unit(np.diff(q, axis=0))
    turning = float(np.arccos(np.clip(np.einsum("ij,ij->i", d[1:], d[:-1]), -1, 1)).sum())
    by_sag = np.sqrt(station[-1] * turning / (SAG * wall))
    n = int(np.clip(np.ceil(max(turning / TURN, by_sag)), 4, 600))
    at = np.linspace(0, station[-1], n + 1)
    if sharp:
        at = _with_corners(at, p, station, wall)
    out = np.column_stack([np.interp(at, station, p[:, k]) for k in range(3)])
    inner, _ = settle(out[1:-1], fields)
    return np.asarray(np.vstack((p[:1], inner, p[-1:])))


def _with_corners(at: Floats, p: Floats, station: Floats, wall: float) -> Floats:
    """The stations with those nearest to sharp turns of the curve moved there, as where roundings of two edges meet in a mitre."""
    leg = np.diff(p, axis=0)
    long = np.diff(station) > LEG * wall
    turn = np.arccos(np.clip(np.einsum("ij,ij->i", unit(leg[1:]), unit(leg[:-1])), -1, 1))
    for where in station[1:-1][(turn > CORNER) & long[1:] & long[:-1]]:
        nearest = int(np.argmin(np.abs(at - where)))
        if 0 < nearest < len(at) - 1:
            at[nearest] = where
    return np.asarray(at)


def framed(middle: Middle, margin: float) -> tuple[Floats, Floats]:
    """Lowest and highest place on the chart that is looked at; no limit round a chart that closes."""
    uv = middle.chart.flat(middle.samples)
    low, high = uv.min(axis=0) - margin, uv.max(axis=0) + margin
    if middle.chart.period and high[0] - low[0] > 0.8 * middle.chart.period:
        low[0], high[0] = -np.inf, np.inf
    return low, high


def outlines(middle: Middle, number: int, shape: Shape, fields: list[Field], margin: float, tolerance: float) -> list[Line]:
    """Where the middle leaves the solid: marching over the facets near the wall, one line per stretch on one face.

    A facet corner on the middle counts as in front of it, so faces lying in the middle do no
    harm. Lines that leave the frame are closed by the frame itself.
    """
    low, high = framed(middle, margin)
    around = 3 * (float(np.linalg.norm(np.ptp(middle.samples, axis=0))) + margin)
    away = np.linalg.norm(shape.points - middle.samples.mean(axis=0), axis=1)
    uv = np.full((len(shape.points), 2), np.inf)
    uv[away < around] = middle.chart.flat(shape.points[away < around])
    corners = uv[shape.facets]
    near = np.flatnonzero(((corners.max(axis=1) >= low) & (corners.min(axis=1) <= high)).all(axis=1))
    if not len(near):
        return []
    points, rows, of = _split_on_planes(middle, shape, near)
    used = np.unique(rows)
    value_of = np.zeros(len(points))
    value_of[used] = middle.field(points[used])[0]
    front_of = value_of >= -1e-7 * middle.wall
    mixed = front_of[rows].any(axis=1) & ~front_of[rows].all(axis=1)
    if not mixed.any():
        return []
    rows = rows[mixed]
    sides = np.stack((rows, np.roll(rows, -1, axis=1)), axis=2).reshape(-1, 2)
    crossing = front_of[sides[:, 0]] != front_of[sides[:, 1]]
    sides = np.sort(sides[crossing], axis=1)
    n = np.int64(len(points))
    keys, node = np.unique(sides[:, 0] * n + sides[:, 1], return_inverse=True)
    segment = node.reshape(-1, 2)  # two crossings per facet, in facet order
    face = shape.facet_face[near[of[mixed]]].astype(np.int64)
    a, b = keys // n, keys % n
    va, vb = value_of[a], value_of[b]
    place = _between(middle, points[a], points[b], va, vb)
    return _chains(middle, number, segment, face, place, fields, tolerance) + _frame(middle, number, low, high)


def _split_on_planes(middle: Middle, shape: Shape, near: NDArray[np.int64]) -> tuple[Floats, NDArray[np.int64], NDArray[np.int64]]:
    """Points, rows of the facets near by, and which of them each was: those on plane faces are split where a curved middle passes through them twice."""
    rows = shape.facets[near].astype(np.int64)
    whole = np.arange(len(near))
    if middle.carrier.kind == "plane":
        return shape.points, rows, whole
    flat = np.array([face.carrier.kind == "plane" for face in shape.faces])[shape.facet_face[near]]
    if not flat.any():
        return shape.points, rows, whole
    points, split, of = without_hidden_crossings(shape.points, rows[flat], middle.field, middle.wall)
    return points, np.concatenate((rows[~flat], split)), np.concatenate((whole[~flat], whole[flat][of]))


def _between(middle: Middle, a: Floats, b: Floats, va: Floats, vb: Floats) -> Floats:
    """Where sides of facets from a to b (n, 3) cross the middle, whose field is va and vb (n,) there: by chords, and halved where it is curved."""
    low, high = np.zeros(len(a)), np.ones(len(a))
    front = va >= vb
    share = np.clip(np.where(np.abs(va - vb) > 0, va / np.where(va == vb, 1.0, va - vb), 0.5), 0, 1)
    out = np.asarray(a + share[:, None] * (b - a))
    off = np.flatnonzero(np.linalg.norm(b - a, axis=1) > middle.wall)
    for _ in range(HALVINGS):
        if not len(off):
            break
        value = middle.field(out[off])[0]
        rough = np.abs(value) > NEAR * middle.wall
        off, value = off[rough], value[rough]
        before = (value >= 0) == front[off]
        low[off[before]], high[off[~before]] = share[off[before]], share[off[~before]]
        share[off] = (low[off] + high[off]) / 2
        out[off] = a[off] + share[off][:, None] * (b[off] - a[off])
    return out


def _frame(middle: Middle, number: int, low: Floats, high: Floats) -> list[Line]:
    """The border of what is looked at, as lines."""
    spread = middle.chart.flat(middle.samples)
    width = np.where(np.isfinite(high - low), high - low, 0.0)
    lo = np.where(np.isfinite(low), low, spread.min(axis=0) - width)
    hi = np.where(np.isfinite(high), high, spread.max(axis=0) + width)
    out = []
    for k in range(2):
        if not np.isfinite(low[k]):
            continue
        for at in (low[k], high[k]):
            t = np.linspace(0, 1, 60)
            uv = np.column_stack((lo[0] + t * (hi[0] - lo[0]), lo[1] + t * (hi[1] - lo[1])))
            if not np.isfinite(low[0]):
                uv[:, 0] = np.linspace(-0.5, 0.5, 60) * middle.chart.period * (1 - 1e-9)
            uv[:, k] = at
            out.append(Line("frame", middle.chart.lift(uv), (), (number,)))
    return out


def _chains(
    middle: Middle, number: int, segment: NDArray[np.int64], face: NDArray[np.int64], place: Floats, fields: list[Field], tolerance: float
) -> list[Line]:
    """Segments joined into stretches of one face each."""
    beside: list[list[int]] = [[] for _ in place]
    for s, (i, j) in enumerate(segment.tolist()):
        beside[i].append(s)
        beside[j].append(s)
    faces_at = [sorted({int(face[s]) for s in lot}) for lot in beside]
    # Exact places: on the middle and on every face that meets there.
    exact = place.copy()
    groups: dict[tuple[int, ...], list[int]] = {}
    for i, lot in enumerate(faces_at):
        groups.setdefault(tuple(lot), []).append(i)
    for faces, nodes in groups.items():
        moved, left = settle(place[nodes], [middle.field, *(fields[f] for f in faces)])
        good = (left < 0.02 * middle.wall) & (np.linalg.norm(moved - place[nodes], axis=1) < 0.5 * middle.wall)
        exact[np.array(nodes)[good]] = moved[good]
    used = np.zeros(len(segment), bool)
    out = []
    stops = [len(beside[i]) != 2 or len(faces_at[i]) > 1 for i in range(len(place))]
    order = [s for s in range(len(segment)) if any(stops[i] for i in segment[s])] + list(range(len(segment)))
    for s in order:
        if used[s]:
            continue
        i, j = segment[s].tolist()
        start, here = (i, j) if stops[i] or not stops[j] else (j, i)
        chain, at = [start, here], s
        used[s] = True
        while not stops[here] and here != start:
            at = next((x for x in beside[here] if not used[x]), -1)
            if at < 0:
                break
            used[at] = True
            i, j = segment[at].tolist()
            here = j if i == here else i
            chain.append(here)
        f = int(face[s])
        points = exact[chain]
        length = np.linalg.norm(np.diff(points, axis=0), axis=1).sum()
        if length < tolerance and chain[0] != chain[-1]:
            points = points[[0, -1]]
        if len(points) < 2 or (chain[0] == chain[-1] and len(points) < 4):
            continue
        creased = isinstance(fields[f], FacetField)  # roundings joined at a mitre; on exact faces what seems sharp is noise
        line = resampled(points, [middle.field, fields[f]], tolerance, middle.wall, sharp=creased)
        out.append(Line("outline", line, (fields[f],), (number,), f))
    return out


def crossing(
    middle: Middle, field: Field, low: Floats, high: Floats, finest: float, tolerance: float, within: tuple[Floats, Floats] | None = None
) -> list[Floats]:
    """Curves on the middle along which a field vanishes, inside a box (2,), (2,) on its chart: exact points (n, 3) each.

    `within`: corners (3,), (3,) of a box in space, beyond which they may end.

    Squares that the curve may touch are quartered down to `finest`, then marched. On a chart that
    closes they fill its period exactly, so that a curve all the way round ends where it began.
    """
    span = np.maximum(high - low, finest)
    coarse = max(finest, float(span.max()) / 16)
    levels = int(np.ceil(np.log2(coarse / finest)))
    count = np.ceil(span / (finest * 2**levels)).astype(int)
    h = np.full(2, finest * 2.0**levels)
    if middle.chart.period and count[0] * h[0] > 0.999 * middle.chart.period:
        h[0] = middle.chart.period / count[0]
    i, j = np.meshgrid(np.arange(count[0]), np.arange(count[1]), indexing="ij")
    cells = np.column_stack((i.ravel(), j.ravel()))
    for level in range(levels + 1):
        size = h / 2**level
        centre, reach = _over_squares(middle, low, cells, size)
        if within is not None:
            near = ((centre > within[0] - reach[:, None]) & (centre < within[1] + reach[:, None])).all(axis=1)
            cells, centre, reach = cells[near], centre[near], reach[near]
        cells = cells[np.abs(field(centre)[0]) <= 1.3 * reach * 1.3]
        if level < levels:
            cells = (2 * cells[:, None, :] + np.array([[0, 0], [0, 1], [1, 0], [1, 1]])).reshape(-1, 2)
        if len(cells) > 200_000:
            return []
    if not len(cells):
        return []
    size = h / 2**levels
    corner = (cells[:, None, :] + SQUARE).reshape(-1, 2)
    names, index = np.unique(corner, axis=0, return_inverse=True)
    place = middle.place(low + names * size)
    value = field(place)[0]
    front = value >= 0
    square = index.reshape(-1, 4)
    tri = np.concatenate((square[:, [0, 1, 2]], square[:, [0, 2, 3]]))
    mixed = tri[front[tri].any(axis=1) & ~front[tri].all(axis=1)]
    if not len(mixed):
        return []
    sides = np.stack((mixed, np.roll(mixed, -1, axis=1)), axis=2).reshape(-1, 2)
    sides = np.sort(sides[front[sides[:, 0]] != front[sides[:, 1]]], axis=1)
    keys, node = np.unique(sides[:, 0] * len(names) + sides[:, 1], return_inverse=True)
    a, b = keys // len(names), keys % len(names)
    share = value[a] / (value[a] - value[b])
    start = place[a] + share[:, None] * (place[b] - place[a])
    exact, left = settle(start, [middle.field, field])
    good = (left < 1e-3 * finest + tolerance) & (np.linalg.norm(exact - start, axis=1) < 2 * size.max())
    return [resampled(exact[c], [middle.field, field], tolerance, middle.wall) for c in _polylines(node.reshape(-1, 2), good)]


def _over_squares(middle: Middle, low: Floats, squares: NDArray[np.int64], size: Floats) -> tuple[Floats, Floats]:
    """The middles (n, 3) of squares of a chart, and how far from there they reach: a chart that is only near to its wall stretches."""
    half = 0.5 * float(np.linalg.norm(size))
    centre = middle.place(low + (squares + 0.5) * size, ROUGH)
    reach = np.full(len(squares), half)
    if middle.carrier.kind == "free" and middle.chart.period:
        corners, at = np.unique((squares[:, None, :] + SQUARE).reshape(-1, 2), axis=0, return_inverse=True)
        away = middle.place(low + corners * size, ROUGH)[at.reshape(-1, 4)] - centre[:, None]
        reach = np.maximum(reach, np.linalg.norm(away, axis=2).max(axis=1))
    return centre, reach


def _polylines(segment: NDArray[np.int64], good: NDArray[np.bool_]) -> list[list[int]]:
    """Chains of node numbers through segments whose ends are both good; closed ones repeat the first."""
    segment = segment[good[segment].all(axis=1)]
    beside: dict[int, list[int]] = {}
    for s, (i, j) in enumerate(segment.tolist()):
        beside.setdefault(i, []).append(s)
        beside.setdefault(j, []).append(s)
    used = np.zeros(len(segment), bool)
    ends = [lot[0] for lot in beside.values() if len(lot) == 1]
    out = []
    for s in [*ends, *range(len(segment))]:
        if used[s]:
            continue
        i, j = segment[s].tolist()
        if len(beside[j]) == 1:
            i, j = j, i
        chain, here = [i, j], j
        used[s] = True
        while here != i:
            at = next((x for x in beside[here] if not used[x]), -1)
            if at < 0:
                break
            used[at] = True
            p, q = segment[at].tolist()
            here = q if p == here else p
            chain.append(here)
        if len(chain) >= 2:
            out.append(chain)
    return out


def inside(points: Floats, solid: FacetTree, shape: Shape) -> NDArray[np.bool_]:
    """Do points (n, 3) lie inside the solid? Three rays each; the first facet met must look away, by majority."""
    votes = np.zeros(len(points), int)
    for d in ((0.5437, 0.2391, 0.8045), (-0.6124, 0.7433, 0.2691), (0.1127, -0.8829, -0.4558)):
        direction = np.array(d) / np.linalg.norm(d)
        _, hit = solid.cast(points, np.broadcast_to(direction, points.shape).copy())
        met = hit >= 0
        votes[met] += shape.facet_normal[hit[met]] @ direction > 0
    return np.asarray(votes >= 2)


def contact_field(direction: Floats | None, at: Floats, normal: Floats) -> Field | None:
    """The plane through a straight bend line square to the wall."""
    if direction is None:
        return None
    n = unit(np.cross(direction, normal))
    return CarrierField(Carrier("plane", (*at, *n)), 1.0) if np.linalg.norm(n) > 0.5 else None
