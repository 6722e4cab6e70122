"""The quality index of elements and of the mesh, from a limit sheet.

Margin m = (limit − value) / (limit − comfort), clipped to [−1, 1]; an element's index is
its least margin: sound from 0.5, uneasy from 0, failing below. The mesh index is 100 × the
mean of the positive parts.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.kernels import kernel
from kind_rivet.core.mesh.mesh import Mesh
from kind_rivet.core.quality.limits import LimitSheet
from kind_rivet.core.quality.shell_metrics import METRICS, shell_metrics

SOUND, UNEASY, FAILING = 0, 1, 2
AT_LIMIT = 1e-6  # an element exactly at a limit does not fail by the last digits of its coordinates


@kernel
def least_margin(values, table):  # type: ignore[no-untyped-def]
    """Least unclipped margin of one element's metric values against table (10, 2, 2), and which metric gives it."""
    worst, which = np.inf, -1
    for m in range(len(values)):
        for line in range(2):
            comfort, limit = table[m, line, 0], table[m, line, 1]
            if np.isnan(comfort):
                continue
            margin = (limit - values[m]) / (limit - comfort)
            if margin < worst:
                worst, which = margin, m
    return worst, which


@kernel
def _margins(values, tria, table, scale, index, which):  # type: ignore[no-untyped-def]
    line = np.empty(values.shape[1])
    for e in range(len(values)):
        if np.isnan(values[e, 0]):
            index[e], which[e] = np.nan, -1
            continue
        line[:] = values[e]
        line[8] /= scale[e]
        line[9] /= scale[e]
        m, k = least_margin(line, table[0 if tria[e] else 1])
        index[e], which[e] = min(1.0, max(-1.0, m)), k


@dataclass(frozen=True)
class Quality:
    """values (m, 10); index (m,) NaN where not judged; worst_metric (m,) column in METRICS, −1 none."""

    values: Floats
    index: Floats
    worst_metric: NDArray[np.int8]

    @property
    def grade(self) -> NDArray[np.int8]:
        """SOUND, UNEASY, FAILING; −1 where not judged."""
        judged = ~np.isnan(self.index)
        grade = np.where(self.index >= 0.5, SOUND, np.where(self.index >= 0, UNEASY, FAILING))
        return np.where(judged, grade, -1).astype(np.int8)

    @property
    def failing(self) -> NDArray[np.int64]:
        """Failing elements, worst first."""
        bad = np.flatnonzero(self.index < 0)
        return bad[np.argsort(self.index[bad], kind="stable")]

    @property
    def mesh_index(self) -> float:
        judged = self.index[~np.isnan(self.index)]
        return float(100 * np.maximum(judged, 0).mean()) if len(judged) else 0.0

    @property
    def worst(self) -> float:
        judged = self.index[~np.isnan(self.index)]
        return float(judged.min()) if len(judged) else 1.0

    def worst_by_metric(self, mesh: Mesh) -> dict[str, float]:
        """The worst value of each metric over the elements judged."""
        out = {}
        for k, name in enumerate(METRICS):
            column = self.values[mesh.is_shell, k]
            if len(column):
                low = name in ("least_angle", "scaled_jacobian", "shortest")
                out[name] = float(column.min() if low else column.max())
        return out


def judge(mesh: Mesh, sheet: LimitSheet, size: float, wanted: Floats | None = None) -> Quality:
    """Metrics, index and grade of every shell; `size` is the wanted side length of the sheet's relative lines.

    `wanted` (m,): sizes of their own for elements in refined places.
    """
    return judge_shells(mesh.points, mesh.shells(), sheet, size, wanted)


def judge_shells(points: Floats, shells: NDArray[np.int32], sheet: LimitSheet, size: float, wanted: Floats | None = None) -> Quality:
    """As `judge`, for rows (m, 4) of nodes, trias with −1 last."""
    values = shell_metrics(points, shells)
    index, which = np.empty(len(values)), np.empty(len(values), np.int8)
    if len(values):
        _margins(values, shells[:, 3] < 0, sheet.table(size), side_scale(len(values), size, wanted), index, which)
    index[np.abs(index) < AT_LIMIT] = 0.0
    return Quality(values, index, which)


def side_scale(elements: int, size: float, wanted: Floats | None) -> Floats:
    """What to divide sides by before they are judged against the whole mesh's size (m,)."""
    return np.ones(elements) if wanted is None else np.asarray(wanted / size)
