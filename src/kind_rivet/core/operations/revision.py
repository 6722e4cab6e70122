"""Prepare: replacing a body by a newer revision of its file."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
from pydantic import Field

from kind_rivet.core.document.document import Body, Document
from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.places import edge_middles
from kind_rivet.core.geometry.recognise import Recognised, recognise, recognise_edges
from kind_rivet.core.operations.part import READ_LIMIT, new_body
from kind_rivet.core.operations.registry import Parameters, Progress, operation


class ReplaceBody(Parameters):
    body: int = Field(title="Body")
    path: str = Field(title="File", description="The newer revision")
    name: str = Field("", title="Body in the file", description="Empty: the one most like it")


@operation("prepare.replace", "Replace by a newer revision", "prepare", ReplaceBody)
def replace_body(document: Document, parameters: ReplaceBody, progress: Progress) -> Document:
    """Put a newer revision in a body's place: faces, edges and holes are recognised again, what depends on changed ones is stale, what is gone is listed."""
    from kind_rivet.core.geometry.kernel.read import look_at_text, read_geometry
    from kind_rivet.core.guard import reading

    body = document.body(parameters.body)
    path = Path(parameters.path)
    look_at_text(path)
    progress(0.1, f"reading {path.name}")
    result = reading(read_geometry, (path,), READ_LIMIT, path.name)
    candidates = [b for b in result.bodies if b.kind == body.kind and (not parameters.name or b.name == parameters.name)]
    if not candidates:
        raise Refused(f"{path.name} holds no {body.kind}{f' called {parameters.name}' if parameters.name else ''}.", "Choose another file.")
    best = max(candidates, key=lambda b: (b.name == body.name, -abs(b.shape.diagonal - body.shape.diagonal)))
    new = new_body(document, body.name, best.kind, best.shape, best.brep, body.colour, path.name, body.key)
    progress(0.7, "recognising faces, edges and holes")
    found = recognise(body.shape, new.shape, body.holes, new.holes)
    edges = recognise_edges(body.shape, new.shape, found.faces)
    if found.share < 0.3:
        raise Refused(
            f"Only {100 * found.share:.0f} % of {body.name}'s faces are recognised in {path.name}.",
            "Open it as a new body instead, if it is another part.",
        )
    out, lost = _carried(document, body, new, found)
    out = replace(out, bodies=tuple(new if b.key == body.key else b for b in out.bodies))
    notes = report_of(body, new, found, edges, document.units)
    return replace(out, revision=(*notes, *lost), notes=(notes[0], *result.warnings, *notes[1:], *lost))


def report_of(old: Body, new: Body, found: Recognised, edges: np.ndarray, units: str) -> list[str]:
    """What was recognised, moved, new and gone, in sentences."""
    total, matched = len(found.faces), int((found.faces >= 0).sum())
    unmoved = sum(1 for k, away in found.holes if k >= 0 and away == 0.0)
    moved = [(old.holes[i], new.holes[k], away) for i, (k, away) in enumerate(found.holes) if k >= 0 and away > 0]
    gone = [old.holes[i] for i, (k, _) in enumerate(found.holes) if k < 0]
    taken = {k for k, _ in found.holes}
    fresh = [h for k, h in enumerate(new.holes) if k not in taken]
    out = [
        f"{old.name} replaced: {matched} of {total} faces recognised, {int(found.unchanged.sum())} of them unchanged; "
        f"{int((edges >= 0).sum())} of {len(edges)} edges; {unmoved} of {len(old.holes)} holes unmoved, {len(moved)} moved."
    ]
    for hole, other, away in moved:
        c = other.centre
        out.append(
            f"The {hole.diameter or hole.length:g} {units} hole moved by {away:.3g} {units} to ({c[0]:.4g}, {c[1]:.4g}, {c[2]:.4g})."
        )
    out += [
        f"Gone: the {h.diameter or h.length:g} {units} hole at ({h.centre[0]:.4g}, {h.centre[1]:.4g}, {h.centre[2]:.4g})." for h in gone
    ]
    out += [f"New: a {h.diameter or h.length:g} {units} hole at ({h.centre[0]:.4g}, {h.centre[1]:.4g}, {h.centre[2]:.4g})." for h in fresh]
    lost = np.flatnonzero(found.faces < 0)
    if len(lost):
        out.append(f"No longer found: face{'s' if len(lost) > 1 else ''} {', '.join(str(f + 1) for f in lost[:20])}.")
    added = len(new.shape.faces) - matched
    if added:
        out.append(f"{added} face{'s are' if added > 1 else ' is'} new.")
    return out


def _carried(document: Document, old: Body, new: Body, found: Recognised) -> tuple[Document, list[str]]:
    """Recipes and live sets of a body carried over to its new revision."""
    lost: list[str] = []
    place: dict[int, tuple[float, float, float]] = {i: new.holes[k].centre for i, (k, _) in enumerate(found.holes) if k >= 0}

    def moved_hole(centre: tuple[float, float, float]) -> tuple[float, float, float] | None:
        if not old.holes:
            return centre
        away = [float(np.linalg.norm(np.subtract(h.centre, centre))) for h in old.holes]
        i = int(np.argmin(away))
        if away[i] > max(old.holes[i].length, 1e-6):
            return centre  # not about a hole of the body
        return None if i not in place else tuple((np.array(centre) + place[i] - old.holes[i].centre).tolist())

    left = []
    for h in document.left_out:
        centre = moved_hole(h.centre) if h.body == old.key else h.centre
        if centre is None:
            lost.append(f"The left-out {h.diameter:g} {document.units} hole is gone.")
        else:
            left.append(replace(h, centre=centre))
    splits = []
    for s in document.splits:
        if s.body == old.key and s.way == "ring":
            centre = moved_hole((s.measures[0], s.measures[1], s.measures[2]))
            if centre is None:
                lost.append(f"The {s.label} split lost its hole.")
                continue
            s = replace(s, measures=(*centre, *s.measures[3:]), at=centre)
        splits.append(s)
    sets = []
    for lot in document.sets:
        rule = lot.rule
        if rule is not None and rule.body == old.key and rule.kind in ("hole", "ring"):
            centre = moved_hole(rule.centre)
            if centre is None:
                lost.append(f"The live set {lot.name} lost its hole.")
            else:
                lot = replace(lot, rule=replace(rule, centre=centre))
        sets.append(lot)
    past = []
    if any(p.body == old.key for p in document.looked_past):
        shape = new.shape if old.key not in document.raw_sheets else None
        middles = edge_middles(shape) if shape is not None else None
        for p in document.looked_past:
            if p.body == old.key and middles is not None and np.linalg.norm(middles - p.middle, axis=1).min() > p.length:
                lost.append("A looked-past edge is no longer there.")
                continue
            past.append(p)
    return replace(document, left_out=tuple(left), splits=tuple(splits), sets=tuple(sets), looked_past=tuple(past)), lost
