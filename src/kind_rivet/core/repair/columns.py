"""Counts of edges changed by putting columns of quads in, or taking them out, where all else of a large mesh can stay."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.mesh.chords import Chord, Chords, with_column, without_column
from kind_rivet.core.mesh.excerpt import Around, excerpt, put_back
from kind_rivet.core.mesh.mesh import ON_EDGE, ON_FACE, Mesh
from kind_rivet.core.mesh.numbers import Numbers
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.quality.growth import unlike
from kind_rivet.core.quality.index import judge
from kind_rivet.core.quality.limits import MOST_GROWTH, LimitSheet
from kind_rivet.core.repair.holds import holds_of
from kind_rivet.core.repair.make_room import back_onto_walls, spread_out
from kind_rivet.core.repair.optimise import optimise

Ints = NDArray[np.int32]
REACH = 12  # columns on both sides of a new one that make room for it
FEWEST = 8  # sides of an edge near a column from which they can
MARGIN = 2  # sides between a column and the end of an edge
CANDIDATES, TRIES = 48, 4  # columns looked at and tried
DEARER = 0.02  # index that the elements near a column may lose in the mean


@dataclass(frozen=True)
class WithLines:
    """A mesh of one body with the node numbers along every edge of its sheet."""

    mesh: Mesh
    lines: tuple[Ints, ...]


@dataclass(frozen=True)
class Columns:
    """What columns must keep to: those of one body's shells on its sheet.

    held : edges whose counts must stay; claimed : numbers of nodes that must stay in place, as those of spiders and masses;
    measured : gives shells their thickness anew
    """

    body: int
    sheet: Shape
    held: frozenset[int]
    claimed: Ints
    limits: LimitSheet
    size: float
    measured: Callable[[Mesh], Mesh]

    def with_counts(self, start: WithLines, wanted: Mapping[int, int], most: int) -> WithLines | None:
        """The mesh with the counts `wanted` on edges, by at most so many columns; None where that cannot be done well."""
        now = start
        for _ in range(most):
            left = {e: n - (len(now.lines[e]) - 1) for e, n in wanted.items() if n != len(now.lines[e]) - 1}
            if not left:
                return now
            edge = next(iter(left))
            alike = {e for e, n in left.items() if (n > 0) == (left[edge] > 0)}
            after = self._one(now, edge, left[edge] > 0, self.held | (wanted.keys() - alike))
            if after is None:
                return None
            now = after
        return now if all(n == len(now.lines[e]) - 1 for e, n in wanted.items()) else None

    def _one(self, now: WithLines, edge: int, more: bool, held: frozenset[int]) -> WithLines | None:
        """One column more or fewer across an edge: the best of several places."""
        here = _Ground(now, _Seats(now), self._claimed(now.mesh), _ring_nodes(now.mesh), Around(now.mesh))
        if not here.seats.whole:
            return None
        for chord, crossings in self._likeliest(here, edge, more, held):
            after = self._tried(here, chord, crossings, more)
            if after is not None:
                return after
        return None

    def _claimed(self, mesh: Mesh) -> NDArray[np.bool_]:
        """Nodes (n,) that something beside this body's shells uses."""
        others = mesh.conn[~(mesh.is_shell & (mesh.body == self.body))]
        claimed = np.isin(mesh.node_id, self.claimed)
        claimed[others[others >= 0]] = True
        return claimed

    def _likeliest(self, here: _Ground, edge: int, more: bool, held: frozenset[int]) -> list[tuple[Chord, Crossings]]:
        """Chords through an edge that may be doubled or taken out: wide ones to be doubled, narrow ones to go, short ones first."""
        mesh = here.now.mesh
        chords = Chords(np.where((mesh.body == self.body)[:, None], mesh.shells(), -1))
        line = here.seats.rows[edge]
        if len(line) <= FEWEST:
            return []
        found = []
        for k in np.unique(np.linspace(MARGIN, len(line) - 2 - MARGIN, CANDIDATES).astype(int)).tolist():
            chord = chords.through(int(line[k]), int(line[k + 1]))
            if chord is None or here.claimed[chord.sides].any() or (mesh.ring[chord.elements] >= 0).any():
                continue
            crossings = self._crossings(here, chord, held, more)
            if crossings is not None:
                width = float(np.linalg.norm(mesh.points[chord.sides[:, 0]] - mesh.points[chord.sides[:, 1]], axis=1).mean())
                found.append((len(chord.elements) * (1 / width if more else width), chord, crossings))
        found.sort(key=lambda f: f[0])
        return [(chord, crossings) for _, chord, crossings in found[:TRIES]]

    def _crossings(self, here: _Ground, chord: Chord, held: frozenset[int], more: bool) -> Crossings | None:
        """Where a chord crosses edges, if it may: once each, with room there, and elsewhere within walls."""
        mesh = here.now.mesh
        edge, place = here.seats.of(chord.sides)
        crossed = edge[edge >= 0]
        if len(np.unique(crossed)) < len(crossed) or not held.isdisjoint(crossed.tolist()):
            return None
        for e, k in zip(crossed.tolist(), place[edge >= 0].tolist(), strict=True):
            line = here.seats.rows[e]
            first, last = _reached(line, k)
            if not MARGIN <= k < len(line) - 1 - MARGIN or last - first < FEWEST or here.still[line[first : last + 1]].any():
                return None
        inside = edge < 0
        low, high = np.full(len(edge), len(self.sheet.faces)), np.full(len(edge), -1)
        wall = np.repeat(mesh.face[chord.elements], 2)
        np.minimum.at(low, chord.crossed.ravel(), wall)
        np.maximum.at(high, chord.crossed.ravel(), wall)
        uses = np.bincount(chord.crossed.ravel(), minlength=len(edge))
        if ((uses != 2) | (low != high))[inside].any():  # a border that is no edge
            return None
        kind, item = mesh.on_kind[chord.sides], mesh.on_item[chord.sides]
        on = np.where(inside, ON_FACE, ON_EDGE)[:, None]
        if not more and ((kind != on) | (item != item[:, :1])).any():
            return None
        return Crossings(edge.astype(np.int32), place)

    def _tried(self, here: _Ground, chord: Chord, crossings: Crossings, more: bool) -> WithLines | None:
        """The mesh with a column more or fewer along a chord and room made for it; None where elements become poor."""
        mesh, around = here.now.mesh, here.around
        inner = around.widened(chord.elements, REACH, np.ones(mesh.elements, bool))
        lot = around.touching(inner).astype(np.int64)
        nodes = np.unique(mesh.conn[lot][mesh.conn[lot] >= 0]).astype(np.int64)
        part, local = excerpt(mesh, lot), chord.within(nodes, lot)
        changed = with_column(part, local, crossings.edge, int(mesh.node_id.max()) + 1) if more else without_column(part, local)
        if changed is None:
            return None
        trial, wish = changed
        stay = np.concatenate((np.setdiff1d(nodes, mesh.conn[inner]), np.flatnonzero(here.still)))
        still = np.isin(trial.node_id, mesh.node_id[stay])
        lines, points = self._along_edges(here, crossings, trial, part.node_id[local.sides], more)
        after = self._with_room(trial.moved(points), wish, still, part)
        return None if after is None else WithLines(put_back(mesh, part, self.measured(after)), lines)

    def _along_edges(self, here: _Ground, crossings: Crossings, trial: Mesh, sides: Ints, more: bool) -> tuple[tuple[Ints, ...], Floats]:
        """The lines of nodes along all edges after a column came or went, and the places of all nodes with those on crossed edges spaced anew.

        `sides` (s, 2): node numbers of the chord's sides.
        """
        lines, points = list(here.now.lines), trial.points.copy()
        fresh = trial.node_id[-len(sides) :]
        at = {int(n): i for i, n in enumerate(trial.node_id)}
        for s in np.flatnonzero(crossings.edge >= 0).tolist():
            e, k = int(crossings.edge[s]), int(crossings.place[s])
            first, last, places = self._spaced(here.now.mesh.points[here.seats.rows[e]], e, k, more)
            gone = k if lines[e][k] == sides[s, 1] else k + 1
            lines[e] = (np.insert(lines[e], k + 1, fresh[s]) if more else np.delete(lines[e], gone)).astype(np.int32)
            points[[at[int(n)] for n in lines[e][first:last]]] = places
        return tuple(lines), points

    def _with_room(self, trial: Mesh, wish: Floats, still: NDArray[np.bool_], before: Mesh) -> Mesh | None:
        """The excerpt with its inner nodes moved on their walls so that sides come near to `wish`; None where it is not as good as `before`."""
        free = (trial.on_kind == ON_FACE) & (trial.on_body == self.body) & ~still
        points = spread_out(trial.points, trial.shells(), wish, free)
        holds = holds_of(trial.moved(points.copy()), {self.body: self.sheet}, still)
        back_onto_walls(points, np.flatnonzero(free), holds, trial.on_body)
        trial = trial.moved(points)
        if self._as_good(before, trial):
            return trial
        trial = optimise(trial, holds, self.limits, self.size, np.flatnonzero(free)).mesh
        return trial if self._as_good(before, trial) else None

    def _spaced(self, line: Floats, edge: int, k: int, more: bool) -> tuple[int, int, Floats]:
        """Places of the nodes [first, last) of an edge's new line round side k, spaced as they were in `line` (n, 3) but for the side more or fewer."""
        curve = Curve.through(self.sheet.points[self.sheet.edges[edge].nodes], self.sheet.edges[edge].carrier)
        low, high = _reached(line, k)
        station = curve.station_of(line)
        off = line - curve.at(station)  # beside bends nodes lie a little off their edge on purpose
        side = np.diff(station[low : high + 1])
        sides = np.insert(side, k - low, side[k - low]) if more else np.delete(side, k - low)
        new = station[low] + np.cumsum(sides[:-1]) * (side.sum() / sides.sum())
        lifted = np.column_stack([np.interp(new, station, off[:, j]) for j in range(3)])
        return low + 1, low + len(sides), curve.at(new) + lifted

    def _as_good(self, before: Mesh, after: Mesh) -> bool:
        """Do no more elements near a column fail or differ much from their neighbours, at hardly a lower index?"""
        was, now = judge(before, self.limits, self.size), judge(after, self.limits, self.size)
        alike = unlike(after.points, after.shells(), MOST_GROWTH) <= unlike(before.points, before.shells(), MOST_GROWTH)
        return alike and len(now.failing) <= len(was.failing) and now.mesh_index > was.mesh_index - 100 * DEARER


