"""Findings with their remedies, and the newer revision with its report."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QListWidget, QListWidgetItem, QPushButton

from kind_rivet.app.kit.card import Card
from kind_rivet.app.theme import COPPER
from kind_rivet.core.geometry.faults import KINDS

if TYPE_CHECKING:
    from kind_rivet.app.window import MainWindow


class FaultsCard(Card):
    """What would hurt the mesh, worst first, with measured widths and remedies."""

    on_sheet = True

    def __init__(self, window: MainWindow) -> None:
        super().__init__(
            window, "Findings", "Slivers, short edges, tiny faces, close points, gaps, twins, small holes and blends at the wanted size."
        )
        find = QPushButton("Find at the wanted size")
        find.clicked.connect(lambda: window.session.do("prepare.find", {}))
        self.rows.addWidget(find)
        self.list = QListWidget()
        self.list.setMinimumHeight(170)
        self.list.itemClicked.connect(lambda item: self._go(item, False))
        self.list.itemDoubleClicked.connect(lambda item: self._go(item, True))
        self.rows.addWidget(self.list)
        line = QHBoxLayout()
        self.one, self.kind, self.all = QPushButton("This"), QPushButton("All of this kind"), QPushButton("All found")
        for button, run, tip in (
            (self.one, self._one, "Apply the remedy of the chosen finding"),
            (self.kind, self._kind, "Apply it to every finding of its kind"),
            (self.all, self._all, "Look past all slivers, tiny faces and short edges; leave out small holes"),
        ):
            button.setToolTip(tip)
            button.clicked.connect(run)
            line.addWidget(button)
        self.rows.addLayout(line)

    def refresh(self) -> None:
        document = self.window_.session.shown
        row = self.list.currentRow()
        self.list.clear()
        for f in document.faults[:400]:
            remedy = f" → {f.remedy}" if f.remedy else " → finer size here"
            self.list.addItem(f"{KINDS[f.kind]}  {f.width:.3g} {document.units}{remedy}")
        if not document.faults:
            self.list.addItem(
                "Nothing looked for yet." if not any(t.operation == "prepare.find" for t in document.trail) else "Nothing found."
            )
        self.list.setCurrentRow(min(max(row, 0), self.list.count() - 1))
        for button in (self.one, self.kind, self.all):
            button.setEnabled(bool(document.faults))

    def _fault(self) -> Any:
        faults, row = self.window_.session.document.faults, self.list.currentRow()
        return faults[row] if 0 <= row < len(faults) else None

    def _go(self, item: QListWidgetItem, frame: bool) -> None:
        fault = self._fault()
        if fault is None:
            return
        if fault.edges:
            self.window_.set_lens("edge")
            self.window_.selection.set("edge", [(fault.body, e) for e in fault.edges])
        elif fault.faces:
            self.window_.set_lens("face")
            self.window_.selection.set("face", [(fault.body, f) for f in fault.faces])
        if frame:
            reach = max(6 * fault.width, 3 * (self.window_.session.document.choices.size or 1.0))
            self.window_.stage.fit(np.array([np.array(fault.place) - reach, np.array(fault.place) + reach]))

    def _one(self) -> None:
        fault, session = self._fault(), self.window_.session
        if fault is None:
            return
        if fault.remedy == "look past":
            session.do("prepare.look_past", {"body": fault.body, "edges": fault.edges})
        elif fault.remedy == "leave out":
            hole = session.document.body(fault.body).holes[fault.holes[0]]
            session.do("prepare.leave_out_hole", {"body": fault.body, "centre": hole.centre})
        elif fault.remedy == "remove":
            session.do("prepare.remove_faces", {"body": fault.body, "faces": fault.faces})
        elif fault.remedy == "stitch":
            session.do("prepare.stitch", {"bodies": [fault.body], "tolerance": 1.1 * fault.width})
        else:
            self.window_.say("There is no remedy but a finer size here.", "note")

    def _kind(self) -> None:
        fault = self._fault()
        if fault is None:
            return
        if fault.remedy == "remove":
            self.window_.session.do("prepare.remove_blends", {"below": 0.5 * self.window_.session.document.choices.size})
        else:
            self.window_.session.do("prepare.remedy", {"kind": fault.kind})

    def _all(self) -> None:
        self.window_.session.do("prepare.remedy", {})

    def labels(self) -> list[tuple[np.ndarray, str, str]]:
        """Tags in the Stage at the worst findings."""
        return [(np.array(f.place), f"{KINDS[f.kind]} {f.width:.3g}", COPPER) for f in self.window_.session.shown.faults[:24]]


class RevisionCard(Card):
    """Replace a body by a newer revision, and what was recognised."""

    lens = "body"

    def __init__(self, window: MainWindow) -> None:
        super().__init__(window, "Newer revision", "Choose a body in the Stage (or the only one is taken), then the newer file.")
        button = QPushButton("Choose the newer file …")
        button.clicked.connect(self._choose)
        self.rows.addWidget(button)
        self.report = QListWidget()
        self.report.setWordWrap(True)
        self.report.setMinimumHeight(180)
        self.rows.addWidget(self.report)
        update = QPushButton("Update what is stale")
        update.clicked.connect(lambda: window.session.do("mesh.update", {}))
        self.rows.addWidget(update)

    def _choose(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "The newer revision", "", "Geometry (*.step *.stp *.iges *.igs *.brep)")
        if path:
            self.replace(Path(path))

    def replace(self, path: Path) -> None:
        document, selection = self.window_.session.document, self.window_.selection
        solids = [b.key for b in document.bodies if b.kind != "wire"]
        chosen = selection.items if selection.kind == "body" and selection.items else solids[:1]
        if not chosen:
            self.window_.say("There is no body to replace. Open a part first.", "problem")
            return
        self.window_.session.do("prepare.replace", {"body": chosen[0], "path": str(path)})

    def refresh(self) -> None:
        self.report.clear()
        self.report.addItems(list(self.window_.session.shown.revision) or ["No body has been replaced yet."])
