"""All middles of a solid and all lines on them."""

from __future__ import annotations

import contextlib
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Carrier, Floats, arc_lengths, unit
from kind_rivet.core.geometry.holes import falls_away
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.midsurface.bend_lines import TANGENT, bend_lines
from kind_rivet.core.midsurface.blends import MARGIN, corner_blend, fills, radius, rounding, smooth_neighbours, under_a_corner
from kind_rivet.core.midsurface.charts import ConeChart, CylinderChart
from kind_rivet.core.midsurface.contacts import ended_at_bends, through_contacts, with_contacts, without_twins
from kind_rivet.core.midsurface.cracks import crack_steps
from kind_rivet.core.midsurface.feet import feet
from kind_rivet.core.midsurface.fields import CarrierField, Field, settle
from kind_rivet.core.midsurface.middles import Middle, chart_between, chart_over, middle_of
from kind_rivet.core.midsurface.pairs import BROKEN, SLANT, Pair
from kind_rivet.core.midsurface.prolongs import prolongs
from kind_rivet.core.midsurface.round_tips import round_tip
from kind_rivet.core.midsurface.stations import away_from
from kind_rivet.core.midsurface.steps import find_steps
from kind_rivet.core.midsurface.tangencies import tangencies
from kind_rivet.core.midsurface.traces import Line, crossing, outlines, resampled
from kind_rivet.core.midsurface.wedge_tips import wedge_tips

SAME_WALL = 0.03  # walls that differ by less are one: recesses of hairs make no steps
STUB = 0.3  # walls up to which what is left of a line beside a step is dropped
ALONG = 0.02  # walls: lines nearer to each other than this run along each other
SHORT_OF = 0.6  # of the thicker wall: how far a wall ends before the middle of another that it meets
LOST = 0.1  # walls: a chart that leads back to a point no nearer than this does not know it
STATIONS = 33  # places along a straight crossing at which to ask whether there are walls near by
LEAN = 0.9  # cosine between the sides of a wall that bends tightly and varies
TOLD = 5  # samples that tell whether a wall is equally thick all over
HALVINGS = 12  # of the stretch in which a chart ends
GRAZING = 0.995  # cosine between middles that cross, though nearly along each other, where they are not known to run on into each other
PARALLEL = 0.99  # cosine between the axes of two sides of a bend
ALIKE = (1 - SLANT**2) ** 0.5  # cosine between a face and a wall above which the face does not end on it


def find_middles(shape: Shape, pairs: list[Pair], fields: list[Field], tolerance: float) -> list[Middle]:
    """One middle per wall: pairs on the same surface with the same thickness go together, narrow ones only with others. Raises `Refused` where none can be laid flat."""
    out: list[Middle] = []
    refused: list[Refused] = []
    walls = {frozenset((pair.a, pair.b)) for pair in pairs if not pair.narrow}
    for pair in pairs:
        if under_a_corner(shape, pair.a, pair.b, walls):
            continue
        try:
            made = middle_of(shape, pair.a, pair.b, fields[pair.a], fields[pair.b], pair.wall, pair.middle, tolerance, pair.share)
        except Refused as trouble:  # it cannot be laid flat: the other walls go on, and its faces are named as not used
            refused.append(trouble)
            continue
        blends = sum(rounding(shape, f, pair.wall) for f in (pair.a, pair.b))
        # Between blends on both sides of a wall the middle is flat: the wall that ends there goes on, it does not get thicker.
        least = {"free": 1, "plane": 2}.get(made.carrier.kind, 3)
        if blends >= least and not _bent_wall(shape, pair, made):
            continue
        for other in out:
            if _alike(other, made, tolerance):
                same_way = made.normal(made.samples[:1])[0] @ other.normal(made.samples[:1])[0] > 0
                first, second = (0, 1) if same_way else (1, 0)
                other.sides[first].add(pair.a)
                other.sides[second].add(pair.b)
                other.samples = np.vstack((other.samples, made.samples))
                if other.carrier.kind in ("torus", "sphere"):  # which way they close is told by all their samples
                    other.chart = chart_over(other.carrier, other.samples) or other.chart
                elif other.carrier.kind == "free" and isinstance(other.chart, ConeChart | CylinderChart):
                    with contextlib.suppress(Refused):  # a cone that is near one length need not be near them all
                        other.chart = chart_between(other.first, other.second, other.wall, other.samples)
                break
        else:
            if not pair.narrow:
                out.append(made)
    if refused and not out:
        raise refused[0]
    return out


