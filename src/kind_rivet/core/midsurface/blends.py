"""Blends: round faces with a small radius at the foot of a wall or rib, where nothing of even thickness lies under them; and round tips of walls."""

from __future__ import annotations

import numpy as np

from kind_rivet.core.geometry.carriers import Carrier, unit
from kind_rivet.core.geometry.shape import Shape

ROUNDING = 4.0  # walls of radius up to which a round face is a blend
HALF_ROUND = 0.05  # cosine between a round tip's way out and its sides at most
TIP = 0.6  # walls of radius that a round tip has at most


def rounding(shape: Shape, face: int, wall: float) -> bool:
    """Is a face a blend: round with a small radius? A free-form one, as blends are that run on into each other, where most of it is."""
    carrier = shape.faces[face].carrier
    if carrier.kind == "free":
        return _radius(shape, face) < ROUNDING * wall
    return carrier.kind in ("cylinder", "torus", "sphere") and carrier.data[-1] < ROUNDING * wall


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


def hollow(shape: Shape, face: int) -> bool:
    """Does a face curve round what lies outside the solid? Its normals come together then."""
    mine = shape.facet_face == face
    corners, normals = shape.points[shape.facets[mine]], shape.normals[mine]
    apart = np.einsum("ijk,ijk->i", normals - np.roll(normals, -1, axis=1), corners - np.roll(corners, -1, axis=1))
    return bool(apart @ shape.facet_area[mine] < 0)


def round_tip(shape: Shape, face: int, wall: float) -> Carrier | None:
    """The plane that a wall's end touches where it is half a round, of which a face is all or half; none where it is not.

    A wall that ends square has that plane for its end, and what it stands on is parted there.
    """
    carrier = shape.faces[face].carrier
    if carrier.kind != "cylinder" or carrier.data[6] > TIP * wall or hollow(shape, face):
        return None
    axis, radius = carrier.array[3:6], carrier.data[6]
    lot = [face] + [g for g in shape.face_neighbours[face] if _on_one_round(shape.faces[g].carrier, carrier)]
    mine = np.isin(shape.facet_face, lot)
    normals = shape.normals[mine].reshape(-1, 3)
    if not mine.any() or np.abs(normals @ axis).max() > HALF_ROUND:
        return None
    out = unit((shape.normals[mine].sum(axis=1) * shape.facet_area[mine][:, None]).sum(axis=0))
    if not -HALF_ROUND < float((normals @ out).min()) < HALF_ROUND:
        return None
    return Carrier("plane", (*(carrier.array[:3] + radius * out).tolist(), *out.tolist()))


def _on_one_round(a: Carrier, b: Carrier) -> bool:
    """Do two carriers lie on one cylinder?"""
    if a.kind != "cylinder" or abs(a.data[6] - b.data[6]) > 1e-3 * b.data[6] or abs(a.array[3:6] @ b.array[3:6]) < 1 - 1e-6:
        return False
    return bool(np.linalg.norm(np.cross(a.array[:3] - b.array[:3], b.array[3:6])) < 1e-3 * b.data[6])
