"""The main window: header, Route, Stage, Kit, Ledger, Pulse line, and how they talk to each other."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QCloseEvent, QKeySequence, QResizeEvent, QShortcut
from PySide6.QtWidgets import (
    QButtonGroup,
    QComboBox,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QProgressBar,
    QPushButton,
    QSplitter,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from kind_rivet.app.actions import ActionRegistry
from kind_rivet.app.finder import Finder
from kind_rivet.app.kit.card import Card
from kind_rivet.app.kit.cards import OpenCard, WorklistCard
from kind_rivet.app.kit.divisions import DivisionsCard
from kind_rivet.app.kit.kit import Kit
from kind_rivet.app.ledger.ledger import Ledger
from kind_rivet.app.pulse import pulse_of
from kind_rivet.app.route import STOPS, Route
from kind_rivet.app.session import Session
from kind_rivet.app.stage.dresser import Look, dress
from kind_rivet.app.stage.live import Live
from kind_rivet.app.stage.picking import Picker
from kind_rivet.app.stage.selection import LENSES, Selection
from kind_rivet.app.stage.view import StageView
from kind_rivet.core.checks.gate import Finding, check
from kind_rivet.core.document.document import Document
from kind_rivet.core.operations import all_operations

FILES = (
    "All that can be opened (*.step *.stp *.iges *.igs *.brep *.stl *.obj *.ply *.vtu *.exo *.STEP *.STP *.IGS *.STL);;"
    "Geometry (*.step *.stp *.iges *.igs *.brep);;Facets (*.stl *.obj *.ply);;Meshes (*.vtu *.exo)"
)
SERVED_BY = {  # operations whose buttons are on a card of another name
    "part.save_view": ("part", "Views and section"),
    "prepare.find": ("prepare", "Findings"),
    "prepare.remedy": ("prepare", "Findings"),
    "prepare.give_back": ("prepare", "Look past edges"),
    "prepare.take_back_split": ("prepare", "Split walls"),
    "prepare.drop_hard": ("prepare", "Hard points"),
    "prepare.replace": ("prepare", "Newer revision"),
}
SAMPLE = Path(__file__).resolve().parents[3] / "examples" / "cradle_tray.step"


class MainWindow(QMainWindow):
    def __init__(self, session: Session | None = None) -> None:
        super().__init__()
        self.session = session or Session()
        self.selection = Selection()
        self.look = Look()
        self.proposing: Card | None = None
        self.actions_ = ActionRegistry()
        self._findings: tuple[Document | None, list[Finding]] = (None, [])
        self.setWindowTitle("Kind Rivet")
        self.resize(1280, 800)
        self.stage = StageView(self.selection)
        self.live = Live(self)
        self._build()
        self._actions()
        self._connect()
        self.go("part")
        self.refresh()

    # -- building ----------------------------------------------------------------------
    def _build(self) -> None:
        central = QWidget()
        rows = QVBoxLayout(central)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(0)
        rows.addWidget(self._header())
        self.route = Route(self)
        self.route.setFixedWidth(216)
        self.kit = Kit(self)
        self.ledger = Ledger(self)
        self.ledger.setMinimumHeight(110)
        stage = QWidget()
        column = QVBoxLayout(stage)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self._rim())
        column.addWidget(self.stage, 1)
        self.middle = QSplitter(Qt.Orientation.Vertical)
        self.middle.addWidget(stage)
        self.middle.addWidget(self.ledger)
        self.middle.setSizes([600, 140])
        self.middle.setStretchFactor(0, 1)
        across = QSplitter(Qt.Orientation.Horizontal)
        across.addWidget(self.route)
        across.addWidget(self.middle)
        across.addWidget(self.kit)
        across.setSizes([216, 744, 320])
        across.setStretchFactor(1, 1)
        rows.addWidget(across, 1)
        self.pulse = QLabel()
        self.pulse.setObjectName("pulse")
        rows.addWidget(self.pulse)
        self.setCentralWidget(central)
        self.finder = Finder(central, self.actions_)
        self.kit.stop = ""

    def _header(self) -> QFrame:
        header = QFrame()
        header.setObjectName("header")
        line = QHBoxLayout(header)
        line.setContentsMargins(12, 5, 12, 5)
        self.name = QLabel()
        self.name.setObjectName("title")
        line.addWidget(self.name)
        self.units = QLabel("mm · t · N")
        self.units.setObjectName("muted")
        self.units.setToolTip("Units of the document: millimetres, tonnes, newtons")
        line.addWidget(self.units)
        line.addSpacing(10)
        self.undo_button, self.redo_button = QToolButton(), QToolButton()
        for b, text, run in ((self.undo_button, "Undo", self.session.undo), (self.redo_button, "Redo", self.session.redo)):
            b.setText(text)
            b.clicked.connect(run)
            line.addWidget(b)
        save = QToolButton()
        save.setText("Save")
        save.clicked.connect(self.save)
        line.addWidget(save)
        line.addStretch(1)
        find = QPushButton("Find an action   Ctrl+Space")
        find.clicked.connect(lambda: self.finder.pop())
        line.addWidget(find)
        line.addStretch(1)
        self.work = QLabel()
        self.bar = QProgressBar()
        self.bar.setFixedWidth(130)
        self.stop_button = QPushButton("Stop")
        self.stop_button.clicked.connect(lambda: self.session.stop())
        for w in (self.work, self.bar, self.stop_button):
            line.addWidget(w)
            w.hide()
        self.stale = QPushButton()
        self.stale.clicked.connect(lambda: self.session.do("mesh.update", {}))
        self.stale.hide()
        line.addWidget(self.stale)
        return header

    def _rim(self) -> QFrame:
        """The Lens and the look, at the Stage's rim."""
        rim = QFrame()
        line = QHBoxLayout(rim)
        line.setContentsMargins(8, 4, 8, 4)
        line.setSpacing(3)
        label = QLabel("Lens")
        label.setObjectName("muted")
        line.addWidget(label)
        self.lens_group = QButtonGroup(self)
        self.lens_buttons: dict[str, QToolButton] = {}
        for name in LENSES:
            b = QToolButton()
            b.setText(name.capitalize())
            b.setCheckable(True)
            b.setToolTip(f"Pick {name if name != 'body' else 'bodie'}s in the Stage")
            b.clicked.connect(lambda _=False, n=name: self.set_lens(n))
            self.lens_group.addButton(b)
            self.lens_buttons[name] = b
            line.addWidget(b)
        line.addStretch(1)
        self.style_combo = QComboBox()
        self.style_combo.setAccessibleName("Look")
        for text, key in (("Shaded", "shaded"), ("Over the solid", "see-through"), ("With thickness", "thick")):
            self.style_combo.addItem(text, key)
        self.style_combo.currentIndexChanged.connect(lambda _: self.set_style(self.style_combo.currentData()))
        line.addWidget(self.style_combo)
        self.view_combo = QComboBox()
        self.view_combo.setAccessibleName("View")
        for text, view in (("Oblique", "oblique"), ("Top", "top"), ("Front", "front"), ("Side", "side")):
            self.view_combo.addItem(text, view)
        self.view_combo.activated.connect(lambda _: self.stage.look(self.view_combo.currentData()))
        line.addWidget(self.view_combo)
        fit = QToolButton()
        fit.setText("Fit")
        fit.clicked.connect(lambda: self.stage.fit())
        line.addWidget(fit)
        return rim

    def _actions(self) -> None:
        add = self.actions_.add
        has_mesh = lambda: bool(self.session.document.mesh.elements)  # noqa: E731
        add("open", "Open a part …", "Open STEP, IGES, BREP, facets or a mesh", self.choose_part, "Ctrl+O")
        add("open_document", "Open a document …", "Open a .rivet document", self.choose_document, "Ctrl+Shift+O")
        add("sample", "Open the sample tray", "The cradle tray that comes with the program", self.open_sample)
        add("save", "Save", "Save the document", self.save, "Ctrl+S")
        add("save_as", "Save as …", "Save the document under another name", self.save_as, "Ctrl+Shift+S")
        add("undo", "Undo", "One step back", self.session.undo, "Ctrl+Z", lambda: self.session.at > 0)
        add("redo", "Redo", "One step forward", self.session.redo, "Ctrl+Shift+Z", lambda: self.session.at < len(self.session.history) - 1)
        add("find", "Find an action", "Every action by its words", lambda: self.finder.pop(), "Ctrl+Space")
        add("back_view", "Previous view", "Go back to the view before", self.stage.previous_view, "Backspace")
        add("only", "Show only what is chosen", "Hide all other bodies", self.only_chosen, "O")
        add("all", "Show everything", "Nothing stays hidden", self.show_all, "Shift+O")
        add("fit", "Fit the view", "Show everything", lambda: self.stage.fit(), "Home")
        add(
            "stop", "Stop the running work", "The document stays as it is", lambda: self.session.stop(), "Ctrl+.", lambda: self.session.busy
        )
        add("update", "Update what is stale", "Make again what no longer fits", lambda: self.session.do("mesh.update", {}), "F5")
        add("next", "Next element of the worklist", "The next worst element", self.next_worst, "N", has_mesh)
        add("flip", "Flip the direction", "Grow layers to the other side", self.live.flip, "F")
        add("clear", "Choose nothing", "Let go of what is chosen", self.selection.clear, "Ctrl+D")
        add("ledger", "Fold the Ledger away or back", "The panel under the Stage", self.fold_ledger, "Ctrl+L")
        for k, (key, title) in enumerate(STOPS):
            add(f"go:{key}", f"Go to {title}", f"Stop {k + 1} of the Route", lambda s=key: self.go(s), str(k + 1))  # type: ignore[misc]
        for stop, cards in self.kit.cards.items():
            for card in cards:
                for name in getattr(card, "ways", {}):
                    operation = all_operations()[name]
                    add(f"do:{name}", operation.title, operation.help, partial(self.open_choice, stop, card, name))
                add(f"card:{stop}:{card.title}", card.title, card.head.toolTip() or card.title, lambda s=stop, c=card: self.open_card(s, c))  # type: ignore[misc]
        for name, (stop, title) in SERVED_BY.items():
            operation = all_operations()[name]
            card = next(c for c in self.kit.cards[stop] if c.title == title)
            add(f"do:{name}", operation.title, operation.help, partial(self.open_card, stop, card))
        for name, run in (("part.rename", self.route.rename), ("part.colour", self.route.pop_menu), ("part.remove", self.route.remove)):
            add(f"do:{name}", all_operations()[name].title, all_operations()[name].help, run)
        for action in self.actions_.actions.values():
            if action.key:
                QShortcut(QKeySequence(action.key), self).activated.connect(lambda a=action: a.run() if a.enabled() else None)
        QShortcut(QKeySequence(Qt.Key.Key_Return), self).activated.connect(self.confirm)
        QShortcut(QKeySequence(Qt.Key.Key_Enter), self).activated.connect(self.confirm)
        QShortcut(QKeySequence(Qt.Key.Key_Escape), self).activated.connect(self.drop)

    def _connect(self) -> None:
        self.session.changed.connect(self.refresh)
        self.session.progress.connect(self._progress)
        self.session.idle.connect(self._idle)
        self.session.said.connect(self.say)
        self.selection.changed.connect(self._selection_changed)
        self.stage.picked.connect(self._picked)
        self.stage.boxed.connect(
            lambda items, add: self.selection.set(self.selection.kind, [*self.selection.items, *items] if add else items)
        )
        self.stage.bead_turned.connect(self._bead)
        self.stage.grip_started.connect(self.live.grips.start)
        self.stage.grip_moved.connect(self.live.grips.move)
        self.stage.grip_ended.connect(self.live.grips.end)
        self.stage.hovered.connect(self.live.hover)
        self.stage.drag_started.connect(self.live.drag_start)
        self.stage.drag_moved.connect(self.live.drag_move)
        self.stage.drag_ended.connect(self.live.drag_end)

    # -- showing --------------------------------------------------------------------------
    def refresh(self) -> None:
        """The document or the proposal changed: everything that shows it follows."""
        session = self.session
        if session.proposal is None and not session.busy:
            self.proposing = None
        shown = session.document.name if session.path is None else session.path.stem
        if self.look.stop == "part" and session.document.bodies and isinstance(self.kit.open_card, OpenCard):
            self.kit.open(self.kit.first("part"))
        self.name.setText(shown + ("  ·  not saved" if session.unsaved else ""))
        self.undo_button.setEnabled(session.at > 0)
        self.redo_button.setEnabled(session.at < len(session.history) - 1)
        stale = session.document.stale
        self.stale.setVisible(bool(stale))
        self.stale.setText(f"{len(stale)} stale · Update")
        self.stale.setToolTip("\n".join(stale))
        proposed = session.proposal is not None
        if proposed:  # the picture first: findings on a large mesh take as long as the proposal itself
            self.redraw()
            self.stage.repaint()
        self.route.refresh()
        self.ledger.refresh()
        self.kit.refresh()
        self.pulse.setText(pulse_of(session.document, session.proposal))
        if not proposed:
            self.redraw()

    def redraw(self) -> None:
        """Dress the Stage anew."""
        document = self.session.shown
        dressed = dress(document, self.look, self.session.proposal is not None, self.selection)
        self.stage.legend, self.stage.labels = dressed.legend, dressed.labels
        self.stage.picker = Picker(document, dressed.shows_mesh, dressed.shows_sheets)
        empty = not document.bodies and not document.mesh.nodes
        self.stage.hint = "Open a part to begin: Ctrl+O, or choose a STEP file in the card on the right." if empty else ""
        self.live.overlays()
        self.stage.show_actors(dressed.actors, dressed.lines, dressed.box, dressed.coarse)

    def findings(self) -> list[Finding]:
        """The gate's findings on the document shown, worked out once."""
        document = self.session.shown
        if self._findings[0] is not document:
            self._findings = (document, check(document) if document.mesh.elements else [])
        return self._findings[1]

    def go(self, stop: str) -> None:
        self.look.stop = stop
        if stop == "quality" and self.look.colour == "part":
            self.look.colour = "index"
        elif stop != "quality":
            self.look.colour = "part"
        self.route.buttons[stop].setChecked(True)
        self.kit.show_stop(stop)
        self.redraw()

    def open_card(self, stop: str, card: Card) -> None:
        self.go(stop)
        self.kit.open(card)

    def open_choice(self, stop: str, card: Card, name: str) -> None:
        """Open a card with several ways at one of them."""
        self.open_card(stop, card)
        card.choose(name)  # type: ignore[attr-defined]

    def card_changed(self) -> None:
        """Another card is open: the Stage shows what it works on."""
        wanted = bool(getattr(self.kit.open_card, "on_sheet", False))
        solid = bool(getattr(self.kit.open_card, "on_solid", False))
        if wanted != self.look.on_sheet or solid != self.look.on_solid:
            self.look.on_sheet, self.look.on_solid = wanted, solid
            if self.look.stop in ("prepare", "midsurface"):
                self.selection.clear()
                self.redraw()
        self.live.overlays()
        self.stage.update()

    def set_lens(self, lens: str) -> None:
        self.lens_buttons[lens].setChecked(True)
        self.selection.lens(lens)

    def set_style(self, style: str) -> None:
        self.look.style = style
        self.redraw()

    def set_colour(self, colour: str) -> None:
        self.look.colour = colour
        self.redraw()

    def only_chosen(self) -> None:
        """Hide every body but the chosen ones."""
        items = self.selection.items
        keys = {
            i if self.selection.kind == "body" else i[3] if self.selection.kind == "point" else i[0]
            for i in items
            if self.selection.kind not in ("node", "element")
        }
        if not keys:
            self.say("Nothing is chosen. Choose bodies in Contents or in the Stage first.", "problem")
            return
        self.look.hidden = {f"body:{b.key}" for b in self.session.shown.bodies if b.key not in keys}
        self.route.refresh()
        self.redraw()

    def show_all(self) -> None:
        self.look.hidden = set()
        self.route.refresh()
        self.redraw()

    def frame_element(self, number: int) -> None:
        """Bring an element into view, with some of its surroundings."""
        mesh = self.session.shown.mesh
        at = np.flatnonzero(mesh.element_id == number)
        if len(at):
            conn = mesh.conn[at[0]]
            centre = mesh.points[conn[conn >= 0]].mean(axis=0)
            reach = 8 * (self.session.document.choices.size or 1.0)
            self.stage.fit(np.array([centre - reach, centre + reach]))

    def fold_ledger(self) -> None:
        self.ledger.setVisible(not self.ledger.isVisible())

    # -- working --------------------------------------------------------------------------
    def confirm(self) -> None:
        if self.finder.isVisible():
            self.finder.run()
            return
        card = self.kit.open_card
        if card is not None:
            card.confirm()

    def keep(self) -> None:
        self.session.keep()

    def drop(self) -> None:
        if self.finder.isVisible():
            self.finder.hide()
            return
        self.session.drop()
        if self.session.proposal is None:
            self.proposing = None
            self.kit.refresh()

    def next_worst(self) -> None:
        card = next(c for c in self.kit.cards["quality"] if isinstance(c, WorklistCard))
        self.open_card("quality", card)
        card.next()

    def _progress(self, share: float, what: str) -> None:
        self.work.setText(what)
        self.bar.setRange(0, 100 if share > 0 else 0)
        self.bar.setValue(int(100 * share))
        for w in (self.work, self.bar, self.stop_button):
            w.show()
        self.kit.refresh()

    def _idle(self) -> None:
        for w in (self.work, self.bar, self.stop_button):
            w.hide()
        if self.session.proposal is None:
            self.proposing = None
        self.kit.refresh()

    def say(self, words: str, kind: str) -> None:
        """A message: into the Ledger, and problems also at once under everything."""
        self.ledger.add_message(words, kind)
        first = words.splitlines()[0]
        if kind == "problem":
            self.pulse.setText("⚠ " + first)
            QTimer.singleShot(9000, lambda: self.pulse.setText(pulse_of(self.session.document, self.session.proposal)))

    def _selection_changed(self) -> None:
        self.lens_buttons[self.selection.kind].setChecked(True)
        self.kit.refresh()
        self.redraw()  # after the card: it may draw what is chosen

    def _picked(self, item: Any, add: bool, take: bool) -> None:
        if item is None:
            if not add and not take:
                self.selection.clear()
            return
        self.selection.pick(item, add, take)

    def _bead(self, edge: tuple[int, int], step: int) -> None:
        card = self.kit.open_card
        if isinstance(card, DivisionsCard):
            body, e = edge
            shown = len(self.session.shown.mesh_edges[body][e]) - 1
            card.give(body, [e], max(1, (card.wanted(body, e) or shown) + step))

    # -- files -----------------------------------------------------------------------------
    def choose_part(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Open a part", "", FILES)
        if path:
            self.open_path(Path(path))

    def choose_document(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Open a document", "", "Kind Rivet documents (*.rivet *.rivet-recovery)")
        if path:
            self.open_path(Path(path))

    def open_sample(self) -> None:
        self.open_path(SAMPLE)

    def open_path(self, path: Path) -> None:
        """Open a STEP file or a document; nothing is lost when it cannot be read."""
        if path.suffix in (".rivet", ".rivet-recovery"):
            self.session.open_document(path)
        else:
            self.session.do("part.open", {"path": str(path)})

    def save(self) -> None:
        if self.session.path is None:
            self.save_as()
        else:
            self.session.save(self.session.path)

    def save_as(self) -> None:
        path, _ = QFileDialog.getSaveFileName(
            self, "Save the document", f"{self.session.document.name}.rivet", "Kind Rivet documents (*.rivet)"
        )
        if path:
            self.session.save(Path(path).with_suffix(".rivet"))

    def resizeEvent(self, event: QResizeEvent) -> None:
        self.finder.hide()
        super().resizeEvent(event)

    def closeEvent(self, event: QCloseEvent) -> None:
        self.session.close()
        self.stage.shut()
        super().closeEvent(event)
