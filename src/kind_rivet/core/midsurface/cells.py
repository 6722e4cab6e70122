"""All lines on one middle cut its chart into cells; each cell is told inside or outside, wall or not."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np
import shapely
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.midsurface.fields import settle_each
from kind_rivet.core.midsurface.middles import Middle
from kind_rivet.core.midsurface.traces import Line, inside

GRID = 2e-5  # of the wall: places are rounded to this
PER_CELL = 40
SQUARE, ALONG = 0.02, 0.99  # walls off the middle, and cosine to its normal, up to which a face is a side of the wall
RANK = {"joint": 0, "step": 1, "bend": 2, "outline": 3, "riser": 4, "prolong": 5, "frame": 6}
SEAM = -2  # in place of a line's number
FOLDED = 1.0  # walls: a place on a freely curved middle that its chart finds farther off than this lies beyond it
TORN = 5.0  # times as far apart on a chart as in space: a chart is cut between two such places
STEP = 0.01  # walls between places by which it is told how a chart stretches
DEEP = 0.3  # of half a wall: how far from that depth below the skin places may lie that count as so deep


@dataclass(frozen=True)
class Cell:
    """area and core area (on the chart; core negative where the wall's sides have crossed and there is none), the rings of vertex numbers, outer first.

    half : area that lies half a wall below the skin on one side at least
    """

    area: float
    core: float
    half: float
    rings: tuple[NDArray[np.int64], ...]
    polygon: shapely.Polygon


@dataclass(frozen=True)
class CutMiddle:
    """Vertices with exact places, sides between them with the line they run along, and the cells inside the solid.

    uv (v, 2), points (v, 3); side (s, 2) vertices, lower first; side_line (s,) number of the line,
    SEAM along the cut of a closed chart, −1 unknown; side_cells (s, 2) cells beside (−1: none)
    """

    uv: Floats
    points: Floats
    side: NDArray[np.int64]
    side_line: NDArray[np.int64]
    side_cells: NDArray[np.int64]
    cells: tuple[Cell, ...]


def cut_up(middle: Middle, number: int, lines: list[Line], solid: FacetTree, shape: Shape) -> CutMiddle | None:
    """Cut the middle's chart along its lines; None when no cell lies inside the solid."""
    wall, period = middle.wall, middle.chart.period
    pieces: list[shapely.LineString] = []
    owner: list[int] = []
    for k in middle.lines:
        for uv in _on_chart(middle, lines[k], number):
            pieces.append(shapely.LineString(uv))
            owner.append(k)
    if not pieces:
        return None
    box = shapely.total_bounds(np.array(pieces))
    margin = 0.5 * wall
    if period:
        straight = middle.carrier.kind in ("cylinder", "cone")
        count = 2 if straight else int(np.clip((box[3] - box[1]) / wall, 8, 400))
        along = np.linspace(box[1] - margin, box[3] + margin, count)
        for u in (-period / 2, period / 2):
            pieces.append(shapely.LineString(np.column_stack((np.full(count, u), along))))
            owner.append(SEAM)
    noded = shapely.union_all(np.array(pieces), grid_size=GRID * wall)
    polygons, *loose = shapely.polygonize_full(shapely.get_parts(noded))
    faces = shapely.get_parts(polygons)
    if not len(faces):
        return None
    loose = [part for lot in loose[:2] for part in shapely.get_parts(lot) if shapely.length(part) > 0]
    rows = np.vstack((shapely.get_coordinates(faces), shapely.get_coordinates(loose)))
    names, index = np.unique(np.round(rows / (GRID * wall)).astype(np.int64), axis=0, return_inverse=True)
    uv = np.zeros((len(names), 2))
    uv[index] = rows
    rings: list[list[NDArray[np.int64]]] = []
    at = 0
    for polygon in faces:
        mine = []
        for ring in (polygon.exterior, *polygon.interiors):
            n = len(ring.coords)
            mine.append(index[at : at + n])
            at += n
        rings.append(mine)
    tests = _tested(middle, faces, solid, shape)
    keep = [k for k in range(len(faces)) if tests[k] is not None]
    if not keep:
        return None
    cells = []
    sides: dict[tuple[int, int], list[int]] = {}
    for c, k in enumerate(keep):
        test = tests[k]
        assert test is not None
        area = float(faces[k].area) * test[2]
        cells.append(Cell(area, area * test[0], area * test[1], tuple(rings[k]), faces[k]))
        for ring in rings[k]:
            for i, j in zip(ring[:-1].tolist(), ring[1:].tolist(), strict=True):
                if i != j:
                    sides.setdefault((i, j) if i < j else (j, i), []).append(c)
    for (i, j), c in _slits(loose, index[at:], pieces, owner, lines, [faces[k] for k in keep], wall).items():
        sides.setdefault((i, j), [c, c])
    side = np.array(list(sides), np.int64)
    side_cells = np.array([(lot + [-1])[:2] for lot in sides.values()], np.int64)
    side_line = _labels(uv, side, pieces, owner, lines, wall)
    points = _exact(middle, uv, side, side_line, lines)
    return CutMiddle(uv, points, side, side_line, side_cells, tuple(cells))


def _slits(
    loose: list[shapely.LineString], index: NDArray[np.int64], pieces: list[shapely.LineString], owner: list[int], lines: list[Line],
    cells: list[shapely.Polygon], wall: float,
) -> dict[tuple[int, int], int]:  # fmt: skip
    """Sides of shared lines that end inside a cell, with that cell: where a wall ends on this one."""
    shared = [p for p, k in zip(pieces, owner, strict=True) if k >= 0 and len(lines[k].middles) > 1]
    if not loose or not shared:
        return {}
    of_lines, of_cells = shapely.STRtree(shared), shapely.STRtree(cells)
    out: dict[tuple[int, int], int] = {}
    at = 0
    for part in loose:
        q = shapely.get_coordinates(part)
        names = index[at : at + len(q)].tolist()
        at += len(q)
        middles = shapely.points((q[:-1] + q[1:]) / 2)
        near = set(of_lines.query(middles, predicate="dwithin", distance=4 * GRID * wall)[0].tolist())
        where = dict(of_cells.query(middles, predicate="within").T.tolist())
        for k, (i, j) in enumerate(itertools.pairwise(names)):
            if k in near and k in where and i != j:
                out[(i, j) if i < j else (j, i)] = where[k]
    return out


def _on_chart(middle: Middle, line: Line, number: int) -> list[Floats]:
    """The line on the chart, cut where it passes the chart's own cut; bends run on a little so that they surely cross."""
    points = line.on(number)
    if line.kind == "bend" and not line.closed:
        over = 0.3 * middle.wall
        first, last = points[0] - points[1], points[-1] - points[-2]
        points = np.vstack((points[0] + over * first / np.linalg.norm(first), points, points[-1] + over * last / np.linalg.norm(last)))
    uv = middle.chart.flat(points)
    far = np.linalg.norm(np.diff(points, axis=0), axis=1)
    across = np.abs(np.diff(uv[:, 1]))
    torn = (across > TORN * far) & (across > 2 * middle.wall)  # round the tube of a ring that closes round its axis
    return [piece for part in np.split(uv, np.flatnonzero(torn) + 1) if len(part) > 1 for piece in _at_seam(part, middle.chart.period)]


def _at_seam(uv: Floats, period: float) -> list[Floats]:
    """A line (n, 2) on a chart in pieces, cut where it passes the chart's own cut."""
    if not period:
        return [uv]
    jump = np.round(np.diff(uv[:, 0]) / period).astype(int)
    if not jump.any():
        return [uv]
    out, start = [], [uv[0]]
    for k in range(len(uv) - 1):
        a, b = uv[k], uv[k + 1]
        if jump[k] == 0:
            start.append(b)
            continue
        edge = -np.sign(jump[k]) * period / 2
        there = b - np.array([jump[k] * period, 0.0])
        share = (edge - a[0]) / (there[0] - a[0]) if there[0] != a[0] else 0.0
        v = a[1] + share * (there[1] - a[1])
        start.append(np.array([edge, v]))
        out.append(np.array(start))
        start = [np.array([-edge, v]), b]
    out.append(np.array(start))
    return [q for q in out if len(q) > 1 and np.ptp(q, axis=0).max() > 0]


def _tested(middle: Middle, faces: NDArray[np.object_], solid: FacetTree, shape: Shape) -> list[tuple[float, float, float] | None]:
    """Core share of every cell, −1 beyond where the two sides of the wall cross, share half a wall below the skin, and how much larger it is
    than on the chart; None outside the solid.
    """
    places, whose = [], []
    for k, polygon in enumerate(faces):
        q = _inner_places(polygon)
        places.append(q)
        whose.append(np.full(len(q), k))
    uv, cell = np.concatenate(places), np.concatenate(whose)
    p = middle.place(uv)
    within = inside(p, solid, shape)
    if middle.carrier.kind == "free":  # far beyond the wall its chart folds: what lies there is somewhere else
        within &= np.linalg.norm(middle.chart.flat(p) - uv, axis=1) < FOLDED * middle.wall
    n = middle.normal(p)
    up, hit_up = solid.cast(p, n)
    down, hit_down = solid.cast(p, -n)
    wall = middle.thickness(p)
    first, second = (np.isin(np.arange(len(shape.faces)), list(s)) for s in middle.sides)
    good = within & (hit_up >= 0) & (hit_down >= 0)
    core = np.zeros(len(p), bool)
    above, below = first[shape.facet_face[hit_up[good]]], second[shape.facet_face[hit_down[good]]]
    core[good] = above & below
    total = np.where(good, up + down, np.inf)
    core &= np.abs(total - wall) < 0.12 * wall
    if middle.carrier.kind == "plane":
        core[good] |= (above | below) & _squarely(shape, n[good], (hit_up[good], hit_down[good]), (up[good], down[good]), wall[good])
    half = good & (np.minimum(np.abs(up - wall / 2), np.abs(down - wall / 2)) < DEEP * wall / 2)
    count = np.bincount(cell, minlength=len(faces))
    share_in = np.bincount(cell, within, len(faces)) / count
    share_wall = np.bincount(cell, within & (wall > 0), len(faces)) / count
    share_core = np.bincount(cell, core, len(faces)) / count
    share_core[share_wall < 0.5] = -1.0
    share_half = np.bincount(cell, half, len(faces)) / count
    larger = np.bincount(cell, _larger(middle, uv, p), len(faces)) / count
    return [
        (float(c), float(h), float(a)) if i >= 0.5 else None for c, h, a, i in zip(share_core, share_half, larger, share_in, strict=True)
    ]


def _larger(middle: Middle, uv: Floats, p: Floats) -> Floats:
    """How many times larger the middle is than its chart, at places (n, 2) and their points (n, 3): charts of freely curved tubes stretch."""
    if middle.carrier.kind != "free" or not middle.chart.period:
        return np.ones(len(uv))
    step = STEP * middle.wall
    one, other = ((middle.place(uv + step * np.eye(2)[k]) - p) / step for k in (0, 1))
    return np.asarray(np.linalg.norm(np.cross(one, other), axis=1))


def _squarely(
    shape: Shape, normal: Floats, hit: tuple[NDArray[np.int32], NDArray[np.int32]], way: tuple[Floats, Floats], wall: Floats
) -> NDArray[np.bool_]:
    """Which places of a flat wall lie midway between two faces square to it, as far from each as from its sides: where one is a side, both are."""
    up, down = way
    facing = [sign * np.einsum("ij,ij->i", shape.facet_normal[h], normal) for h, sign in zip(hit, (1, -1), strict=True)]
    return (np.minimum(*facing) > ALONG) & (np.abs(up - down) < SQUARE * wall) & (np.abs(up + down - wall) < SQUARE * wall)


def _inner_places(polygon: shapely.Polygon) -> Floats:
    """Points inside a polygon, always the same ones."""
    low_u, low_v, high_u, high_v = polygon.bounds
    k = np.arange(4 * PER_CELL)
    u = low_u + ((k * 0.6180339887498949 + 0.5) % 1) * (high_u - low_u)
    v = low_v + ((k * 0.7548776662466927 + 0.25) % 1) * (high_v - low_v)
    good = shapely.contains_xy(polygon, u, v)
    q = np.column_stack((u, v))[good][:PER_CELL]
    if len(q) < 3:
        q = np.vstack((q, shapely.get_coordinates(polygon.representative_point())))
    return q


def _labels(
    uv: Floats, side: NDArray[np.int64], pieces: list[shapely.LineString], owner: list[int], lines: list[Line], wall: float
) -> NDArray[np.int64]:
    """The line each side runs along: near both its ends and its middle; joints before bends before outlines."""
    tree = shapely.STRtree(pieces)
    a, b = uv[side[:, 0]], uv[side[:, 1]]
    middle = shapely.points((a + b) / 2)
    found, piece = tree.query(middle, predicate="dwithin", distance=4 * GRID * wall)
    near = np.array(pieces, dtype=object)[piece]
    reach = np.maximum(shapely.distance(near, shapely.points(a[found])), shapely.distance(near, shapely.points(b[found])))
    good = reach <= 8 * GRID * wall
    rank = np.array([RANK[lines[k].kind] if k >= 0 else -1 for k in owner])
    out = np.full(len(side), -1, np.int64)
    order = np.lexsort((rank[piece],))[::-1]
    for k in order.tolist():  # the best rank is written last
        if good[k]:
            out[found[k]] = owner[piece[k]]
    return out


def _exact(middle: Middle, uv: Floats, side: NDArray[np.int64], side_line: NDArray[np.int64], lines: list[Line]) -> Floats:
    """Exact points of the vertices: on the middle and on every line that meets there."""
    lot: list[set[int]] = [set() for _ in uv]
    for (i, j), k in zip(side.tolist(), side_line.tolist(), strict=True):
        if k >= 0:
            lot[i].add(k)
            lot[j].add(k)
    points = middle.place(uv)
    own = [[f for k in sorted(names) for f in lines[k].fields] for names in lot]
    open_ = np.array([v for v, fields in enumerate(own) if fields], np.int64)
    for most in (None, 1):  # where they do not meet in one place: on the first line at least
        moved, left = settle_each(points[open_], [[middle.field, *own[v][:most]] for v in open_])
        good = (left < 1e-3 * middle.wall) & (np.linalg.norm(moved - points[open_], axis=1) < 0.3 * middle.wall)
        points[open_[good]] = moved[good]
        open_ = open_[~good]
    return points
