"""From the cells that are kept to a sheet: faces on exact carriers, edges that all walls share, facets."""

from __future__ import annotations

import itertools
from dataclasses import dataclass, replace

import numpy as np
import shapely
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import FREE, Floats, Triple, fit_curve, triple, unit
from kind_rivet.core.geometry.shape import Edge, Face, Shape
from kind_rivet.core.midsurface.cells import SEAM, CutMiddle
from kind_rivet.core.midsurface.fields import settle
from kind_rivet.core.midsurface.middles import Middle
from kind_rivet.core.midsurface.network import Cell, Network, Place, Side
from kind_rivet.core.midsurface.traces import SAG, TURN, Line
from kind_rivet.core.midsurface.triangles import fill_facets

AT_SEAM = 6e-3  # walls from the cut of a closed chart within which a node lies on it: more than nodes are moved to meet
HOME = 1e-3  # walls that may be left when a node is put where its middles meet
BESIDE = 0.25  # walls from a step within which a sheet leaves the middle of its wall
SPECK = 0.01  # squared walls: faces smaller than this that cannot be made are not missed


@dataclass(frozen=True)
class Sewn:
    """The sheet with thickness at every facet corner (m, 3), the middle each face lies on, and where faces could not be made."""

    shape: Shape
    corner_wall: Floats
    face_middle: tuple[int, ...]
    lost: tuple[Triple, ...]


def sew(
    middles: list[Middle], cuts: list[CutMiddle | None], network: Network, lines: list[Line], kept: set[Cell], tolerance: float
) -> Sewn:
    """Sew the kept cells; cells of one middle join across every line that nothing else needs."""
    network = _levelled(_at_home(network, kept, middles, lines), kept, middles, lines)
    members, border, needed = _faces_with_area(network, kept, middles)
    count = len(members)
    points = [network.points]
    total = len(network.points)
    facets, owner, normals, walls, whose = [], [], [], [], []
    faces: list[Face] = []
    lost: list[Triple] = []
    twice = _twins(border, members, cuts)
    for f in range(count):
        if f in twice:
            continue
        m = members[f][0][0]
        middle, cut = middles[m], cuts[m]
        assert cut is not None
        region = shapely.union_all([cut.cells[c].polygon for _, c in members[f]], grid_size=2e-5 * middle.wall)
        made = _facets_of(middle, border[f], network, lines, region)
        if made is None and region.area < SPECK * middle.wall**2:
            continue
        if made is None:
            lost.append(triple(middle.place(np.array([region.representative_point().coords[0]]))[0]))
            continue
        rows, extra = made
        own = len(network.points)
        corner = np.concatenate((network.points, extra))[rows]
        new = np.where(rows < own, rows, rows - own + total)
        total += len(extra)
        points.append(extra)
        normal = middle.normal(corner.reshape(-1, 3)).reshape(-1, 3, 3)
        flat = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
        if np.einsum("ij,ij->", flat, normal[:, 0]) < 0:
            new, normal, corner = new[:, [0, 2, 1]], normal[:, [0, 2, 1]], corner[:, [0, 2, 1]]
        facets.append(new)
        owner.append(np.full(len(new), len(faces), np.int32))
        normals.append(normal)
        walls.append(middle.thickness(corner.reshape(-1, 3)).reshape(-1, 3))
        faces.append(Face(middle.carrier))
        whose.append(m)
    used_edges = _edges(needed, network, lines, tolerance)
    shape = _compact(np.concatenate(points), facets, owner, normals, faces, used_edges)
    return Sewn(shape, np.concatenate(walls) if walls else np.empty((0, 3)), tuple(whose), tuple(lost))


