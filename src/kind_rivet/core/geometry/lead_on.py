"""A free edge of a sheet led on, along its wall, until it lies on another wall and is one edge with it."""

from __future__ import annotations

from dataclasses import replace
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import FREE, Carrier, Floats, distance, fit_curve, project, unit
from kind_rivet.core.geometry.insert import with_line, with_node
from kind_rivet.core.geometry.orient import turned_alike
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.refine import cut_sides
from kind_rivet.core.geometry.ruled import zipped
from kind_rivet.core.geometry.shape import Edge, Face, Shape
from kind_rivet.core.geometry.simplify import edges_in_one
from kind_rivet.core.geometry.split import split_faces, with_edges

TOUCHING = 1e-6  # of the diagonal: an edge nearer to the other wall lies on it
CANNOT = "The edge cannot be led on to that wall."


def moved_edge(shape: Shape, edge: int, face: int) -> tuple[Shape, NDArray[np.int64]]:
    """The sheet with a free edge moved to another face, whose edge it then shares; and for each face the one it came from.

    An edge that ends before the other face is led on along its own wall; one that ends beyond a plane
    face is cut back to it; one that lies on it already is only joined. Raises `Refused`
    where the edge is not free or misses the other face.
    """
    origin = np.arange(len(shape.faces))
    if len(shape.edge_faces[edge]) != 1:
        raise Refused("Only a free edge can be moved.", "Choose an edge drawn as free.")
    own = shape.edge_faces[edge][0]
    if own == face:
        raise Refused("The edge belongs to that wall.", "Choose another wall to move it to.")
    away = _outward(shape, edge)
    gap = _gaps(shape, shape.points[_ring(shape, edge)], away, face)
    if np.isinf(gap).any():
        back = _gaps(shape, shape.points[_ring(shape, edge)], -away, face)
        if np.isinf(back).any():
            raise Refused(f"{CANNOT} It misses it, led on straight.", "Choose the wall it points at, or bridge the gap.")
        shape, edge, origin = _cut_back(shape, edge, own, face)
        own = shape.edge_faces[edge][0]
        gap = np.zeros(len(_ring(shape, edge)))
        away = np.zeros((len(gap), 3))
    ring = _ring(shape, edge)
    places = shape.points[ring] + gap[:, None] * away
    count = len(shape.faces)
    shape, chain, corner = _line_on(shape, face, places, shape.edges[edge].closed)
    if gap.max() < TOUCHING * shape.diagonal:
        shape = _joined_along(shape, edge, chain, corner)
    else:
        shape = _strip(shape, edge, own, chain, corner)
    chosen = np.arange(len(shape.faces)) == face
    strips = len(shape.faces) - count
    origin = np.concatenate((origin, np.full(strips, origin[own])))
    before = len(shape.faces)
    shape, _ = with_edges(shape, [chain], chosen)
    origin = np.concatenate((origin, np.full(len(shape.faces) - before, origin[face])))
    return edges_in_one(turned_alike(_without_doubles(shape))), origin


def _ring(shape: Shape, edge: int) -> NDArray[np.int32]:
    """Nodes along an edge, the last one of closed edges left out."""
    nodes = shape.edges[edge].nodes
    return nodes[:-1] if shape.edges[edge].closed else nodes


def _outward(shape: Shape, edge: int) -> Floats:
    """Unit directions at an edge's nodes that lead on along its wall."""
    nodes, closed = shape.edges[edge].nodes, shape.edges[edge].closed
    out = np.zeros((len(_ring(shape, edge)), 3))
    for k, (a, b) in enumerate(pairwise(nodes.tolist())):
        facet = shape.segment_faces[(a, b) if a < b else (b, a)][0]
        side = unit(np.cross(shape.points[b] - shape.points[a], shape.facet_normal[facet]))
        inward = shape.points[shape.facets[facet]].mean(axis=0) - (shape.points[a] + shape.points[b]) / 2
        side = -side if side @ inward > 0 else side
        out[k] += side
        out[(k + 1) % len(out) if closed else k + 1] += side
    return unit(out)


