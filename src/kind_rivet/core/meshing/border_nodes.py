"""Nodes along the edges of a sheet, shared by all regions beside them, and their places in a region laid flat."""

from __future__ import annotations

from collections.abc import Collection, Mapping

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, project
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.meshing.detail import FIRST, Strip
from kind_rivet.core.meshing.patch import BorderEdge, Patch
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.sheet_mesh import EDGE, VERTEX, Builder, Ints
from kind_rivet.core.meshing.sizes import along
from kind_rivet.core.meshing.sizes import stations as spread

ROOMY = 0.6  # sizes: sides from which one may become shorter by half a corner that is looked past


def nodes_along(
    shape: Shape,
    curves: list[Curve],
    count: NDArray[np.int64],
    shift: dict[int, float],
    build: Builder,
    lines: dict[int, Floats],
    rules: ShellRules,
    facing: dict[int, Floats],
    firm: Collection[int] = (),
    slid: Mapping[int, Floats] | None = None,
) -> tuple[list[Ints], list[Floats]]:
    """Nodes along every edge, with their places along it; edges share the nodes at vertices.

    `shift`: where along closed edges their first node lies. `facing`: shares of the length, from there on, for edges that follow the side they face.
    An edge with no divisions is looked past: both its ends are one node.
    `firm`: vertices that keep their place whatever falls together with them. `slid`: places (3,) of vertices that do not.
    """
    rank: dict[int, float] = {}
    walls: dict[int, set[int]] = {}
    parent: dict[int, int] = {}
    for e, edge in enumerate(shape.edges):
        for end in (int(edge.nodes[0]), int(edge.nodes[-1])):
            parent.setdefault(end, end)
            # Of vertices that fall together the one on the largest walls keeps its place, then the one where most edges meet.
            rank[end] = rank.get(end, 0.0) + (1e-3 if count[e] else 0.0)
            walls.setdefault(end, set()).update(shape.edge_faces[e])
    whole = max(float(shape.face_area.sum()), 1e-300)
    for end, faces in walls.items():
        rank[end] += float(shape.face_area[list(faces)].sum()) / whole + (1e3 if end in firm else 0.0)

    def root(v: int) -> int:
        while parent[v] != v:
            v = parent[v]
        return v

    for e, edge in enumerate(shape.edges):
        if count[e] == 0:
            a, b = root(int(edge.nodes[0])), root(int(edge.nodes[-1]))
            if a != b:
                parent[b if rank[a] >= rank[b] else a] = a if rank[a] >= rank[b] else b
    amid = _amid_corners(shape, count, firm, ROOMY * rules.size) | dict(slid or {})
    at_vertex: dict[int, int] = {}
    nodes: list[Ints] = []
    stations: list[Floats] = []
    for e, curve in enumerate(curves):
        if e in lines and count[e] and shape.edges[e].closed:
            places = curve.station_of(lines[e])
            nodes.append(_closed_line(build, curve.at(places), e, at_vertex, root(int(shape.edges[e].nodes[0])), e in shift))
            stations.append(places)
            continue
        if e in shift:  # a closed edge of its own: no node needs to lie at its end
            places = (shift[e] + facing.get(e, np.linspace(0.0, 1.0, int(count[e]) + 1)) * curve.length) % curve.length
            round_ = build.nodes(curve.at(places[:-1]), EDGE, e)
            nodes.append(np.append(round_, round_[0]))
            stations.append(places)
            continue
        ends = []
        for end in (int(shape.edges[e].nodes[0]), int(shape.edges[e].nodes[-1])):
            keeper = root(end)
            if keeper not in at_vertex:
                at_vertex[keeper] = int(build.nodes(amid.get(end, shape.points[keeper])[None], VERTEX, keeper)[0])
            ends.append(at_vertex[keeper])
        if e in lines and count[e]:  # on the edge, like all else: what bends want of its nodes comes after meshing
            places = curve.station_of(lines[e])
            inner = build.nodes(curve.at(places[1:-1]), EDGE, e)
            nodes.append(np.concatenate(([ends[0]], inner, [ends[1]])).astype(np.int32))
            stations.append(places)
            continue
        if e in facing:
            places = facing[e] * curve.length
        else:
            places = spread(curve, int(count[e]), along(curve, e, shape.edge_faces[e], rules), rules.grading.get(e))
        inner = build.nodes(_on_wall(shape, e, curve.at(places[1:-1])), EDGE, e)
        nodes.append(np.concatenate(([ends[0]], inner, [ends[1]])).astype(np.int32) if count[e] else np.array(ends[:1], np.int32))
        stations.append(places)
    return nodes, stations


