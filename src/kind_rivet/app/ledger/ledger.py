"""The Ledger: Findings, Quality, Trail, Messages; folds away."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QGuiApplication
from PySide6.QtWidgets import QHBoxLayout, QLabel, QListWidget, QListWidgetItem, QPushButton, QScrollArea, QTabWidget, QVBoxLayout, QWidget

from kind_rivet.app.ledger.histogram import Histogram
from kind_rivet.app.theme import COPPER, FAILING, INK, MUTED
from kind_rivet.core.checks.gate import BLOCKING, WARNING, Finding
from kind_rivet.core.quality.limits import LABELS

if TYPE_CHECKING:
    from kind_rivet.app.window import MainWindow


class Ledger(QTabWidget):
    def __init__(self, window: MainWindow) -> None:
        super().__init__()
        self.window_ = window
        self.setDocumentMode(True)
        self.findings = QListWidget()
        self.findings.itemClicked.connect(self._go)
        self.addTab(self.findings, "Findings")
        quality = QWidget()
        columns = QHBoxLayout(quality)
        columns.setContentsMargins(6, 6, 6, 6)
        self.histogram = Histogram()
        self.histogram.chosen.connect(self._bar)
        columns.addWidget(self.histogram, 3)
        self.limits = QLabel()
        self.limits.setTextFormat(Qt.TextFormat.RichText)
        self.limits.setObjectName("muted")
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(self.limits)
        columns.addWidget(scroll, 2)
        self.addTab(quality, "Quality")
        self.trail = QListWidget()
        self.trail.itemClicked.connect(lambda item: window.session.go_to(item.data(Qt.ItemDataRole.UserRole)))
        self.trail.setToolTip("Click a line to go back (or forward) to that state")
        self.addTab(self.trail, "Trail")
        messages = QWidget()
        rows = QVBoxLayout(messages)
        rows.setContentsMargins(6, 6, 6, 6)
        self.messages = QListWidget()
        self.messages.setWordWrap(True)
        rows.addWidget(self.messages)
        copy = QPushButton("Copy messages")
        copy.clicked.connect(
            lambda: QGuiApplication.clipboard().setText("\n".join(self.messages.item(k).text() for k in range(self.messages.count())))
        )
        rows.addWidget(copy, 0, Qt.AlignmentFlag.AlignRight)
        self.addTab(messages, "Messages")
        self._found: list[Finding] = []

    def refresh(self) -> None:
        session = self.window_.session
        document = session.shown
        self._found = self.window_.findings()
        self.findings.clear()
        for f in self._found:
            item = QListWidgetItem(f.text)
            item.setForeground(QColor(FAILING if f.grade == BLOCKING else COPPER if f.grade == WARNING else MUTED))
            self.findings.addItem(item)
        if not self._found:
            self.findings.addItem(
                "Nothing to report." if document.mesh.elements else "Findings appear here once there is something to check."
            )
        self.setTabText(0, f"Findings {len(self._found)}" if self._found else "Findings")
        self.histogram.show_index(document.quality.index)
        worst = document.quality.worst_by_metric(document.mesh) if document.mesh.elements else {}
        size = document.choices.size
        rows = []
        for limit in document.limit_sheet.limits:
            if limit.kinds == "trias":
                continue
            label, unit, _ = LABELS[limit.metric]
            scale = size if limit.of_size else 1.0
            value = worst.get(limit.metric)
            bad = value is not None and (value - limit.limit * scale) * (1 if limit.limit > limit.comfort else -1) > 0
            shown = "" if value is None else f"<td style='color:{FAILING if bad else INK}'>{value:.3g}</td>"
            suffix = unit if unit != "length" else ""
            rows.append(
                f"<tr><td>{label}&nbsp;</td><td>{limit.comfort * scale:.3g} / {limit.limit * scale:.3g}{suffix}&nbsp;&nbsp;</td>{shown}</tr>"
            )
        self.limits.setText(
            f"<b>{document.limit_sheet.name}</b><table><tr><td></td><td>comfort / limit</td><td>worst</td></tr>{''.join(rows)}</table>"
        )
        self.trail.clear()
        for k, state in enumerate(session.history):
            text = state.trail[-1].sentence if state.trail else "Start"
            item = QListWidgetItem(f"{k}  {text}")
            item.setData(Qt.ItemDataRole.UserRole, k)
            if k > session.at:
                item.setForeground(QColor(MUTED))
            self.trail.addItem(item)
        self.trail.setCurrentRow(session.at)

    def _go(self, item: QListWidgetItem) -> None:
        row = self.findings.row(item)
        if row >= len(self._found):
            return
        finding, mesh = self._found[row], self.window_.session.shown.mesh
        if finding.elements:
            self.window_.set_lens("element")
            self.window_.selection.set("element", [int(mesh.element_id[e]) for e in finding.elements])
            self.window_.frame_element(int(mesh.element_id[finding.elements[0]]))
        elif finding.nodes:
            self.window_.set_lens("node")
            self.window_.selection.set("node", [int(mesh.node_id[n]) for n in finding.nodes])

    def _bar(self, low: float, high: float) -> None:
        document = self.window_.session.shown
        index = document.quality.index
        inside = (index >= low) & ((index < high) | (high >= 1.0))
        self.window_.set_lens("element")
        self.window_.selection.set("element", [int(e) for e in document.mesh.element_id[np.flatnonzero(inside)]])
        self.window_.say(f"{int(inside.sum())} elements with an index from {low:g} to {high:g} are chosen.", "note")

    def add_message(self, words: str, kind: str) -> None:
        item = QListWidgetItem(words)
        item.setForeground(QColor({"problem": FAILING, "done": INK}.get(kind, MUTED)))
        self.messages.addItem(item)
        self.messages.scrollToBottom()