def _gaps(shape: Shape, points: Floats, away: Floats, face: int) -> Floats:
    """How far (n,) each point is from a face along its direction; infinite where it misses it."""
    rows = shape.facets[shape.facet_face == face]
    tree = FacetTree.over(shape.points, rows)
    _, _, off = tree.nearest(points)
    slack = TOUCHING * shape.diagonal
    gap, hit = tree.cast(points - slack * away, away)
    gap = np.where(hit >= 0, gap - slack, np.inf)
    for k in np.flatnonzero((hit < 0) & (off > slack)):  # a ray along the border may miss by a hair
        middle = points.mean(axis=0) - points[k]
        nudge = 1e-6 * shape.diagonal * middle / max(float(np.linalg.norm(middle)), 1e-300)
        far, other = tree.cast((points[k] + nudge)[None], away[k][None])
        gap[k] = far[0] if other[0] >= 0 else np.inf
    carrier = shape.faces[face].carrier
    if carrier.kind != "free":  # onto the exact surface
        for k in np.flatnonzero(np.isfinite(gap)):
            for _ in range(6):
                q = points[k] + gap[k] * away[k]
                foot = project(carrier, q[None])[0]
                normal = q - foot
                if np.linalg.norm(normal) < 1e-12 * shape.diagonal:
                    break
                slope = float(away[k] @ unit(normal))
                if abs(slope) < 1e-3:
                    break
                gap[k] -= float(np.linalg.norm(normal)) / slope
    return np.where(off <= slack, 0.0, gap)


def _cut_back(shape: Shape, edge: int, own: int, face: int) -> tuple[Shape, int, NDArray[np.int64]]:
    """The sheet with what lies beyond a plane face cut off: the shape, the edge there is then, and where faces came from."""
    carrier = shape.faces[face].carrier
    if carrier.kind != "plane":
        raise Refused(f"{CANNOT} It ends beyond that wall, which is curved.", "Split its wall along the other one and drop the piece.")
    middle = shape.points[shape.edges[edge].nodes].mean(axis=0)
    at = shape.points[shape.facets[shape.facet_face == own]].mean(axis=1)
    at = at[int(np.argmin(np.linalg.norm(at - middle, axis=1)))]
    nodes = shape.edges[edge].nodes
    cut, _ = split_faces(shape, "plane", tuple(carrier.data[:6]), at)
    origin = np.concatenate((np.arange(len(shape.faces)), np.full(len(cut.faces) - len(shape.faces), own)))
    gone = next(cut.edge_faces[e][0] for e, other in enumerate(cut.edges) if int(nodes[0]) in other.nodes and int(nodes[1]) in other.nodes)
    keep = cut.facet_face != gone
    plane = carrier.array
    left = [e for e in range(len(cut.edges)) if set(cut.edge_faces[e]) != {gone}]
    number = np.cumsum(np.arange(len(cut.faces)) != gone) - 1
    rest = replace(
        cut, facets=cut.facets[keep], normals=cut.normals[keep], facet_face=number[cut.facet_face[keep]].astype(np.int32),
        faces=tuple(f for k, f in enumerate(cut.faces) if k != gone), edges=tuple(cut.edges[e] for e in left),
    )  # fmt: skip
    on_plane = [
        e for e, other in enumerate(rest.edges)
        if len(rest.edge_faces[e]) == 1 and np.abs((rest.points[other.nodes] - plane[:3]) @ plane[3:6]).max() < TOUCHING * shape.diagonal
        and origin[np.arange(len(cut.faces)) != gone][rest.edge_faces[e][0]] == own
    ]  # fmt: skip
    if gone == face or not on_plane:
        raise Refused(f"{CANNOT} The wall could not be cut along it.", "Split its wall along the other one and drop the piece.")
    nearest = min(on_plane, key=lambda e: float(np.linalg.norm(rest.points[rest.edges[e].nodes].mean(axis=0) - middle)))
    return rest, nearest, origin[np.arange(len(cut.faces)) != gone]


def _line_on(shape: Shape, face: int, places: Floats, closed: bool) -> tuple[Shape, list[int], list[int]]:
    """Nodes on a face along the places: the shape, all nodes of the line, and those at the places."""
    corner = []
    for place in places:
        shape, node = with_node(shape, face, place)
        corner.append(node)
    chain = [corner[0]]
    for a, b in pairwise([*corner, corner[0]] if closed else corner):
        made = with_line(shape, face, a, shape.points[b])
        if made is None or made[1][-1] != b:
            raise Refused(f"{CANNOT} The line on it could not be drawn.", "Bridge the gap to one of its edges instead.")
        shape = made[0]
        chain += made[1][1:]
    return shape, chain, corner


