"""Repair: failing shells are eased, and where that does not help their places are filled anew."""

from __future__ import annotations

import time
from dataclasses import dataclass, field, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from kind_rivet.core.document.document import Document
from kind_rivet.core.document.live_sets import followed
from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.mesh.collapse import without_side
from kind_rivet.core.mesh.excerpt import Around, excerpt, put_back
from kind_rivet.core.mesh.mesh import FREE_NODE, ON_EDGE, ON_FACE, ON_VERTEX, Mesh
from kind_rivet.core.operations.loose import NOWHERE, Seated, seated_mesh, without_loose_seats
from kind_rivet.core.operations.midsurface import AS_MESHED
from kind_rivet.core.operations.refilling import filled_anew, lots_of
from kind_rivet.core.operations.registry import Parameters, Progress, operation
from kind_rivet.core.quality.shell_metrics import LONGEST, SHORTEST
from kind_rivet.core.repair.holds import holds_of
from kind_rivet.core.repair.optimise import optimise
from kind_rivet.core.words import counted

WIDTHS = (0, 1, 2, 3)  # rows of neighbours that are filled anew with a failing shell; 0: nodes are only eased
SHORT = 0.35  # of the middle (at first: longest) side of a shell: shorter ones are taken out
EASED = 3  # rows beyond what was filled whose nodes are eased with it
MOST_LOTS = 400  # places in one round


@dataclass
class Ground:
    """What the shells sit on, by body, and what was found out so far.

    until : when no further place is tried; trees : search trees over the bodies; tried : the lots that were tried, by width
    and numbers; around : which elements touch which nodes, for one mesh at a time
    """

    by_body: dict[int, Shape]
    until: float
    trees: dict[int, FacetTree] = field(default_factory=dict)
    tried: set[bytes] = field(default_factory=set)
    around: Around | None = None


class Repair(Parameters):
    ease: Literal["all", "failing"] = Field("all", title="Ease", description="All nodes at first, or only those round failing shells")
    rounds: int = Field(4, ge=1, le=20, title="Rounds")
    limit: float = Field(120.0, gt=0, title="Time limit (s)", description="No further place is tried after so many seconds")


@operation("quality.repair", "Repair", "quality", Repair)
def repair(document: Document, parameters: Repair, progress: Progress) -> Document:
    """Ease nodes, take short sides out, and fill the places of shells that still fail anew. Nothing is kept that has more of them."""
    if not document.mesh.is_shell.any():
        raise Refused("There are no shells to repair.", "Mesh a midsurface first.")
    before = document.quality
    if not len(before.failing) and parameters.ease == "failing":
        raise Refused("No shell fails.", "There is nothing to repair.")
    progress(0.05, "easing nodes")
    until = time.monotonic() + parameters.limit
    work, ground = _seated(document, until, laid=False)
    work, filled = _short_sides_out(work, ground)
    work, moved = _eased(work, ground, None) if parameters.ease == "all" else (work, 0)
    if (work.mesh.body[work.mesh.is_shell] == NOWHERE).any() and len(work.quality.failing):  # what is filled anew must be laid flat
        work, ground = _seated(replace(work, mesh=without_loose_seats(work.mesh)), until, laid=True)
    for k in range(parameters.rounds):
        failing = len(work.quality.failing)
        if not failing:
            break
        progress(0.2 + 0.8 * k / parameters.rounds, f"filling the places of {counted(failing, 'shell')} anew")
        work, places = _round(work, ground)
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
    note = f"Index {before.mesh_index:.1f} → {after.mesh_index:.1f}, failing {len(before.failing)} → {len(after.failing)}, worst {after.worst:.2f}"
    note += f"; {counted(filled, 'place')} changed." if filled else "."
    if len(after.failing) and time.monotonic() > until:
        note += f" The time limit of {parameters.limit:g} s was reached: repair again to go on."
    return followed(replace(document, mesh_edges=work.mesh_edges, notes=(note,)), without_loose_seats(work.mesh))


def _seated(document: Document, until: float, laid: bool) -> tuple[Document, Ground]:
    """The document with seats for all shells, and what they sit on."""
    seated = seated_mesh(document, laid)
    return replace(document, mesh=seated.mesh), Ground(seated.shapes, until)


def _eased(document: Document, ground: Ground, nodes: NDArray[np.int64] | None) -> tuple[Document, int]:
    """The document with its nodes (or only these) eased, and how many moved."""
    mesh = document.mesh
    held = holds_of(mesh, ground.by_body, trees=ground.trees)
    done = optimise(mesh, held, document.limit_sheet, document.choices.size or 1.0, nodes, wanted=document.wanted)
    return replace(document, mesh=done.mesh), done.moved


def _round(document: Document, ground: Ground) -> tuple[Document, int]:
    """The document with the places of failing shells filled anew where fewer fail then, and how many places these were."""
    numbers = document.mesh.element_id[document.quality.failing]  # those that come in new have their turn in the next round
    document, places = _short_sides_out(document, ground)
    for width in WIDTHS:
        left = document.quality.failing
        left = left[np.isin(document.mesh.element_id[left], numbers)]
        mesh = document.mesh
        lots = lots_of(mesh, _widened(mesh, left, width)) if len(left) else []
        for lot in [lot for lot in lots if np.isin(mesh.element_id[left], lot).any()][:MOST_LOTS]:
            if (key := lot.tobytes() + bytes([width])) in ground.tried or time.monotonic() > ground.until:
                continue
            ground.tried.add(key)
            better = _tried(document, ground, lot, anew=width > 0)
            if better is not None:
                document = better
                places += 1
    return document, places


