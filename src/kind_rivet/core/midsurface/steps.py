"""Risers at which nearly parallel walls of different thickness or height meet: a line on each wall, taken as one."""

from __future__ import annotations

import numpy as np

from kind_rivet.core.geometry.carriers import Floats, unit
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.midsurface.fields import settle
from kind_rivet.core.midsurface.middles import Middle
from kind_rivet.core.midsurface.stations import away_from, stations
from kind_rivet.core.midsurface.traces import Line

PARALLEL = 0.95  # cosine between the walls
ON = 0.01  # walls off a curve up to which a place lies on it
LED = 1e-6  # share of a bend beyond its ends that counts as it
HAIR = 0.1  # walls: points of a curve that are nearer to the end of a bend give way to it
ALIKE = 0.03  # of a wall: walls that differ by less in thickness are alike
BESIDE = 0.5  # walls: how much farther than the nearest wall one may end from a riser that it steps at
HIGHEST = 0.8  # of the thicker wall: how far apart the two middles may lie


def find_steps(
    shape: Shape, middles: list[Middle], close: set[tuple[int, int]], lines: list[Line]
) -> tuple[list[Line], list[tuple[int, int]]]:
    """Step lines, and (middle, line) of the risers that they replace.

    A curved riser takes over the very points of an outline that it stands over, so that the
    two never run a hair apart.
    """
    out: list[Line] = []
    replaced: list[tuple[int, int]] = []
    bends = {frozenset(line.middles) for line in lines if line.kind == "bend"}
    for m, middle in enumerate(middles):
        others = sorted({k for pair in close if m in pair for k in pair} - {m})
        # Walls of one thickness that bend into each other do not step, whatever faces lie beside the bend.
        others = [k for k in others if frozenset((m, k)) not in bends or abs(middle.wall - middles[k].wall) > ALIKE * middle.wall]
        for number in list(middle.lines):
            line = lines[number]
            if line.kind != "riser":
                continue
            here = line.points
            straight = len(here) == 2
            known = next((i for i, step in enumerate(out) if m in step.middles and _runs_along(here, step.on(m), 0.05 * middle.wall)), None)
            if known is not None and not (straight and len(out[known].points) == 2):
                if not straight:
                    replaced.append((m, number))
                continue
            if known is not None:  # one straight line for both
                here = _longest(np.vstack((here, out[known].on(m))))
            mine = here if straight else _where_wall_is(middle, here)
            if not len(mine):
                continue
            above = [
                k for k in others if line.face not in middles[k].sides[0] | middles[k].sides[1] and _over(middle, middles[k], mine, line)
            ]
            if not above:
                continue
            above = _beside(shape, line, mine, above, middles)
            bases = [here] if straight else _outlines_under(mine, above, middles, lines, line) or [here]
            if not straight:
                ends = [p for i in middle.lines if lines[i].kind == "bend" for p in _passing(lines[i].points, line)]
                bases = [_between_bends(base, ends, middle.wall) for base in bases]
            made = [_step(base, (m, *above), middles, line) for base in bases]
            if known is not None:
                out[known] = made[0]
            else:
                out += made
            if not straight:
                replaced.append((m, number))
    return out, replaced


def _where_wall_is(middle: Middle, points: Floats) -> Floats:
    """Those of points (n, 3) on a curve that lie on the wall itself: round a bend, a riser is traced along the whole circle."""
    own, there = middle.chart.flat(middle.samples), middle.chart.flat(points)
    inside = (there >= own.min(axis=0) - middle.wall / 2) & (there <= own.max(axis=0) + middle.wall / 2)
    return np.asarray(points[inside.all(axis=1)])


def _over(middle: Middle, other: Middle, here: Floats, line: Line) -> bool:
    """Does the other wall have its middle a little above or below a riser, and parallel?"""
    if middle.carrier.kind == other.carrier.kind == "plane" and abs(middle.carrier.array[3:6] @ other.carrier.array[3:6]) < PARALLEL:
        return False
    wall = max(middle.wall, other.wall)
    if abs(float(other.field(here[:1])[0][0])) > 1.5 * HIGHEST * wall:
        return False
    there, left = settle(here, [other.field, *line.fields])
    parallel = np.abs(np.einsum("ij,ij->i", middle.normal(there), other.normal(there)))
    apart = np.linalg.norm(there - here, axis=1)
    return bool(left.max() < 0.01 * wall and parallel.min() > PARALLEL and apart.max() < HIGHEST * wall and np.ptp(apart) < 0.2 * wall)


