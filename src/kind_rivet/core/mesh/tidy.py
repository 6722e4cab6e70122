"""A mesh from outside made fit to work on: no coordinates that are no numbers, no nodes named twice, numbers that tell all apart."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.mesh.kinds import KINDS, QUAD, TRIA
from kind_rivet.core.mesh.mesh import Mesh
from kind_rivet.core.words import counted


def tidied(mesh: Mesh) -> tuple[Mesh, tuple[str, ...]]:
    """The mesh as far as it can be used, and what was wrong with it, in words.

    Elements with nodes that are nowhere, or too few different ones, go; quads with two nodes in one become trias. Numbers
    that are not all different are given anew.
    """
    notes: list[str] = []
    nowhere = np.asarray(~np.isfinite(mesh.points).all(axis=1), bool)
    lost = np.where(mesh.conn >= 0, nowhere[np.maximum(mesh.conn, 0)], False).any(axis=1)
    if nowhere.any():
        notes.append(
            f"Left out: {counted(int(nowhere.sum()), 'node')} without coordinates and {counted(int(lost.sum()), 'element')} on such nodes."
        )
    mesh, halved, flat = _with_different_nodes(mesh)
    lost |= flat
    if halved:
        notes.append(f"{counted(halved, 'quad')} with two corners in one: made trias.")
    if flat.any():
        notes.append(f"Left out: {counted(int(flat.sum()), 'element')} with too few different nodes.")
    if lost.any() or nowhere.any():
        mesh = mesh.without_elements(lost, keep_nodes=~nowhere)
        mesh = mesh.without_nodes(np.asarray(~np.isfinite(mesh.points).all(axis=1), bool))
    if _alike(mesh.node_id):
        mesh = replace(mesh, node_id=np.arange(1, mesh.nodes + 1, dtype=np.int32))
        notes.append("Its nodes were not all numbered differently and have new numbers.")
    if _alike(mesh.element_id):
        mesh = replace(mesh, element_id=np.arange(1, mesh.elements + 1, dtype=np.int32))
        notes.append("Its elements were not all numbered differently and have new numbers.")
    return mesh, tuple(notes)


def _alike(numbers: NDArray[np.int32]) -> bool:
    return bool(len(numbers)) and (len(np.unique(numbers)) < len(numbers) or int(numbers.min()) < 1)


def _with_different_nodes(mesh: Mesh) -> tuple[Mesh, int, NDArray[np.bool_]]:
    """Quads with two neighbouring corners in one as trias, how many, and which elements (m,) have too few different nodes otherwise."""
    conn, kind = mesh.conn.copy(), mesh.kind.copy()
    quads = np.flatnonzero(kind == QUAD)
    rows = conn[quads, :4]
    same = rows == np.roll(rows, -1, axis=1)
    once = np.flatnonzero(same.sum(axis=1) == 1)
    for q, k in zip(quads[once].tolist(), same[once].argmax(axis=1).tolist(), strict=True):
        conn[q, :4] = [*(conn[q, j] for j in range(4) if j != k), -1]
        kind[q] = TRIA
    wanted = np.array([k.nodes for k in KINDS])[kind] if len(kind) else np.empty(0, int)
    ordered = np.sort(conn, axis=1)
    different = ((np.diff(ordered, axis=1) != 0) & (ordered[:, 1:] >= 0)).sum(axis=1) + (ordered[:, 0] >= 0)
    if not len(once):
        return mesh, 0, different < wanted
    return replace(mesh, conn=conn, kind=kind), len(once), different < wanted
