"""Blends: round faces with a small radius at the foot of a wall or rib. Nothing of even thickness lies under them."""

from __future__ import annotations

import numpy as np

from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.midsurface.pairs import find_opposed, find_pairs

ROUNDING = 4.0  # walls of radius up to which a round face is a blend
STEADY = 0.1  # spread of a wall's thickness, in walls, up to which a tight face on it is a bend of that wall


def rounding(shape: Shape, face: int, wall: float) -> bool:
    """Is a face a blend: round with a small radius? A free-form one, as blends are that run on into each other, where most of it is."""
    carrier = shape.faces[face].carrier
    if carrier.kind == "free":
        return _radius(shape, face) < ROUNDING * wall
    return carrier.kind in ("cylinder", "torus", "sphere") and carrier.data[-1] < ROUNDING * wall


def skin_patches(shape: Shape, tree: FacetTree) -> frozenset[int]:
    """The freely curved faces that may be patches of one skin: all but hollow blends beside a wall, under which nothing is evenly thick.

    A blend along a curved rib runs on smoothly into the rib's side and the floor, as patches of a skin do into each other.
    """
    free = [f for f, face in enumerate(shape.faces) if face.carrier.kind == "free"]
    pairs = find_pairs(shape, find_opposed(shape, tree))
    wall: dict[int, float] = {}  # of the faces with something evenly thick under them
    for pair in pairs:
        for f in (pair.a, pair.b) if pair.spread < STEADY else ():
            wall[f] = min(wall.get(f, np.inf), pair.wall)

    def beside_a_wall(face: int) -> bool:
        beside = {f for e in shape.face_edges[face] for f in shape.edge_faces[e]}
        least = min((wall[f] for f in beside if f in wall), default=0.0)
        return rounding(shape, face, least) and _hollow(shape, face)

    return frozenset(f for f in free if f in wall or not beside_a_wall(f))


def _radius(shape: Shape, face: int) -> float:
    """Radius to which a face is bent more tightly over half its area: how fast the normal turns along the sides of its facets."""
    mine = shape.facet_face == face
    if not mine.any():  # smaller than what facets tell apart
        return float("inf")
    corners, normals = shape.points[shape.facets[mine]], shape.normals[mine]
    turn = np.linalg.norm(normals - np.roll(normals, -1, axis=1), axis=2)
    side = np.linalg.norm(corners - np.roll(corners, -1, axis=1), axis=2)
    bend = (turn / np.maximum(side, 1e-300)).max(axis=1)
    order = np.argsort(-bend)
    area = np.cumsum(shape.facet_area[mine][order])
    middle = bend[order[min(int(np.searchsorted(area, area[-1] / 2)), len(order) - 1)]]
    return float("inf") if middle <= 0 else float(1.0 / middle)


def _hollow(shape: Shape, face: int) -> bool:
    """Does a face curve round what lies outside the solid? Its normals come together then."""
    mine = shape.facet_face == face
    corners, normals = shape.points[shape.facets[mine]], shape.normals[mine]
    apart = np.einsum("ijk,ijk->i", normals - np.roll(normals, -1, axis=1), corners - np.roll(corners, -1, axis=1))
    return bool(apart @ shape.facet_area[mine] < 0)
