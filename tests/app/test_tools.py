"""Every card for building and preparing geometry, used with mouse and keys, kept, undone; and what the Stage shows of it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QListWidget

from kind_rivet.app.kit.card import Card, OperationCard
from kind_rivet.app.kit.gather import ChoiceCard, GatherCard
from kind_rivet.app.kit.looking import MeasureCard, ViewsCard
from kind_rivet.app.kit.meshing import RingTableCard
from kind_rivet.app.kit.preparing import FaultsCard, RevisionCard
from kind_rivet.app.kit.walls import ProofCard
from kind_rivet.core.document.document import Document
from kind_rivet.core.operations import perform
from tests.app.conftest import Driver, MainWindow, apply_theme
from tests.conftest import EXAMPLES
from tests.core.test_bodies import with_boxes
from tests.core.test_by_hand import document_of
from tests.thin_parts import box, cut, cylinder, fused

pytestmark = pytest.mark.window
CTRL = Qt.KeyboardModifier.ControlModifier
Point = tuple[float, float, float]


def plates() -> Document:
    """A box with a working point, two lines, a circle and a plane face above it."""
    d = with_boxes((0, 0, 0, 60, 40, 2), (60, 0, 0, 30, 40, 2))
    d = perform(d, "build.line", {"points": [(0, 60, 0), (60, 60, 0)], "name": "Straight"})
    d = perform(d, "build.circle", {"points": [(30, 90, 0)], "radius": 8.0, "name": "Ring"})
    d = perform(d, "build.line", {"points": [(10, 70, 0), (50, 70, 0), (50, 110, 0), (10, 110, 0)], "closed": True, "name": "Frame"})
    return perform(d, "build.point", {"points": [(75, 80, 0)], "name": "Mark"})


@dataclass(frozen=True)
class Use:
    """One use of a card: where (stop, card, way), what is typed, what is clicked for each slot, and what must then hold."""

    stop: int
    card: str
    way: str
    clicks: list[list[Point]]
    holds: Callable[[Document, Document], bool]
    typed: dict[str, str]
    start: str = "plates"
    view: str = "top"


def bodies_more(n: int) -> Callable[[Document, Document], bool]:
    return lambda before, after: len(after.bodies) == len(before.bodies) + n


USES = [
    Use(1, "Build", "build.plane", [[(0, 0, 2), (60, 0, 2), (60, 40, 2)], []], lambda a, b: len(b.planes) == 1, {}),
    Use(1, "Build", "build.point", [[(0, 60, 0)], []], lambda a, b: b.points[-1].place == pytest.approx((0, 60, 0)), {}),
    Use(1, "Build", "build.line", [[(0, 60, 0), (75, 80, 0), (60, 60, 0)]], bodies_more(1), {}),
    Use(1, "Build", "build.circle", [[(75, 80, 0)]], bodies_more(1), {"radius": "6"}),
    Use(1, "Build", "build.curve", [[(30, 60, 0)]], bodies_more(1), {}),
    Use(1, "Build", "build.face", [[(30, 70, 0), (38, 90, 0)]], bodies_more(1), {}),
    Use(1, "Build", "build.extrude", [[(30, 60, 0)]], bodies_more(1), {"length": "12"}),
    Use(1, "Build", "build.revolve", [[(30, 60, 0)], []], bodies_more(1), {"axis": "1, 0, 0", "origin": "0, 80, 0", "angle": "90"}),
    Use(1, "Build", "build.scale", [[(38, 90, 0)], [(75, 80, 0)]], bodies_more(1), {"factor": "1.2"}),
    Use(1, "Build", "build.project", [[(30, 60, 0)], [(30, 20, 2)]], bodies_more(1), {"direction": "0, -1, 0"}),
    Use(1, "Copies of bodies", "", [[(30, 20, 2)], []], bodies_more(1), {"by": "0, 0, 20"}),
    Use(2, "Look past edges", "prepare.look_past", [[(60, 20, 2)]], lambda a, b: len(b.looked_past) == 1, {}),
    Use(2, "Look past edges", "prepare.look_past_by", [], lambda a, b: len(b.looked_past) > 3, {"below": "5"}, "slivers"),
    Use(2, "Split walls", "prepare.split_ring", [[(40, 30, 0)]], lambda a, b: b.splits[-1].way == "ring", {"distance": "4"}, "slivers"),
    Use(2, "Split walls", "prepare.split_line", [[(110, 30, 0)], [(110, 100, 0)]], lambda a, b: len(b.splits) == 1, {}, "slivers"),
    Use(2, "Split walls", "prepare.split_perpendicular", [[(130, 100, 0)], [(130, 120, 0)]], lambda a, b: len(b.splits) == 1, {}, "slivers"),
    Use(2, "Split walls", "prepare.split_plane", [[(100, 100, 0)], [(100, 100, 0)]], lambda a, b: b.splits[-1].way == "plane", {}, "slivers"),
    Use(2, "Split walls", "prepare.split_circle", [[(100, 100, 0)]], lambda a, b: b.splits[-1].way == "circle", {"radius": "6"}, "slivers"),
    Use(2, "Split walls", "prepare.split_curve", [[(100, 100, 0)], [(85, 30, 0), (88, 60, 0), (86, 90, 0)]], lambda a, b: len(b.splits) == 1, {}, "slivers"),
    Use(2, "Split walls", "prepare.hard_curve", [[(85, 30, 0), (85, 90, 0)]], lambda a, b: len(b.splits) == 1, {}, "slivers"),
    Use(2, "Hard points", "", [[(90, 50, 0), (100, 105, 0)]], lambda a, b: len(b.hard_points) == 2, {}, "slivers"),
    Use(2, "Remove features", "prepare.remove_holes", [], lambda a, b: len(b.bodies[0].holes) < len(a.bodies[0].holes), {"below": "4"}, "cover"),
    Use(2, "Remove features", "prepare.remove_blends", [], lambda a, b: b.bodies[0].shape.volume > a.bodies[0].shape.volume, {"below": "4"}, "cover"),
    Use(2, "Remove features", "prepare.remove_faces", [[(0.8787, 0.8787, 8)]], lambda a, b: b.bodies[0].shape.volume > a.bodies[0].shape.volume, {}, "cover", "oblique"),
    Use(2, "Cut bodies", "prepare.split_body", [[(20, 20, 2)], [(75, 80, 0)]], bodies_more(1), {"origin": "20, 0, 0"}),
    Use(2, "Cut bodies", "prepare.sector", [[(20, 20, 2)], [(75, 80, 0)]], lambda a, b: b.bodies[0].shape.volume < a.bodies[0].shape.volume, {"origin": "20, 0, 0"}),
    Use(2, "Join bodies", "prepare.join", [[]], lambda a, b: b.joined == ((1, 2),), {}),
    Use(2, "Join bodies", "prepare.stitch", [[(30, 63, 0)]], lambda a, b: len(b.bodies) == len(a.bodies), {}, "strip"),
    Use(3, "Walls by hand", "midsurface.pair", [[(40, 5, 2)], []], lambda a, b: b.wall_choices[-1].hand.share == 0.25, {"share": "0.25"}, "ribs"),
    Use(3, "Walls by hand", "midsurface.drop_wall", [[(40, 20, 22)]], lambda a, b: b.sheets[1].area < 0.8 * a.sheets[1].area, {}, "ribs"),
    Use(3, "Walls by hand", "midsurface.extend", [[(40, 5, 2)], [(40, 20, 22)]], lambda a, b: len(b.wall_choices) == 1, {}, "ribs"),
    Use(3, "Walls by hand", "midsurface.keep_piece", [[(40, 5, 1)]], lambda a, b: b.sheets[1].area == pytest.approx(a.sheets[1].area), {}, "ribs"),
    Use(3, "Walls by hand", "midsurface.trim_piece", [[(40, 5, 1)]], lambda a, b: b.sheets[1].area < a.sheets[1].area - 1000, {}, "ribs"),
    Use(3, "Walls by hand", "midsurface.bridge", [[(1, 15, 20), (39, 15, 20)]], lambda a, b: len(b.sheets[1].shape.faces) == 4, {}, "channel"),
    Use(3, "Walls by hand", "midsurface.move_edge", [[(30, 15, 19)], [(39, 15, 23)]], lambda a, b: b.sheets[1].area > a.sheets[1].area + 200, {}, "lip", "oblique"),
    Use(4, "Sizes and grading", "mesh.size_on", [[(60, 20, 1)], []], lambda a, b: b.mesh.elements > 2 * a.mesh.elements, {"size": "2"}, "meshed"),
    Use(4, "Sizes and grading", "mesh.size_around", [[]], lambda a, b: b.mesh.elements > a.mesh.elements + 20, {"at": "60, 20, 1", "radius": "6", "size": "1.5"}, "meshed"),
    Use(4, "Sizes and grading", "mesh.size_in_box", [[], []], lambda a, b: b.choices.local[0].kind == "box", {"low": "50, 10, 0", "high": "70, 30, 2", "size": "1.5"}, "meshed"),
    Use(4, "Sizes and grading", "mesh.grade", [[(40, 0, 1)]], lambda a, b: [g.ratio for g in b.choices.grading["1"].values()] == [4.0], {"ratio": "4"}, "meshed"),
    Use(4, "Sizes and grading", "mesh.way", [[(60, 20, 1)]], lambda a, b: b.choices.ways == {"1": {0: "regular"}}, {}, "meshed"),
    Use(4, "Rings on these holes", "", [[(25, 20, 1)]], lambda a, b: len(b.mesh_holes[1][0].widths) == 2, {"rings": "2", "width": "0.5"}, "meshed"),
    Use(4, "Selection again, copies", "mesh.again", [[(70, 20, 1)]], lambda a, b: b.mesh.element_id.max() > a.mesh.element_id.max(), {}, "meshed"),
    Use(4, "Selection again, copies", "mesh.copies", [[]], lambda a, b: b.mesh.elements == 2 * a.mesh.elements, {"at": "0, 0, 20", "along": "0, 0, 1"}, "meshed"),
    Use(4, "Shells without walls", "mesh.strip", [[(40, 0, 1)], [(40, 40, 1)]], lambda a, b: b.parts[-1].name == "Strip 1", {"rows": "3"}, "meshed"),
    Use(4, "Shells without walls", "mesh.outline", [[(30, 20, 1)]], lambda a, b: b.parts[-1].name == "Patch 1", {}, "meshed"),
    Use(4, "Shells without walls", "mesh.drag_row", [[(40, 0, 1)], []], lambda a, b: b.parts[-1].name == "Sweep 1", {"shift": "0, 0, 12"}, "meshed"),
    Use(4, "Mid-side nodes", "", [], lambda a, b: b.choices.quadratic and b.mesh is not None and "mid-side" in b.notes[0], {}, "meshed"),
    Use(3, "Take faces as they are", "", [[(30, 20, 2)]], lambda a, b: b.sheets[1].thicknesses == [2.0], {"thickness": "2"}),
]  # fmt: skip


@pytest.fixture(scope="module")
def starts() -> dict[str, Document]:
    slivers = perform(Document(), "part.open", {"path": str(EXAMPLES / "sliver_tray.step")})
    slivers = perform(slivers, "midsurface.take_faces", {"body": 1, "thickness": 1.5})
    d = plates()
    ribs = perform(document_of(fused(box(0, 0, 0, 80, 40, 2), [box(0, 19, 0, 80, 2, 22)])), "midsurface.extract", {})
    channel = document_of(fused(box(0, 0, 0, 40, 30, 2), [box(0, 0, 0, 2, 30, 20), box(38, 0, 0, 2, 30, 20)]))
    lip = document_of(fused(box(0, 0, 0, 40, 30, 2), [box(0, 0, 0, 2, 30, 20), box(38, 0, 0, 2, 30, 26), box(0, 0, 18, 30, 30, 2)]))
    plate = document_of(cut(box(0, 0, 0, 80, 40, 2), [cylinder((25, 20, -1), (0, 0, 1), 5, 4)]))
    meshed = perform(perform(plate, "midsurface.extract", {}), "mesh.shells", {"size": 4.0})
    strip = perform(d, "build.extrude", {"curve": 3, "direction": (0, 1, 0), "length": 5})
    return {
        "meshed": meshed, "plates": d, "slivers": replace(slivers, choices=replace(slivers.choices, size=5.0)), "strip": strip,
        "ribs": ribs, "channel": perform(channel, "midsurface.extract", {}), "lip": perform(lip, "midsurface.extract", {}),
        "cover": perform(Document(), "part.open", {"path": str(EXAMPLES / "ribbed_cover.step")}),
    }  # fmt: skip


@pytest.fixture(scope="module")
def shared(qapp: QApplication, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Driver]:
    """One window for all uses of cards."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("XDG_STATE_HOME", str(tmp_path_factory.mktemp("state")))
        apply_theme(qapp)
        window = MainWindow()
        window.resize(1280, 800)
        window.show()
        window.activateWindow()
        assert QTest.qWaitForWindowActive(window, 5000)
        window.session.warm()
        yield Driver(window)
        window.close()


