"""Filling the place of chosen shells anew: in lots within one wall of one part, whose borders stay."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Carrier, Floats, surface_normals
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.mesh.kinds import QUAD, TRIA
from kind_rivet.core.mesh.mesh import ON_EDGE, ON_FACE, ON_VERTEX, Mesh
from kind_rivet.core.mesh.topology import shell_sides
from kind_rivet.core.meshing.again import filled_again
from kind_rivet.core.meshing.trias import halved, second_shorter

NOWHERE = -1  # the body of shells without geometry
WIDER = 3  # how often a lot that touches itself by a point takes in what lies round that point


@dataclass(frozen=True)
class Seated:
    """The mesh with every shell on a face, where one could be found, and the shapes by body (`NOWHERE`: that of the loose shells)."""

    mesh: Mesh
    shapes: dict[int, Shape]


def lots_of(mesh: Mesh, chosen: NDArray[np.int64]) -> list[NDArray[np.int32]]:
    """Numbers of the chosen shells in lots that hang together by sides within one face of one part."""
    sides = shell_sides(mesh.shells())
    two = np.flatnonzero(sides.uses == 2)
    order = np.argsort(sides.of_use, kind="stable")
    first = np.searchsorted(sides.of_use[order], two)
    a, b = sides.element[order[first]], sides.element[order[first + 1]]
    mine = np.zeros(mesh.elements, bool)
    mine[chosen] = True
    alike = mine[a] & mine[b]
    for name in ("body", "face", "part"):
        alike &= getattr(mesh, name)[a] == getattr(mesh, name)[b]
    graph = scipy.sparse.coo_matrix((np.ones(int(alike.sum())), (a[alike], b[alike])), (mesh.elements, mesh.elements))
    piece = scipy.sparse.csgraph.connected_components(graph, directed=False)[1][chosen]
    return [mesh.element_id[chosen[piece == k]] for k in np.unique(piece)]


def widened(mesh: Mesh, lot: NDArray[np.int64]) -> NDArray[np.int64]:
    """The lot with what lies round nodes where it touches itself only by a point."""
    for _ in range(WIDER):
        sides = shell_sides(mesh.shells()[lot])
        ends, many = np.unique(sides.free, return_counts=True)
        if not (many > 2).any():
            break
        rows = mesh.conn[:, :4]
        near = mesh.is_shell & np.isin(rows, ends[many > 2]).any(axis=1)
        for name in ("body", "face", "part"):
            near &= getattr(mesh, name) == getattr(mesh, name)[lot[0]]
        lot = np.union1d(lot, np.flatnonzero(near))
    return lot


def filled_anew(mesh: Mesh, seated: Seated, numbers: NDArray[np.int32], size: float, hung: NDArray[np.int64]) -> tuple[Mesh, int, int]:
    """The mesh with one lot of shells (their numbers) meshed again, how many they were and became.

    seated : where its shells sit; where `mesh` has those seats itself, new shells get theirs too
    hung : numbers of nodes that other things hang on; these stay, as do hard points and nodes along edges
    Raises `Refused` where the lot touches itself at a point or its border cannot be filled.
    """
    seats = bool(mesh.face[mesh.is_shell & (mesh.body == NOWHERE)].max(initial=-1) >= 0)
    before = widened(seated.mesh, np.flatnonzero(np.isin(seated.mesh.element_id, numbers)))
    body, face = int(seated.mesh.body[before[0]]), int(seated.mesh.face[before[0]])
    lot = np.flatnonzero(np.isin(mesh.element_id, seated.mesh.element_id[before]))
    if len(lot) < len(before):
        raise Refused("The chosen elements lie in lots that touch at a point.", "Mesh the lots one by one.")
    rest = np.ones(mesh.elements, bool)
    rest[lot] = False
    others = mesh.conn[rest]
    held = np.isin(mesh.node_id, hung) | np.isin(mesh.on_kind, (ON_EDGE, ON_VERTEX))
    pinned = np.union1d(np.unique(others[others >= 0]), np.flatnonzero(held))
    shape = seated.shapes.get(body)
    known = shape is not None and 0 <= face < len(shape.faces)
    carrier = shape.faces[face].carrier if known and shape is not None else Carrier("free")
    inner = np.setdiff1d(mesh.conn[lot][mesh.conn[lot] >= 0], pinned)
    fresh, elements = filled_again(mesh.points, mesh.conn[lot, :4], pinned, carrier, size)
    raised = _as_beside(mesh, inner, fresh)
    if carrier.kind != "free" and raised.any():
        fresh = fresh + raised[:, None] * surface_normals(carrier, fresh)
    with_new = mesh.with_nodes(fresh)
    alike = mesh.is_shell & (mesh.part == mesh.part[lot[0]])
    if (mesh.kind[alike] == TRIA).all():  # a mesh of trias stays one
        elements, _ = halved(elements, elements[:, 3] >= 0, second_shorter(with_new.points, elements))
    kind = np.where(elements[:, 3] < 0, TRIA, QUAD)
    place = slice(mesh.nodes, mesh.nodes + len(fresh))
    on = {name: getattr(with_new, name).copy() for name in ("on_kind", "on_item", "on_body", "height")}
    on["height"][place] = raised
    if known and (seats or body != NOWHERE):
        on["on_kind"][place], on["on_item"][place], on["on_body"][place] = ON_FACE, face, body
    with_new = replace(with_new, **on)
    first = lot[0]
    near = scipy.spatial.cKDTree(mesh.centres()[lot])
    for code in (QUAD, TRIA):
        rows = elements[kind == code][:, : 4 if code == QUAD else 3]
        like = lot[near.query(with_new.points[rows].mean(axis=1))[1]] if len(rows) else lot[:0]  # whose thickness goes over
        with_new = with_new.with_elements(
            code, rows, int(mesh.part[first]), body=body, face=face if seats or body != NOWHERE else -1,
            thickness=mesh.thickness[like], offset=mesh.offset[like],
        )  # fmt: skip
    drop = np.zeros(with_new.elements, bool)
    drop[lot] = True
    keep = np.ones(with_new.nodes, bool)
    keep[inner] = False
    return with_new.without_elements(drop, keep_nodes=keep), len(lot), len(elements)


def _as_beside(mesh: Mesh, inner: NDArray[np.int64], fresh: Floats) -> Floats:
    """How far (k,) new nodes stand off their face: as far as the node inside it that lay nearest, 0 where there was none."""
    inner = inner[mesh.on_kind[inner] == ON_FACE]
    if not len(inner) or not len(fresh) or not mesh.height[inner].any():
        return np.zeros(len(fresh))
    return mesh.height[inner[scipy.spatial.cKDTree(mesh.points[inner]).query(fresh)[1]]]
