"""Workers for the window: operations in forkserver processes, with progress through a pipe and a stop that always works.

`start_server` must be called before Qt is imported; the first worker is then warm when
it is needed. The document travels by pickle; a crash or a stop costs only the worker.
"""

from __future__ import annotations

import atexit
import multiprocessing
import pickle
import traceback
import weakref
from dataclasses import dataclass
from multiprocessing.connection import Connection
from typing import Any

from kind_rivet.core.errors import Refused

PATIENCE = 0.5  # seconds without work after which a worker loads kernels ahead
PRELOAD = ["kind_rivet.worker.preload"]


@dataclass(frozen=True)
class ProgressNote:
    share: float
    what: str


@dataclass(frozen=True)
class Finished:
    """`document` is the new document, or None with `refused` (an expected reason) or `broken` (details)."""

    document: Any = None
    refused: Refused | None = None
    broken: str = ""


def start_server() -> None:
    """Prepare the forkserver with the heavy imports; returns at once, the server warms up by itself."""
    context = multiprocessing.get_context("forkserver")
    context.set_forkserver_preload(PRELOAD)
    from multiprocessing import forkserver

    forkserver.ensure_running()


def _work(pipe: Connection, ahead: bool) -> None:
    """Serve operations until the pipe closes."""
    from kind_rivet.core.operations import perform

    if ahead and not pipe.poll(PATIENCE):
        from kind_rivet.warm import load_kernels

        for _ in load_kernels():
            if pipe.poll():
                break  # something to do: what is missing comes as it is needed

    while True:
        try:
            payload = pipe.recv_bytes()
        except (EOFError, OSError):
            return
        document, name, parameters = pickle.loads(payload)

        def progress(share: float, what: str) -> None:
            pipe.send(ProgressNote(share, what))

        try:
            result = Finished(perform(document, name, parameters, progress))
        except Refused as refused:
            result = Finished(refused=refused)
        except (BrokenPipeError, ConnectionResetError):
            return  # nobody waits any more
        except Exception:
            result = Finished(broken=traceback.format_exc())
        try:
            pipe.send(result)
        except (BrokenPipeError, ConnectionResetError):
            return


_ALIVE: weakref.WeakSet[Worker] = weakref.WeakSet()


@atexit.register
def _stop_all() -> None:
    """No worker outlives the program (they are no daemons, so Python would wait for them)."""
    for worker in list(_ALIVE):
        worker.stop()


class Worker:
    """One process with a pipe; `job` sends work, messages are read from `pipe`.

    With `ahead` it loads kernels while it has nothing to do: they take as long as a small change of a mesh.
    """

    def __init__(self, ahead: bool = False) -> None:
        context = multiprocessing.get_context("forkserver")
        self.pipe, theirs = context.Pipe()
        self.process = context.Process(
            target=_work, args=(theirs, ahead)
        )  # no daemon: it may fork for kernel calls; it ends when the pipe does
        self.process.start()
        _ALIVE.add(self)
        theirs.close()

    def job(self, document: Any, name: str, parameters: dict[str, Any]) -> None:
        self.pipe.send_bytes(pickle.dumps((document, name, parameters), protocol=5))

    def stop(self) -> None:
        """Kill the process, whatever it is doing."""
        self.process.kill()
        self.process.join()
        self.pipe.close()
