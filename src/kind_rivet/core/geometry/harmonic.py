"""Values on the points of facets: harmonic ones, as even as can be between what is held, and such as are added up from side to side."""

from __future__ import annotations

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats

MOST = 1e6  # weight of a facet's side: needles have no more

Ints = NDArray[np.int64]


def side_weights(space: Floats, facets: Ints) -> tuple[Ints, Floats]:
    """Sides (3 m, 2) of facets (m, 3), each once per facet, and half the cotangents (3 m,) of the angles across from them.

    Cotangent weights: Pinkall and Polthier, "Computing discrete minimal surfaces" (1993).
    """
    p = space[facets]
    sides, weights = [], []
    for k in range(3):
        a, b = p[:, (k + 1) % 3] - p[:, k], p[:, (k + 2) % 3] - p[:, k]
        cot = np.einsum("ij,ij->i", a, b) / np.maximum(np.linalg.norm(np.cross(a, b), axis=1), 1e-300)
        sides.append(np.column_stack((facets[:, (k + 1) % 3], facets[:, (k + 2) % 3])))
        weights.append(np.clip(cot / 2, -MOST, MOST))
    return np.concatenate(sides), np.concatenate(weights)


def laplacian(count: int, sides: Ints, weights: Floats) -> scipy.sparse.csr_matrix:
    """The table (count, count) of a graph's weighted Laplacian."""
    i, j = sides.T
    table = scipy.sparse.coo_matrix((np.concatenate((weights, weights)), (np.concatenate((i, j)), np.concatenate((j, i)))), (count, count))
    return (scipy.sparse.diags(np.asarray(table.sum(axis=1)).ravel()) - table).tocsr()


def solved(laplace: scipy.sparse.csr_matrix, held: Ints, values: Floats, right: Floats | None = None) -> Floats:
    """Values (k,) with those `held` given, for which the Laplacian yields `right` elsewhere (nothing, unless given); nan where nothing tells them."""
    count = laplace.shape[0]
    out = np.full(count, np.nan)
    out[held] = values
    fixed = ~np.isnan(out)
    asked = ~fixed & (laplace.diagonal() > 0)
    if asked.any():
        wanted = -laplace[asked][:, fixed] @ out[fixed] + (0.0 if right is None else right[asked])
        out[asked] = scipy.sparse.linalg.spsolve(laplace[asked][:, asked].tocsc(), wanted)
    return out


def added_up(count: int, sides: Ints, gain: Floats) -> Floats:
    """Values (count,) from gains (n,) along sides (n, 2), the lower number first, each once: from the first side's first point on, 0 there; nan where no side leads."""
    i, j = sides.T
    graph = scipy.sparse.coo_matrix((np.ones(len(i)), (i, j)), (count, count)).tocsr()
    order, before = scipy.sparse.csgraph.breadth_first_order(graph, int(i[0]), directed=False)
    known = {(int(a), int(b)): float(x) for a, b, x in zip(i, j, gain, strict=True)}
    out = np.full(count, np.nan)
    out[order[0]] = 0.0
    for k in order[1:].tolist():
        b = int(before[k])
        out[k] = out[b] + (known[b, k] if b < k else -known[k, b])
    return out
