"""Grading an edge by drawing a grip along it in the Stage."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from kind_rivet.app.kit.divisions import DivisionsCard
from kind_rivet.app.stage.grips import MOST, REST, Grip, grading_at, share_of
from kind_rivet.core.document.document import Document
from kind_rivet.core.meshing.rules import Grading
from tests.app.conftest import Driver

pytestmark = pytest.mark.window


def test_a_grip_and_its_grading_tell_the_same() -> None:
    assert grading_at(REST, True, False).ratio == 1
    assert grading_at(0.0, True, False) == Grading("start", MOST)
    assert grading_at(0.0, False, False) == Grading("end", MOST)
    assert grading_at(0.1, False, True).towards == "both ends"
    assert grading_at(0.4, True, False).towards == "end"  # long sides at the start
    assert grading_at(0.4, True, True).towards == "middle"
    for share in (0.02, 0.1, 0.2):
        for at_start in (True, False):
            assert share_of(grading_at(share, at_start, False), at_start) == pytest.approx(share, abs=0.01)
    assert share_of(grading_at(0.1, True, False), False) == REST
    assert share_of(None, True) == REST


def _draw(driver: Driver, grip: Grip, to: object, held: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
    stage = driver.window.stage
    start, end = driver.at(grip.place), driver.at(to)
    QTest.mousePress(stage, Qt.MouseButton.LeftButton, held, start)
    for share in (0.4, 0.8, 1.0):
        at = QPoint(round(start.x() + share * (end.x() - start.x())), round(start.y() + share * (end.y() - start.y())))
        QTest.mouseMove(stage, at)
        move = _moved(stage, at, held)
        QApplication.sendEvent(stage, move)
    assert stage.marks and "short sides" in stage.hover_text
    QTest.mouseRelease(stage, Qt.MouseButton.LeftButton, held, end)
    QApplication.processEvents()


def _moved(stage: object, at: QPoint, held: Qt.KeyboardModifier) -> object:
    from PySide6.QtCore import QEvent, QPointF
    from PySide6.QtGui import QMouseEvent

    place = QPointF(at)
    return QMouseEvent(
        QEvent.Type.MouseMove,
        place,
        stage.mapToGlobal(place),
        Qt.MouseButton.NoButton,
        Qt.MouseButton.LeftButton,
        held,  # type: ignore[attr-defined]
    )


def test_drawing_a_grip_grades_the_edge_and_is_kept(driver: Driver, tray_mesh: Document) -> None:
    w, session = driver.window, driver.window.session
    session.begin(tray_mesh)
    QApplication.processEvents()
    driver.stop(4)
    driver.card("Divisions of edges")
    w.stage.look("oblique")
    shape = tray_mesh.sheets[1].shape
    e = int(np.argmax(np.where([edge.closed for edge in shape.edges], 0, shape.edge_length)))
    assert not w.stage.grips
    w.selection.set("edge", [(1, e)])
    QApplication.processEvents()
    assert len(w.stage.grips) == 2
    count = len(tray_mesh.mesh_edges[1][e]) - 1
    grip = next(g for g in w.stage.grips if g.at_start)
    first = shape.points[shape.edges[e].nodes[0]]
    _draw(driver, grip, 0.35 * grip.place + 0.65 * first)
    driver.wait(lambda: session.proposal)
    driver.key(Qt.Key.Key_Return)
    driver.wait(lambda: session.proposal is None)
    graded = session.document.choices.grading["1"][e]
    assert graded.towards == "start" and graded.ratio > 3
    nodes = session.document.mesh_edges[1][e]
    assert len(nodes) - 1 == count
    index = session.document.node_index
    sides = np.linalg.norm(np.diff(session.document.mesh.points[[index[int(n)] for n in nodes]], axis=0), axis=1)
    assert sides[-1] > 3 * sides[0]
    # With Ctrl both ends go together; the grip now lies where the grading put it.
    grip = next(g for g in w.stage.grips if not g.at_start)
    _draw(driver, grip, shape.points[shape.edges[e].nodes[-1]] * 0.5 + 0.5 * grip.place, Qt.KeyboardModifier.ControlModifier)
    driver.wait(lambda: session.proposal)
    driver.key(Qt.Key.Key_Return)
    driver.wait(lambda: session.proposal is None)
    assert session.document.choices.grading["1"][e].towards == "both ends"


def test_the_field_shows_the_count_of_the_chosen_edge(driver: Driver, tray_mesh: Document) -> None:
    w, session = driver.window, driver.window.session
    session.begin(tray_mesh)
    QApplication.processEvents()
    driver.stop(4)
    card = driver.card("Divisions of edges")
    assert isinstance(card, DivisionsCard)
    shape = tray_mesh.sheets[1].shape
    lines = tray_mesh.mesh_edges[1]
    e, other = (int(k) for k in np.argsort(np.where([edge.closed for edge in shape.edges], 0, -shape.edge_length))[[0, -1]])
    w.selection.set("edge", [(1, e)])
    QApplication.processEvents()
    assert card.count.value() == len(lines[e]) - 1
    driver.type(card.count, str(len(lines[e]) + 3))
    card.refresh()
    assert card.count.value() == len(lines[e]) + 3  # what was typed stays until another edge is chosen
    driver.click(driver.button("Propose", card))
    driver.wait(lambda: session.proposal)
    assert session.proposal is not None
    assert card.count.value() == len(session.proposal.mesh_edges[1][e]) - 1
    driver.click(driver.button("Drop", card))
    QApplication.processEvents()
    w.selection.set("edge", [(1, e), (1, other)])
    QApplication.processEvents()
    counts = sorted(len(lines[k]) - 1 for k in (e, other))
    assert f"{counts[0]} to {counts[1]} divisions" in card.chosen.text()
