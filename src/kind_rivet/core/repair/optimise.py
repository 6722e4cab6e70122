"""Moving nodes on their faces and along their edges so that the elements' index rises and neighbours become alike in size."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.mesh.mesh import Mesh
from kind_rivet.core.quality.easing import ENOUGH, STRAIGHT, Aim, aim_for, keep_gains, move_rounds, node_elements
from kind_rivet.core.quality.growth import beside, unlike
from kind_rivet.core.quality.index import judge, side_scale
from kind_rivet.core.quality.limits import MOST_GROWTH, LimitSheet
from kind_rivet.core.quality.shell_metrics import SCALED_JACOBIAN, shell_metrics
from kind_rivet.core.quality.unfold import unfolded
from kind_rivet.core.repair.holds import Holds
from kind_rivet.core.repair.like_sizes import even_out, rings_of
from kind_rivet.core.repair.straight_rows import narrow_rows, straightened

MOST_AGAIN = 20_000  # shells up to which another way is tried where some still fail or are unlike their neighbours
NEW = 2.0  # points of the index that a new mesh gives up for that
SHARE = 0.04  # of all neighbours; where so many become alike in size, as many points again are given up


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
    given_up: float = 0.0,
    rings: Iterable[int] = (),
    straight: bool = False,
) -> Optimised:
    """Raise the index by moving nodes on faces and edges (all, or those in `nodes`); the others stay exactly where they are.

    A node moves only if the cost round it falls and its worst element does not get worse, or stays sound while
    elements become more like their neighbours in size. Never do more elements fail, nor as many at a lower index,
    but for what of it may be `given_up` where fewer neighbours are of unlike size for it (as much again for each `SHARE` of
    all neighbours that become alike); among what may be taken, fewest failing elements come first, then fewest neighbours of
    unlike size, then the index.
    The `rings` (their numbers) may become wider or narrower for the sake of like sizes.
    With `straight`, rows are put straight at the end, where as much of the index is left as may be given up.
    """
    chosen = holds.movable.copy()
    if nodes is not None:
        only = np.zeros(mesh.nodes, bool)
        only[nodes] = True
        chosen &= only
    aim = aim_for(sheet, size, side_scale(mesh.elements, size, wanted))
    if straight:
        aim.upright[narrow_rows(mesh.points, mesh.shells())] = STRAIGHT
    moves = _Moves(mesh, holds, aim, chosen, rounds, target, rings)
    before = judge(mesh, sheet, size, wanted)
    out = Optimised(mesh, 0, before.mesh_index, before.mesh_index, len(before.failing), len(before.failing))
    unlike_before = unlike(mesh.points, moves.shells, MOST_GROWTH)
    pairs = max(int((moves.alike >= 0).sum()) / 2, 1.0)
    rank: tuple[int, int, float] | None = None
    for points, moved in moves.tries():
        holds.back_on_curves(points)
        _put_back_turned(points, mesh.points, moves.shells)
        points.setflags(write=False)
        trial = mesh.moved(points)
        after = judge(trial, sheet, size, wanted)
        its = len(after.failing), unlike(points, moves.shells, MOST_GROWTH), -after.mesh_index
        fewer, gained = len(before.failing) - its[0], after.mesh_index - before.mesh_index
        alike = max(unlike_before - its[1], 0)
        may = fewer > 0 or (fewer == 0 and gained >= (-given_up * (1 + alike / pairs / SHARE) if alike else 0.0))
        out = replace(out, moved=max(out.moved, moved))
        if may and (rank is None or its < rank):
            rank = its
            out = replace(out, mesh=trial, index_after=after.mesh_index, failing_after=its[0])
        if may and its[:2] == (0, 0):
            break
    return _straight(out, moves, sheet, size, wanted, out.index_after - given_up) if straight else out


def _straight(best: Optimised, moves: _Moves, sheet: LimitSheet, size: float, wanted: Floats | None, least: float) -> Optimised:
    """The best there is with its rows put straight, where no more fails or differs in size for it and the index does not fall below `least`."""
    points = moves.straight(best.mesh.points)
    _put_back_turned(points, best.mesh.points, moves.shells)
    points.setflags(write=False)
    trial = best.mesh.moved(points)
    after = judge(trial, sheet, size, wanted)
    no_more = unlike(points, moves.shells, MOST_GROWTH) <= unlike(best.mesh.points, moves.shells, MOST_GROWTH)
    if len(after.failing) > best.failing_after or not no_more or after.mesh_index < least:
        return best
    return replace(best, mesh=trial, index_after=after.mesh_index, failing_after=len(after.failing))


class _Moves:
    """What moves the nodes of one mesh; `chosen` (n,): those that may move."""

    def __init__(
        self,
        mesh: Mesh,
        holds: Holds,
        aim: Aim,
        chosen: NDArray[np.bool_],
        rounds: int,
        target: float,
        rings: Iterable[int],
    ) -> None:
        self.mesh, self.holds, self.aim = mesh, holds, aim
        self.chosen, self.most, self.target = chosen, rounds, target
        self.shells = mesh.shells()
        self.inc, self.start = node_elements(self.shells, mesh.nodes)
        self.analytic = np.flatnonzero(chosen & (holds.code > 0))
        self.free = np.flatnonzero(chosen & (holds.code == 0))
        self.alike = beside(self.shells)
        self.rings = rings_of(mesh.points, self.shells, mesh.ring, rings)
        self.alone = np.full_like(self.alike, -1)

    def tries(self) -> Iterator[tuple[Floats, int]]:
        """Places of all nodes, the likeliest first, and how often nodes moved for them."""
        points, opened = unfolded(self.mesh.points.copy(), self.shells, self.chosen, self.holds.code, self.holds.data)
        self.holds.back_on_facets(points, np.flatnonzero(opened & (self.holds.code == 0)), self.mesh.on_body)
        first, moved = points.copy(), int(opened.sum())
        moved += self._rounds(points, self.alone)  # what fails comes first; like sizes are sought among sound shells then
        early = points.copy(), moved
        moved += self._rounds(points, self.alike)
        later = points.copy(), moved
        moved += self._even_out(points)
        yield points, moved
        if len(self.shells) <= MOST_AGAIN:
            moved += self._rounds(first, self.alike)  # like sizes from the beginning
            moved += self._even_out(first)
            yield first, moved
        yield later
        yield early

    def straight(self, points: Floats) -> Floats:
        """Places with rows put straight."""
        aim = self.aim._replace(upright=np.full_like(self.aim.upright, STRAIGHT))
        return straightened(points, self.analytic, self.shells, self.inc, self.start, self.alike, aim, self.holds.code, self.holds.data)

    def _rounds(self, points: Floats, near: NDArray[np.int32]) -> int:
        code, data = self.holds.code, self.holds.data
        moved = int(
            move_rounds(points, self.analytic, self.shells, self.inc, self.start, near, self.aim, code, data, self.most, self.target)
        )
        return moved + (self._free_rounds(points, near) if len(self.free) else 0)

    def _even_out(self, points: Floats) -> int:
        code, data = self.holds.code, self.holds.data
        moved = even_out(points, self.chosen, code, data, self.shells, self.inc, self.start, self.alike, self.aim, MOST_GROWTH, self.rings)
        if moved:
            self.holds.back_on_facets(points, self.free, self.mesh.on_body)
        return moved

    def _free_rounds(self, points: Floats, near: NDArray[np.int32]) -> int:
        """Free-form faces: a few rounds in the tangent planes, each followed by a return to the facets; kept where no star got worse."""
        shells, inc, start, aim = self.shells, self.inc, self.start, self.aim
        code, data = np.zeros(len(points), np.int8), np.zeros((len(points), 8))
        moved = 0
        for _ in range(min(self.most, 4)):
            trial = points.copy()
            move_rounds(trial, self.free, shells, inc, start, near, aim, code, data, 1, self.target)
            self.holds.back_on_facets(trial, self.free, self.mesh.on_body)
            moved += int(keep_gains(points, trial, self.free, shells, inc, start, near, aim))
        return moved


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
