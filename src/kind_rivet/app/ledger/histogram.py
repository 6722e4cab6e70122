"""The quality histogram: bars of elements by index; a bar clicked chooses its elements."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QWidget

from kind_rivet.app.theme import GRADE_COLOURS, INK, MUTED, PANEL, RULE
from kind_rivet.core.geometry.carriers import Floats

BARS = 20


class Histogram(QWidget):
    chosen = Signal(float, float)  # index from, to

    def __init__(self) -> None:
        super().__init__()
        self.counts = np.zeros(BARS, int)
        self.edges = np.linspace(-1, 1, BARS + 1)
        self.setMinimumHeight(90)
        self.setMouseTracking(True)
        self.setAccessibleName("Histogram of the quality index")

    def show_index(self, index: Floats) -> None:
        good = index[~np.isnan(index)]
        self.counts = np.histogram(np.clip(good, -1, 1), self.edges)[0]
        self.update()

    def bar(self, k: int) -> QRectF:
        w = (self.width() - 50) / BARS
        most = max(int(self.counts.max()), 1)
        # Square root: a handful of bad elements must not vanish beside thousands of good ones.
        h = (self.height() - 38) * np.sqrt(self.counts[k] / most)
        return QRectF(30 + k * w + 1, self.height() - 20 - h, w - 2, h)

    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        p.fillRect(self.rect(), QColor(PANEL))
        for k in range(BARS):
            middle = (self.edges[k] + self.edges[k + 1]) / 2
            p.fillRect(self.bar(k), QColor(GRADE_COLOURS[0 if middle >= 0.5 else 1 if middle >= 0 else 2]))
            if self.counts[k]:
                p.setPen(QColor(INK))
                box = self.bar(k)
                p.drawText(QRectF(box.left() - 10, box.top() - 15, box.width() + 20, 14), Qt.AlignmentFlag.AlignCenter, str(self.counts[k]))
        p.setPen(QColor(RULE))
        p.drawLine(30, self.height() - 20, self.width() - 20, self.height() - 20)
        p.setPen(QColor(MUTED))
        for value in (-1.0, -0.5, 0.0, 0.5, 1.0):
            x = 30 + (value + 1) / 2 * (self.width() - 50)
            p.drawText(QRectF(x - 30, self.height() - 18, 60, 16), Qt.AlignmentFlag.AlignCenter, f"{value:g}")
        p.end()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        k = int((event.position().x() - 30) / ((self.width() - 50) / BARS))
        if 0 <= k < BARS:
            self.chosen.emit(float(self.edges[k]), float(self.edges[k + 1]))
