"""The whole way in the real window with mouse and keys: from the STEP file to delivered sets, saved and opened again."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog

from kind_rivet.app.kit.cards import DeliverCard, WorklistCard
from kind_rivet.app.kit.divisions import DivisionsCard
from kind_rivet.app.kit.form import NumberField
from tests.app.conftest import Driver

pytestmark = pytest.mark.window


def test_from_step_file_to_delivered_sets(driver: Driver, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    w, session = driver.window, driver.window.session
    # Open the sample part and look at it.
    driver.click(driver.button("Open the sample tray"))
    driver.wait(lambda: session.document.bodies)
    assert "Suggested size" in w.kit.open_card.words.text()  # type: ignore[union-attr]
    # Leave out the small holes.
    driver.stop(2)
    card = driver.card("Leave out small holes")
    driver.propose_and_keep(card)
    assert len(session.document.left_out) == 6
    # Midsurface.
    driver.stop(3)
    driver.propose_and_keep(driver.card("Extract midsurfaces"))
    driver.card("Proof")
    assert "Weigh-in" in w.kit.open_card.words.text()  # type: ignore[union-attr]
    # Mesh: another size than the suggested one, by typing; the proposal first, then Enter keeps it.
    driver.stop(4)
    card = driver.card("Mesh with shells")
    field = card.form.fields["size"]  # type: ignore[attr-defined]
    assert isinstance(field, NumberField)
    driver.type(field, "9")
    driver.click(driver.button("Propose", card))
    driver.wait(lambda: session.proposal)
    assert not session.document.mesh.elements
    w.stage.setFocus()
    driver.key(Qt.Key.Key_Return)
    driver.wait(lambda: session.document.mesh.elements)
    # One division more on the longest edge, by its bead.
    divisions = driver.card("Divisions of edges")
    assert isinstance(divisions, DivisionsCard)
    w.stage.look("oblique")
    QApplication.processEvents()
    bead = max(w.stage.beads, key=lambda b: int(b[2]))
    edge, count = bead[0], int(bead[2])
    driver.click_stage(bead[1])
    driver.wait(lambda: session.proposal)
    driver.key(Qt.Key.Key_Return)
    driver.wait(lambda: session.proposal is None)
    assert len(session.document.mesh_edges[edge[0]][edge[1]]) - 1 != count
    # Material, beams along two edges.
    driver.stop(5)
    driver.propose_and_keep(driver.card("Assign a material"))
    card = driver.card("Beams along edges")
    shape = session.document.sheets[1].shape
    long_edges = [int(e) for e in np.argsort(-shape.edge_length)[:2]]
    w.stage.look("top")
    for k, e in enumerate(long_edges):
        nodes = shape.edges[e].nodes
        middle = shape.points[nodes].mean(axis=0)
        driver.click_stage(middle, Qt.KeyboardModifier.ControlModifier if k else Qt.KeyboardModifier.NoModifier)
    assert len(w.selection.items) == 2
    driver.propose_and_keep(card)
    assert session.document.mesh.counts()["beam"] > 20
    # One spider per chosen hole, with a mass.
    card = driver.card("Rigid spiders on holes")
    holes = [h for h in session.document.mesh_holes[1] if abs(h.radius - 4.5) < 0.01 and abs(h.axis[2]) > 0.9][:2]
    for k, hole in enumerate(holes):
        driver.click_stage(np.array(hole.centre), Qt.KeyboardModifier.ControlModifier if k else Qt.KeyboardModifier.NoModifier)
    assert len(w.selection.items) == 2
    driver.type(card.form.fields["mass"], "0.004")  # type: ignore[attr-defined]
    driver.propose_and_keep(card)
    assert len(session.document.spiders) == 2
    assert [m.mass for m in session.document.masses] == [0.004, 0.004]
    # A few solid layers on two elements; the direction is shown first and flipped with F.
    card = driver.card("Solid layers from shells")
    floor = [
        e
        for e in range(session.document.mesh.elements)
        if session.document.mesh.is_shell[e] and session.document.mesh.face[e] == session.document.mesh.face[0]
    ]
    chosen = floor[len(floor) // 2]
    driver.click_stage(session.document.mesh.centres()[chosen])
    assert w.selection.kind == "element"
    assert w.stage.ghost_lines
    before = w.stage.ghost_lines[0][1] - w.stage.ghost_lines[0][0]
    w.stage.setFocus()
    driver.key(Qt.Key.Key_F)
    after = w.stage.ghost_lines[0][1] - w.stage.ghost_lines[0][0]
    assert np.allclose(before, -after)
    driver.propose_and_keep(card)
    assert session.document.mesh.counts()["hex"] >= 1
    # Colour by index, go to the worst, repair.
    driver.stop(6)
    assert w.look.colour == "index"
    card = driver.card("Worklist")
    assert isinstance(card, WorklistCard)
    w.stage.setFocus()
    driver.key(Qt.Key.Key_N)
    assert w.selection.kind == "element"
    assert len(w.selection.items) == 1
    driver.card("Drag nodes")
    holds_before = session.document.mesh.points.copy()
    mesh = session.document.mesh
    from kind_rivet.core.operations.quality import document_holds

    inside = np.flatnonzero(document_holds(session.document).movable & (np.abs(mesh.points[:, 2] - 0.75) < 1e-6))
    node = inside[len(inside) // 3]
    w.stage.look("top")
    w.stage.fit(np.array([mesh.points[node] - 60, mesh.points[node] + 60]))
    QApplication.processEvents()
    start = driver.at(mesh.points[node])
    QTest.mousePress(w.stage, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, start)
    QTest.mouseMove(w.stage, start + QPoint(5, 3))
    QTest.mouseMove(w.stage, start + QPoint(9, 6))
    assert "worst" in w.stage.hover_text
    QTest.mouseRelease(w.stage, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, start + QPoint(9, 6))
    driver.wait(lambda: not session.busy)
    assert np.any(session.document.mesh.points != holds_before)
    worst_before = session.document.quality.mesh_index
    w.selection.clear()
    driver.propose_and_keep(driver.card("Optimise"))
    assert session.document.quality.mesh_index >= worst_before
    # A set of a hole's nodes and one of a ring's elements.
    driver.stop(7)
    w.stage.fit()
    card = driver.card("Make a set")
    w.stage.look("top")
    for lens, name in (("hole", "bolt hole"), ("ring", "bolt ring")):
        driver.click(w.lens_buttons[lens])
        driver.click_stage(np.array(holes[0].centre))
        driver.type(card.form.fields["name"], name)  # type: ignore[attr-defined]
        driver.propose_and_keep(card)
    sets = {s.name: s for s in session.document.sets}
    assert sets["bolt hole"].kind == "node"
    assert len(sets["bolt hole"].ids) == holes[0].divisions
    assert sets["bolt ring"].kind == "element"
    assert all(s.rule is not None for s in sets.values())
    # Deliver.
    card = driver.card("Hand over")
    assert isinstance(card, DeliverCard)
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", staticmethod(lambda *a, **k: str(tmp_path / "out")))
    driver.click(driver.button("Deliver into a folder …", card))
    assert {p.name for p in (tmp_path / "out").iterdir()} == {"mesh.vtu", "mesh.exo", "sets.json", "report.json"}
    named = {s["name"]: s["count"] for s in json.loads((tmp_path / "out" / "sets.json").read_text())["sets"]}
    assert named["bolt hole"] == holes[0].divisions
    # Save, open again, find everything.
    monkeypatch.setattr(QFileDialog, "getSaveFileName", staticmethod(lambda *a, **k: (str(tmp_path / "tray.rivet"), "")))
    driver.key(Qt.Key.Key_S, Qt.KeyboardModifier.ControlModifier)
    driver.wait(lambda: session.path is not None)
    given = session.document
    w.open_path(tmp_path / "tray.rivet")
    back = session.document
    assert back is not given
    assert np.array_equal(back.mesh.conn, given.mesh.conn)
    assert [s.name for s in back.sets] == ["bolt hole", "bolt ring"]
    assert len(back.spiders) == 2
    assert len(back.trail) == len(given.trail)
    assert not session.unsaved


def test_undo_runs_deep(driver: Driver) -> None:
    w = driver.window
    session = w.session
    from dataclasses import replace

    for k in range(250):
        session.begin(replace(session.document, name=f"step {k}"))
    w.stage.setFocus()
    for _ in range(210):
        driver.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert session.document.name == "step 39"
    driver.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    assert session.document.name == "step 40"


def test_every_action_can_be_found(driver: Driver) -> None:
    w = driver.window
    driver.key(Qt.Key.Key_Space, Qt.KeyboardModifier.ControlModifier)
    assert w.finder.isVisible()
    QTest.keyClicks(w.finder.line, "rigid spiders")
    assert w.finder.list.count() == 1
    QTest.keyClick(w.finder.line, Qt.Key.Key_Return)
    assert not w.finder.isVisible()
    assert w.look.stop == "mixed"
    assert w.kit.open_card is not None
    assert w.kit.open_card.title == "Rigid spiders on holes"
    from kind_rivet.core.operations import all_operations

    titles = {a.title for a in w.actions_.actions.values()}
    for op in all_operations().values():
        shown = {"part.open": "Open a part", "prepare.leave_out_hole": "Single holes", "prepare.take_back": "Single holes", "mesh.divisions": "Divisions of edges",
                 "quality.move_node": "Drag nodes", "sets.remove": None, "midsurface.take_back": "Walls by hand"}.get(op.name, op.title)  # fmt: skip
        assert shown is None or shown in titles, op.name
