"""Stopping, dying workers, bad input, recovery: the window stays alive and the document as it was."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication

from kind_rivet.app.window import SAMPLE
from kind_rivet.core.document.document import Document
from kind_rivet.core.document.store import load, save
from tests.app.conftest import Driver

pytestmark = pytest.mark.window


def last_message(driver: Driver) -> str:
    messages = driver.window.ledger.messages
    return messages.item(messages.count() - 1).text()


def test_stop_works_at_once_and_nothing_is_lost(driver: Driver, tray_sheet: Document) -> None:
    session = driver.window.session
    session.begin(tray_sheet)
    driver.stop(4)
    session.propose("mesh.shells", {"size": 1.2})
    driver.wait(lambda: session.busy and driver.window.stop_button.isVisible())
    started = time.monotonic()
    driver.click(driver.window.stop_button)
    assert time.monotonic() - started < 2.0
    assert not session.busy
    assert session.document is tray_sheet
    session.propose("mesh.shells", {"size": 12.0})
    driver.wait(lambda: session.proposal)


def test_a_dying_worker_costs_only_its_operation(driver: Driver, tray_sheet: Document) -> None:
    session = driver.window.session
    session.begin(tray_sheet)
    session.propose("mesh.shells", {"size": 1.5})
    assert session._worker is not None
    os.kill(session._worker.process.pid, signal.SIGKILL)
    driver.wait(lambda: not session.busy)
    assert "broke down" in last_message(driver)
    assert session.document is tray_sheet
    session.propose("mesh.shells", {"size": 12.0})
    driver.wait(lambda: session.proposal)


@pytest.mark.parametrize("name", ["missing.step", "words.step", "cut.step"])
def test_bad_parts_leave_the_window_alive(driver: Driver, tmp_path: Path, name: str) -> None:
    session = driver.window.session
    (tmp_path / "words.step").write_text("nothing")
    (tmp_path / "cut.step").write_bytes(SAMPLE.read_bytes()[:50_000])
    before = session.document
    driver.window.open_path(tmp_path / name)
    driver.wait(lambda: not session.busy)
    assert session.document is before
    assert "⚠" in driver.window.pulse.text()
    assert "Traceback" not in last_message(driver)


def test_refusals_are_said_in_the_pulse_line(driver: Driver, tray_sheet: Document) -> None:
    session = driver.window.session
    session.begin(tray_sheet)
    driver.stop(4)
    card = driver.card("Mesh with shells")
    driver.type(card.form.fields["size"], "0")  # type: ignore[attr-defined]
    driver.click(driver.button("Propose", card))
    driver.wait(lambda: not session.busy)
    assert "positive length" in driver.window.pulse.text()
    assert session.proposal is None


def test_drop_goes_back_for_nothing(driver: Driver, tray_sheet: Document) -> None:
    session = driver.window.session
    session.begin(tray_sheet)
    driver.stop(4)
    card = driver.card("Mesh with shells")
    driver.type(card.form.fields["size"], "12")  # type: ignore[attr-defined]
    driver.click(driver.button("Propose", card))
    driver.wait(lambda: session.proposal)
    driver.window.stage.setFocus()
    driver.key(Qt.Key.Key_Escape)
    assert session.proposal is None
    assert session.document is tray_sheet


def test_window_answers_while_a_worker_works(driver: Driver, tray_sheet: Document) -> None:
    session = driver.window.session
    session.begin(tray_sheet)
    session.propose("mesh.shells", {"size": 4.0})
    longest, last = 0.0, time.monotonic()
    while session.busy:
        QApplication.processEvents()
        now = time.monotonic()
        if session.busy:
            longest = max(longest, now - last)
        last = time.monotonic()
        time.sleep(0.002)
    assert longest < 2.0  # a frozen window would stand still for the whole meshing time


KILLED = """
import os, sys, time
from pathlib import Path
os.environ["QT_QPA_PLATFORM"] = "offscreen"
if __name__ == "__main__":
    from kind_rivet.worker.pool import start_server
    start_server()
    from PySide6.QtWidgets import QApplication
    from kind_rivet.app.window import MainWindow
    app = QApplication([])
    w = MainWindow()
    w.show()
    w.open_path(Path(sys.argv[1]))
    w.session.propose("mesh.shells", {"size": 2.0})
    print("working", flush=True)
    while True:
        app.processEvents()
        time.sleep(0.01)
"""


def test_kill_while_meshing_keeps_what_was_saved(tray_sheet: Document, tmp_path: Path) -> None:
    path = tmp_path / "a.rivet"
    save(tray_sheet, path)
    script = tmp_path / "killed.py"
    script.write_text(KILLED)
    for wait in (0.1, 0.6):
        process = subprocess.Popen(
            [sys.executable, str(script), str(path)], stdout=subprocess.PIPE, text=True, env={**os.environ, "XDG_STATE_HOME": str(tmp_path)}
        )
        assert process.stdout is not None
        assert process.stdout.readline() == "working\n"
        time.sleep(wait)
        os.kill(process.pid, signal.SIGKILL)
        process.wait()
        back = load(path)
        assert back.sheets[1].proof == tray_sheet.sheets[1].proof


def test_unsaved_work_comes_back(driver: Driver, tray_sheet: Document) -> None:
    session = driver.window.session
    session.begin(tray_sheet)
    session._write_recovery()
    driver.wait(lambda: session.recovery_path.exists())
    from kind_rivet.app.session import Session

    other = Session()
    assert other.recover()
    assert other.document.sheets[1].proof == tray_sheet.sheets[1].proof
    assert other.path is None


def test_python_keeps_its_none(qapp: QApplication) -> None:
    """Guards against a binding that loses references to None and aborts after some thousand calls."""
    before = sys.getrefcount(None)
    for _ in range(2000):
        qapp.processEvents()
    assert sys.getrefcount(None) > before - 100