def _strip(shape: Shape, edge: int, own: int, chain: list[int], corner: list[int]) -> Shape:
    """Facets between an edge and the line it is led on to: more of its own face where they lie on its carrier, else a new face."""
    a, b = shape.edges[edge].nodes, np.array(chain, np.int32)
    facets = zipped(shape.points, a, b)
    beside = shape.facets[shape.segment_faces[(int(a[0]), int(a[1])) if a[0] < a[1] else (int(a[1]), int(a[0]))][0]].tolist()
    if beside[(beside.index(int(a[0])) + 1) % 3] == int(a[1]):  # turned like the face it goes on from
        facets = facets[:, [0, 2, 1]]
    at = shape.points[facets]
    flat = unit(np.cross(at[:, 1] - at[:, 0], at[:, 2] - at[:, 0]))
    tolerance = 1e-6 * shape.diagonal
    carrier = shape.faces[own].carrier
    mine = carrier.kind != "free" and bool((distance(carrier, shape.points[b]) < tolerance).all())
    faces, edges = list(shape.faces), list(shape.edges)
    if not mine:
        mean = unit(flat.sum(axis=0))
        middle = at.reshape(-1, 3).mean(axis=0)
        plane = np.abs((at.reshape(-1, 3) - middle) @ mean).max() < tolerance
        faces.append(Face(Carrier("plane", (*middle, *mean)) if plane else FREE, faces[own].name, faces[own].colour))
    owner = own if mine else len(faces) - 1
    if not shape.edges[edge].closed:
        for pair in ((int(a[0]), corner[0]), (int(a[-1]), corner[-1])):
            if pair[0] != pair[1]:
                edges.append(Edge(np.array(pair, np.int32), fit_curve(shape.points[list(pair)], tolerance)))
    if mine:
        del edges[edge]
    return replace(
        shape, facets=np.concatenate((shape.facets, facets)), facet_face=np.append(shape.facet_face, np.full(len(facets), owner)).astype(np.int32),
        normals=np.concatenate((shape.normals, np.repeat(flat[:, None], 3, axis=1))), faces=tuple(faces), edges=tuple(edges),
    )  # fmt: skip


def _joined_along(shape: Shape, edge: int, chain: list[int], corner: list[int]) -> Shape:
    """The nodes of an edge made those of a line that lies in the same place."""
    ring = _ring(shape, edge).tolist()
    ends = [*ring, ring[0]] if shape.edges[edge].closed else ring
    stops = [*corner, corner[0]] if shape.edges[edge].closed else corner
    same = dict(zip(ring, corner, strict=True))
    k = 0
    for (a, b), (_, end) in zip(pairwise(ends), pairwise(stops), strict=True):
        between = []
        k += 1
        while chain[k] != end:
            between.append(chain[k])
            k += 1
        for node in between:
            shape, new = cut_sides(shape, {(min(a, b), max(a, b)): shape.points[node]})
            a = next(iter(new.values()))
            same[a] = node
    table = np.arange(len(shape.points), dtype=np.int32)
    for old, new_one in same.items():
        table[old] = new_one
    edges = tuple(Edge(table[e.nodes], e.carrier) for k, e in enumerate(shape.edges) if k != edge)
    return replace(shape, facets=table[shape.facets], edges=edges)


def _without_doubles(shape: Shape) -> Shape:
    """The shape without edges that lie on others, and without points that nothing uses."""
    seen: set[frozenset[int]] = set()
    edges = []
    for edge in shape.edges:
        key = frozenset(edge.nodes.tolist())
        if key not in seen:
            seen.add(key)
            edges.append(edge)
    used = np.zeros(len(shape.points), bool)
    used[shape.facets] = True
    number = (np.cumsum(used) - 1).astype(np.int32)
    return replace(
        shape, points=shape.points[used], facets=number[shape.facets], edges=tuple(Edge(number[e.nodes], e.carrier) for e in edges)
    )  # fmt: skip
