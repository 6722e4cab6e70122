"""Round walls whose border is lifted off them, as at a step in thickness: their facets come back to the wall close by.

Facets of a cylinder run from end to end of it: one end lifted would make a cone of it.
"""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np

from kind_rivet.core.geometry.carriers import FREE, Floats, project
from kind_rivet.core.geometry.refine import Segment, cut_sides, sides_of
from kind_rivet.core.geometry.shape import Shape

LIFTED = 1e-3  # walls off its carrier from which a node is lifted
BACK = 1.0  # walls from a lifted node at which facets are back on the carrier
LONG = 2.5  # walls from which a side is long
ENDS = 2  # of a side, one cut in turn after the other


def back_on_walls(shape: Shape, thickness: Floats) -> Shape:
    """The sheet with new nodes on its round walls beside lifted ones, on all long sides; `thickness` (f,) of each face."""
    between = _between(shape)
    for _ in range(ENDS):
        at: dict[Segment, Floats] = {}
        for f, face in enumerate(shape.faces):
            if face.carrier.kind not in ("plane", "free"):
                at |= _beside_lifted(shape, f, float(thickness[f]), between)
        if not at:
            break
        shape, new = cut_sides(shape, at)
        nodes = list(new.values())
        edges = [replace(e, carrier=FREE) if e.carrier.kind == "line" and np.isin(e.nodes, nodes).any() else e for e in shape.edges]
        shape = replace(shape, edges=tuple(edges))
    return shape


def _beside_lifted(shape: Shape, face: int, wall: float, between: set[Segment]) -> dict[Segment, Floats]:
    """Places (3,) on the wall for long sides of its facets one end of which at least is lifted."""
    carrier = shape.faces[face].carrier
    sides = sides_of(shape, np.flatnonzero(shape.facet_face == face))
    ends = shape.points[sides]
    lifted = np.linalg.norm(project(carrier, ends.reshape(-1, 3)).reshape(-1, 2, 3) - ends, axis=2) > LIFTED * wall
    length = np.linalg.norm(ends[:, 1] - ends[:, 0], axis=1)
    chosen = [k for k in np.flatnonzero(lifted.any(axis=1) & (length > LONG * wall)).tolist() if tuple(sides[k].tolist()) not in between]
    if not chosen:
        return {}
    share = BACK * wall / length[chosen]
    share = np.where(lifted[chosen, 0], share, 1 - share)[:, None]
    places = project(carrier, ends[chosen, 0] + share * (ends[chosen, 1] - ends[chosen, 0]))
    return {(int(a), int(b)): place for (a, b), place in zip(sides[chosen].tolist(), places, strict=True)}


def _between(shape: Shape) -> set[Segment]:
    """Sides along edges between different faces: where these meet is settled."""
    out: set[Segment] = set()
    for edge, beside in zip(shape.edges, shape.edge_faces, strict=True):
        if len(set(beside)) > 1:
            out |= {(min(a, b), max(a, b)) for a, b in itertools.pairwise(edge.nodes.tolist())}
    return out