def _bent_wall(shape: Shape, pair: Pair, made: Middle) -> bool:
    """Are two round sides nearly concentric, so that a wall bends between them (and is no blend at a corner)?

    Of a free-form side only the wall tells: it is equally thick all over, or both sides are free-form, run on smoothly into nothing
    larger, as blends do, and lean the same way all along it; and it is not just the margin of a blend that runs along a corner.
    """
    a, b = (shape.faces[f].carrier for f in (pair.a, pair.b))
    if "free" in (a.kind, b.kind):
        even = bool(np.ptp(made.thickness(made.samples)) < 0.1 * pair.wall)
        if a.kind == b.kind == "free" and not any(_runs_on(shape, f) for f in (pair.a, pair.b)):
            even = even or _one_lean(made)
        return even and len(made.samples) >= TOLD and pair.weight > MARGIN * float(min(shape.face_area[pair.a], shape.face_area[pair.b]))
    if a.kind != b.kind or a.kind not in ("cylinder", "torus") or abs(a.array[3:6] @ b.array[3:6]) < PARALLEL:
        return False
    outer = a if fills(shape, pair.b) else b
    inner = b if outer is a else a
    return abs(outer.data[-1] - inner.data[-1] - pair.wall) < 0.35 * pair.wall


def _runs_on(shape: Shape, face: int) -> bool:
    """Does a face run on smoothly into a larger one?"""
    return any(shape.face_area[f] > shape.face_area[face] for f in smooth_neighbours(shape, face))


def _one_lean(made: Middle) -> bool:
    """Do the two sides look away from each other wherever a wall has samples, but for a tenth of them?"""
    one, other = made.first(made.samples)[1], made.second(made.samples)[1]
    return bool(np.quantile(-np.einsum("ij,ij->i", one, other), 0.1) > LEAN)


def _alike(a: Middle, b: Middle, tolerance: float) -> bool:
    if a.carrier.kind == b.carrier.kind == "free" and {id(a.first), id(a.second)} == {id(b.first), id(b.second)}:
        return True
    if abs(a.wall - b.wall) > SAME_WALL * a.wall:
        return False
    if a.carrier.kind == b.carrier.kind == "free":
        return _same_sides(a, b, tolerance)
    if a.carrier.kind == "free" or a.carrier.kind != b.carrier.kind:
        return False
    if np.abs(a.field(b.samples)[0]).max() > max(tolerance, SAME_WALL / 2 * a.wall):
        return False
    if np.abs(np.einsum("ij,ij->i", a.normal(b.samples), b.normal(b.samples))).min() < 0.9999:
        return False
    return bool(np.abs(a.thickness(b.samples) - b.thickness(b.samples)).max() < SAME_WALL * a.wall)


def _same_sides(a: Middle, b: Middle, tolerance: float) -> bool:
    """Do two walls without an exact middle lie between the same surfaces, of which one is interrupted?"""
    if not all(isinstance(field, CarrierField) for field in (a.first, a.second, b.first, b.second)):
        return False
    places = np.vstack((a.samples, b.samples))
    own, other = ([field(places)[0] for field in (m.first, m.second)] for m in (a, b))
    return any(max(np.abs(x - y).max() for x, y in zip(own, lot, strict=True)) < tolerance for lot in (other, other[::-1]))


