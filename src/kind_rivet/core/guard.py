"""One call in a forked process with a time limit: a crash or a hang inside costs only that process."""

from __future__ import annotations

import ctypes
import multiprocessing
import signal
import time
from collections.abc import Callable
from multiprocessing.connection import Connection
from typing import Any

from kind_rivet.core.errors import Refused, Unreadable

PR_SET_PDEATHSIG = 1


class BrokeDown(Refused):
    """The process died or ran out of time; the reason says which."""


class OutOfTime(BrokeDown):
    """The process was stopped when its time was up; `partial` is the last it had handed over, None if nothing."""

    def __init__(self, reason: str, remedy: str, partial: Any = None) -> None:
        super().__init__(reason, remedy)
        self.partial = partial


def _serve(pipe: Connection, function: Callable[..., Any], arguments: tuple[Any, ...], hands_over: bool) -> None:
    ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)  # the child goes when its parent is stopped
    try:
        more = {"keep": lambda value: pipe.send((None, value))} if hands_over else {}
        pipe.send((True, function(*arguments, **more)))
    except Refused as refused:
        pipe.send((False, refused))
    except Exception as error:
        words = f"Something went wrong inside the program: {type(error).__name__}: {error}."
        pipe.send((False, BrokeDown(words, "Please keep the file and report it.")))


def apart(
    function: Callable[..., Any], arguments: tuple[Any, ...], limit: float, doing: str, remedy: str = "", hands_over: bool = False
) -> Any:
    """The function's result, worked out in a process of its own that may take `limit` seconds.

    `hands_over`: the function takes a `keep` by which it hands over what it has so far.
    Raises what the function refused, `OutOfTime` when the time is up (with what was handed over), or `BrokeDown` when the process died.
    """
    until = time.monotonic() + limit
    partial = None
    context = multiprocessing.get_context("fork")
    mine, theirs = context.Pipe(duplex=False)
    process = context.Process(target=_serve, args=(theirs, function, arguments, hands_over))
    process.start()
    theirs.close()
    try:
        good = None
        while good is None:
            if not mine.poll(max(until - time.monotonic(), 0.0)):
                raise OutOfTime(f"Stopped {doing}: it took longer than {limit:g} s.", remedy, partial)
            good, value = mine.recv()
            partial = value
    except (EOFError, OSError):
        raise BrokeDown(f"The process broke down while {doing}.", remedy) from None
    finally:
        process.kill()
        process.join()
        mine.close()
    if not good:
        raise value
    return value


def reading(function: Callable[..., Any], arguments: tuple[Any, ...], limit: float, name: str) -> Any:
    """`apart` for files: what breaks down is `Unreadable`."""
    try:
        return apart(function, arguments, limit, f"reading {name}")
    except BrokeDown as broken:
        raise Unreadable(broken.reason, "The file is damaged or too large; export it again.") from None
