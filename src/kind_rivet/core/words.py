"""Numbers with their words."""

from __future__ import annotations


def counted(count: int, one: str, more: str = "") -> str:
    """`1 node`, `2 nodes`; `more` where an s is not all that changes."""
    return f"{count} {one if count == 1 else more or one + 's'}"
