"""Corners of two walls that are rounded inside and outside about different axes: a bend of the mean radius leads round them.

Where the outside is rounded widely, the corner in which the middles of the walls meet lies outside
the solid. The cylinder, or round a cup the torus, that touches both middles with the mean of both
radii passes half-way between the roundings in the middle of the corner; where they have one axis it
is the wall's middle.
"""

from __future__ import annotations

import numpy as np

from kind_rivet.core.geometry.carriers import Carrier, Floats, project, unit
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.sampling import spread_samples
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.midsurface.blends import corner_blend, fills, smooth_neighbours
from kind_rivet.core.midsurface.fields import CarrierField, Field
from kind_rivet.core.midsurface.middles import Middle, chart_over
from kind_rivet.core.midsurface.sheet import Varying

BARE = 0.6  # share of the way from the corner outside to that of the middles, from which a rounding leaves this one too little cover
UNLIKE = 2.0  # times as thick as the other a wall may be
MOST = 2.0  # times as thick as usual: what is more is another wall
RAYS = 1600  # from each such face
ALONG = 1e-6  # sine of the angle between the roundings' axes, and between these and the walls

Wall = tuple[Middle, int]  # and the number of its side outside


def round_corners(shape: Shape, middles: list[Middle], fields: list[Field]) -> list[Middle]:
    """The bends that lead round such corners between flat walls, or a flat and a round one; both roundings are sides of none of `middles`."""
    owner = {f: (m, side) for m in middles if m.carrier.kind in ("plane", "cylinder") for side in (0, 1) for f in m.sides[side]}
    used = {f for m in middles for f in m.sides[0] | m.sides[1]}
    rounds = [f for f, face in enumerate(shape.faces) if face.carrier.kind in ("cylinder", "torus") and f not in used]
    inner: dict[int, set[int]] = {}  # corner blends by the sides they lead between
    for f in rounds:
        if corner_blend(shape, f):
            for side in smooth_neighbours(shape, f) & set(owner):
                inner.setdefault(side, set()).add(f)
    out = []
    for f in rounds if inner else []:
        beside = sorted(smooth_neighbours(shape, f) & set(owner))
        if len(beside) != 2 or fills(shape, f):
            continue
        walls = [owner[g] for g in beside]
        opposite = [set().union(*(inner.get(g, set()) for g in m.sides[1 - side])) for m, side in walls]
        if found := _bend(shape, f, opposite[0] & opposite[1], walls, fields):
            out.append(found)
    return out


def _bend(shape: Shape, outer: int, inner: set[int], walls: list[Wall], fields: list[Field]) -> Middle | None:
    """The bend between an outer rounding and the blends inside, between two walls."""
    about = shape.faces[outer].carrier
    a, b = (m.wall for m, _ in walls)
    inner = {f for f in inner if _on_axis(shape.faces[f].carrier, about)}
    radii = {round(shape.faces[f].carrier.data[-1] / a, 6) for f in inner}
    if walls[0][0] is walls[1][0] or len(radii) != 1 or max(a, b) > UNLIKE * min(a, b):
        return None
    outside = float(about.data[-1])
    radius = (outside + a * radii.pop()) / 2
    made = (_cylinder if about.kind == "cylinder" else _torus)(about, walls, radius)
    if made is None:
        return None
    carrier, half = made
    if outside * (1 - half) < BARE * (a + b) / 4:
        return None
    corners = shape.points[np.unique(shape.facets[np.isin(shape.facet_face, sorted(inner))])]
    samples = np.asarray(project(carrier, corners))
    chart = chart_over(carrier, samples)
    if chart is None:
        return None
    first, exact = fields[min(inner)], CarrierField(carrier, 1.0)
    if np.einsum("ij,ij->", exact(samples)[1], first(samples)[1]) < 0:
        exact = CarrierField(carrier, -1.0)
    return Middle(carrier, chart, exact, first, fields[outer], (inner, {outer}), (a + b) / 2, samples, corner=True)


