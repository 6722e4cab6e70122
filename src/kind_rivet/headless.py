"""The usual job without a window, and looking into files."""

from __future__ import annotations

import sys
import time
import tomllib
from dataclasses import replace
from pathlib import Path
from typing import Any

from kind_rivet.core.checks.gate import blocking, check
from kind_rivet.core.document.document import Document
from kind_rivet.core.errors import Refused, Unreadable
from kind_rivet.core.files.deliver import deliver, make_folder
from kind_rivet.core.files.exchange import Exchange
from kind_rivet.core.files.exodus import read_exodus, write_exodus
from kind_rivet.core.files.vtu import read_vtu, write_vtu
from kind_rivet.core.geometry.first_look import suggested_size, suits
from kind_rivet.core.mesh.quadratic import linear
from kind_rivet.core.operations import perform

OF_A_MESH: list[tuple[str, dict[str, Any]]] = [("part.faces_from_mesh", {}), ("quality.repair", {}), ("sets.usual", {})]  # the usual job


def open_part(path: Path) -> Document:
    """A new document with what a file holds. Raises `Unreadable` with the reason, also when the kernel dies or takes too long."""
    return perform(Document(), "part.open", {"path": str(path)})


def run_job(part: Path, size: float, out: Path, sheet: Path | None = None) -> int:
    """Carry out the usual job (or a job sheet) and write the files; returns the exit code of the contract.

    Raises `Refused` or `Unreadable` when nothing can be made.
    """
    seconds: dict[str, float] = {}
    warnings: list[str] = []
    if not size > 0:
        raise Refused(f"The element size must be a positive length, not {size:g}.", "Give --size in millimetres.")
    given = _job_steps(sheet, size) if sheet is not None else None
    make_folder(out)
    document = _timed(seconds, "open", lambda: open_part(part))
    a_mesh = given is None and bool(document.mesh.elements)
    if a_mesh:  # looked over against the size, repaired and handed on
        document = replace(document, choices=replace(document.choices, size=size))
    usual = [("midsurface.extract", {}), ("mesh.shells", {"size": size}), ("quality.repair", {"ease": "failing"}), ("sets.usual", {})]
    steps = OF_A_MESH if a_mesh else given or usual
    warnings += document.notes[1:]
    for name, parameters in steps:
        try:
            document = _timed(seconds, name, lambda d=document, n=name, p=parameters: perform(d, n, p))
        except Refused as refused:
            if name in ("sets.usual", "quality.optimise", "quality.repair") or a_mesh:
                continue  # no round hole, nothing left to improve, or solids only: the job goes on
            if name == "midsurface.extract":
                raise Unreadable(refused.reason, refused.remedy) from None
            raise
        print(f"{document.notes[0] if document.notes else name}", file=sys.stderr)
        warnings += document.notes[1:]
        for note in document.notes[1:]:
            print(f"  {note}", file=sys.stderr)
    report = _timed(seconds, "deliver", lambda: deliver(document, out, seconds, warnings))
    del report
    stops = blocking(check(document))
    for finding in stops:
        print(f"kind-rivet: {finding.text}", file=sys.stderr)
    return 4 if stops else 0


