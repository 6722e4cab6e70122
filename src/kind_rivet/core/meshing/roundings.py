"""Rounded corners of free borders have a node in their middle, where rows from both sides meet as in a sharp corner.

One side across a short rounding would be the shortest far around, and its two blunt corners
where the border has one part the rows that meet there: such a rounding is a node itself, which
lies as near to the border as a chord does. Three sides of a longer one leave a blunt shell amid it.
"""

from __future__ import annotations

from collections.abc import Collection

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, unit
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.meshing.rules import ShellRules

SHORT = 1.8  # of the length that is looked past anyway
BESIDE, LONGER = 0.6, 1.5  # sizes, and lengths of its own, that the edges are long at least that it joins
MOST_IN_TWO = 2.8  # sizes: longest rounding of two divisions
SMOOTH = np.cos(np.radians(8.0))  # how nearly edges that go on in one direction do so, as read from facets


def short_roundings(shape: Shape, curves: list[Curve], rules: ShellRules, holes: Collection[int]) -> list[int]:
    """Free edges, none of them of `holes`, that are shorter than a good side and run on at both ends into longer free edges of the same wall."""
    out = []
    for e, edge in enumerate(shape.edges):
        if edge.closed or e in holes or len(shape.edge_faces[e]) != 1 or curves[e].length > SHORT * rules.look_past * rules.size:
            continue
        ends = int(edge.nodes[0]), int(edge.nodes[-1])
        if all(_leads_on(shape, curves, rules.size, e, v) for v in ends):
            out.append(e)
    return out


def in_twos(shape: Shape, curves: list[Curve], count: NDArray[np.int64], held: NDArray[np.bool_], size: float) -> None:
    """Two or four divisions, instead of three, for free edges that round off a corner of one wall and are not `held` (e,)."""
    for e in np.flatnonzero((count == 3) & ~held).tolist():
        edge = shape.edges[e]
        if edge.closed or len(shape.edge_faces[e]) != 1 or edge.carrier.kind != "circle" or not 1.0 < curves[e].turning() < 2.1:
            continue
        if all(_leads_on(shape, curves, size, e, int(edge.nodes[k])) for k in (0, -1)):
            count[e] = 2 if curves[e].length < MOST_IN_TWO * size else 4


def _leads_on(shape: Shape, curves: list[Curve], size: float, edge: int, vertex: int) -> bool:
    """Does a free edge go on at a vertex into another one that is long enough?"""
    other = goes_on(shape, edge, vertex)
    return other is not None and curves[other].length >= max(BESIDE * size, LONGER * curves[edge].length)


def goes_on(shape: Shape, edge: int, vertex: int) -> int | None:
    """The one other edge at a vertex, if both are free edges of one wall and have one direction there."""
    beside = [e for e in shape.vertices[vertex] if e != edge]
    if len(beside) != 1 or len(shape.edge_faces[edge]) != 1 or shape.edge_faces[beside[0]] != shape.edge_faces[edge]:
        return None
    return beside[0] if _leaving(shape, edge, vertex) @ _leaving(shape, beside[0], vertex) < -SMOOTH else None


def _leaving(shape: Shape, edge: int, vertex: int) -> Floats:
    """Direction (3,) of an edge as it leaves a vertex."""
    chain = shape.edges[edge].nodes
    carrier = shape.edges[edge].carrier
    line = chain if int(chain[0]) == vertex else chain[::-1]
    along = unit(shape.points[line[1]] - shape.points[line[0]])
    if carrier.kind != "circle":
        return np.asarray(along)
    d = carrier.array
    tangent = unit(np.cross(d[3:6], shape.points[line[0]] - d[:3]))
    return np.asarray(tangent * np.sign(tangent @ along))
