"""Hard points that lie on edges: the edge is cut there, so that one of its nodes comes to lie on the point."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.refine import cut_sides
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.split import cut_edge
from kind_rivet.core.meshing.curves import Curve, nearest_on_chain
from kind_rivet.core.meshing.cut_sheet import CutSheet
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.sheet_mesh import HARD_POINT, VERTEX, SheetMesh
from kind_rivet.core.words import counted

NEAR = 0.15  # sizes: a hard point nearer to a corner than this lies on it; no element fits between
OFF_WALL = 0.25  # sizes: a hard point further from all walls than this belongs to none of them
BESIDE = 0.05  # sizes: one nearer to an edge than this lies on it
OFF = 1e-4  # of the diagonal: facets may stand this far off an edge that they follow
SAME = 1e-7  # of the diagonal: what lies nearer is the same place

LIE = "hard point lies", "hard points lie"
Place = tuple[int, float, Floats]  # an edge, how far along it, and the place (3,)


def on_walls(shape: Shape, hard: Floats, size: float, notes: list[str]) -> Floats:
    """The hard points (h, 3) that lie on a wall; those whose wall is gone are left out, and `notes` say so."""
    if not len(hard):
        return hard
    far = FacetTree.over(shape.points, shape.facets).nearest(hard)[2] > OFF_WALL * size
    if far.any():
        notes.append(f"{counted(int(far.sum()), *LIE)} on no wall and cannot be hit.")
    return np.asarray(hard[~far])


def cut_at_hard(
    sheet: CutSheet, hard: Floats, rules: ShellRules, fixed: Collection[int], notes: list[str]
) -> tuple[CutSheet, Floats, Floats]:
    """The sheet with its edges cut at the hard points (h, 3) on them, the places of these, and the points that lie inside walls.

    Edges that are `fixed`, graded or given too few divisions by hand stay whole; what they keep
    from being hit, and what is hit only nearly, is said in `notes`.
    """
    shape = sheet.shape
    curves = [Curve.through(shape.points[e.nodes], e.carrier) for e in shape.edges]
    corners = shape.points[list(shape.vertices)] if shape.vertices else np.empty((0, 3))
    inside, on_edges = [], []
    missed = moved = 0
    whole = {*fixed, *rules.grading}
    parts: dict[int, int] = {}
    for p in hard:
        gap = float(np.linalg.norm(corners - p, axis=1).min(initial=np.inf))
        if gap < NEAR * rules.size:
            moved += gap > SAME * shape.diagonal
            continue
        found = _nearest(curves, p, BESIDE * rules.size)
        if found is None:
            inside.append(p)
            continue
        edge = int(sheet.edges[found[0]])
        parts[edge] = parts.get(edge, len(sheet.parts(edge)) if edge >= 0 else 1) + 1
        if edge in whole or parts[edge] > rules.divisions.get(edge, parts[edge]):
            missed += 1
            continue
        moved += float(np.linalg.norm(found[2] - p)) > OFF * shape.diagonal
        on_edges.append(found)
    if missed:
        notes.append(f"{counted(missed, *LIE)} on an edge whose nodes are held, and cannot be hit.")
    if moved:
        notes.append(f"{counted(moved, *LIE)} so near to an edge or corner that no element fits between: the node is on that.")
    places = np.array([place for _, _, place in on_edges]).reshape(-1, 3)
    return _cut(sheet, curves, on_edges), places, np.array(inside).reshape(-1, 3)


def _nearest(curves: list[Curve], place: Floats, limit: float) -> Place | None:
    """The nearest edge within the limit of a place, and where on it."""
    best: tuple[float, Place] | None = None
    for e, curve in enumerate(curves):
        chord = nearest_on_chain(curve.points, place)[2]
        if chord > limit + 0.1 * float(np.diff(curve.stations).max()):  # the curve bows out less than that beyond its chords
            continue
        at = _settled(curve, place, curve.nearest_station(place))
        foot = curve.at(np.array([at]))[0]
        away = float(np.linalg.norm(foot - place))
        if away < limit and (best is None or away < best[0]):
            best = away, (e, at, foot)
    return best[1] if best else None


def _settled(curve: Curve, place: Floats, at: float) -> float:
    """The distance along a curve at which a place has its foot, from one near by: the facets' sides tell it only roughly on arcs."""
    step = 1e-4 * curve.length
    for _ in range(4):
        low, here, high = curve.at(np.clip([at - step, at, at + step], 0.0, curve.length))
        along = high - low
        at = float(np.clip(at + 2 * step * float((place - here) @ along) / max(float(along @ along), 1e-300), 0.0, curve.length))
    return at


