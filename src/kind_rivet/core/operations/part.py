"""Part: bring it in."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from pydantic import Field

from kind_rivet.core.document.document import TINTS, Body, Document
from kind_rivet.core.geometry.first_look import look, suggested_size
from kind_rivet.core.operations.registry import Parameters, Progress, operation


class OpenPart(Parameters):
    path: str = Field(title="File", description="A STEP file with one or more solids")


@operation("part.open", "Open a part", "part", OpenPart)
def open_part(document: Document, parameters: OpenPart, progress: Progress) -> Document:
    """Read the solids of a STEP file with names, colours and units, and take a first look at them."""
    from kind_rivet.core.geometry.cad import read_step

    path = Path(parameters.path)
    progress(0.05, f"reading {path.name}")
    result = read_step(path)
    bodies = list(document.bodies)
    first = max((b.key for b in bodies), default=0) + 1
    for k, read in enumerate(result.bodies):
        progress(0.6 + 0.4 * k / len(result.bodies), f"looking at {read.name}")
        seen = look(read.shape)
        colour = read.colour or TINTS[(first + k - 1) % len(TINTS)]
        bodies.append(Body(first + k, read.name, colour, read.shape, seen.walls, seen.thin_share, seen.holes, path.name))
    size = document.choices.size
    if not size:
        new = bodies[-len(result.bodies) :]
        largest = max(new, key=lambda b: b.shape.diagonal)
        size = suggested_size(largest.shape.diagonal, largest.walls, largest.holes)
    count = len(result.bodies)
    unit = "" if result.file_unit.startswith("milli") else f" (the file's {result.file_unit} became millimetres)"
    notes = (f"Opened {path.name}: {count} {'body' if count == 1 else 'bodies'}{unit}.", *result.warnings)
    name = path.stem if document.name == "Untitled" else document.name
    return replace(document, name=name, bodies=tuple(bodies), choices=replace(document.choices, size=size), notes=notes)