def begin(driver: Driver, document: Document, stop: int) -> None:
    driver.window.session.begin(document)
    driver.stop(stop)
    driver.window.stage.look("top")
    QApplication.processEvents()


@pytest.mark.parametrize("use", USES, ids=[f"{k}-{u.way or u.card}" for k, u in enumerate(USES)])
def test_card_is_used_kept_and_undone(use: Use, shared: Driver, starts: dict[str, Document]) -> None:
    driver = shared
    before = starts[use.start]
    begin(driver, before, use.stop)
    driver.window.stage.look(use.view)
    card = driver.card(use.card)
    if isinstance(card, ChoiceCard):
        card.choose(use.way)
        inner: OperationCard = card.inner
    else:
        assert isinstance(card, OperationCard)
        inner = card
    QApplication.processEvents()
    for slot, places in enumerate(use.clicks):
        assert isinstance(inner, GatherCard)
        if places:
            driver.click(inner.slot_buttons[slot])
        for k, place in enumerate(places):
            driver.click_stage(np.array(place, float), CTRL if k else Qt.KeyboardModifier.NoModifier)
    for name, text in use.typed.items():
        driver.type(inner.form.fields[name], text)
        QTest.keyClick(inner.form.fields[name], Qt.Key.Key_Tab)
    session = driver.window.session
    inner._again.stop()
    driver.click(driver.button("Propose", inner))
    driver.wait(lambda: not session.busy)
    assert session.proposal is not None, driver.window.ledger.messages.item(driver.window.ledger.messages.count() - 1).text()
    assert session.document is before  # nothing is kept yet
    assert inner.effect.text()
    driver.key(Qt.Key.Key_Return)
    driver.wait(lambda: session.document is not before)
    assert use.holds(before, session.document)
    driver.key(Qt.Key.Key_Z, CTRL)
    assert session.document is before


