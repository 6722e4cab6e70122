"""Choosing between meshes of one flat region: their faults, and how calmly they follow its borders."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.free.fill import CannotFill, FlatMesh, faults_of
from kind_rivet.core.meshing.free.flow import Flow, field_of
from kind_rivet.core.meshing.free.given import given_in
from kind_rivet.core.meshing.free.mend import score_of
from kind_rivet.core.meshing.free.regular import IRREGULAR, TRIA

FEW = 0.5  # faults that one mesh may have more than another and still be taken for its rows
EASY, STRAIN = 0.84, 12.0  # of `mend.score_of`: what elements lack of this weighs so much more than other unease


def tried(way: Callable[[], FlatMesh | None]) -> FlatMesh | None:
    """What one way of filling gives, None also where it cannot fill the region."""
    try:
        return way()
    except CannotFill:
        return None


def least_faults(made: list[FlatMesh], loops: list[Floats], size: float) -> list[FlatMesh]:
    """Those with hardly more faults than the best."""
    faults = [faults_of(mesh, loops, size) for mesh in made]
    return [mesh for mesh, count in zip(made, faults, strict=True) if count <= min(faults) + FEW]


def calmest(made: list[FlatMesh], loops: list[Floats], size: float, growth: float) -> FlatMesh:
    flow = Flow(field_of(loops), size, growth, np.empty((0, 4)))
    return min(made, key=lambda mesh: unrest(mesh, loops, flow))


def easiest(made: list[FlatMesh], loops: list[Floats], size: float, growth: float) -> FlatMesh:
    """The calmest of those with fewest faults, elements that are only just good counted against them."""
    flow = Flow(field_of(loops), size, growth, np.empty((0, 4)))
    given = given_in(loops, sum(len(loop) for loop in loops), size, growth)

    def strain(mesh: FlatMesh) -> float:
        lack = np.maximum(EASY - score_of(mesh.points, mesh.elements, size, given), 0.0)
        return unrest(mesh, loops, flow) + STRAIN * float(lack.sum()) / len(mesh.elements)

    return min(least_faults(made, loops, size), key=strain)


def unrest(mesh: FlatMesh, loops: list[Floats], flow: Flow) -> float:
    """What an element of a flat mesh lacks on average, irregular nodes and trias counted in."""
    border = sum(len(loop) for loop in loops)
    used = np.bincount(mesh.elements[mesh.elements >= 0], minlength=len(mesh.points))
    odd = IRREGULAR * int((used[border:] != 4).sum()) + TRIA * mesh.trias
    return (float(flow.unease(mesh.points, mesh.elements).sum()) + odd) / len(mesh.elements)