def neighbours(shape: Shape, middles: list[Middle]) -> set[tuple[int, int]]:
    """Middles whose sides touch, directly or across one or two faces that are no sides of theirs."""
    owner: dict[int, set[int]] = {}
    for m, middle in enumerate(middles):
        for f in middle.sides[0] | middle.sides[1]:
            owner.setdefault(f, set()).add(m)
    out: set[tuple[int, int]] = set()
    for m, middle in enumerate(middles):
        ring = set(middle.sides[0] | middle.sides[1])
        for _ in range(3):
            ring |= {g for f in ring for g in shape.face_neighbours[f]}
        for f in ring:
            for k in owner.get(f, ()):
                if k > m:
                    out.add((m, k))
    return out


def draw_lines(
    shape: Shape, solid: FacetTree, middles: list[Middle], fields: list[Field], tolerance: float, meeting: set[tuple[int, int]]
) -> list[Line]:
    """Every line on every middle; each middle learns the numbers of its lines. `meeting`: pairs that meet though they are not near."""
    close = neighbours(shape, middles) | meeting
    sides = {f for m in middles for f in m.sides[0] | m.sides[1]}
    for m, middle in enumerate(middles):
        middle.near = tuple(sorted({k for pair in close if m in pair for k in pair} - {m}))
        middle.around = max([middle.wall] + [middles[k].wall for k in middle.near])
        middle.least_reach = max(middle.least_reach, _through_blends(shape, middle, sides))
    lines: list[Line] = []

    def add(line: Line) -> None:
        for m in line.middles:
            middles[m].lines.append(len(lines))
        lines.append(line)

    bends = bend_lines(shape, solid, middles, tolerance)
    bends += tangencies(shape, solid, middles, close, bends)
    for line in bends:
        add(line)
    for m, middle in enumerate(middles):
        margin = 2 * middle.reach
        rims = outlines(middle, m, shape, fields, margin, tolerance)
        for line in rims:
            add(line)
        run_on = prolongs(rims, middle, m, solid, shape, middle.reach)
        for line in run_on + feet(m, middles, rims, run_on):
            add(line)
    least = BROKEN * min((m.wall for m in middles), default=0.0)
    standing = _standing(shape, sides, least)
    for m, middle in enumerate(middles):
        rims = [lines[k] for k in middle.lines if lines[k].kind == "outline"]
        for line in risers(shape, middle, m, standing, rims, fields, tolerance):
            add(line)
    steps, replaced = find_steps(shape, middles, close, lines)
    for m, number in replaced:
        if number in middles[m].lines:
            middles[m].lines.remove(number)
    for line in steps + crack_steps(shape, middles, close):
        add(line)
    boxes = [_box(shape, middle) for middle in middles]
    joints: list[Line] = []
    for a, b in sorted(close):
        touch = _touching(bends, a, b, 0.05 * min(middles[a].wall, middles[b].wall))
        for points, zeros in _joint(shape, middles[a], middles[b], boxes[a], boxes[b], touch, tolerance):
            joints.append(with_contacts(Line("joint", points, zeros, (a, b)), bends, middles))
    joints = ended_at_bends(without_twins(joints, bends, middles), bends, middles)
    lines[: len(bends)] = [through_contacts(bend, joints, middles) for bend in bends]
    for line in joints:
        add(line)
    for m, middle in enumerate(middles):
        for line in wedge_tips(m, middle, lines):
            add(line)
        for k, pieces in _beside_joints(middle, m, lines).items():
            middle.lines.remove(k)
            for piece in pieces:
                add(replace(lines[k], points=piece))
    return lines


def _through_blends(shape: Shape, middle: Middle, sides: set[int]) -> float:
    """How far a wall must be looked for beyond its sides to come through the blends at its ends to the walls it meets there, and out of these again; `sides`: of any wall."""
    own = middle.sides[0] | middle.sides[1]
    blends = {g for f in own for g in smooth_neighbours(shape, f) - sides if corner_blend(shape, g)}
    return max((radius(shape, f) + 2 * middle.around for f in blends), default=0.0)


