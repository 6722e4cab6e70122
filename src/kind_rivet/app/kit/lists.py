"""Lists of what was prepared, each entry to be taken back; findings with remedies; the revision report; measuring; views and sections."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QSlider,
    QVBoxLayout,
    QWidget,
)

from kind_rivet.app.kit.card import Card
from kind_rivet.app.theme import COPPER, place_words
from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.faults import KINDS
from kind_rivet.core.operations.part import Measure, measured

if TYPE_CHECKING:
    from kind_rivet.app.window import MainWindow


class _BackList(QWidget):
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


class LookedPastList(_BackList):
    button = "Give back"

    def entries(self) -> list[tuple[str, Any]]:
        document = self.window_.session.shown
        return [(f"{p.length:.4g} {document.units} at {place_words(p.middle)}", (p.body, p.middle)) for p in document.looked_past]

    def take_back(self, entry: Any) -> None:
        self.window_.session.do("prepare.give_back", {"body": entry[0], "middles": [entry[1]]})


class SplitList(_BackList):
    def entries(self) -> list[tuple[str, Any]]:
        document = self.window_.session.shown
        return [(f"{s.label or s.way} on {document.body(s.body).name}", k) for k, s in enumerate(document.splits)]

    def take_back(self, entry: Any) -> None:
        self.window_.session.do("prepare.take_back_split", {"number": entry})


class HardPointList(_BackList):
    button = "Let go"

    def entries(self) -> list[tuple[str, Any]]:
        return [(f"hard point at {place_words(p.place)}", (p.body, p.place)) for p in self.window_.session.shown.hard_points]

    def take_back(self, entry: Any) -> None:
        self.window_.session.do("prepare.drop_hard", {"body": entry[0], "near": entry[1]})


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


class MeasureCard(Card):
    """Measuring, with the result drawn in the Stage."""

    LENS = {"distance": "point", "circle": "edge", "angle": "point", "area": "face", "least distance": "body", "wall": "point"}

    def __init__(self, window: MainWindow) -> None:
        super().__init__(window, "Measure", "Choose what to measure, then pick in the Stage; Ctrl adds.")
        self.combo = QComboBox()
        self.combo.setAccessibleName("What to measure")
        for what, text in (
            ("distance", "Distance between two points"), ("circle", "Circle: round edge or three points"), ("angle", "Angle: corner and two points, or two faces"),
            ("area", "Area of faces"), ("least distance", "Least distance of two bodies"), ("wall", "Wall thickness under a point"),
        ):  # fmt: skip
            self.combo.addItem(text, what)
        self.combo.currentIndexChanged.connect(lambda _: window.set_lens(self.LENS[self.combo.currentData()]))
        self.rows.addWidget(self.combo)
        self.result = QLabel("—")
        self.result.setWordWrap(True)
        self.result.setObjectName("effect")
        self.result.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.rows.addWidget(self.result)
        self.line: np.ndarray | None = None
        self.words = ""

    def open(self) -> None:
        super().open()
        self.window_.set_lens(self.LENS[self.combo.currentData()])

    def refresh(self) -> None:
        selection, document = self.window_.selection, self.window_.session.document
        kind, items = selection.kind, selection.items
        lots: dict[str, Any] = {
            "points": [tuple(i[:3]) for i in items] if kind == "point" else [], "edges": items if kind == "edge" else [],
            "faces": items if kind == "face" else [], "bodies": items if kind == "body" else [],
        }  # fmt: skip
        self.line = None
        try:
            found = measured(document, Measure(what=self.combo.currentData(), **lots))
            unit = {"length": document.units, "area": f"{document.units}²", "degrees": ""}[found.unit]
            self.words = f"{found.words} {unit}".strip()
            self.line = found.line
        except Refused as refused:
            self.words = str(refused)
        self.result.setText(self.words[:1].upper() + self.words[1:])


class ViewsCard(Card):
    """Saved views, and a section plane through everything."""

    def __init__(self, window: MainWindow) -> None:
        super().__init__(window, "Views and section", "Views kept by name; a section plane dragged through the part.")
        line = QHBoxLayout()
        self.name = QLineEdit()
        self.name.setPlaceholderText("Name of the view")
        self.name.setAccessibleName("Name of the view")
        keep = QPushButton("Save view")
        keep.clicked.connect(self._save)
        line.addWidget(self.name)
        line.addWidget(keep)
        self.rows.addLayout(line)
        self.list = QListWidget()
        self.list.setMaximumHeight(90)
        self.list.itemClicked.connect(self._go)
        self.rows.addWidget(self.list)
        section = QHBoxLayout()
        self.axis = QComboBox()
        self.axis.setAccessibleName("Section across")
        self.axis.currentIndexChanged.connect(lambda _: self._cut())
        section.addWidget(self.axis)
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setRange(0, 200)
        self.slider.setValue(100)
        self.slider.setAccessibleName("Place of the section")
        self.slider.valueChanged.connect(lambda _: self._cut())
        section.addWidget(self.slider)
        self.flip = QPushButton("Flip")
        self.flip.setCheckable(True)
        self.flip.clicked.connect(lambda: self._cut())
        section.addWidget(self.flip)
        self.rows.addLayout(section)
        self.where = QLabel("No section.")
        self.where.setObjectName("muted")
        self.rows.addWidget(self.where)

    def refresh(self) -> None:
        document = self.window_.session.document
        self.list.clear()
        self.list.addItems([v.name for v in document.views])
        wanted = ["No section", "Across x", "Across y", "Across z", *(p.name for p in document.planes)]
        if [self.axis.itemText(k) for k in range(self.axis.count())] != wanted:
            keep = self.axis.currentText()
            self.axis.blockSignals(True)
            self.axis.clear()
            self.axis.addItems(wanted)
            self.axis.setCurrentText(keep or "No section")
            self.axis.blockSignals(False)

    def _save(self) -> None:
        name = self.name.text().strip() or f"View {len(self.window_.session.document.views) + 1}"
        camera = self.window_.stage.camera.state()
        self.window_.session.do("part.save_view", {"name": name, "camera": camera, "hidden": sorted(self.window_.look.hidden)})

    def _go(self, item: QListWidgetItem) -> None:
        view = next(v for v in self.window_.session.document.views if v.name == item.text())
        self.window_.look.hidden = set(view.hidden)
        self.window_.stage.go_to_view(view.camera)
        self.window_.route.refresh()
        self.window_.redraw()

    def _cut(self) -> None:
        window, k = self.window_, self.axis.currentIndex()
        box = window.stage.box
        if k <= 0 or box is None:
            window.look.section = None
            self.where.setText("No section.")
        else:
            share = self.slider.value() / 200
            if k <= 3:
                normal = np.eye(3)[k - 1]
                origin = box[0] + share * (box[1] - box[0])
                self.where.setText(f"{'xyz'[k - 1]} = {origin[k - 1]:.4g} {window.session.document.units}")
            else:
                plane = window.session.document.planes[k - 4]
                normal = np.array(plane.normal)
                step = (share - 0.5) * float(np.linalg.norm(box[1] - box[0]))
                origin = np.array(plane.origin) + step * normal
                self.where.setText(f"{plane.name}, {step:+.4g} {window.session.document.units} along its normal")
            window.look.section = (origin, -normal if self.flip.isChecked() else normal)
        window.redraw()
