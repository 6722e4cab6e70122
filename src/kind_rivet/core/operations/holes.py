"""Prepare: holes that later stops look past."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from pydantic import Field

from kind_rivet.core.document.changes import LeftOut
from kind_rivet.core.document.document import Document
from kind_rivet.core.document.preparing import prepare_again
from kind_rivet.core.errors import Refused
from kind_rivet.core.operations.registry import Parameters, Progress, operation


def with_notes(document: Document, sentence: str, body: int | None = None) -> Document:
    """The document with its sheets prepared anew and a sentence about it."""
    ready, notes = prepare_again(document, None if body is None else {body})
    return replace(ready, notes=(sentence, *notes))


class LeaveOutHoles(Parameters):
    below: float = Field(
        5.0, gt=0, title="Diameter below", description="Round holes smaller than this are left out", json_schema_extra={"unit": "length"}
    )
    hard_points: bool = Field(False, title="Hard point at the centre", description="Leave a node at each hole's centre")
    bodies: tuple[int, ...] = Field((), title="Bodies", description="Empty: all bodies")


@operation("prepare.leave_out_holes", "Leave out small holes", "prepare", LeaveOutHoles)
def leave_out_holes(document: Document, parameters: LeaveOutHoles, progress: Progress) -> Document:
    """Look past all round holes below a diameter, on wish leaving a hard point at each centre."""
    known = {(h.body, tuple(np.round(h.centre, 4))) for h in document.left_out}
    new = []
    for body in document.bodies:
        if parameters.bodies and body.key not in parameters.bodies:
            continue
        for hole in body.holes:
            if hole.kind == "round" and hole.diameter < parameters.below and (body.key, tuple(np.round(hole.centre, 4))) not in known:
                new.append(LeftOut(body.key, hole.centre, hole.axis, hole.diameter, parameters.hard_points))
    if not new:
        raise Refused(
            f"No round hole is smaller than {parameters.below:g} {document.units}.",
            "Give a larger diameter; the hole table of Part lists them.",
        )
    note = f"Left out {len(new)} hole{'s' if len(new) > 1 else ''} below {parameters.below:g} {document.units}" + (
        ", each with a hard point." if parameters.hard_points else "."
    )
    return with_notes(replace(document, left_out=document.left_out + tuple(new)), note)


class LeaveOutHole(Parameters):
    body: int
    centre: tuple[float, float, float]
    hard_point: bool = False


@operation("prepare.leave_out_hole", "Leave out this hole", "prepare", LeaveOutHole)
def leave_out_hole(document: Document, parameters: LeaveOutHole, progress: Progress) -> Document:
    """Look past one round hole, found by its centre."""
    body = document.body(parameters.body)
    round_holes = [h for h in body.holes if h.kind == "round"]
    near = min(round_holes, key=lambda h: np.linalg.norm(np.subtract(h.centre, parameters.centre)), default=None)
    if near is None or np.linalg.norm(np.subtract(near.centre, parameters.centre)) > near.diameter:
        raise Refused(f"{body.name} has no round hole there.", "Choose a hole in the Stage or in the hole table.")
    rest = tuple(h for h in document.left_out if h.body != body.key or np.linalg.norm(np.subtract(h.centre, near.centre)) > 1e-6)
    left = LeftOut(body.key, near.centre, near.axis, near.diameter, parameters.hard_point)
    return with_notes(replace(document, left_out=(*rest, left)), f"Left out the {near.diameter:g} {document.units} hole.")


class TakeBackHole(Parameters):
    body: int
    centre: tuple[float, float, float]


@operation("prepare.take_back", "Take a hole back", "prepare", TakeBackHole)
def take_back(document: Document, parameters: TakeBackHole, progress: Progress) -> Document:
    """Give back a hole that was left out."""
    mine = [h for h in document.left_out if h.body == parameters.body]
    near = min(mine, key=lambda h: np.linalg.norm(np.subtract(h.centre, parameters.centre)), default=None)
    if near is None or np.linalg.norm(np.subtract(near.centre, parameters.centre)) > near.diameter:
        raise Refused("No hole was left out there.", "Choose one of the holes marked as left out.")
    kept = tuple(h for h in document.left_out if h is not near)
    return with_notes(replace(document, left_out=kept), f"Took back the {near.diameter:g} {document.units} hole.")
