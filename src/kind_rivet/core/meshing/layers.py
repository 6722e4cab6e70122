"""Solid layers grown from shells, along one direction or along their normals."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.mesh.kinds import HEX, WEDGE
from kind_rivet.core.mesh.mesh import Mesh


def node_directions(mesh: Mesh, elements: NDArray[np.int64]) -> tuple[NDArray[np.int64], Floats]:
    """Nodes of the shells and for each the direction that lifts all shells round it by one: (nodes (k,), (k, 3)).

    Least-norm solution of d · n_i = 1 over the normals round the node, so that sharp
    corners are mitred; where that fails the mean normal.
    """
    rows = mesh.conn[elements, :4]
    normal = _normals(mesh, rows)
    nodes, local = np.unique(np.where(rows >= 0, rows, rows[:, :1]), return_inverse=True)
    local = local.reshape(rows.shape)
    gathered: list[list[Floats]] = [[] for _ in nodes]
    for row, n in zip(local, normal, strict=True):
        for v in set(row.tolist()):
            gathered[v].append(n)
    out = np.empty((len(nodes), 3))
    for v, around in enumerate(gathered):
        stack = np.array(around)
        d = np.linalg.pinv(stack, rcond=0.1) @ np.ones(len(stack))
        length = float(np.linalg.norm(d))
        mean = stack.mean(axis=0)
        out[v] = d if 0 < length < 3.0 else mean / max(float(np.linalg.norm(mean)), 1e-300)
    return nodes.astype(np.int64), out


def _normals(mesh: Mesh, rows: NDArray[np.int32]) -> Floats:
    p, tria = mesh.points, rows[:, 3] < 0
    a = np.where(tria[:, None], p[rows[:, 1]] - p[rows[:, 0]], p[rows[:, 2]] - p[rows[:, 0]])
    b = np.where(tria[:, None], p[rows[:, 2]] - p[rows[:, 0]], p[rows[:, 3]] - p[rows[:, 1]])
    n = np.cross(a, b)
    return np.asarray(n / np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-300))


def grow_layers(mesh: Mesh, elements: NDArray[np.int64], layers: int, height: float, part: int, direction: Floats | None = None) -> Mesh:
    """The mesh with `layers` of hexahedra and wedges of total `height` on the chosen shells.

    `direction` (3,) extrudes along one line, None along the normals; a negative height
    grows to the other side. Raises `Refused` when an element would turn inside out.
    """
    elements = elements[mesh.is_shell[elements]]
    if not len(elements):
        raise Refused("No shell is chosen.", "Choose the shells that the layers grow from.")
    nodes, lift = node_directions(mesh, elements)
    if direction is not None:
        d = np.asarray(direction, float)
        if np.linalg.norm(d) == 0:
            raise Refused("The direction has no length.", "Give a direction such as 0, 0, 1.")
        lift = np.broadcast_to(d / np.linalg.norm(d), lift.shape)
    steps = np.arange(1, layers + 1)[:, None, None] * (height / layers) * lift[None]
    new = (mesh.points[nodes][None] + steps).reshape(-1, 3)
    first = mesh.nodes
    grown = mesh.with_nodes(new)
    where = np.full(mesh.nodes, -1, np.int64)
    where[nodes] = np.arange(len(nodes))
    rows = mesh.conn[elements, :4]

    def level(k: int, corners: NDArray[np.int32]) -> NDArray[np.int64]:
        return corners.astype(np.int64) if k == 0 else first + (k - 1) * len(nodes) + where[corners]

    for width, kind in ((4, HEX), (3, WEDGE)):
        base = rows[(rows[:, 3] >= 0) == (width == 4)][:, :width]
        if not len(base):
            continue
        for k in range(layers):
            low, high = level(k, base), level(k + 1, base)
            conn = np.concatenate((low, high), axis=1) if height > 0 else np.concatenate((high, low), axis=1)
            grown = grown.with_elements(kind, conn.astype(np.int32), part)
    if least_solid_jacobian(grown, np.arange(mesh.elements, grown.elements)) <= 0:
        raise Refused("The layers would turn inside out.", "Take another direction, flip it, or make the layers thinner.")
    return grown


def least_solid_jacobian(mesh: Mesh, elements: NDArray[np.int64]) -> float:
    """Least scaled corner Jacobian of hexahedra and wedges."""
    trees = {HEX: ((0, 1, 3, 4), (1, 2, 0, 5), (2, 3, 1, 6), (3, 0, 2, 7), (4, 7, 5, 0), (5, 4, 6, 1), (6, 5, 7, 2), (7, 6, 4, 3)),
             WEDGE: ((0, 1, 2, 3), (1, 2, 0, 4), (2, 0, 1, 5), (3, 5, 4, 0), (4, 3, 5, 1), (5, 4, 3, 2))}  # fmt: skip
    worst = 1.0
    for kind, corners in trees.items():
        rows = mesh.conn[elements[mesh.kind[elements] == kind]]
        if not len(rows):
            continue
        for o, a, b, c in corners:
            u, v, w = (mesh.points[rows[:, k]] - mesh.points[rows[:, o]] for k in (a, b, c))
            size = np.linalg.norm(u, axis=1) * np.linalg.norm(v, axis=1) * np.linalg.norm(w, axis=1)
            det = np.einsum("ij,ij->i", u, np.cross(v, w)) / np.maximum(size, 1e-300)
            worst = min(worst, float(det.min()))
    return worst