def _beside_joints(middle: Middle, number: int, lines: list[Line]) -> dict[int, list[Floats]]:
    """Outlines that run along a joint, as at a corner chamfered by the wall, or run on along a step, and what is left of each."""
    curved = [k for k in middle.lines if len(lines[k].points) > 2]
    joints = [lines[k].points for k in curved if lines[k].kind == "joint"]
    steps = [lines[k].on(number) for k in curved if lines[k].kind == "step"]
    left = {k: _apart(lines[k].points, joints, ALONG * middle.wall) for k in curved if lines[k].kind == "outline"}
    for k in curved:
        if steps and lines[k].kind == "prolong":
            left[k] = _up_to(_apart(lines[k].points, steps, ALONG * middle.wall), lines[k].points, steps, middle.wall)
    return {k: pieces for k, pieces in left.items() if len(pieces) != 1 or pieces[0] is not lines[k].points}


def _up_to(pieces: list[Floats], whole: Floats, steps: list[Floats], wall: float) -> list[Floats]:
    """Pieces of a curve beside steps, ending just where these do; stubs would only divide them."""
    if len(pieces) == 1 and pieces[0] is whole:
        return pieces
    ends = np.array([step[end] for step in steps for end in (0, -1)])
    out = []
    for piece in pieces:
        piece = piece.copy()
        for end in (0, -1):
            if min(away_from(piece[[end]], step)[0] for step in steps) < ALONG * wall:
                piece[end] = ends[int(np.argmin(np.linalg.norm(ends - piece[end], axis=1)))]
        if np.linalg.norm(np.diff(piece, axis=0), axis=1).sum() > STUB * wall:
            out.append(piece)
    return out


def _touching(bends: list[Line], a: int, b: int, tolerance: float) -> list[Floats]:
    """Where two middles run on smoothly into each other: the bends between them, else corners where bends of both end."""
    between = [line.points for line in bends if set(line.middles) == {a, b}]
    if between:
        return between
    ends_a, ends_b = (np.array([p for line in bends if m in line.middles for p in line.points[[0, -1]]]) for m in (a, b))
    if not len(ends_a) or not len(ends_b):
        return []
    apart = np.linalg.norm(ends_a[:, None] - ends_b[None], axis=2).min(axis=1)
    return [np.array([p, p]) for p in ends_a[apart < tolerance]]


def _standing(shape: Shape, sides: set[int], least: float) -> dict[int, set[int]]:
    """For each side the faces, no sides themselves, that stand on it: directly or over a blend.

    Along `least` at least, and not falling away from it: roundings and chamfers of edges do not stand on anything.
    """
    out: dict[int, set[int]] = {}
    for e, faces in enumerate(shape.edge_faces):
        if len(set(faces)) != 2 or (faces[0] in sides) == (faces[1] in sides) or not _hollow(shape, e):
            continue
        side, other = (faces[0], faces[1]) if faces[0] in sides else (faces[1], faces[0])
        if shape.edge_length[e] < least or falls_away(shape, side, e):
            continue
        out.setdefault(side, set()).add(other)
        if shape.faces[other].carrier.kind != "plane":
            out[side] |= {g for edge in shape.face_edges[other] for g in shape.edge_faces[edge] if g not in sides}
    return out


