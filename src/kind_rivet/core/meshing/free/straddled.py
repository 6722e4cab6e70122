"""Symmetric regions whose mirror axes cross the border amid sides: a row of quads straddles such an axis.

The row is taken out: both halves move together by its width, so that the border has a node on the
axis, and what is left is filled as symmetric regions are. Then the halves move apart again, and
the sides along the axis become the row. Each half moves as a whole, so nothing is distorted.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.free.fill import FlatMesh, flat_worst
from kind_rivet.core.meshing.free.symmetry import SAME, Fill, Symmetry, fill_symmetric, mirror_axes

UNLIKE = 1.4  # how much longer one side across an axis may be than another
HAIR = 1e-6  # sizes: what lies that near to an axis lies on it


@dataclass(frozen=True)
class _Row:
    """A row across an axis: a place on the axis, the direction square to it, and how far half of the row reaches."""

    centre: Floats
    across: Floats
    half: float

    def off(self, points: Floats) -> Floats:
        return np.asarray((points - self.centre) @ self.across)


def fill_straddled(loops: list[Floats], size: float, growth: float, fill_part: Fill, same: float = SAME) -> FlatMesh | None:
    """A mesh as symmetric as the border, its nodes first in the order of the loops; None where no axis lies amid sides, or that cannot be.

    `fill_part` fills one part between axes (loops as for `fill`); what it raises is passed on.
    """
    symmetry = mirror_axes(loops, size, same)
    if symmetry is None:
        return None
    border = np.concatenate(loops)
    first = np.cumsum([0, *map(len, loops)])
    after = np.concatenate([np.roll(np.arange(a, b), -1) for a, b in pairwise(first)])
    rows = [row for angle in _square_axes(symmetry) if (row := _row_across(border, after, symmetry.centre, angle, same * size)) is not None]
    if not any(row.half for row in rows):
        return None
    closer, twin = border.copy(), np.arange(len(border))  # twin: of both ends of a side across an axis the one that stays
    for row in rows:
        off = row.off(border)
        sides = np.flatnonzero((off * off[after] < 0) & (row.half > 0))
        inward = np.sign(off) * row.half
        for onto in (sides, after[sides], np.flatnonzero(np.abs(off) < same * size)):
            inward[onto] = off[onto]  # right onto the axis
        closer = closer - inward[:, None] * row.across
        for a in sides.tolist():
            twin[[a, after[a]]] = min(twin[a], twin[after[a]])
    keeps = twin == np.arange(len(border))
    mesh, _ = fill_symmetric([closer[a:b][keeps[a:b]] for a, b in pairwise(first)], size, growth, fill_part, same)
    number = np.cumsum(keeps) - 1
    place = number[twin]
    for row in rows:
        if mesh is not None and row.half:
            mesh, place = _apart(mesh, place, row, np.sign(row.off(border)), HAIR * size)
    return None if mesh is None else _as_given(mesh, place, border)


def _square_axes(symmetry: Symmetry) -> list[float]:
    """One axis, or two square to each other."""
    axes = symmetry.axes
    pair = next(((a, b) for a in axes for b in axes if abs(b - a - np.pi / 2) < 1e-4), None)
    return list(pair) if pair else list(axes[:1]) if len(axes) == 1 else []


def _row_across(border: Floats, after: NDArray[np.int64], centre: Floats, angle: float, near: float) -> _Row | None:
    """The row across an axis, of no width where the border has nodes wherever it crosses it; None where it has nodes here and sides there."""
    row = _Row(centre, np.array([-np.sin(angle), np.cos(angle)]), 0.0)
    off = row.off(border)
    sides = np.flatnonzero((off * off[after] < 0) & (np.abs(off) > near) & (np.abs(off[after]) > near))
    if not len(sides):
        return row
    half = np.abs(np.concatenate((off[sides], off[after[sides]])))
    others = np.setdiff1d(np.arange(len(border)), np.concatenate((sides, after[sides])))
    if half.max() > UNLIKE * half.min() or (len(others) and np.abs(off[others]).min() < half.max()):
        return None
    return _Row(centre, row.across, float(half.mean()))


def _apart(mesh: FlatMesh, place: NDArray[np.int64], row: _Row, side: Floats, near: float) -> tuple[FlatMesh | None, NDArray[np.int64]]:
    """Both halves of a mesh moved apart by a row, with quads between; and where the nodes (b,) of the border, on a side (b,) of it each, are then."""
    off = row.off(mesh.points)
    on = np.abs(off) < near
    used = mesh.elements >= 0
    node = np.maximum(mesh.elements, 0)
    left: NDArray[np.bool_] = np.any(used & (off[node] < -near), axis=1)
    if (left & (used & (off[node] > near)).any(axis=1)).any() or (used & ~on[node]).any(axis=1).sum() < len(node):
        return None, place
    copy = np.full(len(on), -1)
    copy[on] = len(on) + np.arange(int(on.sum()))
    points = mesh.points + np.where(on, 1.0, np.sign(off))[:, None] * row.half * row.across
    points = np.concatenate((points, mesh.points[on] - row.half * row.across))
    elements = mesh.elements.copy()
    swapped = left[:, None] & used & on[node]
    elements[swapped] = copy[node[swapped]]
    corners = used.sum(axis=1)
    following = np.where(np.arange(4) + 1 < corners[:, None], np.roll(node, -1, axis=1), node[:, :1])
    along = ~left[:, None] & used & on[node] & on[following]
    a, b = node[along], following[along]  # counter-clockwise round what lies on the right
    between = np.column_stack((b, a, copy[a], copy[b]))
    if not len(between) or len(np.unique(between)) < 2 * int(on.sum()):
        return None, place
    elements = np.concatenate((elements, between)).astype(np.int32)
    moved = np.where(on[place] & (side < 0), copy[place], place)
    return FlatMesh(points, elements, 0.0), moved


def _as_given(mesh: FlatMesh, place: NDArray[np.int64], border: Floats) -> FlatMesh | None:
    """The mesh with the nodes of the border first, and where they are; None where two of them fell together or one is not used."""
    if len(np.unique(place)) < len(border) or not np.isin(place, mesh.elements).all():
        return None
    rest = np.setdiff1d(np.arange(len(mesh.points)), place)
    order = np.concatenate((place, rest))
    number = np.empty(len(order), np.int32)
    number[order] = np.arange(len(order))
    points = np.concatenate((border, mesh.points[rest]))
    elements = np.where(mesh.elements >= 0, number[np.maximum(mesh.elements, 0)], -1).astype(np.int32)
    return FlatMesh(points, elements, flat_worst(points, elements))
