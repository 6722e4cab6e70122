"""Corners of two flat walls that are rounded inside and outside about different axes: a bend of the mean radius leads round them.

Where the outside is rounded widely, the corner in which the middles of the walls meet lies outside
the solid. The cylinder that touches both middles, with the mean of both radii, passes half-way
between the roundings in the middle of the corner; where they have one axis it is the wall's middle.
"""

from __future__ import annotations

import numpy as np

from kind_rivet.core.geometry.carriers import Carrier, Floats, project
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.midsurface.blends import corner_blend, hollow, smooth_neighbours
from kind_rivet.core.midsurface.fields import CarrierField, Field
from kind_rivet.core.midsurface.middles import Middle, chart_over

BARE = 0.8  # share of the way from the corner outside to that of the middles, from which a rounding leaves this one too little cover
SAME = 0.03  # share by which the walls may differ
ALONG = 1e-6  # sine of the angle between the roundings' axes, and between these and the walls


def round_corners(shape: Shape, middles: list[Middle], fields: list[Field]) -> list[Middle]:
    """The bends that lead round such corners between flat walls among `middles`; both roundings are sides of none of these."""
    flat = {f: (m, side) for m in middles if m.carrier.kind == "plane" for side in (0, 1) for f in m.sides[side]}
    used = {f for m in middles for f in m.sides[0] | m.sides[1]}
    inner: dict[int, set[int]] = {}  # corner blends by the sides they lead between
    for f in sorted(set(range(len(shape.faces))) - used):
        if shape.faces[f].carrier.kind == "cylinder" and corner_blend(shape, f):
            for side in smooth_neighbours(shape, f) & set(flat):
                inner.setdefault(side, set()).add(f)
    out = []
    for f in sorted(set(range(len(shape.faces))) - used) if inner else []:
        if shape.faces[f].carrier.kind != "cylinder" or hollow(shape, f):
            continue
        beside = sorted(smooth_neighbours(shape, f) & set(flat))
        if len(beside) != 2:
            continue
        walls = [flat[g] for g in beside]
        opposite = [set().union(*(inner.get(g, set()) for g in m.sides[1 - side])) for m, side in walls]
        if found := _bend(shape, f, opposite[0] & opposite[1], walls, fields):
            out.append(found)
    return out


def _bend(shape: Shape, outer: int, inner: set[int], walls: list[tuple[Middle, int]], fields: list[Field]) -> Middle | None:
    """The bend between an outer rounding and the blends inside, between two walls with the number of their outer side each."""
    a, b = (m for m, _ in walls)
    round_outside = shape.faces[outer].carrier.array
    axis = round_outside[3:6]
    inner = {f for f in inner if np.linalg.norm(np.cross(shape.faces[f].carrier.array[3:6], axis)) < ALONG}
    radii = {round(shape.faces[f].carrier.data[6] / a.wall, 6) for f in inner}
    if a is b or len(radii) != 1 or abs(a.wall - b.wall) > SAME * a.wall:
        return None
    inward = [
        np.asarray(m.carrier.array[3:6]) * np.sign(m.normal(m.samples[:1])[0] @ m.carrier.array[3:6]) * (1 if side == 1 else -1)
        for m, side in walls
    ]
    if max(abs(float(n @ axis)) for n in inward) > ALONG:
        return None
    half = np.cos(np.arccos(np.clip(inward[0] @ inward[1], -1.0, 1.0)) / 2)  # sine of half the angle between the walls
    if round_outside[6] * (1 - half) < BARE * a.wall / 2:
        return None
    radius = (float(round_outside[6]) + a.wall * radii.pop()) / 2
    levels = [radius + float(n @ m.carrier.array[:3]) for n, (m, _) in zip(inward, walls, strict=True)]
    centre = np.linalg.solve(np.array([*inward, axis]), np.array([*levels, float(round_outside[:3] @ axis)]))
    carrier = Carrier("cylinder", (*centre, *axis, radius))
    samples = _on(shape, sorted(inner), carrier)
    chart = chart_over(carrier, samples)
    first = fields[min(inner)]
    if chart is None:
        return None
    exact = CarrierField(carrier, 1.0)
    towards = float(np.einsum("ij,ij->", exact(samples)[1], first(samples)[1]))
    return Middle(
        carrier, chart, exact if towards > 0 else CarrierField(carrier, -1.0), first, fields[outer], (inner, {outer}), a.wall, samples
    )


def _on(shape: Shape, faces: list[int], carrier: Carrier) -> Floats:
    """Corners of the facets of faces, moved onto a carrier."""
    corners = shape.points[np.unique(shape.facets[np.isin(shape.facet_face, faces)])]
    return np.asarray(project(carrier, corners))
