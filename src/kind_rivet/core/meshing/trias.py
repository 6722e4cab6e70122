"""Quads cut in two: all of them where trias are wanted, else only those that have collapsed, are warped at corners of steps or fill sharp tips."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, unit
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.sheet_mesh import VERTEX, SheetMesh
from kind_rivet.core.quality.shell_metrics import LARGEST_ANGLE, LEAST_ANGLE, SCALED_JACOBIAN, WARP, shell_metrics

OFF = 0.02  # of a quad's sides: how far a corner at a step lies off the wall
WARPED = 16.0  # degrees: what is warped less, moving nodes can mend
LEAST_TRIA, LARGEST_TRIA = 24.0, 115.0  # degrees: angles of trias that are better than a warped quad
LEAST_QUAD, LEAST_TIP = 40.0, 21.0  # degrees: sharpest corner of a sound quad, and of a sound tria
LARGEST_BESIDE = 125.0  # degrees: moving nodes makes what is left of a quad without its tip sound up to this
COLLAPSED = 0.1  # scaled Jacobian below which two trias are better than a quad


def in_trias(mesh: SheetMesh, best: bool) -> SheetMesh:
    """Every quad cut in two: along the diagonal that leaves the larger least angle (`best`), or along the same one throughout."""
    turn = second_shorter(mesh.points, mesh.elements) if best else np.zeros(len(mesh.elements), bool)
    return _cut(mesh, mesh.elements[:, 3] >= 0, turn)


def second_shorter(points: Floats, rows: NDArray[np.int32]) -> NDArray[np.bool_]:
    """Is the second diagonal of each quad (k, 4) the shorter one?"""
    p = points[np.maximum(rows, 0)]
    return np.asarray(np.linalg.norm(p[:, 1] - p[:, 3], axis=1) < np.linalg.norm(p[:, 0] - p[:, 2], axis=1))


def without_collapsed(mesh: SheetMesh) -> SheetMesh:
    """Quads that are inverted or nearly so cut in two, along the diagonal that leaves the better trias; others stay."""
    quad = np.flatnonzero(mesh.elements[:, 3] >= 0)
    rows = mesh.elements[quad]
    value = shell_metrics(mesh.points, rows)[:, SCALED_JACOBIAN] if len(rows) else np.empty(0)
    bad = np.flatnonzero(value < COLLAPSED)
    if not len(bad):
        return mesh
    halves = [np.concatenate([rows[bad][:, list(c)] for c in cut]) for cut in (((0, 1, 2), (0, 2, 3)), ((0, 1, 3), (1, 2, 3)))]
    least = []
    for half in halves:
        trias = np.column_stack((half, np.full(len(half), -1))).astype(np.int32)
        # Seen against the quad's own side: a tria that lies on its back is worse than any other.
        sign = np.where(_facing(mesh, trias, np.concatenate((bad, bad)), quad), 1.0, -1.0)
        least.append((sign * shell_metrics(mesh.points, trias)[:, SCALED_JACOBIAN]).reshape(2, -1).min(axis=0))
    better = np.maximum(*least) > value[bad]
    chosen = np.zeros(len(mesh.elements), bool)
    chosen[quad[bad[better]]] = True
    turn = np.zeros(len(mesh.elements), bool)
    turn[quad[bad]] = least[1] > least[0]
    return _cut(mesh, chosen, turn)


def cut_at_steps(mesh: SheetMesh, shape: Shape) -> SheetMesh:
    """Quads at corners of steps cut in two along the mitre, where both walls that step there would leave them warped.

    Such a quad has one corner, or all but one, at a step, half-way between the heights of two plane walls: the mitre is the
    diagonal through the odd one. Both halves then lie in the slopes beside them.
    """
    quad = np.flatnonzero(
        (mesh.elements[:, 3] >= 0) & np.isin(mesh.face, [f for f, face in enumerate(shape.faces) if face.carrier.kind == "plane"])
    )
    if not len(quad):
        return mesh
    rows = mesh.elements[quad]
    plane = np.array([face.carrier.array[:6] if face.carrier.kind == "plane" else np.zeros(6) for face in shape.faces])[mesh.face[quad]]
    p = mesh.points[rows]
    side = np.linalg.norm(p - np.roll(p, 1, axis=1), axis=2).mean(axis=1)
    off = np.abs(np.einsum("qkd,qd->qk", p - plane[:, None, :3], plane[:, 3:])) > OFF * side[:, None]
    odd = np.where(off.sum(axis=1) == 1, off.argmax(axis=1), np.where(off.sum(axis=1) == 3, (~off).argmax(axis=1), -1))
    values = shell_metrics(mesh.points, rows)
    sound = _sound_halves(mesh.points, rows, odd % 2 == 1, LEAST_TRIA, LARGEST_TRIA)
    chosen = np.zeros(len(mesh.elements), bool)
    chosen[quad[(odd >= 0) & (values[:, WARP] > WARPED) & sound]] = True
    turn = np.zeros(len(mesh.elements), bool)
    turn[quad] = odd % 2 == 1
    return _cut(mesh, chosen, turn)


def cut_at_tips(mesh: SheetMesh) -> SheetMesh:
    """Quads in corners of a wall that are too sharp for any quad, as at the tip of a gusset, cut in two: a tria takes the tip."""
    quad = np.flatnonzero((mesh.elements[:, 3] >= 0) & (mesh.on_kind[mesh.elements] == VERTEX).any(axis=1))
    if not len(quad):
        return mesh
    rows = mesh.elements[quad]
    p = mesh.points[rows]
    ahead, back = unit(np.roll(p, -1, axis=1) - p), unit(np.roll(p, 1, axis=1) - p)
    angle = np.degrees(np.arccos(np.clip(np.einsum("qkd,qkd->qk", ahead, back), -1, 1)))
    tip = angle.argmin(axis=1)
    there = np.arange(len(rows))
    sharp = (angle[there, tip] < LEAST_QUAD) & (angle[there, tip] > LEAST_TIP) & (mesh.on_kind[rows[there, tip]] == VERTEX)
    sound = _sound_halves(mesh.points, rows, tip % 2 == 0, LEAST_TIP, LARGEST_BESIDE)
    chosen = np.zeros(len(mesh.elements), bool)
    chosen[quad[sharp & sound]] = True
    turn = np.zeros(len(mesh.elements), bool)
    turn[quad] = tip % 2 == 0
    return _cut(mesh, chosen, turn)


def _sound_halves(points: Floats, rows: NDArray[np.int32], turn: NDArray[np.bool_], least: float, largest: float) -> NDArray[np.bool_]:
    """Would both halves of each quad (k, 4), cut along its second diagonal where `turn` says so, have all angles (degrees) between two?"""
    halves = np.where(turn[:, None, None], rows[:, [[0, 1, 3], [1, 2, 3]]], rows[:, [[0, 1, 2], [0, 2, 3]]])
    trias = np.column_stack((halves.reshape(-1, 3), np.full(2 * len(rows), -1))).astype(np.int32)
    angles = shell_metrics(points, trias)[:, [LEAST_ANGLE, LARGEST_ANGLE]].reshape(-1, 2, 2)
    return np.asarray((angles[..., 0].min(axis=1) > least) & (angles[..., 1].max(axis=1) < largest))


def without_repeats(mesh: SheetMesh) -> SheetMesh:
    """Elements that use a node twice, as where a border runs back along itself: quads become trias, what holds no area goes."""
    ordered = np.sort(np.where(mesh.elements >= 0, mesh.elements, -1 - np.arange(4)), axis=1)
    twice = np.flatnonzero((ordered[:, 1:] == ordered[:, :-1]).any(axis=1))
    if not len(twice):
        return mesh
    elements, keep = mesh.elements.copy(), np.ones(len(mesh.elements), bool)
    for e in twice.tolist():
        row = [v for v in elements[e].tolist() if v >= 0]
        left = [v for k, v in enumerate(row) if v != row[k - 1]]
        keep[e] = len(left) == 3 and len(set(left)) == 3
        elements[e] = [*left, -1] if keep[e] else elements[e]
    return replace(mesh, elements=elements[keep], face=mesh.face[keep], ring=mesh.ring[keep])


def without_doubles(mesh: SheetMesh) -> SheetMesh:
    """The mesh without elements on the very nodes of others, as where two walls were moved together."""
    _, first = np.unique(np.sort(mesh.elements, axis=1), axis=0, return_index=True)
    if len(first) == len(mesh.elements):
        return mesh
    first = np.sort(first)
    return replace(mesh, elements=mesh.elements[first], face=mesh.face[first], ring=mesh.ring[first])


def inverted(mesh: SheetMesh) -> Floats:
    """Centres (k, 3) of the quads that stay inverted even when those nearly so are cut in two."""
    rows = without_collapsed(mesh).elements
    rows = rows[rows[:, 3] >= 0]
    if not len(rows):
        return np.empty((0, 3))
    return np.asarray(mesh.points[rows[shell_metrics(mesh.points, rows)[:, SCALED_JACOBIAN] <= 0]].mean(axis=1))


def _facing(mesh: SheetMesh, trias: NDArray[np.int32], which: NDArray[np.int64], quad: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Does each tria look to the same side as the area of its quad?"""
    p = mesh.points[mesh.elements[quad[which]]]
    whole = np.cross(p[:, 2] - p[:, 0], p[:, 3] - p[:, 1])
    q = mesh.points[trias[:, :3]]
    own = np.cross(q[:, 1] - q[:, 0], q[:, 2] - q[:, 0])
    return np.asarray(np.einsum("ij,ij->i", whole, own) > 0)


def _cut(mesh: SheetMesh, quad: NDArray[np.bool_], turn: NDArray[np.bool_]) -> SheetMesh:
    """The chosen quads cut in two, along their second diagonal where `turn` says so; the second halves come last."""
    rows, again = halved(mesh.elements, quad, turn)
    return replace(mesh, elements=rows, face=mesh.face[again], ring=mesh.ring[again])


def halved(rows: NDArray[np.int32], quad: NDArray[np.bool_], turn: NDArray[np.bool_]) -> tuple[NDArray[np.int32], NDArray[np.int64]]:
    """Rows (k, 4) with the chosen quads cut in two, along their second diagonal where `turn` says so, second halves last; and the row each was."""
    first = np.where(turn[:, None], rows[:, [0, 1, 3]], rows[:, [0, 1, 2]])
    second = np.where(turn[:, None], rows[:, [1, 2, 3]], rows[:, [0, 2, 3]])
    head = np.where(quad[:, None], np.column_stack((first, np.full(len(rows), -1))), rows)
    tail = np.column_stack((second[quad], np.full(int(quad.sum()), -1)))
    again = np.concatenate((np.arange(len(rows)), np.flatnonzero(quad)))
    return np.concatenate((head, tail)).astype(np.int32), again
