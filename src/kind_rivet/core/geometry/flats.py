"""Plane parts of smooth facet surfaces: walls between bends, which a feature angle alone would leave in one face with them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, unit
from kind_rivet.core.geometry.soup import Soup, facet_neighbours, shape_from_triangles
from kind_rivet.core.kernels import kernel

Ints = NDArray[np.int32]
ALIKE = np.cos(np.radians(0.6))  # of the normals of facets that may lie in one plane
SMOOTH = np.radians(30.0)  # turn up to which a surface runs on smoothly
HALF = 0.8  # of the turn within a bend: a plane turns less into it
WIDER = 2.2  # times as wide as what it runs on into: a wall, no strip of a bend
FLAT = 1e-5  # of its reach: how far a plane part's points may lie off its plane


def walls_and_bends(points: Floats, triangles: Ints, angle: float, welded: bool = False) -> Soup:
    """A shape from triangles (see `shape_from_triangles`) whose plane walls end where their bends begin."""
    soup = shape_from_triangles(points, triangles, angle, welded)
    label = parts_of_free_faces(soup, np.arange(len(triangles)))
    return shape_from_triangles(points, triangles, angle, welded, label) if (label >= 0).any() else soup


def parts_of_free_faces(soup: Soup, owner: NDArray[np.int64]) -> NDArray[np.int64]:
    """Number (s,) of the plane part that each element lies in, −1 for those in none and in faces that lie on one surface as a whole.

    owner (t,): the element (0 … s − 1) of each triangle that the shape was made from.
    """
    shape = soup.shape
    out = np.full(int(owner.max(initial=-1)) + 1, -1, np.int64)
    free = np.array([face.carrier.kind == "free" for face in shape.faces])
    mine = np.flatnonzero(free[shape.facet_face])
    if len(mine):
        which, local = np.unique(owner[soup.kept[mine]], return_inverse=True)
        out[which] = plane_parts(shape.points, shape.facets[mine], local)
    return out


def plane_parts(points: Floats, triangles: Ints, owner: NDArray[np.int64] | None = None) -> NDArray[np.int64]:
    """Number (s,) of the plane part that each element lies in, −1 for those in none.

    triangles (t, 3), owner (t,): the element (0 … s − 1) of each; without it every triangle is one. A part has at least one
    node round which everything lies in its plane, or is much wider than what it runs on into: the strips of a faceted cylinder are neither.
    """
    owner = np.arange(len(triangles)) if owner is None else owner
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
    keep[:-1] |= _wide(points, triangles, beside, normal, part)
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


def _wide(points: Floats, triangles: Ints, beside: Ints, normal: Floats, part: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Which parts (p,) are much wider (2 area / border) than those they run on into smoothly, and not strips of one cylinder with them."""
    count = int(part.max(initial=-1)) + 1
    part = np.where(part >= 0, part, count)  # what lies in no plane counts as one more
    p = points[triangles]
    area = np.bincount(part, np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1) / 2, count + 1)
    facet, k = np.nonzero((beside < 0) | (part[np.maximum(beside, 0)] != part[:, None]))
    length = np.linalg.norm(p[facet, (k + 1) % 3] - p[facet, k], axis=1)
    width = 2 * area / np.maximum(np.bincount(part[facet], length, count + 1), 1e-300)
    other = beside[facet, k]
    smooth = (other >= 0) & (part[facet] < count) & (part[np.maximum(other, 0)] < count)
    turn = np.arccos(np.clip(np.einsum("ij,ij->i", normal[facet], normal[np.maximum(other, 0)]), -1.0, 1.0))
    smooth &= turn < SMOOTH
    mine, theirs, length, turn = part[facet[smooth]], part[other[smooth]], length[smooth], turn[smooth]
    beyond = np.bincount(mine, length * width[theirs], count) / np.maximum(np.bincount(mine, length, count), 1e-300)
    wide = (beyond > 0) & (width[:count] > WIDER * beyond)
    order = np.argsort(mine, kind="stable")
    first = np.searchsorted(mine[order], np.arange(count + 1))
    for r in np.flatnonzero(wide).tolist():
        sides = order[first[r] : first[r + 1]]
        s = int(theirs[sides[int(np.argmax(length[sides]))]])
        here = float(turn[sides[theirs[sides] == s]].max())
        onward = order[first[s] : first[s + 1]]
        onward = onward[theirs[onward] != r]
        if not len(onward):
            continue
        k = onward[int(np.argmax(length[onward]))]
        # A wide strip of the same cylinder would turn more than narrow ones do; a plane that touches it turns half as much.
        wide[r] = here < HALF * turn[k] or width[theirs[k]] > WIDER * width[s]
    return np.asarray(wide)


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
