"""What holds each node: the face or curve it may slide on, as flat arrays for compiled code."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.kernels import kernel
from kind_rivet.core.mesh.mesh import ON_EDGE, ON_FACE, Mesh

CODES = {"free": 0, "plane": 1, "cylinder": 2, "cone": 3, "sphere": 4, "torus": 5}
LINE, CIRCLE = 6, 7  # a line through d[0:3] along d[3:6]; a circle about d[0:3] with axis d[3:6] and radius d[6]


@kernel
def onto(code, d, x, y, z):  # type: ignore[no-untyped-def]
    """Nearest point on an analytic carrier (see `geometry.carriers.project`) or on a LINE or CIRCLE."""
    px, py, pz = x - d[0], y - d[1], z - d[2]
    if code == 1:
        h = px * d[3] + py * d[4] + pz * d[5]
        return x - h * d[3], y - h * d[4], z - h * d[5]
    if code == 4:
        r = d[3] / max(np.sqrt(px * px + py * py + pz * pz), 1e-300)
        return d[0] + px * r, d[1] + py * r, d[2] + pz * r
    h = px * d[3] + py * d[4] + pz * d[5]
    if code == 6:
        return d[0] + h * d[3], d[1] + h * d[4], d[2] + h * d[5]
    rx, ry, rz = px - h * d[3], py - h * d[4], pz - h * d[5]
    length = max(np.sqrt(rx * rx + ry * ry + rz * rz), 1e-300)
    rx, ry, rz = rx / length, ry / length, rz / length
    if code == 7:
        return d[0] + d[6] * rx, d[1] + d[6] * ry, d[2] + d[6] * rz
    if code == 2:
        return d[0] + h * d[3] + d[6] * rx, d[1] + h * d[4] + d[6] * ry, d[2] + h * d[5] + d[6] * rz
    if code == 3:
        c, s = np.cos(d[6]), np.sin(d[6])
        gx, gy, gz = c * d[3] + s * rx, c * d[4] + s * ry, c * d[5] + s * rz
        k = max(px * gx + py * gy + pz * gz, 0.0)
        return d[0] + k * gx, d[1] + k * gy, d[2] + k * gz
    if code == 5:
        qx, qy, qz = px - d[6] * rx, py - d[6] * ry, pz - d[6] * rz
        k = d[7] / max(np.sqrt(qx * qx + qy * qy + qz * qz), 1e-300)
        return d[0] + d[6] * rx + qx * k, d[1] + d[6] * ry + qy * k, d[2] + d[6] * rz + qz * k
    return x, y, z


@dataclass(frozen=True)
class Holds:
    """movable (n,): may slide on its face or along its edge; code (n,), data (n, 8): the carrier; free carriers need `trees`."""

    movable: NDArray[np.bool_]
    code: NDArray[np.int8]
    data: Floats
    trees: Mapping[int, FacetTree]


def holds_of(mesh: Mesh, sheets: Mapping[int, Shape]) -> Holds:
    """Holds of all nodes; nodes on free-form curves and round holes, at vertices, of rings and without a face stay put."""
    movable = (mesh.on_kind == ON_FACE) & np.isin(mesh.on_body, list(sheets))
    along = (mesh.on_kind == ON_EDGE) & np.isin(mesh.on_body, list(sheets))
    rings = mesh.conn[(mesh.ring >= 0) & mesh.is_shell]
    movable[rings[rings >= 0]] = along[rings[rings >= 0]] = False
    code, data = np.zeros(mesh.nodes, np.int8), np.zeros((mesh.nodes, 8))
    trees: dict[int, FacetTree] = {}
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
        _along_edges(mesh, shape, np.flatnonzero(along & (mesh.on_body == body)), movable, code, data)
    return Holds(movable, code, data, trees)


def _along_edges(mesh: Mesh, shape: Shape, nodes: NDArray[np.int64], movable: NDArray[np.bool_], code: NDArray[np.int8], data: Floats) -> None:
    """Fill the holds of edge nodes: along lines, and round arcs at the radius and height where the node is now."""
    for v in nodes.tolist():
        edge = shape.edges[int(mesh.on_item[v])]
        d = edge.carrier.array
        if edge.carrier.kind == "line":
            code[v], data[v, :3], data[v, 3:6] = LINE, mesh.points[v], d[3:6]
        elif edge.carrier.kind == "circle" and not edge.closed:
            up = (mesh.points[v] - d[:3]) @ d[3:6]
            centre = d[:3] + up * d[3:6]
            code[v], data[v, :3], data[v, 3:6], data[v, 6] = CIRCLE, centre, d[3:6], np.linalg.norm(mesh.points[v] - centre)
        else:
            continue
        movable[v] = True
