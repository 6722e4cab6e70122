"""Operations: name, parameters, the function, and how to carry one out on a document."""

from __future__ import annotations

import importlib
import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

from pydantic import BaseModel, ConfigDict, ValidationError

from kind_rivet.core.document.document import Document, TrailEntry
from kind_rivet.core.errors import Refused

Progress = Callable[[float, str], None]  # share done 0 … 1, what is being done


def quiet(share: float, what: str) -> None:
    """Progress that nobody watches."""


class Parameters(BaseModel):
    """Base of all parameter sets: frozen, no unknown names."""

    model_config = ConfigDict(frozen=True, extra="forbid")


@dataclass(frozen=True)
class Operation:
    """`apply(document, parameters, progress)` returns a new document; `stop` is the Route stop it belongs to."""

    name: str
    title: str
    help: str
    stop: str
    parameters: type[Parameters]
    apply: Callable[[Document, Any, Progress], Document]


_REGISTRY: dict[str, Operation] = {}
_MODULES = (
    "part",
    "build",
    "holes",
    "regions",
    "bodies",
    "revision",
    "midsurface",
    "mesh_faces",
    "walls",
    "gauge",
    "shells",
    "shell_choices",
    "shell_edits",
    "mixed",
    "quality",
    "repair",
    "sets",
)


def operation(
    name: str, title: str, stop: str, parameters: type[Parameters]
) -> Callable[[Callable[[Document, Any, Progress], Document]], Callable[[Document, Any, Progress], Document]]:
    """Register a function as an operation; its docstring is the help text."""

    def register(function: Callable[[Document, Any, Progress], Document]) -> Callable[[Document, Any, Progress], Document]:
        _REGISTRY[name] = Operation(name, title, " ".join((function.__doc__ or "").split()), stop, parameters, function)
        return function

    return register


def all_operations() -> dict[str, Operation]:
    """Every operation by name."""
    for module in _MODULES:
        importlib.import_module(f"kind_rivet.core.operations.{module}")
    return dict(_REGISTRY)


def perform(document: Document, name: str, parameters: dict[str, Any], progress: Progress = quiet) -> Document:
    """Carry out an operation and record it in the Trail.

    Raises `Refused` for unknown names, parameters that make no sense and whatever the
    operation refuses; the given document is never changed.
    """
    found = all_operations().get(name)
    if found is None:
        raise Refused(f"There is no operation called {name}.", "See `kind-rivet run --help` and the docs for the names.")
    try:
        values = found.parameters(**parameters)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(p) for p in first["loc"]) or "parameters"
        raise Refused(f"{found.title}: {where.replace('_', ' ')} — {first['msg'].lower()}.", "Correct the value and try again.") from None
    started = time.perf_counter()
    result = found.apply(replace(document, notes=()), values, progress)
    sentence = result.notes[0] if result.notes else found.title
    entry = TrailEntry(name, values.model_dump(mode="json"), sentence, time.perf_counter() - started)
    return replace(result, trail=(*document.trail, entry))
