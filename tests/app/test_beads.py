"""Beads turned faster than the mesh can follow."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtWidgets import QApplication

from kind_rivet.app.kit.divisions import DivisionsCard
from kind_rivet.core.document.document import Document
from tests.app.conftest import Driver

pytestmark = pytest.mark.window


def _beads(driver: Driver, document: Document) -> tuple[DivisionsCard, list[tuple[int, int]]]:
    """The card of divisions, open, and the two longest edges whose beads nothing covers."""
    driver.window.session.begin(document)
    QApplication.processEvents()
    driver.stop(4)
    card = driver.card("Divisions of edges")
    assert isinstance(card, DivisionsCard)
    driver.window.stage.look("oblique")
    QApplication.processEvents()
    stage = driver.window.stage
    free = [b[0] for b in stage.beads if stage.bead_at(driver.at(b[1])) == b]
    return card, free[:2]


def _turn(driver: Driver, edge: tuple[int, int], notches: int) -> None:
    """Wheel notches over a bead, one after the other, without waiting."""
    stage = driver.window.stage
    for _ in range(abs(notches)):
        at = QPointF(stage._points(next(b[1] for b in stage.beads if b[0] == edge))[0])
        wheel = QPoint(0, 120 if notches > 0 else -120)
        event = QWheelEvent(
            at,
            QPointF(stage.mapToGlobal(at)),
            QPoint(),
            wheel,
            Qt.MouseButton.NoButton,
            Qt.KeyboardModifier.NoModifier,
            Qt.ScrollPhase.NoScrollPhase,
            False,
        )
        QApplication.sendEvent(stage, event)


def _text(driver: Driver, edge: tuple[int, int]) -> str:
    return str(next(b[2] for b in driver.window.stage.beads if b[0] == edge))


def _count(document: Document | None, edge: tuple[int, int]) -> int:
    assert document is not None
    return len(document.mesh_edges[edge[0]][edge[1]]) - 1


def _settled(driver: Driver, card: DivisionsCard) -> bool:
    return driver.window.session.proposal is not None and not driver.window.session.busy and card._underway is None


def test_every_notch_counts_however_fast_the_wheel_turns(driver: Driver, tray_mesh: Document) -> None:
    session = driver.window.session
    card, (edge, _) = _beads(driver, tray_mesh)
    before, steps = _count(tray_mesh, edge), len(session.history)
    _turn(driver, edge, 5)
    assert _text(driver, edge) == str(before + 5)  # the bead does not wait for the mesh
    driver.wait(lambda: _settled(driver, card))
    assert _count(session.proposal, edge) == before + 5
    _turn(driver, edge, -2)
    driver.wait(lambda: _settled(driver, card))
    assert _count(session.proposal, edge) == before + 3
    assert len(session.history) == steps  # answers to the same question replace each other
    driver.key(Qt.Key.Key_Return)
    driver.wait(lambda: session.proposal is None)
    assert _count(session.document, edge) == before + 3
    assert len(session.history) == steps + 1


def test_two_beads_turned_one_after_the_other_both_count(driver: Driver, tray_mesh: Document) -> None:
    session = driver.window.session
    card, (first, second) = _beads(driver, tray_mesh)
    hand = [_count(tray_mesh, e) for e in (first, second)]
    _turn(driver, first, 2)
    _turn(driver, second, 4)
    driver.wait(lambda: _settled(driver, card))
    given = session.proposal.choices.divisions["1"]  # type: ignore[union-attr]
    assert given[first[1]] == hand[0] + 2
    assert given[second[1]] == hand[1] + 4


def test_dropping_forgets_what_still_waits(driver: Driver, tray_mesh: Document) -> None:
    session = driver.window.session
    card, (first, second) = _beads(driver, tray_mesh)
    count = _count(tray_mesh, first)
    _turn(driver, first, 3)
    _turn(driver, second, 1)
    driver.window.drop()
    QApplication.processEvents()
    assert card.wanted(*first) is None
    driver.wait(lambda: not session.busy)
    assert session.proposal is None
    assert session.document is tray_mesh
    _turn(driver, first, 1)
    driver.wait(lambda: _settled(driver, card))
    assert _count(session.proposal, first) == count + 1
