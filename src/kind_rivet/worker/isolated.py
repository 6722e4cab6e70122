"""One call in a forked process with a time limit: for the command line, where nothing else runs yet."""

from __future__ import annotations

import multiprocessing
from collections.abc import Callable
from multiprocessing.connection import Connection
from typing import Any

from kind_rivet.core.errors import Refused, Unreadable


def _serve(pipe: Connection, function: Callable[..., Any], arguments: tuple[Any, ...]) -> None:
    try:
        pipe.send((True, function(*arguments)))
    except Refused as refused:
        pipe.send((False, refused))
    except Exception as error:
        pipe.send(
            (
                False,
                Refused(
                    f"Something went wrong inside the program: {type(error).__name__}: {error}.", "Please keep the file and report it."
                ),
            )
        )


def call_isolated(function: Callable[..., Any], arguments: tuple[Any, ...], limit: float, doing: str) -> Any:
    """The function's result. Raises what it refused, or `Unreadable` when the process died or ran out of time."""
    context = multiprocessing.get_context("fork")
    mine, theirs = context.Pipe(duplex=False)
    process = context.Process(target=_serve, args=(theirs, function, arguments), daemon=True)
    process.start()
    theirs.close()
    try:
        if not mine.poll(limit):
            raise Unreadable(f"Stopped {doing}: it took longer than {limit:g} s.", "The file may be damaged; export it again.")
        good, value = mine.recv()
    except EOFError:
        raise Unreadable(f"The CAD kernel broke down while {doing}.", "The file is damaged; export it again.") from None
    finally:
        process.kill()
        process.join()
        mine.close()
    if not good:
        raise value
    return value
