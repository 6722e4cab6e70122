"""Counts changed on a large mesh at once: by columns of quads put in or taken out, all else as it was."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kind_rivet.core.document.document import Document, MeshChoices
from kind_rivet.core.document.live_sets import refreshed
from kind_rivet.core.mesh.mesh import Mesh
from kind_rivet.core.meshing.assemble import measure_thickness
from kind_rivet.core.operations.lots import rules_word
from kind_rivet.core.repair.columns import Columns, WithLines

LARGE = 5_000  # shells of a body below which walls are soon meshed again
MOST = 6  # columns at once; more would crowd


def with_columns(document: Document, choices: MeshChoices, body: int, wanted: dict[int, int]) -> Document | None:
    """The document with other counts on edges of one body, by columns put in or taken out along them.

    None where its shells are few, are not what the present choices made, or no column fits.
    """
    mesh, lines = document.mesh, document.lines_of(body)
    mine = mesh.is_shell & (mesh.body == body)
    asked_for = {f"mesh:{body}": document.mesh_state(body), f"rules:{body}": rules_word(document, body)}
    as_asked = all(document.basis.get(name) == word for name, word in asked_for.items())
    plain = not (choices.trias or choices.local or any(body in g for g in document.joined)) and not (mesh.conn[mine, 4:] >= 0).any()
    own = {*choices.grading.get(str(body), {})} | {e for hole in document.mesh_holes.get(body, ()) for e in (*hole.edges, *hole.rim)}
    if not (as_asked and plain and mine.sum() >= LARGE and len(lines)) or not own.isdisjoint(wanted):
        return None
    sheet = document.sheets[body]
    held = (own | choices.divisions.get(str(body), {}).keys()) - wanted.keys()

    def measured(part: Mesh) -> Mesh:
        thickness, offset = measure_thickness(part, body, document.body(body).shape, sheet)
        return replace(part, thickness=thickness, offset=offset)

    alone = [s.centre for s in document.spiders] + [m.node for m in document.masses]
    claimed = np.concatenate([np.array(alone, np.int32), *(s.nodes for s in document.spiders)]).astype(np.int32)
    columns = Columns(body, sheet.shape, frozenset(held), claimed, document.limit_sheet, choices.size, measured)
    made = columns.with_counts(WithLines(mesh, lines), wanted, MOST)
    if made is None:
        return None
    out = replace(document, choices=choices, mesh=made.mesh, mesh_edges={**document.mesh_edges, body: made.lines})
    out = refreshed(replace(out, basis={**out.basis, f"mesh:{body}": out.mesh_state(body)}))
    changed = sum(len(a) != len(b) for a, b in zip(lines, made.lines, strict=True))
    by = int((made.mesh.body == body).sum()) - int(mine.sum())
    quality = out.quality
    return replace(
        out,
        notes=(
            f"{abs(by)} shells {'more' if by > 0 else 'fewer'}: index {quality.mesh_index:.1f}, {len(quality.failing)} failing.",
            f"{'Columns were put in' if by > 0 else 'Columns were taken out'} across {changed} edges; shells farther off stayed as they were.",
        ),
    )
