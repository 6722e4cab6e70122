"""Nodes along a straight line between two places: sides grow from the lengths wanted at its ends up to the size."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kind_rivet.core.geometry.carriers import Floats


@dataclass(frozen=True)
class Row:
    """A line whose ends have sides h0 and h1; `growth` per length."""

    length: float
    h0: float
    h1: float
    size: float
    growth: float

    def _density(self, t: Floats) -> Floats:
        far = np.minimum(self.h0 + self.growth * t * self.length, self.h1 + self.growth * (1 - t) * self.length)
        return np.asarray(self.length / np.minimum(far, max(self.size, self.h0, self.h1)))

    @property
    def sides(self) -> float:
        """How many sides would fit exactly."""
        t = np.linspace(0.0, 1.0, 201)
        return float(np.trapezoid(self._density(t), t))

    @property
    def count(self) -> int:
        return max(1, round(self.sides))

    def shares(self, count: int) -> Floats:
        """Shares (count + 1,) of the length at which nodes lie."""
        t = np.linspace(0.0, 1.0, 201)
        each = self._density(t)
        total = np.concatenate(([0.0], np.cumsum((each[1:] + each[:-1]) / 2)))
        return np.asarray(np.interp(np.linspace(0.0, total[-1], count + 1), total, t))
