"""Faces found on a mesh that cannot be laid flat in one piece, taken apart: bends by their axes, what closes on itself into halves."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, unit
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.soup import facet_neighbours
from kind_rivet.core.kernels import kernel
from kind_rivet.core.meshing.free.constrained import constrained_triangles
from kind_rivet.core.meshing.patch import Patch, lay_flat_or_none
from kind_rivet.core.meshing.regions import opened

Ints = NDArray[np.int32]
SEEDS = 48  # places of a face from which bends are looked for
ALONG = 0.03  # cosine up to which a normal stands square to an axis
BEND = np.cos(np.radians(1.5))  # of the turn between facets that tells an axis
STRETCH = 1.6  # area in the plane over area in space, or the other way round, up to which a face counts as laid flat well
ONE_CIRCLE = 0.02  # of the middle spread of normals: how far they may lie off the plane of one circle
LEAST = 6  # elements of a bend
MOST_BENDS = 24  # of one face
NEARLY_ALL = 0.85  # of a face that its bends must make up
CALM = 4  # rounds in which jagged lines between pieces are smoothed
SLIT = 0.02  # of the sides of the border: how far both sides of a line inside a face are held apart


def can_be_filled(shape: Shape, face: int) -> bool:
    """Can a face be laid flat without being stretched much or covering itself?"""
    patch = lay_flat_or_none(shape, (face,))
    return patch is not None and patch.stretch < STRETCH and not _crosses(patch)


def _crosses(patch: Patch) -> bool:
    _, ids = np.unique(patch.space, axis=0, return_inverse=True)
    loops = []
    for loop, flat in zip(patch.loops, patch.outlines, strict=True):
        side = float(np.median(np.linalg.norm(flat - np.roll(flat, 1, axis=0), axis=1)))
        loops.append(opened(ids.ravel()[np.concatenate([p.corners[:-1] for p in loop])].astype(np.int32), flat, SLIT * side))
    first = np.cumsum([0, *(len(loop) for loop in loops)])
    sides = [np.column_stack((np.arange(len(x)), (np.arange(len(x)) + 1) % len(x))) + s for x, s in zip(loops, first, strict=False)]
    return constrained_triangles(np.concatenate(loops), np.concatenate(sides)) is None


def taken_apart(points: Floats, triangles: Ints, owner: NDArray[np.int64]) -> NDArray[np.int64]:
    """A number (s,) for every element of a face, alike within pieces that are easier to lay flat.

    triangles (t, 3), owner (t,): the element (0 … s − 1) of each. Bends with axes of their own
    where these make up nearly all of it, else two halves. So are tubes and cones, whose neighbours turn about other axes everywhere.
    """
    a, b, c = (points[triangles[:, k]] for k in range(3))
    normal = unit(np.cross(b - a, c - a))
    beside, _ = facet_neighbours(triangles, len(points))
    if _round_as_a_whole(normal, np.linalg.norm(np.cross(b - a, c - a), axis=1)):
        return _calmed(_halves((a + b + c) / 3, normal, owner), beside, owner)
    bends = _bends(normal, beside, owner)
    made = int(bends.max()) + 1
    if made > 1 and made <= MOST_BENDS and (bends >= 0).mean() > NEARLY_ALL:
        return _calmed(bends, beside, owner)
    return _calmed(_halves((a + b + c) / 3, normal, owner), beside, owner)


def _round_as_a_whole(normal: Floats, area: Floats) -> bool:
    """Do the normals (t, 3) of facets of these areas (t,) lie on one circle: those of a cylinder or a cone?"""
    away = normal - np.average(normal, axis=0, weights=area)
    spread = np.linalg.eigvalsh((away * area[:, None]).T @ away)
    return bool(spread[0] < ONE_CIRCLE * spread[1])


def _bends(normal: Floats, beside: Ints, owner: NDArray[np.int64]) -> NDArray[np.int64]:
    """The bend (s,) that each element belongs to, −1 where none: the largest first."""
    part = np.full(len(normal), -1, np.int64)
    for count in range(MOST_BENDS + 1):
        left = np.flatnonzero(part < 0)
        best, size = np.empty(0, np.int64), 0
        for seed in left[:: max(1, len(left) // SEEDS)].tolist():
            mine = np.flatnonzero(_square_to_axis(seed, beside, normal, part, ALONG, BEND))
            if (now := len(np.unique(owner[mine]))) > size:
                best, size = mine, now
        if size < LEAST:
            break
        part[best] = count
    out = np.full(int(owner.max()) + 1, -1, np.int64)
    out[owner[::-1]] = part[::-1]
    return out


def _halves(centre: Floats, normal: Floats, owner: NDArray[np.int64]) -> NDArray[np.int64]:
    """0 or 1 (s,) for every element, by its height along the direction in which the normals vary most; cut where a row of elements ends."""
    count = np.bincount(owner)
    middle = np.column_stack([np.bincount(owner, centre[:, k]) / count for k in range(3)])
    away = normal - normal.mean(axis=0)
    height = middle @ np.linalg.eigh(away.T @ away)[1][:, 2]
    ordered = np.sort(height)
    low, high = int(0.35 * len(ordered)), max(int(0.65 * len(ordered)), int(0.35 * len(ordered)) + 1)
    gap = low + int(np.argmax(np.diff(ordered[low : high + 1])))
    return np.asarray(height > (ordered[gap] + ordered[min(gap + 1, len(ordered) - 1)]) / 2).astype(np.int64)


def _calmed(number: NDArray[np.int64], beside: Ints, owner: NDArray[np.int64]) -> NDArray[np.int64]:
    """Numbers (s,) of elements, where those that mostly have another number beside them take that."""
    first, k = np.nonzero(beside >= 0)
    a, b = owner[first], owner[beside[first, k]]
    a, b = a[a != b], b[a != b]
    out = number.copy()
    for _ in range(CALM):
        kinds = np.unique(out)
        votes = np.zeros((len(out), len(kinds)), np.int64)
        np.add.at(votes, (a, np.searchsorted(kinds, out[b])), 1)
        most = votes.argmax(axis=1)
        own = votes[np.arange(len(out)), np.searchsorted(kinds, out)]
        change = votes.max(axis=1) > np.maximum(own, votes.sum(axis=1) - votes.max(axis=1))
        change &= kinds[most] != out
        if not change.any():
            break
        out[change] = kinds[most[change]]
    return out


@kernel
def _square_to_axis(seed, beside, normal, part, along, bend):  # type: ignore[no-untyped-def]
    """Facets (t,) that hang together with a seed and whose normals stand square to the axis it turns about with a neighbour."""
    m = len(beside)
    mine = np.zeros(m, np.bool_)
    axis = np.zeros(3)
    for k in range(3):
        g = beside[seed, k]
        if g >= 0 and part[g] < 0:
            if normal[seed, 0] * normal[g, 0] + normal[seed, 1] * normal[g, 1] + normal[seed, 2] * normal[g, 2] < bend:
                axis[0] = normal[seed, 1] * normal[g, 2] - normal[seed, 2] * normal[g, 1]
                axis[1] = normal[seed, 2] * normal[g, 0] - normal[seed, 0] * normal[g, 2]
                axis[2] = normal[seed, 0] * normal[g, 1] - normal[seed, 1] * normal[g, 0]
                break
    length = np.sqrt(axis[0] ** 2 + axis[1] ** 2 + axis[2] ** 2)
    if length == 0.0:
        return mine
    stack = np.empty(m, np.int64)
    stack[0] = seed
    mine[seed] = True
    top = 1
    while top > 0:
        top -= 1
        f = stack[top]
        for k in range(3):
            g = beside[f, k]
            if g < 0 or mine[g] or part[g] >= 0:
                continue
            if abs(normal[g, 0] * axis[0] + normal[g, 1] * axis[1] + normal[g, 2] * axis[2]) < along * length:
                mine[g] = True
                stack[top] = g
                top += 1
    return mine