def test_findings_lead_to_their_place_and_remedies_are_one_click(driver: Driver, starts: dict[str, Document]) -> None:
    begin(driver, starts["slivers"], 2)
    session = driver.window.session
    card = driver.card("Findings")
    assert isinstance(card, FaultsCard)
    driver.click(driver.button("Find at the wanted size", card))
    driver.wait(lambda: session.document.faults)
    count = len(session.document.faults)
    assert card.list.count() == count
    driver.click(card.list.viewport())
    item = card.list.item(1)
    QTest.mouseClick(card.list.viewport(), Qt.MouseButton.LeftButton, pos=card.list.visualItemRect(item).center())
    assert driver.window.selection.items
    assert any("narrow face" in text for _, text, _ in driver.window.stage.labels)
    driver.click(driver.button("All found", card))
    driver.wait(lambda: session.document.looked_past)
    assert len(session.document.faults) < count
    past = driver.card("Look past edges")
    assert len(driver.window.stage.dotted) > 5  # looked past: dotted in the Stage
    back = past.findChild(QListWidget)
    assert isinstance(back, QListWidget)
    entries = back.count()
    driver.wait(lambda: not session.busy)
    before = session.document
    back.setCurrentRow(0)
    driver.click(driver.button("Give back", past))
    driver.wait(lambda: session.document is not before)
    assert len(session.document.looked_past) < entries


