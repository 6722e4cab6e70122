"""Hand over: all files of a document into one folder."""

from __future__ import annotations

from pathlib import Path

from kind_rivet.core.document.document import Document
from kind_rivet.core.errors import Refused
from kind_rivet.core.files.exchange import Exchange
from kind_rivet.core.files.exodus import write_exodus
from kind_rivet.core.files.report import report_of, write_report
from kind_rivet.core.files.sets_json import write_sets
from kind_rivet.core.files.vtu import write_vtu


def make_folder(folder: Path) -> None:
    """Make the folder if needed. Raises `Refused` when it cannot be written to."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
        probe = folder / ".kind-rivet-probe"
        probe.write_text("")
        probe.unlink()
    except OSError as error:
        raise Refused(f"{folder} cannot be written to ({error.strerror}).", "Choose another folder.") from error


def deliver(document: Document, folder: Path, seconds: dict[str, float], warnings: list[str]) -> dict[str, object]:
    """Write mesh.vtu, mesh.exo, sets.json and report.json; returns the report."""
    make_folder(folder)
    exchange = Exchange.of(document)
    write_vtu(exchange, folder / "mesh.vtu")
    write_exodus(exchange, folder / "mesh.exo")
    write_sets(document.sets, folder / "sets.json")
    report = report_of(document, seconds, warnings)
    write_report(report, folder / "report.json")
    return report
