"""The gate: findings about the whole mesh, worst first."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kind_rivet.core.document.document import Document
from kind_rivet.core.mesh.coincident import coincident_groups, duplicate_elements, unused_nodes
from kind_rivet.core.mesh.topology import flipped_pairs, loops_of, pieces, shell_sides
from kind_rivet.core.midsurface.remarks import in_words as remarks_in_words
from kind_rivet.core.words import counted

BLOCKING, WARNING, NOTE = "blocking", "warning", "note"


@dataclass(frozen=True)
class Finding:
    """One thing that is wrong or worth a look: grade, sentence, and where (element or node indices)."""

    grade: str
    text: str
    elements: tuple[int, ...] = ()
    nodes: tuple[int, ...] = ()


def spider_nodes(document: Document) -> np.ndarray:
    """Node numbers that spiders and masses use."""
    lots = (
        [np.array([s.centre]) for s in document.spiders]
        + [s.nodes for s in document.spiders]
        + [np.array([m.node]) for m in document.masses]
    )
    return np.unique(np.concatenate(lots)).astype(np.int32) if lots else np.empty(0, np.int32)


def connected_pieces(document: Document) -> int:
    """Pieces of the mesh, counting spiders as connections."""
    if not document.spiders:
        return pieces(document.mesh)
    index = document.node_index
    there = document.mesh.conn >= 0
    first = np.broadcast_to(document.mesh.conn[:, :1], document.mesh.conn.shape)
    links = [np.column_stack((first[there], document.mesh.conn[there])).astype(np.int64)]
    for s in document.spiders:
        links.append(np.array([[index[s.centre], index[int(n)]] for n in s.nodes if int(n) in index], np.int64).reshape(-1, 2))
    return loops_of(np.concatenate(links))


def check(document: Document) -> list[Finding]:
    """All findings about the mesh as it is; an empty list means it may go."""
    mesh = document.mesh
    out: list[Finding] = []
    if not mesh.elements:
        return [Finding(BLOCKING, "There is no mesh yet.")]
    for what in document.stale:
        out.append(Finding(BLOCKING, f"Stale: {what} no longer fits what it was made from. Update it."))
    tolerance = 1e-4 * (document.choices.size or 1.0)
    groups = coincident_groups(mesh, tolerance)
    if groups:
        lots = tuple(int(i) for g in groups for i in g)
        out.append(
            Finding(
                BLOCKING,
                f"{counted(len(groups), 'place has', 'places have')} coincident nodes: meshes touch there without being joined.",
                nodes=lots,
            )
        )
    double = duplicate_elements(mesh)
    if len(double):
        out.append(
            Finding(
                BLOCKING,
                f"{counted(len(double), 'element lies', 'elements lie')} double on the same nodes.",
                elements=tuple(double.tolist()),
            )
        )
    inverted = np.flatnonzero(document.quality.values[:, 7] <= 0)
    if len(inverted):
        out.append(
            Finding(
                BLOCKING,
                f"{counted(len(inverted), 'element is', 'elements are')} inverted or collapsed.",
                elements=tuple(inverted.tolist()),
            )
        )
    bare_walls = _walls_without_elements(document)
    if bare_walls:
        out.append(Finding(BLOCKING, f"Walls without elements: {', '.join(bare_walls[:6])}."))
    no_wall = np.flatnonzero(mesh.is_shell & (mesh.thickness <= 0))
    if len(no_wall):
        out.append(
            Finding(BLOCKING, f"{counted(len(no_wall), 'shell has', 'shells have')} no thickness.", elements=tuple(no_wall.tolist()))
        )
    failing = document.quality.failing
    if len(failing):
        out.append(
            Finding(
                WARNING,
                f"{counted(len(failing), 'element fails', 'elements fail')} the limit sheet, the worst at {document.quality.worst:.2f}.",
                elements=tuple(failing.tolist()),
            )
        )
    for key, sheet in document.meshed.items():
        told = remarks_in_words(sheet.remarks)
        if told and any(b.key == key for b in document.bodies) and (mesh.body == key).any():
            out.append(Finding(WARNING, f"The midsurface of {document.body(key).name} does not stand for all of its solid: {told}."))
    count = connected_pieces(document)
    if count > 1:
        out.append(Finding(WARNING, f"The mesh falls into {count} pieces that are not connected."))
    flips = flipped_pairs(mesh)
    if flips:
        out.append(Finding(WARNING, f"Shell normals flip across {counted(flips, 'side')}."))
    unused = unused_nodes(mesh, spider_nodes(document))
    if len(unused):
        out.append(Finding(WARNING, f"{counted(len(unused), 'node is', 'nodes are')} used by no element.", nodes=tuple(unused.tolist())))
    empty = [s.name for s in document.sets if s.rule is not None and not len(s.ids)]
    if empty:
        out.append(Finding(WARNING, f"Live sets that find nothing: {', '.join(empty[:8])}."))
    bare = [p.name for p in document.parts if not p.material and (mesh.part == p.key).any()]
    if bare:
        out.append(Finding(NOTE, f"No material yet: {', '.join(bare)}."))
    sides = shell_sides(mesh.shells())
    if len(sides.junctions):
        out.append(Finding(NOTE, f"{counted(len(sides.junctions), 'side joins', 'sides join')} three or more shells."))
    return out


def _walls_without_elements(document: Document) -> list[str]:
    """Walls of meshed sheets that the mesher left out; strips narrower than half the size are looked past on purpose."""
    mesh, out = document.mesh, []
    shared = {k for group in document.joined for k in group}  # a common wall has its elements under one body only
    for key, sheet in document.meshed.items():
        mine = mesh.is_shell & (mesh.body == key)
        if key in shared or not mine.any() or not any(b.key == key for b in document.bodies):
            continue
        shape = sheet.shape
        count = np.bincount(np.maximum(mesh.face[mine], 0), minlength=len(shape.faces))[: len(shape.faces)]
        width = 2 * shape.face_area / np.maximum(shape.face_border_length, 1e-300)
        for f in np.flatnonzero((count == 0) & (width > 0.5 * document.choices.size)).tolist():
            out.append(f"{document.body(key).name} {f + 1}")
    return out


def blocking(findings: list[Finding]) -> list[Finding]:
    return [f for f in findings if f.grade == BLOCKING]