def test_the_proof_leads_to_what_no_wall_stands_for(driver: Driver) -> None:
    lump = document_of(fused(box(0, 0, 0, 100, 60, 2), [box(0, 0, 0, 30, 60, 40), cylinder((70, 30, 1), (0, 0, 1), 4, 20)]))
    begin(driver, perform(lump, "midsurface.extract", {}), 3)
    card = driver.card("Proof")
    assert isinstance(card, ProofCard)
    kinds = [card.list.item(k).text().split("  ")[0] for k in range(card.list.count())]
    assert {"not thin", "edge inside the solid"} <= set(kinds)
    for word in ("not thin", "edge inside the solid"):
        item = card.list.item(kinds.index(word))
        QTest.mouseClick(card.list.viewport(), Qt.MouseButton.LeftButton, pos=card.list.visualItemRect(item).center())
        assert any(text == word for _, text, _ in driver.window.stage.labels)
        assert card.meaning.text()
    assert driver.window.selection.kind == "edge"
    driver.window.set_style("thick")  # drawn with thickness over the see-through solid
    assert driver.window.stage.grab().toImage().pixelColor(400, 300).isValid()
    driver.card("Walls by hand")
    assert not any(text == "not thin" for _, text, _ in driver.window.stage.labels)


def test_decisions_about_walls_are_taken_back_from_their_list(driver: Driver, starts: dict[str, Document]) -> None:
    d = perform(starts["ribs"], "midsurface.trim_piece", {"body": 1, "place": (40.0, 5.0, 1.0)})
    begin(driver, d, 3)
    card = driver.card("Walls by hand")
    driver.click(driver.button("Take back", card))
    driver.wait(lambda: not driver.window.session.document.wall_choices)
    assert driver.window.session.document.sheets[1].area == pytest.approx(starts["ribs"].sheets[1].area)