def _at_home(network: Network, kept: set[Cell], middles: list[Middle], lines: list[Line]) -> Network:
    """Nodes of step lines moved half-way between those stepping middles of which cells are kept there; onto it where there is but one."""
    owners: dict[int, set[int]] = {}
    steps: dict[int, set[int]] = {}
    for side in network.sides:
        whose = {m for m, c in side.cells if (m, c) in kept}
        risers = {p.line for p in side.at if p.line >= 0 and lines[p.line].kind == "step"}
        for v in side.nodes:
            owners.setdefault(v, set()).update(whose)
            steps.setdefault(v, set()).update(risers)
    points = network.points.copy()
    for v, risers in steps.items():
        stepping = {m for k in risers for m in lines[k].middles}
        here = sorted(owners[v] & stepping)
        if not here or len(here) == len(stepping):
            continue
        others = [middles[m].field for m in sorted(owners[v] - stepping)] + [f for k in sorted(risers) for f in lines[k].fields]
        lots = [settle(points[[v]], [middles[m].field, *others]) for m in here]
        if max(left[0] for _, left in lots) < HOME * middles[here[0]].wall:
            points[v] = np.mean([moved[0] for moved, _ in lots], axis=0)
    return Network(points, network.sides)


def _levelled(network: Network, kept: set[Cell], middles: list[Middle], lines: list[Line]) -> Network:
    """Long straight sides that end at a node which a step lifts off their walls get nodes near it, so that all else of them stays on these walls."""
    lifted = {v for side in network.sides if _on_step(side, lines) for v in side.nodes}
    points = list(network.points)
    sides: list[Side] = []
    for side in network.sides:
        there = [p for p in side.at if any(cell in kept for cell in p.cells)]  # on the walls that are there
        beside = set(side.nodes) & lifted and side.line != SEAM and not _on_step(side, lines)
        shares, new = _near_lifted(side, there, lifted, network.points, middles) if beside and there else ([], [])
        if not new:
            sides.append(side)
            continue
        nodes = [side.nodes[0], *range(len(points), len(points) + len(new)), side.nodes[1]]
        points += new
        for (a, b), (s, t) in zip(itertools.pairwise(nodes), itertools.pairwise([0.0, *shares, 1.0]), strict=True):
            places = [replace(p, start=p.start + s * (p.end - p.start), end=p.start + t * (p.end - p.start)) for p in side.at]
            sides.append(Side(side.line, (a, b), places))
    return Network(np.array(points).reshape(-1, 3), sides)


def _on_step(side: Side, lines: list[Line]) -> bool:
    return any(p.line >= 0 and lines[p.line].kind == "step" for p in side.at)


def _near_lifted(
    side: Side, there: list[Place], lifted: set[int], points: Floats, middles: list[Middle]
) -> tuple[list[float], list[Floats]]:
    """Shares of a side, and places (3,) on its walls, at which it gets nodes near ends that were lifted off; none where it is short or not straight."""
    both = np.array([[middles[p.middle].place(q[None])[0] for q in (p.start, p.end)] for p in there])
    (start, end), wall = both.mean(axis=0), min(middles[p.middle].wall for p in there)
    if any(middles[p.middle].carrier.kind != "plane" for p in there) or np.abs(both - both.mean(axis=0)).max() >= HOME * wall:
        return [], []
    by = BESIDE * wall / max(float(np.linalg.norm(end - start)), 1e-300)
    off = np.linalg.norm(points[list(side.nodes)] - (start, end), axis=1)
    first, last = (v in lifted and away > HOME * wall for v, away in zip(side.nodes, off, strict=True))
    if 4 * by * (first + last) > 1:
        return [], []
    shares = [*((by, 2 * by) if first else ()), *((1 - 2 * by, 1 - by) if last else ())]
    return shares, [start + t * (end - start) for t in shares]


