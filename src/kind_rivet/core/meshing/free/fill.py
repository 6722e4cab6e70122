"""Fill a flat region with quads and few trias; the border nodes stay as they are."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.kernels import kernel, side_by_side
from kind_rivet.core.meshing.free import cleanup, front, mend, recombine, regular, smooth, triangulation
from kind_rivet.core.meshing.free.flow import Field, Flow, Grain, field_of
from kind_rivet.core.meshing.free.given import Given, given_in
from kind_rivet.core.meshing.free.loops import area_of
from kind_rivet.core.meshing.free.shapes2d import least_scaled_jacobian

Ints = NDArray[np.int32]
TRIES = (
    (0.68, 1.0),
    (0.74, 1.0),
    (0.62, 1.0),
    (0.68, 0.93),
    (0.55, 1.0),
    (0.8, 1.0),
    (0.62, 0.93),
    (0.74, 0.93),
)  # how near points may come, size factor
MOST_MENDING = 300  # tries to fill poor places of one region again
MOST_REGULAR = 300  # patches of one region that are filled anew to have fewer irregular nodes
WORTH_THREADS = 500  # elements from which two fronts advance side by side
GOOD_ENOUGH = 0.06  # of `_cost`: nothing poor and no tria that could be spared
TRIA = 0.8  # what a tria costs
SHARP = 45.0  # degrees
SOUND = 0.8  # scaled Jacobian of elements that need not be lifted
LIFTED = 0.1  # of scaled Jacobian above the worst: elements that are lifted with it
LIFT = 24.0  # weight of a scaled Jacobian where the worst are lifted
LIFTS = 20  # rounds
CAREFUL = 4e6  # border sides × points up to which the front looks at the field for every candidate


class CannotFill(Exception):
    """The border crosses or touches itself; `at` is the place in the plane."""

    def __init__(self, reason: str, at: Floats) -> None:
        super().__init__(reason)
        self.at = at


@dataclass(frozen=True)
class FlatMesh:
    """points (n, 2), border nodes first in the order of the loops; elements (m, 4), trias with −1 last.

    was : (n,) the earlier node that a node is, where it stayed far from all that was filled again, else −1
    """

    points: Floats
    elements: Ints
    worst: float
    was: NDArray[np.int64] | None = None

    @property
    def trias(self) -> int:
        return int((self.elements[:, 3] < 0).sum())


def fill(
    loops: list[Floats],
    size: float,
    growth: float = 0.25,
    hard: Floats | None = None,
    spots: Floats | None = None,
    most: int = len(TRIES),
    grain: Grain | None = None,
) -> FlatMesh:
    """Quad-dominant mesh inside `loops` (first counter-clockwise outer, others clockwise; (k, 2) each).

    `size` is the wanted side length away from the borders, `growth` the increase per
    length, `hard` (h, 2) points that become nodes, `spots` (s, 4) x, y, radius, size,
    `grain` a direction that rows take. Small regions get several tries (at `most` so many) and keep the best. Raises `CannotFill`.
    """
    hard = np.empty((0, 2)) if hard is None else hard
    spots = np.empty((0, 4)) if spots is None else spots
    elements = sum(area_of(loop) for loop in loops) / size**2 + _sides(loops)
    sharp = _sharp_corners(loops)
    held = _sides(loops) + len(hard)
    given = given_in(loops, held, size, growth, spots)
    field = field_of(loops, grain)
    flow = Flow(field, size, growth, spots)
    best: FlatMesh | None = None
    least = np.inf
    tries = TRIES[: min(_tries(elements), most)]
    at_once = 2 if elements > WORTH_THREADS else 1  # fixed, so that results do not depend on the machine
    for k in range(0, len(tries), at_once):
        for mesh in side_by_side(lambda t: _fill_once(loops, size * t[1], growth, hard, spots, t[0], field), tries[k : k + at_once]):
            if not len(mesh.elements):
                continue
            now = _cost(mesh, size, sharp, given)
            if grain is not None:
                now += float(flow.unease(mesh.points, mesh.elements).sum())
            if now < least:
                best, least = mesh, now
        if least <= GOOD_ENOUGH + TRIA * (_sides(loops) % 2):
            break
    if best is None:
        raise CannotFill("nothing is left between the borders of the region at this size", loops[0].mean(axis=0))
    best = _mended(best, loops, size, growth, hard, spots, sharp, given, field)
    points, rows = regular.made_regular(best.points, best.elements, held, flow, min(40 + len(best.elements) // 8, MOST_REGULAR))
    return FlatMesh(points, rows, flat_worst(points, rows))


def lifted(mesh: FlatMesh, held: int) -> FlatMesh:
    """The mesh with its worst elements made as sound as their surroundings allow; the first `held` points stay.

    Only shapes count, not sizes: for outlines that no face gives. Walls of sheets are optimised by the index instead, once they lie in space.
    """
    if mesh.worst >= SOUND:
        return mesh
    points, rows = mesh.points.copy(), np.ascontiguousarray(mesh.elements)
    inc, deg = cleanup.link(rows, len(points))
    smooth.lift_worst(points, rows, inc, deg, np.arange(len(points)) >= held, SOUND, LIFTED, LIFT, LIFTS)
    worst = flat_worst(points, rows)
    return FlatMesh(points, rows, worst, mesh.was) if worst > mesh.worst else mesh


def _mended(
    mesh: FlatMesh,
    loops: list[Floats],
    size: float,
    growth: float,
    hard: Floats,
    spots: Floats,
    sharp: NDArray[np.int64],
    given: Given | None,
    whole: Field,
) -> FlatMesh:
    """The mesh with its poor places filled again."""
    needed = _sides(loops) % 2
    if mesh.trias == needed and _cost(mesh, size, sharp, given) <= GOOD_ENOUGH + TRIA * needed:
        return mesh

    def again(outline: list[Floats], held: Floats, keep_off: float, factor: float) -> tuple[Floats, Ints]:
        sides = np.concatenate(outline)
        near = np.linalg.norm(whole.mid[None] - sides.mean(axis=0), axis=2)[0] < 3 * np.ptp(sides, axis=0).max() + 6 * size
        field = whole.near(near) if near.any() else whole
        try:
            made = _fill_once(outline, size * factor, growth, held, spots, keep_off, field)
        except CannotFill as problem:
            raise ValueError(str(problem)) from problem
        return made.points, made.elements

    budget = min(60 + len(mesh.elements) // 15, MOST_MENDING)
    fixed = _sides(loops) + len(hard)
    points, elements = mend.mend(mesh.points, mesh.elements, fixed, len(hard), size, again, budget, sharp, given)
    return FlatMesh(points, elements, flat_worst(points, elements))


def _sides(loops: list[Floats]) -> int:
    """Border sides; where they are odd in number, one tria is needed."""
    return sum(len(loop) for loop in loops)


def _tries(elements: float) -> int:
    """How many fronts a region of so many elements gets before the best is taken."""
    return 8 if elements < 1500 else 4 if elements < 3000 else 2 if elements < 15000 else 1


def _sharp_corners(loops: list[Floats]) -> NDArray[np.int64]:
    """Border nodes whose corner inside the region is sharper than SHARP: no element there can be better than the corner."""
    out, first = [], 0
    for loop in loops:
        before, after = np.roll(loop, 1, axis=0) - loop, np.roll(loop, -1, axis=0) - loop
        cross = after[:, 0] * before[:, 1] - after[:, 1] * before[:, 0]
        angle = np.arctan2(cross, np.einsum("ij,ij->i", before, after)) % (2 * np.pi)
        out.append(first + np.flatnonzero(angle < np.radians(SHARP)))
        first += len(loop)
    return np.concatenate(out)


def faults_of(mesh: FlatMesh, loops: list[Floats], size: float) -> float:
    """How many elements of a filling are poor or trias, weighed by how poor they are."""
    return _cost(mesh, size, _sharp_corners(loops), given_in(loops, _sides(loops), size))


def _cost(mesh: FlatMesh, size: float, sharp: NDArray[np.int64], given: Given | None) -> float:
    """What is wrong with a filling: its poor elements, its trias, and a worst element that is only just sound."""
    score = mend.score_of(mesh.points, mesh.elements, size, given)
    score[np.isin(mesh.elements, sharp).any(axis=1) & (score > 0.1)] = 1.0
    poor = score[score < mend.POOR]
    return float(len(poor) + 5 * (mend.POOR - poor).sum() + TRIA * mesh.trias + max(0.0, 0.72 - float(score.min())))


def _fill_once(loops: list[Floats], size: float, growth: float, hard: Floats, spots: Floats, keep_off: float, steer: Field) -> FlatMesh:
    """One front, steered by a field."""
    border_xy = np.concatenate(loops)
    n_border = len(border_xy)
    given = np.concatenate((border_xy, hard))
    shift, scale = given.min(axis=0), float(np.ptp(given, axis=0).max()) or 1.0
    given = (given - shift) / scale
    n = len(given)
    prev, following = _neighbours(loops)
    side = given[following] - given[:n_border]
    length = np.linalg.norm(side, axis=1)
    angle = np.arctan2(side[:, 1], side[:, 0])
    h = size / scale
    if not np.median(length) > 0:
        raise CannotFill("the border of the region has shrunk to a point", given[0] * scale + shift)
    area = sum(area_of((loop - shift) / scale) for loop in loops)
    if not area > 0:
        raise CannotFill("nothing is left between the borders of the region", given[0] * scale + shift)
    capacity = int(n + 64 + 3.0 * area / min(h, float(np.median(length))) ** 2 + 12 * n)
    if len(spots):
        spots = np.column_stack(((spots[:, :2] - shift) / scale, spots[:, 2:] / scale))
        capacity += int(sum(min(area, np.pi * (s[2] + 2 * h) ** 2) / s[3] ** 2 * 3 for s in spots))
    pts = np.empty((capacity + 8, 2))
    pts[:n] = given
    top_tri = 2 * capacity + 64
    tri, nbr = np.empty((top_tri, 3), np.int32), np.empty((top_tri, 3), np.int32)
    con, last, inside = np.zeros((top_tri, 3), np.bool_), np.zeros(capacity + 8, np.int32), np.zeros(top_tri, np.bool_)
    segments = np.column_stack((np.arange(n_border), following)).astype(np.int32)
    top, used = triangulation.triangulate(pts, n, segments, tri, nbr, con, last, inside)
    if used < 0:
        which = (-used - 1000000) if used <= -1000000 else -1 - used
        at = given[min(which, n - 1)] * scale + shift
        raise CannotFill("the border of the region crosses or touches itself", at)
    before = angle[prev]
    seed_angle = np.arctan2(np.sin(4 * angle) + np.sin(4 * before), np.cos(4 * angle) + np.cos(4 * before)) / 4
    # At a sharp corner the two sides disagree: take the bisecting frame only where both sides vote alike.
    seed_size = np.minimum((length + length[prev]) / 2, 1.3 * h)
    mid, reach, calm = (steer.mid - shift) / scale, steer.length / scale, steer.calm / scale
    cos4, sin4 = np.cos(4 * steer.angle), np.sin(4 * steer.angle)
    seeds = np.arange(n, dtype=np.int64)
    if len(hard):
        more = np.array([front.cross_and_size(x, y, mid, reach, cos4, sin4, calm, h, growth, spots) for x, y in given[n_border:]])
        seed_angle, seed_size = np.concatenate((seed_angle, more[:, 0])), np.concatenate((seed_size, more[:, 1]))
    top, used = front.advance(
        pts,
        top,
        used,
        tri,
        nbr,
        con,
        last,
        inside,
        seeds,
        seed_angle,
        seed_size,
        mid,
        reach,
        cos4,
        sin4,
        calm,
        h,
        growth,
        spots,
        keep_off,
        capacity,
        n_border * area / h**2 < CAREFUL,
    )
    el = recombine.join_triangles(pts, used, tri, nbr, con, inside)
    fixed = np.zeros(top, np.bool_)
    fixed[: n + 4] = True  # borders, hard points, the corners of the enclosing square
    xy = pts[:top].copy()
    improve(xy, el, fixed, prev, following, n_border)
    el = el[el[:, 0] >= 0]
    used_nodes = np.zeros(top, np.bool_)
    used_nodes[el[el >= 0]] = True
    used_nodes[:n] = True
    number = np.cumsum(used_nodes) - 1
    out = np.where(el >= 0, number[np.maximum(el, 0)], -1).astype(np.int32)
    final = xy[used_nodes]
    worst = flat_worst(final, out)
    result = final * scale + shift
    result[:n_border] = border_xy
    return FlatMesh(result, out, worst)


def improve(xy: Floats, el: Ints, fixed: NDArray[np.bool_], prev: NDArray[np.int64], following: NDArray[np.int64], n_border: int) -> None:
    """Clean up and smooth in place; dead elements get −1 in the first place."""
    inc, deg = cleanup.link(el, len(xy))
    border = np.arange(n_border)
    ideal = cleanup.ideal_counts(xy, prev, following, border, n_border, len(xy))
    free = ~fixed
    order = np.arange(len(xy))
    awake = np.ones(len(xy), bool)
    smooth.smooth_awake(xy, el, inc, deg, free, order, 3, 2, awake)
    for round_ in range(8):
        joined = inc.copy()
        changes = cleanup.merge_trias(xy, el, inc, deg, fixed, ideal)
        changes += cleanup.walk_trias(xy, el, inc, deg, fixed, ideal, 12 if round_ < 2 else 40, 0.25 if round_ < 3 else 0.08)
        changes += cleanup.drop_doublets(xy, el, inc, deg, fixed)
        changes += cleanup.collapse_quads(xy, el, inc, deg, fixed, ideal)
        changes += cleanup.turn_sides(xy, el, inc, deg, fixed, ideal)
        awake |= (inc != joined).any(axis=1)
        smooth.smooth_awake(xy, el, inc, deg, free, order, 4, 1, awake)
        if not changes and round_ >= 3:
            break
    smooth.smooth(xy, el, inc, deg, free, order, 12, 0)


@kernel
def _worst(points, elements):  # type: ignore[no-untyped-def]
    worst = 1.0
    for e in range(len(elements)):
        worst = min(worst, least_scaled_jacobian(points, elements, e))
    return worst


def flat_worst(points: Floats, elements: Ints) -> float:
    """Least scaled Jacobian of all elements of a flat mesh."""
    return float(_worst(points, elements))


def _neighbours(loops: list[Floats]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Index of the border node before and after each border node."""
    prev, following, start = [], [], 0
    for loop in loops:
        k = np.arange(len(loop))
        prev.append(start + (k - 1) % len(loop))
        following.append(start + (k + 1) % len(loop))
        start += len(loop)
    return np.concatenate(prev), np.concatenate(following)