def test_what_was_chosen_for_another_tool_is_not_proposed_unasked(driver: Driver, starts: dict[str, Document]) -> None:
    begin(driver, starts["slivers"], 2)
    driver.card("Findings")
    driver.window.set_lens("edge")
    driver.window.selection.set("edge", [(1, 3)])
    driver.card("Look past edges")
    QTest.qWait(700)
    assert driver.window.session.proposal is None
    assert not driver.window.session.busy
    assert not driver.window.selection.items


def test_a_proposal_is_drawn_before_its_findings_are_worked_out(
    driver: Driver, starts: dict[str, Document], monkeypatch: pytest.MonkeyPatch
) -> None:
    begin(driver, starts["slivers"], 2)
    window = driver.window
    drawn: list[tuple[bool, bool]] = []
    findings = window.findings
    monkeypatch.setattr(window, "findings", lambda: drawn.append((window.session.proposal is not None, window.stage.dirty)) or findings())
    driver.card("Look past edges")
    window.selection.set("edge", [(1, 3)])
    driver.wait(lambda: window.session.proposal is not None)
    assert (True, False) in drawn
    assert (True, True) not in drawn


def test_a_proposal_by_itself_waits_for_work_that_was_asked_for(driver: Driver, starts: dict[str, Document]) -> None:
    begin(driver, starts["slivers"], 2)
    card = driver.card("Look past edges")
    assert isinstance(card, ChoiceCard)
    driver.window.selection.set("edge", [(1, 3)])
    session = driver.window.session
    session.do("prepare.find", {})
    card.inner._again.start(0)
    QApplication.processEvents()
    driver.wait(lambda: session.document.faults)
    driver.wait(lambda: session.proposal is not None)


def test_splits_are_taken_back_from_their_list(driver: Driver, starts: dict[str, Document]) -> None:
    d = perform(starts["slivers"], "prepare.split_circle", {"body": 1, "centre": (100, 100, 0), "radius": 6.0})
    begin(driver, d, 2)
    card = driver.card("Split walls")
    driver.click(driver.button("Take back", card))
    driver.wait(lambda: not driver.window.session.document.splits)


def test_hard_points_are_let_go_from_their_list(driver: Driver, starts: dict[str, Document]) -> None:
    d = perform(starts["slivers"], "prepare.hard_points", {"body": 1, "points": [(100, 100, 0)]})
    begin(driver, d, 2)
    driver.click(driver.button("Let go", driver.card("Hard points")))
    driver.wait(lambda: not driver.window.session.document.hard_points)


