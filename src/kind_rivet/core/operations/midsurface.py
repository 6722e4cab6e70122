"""Midsurface: sheets in the middle of the walls."""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

import numpy as np
from pydantic import Field

from kind_rivet.core.document.document import Body, Document
from kind_rivet.core.document.preparing import carried_over, prepared
from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import triple
from kind_rivet.core.geometry.weld import subshape
from kind_rivet.core.guard import OutOfTime, apart
from kind_rivet.core.midsurface.blend_material import TOLD
from kind_rivet.core.midsurface.extract import extract
from kind_rivet.core.midsurface.remarks import Remark, in_words
from kind_rivet.core.midsurface.sheet import Sheet
from kind_rivet.core.operations.registry import Parameters, Progress, operation

SIDE_BY_SIDE = 2  # bodies worked on at once
AS_MESHED = "faces under a mesh"  # the way of sheets whose walls are known from the shells that came


class ExtractMidsurface(Parameters):
    bodies: tuple[int, ...] = Field((), title="Bodies", description="Empty: all bodies whose walls are thin")
    limit: float = Field(
        300.0, gt=0, le=36000, title="Time for each body", description="Stopped after this long", json_schema_extra={"unit": "s"}
    )


@operation("midsurface.extract", "Extract midsurfaces", "midsurface", ExtractMidsurface)
def extract_midsurfaces(document: Document, parameters: ExtractMidsurface, progress: Progress) -> Document:
    """Make the midsurface of each body with the thickness of every wall, and prove it against the solid. Sheets are taken as they are."""
    chosen = [document.body(k) for k in parameters.bodies] if parameters.bodies else [b for b in document.bodies if b.kind != "wire"]
    if not chosen:
        raise Refused("There is no body to take a midsurface from.", "Open a part first.")
    out = document
    notes: list[str] = []
    refusals: list[tuple[str, str]] = []
    made = 0
    for k, (body, sheet) in enumerate(_all_sheets(document, chosen, parameters.limit, progress)):
        progress((k + 1) / len(chosen), f"midsurface of {body.name}")
        if isinstance(sheet, Refused):
            refusals.append((f"{body.name}: {sheet.reason}", sheet.remedy))
            continue
        out, more = with_sheet(out, body, sheet)
        notes += more
        made += 1
        if any(r.kind == "unfinished" for r in sheet.remarks):
            sentence = f"{body.name}: stopped after {parameters.limit:g} s with {len(sheet.shape.faces)} walls as they were then, {sheet.way}. Give it more time, or join them by hand."
        elif sheet.proof is None:
            thick = (
                f"{', '.join(f'{t:g}' for t in sheet.thicknesses)} {document.units} thick"
                if sheet.thickness.any()
                else "without a thickness"
            )
            sentence = f"{body.name}: taken as it is, {len(sheet.shape.faces)} walls {thick}."
        else:
            walls = ", ".join(f"{t:g}" for t in sheet.thicknesses)
            sentence = f"{body.name}: {len(sheet.shape.faces)} walls, {walls} {document.units} thick, {100 * sheet.proof.weight:.1f} % of the solid's mass."
            if sheet.proof.blends >= TOLD:
                sentence += f" {100 * sheet.proof.blends:.1f} % are in blends; shells beside the joints are thicker by it."
            if told := in_words(sheet.remarks):
                notes.append(f"{body.name}: look at {told}.")
        notes.insert(0, sentence)
    if not made:
        raise Refused(*refusals[0])
    return replace(out, notes=(*notes, *(f"{reason} {remedy}".strip() for reason, remedy in refusals)))


def _all_sheets(document: Document, chosen: list[Body], limit: float, progress: Progress) -> Iterator[tuple[Body, Sheet | Refused]]:
    """The sheet of each body or why there is none; several are worked out side by side, each in a process that can be stopped."""

    def of(body: Body) -> Sheet | Refused:
        try:
            known = document.raw_sheets.get(body.key)
            if (
                known is not None
                and known.way == AS_MESHED
                and document.basis.get(f"sheet:{body.key}") == document.geometry_state(body.key)
            ):
                return known
            if not body.shape.solid:
                return _of_faces(body, (), 0.0)
            hands = tuple(c.hand for c in document.wall_choices if c.body == body.key)
            made: Sheet = apart(
                extract,
                (body.shape, hands),
                limit,
                f"making the midsurface of {body.name}",
                "Give it more time, or simplify the body first.",
                hands_over=True,
            )
            return made
        except OutOfTime as late:
            if late.partial is None:
                return late
            return replace(late.partial, remarks=(Remark("unfinished", triple(body.shape.box.mean(axis=0))), *late.partial.remarks))
        except Refused as refused:
            return refused

    progress(0.0, f"midsurface of {chosen[0].name}")
    if len(chosen) == 1:
        yield chosen[0], of(chosen[0])
        return
    with ThreadPoolExecutor(SIDE_BY_SIDE) as pool:
        yield from zip(chosen, pool.map(of, chosen), strict=True)


def with_sheet(document: Document, body: Body, sheet: Sheet) -> tuple[Document, list[str]]:
    """The document with a body's sheet, prepared."""
    basis = dict(document.basis) | {f"sheet:{body.key}": document.geometry_state(body.key)}
    document = replace(document, raw_sheets=dict(document.raw_sheets) | {body.key: sheet}, basis=basis)
    ready, notes = prepared(document, body.key)
    document = carried_over(document, body.key, ready)
    return replace(document, sheets=dict(document.sheets) | {body.key: ready}), notes


def _of_faces(body: Body, faces: tuple[int, ...], thickness: float) -> Sheet:
    shape = subshape(body.shape, faces) if faces else subshape(body.shape, tuple(range(len(body.shape.faces))))
    return Sheet(shape, np.full(len(shape.faces), thickness), "faces as they are", None)


class TakeFaces(Parameters):
    body: int = Field(title="Body")
    faces: tuple[int, ...] = Field((), title="Faces", description="Empty: all faces of the body")
    thickness: float = Field(0.0, ge=0, title="Thickness", description="0: none yet", json_schema_extra={"unit": "length"})


@operation("midsurface.take_faces", "Take faces as they are", "midsurface", TakeFaces)
def take_faces(document: Document, parameters: TakeFaces, progress: Progress) -> Document:
    """Mesh chosen faces of a body where they lie, instead of a midsurface: skins of solids, sheets from outside."""
    body = document.body(parameters.body)
    if not len(body.shape.facets):
        raise Refused(f"{body.name} has no faces.", "Choose a solid or a sheet.")
    if any(not 0 <= f < len(body.shape.faces) for f in parameters.faces):
        raise Refused(f"{body.name} has no such face.", "Choose faces of one body in the Stage.")
    sheet = _of_faces(body, parameters.faces, parameters.thickness)
    out, notes = with_sheet(document, body, sheet)
    words = f"{parameters.thickness:g} {document.units} thick" if parameters.thickness else "without a thickness"
    return replace(out, notes=(f"{body.name}: {len(sheet.shape.faces)} faces taken as they are, {words}.", *notes))
