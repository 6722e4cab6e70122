"""What tests ask of flat meshes."""

from __future__ import annotations

import numpy as np

from kind_rivet.core.geometry.carriers import Carrier
from kind_rivet.core.meshing.free.fill import FlatMesh
from kind_rivet.core.meshing.free.loops import area_of
from kind_rivet.core.meshing.patch import Patch


def area(mesh: FlatMesh) -> float:
    """Area of all elements; what runs clockwise counts less than nothing."""
    return sum(area_of(mesh.points[row[row >= 0]]) for row in mesh.elements)


def flat_patch(loops: list[np.ndarray]) -> Patch:
    """A plane region as far as choosing its mesh goes: the fan of its outer border stands for its facets."""
    flat = loops[0]
    facets = np.array([(0, k, k + 1) for k in range(1, len(flat) - 1)], np.int32)
    up = np.array([0.0, 0, 1])
    space = np.column_stack((flat, np.zeros(len(flat))))
    normals, corners = np.tile(up, (len(flat), 1)), np.tile(up, (len(facets), 3, 1))
    return Patch((0,), (Carrier("plane", (0.0, 0, 0, *up)),), facets, np.zeros(len(facets), np.int32), flat, space, normals, corners, ())
