"""The one door to numba: compiled kernels, cached on disk, free of the interpreter lock."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import ParamSpec, TypeVar, cast

import numba

P = ParamSpec("P")
R = TypeVar("R")
T = TypeVar("T")


def kernel(function: Callable[P, R]) -> Callable[P, R]:
    """Compile `function` for flat arrays; the result is cached beside its source."""
    return cast(Callable[P, R], numba.njit(cache=True, nogil=True, error_model="numpy")(function))


def side_by_side(work: Callable[[T], R], lots: Sequence[T]) -> list[R]:
    """Results of `work` on every lot, in order, on as many threads as there are cores; kernels let others run meanwhile.

    The threads end with the call: processes that fork later must not find any.
    """
    cores = min(os.cpu_count() or 1, len(lots))
    if cores < 2:
        return [work(lot) for lot in lots]
    with ThreadPoolExecutor(cores) as pool:
        return list(pool.map(work, lots))
