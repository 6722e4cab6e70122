"""Kernels that are compiled when they are first called."""

import os
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from typing import cast

import numpy as np
import pytest

from kind_rivet.core.kernels import _Kernel, kernel, side_by_side


@kernel
def _twice(x: float) -> float:
    """Two times `x`."""
    return 2.0 * x


@kernel
def _sum_of_twice(values: np.ndarray) -> float:
    total = 0.0
    for v in values:
        total += _twice(v)
    return total


@kernel
def _half(x: float) -> float:
    return 0.5 * x


@kernel
def _quarter(x: float) -> float:
    return _half(_half(x))


@kernel
def _steps_down(n: int) -> int:
    return 0 if n <= 0 else 1 + _steps_down(n - 1)


def test_a_kernel_calls_another_that_nobody_called_before() -> None:
    assert _sum_of_twice(np.arange(5.0)) == 20.0
    assert _twice(4.0) == 8.0


def test_a_kernel_is_shown_to_other_threads_when_it_knows_its_kernels(monkeypatch: pytest.MonkeyPatch) -> None:
    """Another thread that called it before would compile it with what it does not know yet."""
    inner, outer = cast(_Kernel, _half), cast(_Kernel, _quarter)
    make, seen = inner.made, []
    monkeypatch.setattr(inner, "made", lambda: (seen.append(outer.dispatcher), make())[1])
    assert outer.made() is outer.dispatcher
    assert seen == [None]
    assert _half is inner.dispatcher
    assert _quarter(8.0) == 2.0


def test_a_kernel_may_call_itself() -> None:
    assert _steps_down(7) == 7


def test_a_kernel_keeps_its_name_and_its_words() -> None:
    assert _twice.__name__ == "_twice"
    assert _twice.__doc__ == "Two times `x`."


def test_a_kernel_called_first_by_many_threads_at_once_is_made_once() -> None:
    made = kernel(lambda x: x + 1.0)
    with ThreadPoolExecutor(8) as pool:
        assert list(pool.map(made, np.arange(64.0))) == list(np.arange(1.0, 65.0))


def test_work_side_by_side_keeps_its_order_and_its_errors() -> None:
    assert side_by_side(lambda x: x * x, range(9)) == [x * x for x in range(9)]
    assert side_by_side(abs, []) == []
    with pytest.raises(ZeroDivisionError):
        side_by_side(lambda x: 1 / x, [2, 1, 0])


@pytest.mark.parametrize("module", ["kind_rivet.app.window", "kind_rivet.core.operations.shells"])
def test_what_computes_is_not_loaded_before_something_is_computed(module: str) -> None:
    script = (
        f"import sys, {module}; print([m for m in ('numba', 'scipy.spatial', 'scipy.optimize', 'scipy.sparse.linalg') if m in sys.modules])"
    )
    out = subprocess.run(
        [sys.executable, "-c", script], capture_output=True, text=True, env={**os.environ, "QT_QPA_PLATFORM": "offscreen"}, check=True
    )
    assert out.stdout.strip() == "[]"
