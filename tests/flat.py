"""What tests ask of flat meshes."""

from __future__ import annotations

from kind_rivet.core.meshing.free.fill import FlatMesh
from kind_rivet.core.meshing.free.loops import area_of


def area(mesh: FlatMesh) -> float:
    """Area of all elements; what runs clockwise counts less than nothing."""
    return sum(area_of(mesh.points[row[row >= 0]]) for row in mesh.elements)
