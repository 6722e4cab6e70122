"""The grain of a curved region: the direction its rows should take, since quads askew to a tight bend are warped."""

from __future__ import annotations

import itertools
from dataclasses import replace
from functools import partial

import numpy as np

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.onto import CODES
from kind_rivet.core.kernels import side_by_side
from kind_rivet.core.meshing.choice import tried
from kind_rivet.core.meshing.free.fill import CannotFill, FlatMesh, fill, flat_worst
from kind_rivet.core.meshing.free.flow import Grain
from kind_rivet.core.meshing.free.loops import area_of
from kind_rivet.core.meshing.patch import Patch
from kind_rivet.core.quality.easing import eased
from kind_rivet.core.quality.index import judge_shells
from kind_rivet.core.quality.limits import DEFAULT

GENTLE, TIGHT = 0.3, 0.6  # radians that one element turns: below the first a bend has no say, from the second on its full say
COMMON = 0.85  # how far the directions of bending agree all over a region, from which on it has a grain
ONE_WAY = 0.35  # bending along the grain, in shares of that across it, up to which rows along it stay flat
OTHERS = ((1.0, 0.4), (1.0, 2.0), (0.85, 1.0))  # shares of size and reach with which regions that bend are filled too
MOST_OTHERS, MOST_LATTICE = 6000, 1500  # elements up to which these are tried, and rows laid down before the region is filled
CLEAR = (0.55, 0.75)  # sizes that those rows keep off the border
FRONTS = 2  # how many each of those gets at most
WELL = 0.9  # of `_lack`: a filling that is taken at once
TRIA = 0.4  # of a failing element that a tria weighs
REACH = 0.5  # sizes from a border at which a tight bend steers as much as the border does


def grain_of(patch: Patch, size: float) -> Grain | None:
    """The grain of a region that bends tightly, for this size, about one direction in the plane; None where it has none."""
    p, q, n = patch.space[patch.facets], patch.flat[patch.facets], patch.corner_normals
    # Shape operator of each facet in the plane, least squares over its three sides: second form = Jᵀ · dN · dx.
    side, flat_side, bend = (np.roll(x, -1, axis=1) - x for x in (p, q, n))
    u, v = flat_side[..., 0], flat_side[..., 1]
    second = -np.einsum("fkj,fkj->fk", bend, side)
    system = np.stack((u * u, 2 * u * v, v * v), axis=-1)  # three sides, three unknowns
    area = np.abs(u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]) / 2
    sound = area > 1e-6 * area.max(initial=0.0)
    if not sound.any():
        return None
    form = np.linalg.solve(system[sound], second[sound][..., None])[..., 0]
    a, b, c = form.T
    mean, half, twist = (a + c) / 2, (a - c) / 2, b
    away = np.hypot(half, twist)
    strongest, other = np.abs(mean) + away, np.abs(np.abs(mean) - away)
    weight = area[sound] * strongest
    total = float(weight.sum())
    typical = total / float(area[sound].sum())
    if typical * size < GENTLE or float((area[sound] * other).sum()) > ONE_WAY * total:
        return None
    sign = np.where(mean < 0, -weight, weight)  # the direction that bends most, whichever way it bends
    x, y = (float((sign * part / np.maximum(away, 1e-300)).sum()) / total for part in (half, twist))
    if np.hypot(x, y) < COMMON:
        return None
    say = min((typical * size - GENTLE) / (TIGHT - GENTLE), 1.0)
    return Grain(float(np.arctan2(y, x)) / 2, REACH * size / float(np.sqrt(max(say, 1e-3))), typical)


