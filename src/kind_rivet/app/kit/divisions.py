"""The card of divisions: counts and grading of edges, asked for by beads, grips or a number."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton

from kind_rivet.app.kit.card import Card, effect
from kind_rivet.app.kit.form import NumberField

if TYPE_CHECKING:
    from kind_rivet.app.window import MainWindow

EdgeLot = tuple[int, tuple[int, ...]]  # a body and edges of its sheet


class DivisionsCard(Card):
    """Beads with counts on the edges; a typed number goes to all chosen edges."""

    lens = "edge"

    def __init__(self, window: MainWindow) -> None:
        super().__init__(
            window,
            "Divisions of edges",
            "Click or scroll a bead to change its count (Shift or right click: fewer), or choose edges and type a number. "
            "Draw a copper grip of a chosen edge towards its end: the sides there get shorter.",
        )
        line = QHBoxLayout()
        self.count = NumberField(8, True)
        self.count.setAccessibleName("Divisions")
        self._shown: dict[tuple[int, int], int] = {}
        line.addWidget(QLabel("Divisions"))
        line.addWidget(self.count)
        give = QPushButton("Propose")
        give.setAccessibleName("Propose divisions")
        give.clicked.connect(self.propose)
        line.addWidget(give)
        self.rows.addLayout(line)
        self.chosen = QLabel()
        self.rows.addWidget(self.chosen)
        self.effect = QLabel()
        self.effect.setObjectName("effect")
        self.effect.setWordWrap(True)
        self.rows.addWidget(self.effect)
        buttons = QHBoxLayout()
        self.drop_button, self.keep_button = QPushButton("Drop"), QPushButton("Keep")
        self.keep_button.setObjectName("keep")
        self.drop_button.clicked.connect(window.drop)
        self.keep_button.clicked.connect(window.keep)
        buttons.addWidget(self.drop_button)
        buttons.addWidget(self.keep_button)
        self.rows.addLayout(buttons)
        self._waiting: dict[EdgeLot, Any] = {}
        self._underway: tuple[EdgeLot, Any] | None = None
        self._standing: tuple[str, EdgeLot] | None = None  # what the last proposal was about
        window.session.stopped.connect(self._forget)
        window.session.idle.connect(lambda: QTimer.singleShot(0, self._next))

    def propose(self) -> None:
        picked = self.window_.selection.items if self.window_.selection.kind == "edge" else []
        if not picked:
            self.window_.say("No edge is chosen. Click an edge of the midsurface first.", "problem")
            return
        body = picked[0][0]
        self.give(body, [e for b, e in picked if b == body], self.count.value())

    def give(self, body: int, edges: list[int], count: Any) -> None:
        """Propose a count. While another proposal of this card is worked out it waits its turn, the newest count of an edge alone."""
        session = self.window_.session
        if session.busy and self._underway is not None:
            self._waiting[body, tuple(edges)] = count
        else:
            self._waiting.clear()
            self._give((body, tuple(edges)), count)
        self.window_.live.overlays()  # the beads show at once what was asked for
        self.window_.stage.update()

    def wanted(self, body: int, edge: int) -> int | None:
        """The count that was asked for on an edge and is not shown yet."""
        lots = [*self._waiting.items(), *([self._underway] if self._underway is not None else [])]
        return next((n for (b, edges), n in lots if b == body and edge in edges and isinstance(n, int)), None)

    def _give(self, lot: EdgeLot, count: Any) -> None:
        self._propose("mesh.divisions", lot, {"count": count})
        self._underway = (lot, count)

    def _next(self) -> None:
        if self.window_.session.busy:
            return
        self._underway = None
        if self._waiting:
            lot = next(iter(self._waiting))
            self._give(lot, self._waiting.pop(lot))

    def _forget(self) -> None:
        self._waiting.clear()
        self._underway = None

    def grade(self, body: int, edges: list[int], towards: str, ratio: float) -> None:
        self._propose("mesh.grade", (body, tuple(edges)), {"towards": towards, "ratio": ratio})

    def _propose(self, name: str, lot: EdgeLot, values: dict[str, Any]) -> None:
        session = self.window_.session
        mine = self.window_.proposing is self and self._standing == (name, lot)
        if session.proposal is not None and not mine:  # go on from what is shown; a new answer to the same question replaces it
            self.window_.keep()
        self.window_.proposing, self._standing = self, (name, lot)
        session.propose(name, {"body": lot[0], "edges": list(lot[1]), **values})

    def confirm(self) -> None:
        if self.window_.session.proposal is not None:
            self.window_.keep()
        else:
            self.propose()

    def refresh(self) -> None:
        session = self.window_.session
        mine = self.window_.proposing is self and session.proposal is not None
        counts = self._counts()
        few, many = min(counts.values(), default=0), max(counts.values(), default=0)
        self.chosen.setText(self.window_.selection.words() + (f", {few} to {many} divisions." if few < many else "."))
        if counts != self._shown:  # not while a number is being typed
            self._shown = counts
            if counts:
                self.count.setText(str(many))
        self.keep_button.setEnabled(mine)
        self.drop_button.setEnabled(mine)
        self.effect.setText(effect(session.document, session.proposal) if mine and session.proposal else "")

    def _counts(self) -> dict[tuple[int, int], int]:
        """Divisions of the chosen edges as they are shown."""
        shown = self.window_.session.shown
        picked = self.window_.selection.items if self.window_.selection.kind == "edge" else []
        lines = {b: shown.lines_of(b) for b, _ in picked}
        return {(b, e): len(lines[b][e]) - 1 for b, e in picked if e < len(lines[b]) and len(lines[b][e]) > 1}
