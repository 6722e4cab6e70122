"""Lines along which middles run on smoothly into each other: where bends begin and end."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kind_rivet.core.geometry.carriers import FREE, Carrier, Floats, fit_curve, frame, unit
from kind_rivet.core.geometry.holes import falls_away
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.midsurface.fields import Field, settle
from kind_rivet.core.midsurface.middles import Middle
from kind_rivet.core.midsurface.offset_side import smooth_edge
from kind_rivet.core.midsurface.onward import led_into_walls
from kind_rivet.core.midsurface.stations import away_from
from kind_rivet.core.midsurface.traces import TURN, Line, contact_field, inside

TANGENT = 0.97  # cosine between middles above which they run on smoothly
CREASED = 0.85  # the same, where they meet in a crease that is flat somewhere along it
APART = 0.05  # of the reach in which bends are one: from there on it matters which side shows it
SIDE_BY_SIDE = 0.1  # cosine up to which ends lie beside each other, square to what they end
PROBES = 9  # places along a curved edge at which to ask


def bend_lines(shape: Shape, solid: FacetTree, middles: list[Middle], tolerance: float) -> list[Line]:
    """Lines between middles that run on smoothly into each other, from the smooth edges of the solid between their sides."""
    owner: dict[int, set[int]] = {}
    for m, middle in enumerate(middles):
        for f in middle.sides[0] | middle.sides[1]:
            owner.setdefault(f, set()).add(m)
    found: dict[tuple[int, int], list[Line]] = {}
    for e, faces in enumerate(shape.edge_faces):
        if len(faces) != 2 or faces[0] == faces[1] or not (faces[0] in owner and faces[1] in owner and _runs_on(shape, e)):
            continue
        for a in owner.get(faces[0], ()):
            for b in owner.get(faces[1], ()):
                if a == b or middles[a].corner or middles[b].corner:  # these begin on neither side where the faces do
                    continue
                pair = (min(a, b), max(a, b))
                points = _bend(shape, e, faces[0], middles[a], middles[b])
                if points is None:
                    continue
                normal = middles[a].normal(points[:1])[0]
                direction = unit(points[-1] - points[0]) if shape.edges[e].carrier.kind == "line" else None
                contact = contact_field(direction, points[0], normal)
                line = Line("bend", points, (contact,) if contact is not None else (), pair)
                lot = found.setdefault(pair, [])
                reach = 0.6 * min(middles[a].wall, middles[b].wall)
                twins = [_beside(points, other.points, reach) and not _are_one_line(points, other.points, tolerance) for other in lot]
                if all(
                    _stands_for(line, other, falls_away(shape, faces[0], e), reach) for other, twin in zip(lot, twins, strict=True) if twin
                ):
                    found[pair] = [other for other, twin in zip(lot, twins, strict=True) if not twin] + [line]
    out = [line for pair, lot in found.items() for line in _through_gaps(lot, [middles[m] for m in pair], shape, solid, tolerance)]
    return led_into_walls(out, middles, shape, solid, 10 * tolerance)


def _through_gaps(lot: list[Line], middles: list[Middle], shape: Shape, solid: FacetTree, tolerance: float) -> list[Line]:
    """The bends between two middles; stretches of one straight line or circle are joined where only another wall stands between them."""
    out: list[Line] = []
    rest = list(lot)
    while rest:
        line = rest.pop(0)
        curve = FREE if line.closed else fit_curve(line.points, tolerance)
        if curve.kind == "free":
            out.append(line)
            continue
        on_it = [_off(curve, other.points) <= 10 * tolerance for other in rest]
        alike = [other for other, on in zip(rest, on_it, strict=True) if on]
        rest = [other for other, on in zip(rest, on_it, strict=True) if not on]
        for points in _joined(curve, [line.points, *(other.points for other in alike)], middles, shape, solid):
            out.append(replace(line, points=points))
    return out


def _off(curve: Carrier, points: Floats) -> float:
    """Largest distance of points from a line or circle."""
    d = curve.array
    q = points - d[:3]
    h = q @ d[3:6]
    rho = np.linalg.norm(q - h[:, None] * d[3:6], axis=1)
    return float(rho.max() if curve.kind == "line" else np.hypot(h, rho - d[6]).max())


def _are_one_line(a: Floats, b: Floats, tolerance: float) -> bool:
    """Do two straight bends lie on one line, as the two sides of a wall show it? Blends may shorten each at another end; both are joined later."""
    if len(a) != 2 or len(b) != 2:
        return False
    return all(_off(curve, points) <= 10 * tolerance for curve, points in ((fit_curve(a, tolerance), b), (fit_curve(b, tolerance), a)))


def _joined(curve: Carrier, stretches: list[Floats], middles: list[Middle], shape: Shape, solid: FacetTree) -> list[Floats]:
    """Stretches of one curve, joined across gaps that lie inside the solid; on a circle also round to the first again."""
    d = curve.array
    is_round = curve.kind == "circle"
    u, v = frame(d[3:6])

    def place(points: Floats) -> Floats:
        q = points - d[:3]
        return np.unwrap(np.arctan2(q @ v, q @ u)) if is_round else q @ d[3:6]

    def at(t: Floats) -> Floats:
        """Points between two ends of stretches, settled on both middles."""
        if not is_round:
            return np.asarray(d[:3] + t[:, None] * d[3:6])
        p = d[:3] + d[6] * (np.cos(t)[:, None] * u + np.sin(t)[:, None] * v)
        return settle(p, [m.field for m in middles], cutoff=0.1)[0]

    def between(a: float, b: float) -> Floats | None:
        """Points (n, 3) across a gap from a to b, both ends left out; None where it stays open."""
        if is_round and b - a > np.pi:
            return None
        count = max(int(np.ceil((b - a) / TURN)), 2) if is_round else 4
        points = at(np.linspace(a, b, count + 1)[1:-1])
        if not inside(points, solid, shape).all():
            return None
        return points if is_round else points[:0]

    runs = []
    for points in stretches:
        t = place(points)
        runs.append((points, t) if t[-1] > t[0] else (points[::-1], t[::-1]))
    if is_round:
        runs = [(points, t - 2 * np.pi * np.floor(t[0] / (2 * np.pi))) for points, t in runs]
    runs.sort(key=lambda run: float(run[1][0]))
    out, last_at = [list(runs[0][:1])], float(runs[0][1][-1])
    for points, t in runs[1:]:
        if t[0] <= last_at:  # they overlap: what is new of the second
            out[-1].append(points[t > last_at])
        elif (gap := between(last_at, float(t[0]))) is not None:
            out[-1] += [gap, points]
        else:
            out.append([points])
        last_at = max(last_at, float(t[-1]))
    if is_round:
        gap = between(last_at, float(runs[0][1][0]) + 2 * np.pi)
        if gap is not None:
            last = out.pop() if len(out) > 1 else out[0]
            out[0] = [*last, gap, *(out[0] if last is not out[0] else [out[0][0][:1]])]
    return [np.vstack(run) for run in out] if any(len(run) > 1 for run in out) else stretches


def _beside(a: Floats, b: Floats, reach: float) -> bool:
    """Does the middle of one chain lie on the other?"""
    return any(away_from(p[(len(p) - 1) // 2 : (len(p) - 1) // 2 + 2].mean(axis=0)[None], q)[0] < reach for p, q in ((a, b), (b, a)))


def _stands_for(line: Line, other: Line, outside: bool, reach: float) -> bool:
    """Of one bend as both sides show it: the longer line, which reaches as far as the wall does, or that of the outer side (is `line` that?) where both reach as far.

    Where the sides are rounded by unlike radii, each begins at another depth: bends that go round a corner of a plate are to begin at one.
    """
    if not line.closed and not other.closed and _reach_as_far(line.points, other.points, APART * reach):
        return outside
    return _length(line.points) > 1.001 * _length(other.points)


def _reach_as_far(a: Floats, b: Floats, least: float) -> bool:
    """Do two chains lie at least so far beside each other, and end side by side?"""
    if np.linalg.norm(a[0] - b[0]) + np.linalg.norm(a[-1] - b[-1]) > np.linalg.norm(a[0] - b[-1]) + np.linalg.norm(a[-1] - b[0]):
        b = b[::-1]
    apart = [b[k] - a[k] for k in (0, -1)]
    along = [unit(a[1] - a[0]), unit(a[-1] - a[-2])]
    return all(np.linalg.norm(d) > least and abs(d @ t) < SIDE_BY_SIDE * np.linalg.norm(d) for d, t in zip(apart, along, strict=True))


def _length(points: Floats) -> float:
    return float(np.linalg.norm(np.diff(points, axis=0), axis=1).sum())


def _bend(shape: Shape, edge: int, face: int, a: Middle, b: Middle) -> Floats | None:
    """The edge moved onto both middles, None where they do not run on smoothly there."""
    nodes = shape.edges[edge].nodes
    points = shape.points[nodes]
    probe = ((points[1:] + points[:-1]) / 2)[_probes(shape, edge)]
    side = a.first if face in a.sides[0] else a.second
    moved = _moved(probe, side, a, b)
    along = np.abs(np.einsum("ij,ij->i", a.normal(moved), b.normal(moved)))
    if along.max() < TANGENT or along.min() < CREASED:
        return None
    if np.abs(a.field(moved)[0]).max() > 0.05 * a.wall or np.abs(b.field(moved)[0]).max() > 0.05 * a.wall:
        return None
    if np.abs(a.thickness(moved) - b.thickness(moved)).max() > 0.1 * a.wall:
        return None
    ends = [0, -1] if shape.edges[edge].carrier.kind == "line" else slice(None)
    return _moved(points[ends], side, a, b)


def _probes(shape: Shape, edge: int) -> list[int]:
    """Segments of an edge at which to ask how walls go on across it: its middle, and some more where it is curved."""
    n = len(shape.edges[edge].nodes) - 1
    return [(n - 1) // 2] if shape.edges[edge].carrier.kind == "line" else sorted({int((k + 0.5) * n / PROBES) for k in range(PROBES)})


def _runs_on(shape: Shape, edge: int) -> bool:
    """Do the faces beside an edge run on smoothly, somewhere along it at least?"""
    return any(smooth_edge(shape, edge, k) for k in _probes(shape, edge))


def _moved(points: Floats, side: Field, a: Middle, b: Middle) -> Floats:
    _, normal = side(points)
    start = points - 0.5 * a.thickness(points)[:, None] * normal
    return settle(start, [a.field, b.field], cutoff=0.1)[0]
