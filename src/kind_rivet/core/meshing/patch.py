"""A meshing region laid flat: faces cut along their seams, its border as loops of edges, and the way back."""

from __future__ import annotations

import itertools
from collections import OrderedDict
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Carrier, Floats, frame, project, unit
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.flatten import flatten_facets

Ints = NDArray[np.int32]
LIFTED = 0.1  # of a region's vertices that steps may lift off it
SQUASHED = 2e-3  # share of a region's area in which its laying flat may go wrong, as where the corner of a step leaves its wall
REMEMBERED = 3  # shapes whose regions laid flat are remembered


@dataclass(frozen=True)
class BorderEdge:
    """One passage along an edge: `forward` in the edge's own sense; `corners` are cut vertices along the passage."""

    edge: int
    forward: bool
    corners: Ints


@dataclass(frozen=True)
class Patch:
    """A region of one or several faces laid flat.

    faces : the faces of the region; edges between two of them are looked past
    facets : (m, 3) cut vertices, counter-clockwise in the plane
    facet_carrier : (m,) index into `carriers`
    flat : (k, 2) places of the cut vertices in the plane, lengths kept as well as possible
    space : (k, 3), normals : (k, 3)
    corner_normals : (m, 3, 3) exact normals at the facets' corners (they jump where sharp edges are looked past)
    loops : border passages, the outer loop first, region on the left
    """

    faces: tuple[int, ...]
    carriers: tuple[Carrier, ...]
    facets: Ints
    facet_carrier: Ints
    flat: Floats
    space: Floats
    normals: Floats
    corner_normals: Floats
    loops: tuple[tuple[BorderEdge, ...], ...]

    @cached_property
    def flat_tree(self) -> FacetTree:
        return FacetTree.over(np.column_stack((self.flat, np.zeros(len(self.flat)))), self.facets)

    @cached_property
    def area(self) -> float:
        a, b, c = (self.space[self.facets[:, k]] for k in range(3))
        return float(np.linalg.norm(np.cross(b - a, c - a), axis=1).sum() / 2)

    @cached_property
    def stretch(self) -> float:
        """How many times larger or smaller than in space facets are in the plane; those that are next to nothing, together, do not count."""
        return self._stretched(self.space)

    @cached_property
    def rolled(self) -> float:
        """The stretch of a cylinder or cone where borders that steps lift off it count as if they stood on it; of other regions the stretch."""
        if len(self.carriers) > 1 or self.carriers[0].kind not in ("cylinder", "cone"):
            return self.stretch
        there = project(self.carriers[0], self.space)
        lifted = np.linalg.norm(there - self.space, axis=1) > 1e-3 * np.sqrt(self.area)
        return self._stretched(there) if lifted.mean() < LIFTED else self.stretch

    def _stretched(self, space: Floats) -> float:
        p, q = space[self.facets], self.flat[self.facets]
        true = np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1)
        flat = np.abs(_cross(q[:, 1] - q[:, 0], q[:, 2] - q[:, 0]))
        ratio = np.maximum(flat, 1e-300) / np.maximum(true, 1e-300)
        ratio = np.maximum(ratio, 1 / ratio)
        worst = np.argsort(-ratio)
        beyond = np.searchsorted(np.cumsum(true[worst]), SQUASHED * true.sum(), side="right")
        return float(ratio[worst[min(int(beyond), len(worst) - 1)]])

    @cached_property
    def turn(self) -> Floats:
        """Quarter turns (k,) of the border at its cut vertices, measured on the surface; straight 0, a corner about 1."""
        p = self.space[self.facets]
        inner = np.zeros(len(self.space))
        for k in range(3):
            a, b = unit(p[:, (k + 1) % 3] - p[:, k]), unit(p[:, (k + 2) % 3] - p[:, k])
            np.add.at(inner, self.facets[:, k], np.arccos(np.clip(np.einsum("ij,ij->i", a, b), -1.0, 1.0)))
        return np.asarray((np.pi - inner) / (np.pi / 2))

    @cached_property
    def outlines(self) -> tuple[Floats, ...]:
        """The places (n, 2) along each border loop."""
        return tuple(np.concatenate([self.flat[p.corners[:-1]] for p in loop]) for loop in self.loops)

    @cached_property
    def discs(self) -> tuple[Floats, Floats]:
        """Centres (l, 2) and radii (l,) of discs round the border loops."""
        centres = np.array([line.mean(axis=0) for line in self.outlines])
        return centres, np.array([np.linalg.norm(line - c, axis=1).max() for line, c in zip(self.outlines, centres, strict=True)])

    def to_space(self, uv: Floats) -> tuple[Floats, Ints]:
        """Points (n, 3) on the faces for places (n, 2) in the plane, and the face (n,) each lies on."""
        facet, _, _ = self.flat_tree.nearest(np.column_stack((uv, np.zeros(len(uv)))))
        corners = self.facets[facet]
        # The nearest facet's affine map also serves just outside it (chords of arcs).
        weight = _weights(uv, self.flat[corners])
        inside = np.clip(weight, 0, 1)
        inside /= inside.sum(axis=1, keepdims=True)
        out = np.einsum("ij,ijk->ik", weight, self.space[corners])
        which = self.facet_carrier[facet]
        for k, carrier in enumerate(self.carriers):
            mine = which == k
            if carrier.kind == "free":
                c, w = corners[mine], inside[mine]
                out[mine] = _lifted(np.einsum("ij,ijk->ik", w, self.space[c]), w, self.space[c], self.corner_normals[facet[mine]])
            else:
                out[mine] = project(carrier, out[mine])
        return out, np.asarray(self.faces, np.int32)[which]

    def to_plane(self, points: Floats) -> Floats:
        """Places (n, 2) in the plane of points (n, 3) on or near the region."""
        facet, weight, _ = FacetTree.over(self.space, self.facets).nearest(points)
        return np.asarray(np.einsum("ij,ijk->ik", weight, self.flat[self.facets[facet]]))

    def in_plane(self, point: Floats) -> Floats:
        """The place (2,) of a point (3,) in the plane of a plane region, beyond its facets too."""
        middle = self.space.mean(axis=0)
        onto = np.linalg.lstsq(self.space - middle, self.flat - self.flat.mean(axis=0), rcond=1e-9)[0]
        return np.asarray((point - middle) @ onto + self.flat.mean(axis=0))


