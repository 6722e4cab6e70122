"""What is chosen in the Stage: one kind of thing at a time."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QObject, Signal

LENSES = ("body", "face", "edge", "point", "hole", "ring", "node", "element")


class Selection(QObject):
    """`kind` as in LENSES; items: body key; (body, face); (body, edge); (x, y, z, body) for points; (body, hole number); node or element number."""

    changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.kind = "face"
        self.items: list[Any] = []

    def set(self, kind: str, items: list[Any]) -> None:
        if kind != self.kind or items != self.items:
            self.kind, self.items = kind, list(dict.fromkeys(items))
            self.changed.emit()

    def clear(self) -> None:
        self.set(self.kind, [])

    def lens(self, kind: str) -> None:
        """Change what can be picked; what was chosen of another kind is let go."""
        if kind != self.kind:
            self.set(kind, [])

    def pick(self, item: Any, add: bool, take: bool) -> None:
        if take:
            self.set(self.kind, [i for i in self.items if i != item])
        elif add:
            self.set(self.kind, [i for i in self.items if i != item] if item in self.items else [*self.items, item])
        else:
            self.set(self.kind, [item])

    def words(self) -> str:
        n = len(self.items)
        plural = {"body": "bodies"}.get(self.kind, self.kind + "s")
        return f"{n} {self.kind if n == 1 else plural} chosen" if n else "Nothing chosen"