def _amid_corners(shape: Shape, count: NDArray[np.int64], firm: Collection[int], side: float) -> dict[int, Floats]:
    """Both ends of each free edge that is looked past by itself, as where a corner is rounded or broken → the middle of the edge.

    No end is moved more than the other then. Only amid edges with sides of some length, so that none becomes too short by it.
    """

    def has_room(e: int) -> bool:
        return bool(len(shape.edge_faces[e]) == 1 and shape.edge_length[e] > side * max(int(count[e]), 1))

    out: dict[int, Floats] = {}
    for e in np.flatnonzero(count == 0).tolist():
        chain = shape.edges[e].nodes
        ends = int(chain[0]), int(chain[-1])
        beside = [f for end in ends for f in shape.vertices[end] if f != e]
        if len(shape.edge_faces[e]) == 1 and len(beside) == 2 and all(map(has_room, beside)) and not set(ends) & set(firm):
            middle = shape.points[_middle(chain)].mean(axis=0)
            out |= dict.fromkeys(ends, middle)
    return out


def _middle(chain: Ints) -> Ints:
    """The node in the middle of a chain, twice, or the two beside its middle."""
    return chain[[(len(chain) - 1) // 2, len(chain) // 2]]


def _on_wall(shape: Shape, edge: int, points: Floats) -> Floats:
    """Points along a seam, put on the wall that it closes: its ends may be lifted off it at steps, so that it runs beside it."""
    beside = shape.edge_faces[edge]
    return project(shape.faces[beside[0]].carrier, points) if len(beside) == 2 and beside[0] == beside[1] else points


def _closed_line(build: Builder, line: Floats, e: int, at_vertex: dict[int, int], vertex: int, loose: bool) -> Ints:
    """Nodes along a kept closed edge; `loose` when no node lies at its vertex."""
    if loose:
        round_ = build.nodes(line[:-1], EDGE, e)
        return np.append(round_, round_[0]).astype(np.int32)
    if vertex not in at_vertex:
        at_vertex[vertex] = int(build.nodes(line[:1], VERTEX, vertex)[0])
    inner = build.nodes(line[1:-1], EDGE, e)
    return np.concatenate(([at_vertex[vertex]], inner, [at_vertex[vertex]])).astype(np.int32)


def join_strips(shape: Shape, patches: list[Patch | None], strips: list[Strip], edge_nodes: list[Ints], build: Builder) -> None:
    """The two long sides of each looked-past strip become one row of nodes in its middle."""
    if not strips:
        return
    points = np.concatenate(build.points)
    parent = np.arange(build.count)
    held = np.zeros(build.count, bool)
    for strip in strips:
        if strip.holds:
            held[_side_nodes(strip.first if strip.holds == FIRST else strip.second, edge_nodes)] = True
    # Where the ends of a strip have shrunk to a node, it belongs on the row, not where one of the ends was.
    ends: dict[int, list[Floats]] = {}
    for strip in strips:
        sides = (strip.first, strip.second) if not strip.holds else (strip.first,) if strip.holds == FIRST else (strip.second,)
        for part in (p for side in sides for p in side):
            for k in (0, -1):
                ends.setdefault(int(edge_nodes[part.edge][k]), []).append(shape.points[shape.edges[part.edge].nodes[k]])
    for node, places in ends.items():
        points[node] = np.mean(places, axis=0)

    def root(v: int) -> int:
        while parent[v] != v:
            v = int(parent[v])
        return v

    for strip in strips:
        a, b = (_side_nodes(side, edge_nodes) for side in (strip.first, strip.second))
        for x, y in zip(a.tolist(), b[::-1].tolist(), strict=True):
            rx, ry = root(x), root(y)
            if rx != ry:
                parent[max(rx, ry)] = min(rx, ry)
    target = np.array([root(v) for v in range(build.count)])
    used = np.unique(
        np.concatenate([np.concatenate((_side_nodes(s.first, edge_nodes), _side_nodes(s.second, edge_nodes))) for s in strips])
    )
    moved = points.copy()
    for v in np.unique(target[used]):
        lot = used[target[used] == v]
        moved[v] = points[lot[held[lot]] if held[lot].any() else lot].mean(axis=0)
    for strip in strips:
        patch = patches[strip.region]
        assert patch is not None
        row = np.setdiff1d(target[_side_nodes(strip.first, edge_nodes)], target[held])
        moved[row] = project(shape.faces[patch.faces[0]].carrier, moved[row])
    at = 0
    for k, lot in enumerate(build.points):  # anew: some are the sheet's own points
        build.points[k] = moved[at : at + len(lot)]
        at += len(lot)
    for e in range(len(edge_nodes)):
        edge_nodes[e] = target[edge_nodes[e]].astype(np.int32)


def _side_nodes(side: tuple[BorderEdge, ...], edge_nodes: list[Ints]) -> Ints:
    """Nodes along one side of a region, both ends included."""
    lots = [edge_nodes[p.edge] if p.forward else edge_nodes[p.edge][::-1] for p in side]
    return np.concatenate([lot[:-1] for lot in lots] + [lots[-1][-1:]])


def passage(patch: Patch, part: BorderEdge, curve: Curve, nodes: Ints, places: Floats) -> tuple[Ints, Floats]:
    """Mesh nodes (without the last) along a border passage and their places in the plane."""
    along = patch.flat[part.corners if part.forward else part.corners[::-1]]
    k, f = curve.segment(places)
    flat = along[k] * (1 - f)[:, None] + along[k + 1] * f[:, None]
    if curve.carrier.kind == "circle" or curve.turning() > 0.05:
        flat = _bowed(along, curve, k, f)
    if not part.forward:
        nodes, flat = nodes[::-1], flat[::-1]
    return nodes[:-1], flat[:-1]


def vertex_places(patch: Patch, edge_nodes: list[Ints], build: Builder) -> dict[int, Floats]:
    """Places (k, 2) in the plane of mesh nodes that stand for looked-past edges: more than one where the region is cut.

    A node that stands on a vertex of other walls has one place amid those edges, or both sides of a line that ends there would cross.
    """
    shrunk = [part for loop in patch.loops for part in loop if len(edge_nodes[part.edge]) == 1]
    if not shrunk:
        return {}
    points = np.concatenate(build.points)
    corners = np.unique(np.concatenate([[p.corners[0], p.corners[-1]] for loop in patch.loops for p in loop]))
    out: dict[int, Floats] = {}
    elsewhere: dict[int, list[Floats]] = {}
    for part in shrunk:
        node = int(edge_nodes[part.edge][0])
        away = np.linalg.norm(patch.space[corners] - points[node], axis=1)
        least = 1e-9 * max(1.0, float(np.abs(points[node]).max()))
        here = away < least
        if here.any():
            out[node] = patch.flat[corners[here]]
            continue
        middle = _middle(part.corners)
        if np.linalg.norm(patch.space[middle].mean(axis=0) - points[node]) < least:
            out[node] = patch.flat[middle].mean(axis=0)[None]
        else:
            elsewhere.setdefault(node, []).append(patch.flat[part.corners[[0, -1]]])
    return {node: np.concatenate(ends).mean(axis=0)[None] for node, ends in elsewhere.items()} | out


def _bowed(along: Floats, curve: Curve, k: NDArray[np.int64], f: Floats) -> Floats:
    """Places between the flat images of facet nodes on the smooth curve through them (exact in the plane up to third order)."""
    flat_curve = Curve(np.column_stack((along, np.zeros(len(along)))), curve.stations, type(curve.carrier)("free"))
    return flat_curve.at(curve.stations[k] + f * (curve.stations[k + 1] - curve.stations[k]))[:, :2]
