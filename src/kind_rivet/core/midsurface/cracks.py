"""Where a wall lifts off another one at a tangent: a bend that leaves the plate it lies on, drawn as one solid.

Up to there both are one wall, as thick as both together; from there on they are two, with a crack between them that begins
without width. No face stands there as a riser does at other steps: the edge at which the two sides part takes its place.
"""

from __future__ import annotations

import numpy as np

from kind_rivet.core.geometry.carriers import Carrier, Floats, unit
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.midsurface.fields import CarrierField, settle
from kind_rivet.core.midsurface.middles import Middle
from kind_rivet.core.midsurface.stations import away_from
from kind_rivet.core.midsurface.steps import HIGHEST, PARALLEL
from kind_rivet.core.midsurface.traces import Line

AGAINST = -0.98  # cosine between the two sides at the tip of a crack
NEAR = 1.5  # walls: how near to the tip a wall ends there


def crack_steps(shape: Shape, middles: list[Middle], close: set[tuple[int, int]]) -> list[Line]:
    """Step lines over straight edges at which two sides part from one another, on both their middles and on the wall that both are before."""
    out = []
    on_side: dict[int, list[int]] = {}
    for m, middle in enumerate(middles):
        for f in middle.sides[0] | middle.sides[1]:
            on_side.setdefault(f, []).append(m)
    for e, faces in enumerate(shape.edge_faces):
        if len(faces) != 2 or faces[0] == faces[1] or shape.edges[e].carrier.kind != "line" or not all(f in on_side for f in faces):
            continue
        normal = _parting(shape, e)
        if normal is None:
            continue
        tip = shape.points[shape.edges[e].nodes[[0, -1]]]
        across = unit(np.cross(tip[1] - tip[0], normal))
        upright = CarrierField(Carrier("plane", (*tip[0].tolist(), *across.tolist())), 1.0)
        parted = [m for f in faces for m in on_side[f] if _ends_there(middles[m], tip, upright)]
        if len(set(parted)) != 2:
            continue
        a, b = parted
        near = {k for pair in close if a in pair or b in pair for k in pair} - {a, b}
        before = [
            k for k in sorted(near) if _ends_there(middles[k], tip, upright) and middles[k].wall > max(middles[a].wall, middles[b].wall)
        ]
        if before:
            on = tuple(sorted((a, b, *before)))
            images = tuple(settle(tip, [middles[k].field, upright])[0] for k in on)
            out.append(Line("step", np.mean(images, axis=0), (upright,), on, -1, images))
    return out


def _parting(shape: Shape, edge: int) -> Floats | None:
    """The normal of one side at an edge at which two sides face each other and begin to part; None at other edges."""
    a, b = shape.edge_faces[edge]
    nodes = shape.edges[edge].nodes
    k = len(nodes) // 2
    p, q = int(nodes[k - 1]), int(nodes[k])
    has = (shape.facets == p).any(axis=1) & (shape.facets == q).any(axis=1)
    here = [np.flatnonzero(has & (shape.facet_face == f)) for f in (a, b)]
    if any(len(lot) != 1 for lot in here):
        return None
    corner = shape.points[shape.facets[[lot[0] for lot in here]]]
    first, second = unit(np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]))
    tip = shape.points[[p, q]].mean(axis=0)
    into = corner[1].mean(axis=0) - tip
    return np.asarray(first) if first @ second < AGAINST and first @ into > 0 and second @ (corner[0].mean(axis=0) - tip) > 0 else None


def _ends_there(middle: Middle, tip: Floats, upright: CarrierField) -> bool:
    """Does a middle run a little above or below the tip, parallel to the sides there, and has it some of its wall near by?"""
    there, left = settle(tip, [middle.field, upright])
    steep = np.abs(np.einsum("ij,j->i", middle.normal(there), upright(tip)[1][0])).max() > np.sqrt(1 - PARALLEL**2)
    apart = np.linalg.norm(there - tip, axis=1).max()
    close_by = away_from(middle.samples, tip).min() < NEAR * middle.wall
    return bool(left.max() < 0.01 * middle.wall and not steep and apart < HIGHEST * middle.wall and close_by)