def _ring_nodes(mesh: Mesh) -> NDArray[np.bool_]:
    """Nodes (n,) of rings round holes."""
    rows = mesh.conn[mesh.is_shell & (mesh.ring >= 0), :4]
    out = np.zeros(mesh.nodes, bool)
    out[rows[rows >= 0]] = True
    return out


def _reached(line: Floats | NDArray[np.int64], k: int) -> tuple[int, int]:
    """First and last place along a line of nodes (n, …) that a column across its side k reaches."""
    return max(0, k - REACH), min(len(line) - 1, k + 1 + REACH)


@dataclass(frozen=True)
class Crossings:
    """edge (s,): the edge of the sheet that each side of a chord lies along, −1 within walls; place (s,): which side of its line."""

    edge: Ints
    place: NDArray[np.int64]


class _Seats:
    """Which sides of a mesh lie along which edges of the sheet; `whole`: all nodes of all edges are there."""

    def __init__(self, now: WithLines) -> None:
        number = Numbers(now.mesh.node_id)
        self.rows = [number.of(line) for line in now.lines]
        self.whole = all((r >= 0).all() for r in self.rows)
        self._base = now.mesh.nodes
        edge = np.concatenate([np.full(max(len(r) - 1, 0), e) for e, r in enumerate(self.rows)])
        place = np.concatenate([np.arange(max(len(r) - 1, 0)) for r in self.rows])
        ends = np.concatenate([np.column_stack((r[:-1], r[1:])) for r in self.rows])
        key = ends.min(axis=1) * self._base + ends.max(axis=1)
        order = np.argsort(key, kind="stable")
        self._key, self._edge, self._place = key[order], edge[order], place[order]

    def of(self, sides: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """Edge and place along its line (s,) of sides (s, 2), lower node first; −1 where there is none."""
        key = sides[:, 0] * self._base + sides[:, 1]
        at = np.minimum(np.searchsorted(self._key, key), len(self._key) - 1)
        found = self._key[at] == key
        return np.where(found, self._edge[at], -1), np.where(found, self._place[at], -1)


@dataclass(frozen=True)
class _Ground:
    """A mesh on which a column is sought: which of its sides lie along edges, nodes (n,) claimed by others and of rings, and elements round nodes."""

    now: WithLines
    seats: _Seats
    claimed: NDArray[np.bool_]
    ringed: NDArray[np.bool_]
    around: Around

    @property
    def still(self) -> NDArray[np.bool_]:
        """Nodes (n,) that must stay where they are."""
        return self.claimed | self.ringed