def _widened(mesh: Mesh, elements: NDArray[np.int64], rows: int) -> NDArray[np.int64]:
    """The elements and so many rows of shells round them; rings round holes are left out unless they are among the elements."""
    return Around(mesh).widened(elements, rows, mesh.is_shell & (mesh.ring < 0))


def _cut_out(document: Document, ground: Ground, elements: NDArray[np.int64], rows: int) -> Document:
    """The document with nothing but these elements, so many rows of shells round them, and whatever else hangs on their nodes."""
    mesh = document.mesh
    if ground.around is None or ground.around.mesh is not mesh:
        ground.around = Around(mesh)
    elements = ground.around.widened(elements, rows, mesh.is_shell)
    return replace(document, mesh=excerpt(mesh, ground.around.widened(elements, 1, ~mesh.is_shell)))


def _tried(document: Document, ground: Ground, lot: NDArray[np.int32], anew: bool) -> Document | None:
    """The document with one lot eased with its surroundings, filled `anew` before or not; None where no fewer shells fail then or it cannot be filled."""
    here = _cut_out(document, ground, np.flatnonzero(np.isin(document.mesh.element_id, lot)), EASED + 1)
    mesh = here.mesh
    mine = np.isin(mesh.element_id, lot)
    new, changed = mesh, mine
    if anew:
        values = here.quality.values[mine]
        sides = float(np.median(np.sqrt(values[:, SHORTEST] * values[:, LONGEST])))
        try:
            new, _, _ = filled_anew(here, Seated(mesh, ground.by_body), mesh, lot, sides)
        except Refused:
            return None
        changed = ~np.isin(new.element_id, mesh.element_id)
    better = _if_better(here, ground, new, np.flatnonzero(changed))
    return None if better is None else replace(document, mesh=put_back(document.mesh, mesh, better.mesh))


def _if_better(document: Document, ground: Ground, mesh: Mesh, changed: NDArray[np.int64]) -> Document | None:
    """The document with another mesh, eased round the shells that changed; None where no fewer fail than before, or the worst is worse."""
    rows = mesh.shells()[_widened(mesh, changed, EASED)]
    eased, _ = _eased(replace(document, mesh=mesh), ground, np.unique(rows[rows >= 0]))
    return eased if _fewer_fail(eased, document) else None


def _fewer_fail(after: Document, before: Document) -> bool:
    """Do fewer shells fail, and is the worst no worse?"""
    return len(after.quality.failing) < len(before.quality.failing) and after.quality.worst >= before.quality.worst - 1e-9


def _short_sides_out(document: Document, ground: Ground) -> tuple[Document, int]:
    """The document without short sides of failing shells where fewer fail then, and how many went."""
    failing = document.quality.failing
    values = document.quality.values[failing]
    short = values[:, SHORTEST] < SHORT * values[:, LONGEST]
    places = 0
    for number in document.mesh.element_id[failing[short]].tolist():
        at = np.flatnonzero(document.mesh.element_id == number)
        if not len(at):
            continue
        here = _cut_out(document, ground, at, EASED + 1)
        better = _without_short_side(here, ground, number)
        if better is not None:
            gone = np.setdiff1d(here.mesh.node_id, better.mesh.node_id)
            lines = {k: tuple(line[~np.isin(line, gone)] for line in lot) for k, lot in document.mesh_edges.items()}
            document = replace(document, mesh=put_back(document.mesh, here.mesh, better.mesh), mesh_edges=lines)
            places += 1
    return document, places


def _without_short_side(document: Document, ground: Ground, number: int) -> Document | None:
    """The document without the shortest side of a shell, None where that may not go or no fewer shells fail then."""
    mesh = document.mesh
    at = int(np.flatnonzero(mesh.element_id == number)[0])
    row = mesh.conn[at]
    row = row[row >= 0]
    side = np.linalg.norm(mesh.points[row] - mesh.points[np.roll(row, -1)], axis=1)
    k = int(np.argmin(side))
    if document.quality.index[at] >= 0 or side[k] > SHORT * np.median(side):
        return None
    for keep, gone in _kept_and_gone(document, int(row[k]), int(row[(k + 1) % len(row)])):
        new = without_side(mesh, keep, gone)
        if new is None:
            continue
        plain = replace(document, mesh=new)
        if _fewer_fail(plain, document):
            return plain
        changed = np.flatnonzero(np.isin(new.element_id, mesh.element_id[(mesh.conn == gone).any(axis=1)]))
        better = _if_better(document, ground, new, changed)
        if better is not None:
            return better
    return None


def _kept_and_gone(document: Document, a: int, b: int) -> list[tuple[int, int]]:
    """Which of two nodes may be drawn into which: those inside walls into any, those on edges of meshes by others into edges and corners too."""
    mesh = document.mesh
    hung = {n for s in document.spiders for n in (*s.nodes.tolist(), s.centre)} | {m.node for m in document.masses}
    rank = {FREE_NODE: 3, ON_FACE: 0, ON_EDGE: 1, ON_VERTEX: 2}
    out = []
    for keep, gone in ((a, b), (b, a)):
        sheet = document.meshed.get(int(mesh.on_body[gone]))
        foreign = sheet is None or sheet.way == AS_MESHED
        low, high = rank[int(mesh.on_kind[gone])], rank[int(mesh.on_kind[keep])]
        if low <= high and (low == 0 or (foreign and low < 3)) and int(mesh.node_id[gone]) not in hung:
            out.append((keep, gone))
    return out