def risers(
    shape: Shape, middle: Middle, number: int, standing: dict[int, set[int]], rims: list[Line], fields: list[Field], tolerance: float
) -> list[Line]:
    """Where faces that are no sides stand on the wall's sides: steps in thickness, ends of ribs."""
    second = {g for f in middle.sides[0] | middle.sides[1] for g in standing.get(f, ())}
    out = []
    for f in sorted(second):
        corners = shape.points[shape.facets[shape.facet_face == f]].reshape(-1, 3)
        _, gradient = fields[f](corners)
        if np.abs(np.einsum("ij,ij->i", gradient, middle.normal(corners))).min() > ALIKE:
            continue
        uv = middle.chart.flat(corners)
        low, high = uv.min(axis=0) - 1.5 * middle.wall, uv.max(axis=0) + 1.5 * middle.wall
        if period := middle.chart.period:
            low[0], high[0] = max(low[0], -period / 2), min(high[0], period / 2)
            if np.ptp(uv[:, 0].reshape(-1, 3), axis=1).max() > period / 2:  # facets across the seam
                low[0], high[0] = -period / 2, period / 2
        if (low >= high).any():
            continue
        tip = round_tip(shape, f, middle.wall)  # as if it ended square: a half round leaves wall beside both its sides in one
        field = fields[f] if tip is None else CarrierField(tip, 1.0)
        for points in crossing(middle, field, low, high, 0.4 * middle.wall, tolerance):
            for near in _by_face(shape, f, points, 1.5 * middle.wall):
                for piece in _apart(near, [line.points for line in rims], ALONG * middle.wall):
                    out.append(Line("riser", piece, (field,), (number,), f))
    return out


def _by_face(shape: Shape, face: int, points: Floats, reach: float) -> list[Floats]:
    """Stretches of a curve within reach of a face: a blend that runs into a wall is a quarter of the round that its surface goes through it."""
    if shape.faces[face].carrier.kind == "plane" or len(points) == 2:
        return [points]
    used, own = np.unique(shape.facets[shape.facet_face == face], return_inverse=True)
    _, _, away = FacetTree.over(shape.points[used], own.reshape(-1, 3).astype(np.int32)).nearest(points)
    return [points] if away.max() < reach else _stretches(points, away < reach)


def _apart(points: Floats, known: list[Floats], tolerance: float) -> list[Floats]:
    """Stretches of a curve that do not run along known ones; a straight line is left whole."""
    low, high = points.min(axis=0) - tolerance, points.max(axis=0) + tolerance
    known = [line for line in known if (line.min(axis=0) <= high).all() and (line.max(axis=0) >= low).all()]
    if len(points) == 2 or not known:
        return [points]
    off = np.min([away_from(points, line) for line in known], axis=0) > tolerance
    return [points] if off.all() else _stretches(points, off)


def _stretches(points: Floats, wanted: NDArray[np.bool_]) -> list[Floats]:
    """Stretches of a curve whose points are wanted, each with one more at either end."""
    out, start = [], None
    for k in range(len(points) + 1):
        if k < len(points) and wanted[k]:
            start = k if start is None else start
        elif start is not None:
            lo, hi = max(start - 1, 0), min(k, len(points) - 1)
            if hi > lo:
                out.append(points[lo : hi + 1])
            start = None
    return out


def _hollow(shape: Shape, edge: int) -> bool:
    """Do the faces beside an edge face each other, or run on smoothly? (Not: round an outer corner.)"""
    nodes = shape.edges[edge].nodes
    k = (len(nodes) - 1) // 2
    i, j = int(nodes[k]), int(nodes[k + 1])
    facets = shape.segment_faces[(i, j) if i < j else (j, i)]
    if len(facets) != 2:
        return False
    f, g = facets
    row = shape.facets[f].tolist()
    if row[(row.index(i) + 1) % 3] != j:
        i, j = j, i
    a, b = (shape.normals[x][shape.facets[x].tolist().index(i)] for x in (f, g))
    along = unit(shape.points[j] - shape.points[i])
    return bool(np.cross(a, b) @ along < 0.05)


def _box(shape: Shape, middle: Middle) -> Floats:
    """Box in space round the middle's sides, with its reach."""
    corners = _corners(shape, middle)
    return np.array([corners.min(axis=0) - middle.reach, corners.max(axis=0) + middle.reach])


def _corners(shape: Shape, middle: Middle) -> Floats:
    """Corners (n, 3) of the facets on both sides of a middle."""
    faces = list(middle.sides[0] | middle.sides[1])
    return np.asarray(shape.points[np.unique(shape.facets[np.isin(shape.facet_face, faces)])])


