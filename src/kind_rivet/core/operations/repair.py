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
from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.mesh.collapse import without_side
from kind_rivet.core.mesh.excerpt import put_back
from kind_rivet.core.mesh.mesh import FREE_NODE, ON_EDGE, ON_FACE, ON_VERTEX, Mesh
from kind_rivet.core.operations.loose import seated_mesh, without_loose_seats
from kind_rivet.core.operations.midsurface import AS_MESHED
from kind_rivet.core.operations.registry import Parameters, Progress, operation
from kind_rivet.core.quality.growth import unlike
from kind_rivet.core.quality.index import Quality
from kind_rivet.core.quality.limits import MOST_GROWTH
from kind_rivet.core.quality.shell_metrics import LONGEST, SHORTEST
from kind_rivet.core.repair.mend import mended
from kind_rivet.core.repair.optimise import NEW
from kind_rivet.core.repair.places import EASED, Ground
from kind_rivet.core.repair.refilling import NOWHERE, lots_of
from kind_rivet.core.words import counted

WIDTHS = (0, 1, 2, 3)  # rows of neighbours that are filled anew with a failing shell; 0: nodes are only eased
SHORT = 0.35  # of the middle (at first: longest) side of a shell: shorter ones are taken out
MOST_LOTS = 400  # places in one round


@dataclass
class Tries:
    """The ground of all trials, when no further place is tried, and the lots that were tried, by width and numbers."""

    ground: Ground
    until: float
    done: set[bytes] = field(default_factory=set)


class Repair(Parameters):
    ease: Literal["all", "failing"] = Field("all", title="Ease", description="All nodes at first, or only those round failing shells")
    rounds: int = Field(4, ge=1, le=20, title="Rounds")
    limit: float = Field(120.0, gt=0, title="Time limit (s)", description="No further place is tried after so many seconds")


@operation("quality.repair", "Repair", "quality", Repair)
def repair(document: Document, parameters: Repair, progress: Progress) -> Document:
    """Ease nodes, take short sides out, and fill anew the places of shells that still fail or differ too much in size from their neighbours.

    Nothing is kept by which more shells fail.
    """
    if not document.mesh.is_shell.any():
        raise Refused("There are no shells to repair.", "Mesh a midsurface first.")
    before = document.quality
    if not len(before.failing) and parameters.ease == "failing" and not unlike(document.mesh.points, document.mesh.shells(), MOST_GROWTH):
        raise Refused("No shell fails.", "There is nothing to repair.")
    progress(0.05, "easing nodes")
    until = time.monotonic() + parameters.limit
    work, tries = _seated(document, until, laid=False)
    work, filled = _short_sides_out(work, tries.ground)
    moved = 0
    if parameters.ease == "all":
        mesh, moved = tries.ground.eased(work.mesh)
        work = replace(work, mesh=mesh)
    if (work.mesh.body[work.mesh.is_shell] == NOWHERE).any() and len(work.quality.failing):  # what is filled anew must be laid flat
        work, tries = _seated(replace(work, mesh=without_loose_seats(work.mesh)), until, laid=True)
    for k in range(parameters.rounds):
        failing = len(work.quality.failing)
        if not failing:
            break
        progress(0.2 + 0.8 * k / parameters.rounds, f"filling the places of {counted(failing, 'shell')} anew")
        work, places = _round(work, tries)
        filled += places
        if not places:
            break
    unlike_before = unlike(work.mesh.points, work.mesh.shells(), MOST_GROWTH)
    if not (work.mesh.body[work.mesh.is_shell] == NOWHERE).any():  # faces that meshes form themselves were not laid flat for it
        progress(0.9, "filling the places of unlike neighbours anew")
        mesh, places = mended(work.mesh, replace(tries.ground, given_up=NEW), until)
        work, filled = replace(work, mesh=mesh), filled + places
    if not moved and not filled:
        if len(before.failing):
            raise Refused(
                f"Nothing could be done for {counted(len(before.failing), 'failing shell')}: edges and points hold them.",
                "Change divisions nearby.",
            )
        raise Refused("Nothing fails, and the index is as high as it gets.", "There is nothing to repair.")
    after = work.quality
    note = f"Index {before.mesh_index:.1f} → {after.mesh_index:.1f}, failing {len(before.failing)} → {len(after.failing)}, worst {after.worst:.2f}"
    if unlike_before:
        note += f", neighbours of unlike size {unlike_before} → {unlike(work.mesh.points, work.mesh.shells(), MOST_GROWTH)}"
    note += f"; {counted(filled, 'place')} changed." if filled else "."
    if len(after.failing) and time.monotonic() > until:
        note += f" The time limit of {parameters.limit:g} s was reached: repair again to go on."
    return followed(replace(document, mesh_edges=work.mesh_edges, notes=(note,)), without_loose_seats(work.mesh))


