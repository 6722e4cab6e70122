"""Repair: failing shells are eased, and where that does not help their places are filled anew."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from kind_rivet.core.document.document import Document
from kind_rivet.core.document.live_sets import refreshed
from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.mesh.collapse import without_side
from kind_rivet.core.mesh.mesh import FREE_NODE, ON_EDGE, ON_FACE, ON_VERTEX, Mesh
from kind_rivet.core.operations.loose import NOWHERE, Seated, seated_mesh, without_loose_seats
from kind_rivet.core.operations.midsurface import AS_MESHED
from kind_rivet.core.operations.refilling import lots_of, refilled
from kind_rivet.core.operations.registry import Parameters, Progress, operation
from kind_rivet.core.quality.shell_metrics import LONGEST, SHORTEST
from kind_rivet.core.repair.holds import holds_of
from kind_rivet.core.repair.optimise import optimise
from kind_rivet.core.words import counted

WIDTHS = (1, 2, 3)  # rows of neighbours that are filled anew with a failing shell
SHORT = 0.35  # of the middle side of a shell: shorter ones are taken out
EASED = 3  # rows beyond what was filled whose nodes are eased with it
MOST_LOTS = 400  # places in one round


class Repair(Parameters):
    ease: Literal["all", "failing"] = Field("all", title="Ease", description="All nodes at first, or only those round failing shells")
    rounds: int = Field(4, ge=1, le=20, title="Rounds")


@operation("quality.repair", "Repair", "quality", Repair)
def repair(document: Document, parameters: Repair, progress: Progress) -> Document:
    """Ease nodes, take short sides out and fill the places of shells that still fail anew, wider and wider; only what has fewer of them is kept."""
    if not document.mesh.is_shell.any():
        raise Refused("There are no shells to repair.", "Mesh a midsurface first.")
    before = document.quality
    if not len(before.failing) and parameters.ease == "failing":
        raise Refused("No shell fails.", "There is nothing to repair.")
    progress(0.05, "easing nodes")
    seated = seated_mesh(document, laid=True)
    work = replace(document, mesh=seated.mesh)
    rows = work.mesh.shells()[_widened(work.mesh, before.failing, EASED)]
    work, moved = _eased(work, seated.shapes, None if parameters.ease == "all" else np.unique(rows[rows >= 0]))
    filled = 0
    for k in range(parameters.rounds):
        failing = len(work.quality.failing)
        if not failing:
            break
        progress(0.2 + 0.8 * k / parameters.rounds, f"filling the places of {counted(failing, 'shell')} anew")
        work, places = _round(work, seated.shapes)
        filled += places
        if not places:
            break
    if not moved and not filled:
        if len(before.failing):
            raise Refused(
                f"Nothing could be done for {counted(len(before.failing), 'failing shell')}: edges and points hold them.",
                "Change divisions nearby.",
            )
        raise Refused("Nothing fails, and the index is as high as it gets.", "There is nothing to repair.")
    after = work.quality
    note = f"Index {before.mesh_index:.1f} → {after.mesh_index:.1f}, failing {len(before.failing)} → {len(after.failing)}"
    note += f", {counted(filled, 'place')} filled anew." if filled else "."
    return refreshed(replace(document, mesh=without_loose_seats(work.mesh), mesh_edges=work.mesh_edges, notes=(note,)))


def _eased(document: Document, shapes: dict[int, Shape], nodes: NDArray[np.int64] | None) -> tuple[Document, int]:
    """The document with its nodes (or only these) eased, and how many moved."""
    mesh = document.mesh
    done = optimise(mesh, holds_of(mesh, shapes), document.limit_sheet, document.choices.size or 1.0, nodes, wanted=document.wanted)
    return replace(document, mesh=done.mesh), done.moved


def _round(document: Document, shapes: dict[int, Shape]) -> tuple[Document, int]:
    """The document with the places of failing shells filled anew where fewer fail then, and how many places these were."""
    numbers = document.mesh.element_id[document.quality.failing]  # those that come in new have their turn in the next round
    document, places = _short_sides_out(document, shapes, numbers)
    for width in WIDTHS:
        left = document.quality.failing
        left = left[np.isin(document.mesh.element_id[left], numbers)]
        mesh = document.mesh
        lots = lots_of(mesh, _widened(mesh, left, width)) if len(left) else []
        for lot in [lot for lot in lots if np.isin(mesh.element_id[left], lot).any()][:MOST_LOTS]:
            better = _filled(document, shapes, lot)
            if better is not None:
                document = better
                places += 1
    return document, places


def _widened(mesh: Mesh, elements: NDArray[np.int64], rows: int) -> NDArray[np.int64]:
    """The elements and so many rows of shells round them; rings round holes are left out unless they are among the elements."""
    conn = mesh.shells()
    mine = np.zeros(mesh.elements, bool)
    mine[elements] = True
    for _ in range(rows):
        near = np.zeros(mesh.nodes, bool)
        held = conn[mine]
        near[held[held >= 0]] = True
        mine |= np.where(conn >= 0, near[np.maximum(conn, 0)], False).any(axis=1) & (mesh.ring < 0)
    return np.flatnonzero(mine)


def _filled(document: Document, shapes: dict[int, Shape], lot: NDArray[np.int32]) -> Document | None:
    """The document with one lot filled anew and its surroundings eased, None where no fewer shells fail then or it cannot be filled."""
    mesh, was = document.mesh, document.quality
    values = was.values[np.isin(mesh.element_id, lot)]
    sides = float(np.median(np.sqrt(values[:, SHORTEST] * values[:, LONGEST])))
    try:
        new, _, _ = refilled(document, Seated(mesh, shapes), mesh, lot, sides)
    except Refused:
        return None
    return _if_better(document, shapes, new, np.flatnonzero(~np.isin(new.element_id, mesh.element_id)))


def _if_better(document: Document, shapes: dict[int, Shape], mesh: Mesh, changed: NDArray[np.int64]) -> Document | None:
    """The document with another mesh, eased round the shells that changed; None where no fewer fail than before, or the worst is worse."""
    rows = mesh.shells()[_widened(mesh, changed, EASED)]
    eased, _ = _eased(replace(document, mesh=mesh), shapes, np.unique(rows[rows >= 0]))
    after, was = eased.quality, document.quality
    return eased if len(after.failing) < len(was.failing) and after.worst >= was.worst - 1e-9 else None


def _short_sides_out(document: Document, shapes: dict[int, Shape], numbers: NDArray[np.int32]) -> tuple[Document, int]:
    """The document without short sides of failing shells (by number) where fewer fail then, and how many went."""
    places = 0
    for number in numbers.tolist():
        mesh = document.mesh
        at = np.flatnonzero(mesh.element_id == number)
        if not len(at) or document.quality.index[at[0]] >= 0:
            continue
        row = mesh.conn[at[0]]
        row = row[row >= 0]
        side = np.linalg.norm(mesh.points[row] - mesh.points[np.roll(row, -1)], axis=1)
        k = int(np.argmin(side))
        if side[k] > SHORT * np.median(side):
            continue
        for keep, gone in _kept_and_gone(document, int(row[k]), int(row[(k + 1) % len(row)])):
            round_it = mesh.element_id[(mesh.conn == gone).any(axis=1)]
            new = without_side(mesh, keep, gone)
            better = _if_better(document, shapes, new, np.flatnonzero(np.isin(new.element_id, round_it))) if new is not None else None
            if better is not None:
                document = _without_node(better, int(mesh.node_id[gone]))
                places += 1
                break
    return document, places


def _kept_and_gone(document: Document, a: int, b: int) -> list[tuple[int, int]]:
    """Which of two nodes may be drawn into which: those inside walls into any, those on edges of meshes by others into edges and corners too."""
    mesh = document.mesh
    hung = {n for s in document.spiders for n in (*s.nodes.tolist(), s.centre)} | {m.node for m in document.masses}
    rank = {FREE_NODE: 3, ON_FACE: 0, ON_EDGE: 1, ON_VERTEX: 2}
    out = []
    for keep, gone in ((a, b), (b, a)):
        foreign = mesh.on_body[gone] == NOWHERE or document.sheets[int(mesh.on_body[gone])].way == AS_MESHED
        low, high = rank[int(mesh.on_kind[gone])], rank[int(mesh.on_kind[keep])]
        if low <= high and (low == 0 or (foreign and low < 3)) and int(mesh.node_id[gone]) not in hung:
            out.append((keep, gone))
    return out


def _without_node(document: Document, number: int) -> Document:
    """The document whose edges no longer lead over a node."""
    lines = {k: tuple(line[line != number] for line in lot) for k, lot in document.mesh_edges.items()}
    return replace(document, mesh_edges=lines)