def test_a_newer_revision_is_reported_and_updated(driver: Driver, tray_mesh: Document) -> None:
    begin(driver, tray_mesh, 2)
    card = driver.card("Newer revision")
    assert isinstance(card, RevisionCard)
    card.replace(EXAMPLES / "cradle_tray_rev2.step")
    session = driver.window.session
    driver.wait(lambda: session.document.revision)
    text = " ".join(card.report.item(k).text() for k in range(card.report.count()))
    assert "71 of 71 faces recognised" in text
    assert "moved by 6 mm" in text
    assert driver.window.stale.isVisible()
    driver.click(driver.button("Update what is stale", card))
    driver.wait(lambda: not session.document.stale)


@pytest.mark.parametrize(
    ("row", "clicks", "words"),
    [
        (0, [(0, 60, 0), (60, 60, 0)], "distance 60"),
        (1, [(38, 90, 0)], "radius 8"),
        (2, [(0, 60, 0), (60, 60, 0), (75, 80, 0)], "angle"),
        (3, [(30, 20, 2)], "area 2400"),
        (4, [(30, 20, 2), (30, 60, 0)], "least distance 20"),
        (5, [(31, 21, 2)], "wall 2"),
    ],
)
def test_measuring_shows_words_and_a_line(row: int, clicks: list[Point], words: str, shared: Driver, starts: dict[str, Document]) -> None:
    driver = shared
    begin(driver, starts["plates"], 1)
    card = driver.card("Measure")
    assert isinstance(card, MeasureCard)
    card.combo.setCurrentIndex(row)
    QApplication.processEvents()
    for k, place in enumerate(clicks):
        driver.click_stage(np.array(place, float), CTRL if k else Qt.KeyboardModifier.NoModifier)
    assert words in card.result.text().lower()
    assert driver.window.stage.ghost_paths


def test_views_are_saved_by_name_gone_back_to_and_sections_cut(driver: Driver, starts: dict[str, Document]) -> None:
    begin(driver, starts["plates"], 1)
    window = driver.window
    card = driver.card("Views and section")
    assert isinstance(card, ViewsCard)
    window.stage.look("front")
    kept = window.stage.camera.state()
    driver.type(card.name, "From the front")
    driver.click(driver.button("Save view", card))
    driver.wait(lambda: window.session.document.views)
    window.stage.look("top")
    top = window.stage.camera.state()
    QTest.mouseClick(card.list.viewport(), Qt.MouseButton.LeftButton, pos=card.list.visualItemRect(card.list.item(0)).center())
    assert window.stage.camera.state() == pytest.approx(kept)
    window.stage.setFocus()
    driver.key(Qt.Key.Key_Backspace)
    assert window.stage.camera.state() == pytest.approx(top)
    window.stage.look("oblique")
    QApplication.processEvents()
    whole = window.stage.grab().toImage()
    card.axis.setCurrentIndex(1)
    card.slider.setValue(120)
    QApplication.processEvents()
    assert "x =" in card.where.text()
    assert window.stage.grab().toImage() != whole
    card.axis.setCurrentIndex(0)
    assert window.look.section is None


def test_contents_rename_colour_only_this_and_remove(driver: Driver, starts: dict[str, Document]) -> None:
    begin(driver, starts["plates"], 1)
    window = driver.window
    tree, session = window.route.tree, window.session
    first = tree.topLevelItem(0)
    assert first is not None
    first.setText(0, "Floor")
    driver.wait(lambda: session.document.bodies[0].name == "Floor")
    QTest.mouseClick(tree.viewport(), Qt.MouseButton.LeftButton, pos=tree.visualItemRect(tree.topLevelItem(0)).center() + QPoint(10, 0))
    QTest.mouseClick(tree.viewport(), Qt.MouseButton.LeftButton, CTRL, tree.visualItemRect(tree.topLevelItem(1)).center() + QPoint(10, 0))
    assert window.selection.items == [1, 2]
    driver.key(Qt.Key.Key_O)
    assert window.look.hidden == {f"body:{b.key}" for b in session.document.bodies if b.key not in (1, 2)}
    driver.key(Qt.Key.Key_O, Qt.KeyboardModifier.ShiftModifier)
    assert not window.look.hidden
    menu = window.route.menu_for([1])
    colours = next(a.menu() for a in menu.actions() if a.text() == "Colour")
    colours.actions()[3].trigger()
    driver.wait(lambda: session.document.bodies[0].colour == "#CDB67A")
    next(a for a in menu.actions() if a.text() == "Remove").trigger()
    driver.wait(lambda: all(b.key != 1 for b in session.document.bodies))
    driver.key(Qt.Key.Key_Z, CTRL)
    assert session.document.bodies[0].name == "Floor"


