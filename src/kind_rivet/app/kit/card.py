"""Kit cards: choose → see the proposal with its effect → keep or drop."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from kind_rivet.app.kit.form import Form
from kind_rivet.app.theme import number
from kind_rivet.core.document.document import Document
from kind_rivet.core.operations.registry import Operation

if TYPE_CHECKING:
    from kind_rivet.app.window import MainWindow


class Card(QFrame):
    """A foldable card: a head with the title and a body."""

    lens: str | None = None  # what the Stage picks while the card is open

    def __init__(self, window: MainWindow, title: str, help_text: str = "") -> None:
        super().__init__()
        self.window_ = window
        self.title = title
        self.setObjectName("card")
        outer = QVBoxLayout(self)
        outer.setContentsMargins(2, 2, 2, 2)
        outer.setSpacing(0)
        self.head = QPushButton(title)
        self.head.setObjectName("cardhead")
        self.head.setToolTip(help_text)
        self.head.clicked.connect(lambda: window.kit.toggle(self))
        outer.addWidget(self.head)
        self.body = QWidget()
        self.rows = QVBoxLayout(self.body)
        self.rows.setContentsMargins(10, 2, 10, 10)
        self.rows.setSpacing(8)
        outer.addWidget(self.body)
        if help_text:
            words = QLabel(help_text)
            words.setWordWrap(True)
            words.setObjectName("muted")
            self.rows.addWidget(words)
        self.body.hide()

    def open(self) -> None:
        self.body.show()
        if self.lens:
            self.window_.set_lens(self.lens)
        self.refresh()

    def fold(self) -> None:
        self.body.hide()

    @property
    def is_open(self) -> bool:
        return not self.body.isHidden()

    def refresh(self) -> None:
        """The document, proposal or selection changed."""

    def confirm(self) -> None:
        """Enter."""


class OperationCard(Card):
    """A card for one operation; `picks` fill parameters from what is chosen in the Stage."""

    def __init__(
        self, window: MainWindow, operation: Operation, picks: Callable[[Document], dict[str, Any]] | None = None, lens: str | None = None,
        preset: Callable[[Document], dict[str, Any]] | None = None, choices: dict[str, list[str]] | None = None, skip: set[str] | None = None, needs: str = "", hint: str = "",
    ) -> None:  # fmt: skip
        super().__init__(window, operation.title, operation.help)
        self.operation, self.picks, self.preset, self.needs = operation, picks, preset, needs
        self.lens = lens
        self._touched = False
        self.form = Form(operation.parameters, skip or set(), choices=choices)
        self.form.edited.connect(self._edited)
        self.rows.addWidget(self.form)
        self.chosen = QLabel()
        self.chosen.setWordWrap(True)
        self.chosen.setVisible(picks is not None)
        self.rows.addWidget(self.chosen)
        self.hint = QLabel(hint)
        self.hint.setWordWrap(True)
        self.hint.setObjectName("muted")
        self.hint.setVisible(bool(hint))
        self.rows.addWidget(self.hint)
        self.effect = QLabel()
        self.effect.setWordWrap(True)
        self.effect.setObjectName("effect")
        self.rows.addWidget(self.effect)
        buttons = QHBoxLayout()
        self.show_button = QPushButton("Propose")
        self.show_button.setToolTip("Show in the Stage what would change; nothing is kept yet")
        self.show_button.clicked.connect(self.propose)
        self.drop_button = QPushButton("Drop")
        self.drop_button.setToolTip("Let the proposal go (Esc)")
        self.drop_button.clicked.connect(window.drop)
        self.keep_button = QPushButton("Keep")
        self.keep_button.setObjectName("keep")
        self.keep_button.setToolTip("Keep the proposal (Enter)")
        self.keep_button.clicked.connect(window.keep)
        for b in (self.show_button, self.drop_button, self.keep_button):
            b.setAccessibleName(f"{b.text()}: {operation.title}")
            buttons.addWidget(b)
        self.rows.addLayout(buttons)
        self._again = QTimer(self)
        self._again.setSingleShot(True)
        self._again.timeout.connect(self._propose_when_free)

    def open(self) -> None:
        if self.preset is not None and not self._touched:
            self.form.set_values(self.preset(self.window_.session.document))
        super().open()

    def parameters(self) -> dict[str, Any]:
        values = self.form.values()
        if self.picks is not None:
            values |= self.picks(self.window_.session.document)
        return values

    def propose(self) -> None:
        self.window_.proposing = self
        self.window_.session.propose(self.operation.name, self.parameters())

    def _propose_when_free(self) -> None:
        """A proposal made by itself never cuts off work that was asked for."""
        if self.window_.session.keeping:
            self._again.start(200)
        elif self.isVisible():
            self.propose()

    def _edited(self) -> None:
        self._touched = True
        if self.window_.proposing is self and (self.window_.session.proposal is not None or self.window_.session.busy):
            self._again.start(350)

    def confirm(self) -> None:
        if self.window_.session.proposal is not None and self.window_.proposing is self:
            self.window_.keep()
        else:
            self.propose()

    def refresh(self) -> None:
        session = self.window_.session
        mine = self.window_.proposing is self
        if self.picks is not None:
            self.chosen.setText(
                self.window_.selection.words() + " in the Stage."
                if self.window_.selection.kind == self.lens or not self.lens
                else f"Choose {self.lens}s in the Stage."
            )
        self.keep_button.setEnabled(session.proposal is not None and mine)
        self.drop_button.setEnabled(mine and (session.proposal is not None or session.busy))
        self.effect.setText(effect(session.document, session.proposal) if session.proposal is not None and mine else "")
        self.effect.setVisible(bool(self.effect.text()))


def effect(before: Document, after: Document) -> str:
    """What a proposal would change, in numbers."""
    lines = list(after.notes)
    old, new = before.mesh.elements, after.mesh.elements
    if old != new:
        lines.append(f"Elements {number(old)} → {number(new)}, nodes {number(before.mesh.nodes)} → {number(after.mesh.nodes)}.")
    if new and after.mesh is not before.mesh and not any(line.startswith("Index ") for line in lines):
        a, b = before.quality, after.quality
        lines.append(f"Index {a.mesh_index:.1f} → {b.mesh_index:.1f}; failing {len(a.failing)} → {len(b.failing)}; worst {b.worst:.2f}.")
    return "\n".join(lines)
