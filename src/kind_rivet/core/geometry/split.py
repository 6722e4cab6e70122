"""Splitting faces along the zero line of a field: planes, cylinders, distances, drawn curves.

The line is found exactly on the faces' carriers, facets are cut along it, the face falls
apart, and the new edges get carriers of their own. Ways and their measures:

============ ================================================================
plane        origin (3), normal (3)
segment      start (3), end (3), wall normal (3): the plane through both, along the line only
circle       centre (3), axis (3), radius
ring         centre (3), axis (3), distance from the border round that centre
curve        direction of projection (3), then points of the drawn line (3 each)
============ ================================================================
"""

from __future__ import annotations

import itertools
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Floats, fit_curve, frame, project, unit
from kind_rivet.core.geometry.insert import with_line
from kind_rivet.core.geometry.loops import free_loops
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.refine import SideCarriers, cut_sides, refined, sides_of
from kind_rivet.core.geometry.shape import Edge, Face, Shape
from kind_rivet.core.kernels import kernel

Field = Callable[[Floats], Floats]
WAYS = ("plane", "segment", "circle", "ring", "curve")


@dataclass(frozen=True)
class _Cut:
    """`field` is zero on the line; `wanted` tells from a chain's points whether it is cut; `reach` is how fine the facets near it must be."""

    field: Field
    wanted: Callable[[Floats], bool]
    faces: tuple[int, ...]
    reach: float  # facets are made at least this fine near the line; 0: as they are


def split_faces(shape: Shape, way: str, measures: tuple[float, ...], at: Floats, snap: bool = True) -> tuple[Shape, int]:
    """Split the face at the point `at` (or, for rings, all that the ring crosses); returns the shape and the number of new edges.

    Face numbers that existed stay; new pieces get numbers at the end. Raises `Refused`
    when the line misses the face, runs along its border or does not divide it. A line that
    ends at a hole runs on beyond it. `snap`: nodes beside the line are moved onto it, else facets may become needles
    (not where it runs along edges that are there: nodes beside those would make a second line).
    """
    cut = _prepared(shape, way, np.asarray(measures, float), np.asarray(at, float))
    chosen = np.zeros(len(shape.faces), bool)
    chosen[list(cut.faces)] = True
    if cut.reach > 0:
        shape = refined(shape, chosen, cut.field, cut.reach)
    shape, moved = _snapped(shape, chosen, cut.field) if snap else (shape, np.empty(0, np.int64))
    value = cut.field(shape.points)
    value[moved] = 0.0
    value[np.abs(value) < 1e-9 * shape.diagonal] = 0.0
    return _divided(shape, chosen, value, cut)


def cut_between(shape: Shape, face: int, vertex: int, place: Floats) -> Shape | None:
    """The shape with a new edge across a face, straight from a vertex inside it to a place (3,) on its border.

    The face falls apart only where that parts it. None where no such line can be found. First parts of a cut
    edge keep its number, later parts come behind all old edges, the new edge is the last; new faces come last too.
    """
    made = with_line(shape, face, vertex, place)
    return None if made is None else with_edges(made[0], [made[1]], np.arange(len(shape.faces)) == face)[0]


