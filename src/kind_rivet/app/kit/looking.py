"""Measuring, saved views, sections."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QLineEdit, QListWidget, QListWidgetItem, QPushButton, QSlider

from kind_rivet.app.kit.card import Card
from kind_rivet.core.errors import Refused
from kind_rivet.core.operations.part import Measure, measured

if TYPE_CHECKING:
    from kind_rivet.app.window import MainWindow


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