def test_rules_for_rings_are_typed_into_a_table(driver: Driver, starts: dict[str, Document]) -> None:
    begin(driver, starts["meshed"], 4)
    card = driver.card("Rings by diameter")
    assert isinstance(card, RingTableCard)
    assert card.words.text() == "1 of 1 holes have rings."
    session = driver.window.session
    for column, text in ((0, "0"), (1, "20"), (2, "2"), (3, "0.5"), (4, "12")):
        item = card.table.item(0, column)
        assert item is not None
        item.setText(text)
    driver.click(driver.button("Apply to all", card))
    driver.wait(lambda: session.document.choices.washers[0].rings == 2 and not session.busy)
    assert session.document.mesh_holes[1][0].divisions == 12
    assert len(session.document.mesh_holes[1][0].widths) == 2
    driver.click(driver.button("Add", card))
    item = card.table.item(1, 2)
    assert item is not None
    item.setText("two")
    driver.click(driver.button("Apply to all", card))
    assert "no number" in driver.window.ledger.messages.item(driver.window.ledger.messages.count() - 1).text()
    driver.click(driver.button("Remove", card))
    assert card.table.rowCount() == 1


def test_choices_by_hand_are_listed_and_taken_back(driver: Driver, starts: dict[str, Document]) -> None:
    made = perform(starts["meshed"], "mesh.size_around", {"at": (60, 20, 1), "radius": 5.0, "size": 2.0})
    begin(driver, made, 4)
    card = driver.card("Sizes and grading")
    assert isinstance(card, ChoiceCard)
    assert card.below is not None
    rows = card.below.findChild(QListWidget)
    assert rows is not None
    assert "ball" in rows.item(0).text()
    rows.setCurrentRow(0)
    driver.click(driver.button("Take back", card.below))
    driver.wait(lambda: not driver.window.session.document.choices.local and not driver.window.session.busy)
    assert driver.window.session.document.mesh.elements == starts["meshed"].mesh.elements


def test_joined_bodies_show_their_junctions(driver: Driver) -> None:
    d = perform(with_boxes((0, 0, 0, 40, 40, 20), (40, 0, 0, 30, 40, 20), (70.3, 0, 0, 20, 40, 20)), "prepare.join", {"tolerance": 0.01})
    begin(driver, d, 2)
    driver.card("Join bodies")
    stage = driver.window.stage
    assert any(text == "junction edge" for _, text in stage.legend)
    assert any(text.startswith("gap 0.3") for _, text, _ in stage.labels)


def test_facets_and_meshes_open_by_their_files(driver: Driver, tmp_path: Path, tray_mesh: Document) -> None:
    from kind_rivet.core.files.exchange import Exchange
    from kind_rivet.core.files.vtu import write_vtu

    write_vtu(Exchange.of(tray_mesh), tmp_path / "mesh.vtu")
    driver.window.open_path(tmp_path / "mesh.vtu")
    session = driver.window.session
    driver.wait(lambda: session.document.mesh.elements)
    driver.stop(1)
    driver.propose_and_keep(driver.card("Faces from a mesh"))
    assert session.document.bodies[0].kind == "facets"
    (tmp_path / "odd.stl").write_bytes(b"solid nothing")
    driver.window.open_path(tmp_path / "odd.stl")
    driver.wait(lambda: not session.busy)
    words = driver.window.ledger.messages.item(driver.window.ledger.messages.count() - 1).text()
    assert "odd.stl" in words
    assert isinstance(driver.window.kit.open_card, Card | None)
    assert len(session.document.bodies) == 1
