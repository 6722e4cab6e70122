"""Sets as JSON: name, kind, colour, whether live, members by stable number."""

from __future__ import annotations

import json
from pathlib import Path

from kind_rivet.core.document.document import EntitySet
from kind_rivet.core.errors import Refused


def write_sets(sets: tuple[EntitySet, ...], path: Path) -> None:
    """Write `{"sets": [...]}`. Raises `Refused` when the place cannot be written."""
    rows = [
        {"name": s.name, "kind": s.kind, "colour": s.colour, "live": s.rule is not None, "count": len(s.ids), "ids": s.ids.tolist()}
        for s in sets
    ]
    write_text(path, json.dumps({"format": "kind-rivet sets 1", "sets": rows}, indent=1))


def write_text(path: Path, text: str) -> None:
    try:
        path.write_text(text, encoding="utf-8")
    except OSError as error:
        raise Refused(f"{path} cannot be written ({error.strerror}).", "Choose a folder you may write to.") from error
