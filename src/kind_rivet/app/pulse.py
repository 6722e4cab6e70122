"""The Pulse line: the state of the model in one plain sentence."""

from __future__ import annotations

from kind_rivet.app.theme import number
from kind_rivet.core.document.document import Document


def pulse_of(document: Document, proposal: Document | None) -> str:
    """Always true of the document; a proposal is named as such."""
    if not document.bodies and not document.mesh.elements:
        text = "Nothing is open yet."
    else:
        n = len(document.bodies)
        parts = [f"{document.name}: {n} {'body' if n == 1 else 'bodies'}"]
        for count, one, many in (
            (len(document.left_out), "hole left out", "holes left out"), (len(document.looked_past), "edge looked past", "edges looked past"),
            (len(document.splits), "wall split", "walls split"), (len(document.joined), "group joined", "groups joined"),
        ):  # fmt: skip
            if count:
                parts.append(f"{count} {one if count == 1 else many}")
        if document.sheets:
            parts.append(f"{len(document.sheets)} of {n} with midsurface" if n > 1 else "midsurface made")
        if document.mesh.elements:
            kinds = ", ".join(f"{number(c)} {k}{'s' if c != 1 and k != 'hex' else ''}" for k, c in document.mesh.counts().items())
            q = document.quality
            parts.append(f"{kinds} at {document.choices.size:g} {document.units}")
            parts.append(f"index {q.mesh_index:.1f} with {len(q.failing)} failing")
        if document.spiders:
            parts.append(f"{len(document.spiders)} spiders")
        if document.sets:
            parts.append(f"{len(document.sets)} sets")
        text = ", ".join(parts) + "."
        if document.stale:
            n = len(document.stale)
            text += f" {n} thing{'s are' if n > 1 else ' is'} stale."
    if proposal is not None:
        text += "  The Stage shows a proposal: Enter keeps it, Esc drops it."
    return text
