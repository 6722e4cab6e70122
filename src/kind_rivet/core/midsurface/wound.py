"""Freely curved sides that wind about an axis more than once: laid flat they would cover themselves, so they are cut first."""

from __future__ import annotations

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Floats, frame, unit
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.soup import facet_neighbours
from kind_rivet.core.geometry.split import split_faces
from kind_rivet.core.midsurface.triangles import patches
from kind_rivet.core.midsurface.tube_charts import tube_ends

LONG = 3.2  # diagonals of its box: a border no longer than this belongs to no face that winds
LEAST = 40  # facets of a face worth a look
APART = 6.0  # times as far in space as laid flat: two places lie over one another
OVER = 0.3  # cosine between the way from one to the other and a normal from which that is above, not beside it across a slot under ribs
ROUNDS = 5  # cuts through one body
WAYS = 6  # planes through the axis that are tried
ALIKE = 1e-3  # of its extent: how far from an axis the middle of a patch must lie to tell a direction
STRAIGHT = 1e-4  # squared share of turning in the motion of a patch below which it has no axis


def unwound(shape: Shape) -> tuple[Shape, NDArray[np.int64]]:
    """The shape with such faces cut by planes until none covers itself, and the face (f,) of the old shape that each is of.

    The two sides of a wall are cut by the same planes, so that their pieces lie opposite each other.
    """
    origin = np.arange(len(shape.faces))
    for _ in range(ROUNDS):
        wound = [f for f in range(len(shape.faces)) if _may_wind(shape, f) and _covers_itself(*_patch(shape, f))]
        if not wound:
            break
        before = len(shape.faces)
        plane = _best_plane(*_patch(shape, max(wound, key=lambda f: float(shape.face_area[f]))))
        for f in wound:
            at = shape.points[shape.facets[shape.facet_face == f][0]].mean(axis=0)
            old = len(shape.faces)
            try:
                shape, _ = split_faces(shape, "plane", plane, at)
            except Refused:
                continue
            origin = np.concatenate((origin, np.full(len(shape.faces) - old, origin[f])))
        if len(shape.faces) == before:
            break
    return shape, origin


def _may_wind(shape: Shape, face: int) -> bool:
    """Is it freely curved, and its border long for its extent?"""
    if shape.faces[face].carrier.kind != "free":
        return False
    facets = shape.facets[shape.facet_face == face]
    if len(facets) < LEAST:
        return False
    extent = np.ptp(shape.points[np.unique(facets)], axis=0)
    return sum(float(shape.edge_length[e]) for e in shape.face_edges[face]) > LONG * float(np.linalg.norm(extent))


def _patch(shape: Shape, face: int) -> tuple[Floats, NDArray[np.int64]]:
    used, local = np.unique(shape.facets[shape.facet_face == face], return_inverse=True)
    return shape.points[used], local.reshape(-1, 3).astype(np.int64)


def _covers_itself(space: Floats, facets: NDArray[np.int64]) -> bool:
    """Would a patch lie over itself when laid flat? One that cannot be laid flat at all is none of this module's business, nor is a tube."""
    from kind_rivet.core.meshing.flatten import flatten_facets

    if tube_ends(space, facets) is not None:
        return False
    try:
        flat = flatten_facets(space, facets)
    except Refused:
        return False
    side = float(np.median(np.linalg.norm(space[facets[:, 0]] - space[facets[:, 1]], axis=1)))
    pairs = scipy.spatial.cKDTree(flat).query_pairs(0.5 * side, output_type="ndarray")
    way = space[pairs[:, 1]] - space[pairs[:, 0]]
    far = np.linalg.norm(way, axis=1)
    p = space[facets]
    normals = np.zeros_like(space)
    np.add.at(normals, facets.ravel(), np.repeat(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), 3, axis=0))
    above = np.abs(np.einsum("ij,ij->i", way, unit(normals)[pairs[:, 0]]))
    return bool(((far > APART * 0.5 * side) & (above > OVER * far)).any())


def _best_plane(space: Floats, facets: NDArray[np.int64]) -> tuple[float, ...]:
    """The plane (x, y, z of a point and of its normal) through a patch's axis that leaves least in pieces that still wind, then few pieces, none of them small."""
    middle = space[facets].mean(axis=1)
    centre, axis = _screw_axis(space, facets)
    u = _sideways(space, facets, centre, axis)  # planes are laid from the patch itself: its attitude must not matter
    v = np.cross(axis, u)
    beside, _ = facet_neighbours(facets.astype(np.int32), len(space))
    area = np.linalg.norm(np.cross(space[facets[:, 1]] - space[facets[:, 0]], space[facets[:, 2]] - space[facets[:, 0]]), axis=1)
    best: tuple[float, ...] | None = None
    for angle in np.arange(WAYS) * np.pi / WAYS:
        normal = np.cos(angle) * u + np.sin(angle) * v
        above = (middle - centre) @ normal > 0
        label = patches(beside, above[:, None] != above[beside])
        share = np.bincount(label, area) / area.sum()
        left = 0.0
        for piece in range(len(share)):
            mine = facets[label == piece]
            used, local = np.unique(mine, return_inverse=True)
            if len(mine) >= LEAST and _covers_itself(space[used], local.reshape(-1, 3).astype(np.int64)):
                left += share[piece]
        rank = (round(left, 1), len(share), -round(float(share.min()), 1))  # coarse: facets differ a little with scale and attitude
        if best is None or rank < best:
            best, chosen = rank, normal
    return (*centre.tolist(), *chosen.tolist())


def _sideways(space: Floats, facets: NDArray[np.int64], centre: Floats, axis: Floats) -> Floats:
    """The direction from an axis to most of a patch; to one of its ends where it lies alike all round."""
    a, b, c = (space[facets[:, k]] for k in range(3))
    middle = (a + b + c) / 3 - centre
    most = np.average(middle, axis=0, weights=np.linalg.norm(np.cross(b - a, c - a), axis=1))
    for way in (most, middle[int(np.argmax(middle @ axis))]):
        across = way - (way @ axis) * axis
        if np.linalg.norm(across) > ALIKE * np.ptp(middle, axis=0).max():
            return np.asarray(unit(across))
    return frame(axis)[0]


def _screw_axis(space: Floats, facets: NDArray[np.int64]) -> tuple[Floats, Floats]:
    """A point on, and the direction of, the axis of the screw motion that moves a patch into itself as well as any.

    With velocity v + w × p at a place p and normal n there, (v + w × p) · n = 0 all over a
    helicoid (kinematic surfaces: Pottmann and Wallner, Computational Line Geometry, 2001).
    """
    a, b, c = (space[facets[:, k]] for k in range(3))
    normal = np.cross(b - a, c - a)
    weight = np.linalg.norm(normal, axis=1)
    middle = (a + b + c) / 3
    centre = np.average(middle, axis=0, weights=weight)
    scale = float(np.ptp(middle, axis=0).max())
    place = (middle - centre) / scale
    n = normal / np.maximum(weight, 1e-300)[:, None]
    table = np.hstack((n, np.cross(place, n))) * np.sqrt(weight / weight.sum())[:, None]
    found = np.linalg.svd(table, full_matrices=False)[2][-1]
    v, w = found[:3], found[3:]
    square = float(w @ w)
    if square < STRAIGHT:  # it rather slides along a line
        return centre, np.asarray(unit(v))
    return np.asarray(centre + scale * np.cross(w, v) / square), np.asarray(unit(w))
