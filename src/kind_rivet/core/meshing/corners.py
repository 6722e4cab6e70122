"""Corners between bends: walls curved both ways follow the bends that were balanced round them.

Where bends end at a drawn corner, their ends slide along the flats together with their
tangent lines. The arcs between bend and corner follow their end points along the bend's axis,
the other borders of the corner their ends, and its inner nodes the border (harmonically).
Round the axis of a torus displacements turn with it, so that its rows stay plane.
"""

from __future__ import annotations

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Carrier, Floats, arc_lengths, unit
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.sheet_mesh import EDGE, FACE, SheetMesh
from kind_rivet.core.quality.shell_metrics import SCALED_JACOBIAN, WARP, shell_metrics

CORNERS = ("torus", "sphere", "free")


def follow_bends(shape: Shape, mesh: SheetMesh, points: Floats, axes: dict[int, Floats], most_warp: float) -> Floats:
    """Points (n, 3) with corners moved after their bends; `axes`: direction (3,) of every face that was balanced as a bend.

    A corner whose elements would become poor stays as it was.
    """
    for face in range(len(shape.faces)):
        if shape.faces[face].carrier.kind not in CORNERS:
            continue
        beside = {e: next((f for f in shape.edge_faces[e] if f != face), face) for e in shape.face_edges[face]}
        if not any(other in axes for other in beside.values()):
            continue
        trial = points.copy()
        ways = _ways(shape.faces[face].carrier, mesh.points)
        for e, other in beside.items():
            _follow_ends(mesh, trial, mesh.edge_nodes[e], axes.get(other), ways)
        inner = np.flatnonzero((mesh.on_kind == FACE) & (mesh.on_item == face))
        _follow_border(mesh, trial, mesh.elements[mesh.face == face], inner, ways)
        moved = np.flatnonzero(np.linalg.norm(trial - points, axis=1) > 0)
        rows = mesh.elements[np.isin(mesh.elements, moved).any(axis=1)]
        if not len(rows):
            continue
        before, after = shell_metrics(points, rows), shell_metrics(trial, rows)
        if after[:, SCALED_JACOBIAN].min() >= min(0.6, 0.95 * before[:, SCALED_JACOBIAN].min()) and after[:, WARP].max() <= max(
            most_warp, before[:, WARP].max()
        ):
            points = trial
    return points


def _ways(carrier: Carrier, points: Floats) -> Floats:
    """The directions (n, 3, 3) in which displacements are told: outward, round and along the axis of a torus; else as they are."""
    if carrier.kind != "torus":
        return np.broadcast_to(np.eye(3), (len(points), 3, 3))
    axis = carrier.array[3:6]
    away = points - carrier.array[:3]
    out = unit(away - (away @ axis)[:, None] * axis)
    return np.stack((out, np.cross(axis, out), np.broadcast_to(axis, out.shape)), axis=1)


def _follow_ends(mesh: SheetMesh, points: Floats, line: NDArray[np.int32], axis: Floats | None, ways: Floats) -> None:
    """Inner nodes of an edge get the displacement of its ends, shared out by length: along the axis of a bend beside, else all of it.

    `ways` (n, 3, 3): the directions in which it is told at each node.
    """
    if len(line) < 3 or not (mesh.on_kind[line[1:-1]] == EDGE).all():
        return
    place = mesh.points[line]
    share = arc_lengths(place)
    share = (share / max(share[-1], 1e-300))[1:-1, None]
    first, last = ways[line[0]] @ (points[line[0]] - place[0]), ways[line[-1]] @ (points[line[-1]] - place[-1])
    wanted = np.einsum("ikj,ik->ij", ways[line[1:-1]], (1 - share) * first + share * last)
    have = points[line[1:-1]] - place[1:-1]
    if axis is None:
        points[line[1:-1]] = place[1:-1] + np.where(np.linalg.norm(have, axis=1, keepdims=True) > 0, have, wanted)
    else:
        points[line[1:-1]] += ((wanted - have) @ axis)[:, None] * axis


def _follow_border(mesh: SheetMesh, points: Floats, rows: NDArray[np.int32], inner: NDArray[np.int64], ways: Floats) -> None:
    """Displacements of inner nodes, as told along `ways` (n, 3, 3), as the mean of those round them."""
    if not len(inner):
        return
    number = np.full(len(points), -1)
    number[inner] = np.arange(len(inner))
    n = np.where(rows[:, 3] < 0, 3, 4)
    pairs = [(np.arange(len(rows)), k) for k in range(4)]
    a = np.concatenate([rows[lot, k][k < n] for lot, k in pairs])
    b = np.concatenate([rows[lot, np.where(k + 1 < n, k + 1, 0)][k < n] for lot, k in pairs])
    both = np.unique(np.sort(np.column_stack((a, b)), axis=1), axis=0)
    start, end = np.concatenate((both, both[:, ::-1])).T
    mine = number[start] >= 0
    start, end = start[mine], end[mine]
    free = number[end] >= 0
    move = np.einsum("ikj,ij->ik", ways, points - mesh.points)
    right = np.zeros((len(inner), 3))
    np.add.at(right, number[start[~free]], move[end[~free]])
    count = np.bincount(number[start], minlength=len(inner)).astype(float)
    k = np.arange(len(inner))
    system = scipy.sparse.coo_matrix(
        (np.r_[count, -np.ones(int(free.sum()))], (np.r_[k, number[start[free]]], np.r_[k, number[end[free]]])),
        shape=(len(inner), len(inner)),
    )
    moves = scipy.sparse.linalg.spsolve(system.tocsc(), right).reshape(-1, 3)
    points[inner] = mesh.points[inner] + np.einsum("ikj,ik->ij", ways[inner], moves)
