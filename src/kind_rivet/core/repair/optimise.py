"""Moving nodes on their faces and along their edges so that the elements' index rises and neighbours become alike in size."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.mesh.mesh import Mesh
from kind_rivet.core.quality.easing import ENOUGH, GROWTH, move_rounds, no_worse, node_elements, star
from kind_rivet.core.quality.growth import beside, excess, sizes
from kind_rivet.core.quality.index import judge, side_scale
from kind_rivet.core.quality.limits import LimitSheet
from kind_rivet.core.quality.shell_metrics import SCALED_JACOBIAN, shell_metrics
from kind_rivet.core.quality.unfold import unfolded
from kind_rivet.core.repair.holds import Holds


@dataclass(frozen=True)
class Optimised:
    """`moved`: how often nodes moved while it was tried; the mesh is the one given where all that gained nothing."""

    mesh: Mesh
    moved: int
    index_before: float
    index_after: float
    failing_before: int
    failing_after: int


def optimise(
    mesh: Mesh,
    holds: Holds,
    sheet: LimitSheet,
    size: float,
    nodes: NDArray[np.int64] | None = None,
    target: float = ENOUGH,
    rounds: int = 12,
    wanted: Floats | None = None,
) -> Optimised:
    """Raise the index by moving nodes on faces and edges (all, or those in `nodes`); the others stay exactly where they are.

    A node moves only if the cost round it falls and its worst element does not get worse, or stays sound while
    elements become more like their neighbours in size. Never do more elements fail, nor as many at a lower index.
    """
    shells = mesh.shells()
    inc, start = node_elements(shells, mesh.nodes)
    chosen = holds.movable.copy()
    if nodes is not None:
        only = np.zeros(mesh.nodes, bool)
        only[nodes] = True
        chosen &= only
    before = judge(mesh, sheet, size, wanted)
    scale = side_scale(mesh.elements, size, wanted)
    points = mesh.points.copy()
    table = sheet.table(size)
    analytic = np.flatnonzero(chosen & (holds.code > 0))
    free = np.flatnonzero(chosen & (holds.code == 0))
    points, opened = unfolded(points, shells, chosen, holds.code, holds.data)
    _onto_facets(points, mesh, np.flatnonzero(opened & (holds.code == 0)), holds)
    moved = int(opened.sum())
    alike = beside(shells)
    tries: list[tuple[Floats, int]] = []
    for near in (np.full_like(alike, -1), alike):  # what fails comes first; like sizes are sought among sound shells then
        moved += int(move_rounds(points, analytic, shells, inc, start, near, table, scale, holds.code, holds.data, rounds, target))
        if len(free):
            moved += _free_rounds(points, free, mesh, shells, inc, start, near, table, scale, holds, rounds, target)
        tries.insert(0, (points.copy(), moved))
    for trial, moved in tries:  # without like sizes, or as it was, where the index would fall and as many fail
        holds.back_on_curves(trial)
        _put_back_turned(trial, mesh.points, shells)
        trial.setflags(write=False)
        after_mesh = mesh.moved(trial)
        after = judge(after_mesh, sheet, size, wanted)
        fewer = len(before.failing) - len(after.failing)
        if fewer > 0 or (fewer == 0 and after.mesh_index >= before.mesh_index):
            return Optimised(after_mesh, moved, before.mesh_index, after.mesh_index, len(before.failing), len(after.failing))
    return Optimised(mesh, moved, before.mesh_index, before.mesh_index, len(before.failing), len(before.failing))


def _put_back_turned(points: Floats, before: Floats, shells: NDArray[np.int32]) -> None:
    """Nodes of elements that were sound and are inside out now go back to where they were, and so on until there are none.

    Beside a sliver of no area, whose margin has no bottom, a move may pay that turns another element.
    """
    was = shell_metrics(before, shells)[:, SCALED_JACOBIAN] < 0
    for _ in range(len(shells)):
        turned = ~was & (shell_metrics(points, shells)[:, SCALED_JACOBIAN] < 0)
        nodes = np.unique(shells[turned])
        nodes = nodes[nodes >= 0]
        if np.array_equal(points[nodes], before[nodes]):
            return
        points[nodes] = before[nodes]


def _onto_facets(points: Floats, mesh: Mesh, nodes: NDArray[np.int64], holds: Holds) -> None:
    """Put nodes of free-form faces back onto the facets of their bodies, in place."""
    for body, tree in holds.trees.items():
        mine = nodes[mesh.on_body[nodes] == body]
        if len(mine):
            facet, weight, _ = tree.nearest(points[mine])
            points[mine] = np.einsum("ij,ijk->ik", weight, tree.points[tree.facets[facet]])


def _free_rounds(
    points: Floats,
    free: NDArray[np.int64],
    mesh: Mesh,
    shells: NDArray[np.int32],
    inc: NDArray[np.int32],
    start: NDArray[np.int64],
    near: NDArray[np.int32],
    table: Floats,
    scale: Floats,
    holds: Holds,
    rounds: int,
    target: float,
) -> int:
    """Free-form faces: a few rounds in the tangent planes, each followed by a return to the facets; kept where no star got worse."""
    code, data = np.zeros(len(points), np.int8), np.zeros((len(points), 8))
    values, moved = np.empty(10), 0
    for _ in range(min(rounds, 4)):
        trial = points.copy()
        move_rounds(trial, free, shells, inc, start, near, table, scale, code, data, 1, target)
        _onto_facets(trial, mesh, free, holds)
        size = sizes(points, shells)
        for v in free:
            keep = points[v].copy()
            cost, worst, square = star(points, v, shells, inc, start, table, scale, values)
            cost += GROWTH * excess(points, v, shells, inc, start, near, size)
            points[v] = trial[v]
            now, low, corner = star(points, v, shells, inc, start, table, scale, values)
            now += GROWTH * excess(points, v, shells, inc, start, near, size)
            if now < cost and no_worse(worst, square, low, corner):
                moved += 1
            else:
                points[v] = keep
                excess(points, v, shells, inc, start, near, size)
    return moved
