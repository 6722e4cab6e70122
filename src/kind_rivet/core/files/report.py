"""report.json: what was made and how good it is. The schema is described in docs/report.md."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np

from kind_rivet import __version__
from kind_rivet.core.checks.gate import check, connected_pieces
from kind_rivet.core.document.document import Document
from kind_rivet.core.files.sets_json import write_text
from kind_rivet.core.geometry.first_look import suits
from kind_rivet.core.mesh.topology import loops_of, shell_sides
from kind_rivet.core.midsurface.remarks import KINDS
from kind_rivet.core.quality.shell_metrics import METRICS


def report_of(document: Document, seconds: dict[str, float], warnings: list[str]) -> dict[str, Any]:
    """The report as plain data."""
    mesh, quality = document.mesh, document.quality
    sides = shell_sides(mesh.shells())
    shells = int(mesh.is_shell.sum())
    counts = mesh.counts()
    bodies = []
    for body in document.bodies:
        kind, reason = suits(body.shape, body.walls, body.thin_share, body.form)
        bodies.append({
            "name": body.name, "kind": body.kind, "faces": len(body.shape.faces), "box": body.shape.box.tolist(), "volume": body.shape.volume, "walls": [{"thickness": t, "share": s} for t, s in body.walls],
            "thin_share": body.thin_share, "suits": kind, "reason": reason, "holes": [{"kind": h.kind, "diameter": h.diameter, "length": h.length, "centre": list(h.centre)} for h in body.holes],
        })  # fmt: skip
    midsurface = []
    for key, sheet in document.sheets.items():
        p = sheet.proof
        midsurface.append({
            "body": document.body(key).name, "way": sheet.way, "thicknesses": sheet.thicknesses, "area": sheet.area, "mass_ratio": p.weight if p else None, "blends": p.blends if p else None, "cover": p.cover if p else None,
            "pieces": p.pieces if p else None, "off_middle_p95": p.off_middle if p else None, "inner_free_length": p.inner_free_length if p else None,
            "unpaired_faces": list(p.unused_faces) if p else [], "walls": len(sheet.shape.faces), "plain_ratio": p.plain_ratio + p.blends if p else None,
            "tapering_walls": sum(t is not None for t in sheet.tapers), "remarks": [{"kind": KINDS[r.kind], "place": list(r.place), "measure": r.measure} for r in sheet.remarks],
        })  # fmt: skip
    findings = check(document)
    return {
        "format": "kind-rivet report 1", "version": __version__, "name": document.name, "units": document.units, "bodies": bodies, "midsurface": midsurface,
        "mesh": {
            "size": document.choices.size, "nodes": mesh.nodes, "elements": mesh.elements, "counts": counts, "quad_share": counts.get("quad", 0) / shells if shells else 0.0,
            "pieces": connected_pieces(document), "free_edge_loops": loops_of(sides.free), "junction_sides": len(sides.junctions),
            "shell_area_times_thickness": _shell_volume(document), "spiders": len(document.spiders), "masses": len(document.masses),
        },
        "quality": {
            "limit_sheet": document.limit_sheet.name, "index": quality.mesh_index, "failing": len(quality.failing), "worst_index": quality.worst, "worst": quality.worst_by_metric(mesh),
            "failing_by_metric": {METRICS[k]: int((quality.worst_metric[quality.failing] == k).sum()) for k in np.unique(quality.worst_metric[quality.failing])},
        },
        "checks": [{"grade": f.grade, "text": f.text} for f in findings],
        "sets": [{"name": s.name, "kind": s.kind, "count": len(s.ids), "live": s.rule is not None} for s in document.sets],
        "seconds": {k: round(v, 3) for k, v in seconds.items()},
        "warnings": warnings,
    }  # fmt: skip


def _shell_volume(document: Document) -> float:
    mesh = document.mesh
    rows, p = mesh.shells(), mesh.points
    good = rows[:, 0] >= 0
    r = rows[good]
    tria = r[:, 3] < 0
    a = np.where(tria[:, None], p[r[:, 1]] - p[r[:, 0]], p[r[:, 2]] - p[r[:, 0]])
    b = np.where(tria[:, None], p[r[:, 2]] - p[r[:, 0]], p[r[:, 3]] - p[r[:, 1]])
    return float((np.linalg.norm(np.cross(a, b), axis=1) / 2 * mesh.thickness[good]).sum())


def write_report(report: dict[str, Any], path: Path) -> None:
    write_text(path, json.dumps(report, indent=1))
