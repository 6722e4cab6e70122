"""Find an action: every action of the program by its words."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QFrame, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from kind_rivet.app.actions import ActionRegistry


class Finder(QFrame):
    """A small panel over the window; Enter carries out the action, Esc closes."""

    def __init__(self, parent: QWidget, registry: ActionRegistry) -> None:
        super().__init__(parent)
        self.registry = registry
        self.setObjectName("panel")
        rows = QVBoxLayout(self)
        self.line = QLineEdit()
        self.line.setPlaceholderText("What do you want to do?")
        self.line.textChanged.connect(self._search)
        self.line.installEventFilter(self)
        self.list = QListWidget()
        self.list.itemActivated.connect(lambda _: self.run())
        self.list.itemClicked.connect(lambda _: self.run())
        rows.addWidget(self.line)
        rows.addWidget(self.list)
        self.hide()

    def pop(self) -> None:
        parent = self.parentWidget()
        assert parent is not None
        self.setGeometry(parent.width() // 2 - 260, 60, 520, 380)
        self.line.clear()
        self._search("")
        self.show()
        self.raise_()
        self.line.setFocus()

    def _search(self, words: str) -> None:
        self.list.clear()
        for action in self.registry.find(words):
            item = QListWidgetItem(action.title + (f"   {action.key}" if action.key else ""))
            item.setToolTip(action.tip)
            item.setData(Qt.ItemDataRole.UserRole, action.name)
            if not action.enabled():
                item.setFlags(Qt.ItemFlag.NoItemFlags)
            self.list.addItem(item)
        self.list.setCurrentRow(0)

    def eventFilter(self, watched: object, event: object) -> bool:
        if isinstance(event, QKeyEvent) and event.type() == QKeyEvent.Type.KeyPress:
            if event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
                step = 1 if event.key() == Qt.Key.Key_Down else -1
                self.list.setCurrentRow(max(0, min(self.list.count() - 1, self.list.currentRow() + step)))
                return True
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self.run()
                return True
            if event.key() == Qt.Key.Key_Escape:
                self.hide()
                return True
        return False

    def run(self) -> None:
        item = self.list.currentItem()
        if item is None:
            return
        action = self.registry.actions[item.data(Qt.ItemDataRole.UserRole)]
        self.hide()
        if action.enabled():
            action.run()