def _job_steps(sheet: Path, size: float) -> list[tuple[str, dict[str, Any]]]:
    try:
        table = tomllib.loads(sheet.read_text(encoding="utf-8"))
    except (OSError, tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise Unreadable(f"The job sheet {sheet.name} cannot be read: {error}.", "Correct it and try again.") from None
    steps = []
    for row in table.get("step", []):
        values = dict(row)
        name = values.pop("do", None)
        if name is None:
            raise Unreadable("A step of the job sheet does not say what to do.", 'Give each [[step]] a line do = "operation".')
        if name == "mesh.shells":
            values.setdefault("size", size)
        steps.append((name, values))
    if not steps:
        raise Unreadable(f"The job sheet {sheet.name} has no steps.", "Add [[step]] tables.")
    return steps


def _timed(seconds: dict[str, float], name: str, work: Any) -> Any:
    started = time.perf_counter()
    result = work()
    seconds[name] = seconds.get(name, 0.0) + time.perf_counter() - started
    return result


def inspect_file(path: Path) -> dict[str, Any]:
    """What is in a STEP, VTU, Exodus II or .rivet file, as plain data. Raises `Unreadable`."""
    suffix = path.suffix.lower()
    if suffix in (".vtu", ".exo", ".e", ".ex2"):
        return {"file": path.name, **_mesh_facts(read_mesh(path))}
    if suffix == ".rivet":
        from kind_rivet.core.document.store import load

        document = load(path)
        return {"file": path.name, "bodies": _body_facts(document), **_mesh_facts(Exchange.of(document))}
    document = open_part(path)
    return {"file": path.name, "units": document.units, "bodies": _body_facts(document), "warnings": list(document.notes[1:])}


def _body_facts(document: Document) -> list[dict[str, Any]]:
    out = []
    for body in document.bodies:
        kind, reason = suits(body.shape, body.walls, body.thin_share, body.form)
        table: dict[tuple[str, float, float], int] = {}
        for h in body.holes:
            key = (h.kind, round(h.diameter, 4), round(h.length, 4))
            table[key] = table.get(key, 0) + 1
        out.append({
            "name": body.name, "faces": len(body.shape.faces), "edges": len(body.shape.edges), "size": (body.shape.box[1] - body.shape.box[0]).tolist(), "volume": body.shape.volume,
            "walls": [{"thickness": t, "share": s} for t, s in body.walls], "holes": [{"kind": k, "diameter": d, "length": w, "count": n} for (k, d, w), n in sorted(table.items())],
            "suits": kind, "reason": reason, "suggested_size": suggested_size(body.shape, body.walls, body.holes),
        })  # fmt: skip
    return out


def _mesh_facts(exchange: Exchange) -> dict[str, Any]:
    import numpy as np

    document = replace(Document(), mesh=linear(exchange.mesh), parts=exchange.parts, sets=exchange.sets)
    quality = document.quality
    return {
        "nodes": exchange.mesh.nodes, "elements": exchange.mesh.counts(), "parts": [p.name for p in exchange.parts],
        "thicknesses": sorted({float(f"{t:.4g}") for t in np.unique(document.mesh.thickness[document.mesh.is_shell])})[:20],
        "worst": quality.worst_by_metric(document.mesh), "spiders": len(exchange.spiders), "masses": len(exchange.masses),
        "sets": [{"name": s.name, "kind": s.kind, "count": len(s.ids)} for s in exchange.sets],
    }  # fmt: skip


def plain_words(facts: dict[str, Any]) -> str:
    """The facts of `inspect_file` for a person."""
    lines = [str(facts["file"])]
    for body in facts.get("bodies", []):
        x, y, z = body["size"]
        lines.append(f"  {body['name']}: {x:.4g} × {y:.4g} × {z:.4g} mm, {body['faces']} faces; {body['suits']} suit it: {body['reason']}.")
        lines.append("    walls: " + ", ".join(f"{w['thickness']:g} mm ({100 * w['share']:.0f} %)" for w in body["walls"][:5]))
        if body["holes"]:
            lines.append(
                "    holes: "
                + ", ".join(
                    f"{h['count']} × {'Ø' if h['kind'] == 'round' else 'cut-out '}{(h['diameter'] or h['length']):g}" for h in body["holes"]
                )
            )
        lines.append(f"    suggested size: {body['suggested_size']:g} mm")
    if "elements" in facts:
        lines.append(f"  {facts['nodes']} nodes; " + ", ".join(f"{n} {kind}" for kind, n in facts["elements"].items()))
        lines += [f"  set {s['name']}: {s['count']} {s['kind']}s" for s in facts["sets"]]
    return "\n".join(lines)


def read_mesh(path: Path) -> Exchange:
    """A mesh file by its ending. Raises `Unreadable`."""
    if not path.exists():
        raise Unreadable(f"There is no file {path}.", "Check the name and the folder.")
    if path.suffix.lower() == ".vtu":
        return read_vtu(path)
    if path.suffix.lower() in (".exo", ".e", ".ex2"):
        return read_exodus(path)
    raise Unreadable(f"{path.name} is no mesh file this program reads.", "VTU (.vtu) and Exodus II (.exo) can be read.")


def convert_file(source: Path, target: Path) -> None:
    """Convert between VTU and Exodus II by the files' endings."""
    writers = {".vtu": write_vtu, ".exo": write_exodus, ".e": write_exodus, ".ex2": write_exodus}
    writer = writers.get(target.suffix.lower())
    if writer is None:
        raise Refused(f"{target.suffix or target.name} is no mesh format this program writes.", "Use .vtu or .exo.")
    writer(read_mesh(source), target)
