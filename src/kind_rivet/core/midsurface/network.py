"""The cut middles joined along the lines they share: one set of nodes, and sides that know every cell beside them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, arc_lengths
from kind_rivet.core.midsurface.cells import RANK, SEAM, CutMiddle
from kind_rivet.core.midsurface.middles import Middle
from kind_rivet.core.midsurface.stations import stations
from kind_rivet.core.midsurface.traces import Line

Ints = NDArray[np.int64]
Cell = tuple[int, int]  # middle, cell
CLOSE = 2e-3  # of the wall: nodes on a line nearer than this are one
SAME = 3e-3  # of the thinnest wall: so are nodes of different lines


@dataclass(frozen=True)
class Place:
    """A side as it lies on one chart: its ends there, the cells beside it (−1: outside the solid), the line it follows."""

    middle: int
    start: Floats
    end: Floats
    beside: tuple[int, int]
    line: int

    @property
    def cells(self) -> list[Cell]:
        return [(self.middle, c) for c in self.beside if c >= 0]

    def on_border(self, lines: list[Line]) -> bool:
        """Does the middle leave the solid here, so that an edge may be free?"""
        return self.line >= 0 and min(self.beside) < 0 and lines[self.line].kind in ("outline", "step")


@dataclass
class Side:
    """Part of a line between two nodes, with its places on charts."""

    line: int
    nodes: tuple[int, int]
    at: list[Place]

    @property
    def cells(self) -> list[Cell]:
        return [c for place in self.at for c in place.cells]


@dataclass
class Network:
    """points (n, 3) and the sides between them."""

    points: Floats
    sides: list[Side]


class _Roots:
    def __init__(self, n: int) -> None:
        self.parent = list(range(n))

    def root(self, v: int) -> int:
        while self.parent[v] != v:
            self.parent[v] = self.parent[self.parent[v]]
            v = self.parent[v]
        return v

    def join(self, a: int, b: int) -> None:
        ra, rb = self.root(a), self.root(b)
        if ra != rb:
            self.parent[max(ra, rb)] = min(ra, rb)


def connect(middles: list[Middle], cuts: list[CutMiddle | None], lines: list[Line]) -> Network:
    """Nodes along shared lines are brought together, and every side is divided wherever another middle has a node."""
    first = np.cumsum([0] + [0 if c is None else len(c.points) for c in cuts])
    points = np.concatenate([c.points for c in cuts if c is not None] or [np.empty((0, 3))])
    roots = _Roots(len(points))
    shared: dict[int, list[tuple[int, int]]] = {}  # line → (middle, side)
    alone: list[tuple[int, int, int]] = []
    for m, cut in enumerate(cuts):
        if cut is None:
            continue
        for s, k in enumerate(cut.side_line.tolist()):
            if k == SEAM or (k >= 0 and len(lines[k].middles) > 1):
                shared.setdefault(k if k >= 0 else -10 - m, []).append((m, s))
            else:
                alone.append((m, s, k))
    raw: list[tuple[int, int, list[int], Floats]] = []
    half_way: dict[int, Floats] = {}
    for k, lot in shared.items():
        raw += _divided(k, lot, middles, cuts, first, points, lines, roots, half_way)
    near = SAME * min((m.wall for m, cut in zip(middles, cuts, strict=True) if cut is not None), default=0.0)
    if len(points):  # where lines all but meet, their nodes are one: else borders would cross by a hair
        for a, b in sorted(scipy.spatial.cKDTree(points).query_pairs(near)):
            roots.join(a, b)
    number = np.array([roots.root(v) for v in range(len(points))], np.int64)
    count = np.bincount(number, minlength=len(points))
    total = np.zeros_like(points)
    np.add.at(total, number, points)
    place = total / np.maximum(count, 1)[:, None]
    if half_way:  # nodes on a step lie half-way between its walls, whichever of them brings them in
        on, to = number[list(half_way)], np.array(list(half_way.values()))
        total[on], count[on] = 0.0, 0
        np.add.at(total, on, to)
        np.add.at(count, on, 1)
        place[on] = total[on] / count[on][:, None]
    raw = _divided_alike(raw, number, place, near)
    sides: dict[tuple[int, int], Side] = {}

    def rank(line: int) -> int:
        return RANK[lines[line].kind] if line >= 0 else -1

    def put(line: int, a: int, b: int, m: int, ua: Floats, ub: Floats, beside: tuple[int, int]) -> None:
        ga, gb = int(number[a]), int(number[b])
        if ga == gb:
            return
        if ga > gb:
            ga, gb, ua, ub = gb, ga, ub, ua
        key = (ga, gb)
        if key not in sides:
            sides[key] = Side(line, key, [])
        elif rank(line) < rank(sides[key].line):
            sides[key].line = line  # lines that lie on one another: the weightier one names it
        sides[key].at.append(Place(m, ua, ub, beside, line))

    for m, s, chain, uvs in raw:
        cut = cuts[m]
        assert cut is not None
        line = int(cut.side_line[s])
        for i in range(len(chain) - 1):
            put(line, chain[i], chain[i + 1], m, uvs[i], uvs[i + 1], (int(cut.side_cells[s, 0]), int(cut.side_cells[s, 1])))
    for m, s, k in alone:
        cut = cuts[m]
        assert cut is not None
        i, j = cut.side[s].tolist()
        put(k, int(first[m]) + i, int(first[m]) + j, m, cut.uv[i], cut.uv[j], (int(cut.side_cells[s, 0]), int(cut.side_cells[s, 1])))
    return Network(place, list(sides.values()))


def _divided_alike(
    raw: list[tuple[int, int, list[int], Floats]], number: NDArray[np.int64], place: Floats, near: float
) -> list[tuple[int, int, list[int], Floats]]:
    """The sides, divided also where a node of another line lies on them: where three walls cross in one line, each has its own two."""
    nodes = np.unique(number[[v for _, _, chain, _ in raw for v in chain]]) if raw else np.empty(0, np.int64)
    if not len(nodes):
        return raw
    tree = scipy.spatial.cKDTree(place[nodes])
    starts = np.array([v for _, _, chain, _ in raw for v in chain[:-1]])
    stops = np.array([v for _, _, chain, _ in raw for v in chain[1:]])
    at, way = place[number[starts]], place[number[stops]] - place[number[starts]]
    length = np.linalg.norm(way, axis=1)
    close = tree.query_ball_point(at + way / 2, length / 2)
    out, k = [], 0
    for m, s, chain, uvs in raw:
        mine, places = [chain[0]], [uvs[0]]
        for i in range(len(chain) - 1):
            if len(close[k]) > 2 or not {number[starts[k]], number[stops[k]]}.issuperset(nodes[close[k]].tolist()):
                for v, t in _between(nodes[close[k]], place, at[k], way[k], float(length[k]), near):
                    mine.append(v)
                    places.append(uvs[i] + t * (uvs[i + 1] - uvs[i]))
            mine.append(chain[i + 1])
            places.append(uvs[i + 1])
            k += 1
        out.append((m, s, mine, np.array(places)))
    return out


def _between(nodes: NDArray[np.int64], place: Floats, start: Floats, way: Floats, length: float, near: float) -> list[tuple[int, float]]:
    """Those nodes that lie on a straight side, and where, in order."""
    if len(nodes) < 1 or length <= 2 * near:
        return []
    away = place[nodes] - start
    t = away @ way / length**2
    off = np.linalg.norm(away - t[:, None] * way, axis=1)
    on = (off <= near) & (t * length > near) & ((1 - t) * length > near)
    return sorted(zip(nodes[on].tolist(), t[on].tolist(), strict=True), key=lambda lot: lot[1])


def _divided(
    k: int, lot: list[tuple[int, int]], middles: list[Middle], cuts: list[CutMiddle | None], first: NDArray[np.int64], points: Floats,
    lines: list[Line], roots: _Roots, half_way: dict[int, Floats],
) -> list[tuple[int, int, list[int], Floats]]:  # fmt: skip
    """Sides of one line with the nodes between their ends, in order: (middle, side, nodes, uv). `half_way`: learns where nodes on steps lie."""
    ends, uv_ends = [], []
    for m, s in lot:
        cut = cuts[m]
        assert cut is not None
        ends.append(cut.side[s] + first[m])
        uv_ends.append(cut.uv[cut.side[s]])
    nodes = np.array(ends)
    wall = min(middles[m].wall for m, _ in lot)
    if k < 0:  # along the cut of a closed chart: by height
        station = np.array([[uv[0][1], uv[1][1]] for uv in uv_ends])
        total = 0.0
    else:
        line = lines[k].points
        # Round a high step each middle has its own image of the line, far from the common one: places are read on that.
        owner, station = np.array([m for m, _ in lot]), np.empty(nodes.shape)
        for m in np.unique(owner).tolist():
            mine = owner == m
            station[mine] = stations(lines[k].on(m) if len(line) > 2 else line, points[nodes[mine].ravel()], line).reshape(-1, 2)
        total = float(arc_lengths(line)[-1]) if lines[k].closed else 0.0
    flat = station.ravel()
    order = np.argsort(flat, kind="stable")
    cluster = np.empty(len(flat), np.int64)
    cluster[order] = np.cumsum(np.r_[0, np.diff(flat[order]) > CLOSE * wall])
    last = int(cluster.max())
    if total and flat[order[-1]] - flat[order[0]] > total - CLOSE * wall:
        cluster[cluster == last] = 0
    member: dict[int, int] = {}
    at: dict[int, float] = {}
    for v, c, s in zip(nodes.ravel().tolist(), cluster.tolist(), flat.tolist(), strict=True):
        if c in member:
            roots.join(member[c], v)
        else:
            member[c], at[c] = v, s
    if k >= 0 and lines[k].kind == "step":
        half_way.update(_half_way(lines[k], nodes, cluster.reshape(-1, 2), station, owner, points))
    out = []
    stops = sorted((s, c) for c, s in at.items())
    reached = np.array([s for s, _ in stops])
    for (m, side), (sa, sb), ab, uv in zip(lot, station, nodes.tolist(), uv_ends, strict=True):
        a, b = ab
        wraps = total > 0 and abs(sb - sa) > total / 2
        if wraps:
            if sa < sb:
                sa += total
            else:
                sb += total
        low, high = min(sa, sb) + CLOSE * wall, max(sa, sb) - CLOSE * wall
        between = []
        for lift in (0.0, total) if wraps else (0.0,):
            some = slice(*np.searchsorted(reached, (low - lift, high - lift)))
            between += [(s + lift, c) for s, c in stops[some] if low < s + lift < high]
        if sa > sb:
            between.reverse()
        chain = [a, *(member[c] for _, c in between), b]
        share = np.array([(s - sa) / (sb - sa) for s, _ in between]).reshape(-1, 1)
        inner = uv[0] + share * (uv[1] - uv[0])
        out.append((m, side, chain, np.vstack((uv[:1], inner, uv[1:]))))
    return out


def _half_way(line: Line, nodes: Ints, cluster: Ints, station: Floats, owner: Ints, points: Floats) -> dict[int, Floats]:
    """Where nodes (s, 2) on a step belong: midway between the places on its walls, or on the line itself where only some of them have a node.

    `cluster`, `station` (s, 2) tell which nodes are one and where they lie along the line, `owner` (s,) on which middle.
    """
    passed = arc_lengths(line.points)
    of = np.repeat(owner, 2)
    out: dict[int, Floats] = {}
    for c in np.unique(cluster).tolist():
        mine = np.flatnonzero(cluster.ravel() == c)
        lots = [points[np.unique(nodes.ravel()[mine[of[mine] == m]])].mean(axis=0) for m in np.unique(of[mine]).tolist()]
        there = float(station.ravel()[mine[0]])
        if len(lots) == len(line.middles):
            place = np.mean(lots, axis=0)
        elif 0 <= there <= passed[-1]:
            place = np.array([np.interp(there, passed, line.points[:, axis]) for axis in range(3)])
        else:
            continue
        out |= dict.fromkeys(nodes.ravel()[mine].tolist(), place)
    return out
