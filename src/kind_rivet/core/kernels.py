"""The one door to numba: compiled kernels, cached on disk, free of the interpreter lock.

numba itself comes with the first call of a kernel, not with the modules that hold kernels:
a window that has computed nothing yet need not wait for it.
"""

from __future__ import annotations

import functools
import os
import threading
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Any, ParamSpec, TypeVar, cast

P = ParamSpec("P")
R = TypeVar("R")
T = TypeVar("T")

_MAKING = threading.RLock()


class _Kernel:
    """A function that becomes a numba dispatcher when it is called for the first time."""

    def __init__(self, function: Callable[..., Any]) -> None:
        functools.update_wrapper(self, function)
        self.function = function
        self.dispatcher: Callable[..., Any] | None = None

    def __call__(self, *arguments: Any) -> Any:
        return (self.dispatcher or self.made())(*arguments)

    def made(self) -> Callable[..., Any]:
        """The dispatcher; kernels that the function names are made too and stand in its module, as numba needs them."""
        with _MAKING:
            if self.dispatcher is None:
                import numba

                made = cast(Callable[..., Any], numba.njit(cache=True, nogil=True, error_model="numpy")(self.function))
                around = self.function.__globals__
                for name in self.function.__code__.co_names:
                    if isinstance(around.get(name), _Kernel):
                        around[name] = made if around[name] is self else around[name].made()
                self.dispatcher = made  # last: other threads must not call it before it knows its kernels
            return self.dispatcher


def kernel(function: Callable[P, R]) -> Callable[P, R]:
    """Compile `function` for flat arrays when it is first called; the result is cached beside its source."""
    return cast(Callable[P, R], _Kernel(function))


def side_by_side(work: Callable[[T], R], lots: Sequence[T]) -> list[R]:
    """Results of `work` on every lot, in order, on as many threads as there are cores; kernels let others run meanwhile.

    The threads end with the call: processes that fork later must not find any.
    """
    cores = min(os.cpu_count() or 1, len(lots))
    if cores < 2:
        return [work(lot) for lot in lots]
    with ThreadPoolExecutor(cores) as pool:
        return list(pool.map(work, lots))
