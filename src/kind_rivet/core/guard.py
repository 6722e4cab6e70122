"""One call in a forked process with a time limit: a crash or a hang inside costs only that process."""

from __future__ import annotations

import ctypes
import multiprocessing
import signal
from collections.abc import Callable
from multiprocessing.connection import Connection
from typing import Any

from kind_rivet.core.errors import Refused, Unreadable

PR_SET_PDEATHSIG = 1


class BrokeDown(Refused):
    """The process died or ran out of time; the reason says which."""


def _serve(pipe: Connection, function: Callable[..., Any], arguments: tuple[Any, ...]) -> None:
    ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)  # the child goes when its parent is stopped
    try:
        pipe.send((True, function(*arguments)))
    except Refused as refused:
        pipe.send((False, refused))
    except Exception as error:
        words = f"Something went wrong inside the program: {type(error).__name__}: {error}."
        pipe.send((False, BrokeDown(words, "Please keep the file and report it.")))


def apart(function: Callable[..., Any], arguments: tuple[Any, ...], limit: float, doing: str, remedy: str = "") -> Any:
    """The function's result, worked out in a process of its own that may take `limit` seconds.

    Raises what the function refused, or `BrokeDown` when the process died or ran out of time.
    """
    context = multiprocessing.get_context("fork")
    mine, theirs = context.Pipe(duplex=False)
    process = context.Process(target=_serve, args=(theirs, function, arguments))
    process.start()
    theirs.close()
    try:
        if not mine.poll(limit):
            raise BrokeDown(f"Stopped {doing}: it took longer than {limit:g} s.", remedy)
        good, value = mine.recv()
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
