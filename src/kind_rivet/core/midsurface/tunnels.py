"""Holes that run along inside walls, looked past: drilled channels, screw holes in ribs."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kind_rivet.core.geometry.shape import Shape

SLENDER = 2.5  # length over diameter from which a hole may run along a wall


def without_tunnels(shape: Shape, sides: set[int]) -> tuple[Shape, list[int]]:
    """The solid with slender round holes filled that are no side of any wall, and the faces filled.

    Only holes that go right through between two closed edges are filled; fans close their ends.
    """
    filled: list[int] = []
    drop = np.zeros(len(shape.facets), bool)
    new_facets, new_owner, new_normals = [], [], []
    points = [shape.points]
    count = len(shape.points)
    gone: set[int] = set()
    for f, face in enumerate(shape.faces):
        if face.carrier.kind != "cylinder" or f in sides or not _is_tunnel(shape, f):
            continue
        rims = [e for e in shape.face_edges[f] if len(set(shape.edge_faces[e])) == 2]
        filled.append(f)
        drop |= shape.facet_face == f
        gone |= set(shape.face_edges[f])
        for e in rims:
            nodes = shape.edges[e].nodes[:-1]
            other = next(g for g in shape.edge_faces[e] if g != f)
            centre = shape.points[nodes].mean(axis=0)
            i, j = int(nodes[0]), int(nodes[1])
            beside = shape.segment_faces[(i, j) if i < j else (j, i)]
            mine = next(x for x in beside if shape.facet_face[x] == f)
            row = shape.facets[mine].tolist()
            forward = row[(row.index(i) + 1) % 3] == j  # the fan takes the cylinder's place, so it turns the same way
            ring = nodes if forward else nodes[::-1]
            fan = np.column_stack((np.full(len(ring), count), ring, np.roll(ring, -1)))
            facet = next(x for x in beside if shape.facet_face[x] == other)
            normal = shape.normals[facet, 0]
            new_facets.append(fan)
            new_owner.append(np.full(len(ring), other))
            new_normals.append(np.broadcast_to(normal, (len(ring), 3, 3)))
            points.append(centre[None])
            count += 1
    if not filled:
        return shape, []
    facets = np.concatenate((shape.facets[~drop], *new_facets)).astype(np.int32)
    return replace(
        shape, points=np.concatenate(points), facets=facets, facet_face=np.concatenate((shape.facet_face[~drop], *new_owner)).astype(np.int32),
        normals=np.concatenate((shape.normals[~drop], *new_normals)), edges=tuple(e for k, e in enumerate(shape.edges) if k not in gone),
    ), filled  # fmt: skip


def _is_tunnel(shape: Shape, face: int) -> bool:
    """A slender cylinder round a void, between two closed edges that each border one other flat face."""
    d = shape.faces[face].carrier.array
    mine = shape.facet_face == face
    corners = shape.points[shape.facets[mine]].reshape(-1, 3)
    q = corners - d[:3]
    radial = q - (q @ d[3:6])[:, None] * d[3:6]
    if np.einsum("ij,ij->", radial, shape.normals[mine].reshape(-1, 3)) > 0:
        return False
    length = float(np.ptp(q @ d[3:6]))
    if length < SLENDER * 2 * d[6]:
        return False
    rims = [e for e in shape.face_edges[face] if len(set(shape.edge_faces[e])) == 2]
    if len(rims) != 2 or not all(shape.edges[e].closed for e in rims):
        return False
    return all(shape.faces[g].carrier.kind == "plane" for e in rims for g in shape.edge_faces[e] if g != face)
