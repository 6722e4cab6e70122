"""Meshes without geometry for tests: grids bent and joined by hand, and delivered meshes with their nodes shaken."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.document.document import Document, Part
from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.mesh.kinds import QUAD
from kind_rivet.core.mesh.mesh import ON_FACE, Mesh

Rows = NDArray[np.int64]


def grid(n: int, m: int, place: Callable[[Floats, Floats], Floats]) -> tuple[Floats, Rows]:
    """Points of an n × m grid of quads at `place` (u, v from 0 to 1), and the quads."""
    u, v = (t.ravel() for t in np.meshgrid(np.linspace(0, 1, n + 1), np.linspace(0, 1, m + 1), indexing="ij"))
    i = np.arange((n + 1) * (m + 1)).reshape(n + 1, m + 1)
    return place(u, v), np.stack((i[:-1, :-1], i[1:, :-1], i[1:, 1:], i[:-1, 1:]), -1).reshape(-1, 4)


def joined(*lots: tuple[Floats, Rows]) -> tuple[Floats, Rows]:
    """Several lots as one, points at the same place made one."""
    points = np.vstack([p for p, _ in lots])
    first = np.cumsum([0, *(len(p) for p, _ in lots)])
    rows = np.vstack([r + s for (_, r), s in zip(lots, first, strict=False)])
    places, number = np.unique(np.round(points, 9), axis=0, return_inverse=True)
    return places, number.ravel()[rows]


def loose(points: Floats, rows: Rows, thickness: float | Floats = 2.0, part: int | NDArray[np.int64] = 1, size: float = 1.0) -> Document:
    """A document with nothing but these quads."""
    mesh = Mesh().with_nodes(points)
    keys = np.broadcast_to(part, (len(rows),))
    walls = np.broadcast_to(thickness, (len(rows),))
    for key in np.unique(keys).tolist():
        mesh = mesh.with_elements(QUAD, rows[keys == key], key, thickness=walls[keys == key])
    document = Document(mesh=mesh, parts=tuple(Part(k, f"Part {k}", "#9DB4A0", "shell", "") for k in np.unique(keys).tolist()))
    return replace(document, choices=replace(document.choices, size=size))


def shaken(document: Document, by: float, seed: int = 1) -> Document:
    """The mesh of a document alone, nodes inside plane walls moved within them by up to `by` sizes."""
    mesh, rng = document.mesh, np.random.default_rng(seed)
    points = mesh.points.copy()
    for key, sheet in document.sheets.items():
        for f, face in enumerate(sheet.shape.faces):
            if face.carrier.kind != "plane":
                continue
            mine = np.flatnonzero((mesh.on_kind == ON_FACE) & (mesh.on_body == key) & (mesh.on_item == f))
            step = rng.uniform(-1, 1, (len(mine), 3)) * by * document.choices.size
            normal = face.carrier.array[3:6]
            points[mine] += step - (step @ normal)[:, None] * normal
    nowhere, none = np.full(mesh.elements, -1, np.int32), np.full(mesh.nodes, -1, np.int32)
    alone = replace(
        mesh, points=points, body=nowhere, face=nowhere, ring=nowhere, on_kind=np.zeros(mesh.nodes, np.uint8), on_item=none, on_body=none,
        height=np.zeros(mesh.nodes),
    )  # fmt: skip
    return replace(Document(mesh=alone, parts=document.parts), choices=document.choices)
