"""A mesh that came without geometry, repaired in the window."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from kind_rivet.core.document.document import Document
from kind_rivet.core.files.exchange import Exchange
from kind_rivet.core.files.vtu import write_vtu
from kind_rivet.core.operations.quality import document_holds
from tests.app.conftest import Driver
from tests.core.test_repair import mixed, needled
from tests.core.test_unfold import channel
from tests.loose import shaken

pytestmark = pytest.mark.window


def pull(driver: Driver, place: np.ndarray, by: QPoint) -> None:
    stage = driver.window.stage
    start = driver.at(place)
    QTest.mousePress(stage, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, start)
    QTest.mouseMove(stage, start + by / 2)
    QTest.mouseMove(stage, start + by)
    QTest.mouseRelease(stage, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, start + by)
    driver.wait(lambda: not driver.window.session.busy)


def test_a_mesh_without_geometry_is_dragged_and_optimised(driver: Driver, tmp_path: Path, tray_mesh: Document) -> None:
    write_vtu(Exchange.of(shaken(tray_mesh, 0.3)), tmp_path / "shaken.vtu")
    window, session = driver.window, driver.window.session
    window.open_path(tmp_path / "shaken.vtu")
    driver.wait(lambda: session.document.mesh.elements)
    driver.stop(6)
    driver.card("Drag nodes")
    mesh = session.document.mesh
    window.stage.look("top")
    for node, moves in ((int(np.argmin(np.linalg.norm(mesh.points - (210, 60, 0.75), axis=1))), True), (_held(session.document), False)):
        window.stage.fit(np.array([mesh.points[node] - 60, mesh.points[node] + 60]))
        QApplication.processEvents()
        before = session.document.mesh.points[node].copy()
        pull(driver, before, QPoint(8, 4))
        after = session.document.mesh.points[node]
        assert bool(np.linalg.norm(after - before) > 0.1) == moves
        assert after[2] == pytest.approx(before[2], abs=1e-6)
    holds = window.live._holds
    assert holds is not None
    pull(driver, session.document.mesh.points[_held(session.document)], QPoint(8, 4))
    assert window.live._holds is holds  # nodes moved, what holds them did not change
    words = window.ledger.messages.item(window.ledger.messages.count() - 1).text()
    assert "corner or a hole" in words
    failing = len(session.document.quality.failing)
    window.selection.clear()
    driver.propose_and_keep(driver.card("Optimise"))
    assert len(session.document.quality.failing) < failing / 10
    driver.stop(1)
    driver.propose_and_keep(driver.card("Faces from a mesh"))
    assert session.document.stale == ()
    assert (session.document.mesh.body == 1).all()


def _held(document: Document) -> int:
    """A node of a round hole in the tray's floor."""
    mesh = document.mesh
    flat = np.flatnonzero(~document_holds(document).movable & (np.abs(mesh.points[:, 2] - 0.75) < 1e-6))
    return int(flat[np.argmin(np.linalg.norm(mesh.points[flat] - (70.9, 100, 0.75), axis=1))])


def test_a_mesh_that_fails_is_repaired_from_the_card(driver: Driver, tmp_path: Path) -> None:
    points, rows = channel()
    write_vtu(Exchange(mixed(*needled(points, rows, 16, 1)).mesh), tmp_path / "needles.vtu")
    window, session = driver.window, driver.window.session
    window.open_path(tmp_path / "needles.vtu")
    driver.wait(lambda: session.document.mesh.elements)
    assert [p.name for p in session.document.parts] == ["needles"]  # nobody named its part
    assert window.stage.hint == "" and window.stage.picker.show_mesh  # to be seen at once, at the first stop
    look = driver.card("First look").words.text()
    assert "a mesh without geometry" in look and f"{len(session.document.quality.failing)} failing" in look
    driver.stop(6)
    failing, elements = len(session.document.quality.failing), session.document.mesh.elements
    assert failing > 12
    card = driver.card("Repair")
    driver.propose_and_keep(card)
    assert len(session.document.quality.failing) == 0
    assert session.document.mesh.elements < elements
    session.undo()
    driver.wait(lambda: session.document.mesh.elements == elements)
    assert len(session.document.quality.failing) == failing
