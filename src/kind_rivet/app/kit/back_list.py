"""Lists of what was prepared; each entry can be taken back."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QListWidget, QListWidgetItem, QPushButton, QVBoxLayout, QWidget

from kind_rivet.app.theme import place_words

if TYPE_CHECKING:
    from kind_rivet.app.window import MainWindow


class BackList(QWidget):
    """A list with one button that takes the chosen entry back."""

    button = "Take back"

    def __init__(self, window: MainWindow) -> None:
        super().__init__()
        self.window_ = window
        rows = QVBoxLayout(self)
        rows.setContentsMargins(0, 0, 0, 0)
        self.list = QListWidget()
        self.list.setMaximumHeight(110)
        rows.addWidget(self.list)
        back = QPushButton(self.button)
        back.clicked.connect(self._back)
        rows.addWidget(back)

    def entries(self) -> list[tuple[str, Any]]:
        raise NotImplementedError

    def take_back(self, entry: Any) -> None:
        raise NotImplementedError

    def refresh(self) -> None:
        entries = self.entries()
        row = self.list.currentRow()
        self.list.clear()
        for text, entry in entries:
            item = QListWidgetItem(text)
            item.setData(Qt.ItemDataRole.UserRole, entry)
            self.list.addItem(item)
        self.list.setCurrentRow(min(row, len(entries) - 1))
        self.setVisible(bool(entries))

    def _back(self) -> None:
        item = self.list.currentItem() or (self.list.item(self.list.count() - 1) if self.list.count() else None)
        if item is not None:
            self.take_back(item.data(Qt.ItemDataRole.UserRole))


class LookedPastList(BackList):
    button = "Give back"

    def entries(self) -> list[tuple[str, Any]]:
        document = self.window_.session.shown
        return [(f"{p.length:.4g} {document.units} at {place_words(p.middle)}", (p.body, p.middle)) for p in document.looked_past]

    def take_back(self, entry: Any) -> None:
        self.window_.session.do("prepare.give_back", {"body": entry[0], "middles": [entry[1]]})


class SplitList(BackList):
    def entries(self) -> list[tuple[str, Any]]:
        document = self.window_.session.shown
        return [(f"{s.label or s.way} on {document.body(s.body).name}", k) for k, s in enumerate(document.splits)]

    def take_back(self, entry: Any) -> None:
        self.window_.session.do("prepare.take_back_split", {"number": entry})


class HardPointList(BackList):
    button = "Let go"

    def entries(self) -> list[tuple[str, Any]]:
        return [(f"hard point at {place_words(p.place)}", (p.body, p.place)) for p in self.window_.session.shown.hard_points]

    def take_back(self, entry: Any) -> None:
        self.window_.session.do("prepare.drop_hard", {"body": entry[0], "near": entry[1]})
