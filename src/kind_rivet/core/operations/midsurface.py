"""Midsurface: sheets in the middle of the walls."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from pydantic import Field

from kind_rivet.core.document.document import Document
from kind_rivet.core.errors import Refused
from kind_rivet.core.midsurface.extract import extract
from kind_rivet.core.midsurface.fill_holes import close_holes
from kind_rivet.core.operations.registry import Parameters, Progress, operation


class ExtractMidsurface(Parameters):
    bodies: tuple[int, ...] = Field((), title="Bodies", description="Empty: all bodies whose walls are thin")


@operation("midsurface.extract", "Extract midsurfaces", "midsurface", ExtractMidsurface)
def extract_midsurfaces(document: Document, parameters: ExtractMidsurface, progress: Progress) -> Document:
    """Make the midsurface of each body with the thickness of every wall, and prove it against the solid."""
    chosen = [document.body(k) for k in parameters.bodies] if parameters.bodies else list(document.bodies)
    if not chosen:
        raise Refused("There is no body to take a midsurface from.", "Open a part first.")
    sheets, basis = dict(document.sheets), dict(document.basis)
    notes: list[str] = []
    refusals: list[str] = []
    made = 0
    for k, body in enumerate(chosen):
        progress(k / len(chosen), f"midsurface of {body.name}")
        try:
            sheet = extract(body.shape)
        except Refused as refused:
            refusals.append(f"{body.name}: {refused}")
            continue
        out = [h for h in document.left_out if h.body == body.key]
        if out:
            shape, _, missing = close_holes(
                sheet.shape, np.array([h.centre for h in out]), np.array([h.axis for h in out]), np.array([h.diameter for h in out])
            )
            sheet = replace(sheet, shape=shape)
            notes += [
                f"{body.name}: the {out[m].diameter:g} {document.units} hole was not found on the midsurface and stays." for m in missing
            ]
        sheets[body.key] = sheet
        basis[f"sheet:{body.key}"] = document.prepare_state(body.key)
        made += 1
        walls = ", ".join(f"{t:g}" for t in sheet.thicknesses)
        notes.insert(
            0,
            f"{body.name}: {len(sheet.shape.faces)} walls, {walls} {document.units} thick, {100 * sheet.proof.mass_ratio:.1f} % of the solid's mass.",
        )
    if not made:
        raise Refused(refusals[0], refusals[1] if len(refusals) > 1 else "")
    return replace(document, sheets=sheets, basis=basis, notes=(*notes, *refusals))