def _faces_with_area(
    network: Network, kept: set[Cell], middles: list[Middle]
) -> tuple[list[list[Cell]], list[list[tuple[Side, int]]], list[Side]]:
    """Cells and border sides of every face, and all sides that are edges.

    Faces between two nodes only are none, and nothing ends at them; nor are sides edges that lie inside one plane face.
    """
    kept = set(kept)
    while True:
        face_of, needed = _faces(network, kept)
        needed = [side for side in needed if not _inside_one(side, face_of, middles)]
        count = max(face_of.values(), default=-1) + 1
        border: list[list[tuple[Side, int]]] = [[] for _ in range(count)]
        for side in needed:
            for k, place in enumerate(side.at):
                for f in {face_of[c] for c in place.cells if c in face_of}:
                    border[f].append((side, k))
        flat = {f for f, lot in enumerate(border) if len({v for side, _ in lot for v in side.nodes}) < 3 and len(lot) < 3}
        if not flat:
            members: list[list[Cell]] = [[] for _ in range(count)]
            for cell, f in face_of.items():
                members[f].append(cell)
            return members, border, needed
        kept -= {cell for cell, f in face_of.items() if f in flat}


def _inside_one(side: Side, face_of: dict[Cell, int], middles: list[Middle]) -> bool:
    """Does a side lie inside one plane face, with no other that ends there?"""
    if side.line == SEAM or len({face_of[c] for c in side.cells if c in face_of}) != 1:
        return False
    places = [p for p in side.at if any(c in face_of for c in p.cells)]
    return all(middles[p.middle].carrier.kind == "plane" and len([c for c in p.cells if c in face_of]) == 2 for p in places)


def _twins(border: list[list[tuple[Side, int]]], members: list[list[Cell]], cuts: list[CutMiddle | None]) -> set[int]:
    """Faces with just the same border as another that holds more wall: one of the two is enough."""
    core = [0.0] * len(members)
    for f, lot in enumerate(members):
        for m, c in lot:
            cut = cuts[m]
            core[f] += cut.cells[c].core if cut is not None else 0.0
    best: dict[frozenset[tuple[int, int]], int] = {}
    out = set()
    for f in sorted(range(len(border)), key=lambda f: (-core[f], f)):
        key = frozenset(side.nodes for side, _ in border[f])
        if key in best:
            out.add(f)
        best.setdefault(key, f)
    return out


def _faces(network: Network, kept: set[Cell]) -> tuple[dict[Cell, int], list[Side]]:
    """Number of the face each kept cell belongs to, and the sides that are edges of faces."""
    parent = {c: c for c in kept}

    def root(c: Cell) -> Cell:
        while parent[c] != c:
            c = parent[c]
        return c

    open_sides, needed = [], []
    for side in network.sides:
        lot = [c for c in side.cells if c in kept]
        if not lot:
            continue
        if len(lot) == 2 and lot[0][0] == lot[1][0] and lot[0] != lot[1] and _one_place(side, kept):
            parent[root(lot[0])] = root(lot[1])
            open_sides.append(side)
        elif side.line == SEAM or len(lot) != 2 or lot[0] != lot[1]:
            needed.append(side)
    names: dict[Cell, int] = {}
    return {c: names.setdefault(root(c), len(names)) for c in sorted(kept)}, needed


def _one_place(side: Side, kept: set[Cell]) -> bool:
    """Do the kept cells beside a side share one place on the chart (not the two rims of its cut)?"""
    return sum(any(c in kept for c in place.cells) for place in side.at) == 1


