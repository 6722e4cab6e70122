"""Where a mesh that came without geometry sits on the faces and edges found on it: so that it can be moved, repaired and meshed again like any other."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, triple
from kind_rivet.core.geometry.flats import parts_of_free_faces
from kind_rivet.core.geometry.loops import free_loops
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.soup import Soup, shape_from_triangles
from kind_rivet.core.mesh.mesh import FREE_NODE, ON_EDGE, ON_FACE, ON_VERTEX, Mesh
from kind_rivet.core.mesh.topology import as_triangles
from kind_rivet.core.meshing.spread import can_be_filled, taken_apart
from kind_rivet.core.meshing.washers import RoundHole
from kind_rivet.core.quality.shell_metrics import SCALED_JACOBIAN, shell_metrics
from kind_rivet.core.quality.unfold import unfolded

Ints = NDArray[np.int32]
FEATURE = 30.0  # degrees by which elements of one face may turn
ROUNDS = 4  # how often faces that cannot be laid flat are taken apart
UNSURE = 0.2  # scaled Jacobian below which the normals of shells say too little to tell faces apart
MOST_WALLS = 200  # thicknesses up to which faces end where the thickness changes


@dataclass(frozen=True)
class Seats:
    """Seats of some shells of a mesh.

    elements (s,) : the shells; face, ring (s,) of each, −1 where none
    on_kind, on_item (n,) : for all nodes of the mesh; FREE_NODE where none of the shells has it
    lines : node indices along every edge; holes : the round holes as they are meshed
    """

    elements: NDArray[np.int64]
    face: Ints
    ring: Ints
    on_kind: NDArray[np.uint8]
    on_item: Ints
    lines: tuple[Ints, ...]
    holes: tuple[RoundHole, ...]

    def put(self, mesh: Mesh, body: int) -> Mesh:
        """The mesh with these shells and those of their nodes that sat nowhere on a body."""
        seated = (self.on_kind != FREE_NODE) & (mesh.on_kind == FREE_NODE)
        values = {name: getattr(mesh, name).copy() for name in ("body", "face", "ring", "on_kind", "on_item", "on_body")}
        values["body"][self.elements], values["face"][self.elements], values["ring"][self.elements] = body, self.face, self.ring
        values["on_kind"][seated], values["on_item"][seated] = self.on_kind[seated], self.on_item[seated]
        values["on_body"][seated] = body
        return replace(mesh, **values)


def faces_under(mesh: Mesh, chosen: NDArray[np.bool_], angle: float = FEATURE, laid: bool = False) -> Soup:
    """Faces and edges of the chosen shells (m,) by feature angle; they end where the part or the thickness changes and where plane walls begin to bend.

    `laid`: faces that cannot be laid flat are taken apart.
    """
    rows = mesh.conn[chosen, :4]
    _, wall = np.unique(np.round(mesh.thickness[chosen], 9), return_inverse=True)
    label = mesh.part[chosen].astype(np.int64)
    if wall.max(initial=0) < MOST_WALLS:
        label = label * MOST_WALLS + wall
    triangles, owner = as_triangles(rows)
    points = _laid_open(mesh.points, rows)
    unsure = (shell_metrics(points, rows)[:, SCALED_JACOBIAN] < UNSURE)[owner]

    def made(label: NDArray[np.int64]) -> Soup:
        return shape_from_triangles(points, triangles, angle, labels=label[owner], unsure=unsure)

    soup = made(label)
    plane = parts_of_free_faces(soup, owner)
    if (plane >= 0).any():
        label = _both(label, plane)
        soup = made(label)
    for _ in range(ROUNDS if laid and not soup.closed else 0):
        piece = np.full(len(rows), -1, np.int64)
        for f in range(len(soup.shape.faces)):
            if can_be_filled(soup.shape, f):
                continue
            mine = soup.shape.facet_face == f
            which, local = np.unique(owner[soup.kept[mine]], return_inverse=True)
            piece[which] = piece.max() + 2 + taken_apart(soup.shape.points, soup.shape.facets[mine], local)
        if (piece < 0).all():
            break
        label = _both(label, piece)
        soup = made(label)
    return soup


def _laid_open(points: Floats, rows: Ints) -> Floats:
    """Places (n, 3) at which no shell lies folded over others: faces are told apart by normals, and those of folded shells say nothing."""
    n = len(points)
    return unfolded(points, rows, np.ones(n, bool), np.zeros(n, np.int8), np.zeros((n, 8)), UNSURE)[0]


def _both(first: NDArray[np.int64], second: NDArray[np.int64]) -> NDArray[np.int64]:
    """Numbers that are alike where both are."""
    return np.asarray(np.unique(np.column_stack((first, second)), axis=0, return_inverse=True)[1]).ravel()


def seats_on(mesh: Mesh, chosen: NDArray[np.bool_], soup: Soup) -> Seats:
    """Seats of the shells that a shape was made from by `faces_under`. Nodes where others lie at the same place are held as if at a corner."""
    shape = soup.shape
    rows = mesh.conn[chosen, :4]
    owner = as_triangles(rows)[1][soup.kept]
    face = np.full(len(rows), -1, np.int32)
    face[owner[::-1]] = shape.facet_face[::-1]
    used = np.unique(rows[rows >= 0])
    used = used[soup.node[used] >= 0]
    place = soup.node[used]
    kind, item = _on_shape(shape)
    on_kind, on_item = np.zeros(mesh.nodes, np.uint8), np.full(mesh.nodes, -1, np.int32)
    on_kind[used], on_item[used] = kind[place], item[place]
    twice = np.bincount(place, minlength=len(shape.points)) > 1
    on_kind[used[twice[place]]], on_item[used[twice[place]]] = ON_VERTEX, place[twice[place]]
    node = np.full(len(shape.points), -1, np.int32)
    node[place[::-1]] = used[::-1]
    lines = tuple(node[edge.nodes] for edge in shape.edges)
    holes, ring = _holes(shape, rows, lines, mesh.points)
    return Seats(np.flatnonzero(chosen), face, ring, on_kind, on_item, lines, holes)


def _on_shape(shape: Shape) -> tuple[NDArray[np.uint8], Ints]:
    """What every point of a shape sits on."""
    kind, item = np.full(len(shape.points), ON_FACE, np.uint8), np.full(len(shape.points), -1, np.int32)
    item[shape.facets.ravel()] = np.repeat(shape.facet_face, 3)
    for e, edge in enumerate(shape.edges):
        kind[edge.nodes], item[edge.nodes] = ON_EDGE, e
    for point, edges in shape.vertices.items():
        if len(edges) > 1 or not shape.edges[edges[0]].closed:
            kind[point], item[point] = ON_VERTEX, point
    return kind, item


def _holes(shape: Shape, rows: Ints, lines: tuple[Ints, ...], points: Floats) -> tuple[tuple[RoundHole, ...], Ints]:
    """Round holes with the divisions they have, and for every shell (s,) the hole that it is in the ring of."""
    ring = np.full(len(rows), -1, np.int32)
    holes: list[RoundHole] = []
    for loop in free_loops(shape):
        circles = [shape.edges[e].carrier for e in loop]
        d = circles[0].array
        if any(c.kind != "circle" or np.linalg.norm(c.array[[0, 1, 2, 6]] - d[[0, 1, 2, 6]]) > 1e-3 * d[6] for c in circles):
            continue
        nodes = np.unique(np.concatenate([lines[e] for e in loop]))
        sides = sum(len(lines[e]) - 1 for e in loop)
        touching = np.flatnonzero(np.isin(rows, nodes).any(axis=1))
        beside = touching[(np.isin(rows[touching], nodes)).sum(axis=1) == 2]
        far = np.setdiff1d(rows[touching], np.append(nodes, -1))
        away = np.linalg.norm(points[far] - d[:3], axis=1)
        if sides != len(nodes) or not len(away) or away.min() < d[6]:
            continue  # the rim of a disc, or an arc
        width = 0.0
        if len(touching) == len(beside) == len(far) == sides and (rows[beside, 3] >= 0).all() and np.ptp(away) < 0.02 * away.mean():
            ring[beside] = len(holes)
            width = float(away.mean() - d[6])
        face = int(shape.edge_faces[loop[0]][0])
        widths = (width,) if width > 0 else ()
        holes.append(RoundHole(face, -1, tuple(loop), float(d[6]), triple(d[:3]), triple(d[3:6]), sides, widths, width))
    return tuple(holes), ring