def split_between(shape: Shape, face: int, part: NDArray[np.int64]) -> Shape | None:
    """The shape with a face split along the sides of facets between those in `part` and its others; None where that parts nothing.

    Face numbers that existed stay; new pieces get numbers at the end.
    """
    rows = shape.facets[shape.facet_face == face].astype(np.int64)
    within = np.isin(np.flatnonzero(shape.facet_face == face), part)
    side = np.sort(rows[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1)
    sides, use = np.unique(side, axis=0, return_inverse=True)
    inside = np.bincount(use.ravel(), np.repeat(within, 3), len(sides))
    between = sides[(np.bincount(use.ravel(), minlength=len(sides)) == 2) & (inside == 1)]
    if not len(between):
        return None
    lines = _linked([(int(a), int(b)) for a, b in between])
    out, _ = with_edges(shape, [[k for k in line if isinstance(k, int)] for line in lines], np.arange(len(shape.faces)) == face)
    return out if len(out.faces) > len(shape.faces) else None


def _prepared(shape: Shape, way: str, d: Floats, at: Floats) -> _Cut:
    tree = FacetTree.over(shape.points, shape.facets)
    if way not in WAYS:
        raise Refused(f"There is no way of splitting called {way}.", f"Use one of {', '.join(WAYS)}.")
    facet, _, _ = tree.nearest(at[None])
    face = int(shape.facet_face[facet[0]])
    everything: Callable[[Floats], bool] = lambda chain: True  # noqa: E731
    if way == "plane":
        origin, normal = d[:3], unit(d[3:6])
        return _Cut(lambda p: (p - origin) @ normal, everything, (face,), 0.0)
    if way == "segment":
        start, end = d[:3], d[3:6]
        along = end - start
        if np.linalg.norm(along) < 1e-9 * shape.diagonal:
            raise Refused("Both ends of the splitting line are the same point.", "Choose two different points.")
        across = unit(np.cross(along, d[6:9]))
        if np.linalg.norm(across) < 0.5:
            raise Refused("The splitting line stands on the wall instead of lying in it.", "Choose two points on one wall.")
        slack = 1e-3 * float(np.linalg.norm(along))

        def spans(chain: Floats) -> bool:
            t = (chain - start) @ along / float(along @ along)
            return bool(t.min() < 1 - 1e-9 and t.max() > 1e-9 and _reach(chain, (start + end) / 2) < float(np.linalg.norm(along)) + slack)

        return _Cut(lambda p: (p - start) @ across, spans, (face,), 0.0)
    if way == "circle":
        centre, axis, radius = d[:3], unit(d[3:6]), float(d[6])
        if radius <= 0:
            raise Refused("The radius of a circle must be positive.", "Give a larger radius.")
        return _Cut(_round(centre, axis, radius), lambda c: _reach(c, centre) < 2 * radius, (face,), 0.3 * radius)
    if way == "ring":
        return _ring(shape, d)
    direction, drawn = unit(d[:3]), d[3:].reshape(-1, 3)
    if len(drawn) < 2:
        raise Refused("A drawn line needs two points or more.", "Choose more points.")
    step = float(np.linalg.norm(np.diff(drawn, axis=0), axis=1).min())

    def seen(p: Floats) -> Floats:
        return np.asarray(p - (p @ direction)[:, None] * direction)

    return _Cut(
        _beside(drawn, direction),
        lambda c: _reach(seen(c), seen(drawn)) < 1e-3 * shape.diagonal + step,
        (face,),
        0.0 if len(drawn) == 2 else 0.5 * step,
    )


def _reach(chain: Floats, place: Floats) -> float:
    """Least distance between the points of a chain and a place or places."""
    gap = chain[:, None] - np.atleast_2d(place)[None]
    return float(np.linalg.norm(gap, axis=2).min())


def _round(centre: Floats, axis: Floats, radius: float) -> Field:
    def field(p: Floats) -> Floats:
        q = p - centre
        return np.asarray(np.linalg.norm(q - (q @ axis)[:, None] * axis, axis=1) - radius)

    return field


def _ring(shape: Shape, d: Floats) -> _Cut:
    """A ring round the free border loop about a centre: a circle for round holes, else a line at a distance from the border."""
    centre, axis, distance = d[:3], unit(d[3:6]), float(d[6])
    if distance <= 0:
        raise Refused("The ring's distance must be positive.", "Give a larger distance.")
    best, best_off = None, np.inf
    for loop in free_loops(shape):
        points = np.concatenate([shape.points[shape.edges[e].nodes] for e in loop])
        middle = (points.min(axis=0) + points.max(axis=0)) / 2
        off = float(np.linalg.norm(middle - centre))
        if off < best_off and off < np.linalg.norm(np.ptp(points, axis=0)):
            best, best_off = loop, off
    if best is None:
        raise Refused("There is no hole at that place on the sheet.", "Choose a hole; a ring needs a free border inside a wall.")
    lines = [np.ascontiguousarray(shape.points[shape.edges[e].nodes]) for e in best]
    border = np.concatenate(lines)
    carriers = [shape.edges[e].carrier for e in best]
    faces = tuple(sorted({f for e in best for f in shape.edge_faces[e]}))
    if all(c.kind == "circle" for c in carriers) and np.ptp([c.data[6] for c in carriers]) < 1e-3 * carriers[0].data[6]:
        middle, radius = carriers[0].array[:3], carriers[0].data[6] + distance
        turn = carriers[0].array[3:6]
        return _Cut(
            _round(middle, turn, radius),
            lambda c: _reach(c, border) < 1.05 * distance and _goes_round(c, middle, turn),
            faces,
            0.3 * radius,
        )

    def field(p: Floats) -> Floats:
        return np.min([distance_to_lines(np.ascontiguousarray(p), line) for line in lines], axis=0) - distance

    u, v = frame(axis)

    return _Cut(field, lambda c: _goes_round(c, border.mean(axis=0), np.cross(u, v)), faces, max(0.5 * distance, 1e-3 * shape.diagonal))


def _goes_round(chain: Floats, centre: Floats, axis: Floats) -> bool:
    u, v = frame(unit(axis))
    q = chain - centre
    return bool(abs(np.ptp(np.unwrap(np.arctan2(q @ v, q @ u)))) > 5.8)


@kernel
def distance_to_lines(p, line):  # type: ignore[no-untyped-def]
    """Least distance (n,) of points (n, 3) from the sides of a polyline (k, 3)."""
    out = np.empty(len(p))
    for i in range(len(p)):
        best = np.inf
        for k in range(len(line) - 1):
            dot = square = 0.0
            for j in range(3):
                side = line[k + 1, j] - line[k, j]
                dot += (p[i, j] - line[k, j]) * side
                square += side * side
            t = min(max(dot / square, 0.0), 1.0) if square > 0.0 else 0.0
            gap = 0.0
            for j in range(3):
                away = p[i, j] - line[k, j] - t * (line[k + 1, j] - line[k, j])
                gap += away * away
            best = min(best, gap)
        out[i] = np.sqrt(best)
    return out


def _beside(drawn: Floats, direction: Floats) -> Field:
    """Signed distance from a drawn line seen along a direction; its ends run on straight."""
    u, v = frame(direction)
    flat = np.column_stack((drawn @ u, drawn @ v))

    def field(p: Floats) -> Floats:
        q = np.column_stack((p @ u, p @ v))
        best = np.full(len(q), np.inf)
        side = np.zeros(len(q))
        last = len(flat) - 2
        for k in range(last + 1):
            a, along = flat[k], flat[k + 1] - flat[k]
            square = float(along @ along)
            if square == 0:
                continue
            t = (q - a) @ along / square
            t = np.clip(t, -np.inf if k == 0 else 0, np.inf if k == last else 1)
            gap = q - a - t[:, None] * along
            away = np.linalg.norm(gap, axis=1)
            turn = along[0] * (q - a)[:, 1] - along[1] * (q - a)[:, 0]
            closer = away < best
            best, side = np.where(closer, away, best), np.where(closer, np.sign(turn), side)
        return best * side

    return field


def _snapped(shape: Shape, chosen: NDArray[np.bool_], field: Field) -> tuple[Shape, NDArray[np.int64]]:
    """Nodes inside the chosen faces that lie very near the line are moved onto it, so that no facet becomes a needle."""
    facets = np.flatnonzero(chosen[shape.facet_face])
    sides = sides_of(shape, facets)
    shortest = np.full(len(shape.points), np.inf)
    length = np.linalg.norm(shape.points[sides[:, 0]] - shape.points[sides[:, 1]], axis=1)
    for k in (0, 1):
        np.minimum.at(shortest, sides[:, k], length)
    inside = np.isfinite(shortest)
    for edge in shape.edges:
        inside[edge.nodes] = False
    value = field(shape.points)
    near = np.flatnonzero(inside & (np.abs(value) < 0.12 * shortest) & (np.abs(value) > 0))
    if not len(near):
        return shape, near
    step = 1e-4 * np.minimum(shortest[near], 1e3)
    p = shape.points[near].copy()
    normal = np.zeros((len(shape.points), 3))
    np.add.at(normal, shape.facets[facets].ravel(), shape.normals[facets].reshape(-1, 3))
    normal = unit(normal[near])
    face = np.zeros(len(shape.points), np.int64)
    face[shape.facets[facets].ravel()] = np.repeat(shape.facet_face[facets], 3)
    for _ in range(4):
        f = field(p)
        gradient = np.column_stack([(field(p + step[:, None] * e) - field(p - step[:, None] * e)) / (2 * step) for e in np.eye(3)])
        gradient -= np.einsum("ij,ij->i", gradient, normal)[:, None] * normal
        p -= (f / np.maximum(np.einsum("ij,ij->i", gradient, gradient), 1e-300))[:, None] * gradient
        for k in np.unique(face[near]):
            mine = face[near] == k
            p[mine] = project(shape.faces[int(k)].carrier, p[mine])
    good = (np.linalg.norm(p - shape.points[near], axis=1) < 0.3 * shortest[near]) & (np.abs(field(p)) < 1e-7 * shape.diagonal)
    points = shape.points.copy()
    points[near[good]] = p[good]
    return replace(shape, points=points), near[good]


def _divided(shape: Shape, chosen: NDArray[np.bool_], value: Floats, cut: _Cut) -> tuple[Shape, int]:
    facets = np.flatnonzero(chosen[shape.facet_face])
    sides = sides_of(shape, facets)
    crossing = sides[value[sides[:, 0]] * value[sides[:, 1]] < 0]
    segments = [(int(a), int(b)) for a, b in crossing]
    places = _roots(shape, crossing, segments, cut.field)
    spot: dict[tuple[int, int] | int, Floats] = dict(zip(segments, places, strict=True))
    pieces = _line_pieces(shape, facets, value, set(segments))
    if not pieces:
        raise Refused("The line misses the face.", "Move it so that it crosses the wall.")
    chains = _linked(pieces)
    paths = [np.array([spot[k] if isinstance(k, tuple) else shape.points[k] for k in chain]) for chain in chains]
    kept = [chain for chain, path in zip(chains, paths, strict=True) if cut.wanted(path)]
    if not kept:
        raise Refused("The line misses the face there.", "Move it so that it crosses the wall.")
    for lot in (kept, chains):  # a line that ends at a hole divides nothing: then it runs on beyond it
        needed = {k: spot[k] for chain in lot for k in chain if isinstance(k, tuple)}
        out, number = cut_sides(shape, needed)
        lines = [[number[k] if isinstance(k, tuple) else k for k in chain] for chain in lot]
        result, count = with_edges(out, lines, chosen)
        if len(result.faces) > len(shape.faces):
            return result, count
    raise Refused("The line does not divide the face.", "Let it run from border to border, or close on itself.")


def _roots(shape: Shape, sides: NDArray[np.int64], segments: list[tuple[int, int]], field: Field) -> Floats:
    """Where the field is zero on each side, on the exact carrier: bisection."""
    if not segments:
        return np.empty((0, 3))
    a, b = shape.points[sides[:, 0]], shape.points[sides[:, 1]]
    low, high = np.zeros(len(sides)), np.ones(len(sides))
    start = np.sign(field(a))
    carriers = SideCarriers(shape, segments)
    place = a
    for _ in range(34):
        t = (low + high) / 2
        place = carriers.lifted(a + t[:, None] * (b - a))
        same = np.sign(field(place)) == start
        low, high = np.where(same, t, low), np.where(same, high, t)
    return place


def _line_pieces(
    shape: Shape, facets: NDArray[np.int64], value: Floats, crossing: set[tuple[int, int]]
) -> list[tuple[tuple[int, int] | int, tuple[int, int] | int]]:
    """Pieces of the line, one per facet that it runs through: between sides, corners, or along a side."""
    on_edge = {(min(a, b), max(a, b)) for e in shape.edges for a, b in zip(e.nodes[:-1].tolist(), e.nodes[1:].tolist(), strict=True)}
    out: set[tuple[tuple[int, int] | int, tuple[int, int] | int]] = set()
    rows = shape.facets[facets]
    busy = (value[rows].min(axis=1) <= 0) & (value[rows].max(axis=1) >= 0)
    for row in rows[busy].tolist():
        ends: list[tuple[int, int] | int] = [v for v in row if value[v] == 0]
        for k in range(3):
            a, b = row[k], row[(k + 1) % 3]
            side = (a, b) if a < b else (b, a)
            if side in crossing:
                ends.append(side)
        if len(ends) == 2:
            one, two = sorted(ends, key=lambda k: (isinstance(k, tuple), k))
            if isinstance(one, int) and isinstance(two, int) and (min(one, two), max(one, two)) in on_edge:
                continue  # the line runs along a border here
            out.add((one, two))
    return sorted(out, key=str)


def _linked(pieces: list[tuple[tuple[int, int] | int, tuple[int, int] | int]]) -> list[list[tuple[int, int] | int]]:
    """Pieces linked head to tail into chains; closed ones end where they begin."""
    at: dict[tuple[int, int] | int, list[int]] = {}
    for k, (a, b) in enumerate(pieces):
        at.setdefault(a, []).append(k)
        at.setdefault(b, []).append(k)
    used = np.zeros(len(pieces), bool)
    out = []
    starts = [n for n, mine in at.items() if len(mine) != 2]
    for start in [*starts, *at]:
        for first in at[start]:
            if used[first]:
                continue
            chain, here, piece = [start], start, first
            while True:
                used[piece] = True
                here = pieces[piece][1] if pieces[piece][0] == here else pieces[piece][0]
                chain.append(here)
                following = [k for k in at[here] if not used[k]]
                if len(at[here]) != 2 or not following:
                    break
                piece = following[0]
            out.append(chain)
    return out


def with_edges(shape: Shape, lines: list[list[int]], chosen: NDArray[np.bool_]) -> tuple[Shape, int]:
    """New edges along the lines, old edges cut where lines end on them or cross them, faces numbered anew where they fall apart."""
    barrier = {(min(a, b), max(a, b)) for e in shape.edges for a, b in zip(e.nodes[:-1].tolist(), e.nodes[1:].tolist(), strict=True)}
    on_line = {(min(a, b), max(a, b)) for line in lines for a, b in itertools.pairwise(line)}
    facets = np.flatnonzero(chosen[shape.facet_face])
    label = pieces_between(shape, facets, barrier | on_line)
    owner = shape.facet_face.copy()
    faces = list(shape.faces)
    for f in np.flatnonzero(chosen).tolist():
        mine = facets[shape.facet_face[facets] == f]
        names = np.unique(label[mine])
        area = np.array([shape.facet_area[mine[label[mine] == k]].sum() for k in names])
        for k in names[np.argsort(-area)][1:]:
            owner[mine[label[mine] == k]] = len(faces)
            faces.append(Face(shape.faces[f].carrier, shape.faces[f].name, shape.faces[f].colour))
    through = {n for e in shape.edges for n in e.nodes.tolist()}
    ends = {line[k] for line in lines for k in (0, -1) if line[0] != line[-1]} | {n for line in lines for n in line if n in through}
    corners = ends | {int(e.nodes[k]) for e in shape.edges if not e.closed for k in (0, -1)}  # a seam may end where a closed edge begins
    # First parts of cut edges keep their number: later parts go behind all old ones, the new lines last.
    firsts, rest, new = [], [], []
    for edge in shape.edges:
        parts = [edge] if ends.isdisjoint(edge.nodes.tolist()) else cut_edge(edge, corners)
        firsts.append(parts[0])
        rest += parts[1:]
    tolerance = 1e-6 * shape.diagonal
    for line in lines:
        for part in cut_edge(Edge(np.array(line, np.int32)), ends):
            new.append(Edge(part.nodes, fit_curve(shape.points[part.nodes], tolerance)))
    return replace(shape, facet_face=owner, faces=tuple(faces), edges=(*firsts, *rest, *new)), len(new)


def cut_edge(edge: Edge, at: set[int]) -> list[Edge]:
    """An edge in parts that end at the given nodes; a closed one begins anew at one of them."""
    nodes = edge.nodes
    inner = [k for k in range(1, len(nodes) - 1) if int(nodes[k]) in at]
    if edge.closed and inner:  # begin at a cut, so that no vertex is left where none is needed
        nodes = np.concatenate((nodes[inner[0] :], nodes[1 : inner[0] + 1]))
        inner = [k for k in range(1, len(nodes) - 1) if int(nodes[k]) in at]
    stops = [0, *inner, len(nodes) - 1]
    return [Edge(nodes[a : b + 1], edge.carrier) for a, b in itertools.pairwise(stops)]


def pieces_between(shape: Shape, facets: NDArray[np.int64], barrier: set[tuple[int, int]]) -> NDArray[np.int64]:
    """Label (all facets, −1 elsewhere) of the pieces that some facets fall into when barriers are not crossed."""

    rows = shape.facets[facets].astype(np.int64)
    side = np.sort(rows[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1)
    owner = np.repeat(np.arange(len(facets)), 3)
    n = np.int64(len(shape.points))
    key = side[:, 0] * n + side[:, 1]
    walls = np.array([a * n + b for a, b in barrier], np.int64)
    free = ~np.isin(key, walls)
    key, owner = key[free], owner[free]
    order = np.argsort(key, kind="stable")
    key, owner = key[order], owner[order]
    same = np.flatnonzero(key[1:] == key[:-1])
    graph = scipy.sparse.coo_matrix((np.ones(len(same)), (owner[same], owner[same + 1])), shape=(len(facets), len(facets)))
    label = np.full(len(shape.facets), -1, np.int64)
    label[facets] = scipy.sparse.csgraph.connected_components(graph, directed=False)[1]
    return label
