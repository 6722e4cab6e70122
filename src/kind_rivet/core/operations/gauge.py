"""Thickness and offset of shells taken from a solid again, for any shells."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from pydantic import Field

from kind_rivet.core.document.document import Document
from kind_rivet.core.errors import Refused
from kind_rivet.core.midsurface.gauge import gauge
from kind_rivet.core.operations.mesh_faces import with_walls_as_meshed
from kind_rivet.core.operations.registry import Parameters, Progress, operation


class RefreshThickness(Parameters):
    body: int = Field(title="Solid", description="The body the shells stand for")
    elements: tuple[int, ...] = Field((), title="Elements", description="Empty: all shells of the body, or all shells if it has none")


@operation("mesh.refresh_thickness", "Take thickness from the solid", "mesh", RefreshThickness)
def refresh_thickness(document: Document, parameters: RefreshThickness, progress: Progress) -> Document:
    """Measure thickness and offset of shells on a solid, whoever made them: also of a mesh that was opened beside its part."""
    body, mesh = document.body(parameters.body), document.mesh
    if not body.shape.solid:
        raise Refused(f"{body.name} is no solid.", "Choose the solid that the shells stand for.")
    if parameters.elements:
        chosen = np.flatnonzero(mesh.is_shell & np.isin(mesh.element_id, parameters.elements))
    else:
        chosen = np.flatnonzero(mesh.is_shell & (mesh.body == body.key))
        chosen = chosen if len(chosen) else np.flatnonzero(mesh.is_shell)
    if not len(chosen):
        raise Refused("There are no shells to measure.", "Mesh a midsurface or open a mesh first.")
    group = mesh.part[chosen].astype(np.int64) * 100_000 + np.maximum(mesh.face[chosen], 0)
    thickness, offset = gauge(body.shape, mesh.points, mesh.conn[chosen, :4], group)
    told = np.isfinite(thickness)
    if not told.any():
        raise Refused(
            f"None of these shells lies in the walls of {body.name}.", "Choose the solid they stand for, in the same units and place."
        )
    new, shift = mesh.thickness.copy(), mesh.offset.copy()
    new[chosen[told]], shift[chosen[told]] = thickness[told], offset[told]
    changed = int((np.abs(new - mesh.thickness) > 1e-6 * np.maximum(new, 1e-300)).sum())
    sentence = f"{int(told.sum())} shells measured on {body.name}: {np.nanmin(thickness):.4g} to {np.nanmax(thickness):.4g} {document.units} thick, {changed} changed."
    rest = f" {int((~told).sum())} lie outside its walls and keep what they have." if (~told).any() else ""
    document = replace(document, mesh=replace(mesh, thickness=new, offset=shift), notes=(sentence + rest,))
    return with_walls_as_meshed(document)
