"""Programmes in zeros and ones: large ones give what small ones give, or nearly."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.sparse import coo_matrix, csr_matrix

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.midsurface import binary_programme
from kind_rivet.core.midsurface.binary_programme import least_cost


def programme(seed: int, n: int = 60, sides: int = 150) -> tuple[Floats, csr_matrix, int]:
    """Things with gains, of which lots of two or three are to be taken together: what is taken alone costs."""
    rng = np.random.default_rng(seed)
    cost = [*(-rng.normal(0.3, 1.0, n))]
    rows, cols, values = [], [], []
    row = 0
    for _ in range(sides):
        lot = rng.choice(n, int(rng.integers(2, 4)), replace=False)
        for c in lot:
            rows += [row] * (len(lot) + 1)
            cols += [len(cost), *lot]
            values += [1.0, *(-1.0 if k == c else 1.0 for k in lot)]
            cost.append(float(rng.uniform(0.2, 1.0)))
            row += 1
    return np.array(cost), coo_matrix((values, (rows, cols)), shape=(row, len(cost))).tocsr(), n


def total(cost: Floats, matrix: csr_matrix, taken: np.ndarray) -> float:
    n = len(taken)
    short = np.maximum(-(matrix[:, :n] @ taken.astype(float)), 0.0)  # each row has a price of its own
    return float(cost[:n] @ taken + cost[n:] @ short)


@pytest.mark.parametrize("seed", range(12))
def test_large_programmes_are_solved_about_as_well_as_small_ones(seed: int, monkeypatch: pytest.MonkeyPatch) -> None:
    cost, matrix, n = programme(seed)
    low, high = np.zeros(len(cost)), np.ones(len(cost))
    low[5] = 1.0  # one must be taken, one must not
    high[4] = 0.0
    exact = least_cost(cost, matrix, n, low, high)
    monkeypatch.setattr(binary_programme, "LARGE", 0)
    quick = least_cost(cost, matrix, n, low, high)
    assert exact is not None and quick is not None
    assert quick[5] and not quick[4]
    best = total(cost, matrix, exact)
    assert best - 1e-9 <= total(cost, matrix, quick) <= best + 0.02 * abs(best)


def test_what_cannot_be_is_not_found() -> None:
    matrix = coo_matrix(([-1.0], ([0], [0])), shape=(1, 1)).tocsr()
    assert least_cost(np.array([1.0]), matrix, 1, np.ones(1), np.ones(1)) is None
