"""Holes of a solid: inner border loops of its faces with the walls behind them, and round walls all about an axis."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from kind_rivet.core.geometry.carriers import Floats, Triple, frame, triple, unit
from kind_rivet.core.geometry.loops import free_loops, linked
from kind_rivet.core.geometry.shape import Shape

ROUND = ("cylinder", "cone", "sphere", "torus")  # walls of a round hole


@dataclass(frozen=True)
class Hole:
    """A hole: `diameter` > 0 for round ones; others are cut-outs of width × length in their mouth's plane."""

    kind: str  # round or cut-out
    diameter: float
    width: float
    length: float
    centre: Triple
    axis: Triple
    faces: tuple[int, ...]  # the walls


def find_holes(shape: Shape) -> tuple[Hole, ...]:
    """Group the walls behind inner loops; only where the solid falls away (a boss stands up and is left), and what is bored through bent
    walls or where faces meet.

    A round hole has all its mouths on circles about one axis, and its diameter is the smallest; or all its walls are cylinders about it.
    """
    inner = _inner_loops(shape)
    parent: dict[int, int] = {}

    def root(f: int) -> int:
        while parent[f] != f:
            f = parent[f]
        return f

    hosts = {host for host, _ in inner}
    mouths: dict[int, list[list[int]]] = {}
    for host, loop in inner:
        walls = sorted({f for e in loop for f in shape.edge_faces[e] if f != host})
        if not walls or 2 * sum(falls_away(shape, host, e) for e in loop) <= len(loop):
            continue
        for f in walls:
            parent.setdefault(f, f)
        for f in walls[1:]:
            parent[root(f)] = root(walls[0])
        mouths.setdefault(walls[0], []).append(loop)
    groups: dict[int, list[list[int]]] = {}
    for wall, loops in mouths.items():
        groups.setdefault(root(wall), []).extend(loops)
    out = []
    for key, loops in groups.items():
        members = tuple(sorted(f for f in parent if (root(f) == key and f not in hosts) or f == key))
        out.append(_describe(shape, loops, members))
    out += _bored(shape, {f for hole in out for f in hole.faces})
    return tuple(sorted(out, key=lambda h: (h.diameter, h.width, h.centre)))


def _bored(shape: Shape, listed: set[int]) -> list[Hole]:
    """Round holes whose mouths are no inner loops of one face: across a seam, a bend, an edge between faces. `listed`: walls of holes known already."""
    out = []
    for walls in _coaxial(shape, listed):
        rim = [e for f in walls for e in shape.face_edges[f] if len(set(shape.edge_faces[e]) - set(walls)) == 1]
        mouths = [
            loop for loop in linked(shape, rim) if _closed(shape, loop) and _round_about(shape, loop, shape.faces[walls[0]].carrier.array)
        ]
        falling = [
            loop for loop in mouths if all(falls_away(shape, next(f for f in shape.edge_faces[e] if f not in walls), e) for e in loop)
        ]
        if falling and sum(map(len, mouths)) == len(rim) and any(_across(shape, loop, walls) for loop in falling):
            out.append(_describe(shape, falling, walls))
    return out


def _across(shape: Shape, mouth: list[int], walls: tuple[int, ...]) -> bool:
    """Is a mouth no plain circle in one face, as a groove beside a bore has?"""
    return (
        any(shape.edges[e].carrier.kind != "circle" for e in mouth) or len({f for e in mouth for f in shape.edge_faces[e]} - set(walls)) > 1
    )


def _coaxial(shape: Shape, listed: set[int]) -> list[tuple[int, ...]]:
    """Cylinders that the solid lies outside of, those with one axis and radius beside each other taken together."""
    hollow = {
        f: face.carrier.array
        for f, face in enumerate(shape.faces)
        if f not in listed and face.carrier.kind == "cylinder" and _is_hollow(shape, f)
    }
    if not hollow:
        return []
    place = {f: k for k, f in enumerate(hollow)}
    pairs = [(k, place[g]) for f, k in place.items() for g in shape.face_neighbours[f] if g in place and _one_axis(hollow[f], hollow[g])]
    ends = np.array(pairs, np.int64).reshape(-1, 2)
    graph = scipy.sparse.coo_matrix((np.ones(len(ends)), (ends[:, 0], ends[:, 1])), (len(place), len(place)))
    count, label = scipy.sparse.csgraph.connected_components(graph, directed=False)
    return [tuple(f for f, k in place.items() if label[k] == lot) for lot in range(count)]


def _one_axis(a: Floats, b: Floats) -> bool:
    """Do two cylinders have the same axis and radius?"""
    away = np.cross(b[:3] - a[:3], a[3:6])
    return bool(np.linalg.norm(away) < 1e-3 * a[6] and np.linalg.norm(np.cross(a[3:6], b[3:6])) < 1e-4 and abs(a[6] - b[6]) < 1e-3 * a[6])


def _is_hollow(shape: Shape, face: int) -> bool:
    """Do the normals of a cylinder point towards its axis?"""
    d = shape.faces[face].carrier.array
    mine = np.flatnonzero(shape.facet_face == face)
    away = shape.points[shape.facets[mine]].mean(axis=1) - d[:3]
    radial = away - (away @ d[3:6])[:, None] * d[3:6]
    return bool((np.einsum("ij,ij->i", radial, shape.facet_normal[mine]) * shape.facet_area[mine]).sum() < 0)