_laid: OrderedDict[bytes, dict[tuple[int, ...], Patch]] = OrderedDict()


def _weights(p: Floats, corners: Floats) -> Floats:
    """Barycentric weights (n, 3) of points (n, 2) in triangles (n, 3, 2)."""
    a, b, c = corners[:, 0], corners[:, 1], corners[:, 2]
    det = _cross(b - a, c - a)
    det = np.where(np.abs(det) < 1e-300, 1e-300, det)
    v = _cross(p - a, c - a) / det
    w = _cross(b - a, p - a) / det
    return np.column_stack((1 - v - w, v, w))


def _cross(a: Floats, b: Floats) -> Floats:
    return np.asarray(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0])


def _lifted(p: Floats, weight: Floats, corners: Floats, normals: Floats) -> Floats:
    """Second-order correct point over curved facets: half the mean of the projections onto the corner tangent planes.

    Boubekeur and Alexa, "Phong tessellation" (2008), with factor ½, exact for circles to third order.
    """
    away = np.einsum("ijk,ijk->ij", p[:, None] - corners, normals)
    lifted = p[:, None] - away[:, :, None] * normals
    return np.asarray(p + 0.5 * (np.einsum("ij,ijk->ik", weight, lifted) - p))


def lay_flat(shape: Shape, faces: tuple[int, ...]) -> Patch:
    """Lay the region made of `faces` flat, cut along its seams, and walk its border.

    Regions of the last few shapes are remembered: a sheet is meshed many times while divisions are tried.
    Raises `Refused` when the region cannot be laid flat.
    """
    mine = _laid.pop(shape.fingerprint, {})
    _laid[shape.fingerprint] = mine  # the latest comes last
    while len(_laid) > REMEMBERED:
        _laid.popitem(last=False)
    if faces not in mine:
        mine[faces] = _lay_flat(shape, faces)
    return mine[faces]


