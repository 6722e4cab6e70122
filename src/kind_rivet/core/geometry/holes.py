"""Holes of a solid: inner border loops of its faces with the walls behind them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kind_rivet.core.geometry.carriers import Triple, triple, unit
from kind_rivet.core.geometry.loops import free_loops, linked
from kind_rivet.core.geometry.shape import Shape


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
    """Group the walls behind inner loops; only where the solid falls away (a boss stands up and is left).

    A round hole has all its mouths on circles about one axis; its diameter is the smallest.
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
        if not walls or not falls_away(shape, host, loop[0]):
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
    return tuple(sorted(out, key=lambda h: (h.diameter, h.width, h.centre)))


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
        if len(loops) < 2 or len(own) != len(edges):
            continue  # one loop, or closed round with a seam (a tube's ends are no holes)
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
    circles = []
    for loop in loops:
        carriers = [shape.edges[e].carrier for e in loop]
        first = carriers[0].array
        if all(
            c.kind == "circle" and np.linalg.norm(c.array[:3] - first[:3]) < 1e-3 * first[6] and abs(c.data[6] - first[6]) < 1e-3 * first[6]
            for c in carriers
        ):
            circles.append(first)
    points = np.concatenate([shape.points[shape.edges[e].nodes] for loop in loops for e in loop])
    centre = points.mean(axis=0)
    if circles and len(circles) == len(loops):
        centre = np.mean([c[:3] for c in circles], axis=0)
        diameter = 2 * min(float(c[6]) for c in circles)
        return Hole("round", diameter, diameter, diameter, triple(centre), triple(circles[0][3:6]), walls)
    mouth = np.concatenate([shape.points[shape.edges[e].nodes] for e in loops[0]])
    axes = np.linalg.svd(mouth - mouth.mean(axis=0))[2]
    extent = np.ptp((mouth - mouth.mean(axis=0)) @ axes.T, axis=0)
    return Hole("cut-out", 0.0, float(min(extent[:2])), float(max(extent[:2])), triple(centre), triple(unit(axes[2])), walls)