def _joint(
    shape: Shape, a: Middle, b: Middle, box_a: Floats, box_b: Floats, touch: list[Floats], tolerance: float
) -> list[tuple[Floats, tuple[Field, ...]]]:
    """Curves along which two middles cross, where both have walls near by, and the fields that are zero there.

    Quite near, but not beside where they `touch`, for smooth ones.
    """
    low, high = np.maximum(box_a[0], box_b[0]), np.minimum(box_a[1], box_b[1])
    if (low > high).any():
        return []
    thick = max(a.wall, b.wall)
    if touch:  # round surfaces that run on into each other cross again elsewhere, where one of them is no wall
        inner = [(box[0] + m.reach - SHORT_OF * thick, box[1] - m.reach + SHORT_OF * thick) for box, m in ((box_a, a), (box_b, b))]
        close = np.maximum(inner[0][0], inner[1][0]), np.minimum(inner[0][1], inner[1][1])
    else:
        close = low, high
    aslant = TANGENT if touch else GRAZING
    if a.carrier.kind == "plane" and b.carrier.kind == "plane":
        line = _line_of_planes(a, b, low, high, aslant)
        return [(line, (a.field, b.field))] if line is not None else []
    on = a if _simplicity(a) <= _simplicity(b) else b
    other = b if on is a else a
    corners = np.array([low, high])
    grid = np.stack(np.meshgrid(*corners.T, indexing="ij"), axis=-1).reshape(-1, 3)
    flat = on.chart.flat(grid)
    mine = on.chart.flat(on.samples if on.carrier.kind != "free" else np.vstack((on.samples, _corners(shape, on))))
    lo, hi = np.maximum(flat.min(axis=0), mine.min(axis=0) - on.reach), np.minimum(flat.max(axis=0), mine.max(axis=0) + on.reach)
    if on.carrier.kind != "plane":
        lo, hi = mine.min(axis=0) - on.reach, mine.max(axis=0) + on.reach
    if on.chart.period:
        lo[0], hi[0] = max(lo[0], -on.chart.period / 2), min(hi[0], on.chart.period / 2)
    if (hi <= lo).any():
        return []
    ways: list[tuple[Field, tuple[Field, ...]]] = [(mitre, (mitre,)) for mitre in _mitres(a, b, tolerance)]
    out = []
    for field, zeros in ways or [(other.field, (a.field, b.field))]:
        within = (low, high) if on.carrier.kind == "free" else None
        for points in crossing(on, field, lo, hi, 0.4 * min(a.wall, b.wall), tolerance, within):
            angle = np.abs(np.einsum("ij,ij->i", a.normal(points), b.normal(points)))
            along = np.linspace(points[0], points[-1], STATIONS) if len(points) == 2 else points
            near = ((along >= close[0]) & (along <= close[1])).all(axis=1)
            for line in touch:  # beside it they part so slowly that they may cross again by a hair
                near &= away_from(along, line) > thick
            if np.median(angle) < aslant and near.any():
                pieces = _found_pieces(a, b, points, tolerance)
                if ways:  # two cylinders cross in two planes, but bends meet in one only
                    there = _round_at(a, points) & _round_at(b, points)
                    pieces = [points] if there.all() else _runs(points, there)
                out += [(piece, zeros) for piece in pieces]
    return out


def _found_pieces(a: Middle, b: Middle, points: Floats, tolerance: float) -> list[Floats]:
    """The stretches of a crossing that the charts of both middles know; its points may lie far apart, where it is straight."""
    if (_found_again(a, points) & _found_again(b, points)).all():
        return [points]
    at = arc_lengths(points)
    places = np.unique(np.concatenate((at, np.linspace(0.0, at[-1], STATIONS))))

    def located(where: Floats) -> tuple[Floats, NDArray[np.bool_]]:
        there, _ = settle(np.stack([np.interp(where, at, x) for x in points.T], axis=1), [a.field, b.field])
        return there, _found_again(a, there) & _found_again(b, there)

    known = located(places)[1]
    ends = np.flatnonzero(known[1:] != known[:-1])
    low, high = places[ends], places[ends + 1]
    first = known[ends]
    for _ in range(HALVINGS):  # just where the charts end
        half = (low + high) / 2
        same = located(half)[1] == first
        low, high = np.where(same, half, low), np.where(same, high, half)
    order = np.argsort(where := np.concatenate((places, np.where(first, low, high))))
    dense, there = located(where[order])
    return [resampled(run, [a.field, b.field], tolerance, min(a.wall, b.wall)) for run in _runs(dense, there)]


