"""Blends: round faces with a small radius at the foot of a wall or rib. Nothing of even thickness lies under them."""

from __future__ import annotations

import numpy as np

from kind_rivet.core.geometry.carriers import unit
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.midsurface.offset_side import smooth_edge

MARGIN = 0.4  # of its area up to which what is evenly thick under a face may be just the margin of a blend
CORNER = 45.0  # degrees from which a hollow round face leads round a corner
ROUND = ("cylinder", "torus", "sphere")  # carriers whose last number is their radius
ROUNDING = 4.0  # walls of radius up to which a round face is a blend


def rounding(shape: Shape, face: int, wall: float) -> bool:
    """Is a face a blend: round with a small radius? A free-form one, as blends are that run on into each other, where most of it is."""
    return shape.faces[face].carrier.kind in ("free", *ROUND) and radius(shape, face) < ROUNDING * wall


def radius(shape: Shape, face: int) -> float:
    """Radius of a round face (of its tube, if it is a torus); of another the one to which it is bent more tightly over half its area, by how fast the normal turns along the sides of its facets."""
    carrier = shape.faces[face].carrier
    if carrier.kind in ROUND:
        return float(carrier.data[-1])
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


def corner_blend(shape: Shape, face: int) -> bool:
    """Does a face lead round an inner corner: round, hollow, and turning so far that nothing of even thickness lies under it, however large its radius?"""
    return shape.faces[face].carrier.kind in ROUND and fills(shape, face) and _turns(shape, face) > CORNER


def fills(shape: Shape, face: int) -> bool:
    """Does a face curve so tightly as it does round what lies outside? A torus about its tube, however that runs on: a blend at the foot of a boss is one.

    Faces that are not round: all in all.
    """
    carrier = shape.faces[face].carrier
    mine = shape.facet_face == face
    if carrier.kind not in ROUND or not mine.any():
        return hollow(shape, face)
    corners, normals = shape.points[shape.facets[mine]].reshape(-1, 3), shape.normals[mine].reshape(-1, 3)
    middle = carrier.array[:3] + np.zeros_like(corners)
    if carrier.kind != "sphere":
        axis, q = carrier.array[3:6], corners - carrier.array[:3]
        along = q @ axis
        across = q - along[:, None] * axis
        middle += along[:, None] * axis if carrier.kind == "cylinder" else carrier.data[6] * unit(across)
    return bool(np.einsum("ij,ij->", middle - corners, normals) > 0)


def _turns(shape: Shape, face: int) -> float:
    """Largest angle between normals of a face, in degrees (180 at most)."""
    normals = shape.normals[shape.facet_face == face].reshape(-1, 3)
    first = normals[0]
    far = normals[int(np.argmin(normals @ first))]  # the one that has turned most from any
    return float(np.degrees(np.arccos(np.clip((normals @ far).min(), -1.0, 1.0))))


def smooth_neighbours(shape: Shape, face: int) -> set[int]:
    """Faces that run on from a face without a crease."""
    return {other for e in shape.face_edges[face] for other in shape.edge_faces[e] if other != face and smooth_edge(shape, e)}


def under_a_corner(shape: Shape, a: int, b: int, walls: set[frozenset[int]]) -> bool:
    """Do faces a and b look at each other only where a wall, one of `walls` by its two sides, runs out under blends of the corner at its end?

    At least one of them is such a blend, on one side or on both; a round face that is none makes a bend with it.
    """
    rounds = [f for f in (a, b) if corner_blend(shape, f)]
    if not rounds or any(shape.faces[f].carrier.kind != "plane" for f in (a, b) if f not in rounds):
        return False
    before = [smooth_neighbours(shape, f) if f in rounds else {f} for f in (a, b)]
    return any(frozenset((p, q)) in walls for p in before[0] for q in before[1])


def hollow(shape: Shape, face: int) -> bool:
    """Does a face curve round what lies outside the solid? Its normals come together then."""
    mine = shape.facet_face == face
    corners, normals = shape.points[shape.facets[mine]], shape.normals[mine]
    apart = np.einsum("ijk,ijk->i", normals - np.roll(normals, -1, axis=1), corners - np.roll(corners, -1, axis=1))
    return bool(apart @ shape.facet_area[mine] < 0)