def _on_axis(one: Carrier, other: Carrier) -> bool:
    """Are two round faces of one kind parallel, and tori about one axis?"""
    if one.kind != other.kind or np.linalg.norm(np.cross(one.array[3:6], other.array[3:6])) > ALONG:
        return False
    away, axis = one.array[:3] - other.array[:3], other.array[3:6]
    return one.kind == "cylinder" or bool(np.linalg.norm(away - (away @ axis) * axis) < ALONG * one.data[6])


def _inward(wall: Wall, at: Floats) -> Floats:
    """Normals (n, 3) of a wall at places (n, 3), away from its side outside."""
    middle, outside = wall
    return np.asarray(middle.normal(at) * (1 if outside == 1 else -1))


def _cylinder(about: Carrier, walls: list[Wall], radius: float) -> tuple[Carrier, float] | None:
    """The cylinder of a radius that touches the middles of two flat walls, and the sine of half the angle between these."""
    if any(m.carrier.kind != "plane" for m, _ in walls):
        return None
    axis = about.array[3:6]
    inward = [_inward(wall, wall[0].samples[:1])[0] for wall in walls]
    if max(abs(float(n @ axis)) for n in inward) > ALONG:
        return None
    half = float(np.cos(np.arccos(np.clip(inward[0] @ inward[1], -1.0, 1.0)) / 2))
    levels = [radius + float(n @ m.carrier.array[:3]) for n, (m, _) in zip(inward, walls, strict=True)]
    centre = np.linalg.solve(np.array([*inward, axis]), np.array([*levels, float(about.array[:3] @ axis)]))
    return Carrier("cylinder", (*centre, *axis, radius)), half


def _torus(about: Carrier, walls: list[Wall], radius: float) -> tuple[Carrier, float] | None:
    """The torus of a radius of tube that touches the middles of a flat wall and of a round one that stands on it, about the same axis; 1/√2."""
    flat, upright = sorted(walls, key=lambda wall: wall[0].carrier.kind, reverse=True)
    axis, foot, around = about.array[3:6], flat[0].carrier.array, upright[0].carrier.array
    if (flat[0].carrier.kind, upright[0].carrier.kind) != ("plane", "cylinder"):
        return None
    away = around[:3] - about.array[:3]
    if (
        max(
            np.linalg.norm(np.cross(foot[3:6], axis)),
            np.linalg.norm(np.cross(around[3:6], axis)),
            np.linalg.norm(away - (away @ axis) * axis) / around[6],
        )
        > ALONG
    ):
        return None
    up = float(_inward(flat, flat[0].samples[:1])[0] @ axis)
    at = upright[0].samples[:1]
    out = at - around[:3] - ((at - around[:3]) @ axis)[:, None] * axis
    widens = float(np.sign(_inward(upright, at)[0] @ unit(out)[0]))  # the inside of the corner lies outside the round wall
    centre = about.array[:3] + (float((foot[:3] - about.array[:3]) @ axis) + up * radius) * axis
    major = float(around[6]) + widens * radius
    return (Carrier("torus", (*centre, *axis, major, radius)), 0.5**0.5) if major > radius else None


def wall_round(middle: Middle, sheet: Shape, face: int, tree: FacetTree) -> Varying | None:
    """What a face of the sheet that leads round such a corner measures all over it, by rays both ways: its roundings tell that only where both are opposite. None of another."""
    if not middle.corner:
        return None
    places, normal, *_ = spread_samples(sheet, np.where(np.arange(len(sheet.faces)) == face, RAYS, 0))
    wall = tree.cast(places, normal)[0] + tree.cast(places, -normal)[0]
    usual = float(np.median(wall[np.isfinite(wall)])) if np.isfinite(wall).any() else np.inf
    told = wall < MOST * usual  # where it stands on another wall a ray may run along that
    return Varying(places[told], wall[told]) if told.any() else None
