"""Laying curved facets flat: least-squares conformal maps, then as-rigid-as-possible rounds.

Lévy et al., "Least squares conformal maps" (2002); Liu et al., "A local/global approach
to mesh parameterization" (2008).
"""

from __future__ import annotations

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Floats, frame, unit

STRETCH = (0.75, 1.35)  # factors by which sides of facets may change their length
TOWARDS = (1.0, 0.75, 0.5, 0.25, 0.0)  # how far from the conformal map to the rigid one: as far as nothing folds
FAR = 1e3  # extents from the origin within which a map must stay
NEEDLES = 1e-4  # share of a map between the two that may be folded: a few needles of facets
SLIVERS = 5e-3  # share of a map that may be folded where slivers of facets lie askew


def flatten_facets(space: Floats, facets: NDArray[np.int64], rounds: int = 12) -> Floats:
    """Places (k, 2) in the plane for vertices (k, 3), with lengths kept as well as possible.

    Raises `Refused` when facets fold over (the patch is too strongly curved to lie flat).
    """
    local, area = _local_frames(space, facets)
    good = area > 1e-14 * area.max()
    facets, local, area = facets[good], local[good], area[good]
    problem = Refused("A face is too strongly curved to be laid flat in one piece.", "Split it and mesh again.")
    tries: list[tuple[float, Floats]] = []  # share that is folded, places
    try:
        soft = _conformal(space, facets, local, area)
        stiff = _rigid(soft, facets, local, rounds)
        largest = FAR * float(np.ptp(space, axis=0).max())
        for share in TOWARDS:
            uv = _turned_up(soft + share * (stiff - soft), facets)
            if not np.abs(uv).max() < largest:  # parts that all but hang together by a point
                continue
            if (folded := _folded(uv, facets)) <= 0:
                return uv
            if folded <= NEEDLES:
                tries.append((folded, uv))
    except Refused as singular:
        problem = singular
    uv = _turned_up(_seen_from_above(space, facets, area), facets)
    folded, uv = min([(_folded(uv, facets), uv), *tries], key=lambda one: one[0])
    if folded <= SLIVERS:
        return uv
    raise problem


def distorted(space: Floats, flat: Floats, facets: NDArray[np.integer]) -> bool:
    """Do sides of facets change their length much between two maps of the same points, as those of a tube laid flat as a ring do?"""
    was, now = (np.linalg.norm(p[facets] - np.roll(p[facets], 1, axis=1), axis=2).ravel() for p in (space, flat))
    low, high = np.percentile(now / np.maximum(was, 1e-300), [3, 97])
    return bool(low < STRETCH[0] or high > STRETCH[1])


def _seen_from_above(space: Floats, facets: NDArray[np.int64], area: Floats) -> Floats:
    """Places in the plane square to the mean normal: never folds on patches that bend less than 90° from it."""
    a, b, c = (space[facets[:, k]] for k in range(3))
    normal = np.cross(b - a, c - a).sum(axis=0)
    u, v = frame(unit(normal))
    stretch = np.sqrt(2 * area.sum() / max(float(np.linalg.norm(normal)), 1e-300))
    return np.column_stack((space @ u, space @ v)) * stretch


def _turned_up(uv: Floats, facets: NDArray[np.int64]) -> Floats:
    """The map, mirrored if most of it lies face down."""
    if _signed(uv, facets).sum() < 0:
        uv = uv * np.array([-1.0, 1.0])
    return uv


def _signed(uv: Floats, facets: NDArray[np.int64]) -> Floats:
    a, b, c = uv[facets[:, 0]], uv[facets[:, 1]], uv[facets[:, 2]]
    return np.asarray((b - a)[:, 0] * (c - a)[:, 1] - (b - a)[:, 1] * (c - a)[:, 0])


def _folded(uv: Floats, facets: NDArray[np.int64]) -> float:
    """Share of the map that is folded over; a hair more than 0 if facets only collapse."""
    signed = _signed(uv, facets)
    down = signed <= 0
    whole = float(signed.sum())
    return (-float(signed[down].sum()) / whole + 1e-12 if whole > 0 else float("inf")) if down.any() else 0.0


def _local_frames(space: Floats, facets: NDArray[np.int64]) -> tuple[Floats, Floats]:
    """Each facet in its own plane: corners (m, 3, 2) and areas (m,)."""
    a, b, c = space[facets[:, 0]], space[facets[:, 1]], space[facets[:, 2]]
    x = b - a
    length = np.linalg.norm(x, axis=1)
    x = x / np.maximum(length, 1e-300)[:, None]
    normal = np.cross(x, c - a)
    height = np.linalg.norm(normal, axis=1)
    local = np.zeros((len(facets), 3, 2))
    local[:, 1, 0] = length
    local[:, 2, 0] = np.einsum("ij,ij->i", c - a, x)
    local[:, 2, 1] = height
    return local, length * height / 2