def _lay_flat(shape: Shape, faces: tuple[int, ...]) -> Patch:
    mine = np.flatnonzero(np.isin(shape.facet_face, faces))
    facets = shape.facets[mine]
    passages: dict[tuple[int, int], tuple[int, bool]] = {}
    first: dict[int, int] = {}
    for e in {e for f in faces for e in shape.face_edges[f]}:
        beside = shape.edge_faces[e]
        if len(set(beside)) == 2 and len(beside) == 2 and set(beside) <= set(faces):
            continue  # looked past
        nodes = shape.edges[e].nodes.tolist()
        if shape.edges[e].closed:
            first[e] = nodes[0]
        for a, b in itertools.pairwise(nodes):
            passages[(a, b)] = (e, True)
            passages[(b, a)] = (e, False)
    cut, count, borders = _cut(facets, passages)
    node_of = np.empty(count, np.int64)
    node_of[cut] = facets
    space = shape.points[node_of]
    normals = np.zeros((count, 3))
    np.add.at(normals, cut.ravel(), shape.normals[mine].reshape(-1, 3))
    normals = unit(normals)
    loops = _loops(cut, node_of, borders, passages, first)
    flat = _develop(shape.faces[faces[0]].carrier, space, normals, cut) if len(faces) == 1 else None
    if flat is None:
        flat = _flattened(space, cut, loops)
    if not loops:
        raise Refused(f"Face {faces[0] + 1} has no border, so it cannot be laid flat.", "Split it first.")
    if any(p.edge < 0 or len(p.corners) != len(shape.edges[p.edge].nodes) for loop in loops for p in loop):
        raise Refused(f"Face {faces[0] + 1} cannot be laid flat: its facets do not hang together.", "Split it first.")
    areas = [_loop_area(flat, loop) for loop in loops]
    outer = int(np.argmax(areas))
    ordered = (loops[outer], *(loop for k, loop in enumerate(loops) if k != outer))
    place = {f: k for k, f in enumerate(faces)}
    which = np.array([place[int(f)] for f in shape.facet_face[mine]], np.int32)
    carriers = tuple(shape.faces[f].carrier for f in faces)
    return Patch(faces, carriers, cut.astype(np.int32), which, flat, space, normals, shape.normals[mine], ordered)


def _flattened(space: Floats, cut: NDArray[np.int64], loops: list[tuple[BorderEdge, ...]]) -> Floats:
    """The cut vertices in the plane. Slits do not gape there: their sides stay together, other than those of seams."""
    name = np.arange(len(space))
    for loop in loops:
        for there, back in _slits(loop):
            for a, b in zip(there.corners.tolist(), back.corners[::-1].tolist(), strict=True):
                low, high = sorted((int(name[a]), int(name[b])))
                name[name == high] = low
    if (name == np.arange(len(name))).all():
        return flatten_facets(space, cut)
    try:
        return flatten_facets(space, name[cut])[name]
    except Refused:
        return flatten_facets(space, cut)


def _slits(loop: tuple[BorderEdge, ...]) -> list[tuple[BorderEdge, BorderEdge]]:
    """Both passages along each slit that a loop runs round: there and at once back, but for what it runs round in between."""
    out = []
    left: list[BorderEdge] = []
    for passage in (*loop, *loop):  # twice, as it may begin within a slit
        if left and left[-1].edge == passage.edge and left[-1].forward != passage.forward and len(left[-1].corners) == len(passage.corners):
            out.append((left.pop(), passage))
        else:
            left.append(passage)
    return out


def lay_flat_or_none(shape: Shape, faces: tuple[int, ...]) -> Patch | None:
    """The region laid flat, where that is possible."""
    try:
        return lay_flat(shape, faces)
    except Refused:
        return None


def _cut(facets: Ints, passages: dict[tuple[int, int], tuple[int, bool]]) -> tuple[NDArray[np.int64], int, dict[int, int]]:
    """Vertices of the facets after cutting along edges: (facet corners, number of vertices, border: next corner by corner).

    Facet corners (3 f + k) are joined across sides that are no edge; what stays apart is a cut.
    """
    m = len(facets)
    parent = list(range(3 * m))

    def root(i: int) -> int:
        while parent[i] != i:
            parent[i] = parent[parent[i]]
            i = parent[i]
        return i

    side: dict[tuple[int, int], int] = {}
    rows = facets.tolist()
    for f, row in enumerate(rows):
        for k in range(3):
            side[(row[k], row[(k + 1) % 3])] = 3 * f + k
    following: dict[int, int] = {}
    for (a, b), corner in side.items():
        other = side.get((b, a))
        nxt = corner - 2 if corner % 3 == 2 else corner + 1
        if other is not None and (a, b) not in passages:
            other_next = other - 2 if other % 3 == 2 else other + 1
            parent[root(corner)] = root(other_next)
            parent[root(nxt)] = root(other)
        elif (a, b) in passages or other is None:
            following[corner] = nxt
    names: dict[int, int] = {}
    cut = np.array([names.setdefault(root(i), len(names)) for i in range(3 * m)], np.int64).reshape(m, 3)
    return cut, len(names), following


