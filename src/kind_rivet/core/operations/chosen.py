"""What was chosen on a midsurface, checked before it is used."""

from __future__ import annotations

from collections.abc import Sequence

from kind_rivet.core.document.document import Document
from kind_rivet.core.errors import Refused
from kind_rivet.core.midsurface.sheet import Sheet


def sheet_with(document: Document, body: int, items: Sequence[int], what: str) -> Sheet:
    """The midsurface of a body that has all the chosen items (`what`: edge or face). Raises `Refused` where it lacks one, or none is chosen."""
    sheet = document.sheets.get(body)
    if sheet is None:
        raise Refused("This body has no midsurface yet.", "Extract it first.")
    most = len(sheet.shape.edges if what == "edge" else sheet.shape.faces)
    if not items:
        raise Refused(f"No {what} is chosen.", f"Choose one or more {what}s of the midsurface.")
    if any(not 0 <= i < most for i in items):
        raise Refused(f"The midsurface has no {what} {max(items) + 1}.", f"It has {most}.")
    return sheet
