"""Faces that all but close: sewn to a solid where nothing of them is left open."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from kind_rivet.core.geometry.kernel.parts import parts_of

HAIRS = (1e-6, 1e-5, 1e-4)  # of the diagonal: gaps that are sewn, narrow ones first
THIN = 0.1  # of the diagonal: twice the volume over the surface, up to which closed faces are the skin of a thin part


def sewn(shapes: Sequence[Any], tolerance: float) -> tuple[Any, bool]:
    """The faces of some shapes sewn along gaps up to a tolerance, and whether they are a solid now: all of them in one closed shell."""
    from OCP.BRep import BRep_Tool
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeSolid, BRepBuilderAPI_Sewing

    faces = [face for shape in shapes for face in parts_of(shape, "face")]
    sewing = BRepBuilderAPI_Sewing(tolerance)
    for face in faces:
        sewing.Add(face)
    sewing.Perform()
    result = sewing.SewedShape()
    shells = [] if result.IsNull() else parts_of(result, "shell")
    if len(shells) != 1 or not BRep_Tool.IsClosed_s(shells[0]) or len(parts_of(result, "face")) < len(faces):
        return result, False
    solid = BRepBuilderAPI_MakeSolid(shells[0]).Solid()
    return (solid if measures_of(solid)[0] > 0 else solid.Reversed()), True


def measures_of(solid: Any) -> tuple[float, float]:
    """Volume, negative where a solid is inside out, and surface."""
    from OCP.BRepGProp import BRepGProp
    from OCP.GProp import GProp_GProps

    volume, surface = GProp_GProps(), GProp_GProps()
    BRepGProp.VolumeProperties_s(solid, volume)
    BRepGProp.SurfaceProperties_s(solid, surface)
    return volume.Mass(), surface.Mass()


def is_skin(solid: Any, diagonal: float) -> bool:
    """Is a solid that was closed from faces thin, so that the faces were its skin and no sheet that happens to close?"""
    volume, surface = measures_of(solid)
    return 0 < 2 * volume < THIN * diagonal * surface