def _seated(document: Document, until: float, laid: bool) -> tuple[Document, Tries]:
    """The document with seats for all shells, and what places are tried on."""
    seated = seated_mesh(document, laid)

    def wanted(mesh: Mesh) -> Floats | None:
        return replace(document, mesh=mesh).wanted

    ground = Ground(seated.shapes, document.limit_sheet, document.choices.size or 1.0, wanted, document.hung)
    return replace(document, mesh=seated.mesh), Tries(ground, until)


def _round(document: Document, tries: Tries) -> tuple[Document, int]:
    """The document with the places of failing shells filled anew where fewer fail then, and how many places these were."""
    numbers = document.mesh.element_id[document.quality.failing]  # those that come in new have their turn in the next round
    document, places = _short_sides_out(document, tries.ground)
    for width in WIDTHS:
        left = document.quality.failing
        left = left[np.isin(document.mesh.element_id[left], numbers)]
        mesh = document.mesh
        # Rings round holes are left out unless they fail themselves.
        lots = lots_of(mesh, tries.ground.widened(mesh, left, width, mesh.is_shell & (mesh.ring < 0))) if len(left) else []
        for lot in [lot for lot in lots if np.isin(mesh.element_id[left], lot).any()][:MOST_LOTS]:
            if (key := lot.tobytes() + bytes([width])) in tries.done or time.monotonic() > tries.until:
                continue
            tries.done.add(key)
            better = _tried(document.mesh, tries.ground, lot, anew=width > 0)
            if better is not None:
                document = replace(document, mesh=better)
                places += 1
    return document, places


def _tried(mesh: Mesh, ground: Ground, lot: NDArray[np.int32], anew: bool) -> Mesh | None:
    """The mesh with one lot eased with its surroundings, filled `anew` before or not; None where no fewer shells fail then or it cannot be filled."""
    here = ground.cut_out(mesh, np.flatnonzero(np.isin(mesh.element_id, lot)), EASED + 1)
    before = ground.judged(here)
    if anew:
        new = ground.filled(here, lot, ground.middle_side(here, lot))
    else:
        new = ground.eased_round(here, np.flatnonzero(np.isin(here.element_id, lot)))
    return put_back(mesh, here, new) if new is not None and _fewer_fail(ground.judged(new), before) else None


def _fewer_fail(after: Quality, before: Quality) -> bool:
    """Do fewer shells fail, and is the worst no worse?"""
    return len(after.failing) < len(before.failing) and after.worst >= before.worst - 1e-9


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
        here = replace(document, mesh=ground.cut_out(document.mesh, at, EASED + 1))
        better = _without_short_side(here, ground, number)
        if better is not None:
            gone = np.setdiff1d(here.mesh.node_id, better.node_id)
            lines = {k: tuple(line[~np.isin(line, gone)] for line in lot) for k, lot in document.mesh_edges.items()}
            document = replace(document, mesh=put_back(document.mesh, here.mesh, better), mesh_edges=lines)
            places += 1
    return document, places


def _without_short_side(document: Document, ground: Ground, number: int) -> Mesh | None:
    """The mesh without the shortest side of a shell, None where that may not go or no fewer shells fail then."""
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
        if _fewer_fail(ground.judged(new), document.quality):
            return new
        changed = np.flatnonzero(np.isin(new.element_id, mesh.element_id[(mesh.conn == gone).any(axis=1)]))
        eased = ground.eased_round(new, changed)
        if _fewer_fail(ground.judged(eased), document.quality):
            return eased
    return None


def _kept_and_gone(document: Document, a: int, b: int) -> list[tuple[int, int]]:
    """Which of two nodes may be drawn into which: those inside walls into any, those on edges of meshes by others into edges and corners too."""
    mesh = document.mesh
    rank = {FREE_NODE: 3, ON_FACE: 0, ON_EDGE: 1, ON_VERTEX: 2}
    out = []
    for keep, gone in ((a, b), (b, a)):
        sheet = document.meshed.get(int(mesh.on_body[gone]))
        foreign = sheet is None or sheet.way == AS_MESHED
        low, high = rank[int(mesh.on_kind[gone])], rank[int(mesh.on_kind[keep])]
        if low <= high and (low == 0 or (foreign and low < 3)) and mesh.node_id[gone] not in document.hung:
            out.append((keep, gone))
    return out
