"""Which of many things to take, at the least cost: programmes in zeros and ones whose relaxation is nearly whole.

Small ones are solved outright. In large ones branching over everything takes minutes and may end at its time limit with a poor choice, although the
relaxation leaves only a few variables between zero and one. There the whole ones are taken as they are, and only the others are solved for, together
with what shares a row with them.
"""

from __future__ import annotations

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats

LARGE = 100_000  # entries of the matrix from which on the relaxation is solved first
SECONDS = 20.0  # for one solution
WHOLE = 1e-6  # so near to zero or one counts as whole


def least_cost(cost: Floats, matrix: scipy.sparse.csr_matrix, whole: int, low: Floats, high: Floats) -> NDArray[np.bool_] | None:
    """The first `whole` variables, each zero or one, of x that minimises cost · x with matrix · x ≥ 0 and low ≤ x ≤ high; None where nothing is found."""
    if matrix.nnz < LARGE:
        return _taken(_solved(cost, matrix, whole, low, high), whole)
    relaxed = scipy.optimize.linprog(
        cost,
        A_ub=-matrix,
        b_ub=np.zeros(matrix.shape[0]),
        bounds=np.column_stack((low, high)),
        method="highs-ds",
        options={"time_limit": SECONDS},
    )
    if relaxed.status != 0:
        return _taken(_solved(cost, matrix, whole, low, high), whole)
    share = relaxed.x[:whole]
    open_ = (share > WHOLE) & (share < 1 - WHOLE)
    tries = [_solved(cost, matrix, whole, *_held(share, open_, low, high))]
    tries.append(_solved(cost, matrix, whole, *_held(share, _with_neighbours(open_, matrix), low, high)))
    found = [result for result in tries if result.x is not None]
    return _taken(min(found, key=lambda result: result.fun), whole) if found else None


def _with_neighbours(chosen: NDArray[np.bool_], matrix: scipy.sparse.csr_matrix) -> NDArray[np.bool_]:
    """Variables (n,) that are chosen or share a row with one that is."""
    among = abs(matrix[:, : len(chosen)])
    rows = (among @ chosen.astype(float)) > 0
    return np.asarray(chosen | ((among.T @ rows.astype(float)) > 0))


def _held(share: Floats, open_: NDArray[np.bool_], low: Floats, high: Floats) -> tuple[Floats, Floats]:
    """The bounds with all but the open ones held where they are."""
    low, high = low.copy(), high.copy()
    held = np.flatnonzero(~open_)
    low[held] = high[held] = np.round(share[held])
    return low, high


def _solved(cost: Floats, matrix: scipy.sparse.csr_matrix, whole: int, low: Floats, high: Floats) -> scipy.optimize.OptimizeResult:
    constraints = [scipy.optimize.LinearConstraint(matrix, lb=0.0)] if matrix.shape[0] else []
    integral = np.concatenate((np.ones(whole), np.zeros(len(cost) - whole)))
    return scipy.optimize.milp(
        cost,
        constraints=constraints,
        integrality=integral,
        bounds=scipy.optimize.Bounds(low, high),
        options={"time_limit": SECONDS, "mip_rel_gap": 0.0},
    )


def _taken(result: scipy.optimize.OptimizeResult, whole: int) -> NDArray[np.bool_] | None:
    return None if result.x is None else np.asarray(result.x[:whole] > 0.5)
