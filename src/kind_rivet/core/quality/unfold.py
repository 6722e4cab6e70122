"""Elements that lie folded over their neighbours: the nodes at fault are led back between their own neighbours.

An element that is folded over has no normal to speak of, and no small move of a node mends it: the way leads through worse
places. What holds is the vector area of the elements round a node, which depends on the outline of the star alone,
wherever the node lies. Measured against it a folded corner counts below zero, and a few places between the neighbours are tried.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.onto import onto
from kind_rivet.core.geometry.soup import facet_neighbours, to_be_turned
from kind_rivet.core.kernels import kernel
from kind_rivet.core.mesh.topology import as_triangles, turned_as_most
from kind_rivet.core.quality.easing import node_elements
from kind_rivet.core.quality.shell_metrics import SCALED_JACOBIAN, shell_metrics

Ints = NDArray[np.int32]
POOR = 0.1  # scaled Jacobian below which the nodes of an element are looked at
SOUND = 0.35  # corners from which on nothing is gained
WARPED = 0.05  # what a quad costs whose fourth corner stands a side off the plane of the others, at each corner
GAIN = 1e-3  # moves that gain less are not made
ROUNDS = 30
MOST = 24  # neighbours of a node


def unfolded(
    points: Floats, shells: Ints, movable: NDArray[np.bool_], code: NDArray[np.int8], data: Floats, below: float = POOR
) -> tuple[Floats, NDArray[np.bool_]]:
    """Places (n, 3) of all nodes with folded elements (m, 4) laid open where that is possible, and which nodes (n,) moved.

    Nodes at sides of one or of more than two elements stay, and all that are not `movable` (n,); code, data: their `Holds`.
    """
    out = points.copy()
    triangles, owner = as_triangles(shells)
    beside, _ = facet_neighbours(triangles, len(points))
    poor = shell_metrics(points, shells)[:, SCALED_JACOBIAN] < below
    poor[owner[_on_its_back(points, triangles, beside)]] = True
    if not poor.any():
        return out, np.zeros(len(points), bool)
    alike = turned_as_most(shells, len(points))
    free = movable.copy()
    facet, side = np.nonzero(beside < 0)
    free[triangles[facet, side]] = free[triangles[facet, (side + 1) % 3]] = False
    rows = alike[poor]
    suspects = np.unique(rows[rows >= 0])
    suspects = suspects[free[suspects]]
    inc, start = node_elements(alike, len(points))
    for _ in range(ROUNDS):
        if not _round(out, suspects, alike, inc, start, code, data):
            break
    return out, np.asarray((out != points).any(axis=1))


def _on_its_back(points: Floats, triangles: Ints, beside: Ints) -> NDArray[np.bool_]:
    """Triangles (t,) that turn away from two neighbours or more, once all are turned alike."""
    turned, _ = to_be_turned(triangles, beside)
    a, b, c = (points[triangles[:, k]] for k in range(3))
    normal = np.cross(b - a, c - a) * np.where(turned, -1.0, 1.0)[:, None]
    normal /= np.maximum(np.linalg.norm(normal, axis=1), 1e-300)[:, None]
    against = (np.einsum("ij,ikj->ik", normal, normal[np.maximum(beside, 0)]) < -0.5) & (beside >= 0)
    return np.asarray(against.sum(axis=1) >= 2)


@kernel
def _cost(points, v, shells, inc, start):  # type: ignore[no-untyped-def]
    """Least corner of the elements round node v against the vector area of them all, and the cost of poor corners and warp."""
    nx, ny, nz = 0.0, 0.0, 0.0
    for i in range(start[v], start[v + 1]):
        e = inc[i]
        n = 3 if shells[e, 3] < 0 else 4
        for k in range(1, n - 1):
            o, a, b = shells[e, 0], shells[e, k], shells[e, k + 1]
            ux, uy, uz = points[a, 0] - points[o, 0], points[a, 1] - points[o, 1], points[a, 2] - points[o, 2]
            wx, wy, wz = points[b, 0] - points[o, 0], points[b, 1] - points[o, 1], points[b, 2] - points[o, 2]
            nx, ny, nz = nx + uy * wz - uz * wy, ny + uz * wx - ux * wz, nz + ux * wy - uy * wx
    size = np.sqrt(nx * nx + ny * ny + nz * nz)
    if size == 0.0:
        return -1.0, np.inf
    nx, ny, nz = nx / size, ny / size, nz / size
    least, cost = np.inf, 0.0
    for i in range(start[v], start[v + 1]):
        e = inc[i]
        n = 3 if shells[e, 3] < 0 else 4
        for k in range(n):
            p, a, b = shells[e, k], shells[e, (k + 1) % n], shells[e, (k + n - 1) % n]
            ux, uy, uz = points[a, 0] - points[p, 0], points[a, 1] - points[p, 1], points[a, 2] - points[p, 2]
            wx, wy, wz = points[b, 0] - points[p, 0], points[b, 1] - points[p, 1], points[b, 2] - points[p, 2]
            cx, cy, cz = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
            sides = np.sqrt((ux * ux + uy * uy + uz * uz) * (wx * wx + wy * wy + wz * wz))
            corner = (cx * nx + cy * ny + cz * nz) / sides if sides > 0.0 else -1.0
            least = min(least, corner)
            if corner < SOUND:
                cost += (SOUND - corner) ** 2
            if n == 4:  # how far the four corners are from one plane
                area = np.sqrt(cx * cx + cy * cy + cz * cz)
                o = shells[e, (k + 2) % n]
                off = (points[o, 0] - points[p, 0]) * cx + (points[o, 1] - points[p, 1]) * cy + (points[o, 2] - points[p, 2]) * cz
                if area > 0.0 and sides > 0.0:
                    cost += WARPED * min(abs(off) / area / np.sqrt(sides), 1.0)
    return least, cost


@kernel
def _round(points, suspects, shells, inc, start, code, data):  # type: ignore[no-untyped-def]
    """Lead every suspect to the best of a few places between its neighbours, those that gain most first; returns the moves made."""
    count = len(suspects)
    gain, place = np.zeros(count), np.empty((count, 3))
    near, tried = np.empty(MOST, np.int32), np.empty((MOST * MOST, 3))
    for i in range(count):
        v = suspects[i]
        worst, before = _cost(points, v, shells, inc, start)
        if worst >= SOUND:
            continue
        trials = _places(points, v, shells, inc, start, near, tried)
        x, y, z = points[v, 0], points[v, 1], points[v, 2]
        for t in range(trials):
            px, py, pz = onto(code[v], data[v], tried[t, 0], tried[t, 1], tried[t, 2])
            points[v, 0], points[v, 1], points[v, 2] = px, py, pz
            low, now = _cost(points, v, shells, inc, start)
            if low > worst - 1e-9 and before - now > gain[i] + GAIN:
                gain[i] = before - now
                place[i, 0], place[i, 1], place[i, 2] = px, py, pz
        points[v, 0], points[v, 1], points[v, 2] = x, y, z
    touched = np.zeros(len(points), np.bool_)
    moves = 0
    for i in np.argsort(-gain):
        if gain[i] <= 0.0:
            break
        v = suspects[i]
        clear = True
        for k in range(start[v], start[v + 1]):
            for c in range(4):
                w = shells[inc[k], c]
                if w >= 0 and touched[w]:
                    clear = False
        if not clear:
            continue
        points[v, 0], points[v, 1], points[v, 2] = place[i, 0], place[i, 1], place[i, 2]
        touched[v] = True
        moves += 1
    return moves


@kernel
def _places(points, v, shells, inc, start, near, tried):  # type: ignore[no-untyped-def]
    """Places to try for node v: the mean of its neighbours, the mean of all corners round it, and half-way between neighbours that share no element."""
    n = 0
    ax, ay, az, corners = 0.0, 0.0, 0.0, 0
    for i in range(start[v], start[v + 1]):
        e = inc[i]
        m = 3 if shells[e, 3] < 0 else 4
        for k in range(m):
            w = shells[e, k]
            if w == v:
                for s in (1, m - 1):
                    u = shells[e, (k + s) % m]
                    known = False
                    for j in range(n):
                        known = known or near[j] == u
                    if not known and n < MOST:
                        near[n] = u
                        n += 1
            else:
                ax, ay, az, corners = ax + points[w, 0], ay + points[w, 1], az + points[w, 2], corners + 1
    if n == 0:
        return 0
    tried[0] = 0.0
    for j in range(n):
        for c in range(3):
            tried[0, c] += points[near[j], c] / n
    tried[1, 0], tried[1, 1], tried[1, 2] = ax / corners, ay / corners, az / corners
    trials = 2
    for j in range(n):
        for k in range(j):
            together = False
            for i in range(start[v], start[v + 1]):
                has = 0
                for c in range(4):
                    w = shells[inc[i], c]
                    if w == near[j] or w == near[k]:
                        has += 1
                together = together or has == 2
            if not together and trials < len(tried):
                for c in range(3):
                    tried[trials, c] = 0.5 * (points[near[j], c] + points[near[k], c])
                trials += 1
    return trials