def _facets_of(
    middle: Middle, border: list[tuple[Side, int]], network: Network, lines: list[Line], region: shapely.Geometry
) -> tuple[NDArray[np.int64], Floats] | None:
    """Facets (m, 3) of one face over network nodes, then extra nodes (k, 3) inside."""
    keys: dict[tuple[int, int], int] = {}
    node: list[int] = []
    uv: list[Floats] = []
    period = middle.chart.period

    def corner(v: int, hint: Floats) -> int:
        key = (v, int(hint[0] > 0) if period and abs(abs(hint[0]) - period / 2) < AT_SEAM * middle.wall else -1)
        if key not in keys:
            keys[key] = len(node)
            node.append(v)
            uv.append(hint)
        return keys[key]

    segments = []
    for side, k in border:
        a, b = corner(side.nodes[0], side.at[k].start), corner(side.nodes[1], side.at[k].end)
        if a != b:
            segments.append((a, b))
    if len(segments) < 2:
        return None
    segments += _across_poles(segments, node) if period else []
    place = np.array(uv)
    # The chart places of the exact nodes, on the side of the cut where they were found. Where nodes were
    # moved to meet those of other middles, lines may cross there; the places as drawn never do.
    exact = middle.chart.flat(network.points[node])
    if period:
        exact[:, 0] += period * np.round((place[:, 0] - exact[:, 0]) / period)
    steps = [(side.at[k].start, side.at[k].end) for side, k in border if side.line >= 0 and lines[side.line].kind == "step"]
    inner = np.vstack((_clear_of(place[np.array(segments)], _inner_places(middle, region)), _beside_steps(middle, region, steps)))
    rows = None
    for attempt in (exact, place):
        rows = fill_facets(attempt, np.array(segments, np.int64), inner, region)
        if rows is not None:
            break
    if rows is None or not len(rows):
        return None
    extra = inner
    table = np.concatenate((np.array(node, np.int64), len(network.points) + np.arange(len(extra))))
    facets = table[rows]
    flat = (facets == np.roll(facets, 1, axis=1)).any(axis=1)  # beside a pole, which is a side of the chart
    return facets[~flat], middle.place(extra) if len(extra) else np.empty((0, 3))


def _across_poles(segments: list[tuple[int, int]], node: list[int]) -> list[tuple[int, int]]:
    """Segments that close a border on a chart where the cut of a sphere ends at a pole that lies on the wall: both its ends are one node (c,)."""
    times = np.bincount(np.array(segments).ravel(), minlength=len(node))
    ends: dict[int, list[int]] = {}
    for corner in np.flatnonzero(times == 1).tolist():
        ends.setdefault(node[corner], []).append(corner)
    return [(lot[0], lot[1]) for lot in ends.values() if len(lot) == 2]


def _clear_of(segments: Floats, q: Floats) -> Floats:
    """Places (n, 2) without those on a segment (s, 2, 2), which may run into the region: nothing could be filled there."""
    if not len(q):
        return q
    on = shapely.STRtree(shapely.linestrings(segments)).query(shapely.points(q), "dwithin", 0.1 * _spacing(q))[0]
    return np.delete(q, on, axis=0)


def _spacing(q: Floats) -> float:
    """Distance between neighbours in a grid of places (n, 2)."""
    return min((float(np.diff(u).min()) for u in (np.unique(q[:, 0]), np.unique(q[:, 1])) if len(u) > 1), default=0.0)


def _inner_places(middle: Middle, region: shapely.Geometry) -> Floats:
    """Places inside a curved face, near enough that facets turn little."""
    if middle.carrier.kind == "plane":
        return np.empty((0, 2))
    low_u, low_v, high_u, high_v = region.bounds
    span = np.array([high_u - low_u, high_v - low_v])
    t = np.linspace(0.02, 0.98, 13)
    grid = np.stack(np.meshgrid(low_u + t * span[0], low_v + t * span[1], indexing="ij"), axis=-1)
    normal = middle.normal(middle.place(grid.reshape(-1, 2))).reshape(13, 13, 3)
    turn = [
        np.arccos(np.clip(np.abs(np.einsum("ijk,ijk->ij", normal.take(range(1, 13), a), normal.take(range(12), a))), 0, 1)) for a in (0, 1)
    ]
    step = span * 0.08
    bend = [max(float(turn[a].max() / step[a]), 1e-9 / middle.wall) for a in (0, 1)]
    h = [min(TURN / k, np.sqrt(SAG * middle.wall / k)) for k in bend]
    h = [min(h[0], 3 * h[1]), min(h[1], 3 * h[0])]
    n = [int(np.clip(np.ceil(span[a] / h[a]), 1, 200)) for a in (0, 1)]
    us = low_u + (np.arange(n[0]) + 0.5) / n[0] * span[0]
    vs = low_v + (np.arange(n[1]) + 0.5) / n[1] * span[1]
    q = np.stack(np.meshgrid(us, vs, indexing="ij"), axis=-1).reshape(-1, 2)
    inner = region.buffer(-0.35 * min(h))
    shapely.prepare(inner)
    return np.asarray(q[shapely.contains_xy(inner, q[:, 0], q[:, 1])])