def with_grain(
    patch: Patch, made: list[FlatMesh | None], loops: list[Floats], hard: Floats, spots: Floats, grain: Grain, size: float, growth: float
) -> FlatMesh:
    """Of several fillings of a region with a grain the one with fewest failing elements where it lies in space.

    The best of `made`, which know nothing of the grain, is taken as it is where nothing fails. Else more are made that follow it, and each is
    eased on the bend before it is judged, since quads that can be turned straight do no harm.
    """
    border, elements = sum(len(loop) for loop in loops) + len(hard), sum(area_of(loop) for loop in loops) / size**2
    sound = [mesh for mesh in made if mesh is not None and mesh.worst > 0]
    if sound:
        lacks = [_lack(patch, mesh, size) for mesh in sound]
        if min(lacks) < WELL:
            return sound[int(np.argmin(lacks))]
    ways = [partial(fill, loops, size, growth, hard, spots, grain=grain)]
    if elements < MOST_OTHERS:
        ways += [partial(fill, loops, size * s, growth, hard, spots, FRONTS, replace(grain, reach=grain.reach * r)) for s, r in OTHERS]
    if elements < MOST_LATTICE:
        ways += [
            partial(fill, loops, size, growth, np.vstack((hard, points)), spots, FRONTS, grain) for points in lattices(loops, grain, size)
        ]
    likely = [mesh for mesh in [*sound, *side_by_side(tried, ways)] if mesh is not None and mesh.worst > 0]
    eased = side_by_side(lambda mesh: _eased(mesh, grain, border, size), likely)
    if not eased:
        raise CannotFill("nothing that fills the region is sound", loops[0].mean(axis=0))
    return min(eased, key=lambda mesh: _lack(patch, mesh, size))


def lattices(loops: list[Floats], grain: Grain, size: float) -> list[Floats]:
    """Points (n, 2) in rows along and across a grain that keep clear of the border, in several ways: a region with these inside needs filling only beside it."""
    import shapely

    axes = np.array([(np.cos(grain.angle), np.sin(grain.angle)), (-np.sin(grain.angle), np.cos(grain.angle))])
    region = shapely.Polygon(loops[0], [loop for loop in loops[1:] if len(loop) > 2])
    if not region.is_valid:
        return []
    shapely.prepare(region)
    feet = [shapely.linestrings(loop) for loop in loops[1:] if len(loop) == 2]  # walls one side long that stand on the region
    border = shapely.union_all([region.boundary, *feet])
    along = np.concatenate(loops) @ axes.T
    middle, half = (along.min(axis=0) + along.max(axis=0)) / 2, np.ptp(along, axis=0) / size / 2 + 1
    out: list[Floats] = []
    for x, y, clear in itertools.product((0.0, 0.5), (0.0, 0.5), CLEAR):
        grid = np.stack(np.meshgrid(*(np.arange(-int(h), int(h) + 1) + o for h, o in zip(half, (x, y), strict=True))), axis=-1).reshape(
            -1, 2
        )
        places = (middle + size * grid) @ axes
        dots = shapely.points(places)
        kept = places[shapely.contains(region, dots) & (shapely.distance(border, dots) > clear * size)]
        if len(kept) > 1 and not any(np.array_equal(kept, other) for other in out):
            out.append(kept)
    return out


def _eased(mesh: FlatMesh, grain: Grain, border: int, size: float) -> FlatMesh:
    """The filling with its inner nodes moved for the best index on the cylinder that it is wrapped round; the first `border` nodes stay."""
    if len(mesh.points) == border:
        return mesh
    radius, (ex, ey) = 1 / grain.bend, (np.cos(grain.angle), np.sin(grain.angle))
    x, y = mesh.points @ (ex, ey), mesh.points @ (-ey, ex)
    middle = (x.min() + x.max()) / 2
    turn = (x - middle) / radius
    wrapped = np.column_stack((radius * np.sin(turn), y, radius * np.cos(turn)))
    data = np.tile((0.0, 0.0, 0.0, 0.0, 1.0, 0.0, radius, 0.0), (len(wrapped), 1))
    done = eased(
        wrapped, mesh.elements, np.arange(border, len(wrapped)), np.full(len(wrapped), CODES["cylinder"], np.int8), data, DEFAULT, size
    )
    shift = np.arctan2(done[:, 0], done[:, 2])
    x = middle + radius * (turn + (shift - turn + np.pi) % (2 * np.pi) - np.pi)
    points = np.column_stack((x * ex - done[:, 1] * ey, x * ey + done[:, 1] * ex))
    points[:border] = mesh.points[:border]
    return FlatMesh(points, mesh.elements, flat_worst(points, mesh.elements))


def _lack(patch: Patch, mesh: FlatMesh, size: float) -> float:
    """How many elements of a filling fail once they lie on their faces, its trias, and what all lack on average."""
    index = judge_shells(patch.to_space(mesh.points)[0], mesh.elements, DEFAULT, size).index
    return float((index < 0).sum() + TRIA * mesh.trias + (1.0 - index).mean())
