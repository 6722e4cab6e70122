"""Counts changed on a large mesh at once: by columns of quads put in or taken out, all else as it was."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kind_rivet.core.document.document import Document, MeshChoices
from kind_rivet.core.document.live_sets import refreshed
from kind_rivet.core.mesh.mesh import Mesh
from kind_rivet.core.meshing.assemble import measure_thickness
from kind_rivet.core.operations.lots import rules_word
from kind_rivet.core.repair.columns import Columns, Counted

LARGE = 5_000  # shells of a body below which walls are soon meshed again
MOST = 6  # columns at once; more would crowd


def with_columns(document: Document, choices: MeshChoices, body: int, wanted: dict[int, int]) -> Document | None:
    """The document with other counts on edges of one body, by columns put in or taken out along them.

    None where its shells are few, are not what the present choices made, or no column fits.
    """
    mesh, lines = document.mesh, document.lines_of(body)
    mine = mesh.is_shell & (mesh.body == body)
    as_made = document.basis.get(f"mesh:{body}") == document.mesh_state(body) and document.basis.get(f"rules:{body}") == rules_word(
        document, body
    )
    plain = not (document.choices.trias or document.choices.local or any(body in g for g in document.joined))
    if not (as_made and plain and mine.sum() >= LARGE and len(lines)) or (mesh.conn[mine, 4:] >= 0).any():
        return None
    sheet = document.sheets[body]
    rounds = {e for hole in document.mesh_holes.get(body, ()) for e in hole.edges}
    held = {*choices.divisions.get(str(body), {}), *choices.grading.get(str(body), {}), *rounds} - wanted.keys()

    def measured(part: Mesh) -> Mesh:
        thickness, offset = measure_thickness(part, body, document.body(body).shape, sheet)
        return replace(part, thickness=thickness, offset=offset)

    named = [s.nodes for s in document.spiders] + [
        np.array([s.centre for s in document.spiders] + [m.node for m in document.masses], np.int32)
    ]
    spoken = np.concatenate(named).astype(np.int32)
    columns = Columns(body, sheet.shape, frozenset(held), spoken, document.limit_sheet, choices.size, measured)
    counted = columns.with_counts(Counted(mesh, lines), wanted, MOST)
    if counted is None:
        return None
    out = replace(document, choices=choices, mesh=counted.mesh, mesh_edges={**document.mesh_edges, body: counted.lines})
    out = refreshed(replace(out, basis={**out.basis, f"mesh:{body}": out.mesh_state(body)}))
    changed = sum(len(a) != len(b) for a, b in zip(lines, counted.lines, strict=True))
    by = int((counted.mesh.body == body).sum()) - int(mine.sum())
    quality = out.quality
    return replace(
        out,
        notes=(
            f"{abs(by)} shells {'more' if by > 0 else 'fewer'}: index {quality.mesh_index:.1f}, {len(quality.failing)} failing.",
            f"{'Columns were put in' if by > 0 else 'Columns were taken out'} across {changed} edges; shells farther off stayed as they were.",
        ),
    )
