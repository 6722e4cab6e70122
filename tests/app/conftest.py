"""A real window with a worker, driven by mouse and keys."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QPushButton, QWidget

from kind_rivet.worker.pool import start_server

start_server()

from kind_rivet.app.theme import apply_theme  # noqa: E402
from kind_rivet.app.window import MainWindow  # noqa: E402


class Driver:
    """What a person does: looks for a button, clicks, types, waits."""

    def __init__(self, window: MainWindow) -> None:
        self.window = window

    def wait(self, condition: Callable[[], object], limit: float = 90.0) -> None:
        until = time.monotonic() + limit
        while not condition():
            QApplication.processEvents()
            time.sleep(0.005)
            assert time.monotonic() < until, "waited in vain"
        QApplication.processEvents()

    def key(self, key: Qt.Key, modifier: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        if not self.window.isActiveWindow():  # without a window manager the keyboard can get lost
            self.window.activateWindow()
            QTest.qWaitForWindowActive(self.window, 2000)
        QTest.keyClick(self.window, key, modifier)
        QApplication.processEvents()

    def button(self, text: str, within: QWidget | None = None) -> QPushButton:
        found = [b for b in (within or self.window).findChildren(QPushButton) if b.isVisible() and b.text() == text]
        assert found, f"no button {text}"
        return found[0]

    def click(self, widget: QWidget) -> None:
        QTest.mouseClick(widget, Qt.MouseButton.LeftButton)
        QApplication.processEvents()

    def stop(self, number: int) -> None:
        """Go to a stop of the Route with its key."""
        self.window.stage.setFocus()
        self.key(Qt.Key(int(Qt.Key.Key_0) + number))

    def card(self, title: str) -> QWidget:
        """Unfold a card of the present stop by its head."""
        card = next(c for c in self.window.kit.cards[self.window.kit.stop] if c.title == title)
        if not card.is_open:
            self.click(card.head)
        assert card.is_open
        return card

    def type(self, widget: QWidget, text: str) -> None:
        widget.setFocus()
        widget.selectAll()  # type: ignore[attr-defined]
        QTest.keyClicks(widget, text)

    def propose_and_keep(self, card: QWidget) -> None:
        before = self.window.session.document
        self.click(self.button("Propose", card))
        self.wait(lambda: self.window.session.proposal is not None or not self.window.session.busy)
        assert self.window.session.proposal is not None, self.window.ledger.messages.item(self.window.ledger.messages.count() - 1).text()
        self.click(self.button("Keep", card))
        self.wait(lambda: self.window.session.document is not before)

    def at(self, point: object) -> QPoint:
        """Where a point in space lies in the Stage."""
        return self.window.stage._points(point)[0].toPoint()  # type: ignore[arg-type]

    def click_stage(self, point: object, modifier: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        QTest.mouseClick(self.window.stage, Qt.MouseButton.LeftButton, modifier, self.at(point))
        QApplication.processEvents()


@pytest.fixture
def driver(qapp: QApplication, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Driver]:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    apply_theme(qapp)
    window = MainWindow()
    window.resize(1280, 800)
    window.show()
    window.activateWindow()  # without a window manager nothing else gives it the keyboard
    assert QTest.qWaitForWindowActive(window, 5000)
    window.session.warm()
    QApplication.processEvents()
    yield Driver(window)
    window.close()
