"""The one door to numba: compiled kernels, cached on disk, free of the interpreter lock."""

from __future__ import annotations

from collections.abc import Callable
from typing import ParamSpec, TypeVar, cast

import numba

P = ParamSpec("P")
R = TypeVar("R")


def kernel(function: Callable[P, R]) -> Callable[P, R]:
    """Compile `function` for flat arrays; the result is cached beside its source."""
    return cast(Callable[P, R], numba.njit(cache=True, nogil=True, error_model="numpy")(function))
