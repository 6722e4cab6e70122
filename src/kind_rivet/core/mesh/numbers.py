"""Where nodes or elements of given numbers stand in a mesh."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Ints = NDArray[np.int32]


class Numbers:
    """Where numbers stand in an array of distinct numbers."""

    def __init__(self, numbers: Ints) -> None:
        self._order = np.argsort(numbers, kind="stable")
        self._sorted = numbers[self._order]

    def of(self, wanted: Ints) -> NDArray[np.int64]:
        """The row (n,) of each wanted number, −1 where there is none."""
        if not len(self._sorted):
            return np.full(len(wanted), -1)
        at = np.minimum(np.searchsorted(self._sorted, wanted), len(self._sorted) - 1)
        return np.where(self._sorted[at] == wanted, self._order[at], -1)