def _beside(shape: Shape, riser: Line, here: Floats, others: list[int], middles: list[Middle]) -> list[int]:
    """Those of other middles whose walls come up to a riser: walls step twice or more (counterbores), and each riser is between two of them.

    Such a wall has a side that meets the riser's face, or ends hardly farther from it than the nearest does.
    """
    meeting = {f for e in shape.face_edges[riser.face] for f in shape.edge_faces[e]}
    away = {k: float(away_from(middles[k].samples, here).min()) for k in others}
    nearest = min(away.values())
    return [k for k in others if away[k] <= nearest + BESIDE * middles[k].wall or meeting & (middles[k].sides[0] | middles[k].sides[1])]


def _outlines_under(here: Floats, above: list[int], middles: list[Middle], lines: list[Line], line: Line) -> list[Floats]:
    """Outlines of the other middles on the riser's face that run along it."""
    for k in above:
        there, _ = settle(here, [middles[k].field, *line.fields])
        found = [
            lines[i].points
            for i in middles[k].lines
            if lines[i].kind == "outline" and lines[i].face == line.face and _runs_along(lines[i].points, there, 0.05 * middles[k].wall)
        ]
        if found:
            return found
    return []


def _step(base: Floats, on: tuple[int, ...], middles: list[Middle], line: Line) -> Line:
    """A step line with its points as they lie on each middle; points that already lie there stay as they are."""
    images = {}
    for k in on:
        there, _ = settle(base, [middles[k].field, *line.fields])
        images[k] = base if np.abs(middles[k].field(base)[0]).max() < 1e-9 * (1 + np.abs(base).max()) else there
    names = sorted(images)
    return Line("step", np.mean([images[k] for k in names], axis=0), line.fields, tuple(names), line.face, tuple(images[k] for k in names))


def _passing(bend: Floats, riser: Line) -> list[Floats]:
    """Where a straight bend passes through the face of a riser: it may run on into the wall beyond."""
    if len(bend) != 2 or not riser.fields:
        return []
    a, b = riser.fields[0](bend)[0].tolist()
    share = a / (a - b) if a != b else -1.0
    return [bend[0] + share * (bend[1] - bend[0])] if -LED < share < 1 + LED else []


def _between_bends(base: Floats, ends: list[Floats], wall: float) -> Floats:
    """A curve with the ends of bends on it among its points and no others a hair away; what lies beyond two such ends is left out."""
    at: dict[int, Floats] = {}
    for end in ends:
        if away_from(end[None], base)[0] < ON * wall:
            at.setdefault(round(float(stations(base, end[None], base)[0]) / (ON * wall)), end)
    if not at or np.linalg.norm(base[0] - base[-1]) < ON * wall:
        return base
    places = np.array(list(at.values()))
    where, own = stations(base, places, base), stations(base, base, base)
    far = np.abs(own[:, None] - where).min(axis=1) > HAIR * wall
    if len(places) == 2:
        far &= (own > where.min()) & (own < where.max())
    order = np.argsort(np.concatenate((own[far], where)), kind="stable")
    return np.asarray(np.concatenate((base[far], places))[order])


def _longest(points: Floats) -> Floats:
    """The two ends of points on one straight line."""
    along = points @ unit(points[1] - points[0])
    return points[[int(np.argmin(along)), int(np.argmax(along))]]


def _runs_along(points: Floats, line: Floats, tolerance: float) -> bool:
    """Do two curves run along one another for most of one of them? Those that only share ends, as halves of a circle do, or touch, do not."""
    if (np.maximum(points.min(axis=0), line.min(axis=0)) - np.minimum(points.max(axis=0), line.max(axis=0))).max() > tolerance:
        return False
    if len(points) == len(line) == 2:
        return int((away_from(points, line) < tolerance).sum() + (away_from(line, points) < tolerance).sum()) >= 2
    return any(len(a) > 2 and (away_from(a[1:-1], b) < tolerance).mean() > 0.5 for a, b in ((points, line), (line, points)))