def _conformal(space: Floats, facets: NDArray[np.int64], local: Floats, area: Floats) -> Floats:
    """Least-squares conformal map with the two vertices farthest apart pinned at their distance."""

    n, m = len(space), len(facets)
    used = np.unique(facets)
    first = used[int(np.argmax(np.linalg.norm(space[used] - space[used].mean(axis=0), axis=1)))]
    second = used[int(np.argmax(np.linalg.norm(space[used] - space[first], axis=1)))]
    edge = local[:, [2, 0, 1]] - local[:, [1, 2, 0]]
    scale = 1 / np.sqrt(2 * np.maximum(area, 1e-300))
    wr, wi = edge[:, :, 0] * scale[:, None], edge[:, :, 1] * scale[:, None]
    row = np.repeat(np.arange(m), 3)
    col = facets.ravel()
    real = scipy.sparse.coo_matrix((wr.ravel(), (row, col)), shape=(m, n)).tocsc()
    imag = scipy.sparse.coo_matrix((wi.ravel(), (row, col)), shape=(m, n)).tocsc()

    system = scipy.sparse.bmat([[real, -imag], [imag, real]]).tocsc()
    pinned = np.array([first, second, n + first, n + second])
    values = np.array([0.0, float(np.linalg.norm(space[second] - space[first])), 0.0, 0.0])
    known = np.zeros(2 * n, bool)
    known[pinned] = True
    unused = np.ones(2 * n, bool)
    unused[used] = False
    unused[n + used] = False
    free = ~known & ~unused
    right = -(system[:, pinned] @ values)
    a = system[:, free]
    solution = np.zeros(2 * n)
    solution[pinned] = values
    try:
        solution[free] = scipy.sparse.linalg.splu((a.T @ a).tocsc()).solve(a.T @ right)
    except RuntimeError as problem:
        raise Refused(
            "A face falls into parts that touch only at points, so it cannot be laid flat.", "Split it and mesh again."
        ) from problem
    return np.column_stack((solution[:n], solution[n:]))


def _rigid(uv: Floats, facets: NDArray[np.int64], local: Floats, rounds: int) -> Floats:
    """As-rigid-as-possible rounds: best rotation per facet, then one sparse solve (factorised once)."""

    n = len(uv)
    cot = np.empty((len(facets), 3))
    for k in range(3):
        p, q, r = local[:, k], local[:, (k + 1) % 3], local[:, (k + 2) % 3]
        u, v = q - p, r - p
        cross = np.abs(u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0])
        cot[:, k] = np.einsum("ij,ij->i", u, v) / np.maximum(cross, 1e-300)
    cot = np.clip(cot, 1e-3, 1e3)  # positive weights keep the solve stable on thin facets
    i, j = facets[:, [1, 2, 0]].ravel(), facets[:, [2, 0, 1]].ravel()
    w = cot.ravel()
    used = np.unique(facets)
    number = np.full(n, -1)
    number[used] = np.arange(len(used))
    i, j = number[i], number[j]
    k = len(used)
    lap = scipy.sparse.coo_matrix(
        (np.concatenate((w, w, -w, -w)), (np.concatenate((i, j, i, j)), np.concatenate((i, j, j, i)))), shape=(k, k)
    ).tocsc()
    lap[0, 0] += 1.0
    try:
        solve = scipy.sparse.linalg.splu(lap).solve
    except RuntimeError as problem:  # singular: it hangs together only by points
        raise Refused(
            "A face falls into parts that touch only at points, so it cannot be laid flat.", "Split it and mesh again."
        ) from problem
    rest = (local[:, [2, 0, 1]] - local[:, [1, 2, 0]]).reshape(-1, 2)  # from corner k+1 to corner k+2
    own = number[facets]
    flat = uv[used]
    anchor = flat[0].copy()
    for _ in range(rounds):
        now = (flat[own[:, [2, 0, 1]]] - flat[own[:, [1, 2, 0]]]).reshape(-1, 2)
        s = np.einsum("e,ea,eb->eab", w, now, rest).reshape(-1, 3, 2, 2).sum(axis=1)
        angle = np.arctan2(s[:, 1, 0] - s[:, 0, 1], s[:, 0, 0] + s[:, 1, 1])
        c, sn = np.repeat(np.cos(angle), 3), np.repeat(np.sin(angle), 3)
        turned = np.column_stack((c * rest[:, 0] - sn * rest[:, 1], sn * rest[:, 0] + c * rest[:, 1])) * w[:, None]
        right = np.zeros((k, 2))
        np.add.at(right, j, turned)
        np.add.at(right, i, -turned)
        right[0] += anchor
        flat = solve(right)
    out = uv.copy()
    out[used] = flat
    return out