def _found_again(middle: Middle, points: Floats) -> NDArray[np.bool_]:
    """Does the chart of a freely curved middle lead back to points (n, 3) on it? Far beyond its wall, where it has turned away, it does not."""
    if middle.carrier.kind != "free":
        return np.ones(len(points), bool)
    away = np.linalg.norm(middle.place(middle.chart.flat(points)) - points, axis=1)
    return np.asarray(away < LOST * middle.wall)


def _runs(points: Floats, there: NDArray[np.bool_]) -> list[Floats]:
    """Stretches of a curve of which all points are `there`."""
    ends = np.flatnonzero(np.diff(np.concatenate(([False], there, [False])).astype(int)))
    return [points[a:b] for a, b in ends.reshape(-1, 2) if b - a > 1]


def _round_at(middle: Middle, points: Floats) -> NDArray[np.bool_]:
    """Is there wall at the angles round its axis at which points (n, 3) lie, or less than half a wall from there?"""
    own, there = middle.chart.flat(middle.samples)[:, 0], middle.chart.flat(points)[:, 0]
    return np.asarray((there > own.min() - middle.wall / 2) & (there < own.max() + middle.wall / 2))


def _mitres(a: Middle, b: Middle, tolerance: float) -> list[Field]:
    """The two planes in which cylinders of one radius cross whose axes meet; the curves touch, so tracing the cylinders would lose its way."""
    if a.carrier.kind != "cylinder" or b.carrier.kind != "cylinder" or abs(a.carrier.data[6] - b.carrier.data[6]) > tolerance:
        return []
    one, other = a.carrier.array, b.carrier.array
    across = np.cross(one[3:6], other[3:6])
    if np.linalg.norm(across) < np.sqrt(1 - TANGENT**2) or abs((other[:3] - one[:3]) @ unit(across)) > tolerance:
        return []
    rows = np.column_stack((one[3:6], -other[3:6]))
    along = np.linalg.lstsq(rows, other[:3] - one[:3], rcond=None)[0]
    meet = one[:3] + along[0] * one[3:6]
    return [CarrierField(Carrier("plane", (*meet, *unit(one[3:6] + sign * other[3:6]))), 1.0) for sign in (1, -1)]


def _simplicity(m: Middle) -> int:
    return ("plane", "cylinder", "cone", "sphere", "torus", "free").index(m.carrier.kind)


def _line_of_planes(a: Middle, b: Middle, low: Floats, high: Floats, aslant: float) -> Floats | None:
    na, nb = a.carrier.array[3:6], b.carrier.array[3:6]
    d = np.cross(na, nb)
    if np.linalg.norm(d) < np.sqrt(1 - aslant**2):
        return None
    d = unit(d)
    start, left = settle(((low + high) / 2)[None], [a.field, b.field])
    p = start[0]
    with np.errstate(divide="ignore", invalid="ignore"):
        t0, t1 = (low - p) / d, (high - p) / d
    flat = np.abs(d) < 1e-12
    if (flat & ((p < low) | (p > high))).any():
        return None
    near, far = np.where(flat, -np.inf, np.minimum(t0, t1)).max(), np.where(flat, np.inf, np.maximum(t0, t1)).min()
    if near >= far or left[0] > 1e-6 * a.wall:
        return None
    return np.array([p + near * d, p + far * d])
