"""Plane parts of smooth facet surfaces: walls between bends, which a feature angle alone would leave in one face with them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, unit
from kind_rivet.core.geometry.soup import facet_neighbours
from kind_rivet.core.kernels import kernel

Ints = NDArray[np.int32]
ALIKE = np.cos(np.radians(0.6))  # of the normals of facets that may lie in one plane
FLAT = 1e-5  # of its reach: how far a plane part's points may lie off its plane


def plane_parts(points: Floats, triangles: Ints, owner: NDArray[np.int64]) -> NDArray[np.int64]:
    """Number (s,) of the plane part that each element lies in, −1 for those in none.

    triangles (t, 3), owner (t,): the element (0 … s − 1) of each. A part has at least one
    node round which everything lies in its plane, so the strips of a faceted cylinder are none.
    """
    beside, _ = facet_neighbours(triangles, len(points))
    a, b, c = (points[triangles[:, k]] for k in range(3))
    normal = unit(np.cross(b - a, c - a))
    part = _grown(beside, normal, triangles, points, ALIKE, FLAT)
    elements = int(owner.max(initial=-1)) + 1
    out, high = np.full(elements, np.iinfo(np.int64).max), np.full(elements, -1, np.int64)
    np.minimum.at(out, owner, part)
    np.maximum.at(high, owner, part)
    out[out != high] = -1
    keep = np.zeros(int(part.max(initial=-1)) + 2, bool)
    keep[_with_inner_nodes(triangles, beside, out[owner], len(points))] = True
    keep[-1] = False
    return np.where(keep[out], out, -1)


def _with_inner_nodes(triangles: Ints, beside: Ints, part: NDArray[np.int64], nodes: int) -> NDArray[np.int64]:
    """Parts with a node that only their own triangles have, and have all round."""
    low, high = np.full(nodes, np.iinfo(np.int64).max), np.full(nodes, -2, np.int64)
    for k in range(3):
        np.minimum.at(low, triangles[:, k], part)
        np.maximum.at(high, triangles[:, k], part)
    border = np.zeros(nodes, bool)
    facet, side = np.nonzero(beside < 0)
    border[triangles[facet, side]] = border[triangles[facet, (side + 1) % 3]] = True
    return np.unique(low[(low == high) & (low >= 0) & ~border])


@kernel
def _grown(beside, normal, triangles, points, alike, flat):  # type: ignore[no-untyped-def]
    """Part (t,) of each triangle: grown over neighbours whose normals are alike, kept where all points lie in one plane; else −1."""
    m = len(beside)
    part = np.full(m, -1, np.int64)
    tried = np.zeros(m, np.bool_)
    stack, mine = np.empty(m, np.int64), np.empty(m, np.int64)
    seen = np.full(m, -1, np.int64)
    count = 0
    for seed in range(m):
        if tried[seed]:
            continue
        stack[0], mine[0], seen[seed] = seed, seed, seed
        top, size = 1, 1
        nx, ny, nz = normal[seed]
        px, py, pz = points[triangles[seed, 0]]
        sx, sy, sz = 0.0, 0.0, 0.0
        while top > 0:
            top -= 1
            f = stack[top]
            way = 1.0 if normal[f, 0] * nx + normal[f, 1] * ny + normal[f, 2] * nz > 0 else -1.0
            sx, sy, sz = sx + way * normal[f, 0], sy + way * normal[f, 1], sz + way * normal[f, 2]
            for k in range(3):
                g = beside[f, k]
                if g < 0 or seen[g] == seed or part[g] >= 0:
                    continue
                if abs(normal[g, 0] * nx + normal[g, 1] * ny + normal[g, 2] * nz) >= alike:  # folded over, it still lies in the plane
                    seen[g] = seed
                    stack[top], mine[size] = g, g
                    top += 1
                    size += 1
        length = np.sqrt(sx * sx + sy * sy + sz * sz)
        off, reach = 0.0, 0.0
        for i in range(size):
            for k in range(3):
                x, y, z = points[triangles[mine[i], k]]
                x, y, z = x - px, y - py, z - pz
                off = max(off, abs(x * sx + y * sy + z * sz) / length)
                reach = max(reach, x * x + y * y + z * z)
        plane = off <= flat * np.sqrt(reach)
        for i in range(size):
            tried[mine[i]] = True
            if plane:
                part[mine[i]] = count
        count += plane
    return part