def _cut(sheet: CutSheet, curves: list[Curve], places: list[Place]) -> CutSheet:
    """The sheet with nodes at the places, and its edges cut there; closed edges twice, so that nothing turns them."""
    by_edge: dict[int, list[tuple[float, Floats]]] = {}
    for e, at, place in places:
        by_edge.setdefault(e, []).append((at, place))
    before = shape = sheet.shape
    near = SAME * shape.diagonal
    nodes: set[int] = set()
    for e, lot in by_edge.items():
        if before.edges[e].closed and len(lot) == 1:
            across = (lot[0][0] + curves[e].length / 2) % curves[e].length
            lot.append((across, curves[e].at(np.array([across]))[0]))
    waiting = {e: [place for _, place in sorted(lot, key=lambda t: t[0])] for e, lot in by_edge.items()}
    while waiting:
        cuts: dict[tuple[int, int], Floats] = {}
        left: dict[int, list[Floats]] = {}
        for e, still in waiting.items():
            chain = shape.edges[e].nodes
            for place in still:
                there = np.linalg.norm(shape.points[chain] - place, axis=1)
                if there.min() < near:
                    nodes.add(int(chain[int(np.argmin(there))]))
                    continue
                a, b = _segment(shape.points, chain, place)
                if (a, b) in cuts:
                    left.setdefault(e, []).append(place)
                else:
                    cuts[(a, b)] = place
        shape, new = cut_sides(shape, cuts)
        nodes |= set(new.values())
        waiting = left
    if not nodes:
        return sheet
    corners = nodes | {int(e.nodes[k]) for e in shape.edges if not e.closed for k in (0, -1)}
    parts = [cut_edge(edge, corners) if not nodes.isdisjoint(edge.nodes.tolist()) else [edge] for edge in shape.edges]
    edges = (*(lot[0] for lot in parts), *(part for lot in parts for part in lot[1:]))
    return replace(sheet, shape=shape).followed_by(replace(shape, edges=edges), 0, 0)


def _segment(points: Floats, chain: NDArray[np.int32], place: Floats) -> tuple[int, int]:
    """The side of a chain that lies nearest to a place, lower node first."""
    k = nearest_on_chain(points[chain], place)[0]
    low, high = sorted((int(chain[k]), int(chain[k + 1])))
    return low, high


def edges_at(shape: Shape, hard: Floats, near: float) -> set[int]:
    """Edges that end at a hard point (h, 3): however short they are, they are not looked past."""
    if not len(hard):
        return set()
    vertices = np.array(list(shape.vertices), np.int64)
    gap = scipy.spatial.cKDTree(hard).query(shape.points[vertices])[0]
    return {e for v in vertices[gap < near].tolist() for e in shape.vertices[v]}


def held_at(mesh: SheetMesh, hard: Floats, near: float) -> SheetMesh:
    """The mesh with those border nodes held that lie on hard points (h, 3)."""
    if not len(hard) or not len(mesh.points):
        return mesh
    kind, item = mesh.on_kind.copy(), mesh.on_item.copy()
    gap, node = scipy.spatial.cKDTree(mesh.points).query(hard)
    mine = node[(gap < near) & (kind[node] != VERTEX)]
    kind[mine], item[mine] = VERTEX, HARD_POINT
    return replace(mesh, on_kind=kind, on_item=item)
