"""New nodes and lines inside the faces of a faceted shape."""

from __future__ import annotations

import itertools

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, unit
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.refine import SideCarriers, cut_sides, sides_of
from kind_rivet.core.geometry.shape import Shape

SAME_PLACE = 1e-7  # of the diagonal: places nearer to a node or a side than this lie on it


def with_node(shape: Shape, face: int, place: Floats) -> tuple[Shape, int]:
    """The shape with a node at a place (3,) on a face: one that is there, one on a side, or a new one inside a facet."""
    mine = np.flatnonzero(shape.facet_face == face)
    facet, weight, _ = FacetTree.over(shape.points, shape.facets[mine]).nearest(place[None])
    f, w = int(mine[facet[0]]), weight[0]
    row = shape.facets[f]
    near = SAME_PLACE * shape.diagonal
    gaps = np.linalg.norm(shape.points[row] - place, axis=1)
    if gaps.min() < near:
        return shape, int(row[int(np.argmin(gaps))])
    k = int(np.argmin(w))  # the corner that counts least: the side across from it may hold the place
    a, b = int(row[(k + 1) % 3]), int(row[(k + 2) % 3])
    along = unit(shape.points[b] - shape.points[a])
    off = place - shape.points[a]
    if np.linalg.norm(off - (off @ along) * along) < near:
        out, new = cut_sides(shape, {(min(a, b), max(a, b)): place})
        return out, next(iter(new.values()))
    node = len(shape.points)
    normal = unit(np.einsum("i,ij->j", w, shape.normals[f]))
    rows, normals = [], []
    for k in range(3):
        rows.append([row[k], row[(k + 1) % 3], node])
        normals.append([shape.normals[f, k], shape.normals[f, (k + 1) % 3], normal])
    rest = np.arange(len(shape.facets)) != f
    return Shape(
        np.vstack((shape.points, place)), np.vstack((shape.facets[rest], np.array(rows, np.int32))), np.append(shape.facet_face[rest], [face] * 3).astype(np.int32),
        np.concatenate((shape.normals[rest], np.array(normals))), shape.faces, shape.edges, shape.solid,
    ), node  # fmt: skip


def with_line(shape: Shape, face: int, start: int, place: Floats) -> tuple[Shape, list[int]] | None:
    """The shape with nodes straight across a face from the node `start` to a place (3,) at a node or on its border, and their numbers.

    None where no such line can be found.
    """
    at = (shape.facets == start) & (shape.facet_face == face)[:, None]
    origin = shape.points[start]
    across = np.cross(shape.normals[at].mean(axis=0), place - origin) if at.any() else np.zeros(3)
    if np.linalg.norm(across) < 1e-12 * shape.diagonal:
        return None
    across = unit(across)
    value = (shape.points - origin) @ across
    value[np.abs(value) < SAME_PLACE * shape.diagonal] = 0.0
    value[start] = 0.0
    facets = np.flatnonzero(shape.facet_face == face)
    sides = sides_of(shape, facets)
    reach = float(np.linalg.norm(place - origin))
    near = (np.linalg.norm(shape.points[sides] - origin, axis=2).min(axis=1) < 2 * reach + _longest(shape, sides)) & (
        value[sides[:, 0]] * value[sides[:, 1]] < 0
    )
    segments: list[tuple[int, int]] = [(a, b) for a, b in sides[near].tolist()]
    spot: dict[tuple[int, int], Floats] = {}
    chord: dict[tuple[int, int], Floats] = {}  # before they are put on curved edges: the place may be on either
    if segments:
        a, b = np.array(segments).T
        t = (value[a] / (value[a] - value[b]))[:, None]
        plain = shape.points[a] + t * (shape.points[b] - shape.points[a])
        spot = dict(zip(segments, SideCarriers(shape, segments).lifted(plain), strict=True))
        chord = dict(zip(segments, plain, strict=True))
    beside: dict[int | tuple[int, int], list[int | tuple[int, int]]] = {}
    for row in shape.facets[facets].tolist():
        ends: list[int | tuple[int, int]] = [v for v in row if value[v] == 0]
        ends += [side for k in range(3) if (side := _key(row[k], row[(k + 1) % 3])) in spot]
        if len(ends) == 2:
            for a, b in itertools.permutations(ends):
                beside.setdefault(a, [])
                if b not in beside[a]:
                    beside[a].append(b)

    def away(k: int | tuple[int, int], from_: Floats) -> float:
        at = (spot[k], chord[k]) if isinstance(k, tuple) else (shape.points[k],)
        return min(float(np.linalg.norm(p - from_)) for p in at)

    arrived = 1e-3 * reach
    for first in beside.get(start, []):
        chain: list[int | tuple[int, int]] = [start, first]
        while True:
            following = [k for k in beside.get(chain[-1], []) if k not in chain[-2:]]
            if len(following) != 1 or away(following[0], origin) > reach + arrived:
                break
            left = away(chain[-1], place)
            if left <= arrived and away(following[0], place) >= left:
                break  # a side just before the border is not the border
            chain.append(following[0])
        if away(chain[-1], place) <= arrived:
            out, number = cut_sides(shape, {k: spot[k] for k in chain if isinstance(k, tuple)})
            return out, [number[k] if isinstance(k, tuple) else k for k in chain]
    return None


def _key(a: int, b: int) -> tuple[int, int]:
    return (a, b) if a < b else (b, a)


def _longest(shape: Shape, sides: NDArray[np.int64]) -> float:
    return float(np.linalg.norm(shape.points[sides[:, 0]] - shape.points[sides[:, 1]], axis=1).max(initial=0.0))
