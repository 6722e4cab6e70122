"""Copies of elements: moved, mirrored, turned, scaled."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, unit
from kind_rivet.core.mesh.kinds import BEAM, HEX, MASS, PYRAMID, QUAD, TET, TRIA, WEDGE
from kind_rivet.core.mesh.mesh import FREE_NODE, Mesh

MIRRORED = {MASS: [0], BEAM: [0, 1], TRIA: [0, 2, 1], QUAD: [0, 3, 2, 1], TET: [0, 2, 1, 3], PYRAMID: [0, 3, 2, 1, 4], WEDGE: [0, 2, 1, 3, 5, 4], HEX: [0, 3, 2, 1, 4, 7, 6, 5]}  # fmt: skip


def only(mesh: Mesh, chosen: NDArray[np.int64]) -> Mesh:
    """The chosen elements and the nodes they use, held by no geometry."""
    keep = np.zeros(mesh.elements, bool)
    keep[chosen] = True
    stay = np.zeros(mesh.nodes, bool)
    conn = mesh.conn[keep]
    stay[conn[conn >= 0]] = True
    part = mesh._taken(stay, keep)
    n, m = part.nodes, part.elements
    none = np.full(m, -1, np.int32)
    return replace(
        part, on_kind=np.full(n, FREE_NODE, np.uint8), on_item=np.full(n, -1, np.int32), on_body=np.full(n, -1, np.int32), height=np.zeros(n),
        body=none, face=none.copy(), ring=none.copy(),
    )  # fmt: skip


def transformed(mesh: Mesh, turn: Floats, shift: Floats) -> Mesh:
    """The mesh with points turn @ p + shift; where that mirrors, elements are turned over so that they stay upright."""
    points = mesh.points @ turn.T + shift
    conn = mesh.conn.copy()
    thick = abs(float(np.linalg.det(turn))) ** (1 / 3)
    if np.linalg.det(turn) < 0:
        for kind, order in MIRRORED.items():
            mine = mesh.kind == kind
            conn[mine, : len(order)] = mesh.conn[mine][:, order]
    return replace(mesh, points=points, conn=conn, thickness=mesh.thickness * thick, offset=mesh.offset * thick)


def mirror(origin: Floats, normal: Floats) -> tuple[Floats, Floats]:
    """(turn, shift) of a reflection in a plane."""
    n = unit(normal)
    turn = np.eye(3) - 2 * np.outer(n, n)
    return turn, origin - turn @ origin


def rotation(origin: Floats, axis: Floats, angle: float) -> tuple[Floats, Floats]:
    """(turn, shift) of a rotation by `angle` (rad) about an axis (Rodrigues)."""
    k = unit(axis)
    cross = np.array([[0, -k[2], k[1]], [k[2], 0, -k[0]], [-k[1], k[0], 0]])
    turn = np.eye(3) + np.sin(angle) * cross + (1 - np.cos(angle)) * cross @ cross
    return turn, origin - turn @ origin
