"""What holds each node: the face or curve it may slide on, as flat arrays for compiled code."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.onto import CIRCLE, CODES, LINE
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.mesh.mesh import ON_EDGE, ON_FACE, Mesh
from kind_rivet.core.meshing.curves import Curve


@dataclass(frozen=True)
class Holds:
    """movable (n,): may slide on its face or along its edge; code (n,), data (n, 8): the carrier; free carriers need `trees`."""

    movable: NDArray[np.bool_]
    code: NDArray[np.int8]
    data: Floats
    trees: Mapping[int, FacetTree]
    curves: Mapping[int, Curve] = field(default_factory=dict)  # node → its free-form curve, for nodes held by the circle that fits it there

    def back_on_curves(self, points: Floats) -> None:
        """Put nodes that slid along a curve's fitting circle exactly onto the curve, in place."""
        for v, curve in self.curves.items():
            place = curve.nearest_station(points[v])
            if 0.0 < place < curve.length:
                points[v] = curve.at(np.array([place]))[0]

    def back_on_facets(self, points: Floats, nodes: NDArray[np.int64], on_body: NDArray[np.int32]) -> None:
        """Put nodes of free-form faces (by index) back onto the facets of their bodies, in place; `on_body` (n,): that of every node."""
        for body, tree in self.trees.items():
            mine = nodes[on_body[nodes] == body]
            if len(mine):
                facet, weight, _ = tree.nearest(points[mine])
                points[mine] = np.einsum("ij,ijk->ik", weight, tree.points[tree.facets[facet]])


def holds_of(
    mesh: Mesh, sheets: Mapping[int, Shape], still: NDArray[np.bool_] | None = None, trees: dict[int, FacetTree] | None = None
) -> Holds:
    """Holds of all nodes; nodes on round holes, at vertices, of rings, without a face and those that are `still` (n,) stay put.

    `trees`: those of free-form bodies made so far; new ones are added.
    """
    movable = (mesh.on_kind == ON_FACE) & np.isin(mesh.on_body, list(sheets))
    along = (mesh.on_kind == ON_EDGE) & np.isin(mesh.on_body, list(sheets))
    if still is not None:
        movable[still] = along[still] = False
    rings = mesh.conn[(mesh.ring >= 0) & mesh.is_shell]
    movable[rings[rings >= 0]] = along[rings[rings >= 0]] = False
    code, data = np.zeros(mesh.nodes, np.int8), np.zeros((mesh.nodes, 8))
    trees = {} if trees is None else trees
    curves: dict[int, Curve] = {}
    for body, shape in sheets.items():
        for f, face in enumerate(shape.faces):
            mine = movable & (mesh.on_body == body) & (mesh.on_item == f)
            if not mine.any():
                continue
            code[mine] = CODES[face.carrier.kind]
            data[mine, : len(face.carrier.data)] = face.carrier.data
            raised = mesh.height[mine]  # off the face, so that the elements' centres lie on it
            if face.carrier.kind == "cylinder":
                data[mine, 6] += raised
            elif face.carrier.kind == "sphere":
                data[mine, 3] += raised
            elif face.carrier.kind == "cone":
                data[mine, :3] -= (raised / np.sin(face.carrier.data[6]))[:, None] * face.carrier.array[3:6]
            if face.carrier.kind == "free" and body not in trees:
                trees[body] = FacetTree.over(shape.points, shape.facets)
        _along_edges(mesh, shape, np.flatnonzero(along & (mesh.on_body == body)), movable, code, data, curves)
    return Holds(movable, code, data, trees, curves)


def _along_edges(
    mesh: Mesh,
    shape: Shape,
    nodes: NDArray[np.int64],
    movable: NDArray[np.bool_],
    code: NDArray[np.int8],
    data: Floats,
    curves: dict[int, Curve],
) -> None:
    """Fill the holds of edge nodes: lines, round arcs at the node's own radius and height, else the circle that fits the curve there."""
    for e in np.unique(mesh.on_item[nodes]).tolist():
        edge = shape.edges[e]
        mine = nodes[mesh.on_item[nodes] == e]
        d = edge.carrier.array
        if edge.carrier.kind == "line":
            code[mine], data[mine, :3], data[mine, 3:6] = LINE, mesh.points[mine], d[3:6]
            movable[mine] = True
        elif edge.carrier.kind == "circle" and not edge.closed:
            up = (mesh.points[mine] - d[:3]) @ d[3:6]
            centre = d[:3] + up[:, None] * d[3:6]
            code[mine], data[mine, :3], data[mine, 3:6] = CIRCLE, centre, d[3:6]
            data[mine, 6] = np.linalg.norm(mesh.points[mine] - centre, axis=1)
            movable[mine] = True
        elif edge.carrier.kind != "circle":
            curve = Curve.through(shape.points[edge.nodes], edge.carrier)
            reach = 0.4 * curve.length / (len(mine) + 1)
            for v in mine.tolist():
                place = curve.nearest_station(mesh.points[v])
                if (
                    not reach < place < curve.length - reach
                    or np.linalg.norm(curve.at(np.array([place]))[0] - mesh.points[v]) > 0.05 * reach
                ):
                    continue  # not on the curve: the row of a wall that was looked past
                a, b, c = curve.at(np.array([place - reach, place, place + reach]))
                code[v], data[v] = fitting(a, b, c)
                curves[v], movable[v] = curve, True


def fitting(a: Floats, b: Floats, c: Floats) -> tuple[int, Floats]:
    """The hold (code, data (8,)) along the circle through three points, or along the line where they lie straight."""
    data = np.zeros(8)
    u, v = a - b, c - b
    normal = np.cross(u, v)
    square = float(normal @ normal)
    if square < 1e-10 * float(u @ u) * float(v @ v):
        data[:3], data[3:6] = b, (c - a) / max(float(np.linalg.norm(c - a)), 1e-300)
        return LINE, data
    centre = b + np.cross(float(u @ u) * v - float(v @ v) * u, normal) / (2 * square)
    data[:3], data[3:6], data[6] = centre, normal / np.sqrt(square), np.linalg.norm(b - centre)
    return CIRCLE, data