def _beside_steps(middle: Middle, region: shapely.Geometry, steps: list[tuple[Floats, Floats]]) -> Floats:
    """A row of places beside the steps, so that only a narrow strip of facets leaves the middle there."""
    if not steps:
        return np.empty((0, 2))
    by = BESIDE * middle.wall
    row = shapely.MultiLineString([shapely.LineString(ends) for ends in steps]).buffer(by, cap_style="flat").boundary
    row = shapely.segmentize(shapely.intersection(row, region.buffer(-0.9 * by)), 4 * middle.wall)
    q = shapely.get_coordinates(row)
    return np.unique(np.round(q / (1e-3 * middle.wall)), axis=0) * (1e-3 * middle.wall) if len(q) else np.empty((0, 2))


def _edges(needed: list[Side], network: Network, lines: list[Line], tolerance: float) -> list[Edge]:
    """Chains of sides between vertices where lines end, meet or change."""
    beside: dict[int, list[int]] = {}
    for s, side in enumerate(needed):
        for v in side.nodes:
            beside.setdefault(v, []).append(s)

    def signature(s: int) -> tuple[object, ...]:
        line = needed[s].line
        # An outline and what prolongs it inside the solid lie on one face and are one curve.
        alone = line >= 0 and len(lines[line].middles) == 1 and lines[line].face >= 0
        curve = ("face", lines[line].face) if alone else ("line", line)
        return (*curve, tuple(sorted(p.middle for p in needed[s].at)), len(needed[s].at))

    stop = {v for v, lot in beside.items() if len(lot) != 2 or signature(lot[0]) != signature(lot[1])}
    used = np.zeros(len(needed), bool)
    out = []
    order = [s for v in sorted(stop) for s in beside[v]] + list(range(len(needed)))
    for s in order:
        if used[s]:
            continue
        a, b = needed[s].nodes
        if b in stop and a not in stop:
            a, b = b, a
        chain = [a, b]
        used[s] = True
        while chain[-1] not in stop and chain[-1] != chain[0]:
            nxt = next((x for x in beside[chain[-1]] if not used[x]), -1)
            if nxt < 0:
                break
            used[nxt] = True
            i, j = needed[nxt].nodes
            chain.append(j if i == chain[-1] else i)
        nodes = np.array(chain, np.int32)
        out.append(Edge(nodes, fit_curve(network.points[nodes], tolerance) if len(nodes) > 1 else FREE))
    return out


def _compact(
    points: Floats,
    facets: list[NDArray[np.int64]],
    owner: list[NDArray[np.int32]],
    normals: list[Floats],
    faces: list[Face],
    edges: list[Edge],
) -> Shape:
    rows = np.concatenate(facets) if facets else np.empty((0, 3), np.int64)
    sides = np.sort(rows[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1)
    n = len(points)
    have = set((sides[:, 0] * n + sides[:, 1]).tolist())

    def present(edge: Edge) -> bool:
        return all(min(a, b) * n + max(a, b) in have for a, b in itertools.pairwise(edge.nodes.tolist()))

    edges = [e for e in edges if present(e)]
    used = np.zeros(n, bool)
    used[rows.ravel()] = True
    number = (np.cumsum(used) - 1).astype(np.int32)
    return Shape(
        points[used], number[rows].astype(np.int32), np.concatenate(owner) if owner else np.empty(0, np.int32),
        unit(np.concatenate(normals)) if normals else np.empty((0, 3, 3)), tuple(faces), tuple(Edge(number[e.nodes], e.carrier) for e in edges), False,
    )  # fmt: skip
