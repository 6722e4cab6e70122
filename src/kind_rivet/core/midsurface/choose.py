"""Which cells make the sheet: those that are wall, and those that close gaps between them.

Every cell is kept or dropped so that the sum is best of: core area gained, area beside
the wall paid for, and length of free edges inside the solid paid for dearly. Solved as a
mixed integer linear programme, exactly and always alike.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.midsurface.cells import CutMiddle
from kind_rivet.core.midsurface.middles import Middle
from kind_rivet.core.midsurface.network import Cell, Network
from kind_rivet.core.midsurface.traces import Line

BESIDE = 0.25  # price of area beside the wall, against core area
FREE = 1.5  # price of a free edge inside the solid, per length and wall
SECONDS = 20.0


def choose(middles: list[Middle], cuts: list[CutMiddle | None], network: Network, lines: list[Line]) -> set[Cell]:
    """The cells to keep."""
    names: list[Cell] = [(m, c) for m, cut in enumerate(cuts) if cut is not None for c in range(len(cut.cells))]
    number = {name: k for k, name in enumerate(names)}
    if not names:
        return set()
    gain = np.zeros(len(names))
    for k, (m, c) in enumerate(names):
        cell = cuts[m].cells[c]  # type: ignore[union-attr]
        gain[k] = cell.core - BESIDE * (cell.area - cell.core)
    lengths: dict[tuple[int, ...], float] = {}
    for side in network.sides:
        lot = tuple(sorted(number[c] for c in side.cells))
        if not lot or _on_border(side.line, lines, len(lot)):
            continue
        a, b = network.points[list(side.nodes)]
        wall = max(middles[m].around for m, _, _, _ in side.at)  # a thin wall must reach through a thick one
        lengths[lot] = lengths.get(lot, 0.0) + float(np.linalg.norm(b - a)) * wall
    kept = _solve(gain, lengths)
    return {names[k] for k in np.flatnonzero(kept)}


def _on_border(line: int, lines: list[Line], cells: int) -> bool:
    """Is a side with so few cells beside it a border of the solid, where edges may be free?"""
    if cells > 1:
        return False
    return line >= 0 and lines[line].kind in ("outline", "step")


def _solve(gain: NDArray[np.float64], lengths: dict[tuple[int, ...], float]) -> NDArray[np.bool_]:
    from scipy.optimize import Bounds, LinearConstraint, milp
    from scipy.sparse import coo_matrix

    n = len(gain)
    gain = gain.copy()
    rows, cols, values = [], [], []
    price: list[float] = []
    row = 0
    for lot, length in lengths.items():
        if len(lot) == 1:
            gain[lot[0]] -= FREE * length
            continue
        beside = set(lot)
        for c in beside:  # y ≥ x_c − Σ others; a cell that runs on across the line is not free there
            if lot.count(c) > 1:
                continue
            y = n + len(price)
            price.append(FREE * length)
            rows += [row] * (len(beside) + 1)
            cols += [y, *beside]
            values += [1.0, *(-1.0 if k == c else 1.0 for k in beside)]
            row += 1
    cost = np.concatenate((-gain, price))
    whole = np.concatenate((np.ones(n), np.zeros(len(price))))
    constraints = []
    if row:
        matrix = coo_matrix((values, (rows, cols)), shape=(row, len(cost))).tocsr()
        constraints.append(LinearConstraint(matrix, lb=0.0))
    result = milp(cost, constraints=constraints, integrality=whole, bounds=Bounds(0, 1), options={"time_limit": SECONDS, "mip_rel_gap": 0.0})
    if result.x is None:
        return np.asarray(gain > 0)
    return np.asarray(result.x[:n] > 0.5)