def _round_about(shape: Shape, loop: list[int], axis: Floats) -> bool:
    """Does a closed loop of edges go once round an axis, a point and a direction (6+,)?"""
    side, turn, left = frame(axis[3:6]), 0.0, list(loop)
    at: int | None = None
    while left:
        e = next((e for e in left if at is None or at in shape.edges[e].nodes[[0, -1]]), None)
        if e is None:
            return False
        left.remove(e)
        nodes = shape.edges[e].nodes
        nodes = nodes if at is None or nodes[0] == at else nodes[::-1]
        at = int(nodes[-1])
        away = shape.points[nodes] - axis[:3]
        angle = np.unwrap(np.arctan2(away @ side[1], away @ side[0]))
        turn += float(angle[-1] - angle[0])
    return abs(abs(turn) - 2 * np.pi) < 0.05


def _closed(shape: Shape, loop: list[int]) -> bool:
    """Do edges lead round, with no end left over?"""
    ends = np.array([shape.edges[e].nodes[[0, -1]] for e in loop]).ravel()
    return bool((np.unique(ends, return_counts=True)[1] % 2 == 0).all())


def sheet_holes(shape: Shape) -> tuple[Hole, ...]:
    """Holes of a sheet: closed loops of free edges but the largest."""
    loops = [loop for loop in free_loops(shape) if _closed(shape, loop)]
    reach = [float(np.linalg.norm(np.ptp(np.concatenate([shape.points[shape.edges[e].nodes] for e in loop]), axis=0))) for loop in loops]
    out = []
    for k, loop in enumerate(loops):
        if k == int(np.argmax(reach)) or reach[k] > 0.7 * shape.diagonal:
            continue
        walls = tuple(sorted({f for e in loop for f in shape.edge_faces[e]}))
        out.append(_describe(shape, [loop], walls))
    return tuple(sorted(out, key=lambda h: (h.diameter, h.width, h.centre)))


def _inner_loops(shape: Shape) -> list[tuple[int, list[int]]]:
    """(face, edges) of every border loop of a face but its longest."""
    out = []
    for f, edges in enumerate(shape.face_edges):
        own = [e for e in edges if shape.edge_faces[e].count(f) == 1]
        loops = linked(shape, own)
        if len(own) != len(edges):  # closed round with a seam: a tube's ends are no holes
            carrier = shape.faces[f].carrier
            if carrier.kind in ("cylinder", "cone"):
                out += [(f, loop) for loop in loops if not _round_about(shape, loop, carrier.array)]
            continue
        if len(loops) < 2:
            continue
        reach = [
            float(np.linalg.norm(np.ptp(np.concatenate([shape.points[shape.edges[e].nodes] for e in loop]), axis=0))) for loop in loops
        ]
        outer = int(np.argmax(reach))
        out += [(f, loop) for k, loop in enumerate(loops) if k != outer]
    return out


def falls_away(shape: Shape, host: int, edge: int) -> bool:
    """Is the solid convex at this edge (a hole's mouth) rather than concave (the foot of a boss)?"""
    a, b = (int(n) for n in shape.edges[edge].nodes[:2])
    beside = shape.segment_faces[(a, b) if a < b else (b, a)]
    if len(beside) != 2:
        return False
    mine, other = beside if shape.facet_face[beside[0]] == host else beside[::-1]
    corner = next(int(n) for n in shape.facets[other] if n not in (a, b))
    return bool((shape.points[corner] - shape.points[a]) @ shape.facet_normal[mine] < 0)


def _describe(shape: Shape, loops: list[list[int]], walls: tuple[int, ...]) -> Hole:
    circles: list[Floats] = []
    others: list[list[int]] = []
    for loop in loops:
        carriers = [shape.edges[e].carrier for e in loop]
        first = carriers[0].array
        if all(
            c.kind == "circle" and np.linalg.norm(c.array[:3] - first[:3]) < 1e-3 * first[6] and abs(c.data[6] - first[6]) < 1e-3 * first[6]
            for c in carriers
        ):
            circles.append(first)
        else:
            others.append(loop)
    tubes = [shape.faces[f].carrier.array for f in walls if shape.faces[f].carrier.kind == "cylinder"]
    alike = len(tubes) == len(walls) and all(_one_axis(tubes[0], d) for d in tubes)
    about = circles[0] if circles else tubes[0] if alike else None
    points = np.concatenate([shape.points[shape.edges[e].nodes] for loop in loops for e in loop])
    centre = points.mean(axis=0)
    round_walls = not others or all(shape.faces[f].carrier.kind in ROUND for f in walls)
    if about is not None and round_walls and all(_round_about(shape, loop, about) for loop in others):
        if others:
            centre = about[:3] + ((centre - about[:3]) @ about[3:6]) * about[3:6]
        else:
            centre = np.mean([c[:3] for c in circles], axis=0)
        diameter = 2 * min(float(d[6]) for d in (*circles, *(tubes if alike else ())))
        return Hole("round", diameter, diameter, diameter, triple(centre), triple(about[3:6]), walls)
    mouth = np.concatenate([shape.points[shape.edges[e].nodes] for e in loops[0]])
    axes = np.linalg.svd(mouth - mouth.mean(axis=0))[2]
    extent = np.ptp((mouth - mouth.mean(axis=0)) @ axes.T, axis=0)
    return Hole("cut-out", 0.0, float(min(extent[:2])), float(max(extent[:2])), triple(centre), triple(unit(axes[2])), walls)
