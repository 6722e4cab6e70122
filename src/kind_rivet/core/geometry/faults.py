"""What would hurt a mesh: slivers, short edges, tiny faces, points close to edges, gaps, twins, small holes and blends."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from kind_rivet.core.geometry.carriers import Floats, Triple, arc_lengths, triple, unit
from kind_rivet.core.geometry.holes import Hole
from kind_rivet.core.geometry.shape import Shape

KINDS = {
    "sliver": "narrow face",
    "short edge": "short edge",
    "tiny face": "tiny face",
    "close point": "point close to an edge",
    "gap": "gap between free edges",
    "twin": "duplicate face",
    "small hole": "small hole",
    "small blend": "small blend",
}


@dataclass(frozen=True)
class Fault:
    """One place that would hurt the mesh, with its measured width.

    `remedy` is look past, leave out, remove, stitch or nothing; `edges`, `faces` and
    `holes` are what it acts on. `share` is the width over the wanted size: the smaller the worse.
    """

    kind: str
    width: float
    share: float
    place: Triple
    edges: tuple[int, ...] = ()
    faces: tuple[int, ...] = ()
    holes: tuple[int, ...] = ()
    remedy: str = ""
    body: int = 0


def find_faults(shape: Shape, size: float, holes: tuple[Hole, ...] = (), solid: bool = True, below: float = 0.4) -> tuple[Fault, ...]:
    """All faults of a shape narrower than `below` sizes (holes: one size), worst first."""
    limit = below * size
    found = _narrow_faces(shape, limit, size)
    slim = {f for fault in found for f in fault.faces}
    found += _short_edges(shape, limit, size, slim)
    found += _close_points(shape, limit, size, slim)
    found += _twins(shape, size)
    if solid:
        found += _small_blends(shape, 0.5 * size, size)
        for k, hole in enumerate(holes):
            if hole.kind == "round" and hole.diameter < size:
                found.append(Fault("small hole", hole.diameter, hole.diameter / size, hole.centre, (), hole.faces, (k,), "leave out"))
    else:
        found += _gaps(shape, limit, size)
    return tuple(sorted(found, key=lambda f: f.share))


def _narrow_faces(shape: Shape, limit: float, size: float) -> list[Fault]:
    """Faces whose mean width 2 A / P is small; tiny ones when they are small both ways."""
    out = []
    border = np.maximum(shape.face_border_length, 1e-300)
    width = 2 * shape.face_area / border
    for f in np.flatnonzero((width < limit) & (shape.face_area > 0)).tolist():
        middle = shape.points[shape.facets[shape.facet_face == f]].mean(axis=(0, 1))
        tiny = border[f] < 4 * limit
        edge = _best_side(shape, f)
        remedy = "look past" if edge is not None else ""
        out.append(
            Fault(
                "tiny face" if tiny else "sliver",
                float(width[f]),
                float(width[f] / size),
                triple(middle),
                (edge,) if edge is not None else (),
                (f,),
                (),
                remedy,
            )
        )
    return out


def _best_side(shape: Shape, face: int) -> int | None:
    """The edge across which a narrow face joins its neighbour best: long, and without much of a turn."""
    best, value = None, 0.0
    for e in shape.face_edges[face]:
        beside = shape.edge_faces[e]
        if len(beside) == 2 and beside[0] != beside[1]:
            merit = float(shape.edge_length[e]) * (0.2 + max(0.0, np.cos(dihedral(shape, e))) ** 4)
            if merit > value:
                best, value = e, merit
    return best


def dihedral(shape: Shape, edge: int) -> float:
    """Angle (rad) by which the surface turns across an edge, from the exact normals in its middle; π for free edges."""
    nodes = shape.edges[edge].nodes
    k = len(nodes) // 2 - (1 if len(nodes) == 2 else 0)
    a, b = int(nodes[max(k - 1, 0)]), int(nodes[max(k - 1, 0) + 1])
    beside = shape.segment_faces[(a, b) if a < b else (b, a)]
    if len(beside) != 2:
        return float(np.pi)
    normals = []
    for f in beside:
        at = [j for j in range(3) if int(shape.facets[f, j]) in (a, b)]
        normals.append(unit(shape.normals[f, at].mean(axis=0)))
    return float(np.arccos(np.clip(normals[0] @ normals[1], -1, 1)))


def _short_edges(shape: Shape, limit: float, size: float, slim: set[int]) -> list[Fault]:
    out = []
    for e, length in enumerate(shape.edge_length):
        if length < limit and not shape.edges[e].closed and not set(shape.edge_faces[e]) <= slim:
            nodes = shape.edges[e].nodes
            out.append(
                Fault(
                    "short edge", float(length), float(length / size), triple(shape.points[nodes].mean(axis=0)), (e,), (), (), "look past"
                )
            )
    return out


def _close_points(shape: Shape, limit: float, size: float, slim: set[int]) -> list[Fault]:
    """Vertices that come close to an edge of the same face without touching it."""
    step = limit / 2
    places, owner = [], []
    for e, edge in enumerate(shape.edges):
        p = shape.points[edge.nodes]
        s = arc_lengths(p)
        n = min(2000, max(2, int(np.ceil(s[-1] / step)) + 1))
        at = np.linspace(0, s[-1], n)
        places.append(np.column_stack([np.interp(at, s, p[:, k]) for k in range(3)]))
        owner.append(np.full(n, e))
    if not places:
        return []
    samples, of = np.concatenate(places), np.concatenate(owner)
    tree = scipy.spatial.cKDTree(samples)
    out = []
    for vertex, edges in shape.vertices.items():
        at = shape.points[vertex]
        faces = {f for e in edges for f in shape.edge_faces[e]}
        ends = {int(n) for e in edges for n in (shape.edges[e].nodes[0], shape.edges[e].nodes[-1])}
        near: dict[int, float] = {}
        for k in tree.query_ball_point(at, limit + step):
            e = int(of[k])
            if e in edges or not faces & set(shape.edge_faces[e]) - slim:
                continue
            if {int(shape.edges[e].nodes[0]), int(shape.edges[e].nodes[-1])} & ends:
                continue  # the other side of a short edge: reported as such
            near[e] = min(near.get(e, np.inf), _distance_to_edge(shape, e, at))
        if near:
            e = min(near, key=lambda k: near[k])
            if 0 < near[e] < limit:
                out.append(Fault("close point", near[e], near[e] / size, triple(at), (e,), (), (), ""))
    return out


def _distance_to_edge(shape: Shape, edge: int, at: Floats) -> float:
    p = shape.points[shape.edges[edge].nodes]
    a, along = p[:-1], np.diff(p, axis=0)
    t = np.clip(np.einsum("ij,ij->i", at - a, along) / np.maximum(np.einsum("ij,ij->i", along, along), 1e-300), 0, 1)
    return float(np.linalg.norm(a + t[:, None] * along - at, axis=1).min())


def _twins(shape: Shape, size: float) -> list[Fault]:
    """Faces of one area and one middle: the same face twice."""
    weight = np.repeat(shape.facet_area, 3)
    middles = (
        np.column_stack(
            [
                np.bincount(np.repeat(shape.facet_face, 3), weight * shape.points[shape.facets].reshape(-1, 3)[:, k], len(shape.faces))
                for k in range(3)
            ]
        )
        / np.maximum(3 * shape.face_area, 1e-300)[:, None]
    )
    out = []
    for a, b in scipy.spatial.cKDTree(middles).query_pairs(1e-6 * shape.diagonal):
        if abs(shape.face_area[a] - shape.face_area[b]) < 1e-6 * shape.face_area[a] and shape.face_area[a] > 0:
            out.append(Fault("twin", 0.0, 0.0, triple(middles[b]), (), (a, b), (), ""))
    return out


def _small_blends(shape: Shape, limit: float, size: float) -> list[Fault]:
    """Cylinders, tori and spheres of small radius that meet their neighbours smoothly over 40 % of their border."""
    out = []
    for f, face in enumerate(shape.faces):
        if face.carrier.kind not in ("cylinder", "torus", "sphere"):
            continue
        radius = face.carrier.data[-1]
        border = float(shape.face_border_length[f])
        smooth = sum(
            float(shape.edge_length[e]) for e in shape.face_edges[f] if dihedral(shape, e) < 0.1 and len(set(shape.edge_faces[e])) == 2
        )
        if radius < limit and smooth > 0.4 * border:
            middle = shape.points[shape.facets[shape.facet_face == f]].mean(axis=(0, 1))
            out.append(Fault("small blend", radius, radius / size, triple(middle), (), (f,), (), "remove"))
    return out


def _gaps(shape: Shape, limit: float, size: float) -> list[Fault]:
    """Free edges that run beside another free edge without being joined to it."""
    free = [e for e, beside in enumerate(shape.edge_faces) if len(beside) == 1]
    out = []
    done: set[int] = set()
    for e in free:
        if e in done:
            continue
        nodes = shape.edges[e].nodes
        middle = shape.points[nodes[len(nodes) // 2]] if len(nodes) > 2 else shape.points[nodes].mean(axis=0)
        ends = {int(nodes[0]), int(nodes[-1])}
        for other in free:
            if other == e or ends & {int(shape.edges[other].nodes[0]), int(shape.edges[other].nodes[-1])}:
                continue
            gap = _distance_to_edge(shape, other, middle)
            if gap < limit and shape.edge_length[e] > 3 * gap:
                out.append(Fault("gap", gap, gap / size, triple(middle), (e, other), (), (), "stitch"))
                done.add(other)
                break
    return out