def _loops(
    cut: NDArray[np.int64],
    node_of: NDArray[np.int64],
    borders: dict[int, int],
    passages: dict[tuple[int, int], tuple[int, bool]],
    first: dict[int, int],
) -> list[tuple[BorderEdge, ...]]:
    """Walk the border sides into loops and group them into passages along edges."""
    flat = cut.ravel()
    step = {int(flat[a]): int(flat[b]) for a, b in borders.items()}
    loops = []
    while step:
        ring = [next(iter(step))]
        while True:
            following = step.pop(ring[-1], None)
            if following is None or following == ring[0]:
                break
            ring.append(following)
        loops.append(_passages(ring, node_of, passages, first))
    return loops


def _passages(
    ring: list[int], node_of: NDArray[np.int64], passages: dict[tuple[int, int], tuple[int, bool]], first: dict[int, int]
) -> tuple[BorderEdge, ...]:
    """Group a closed ring of cut vertices into passages; closed edges begin at their own first node."""
    n = len(ring)
    label = [passages.get((int(node_of[ring[i]]), int(node_of[ring[(i + 1) % n]])), (-1, True)) for i in range(n)]
    starts = [i for i in range(n) if label[i] != label[i - 1] or first.get(label[i][0]) == int(node_of[ring[i]])] or [0]
    out = []
    for j, s in enumerate(starts):
        length = (starts[(j + 1) % len(starts)] - s) % n or n
        corners = np.array([ring[(s + i) % n] for i in range(length + 1)], np.int32)
        out.append(BorderEdge(label[s][0], label[s][1], corners))
    return tuple(out)


def _loop_area(flat: Floats, loop: tuple[BorderEdge, ...]) -> float:
    xy = np.concatenate([flat[p.corners[:-1]] for p in loop])
    x, y = xy[:, 0], xy[:, 1]
    return float(np.sum(x * np.roll(y, -1) - np.roll(x, -1) * y) / 2)


def _develop(carrier: Carrier, space: Floats, normals: Floats, facets: NDArray[np.int64]) -> Floats | None:
    """Exact development of planes, cylinders and cones; None for other carriers. Facets come out counter-clockwise."""
    d = carrier.array
    if carrier.kind == "plane":
        n = d[3:6] if normals.mean(axis=0) @ d[3:6] > 0 else -d[3:6]
        u, v = frame(n)
        return np.column_stack(((space - d[:3]) @ u, (space - d[:3]) @ v))
    if carrier.kind not in ("cylinder", "cone"):
        return None
    u, v = frame(d[3:6])
    q = space - d[:3]
    height = q @ d[3:6]
    angle = np.arctan2(q @ v, q @ u)
    radial = q - height[:, None] * d[3:6]
    turn = _unwrapped(angle, np.linalg.norm(radial, axis=1), facets)
    if turn is None:
        return None
    outward = float(np.sum(np.einsum("ij,ij->i", radial, normals))) > 0
    if carrier.kind == "cylinder":
        flat = np.column_stack((turn * d[6], height))
    else:
        rho = np.linalg.norm(q, axis=1)
        phi = turn * np.sin(d[6])
        if np.ptp(phi) > 2 * np.pi * 0.999:
            return None
        phi = phi - phi.mean()
        flat = np.column_stack((rho * np.cos(phi), rho * np.sin(phi)))
        outward = not outward  # the apex looks along the axis, so the fan turns the other way
    if not outward:
        flat[:, 0] *= -1
    if _signed_area(flat, facets) < 0:
        flat[:, 0] *= -1
    return flat


def _signed_area(flat: Floats, facets: NDArray[np.int64]) -> float:
    a, b, c = flat[facets[:, 0]], flat[facets[:, 1]], flat[facets[:, 2]]
    return float(_cross(b - a, c - a).sum() / 2)


def _unwrapped(angle: Floats, radius: Floats, facets: NDArray[np.int64]) -> Floats | None:
    """Angles made continuous over the cut facets; None when the surface closes on itself or runs through its axis."""
    if radius.min() < 1e-9 * max(radius.max(), 1e-300):
        return None
    turn = np.full(len(angle), np.nan)
    by_vertex: list[list[int]] = [[] for _ in angle]
    for f, row in enumerate(facets.tolist()):
        for v in row:
            by_vertex[v].append(f)
    rows = facets.tolist()
    for seed in range(len(angle)):
        if not np.isnan(turn[seed]):
            continue
        turn[seed] = angle[seed]
        stack = [seed]
        while stack:
            v = stack.pop()
            for f in by_vertex[v]:
                for w in rows[f]:
                    if np.isnan(turn[w]):
                        step = (angle[w] - turn[v] + np.pi) % (2 * np.pi) - np.pi
                        turn[w] = turn[v] + step
                        stack.append(w)
    spread = np.ptp(turn[facets], axis=1)
    return turn if spread.max() < np.pi else None
