"""The demo: the window on the cradle tray, or the whole example walked off-screen where there is no display."""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from kind_rivet.app.kit.card import Card
    from kind_rivet.app.window import MainWindow

LIMIT = 180.0  # seconds one step may take


def demo(out: Path) -> int:
    """Open the window on the tray, or walk the example off-screen into the folder `out`."""
    has_display = bool(os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY")) and os.environ.get("QT_QPA_PLATFORM") != "offscreen"
    if has_display:
        from kind_rivet.app.main import main

        return main(Path(__file__).resolve().parents[3] / "examples" / "cradle_tray.step")
    print("There is no display here, so the example is walked off-screen.", flush=True)
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    from kind_rivet.worker.pool import start_server

    start_server()
    from PySide6.QtWidgets import QApplication

    from kind_rivet.app.theme import apply_theme
    from kind_rivet.app.window import MainWindow

    app = QApplication.instance() or QApplication(sys.argv[:1])
    assert isinstance(app, QApplication)
    apply_theme(app)
    window = MainWindow()
    window.show()
    walk(window, out)
    window.close()
    print(f"Done: files and pictures are in {out.resolve()}", flush=True)
    return 0


class Walker:
    """Takes the steps of the example in the real window and a picture after each."""

    def __init__(self, window: MainWindow, out: Path) -> None:
        self.window = window
        self.out = out
        out.mkdir(parents=True, exist_ok=True)

    def wait(self, condition: Callable[[], object]) -> None:
        from PySide6.QtWidgets import QApplication

        until = time.monotonic() + LIMIT
        while not condition():
            QApplication.processEvents()
            time.sleep(0.005)
            if time.monotonic() > until:
                raise RuntimeError("the example did not go on")
        QApplication.processEvents()

    def do(self, name: str, parameters: dict[str, object]) -> None:
        """Propose, look, keep."""
        session = self.window.session
        session.propose(name, parameters)
        self.wait(lambda: session.proposal is not None or not session.busy)
        if session.proposal is None:
            raise RuntimeError(self.window.ledger.messages.item(self.window.ledger.messages.count() - 1).text())
        print("  " + session.proposal.notes[0], flush=True)
        session.keep()

    def card(self, stop: str, title: str) -> Card:
        """Open a card by its title."""
        found = next(c for c in self.window.kit.cards[stop] if c.title == title)
        self.window.open_card(stop, found)
        return found

    def propose(self, stop: str, title: str, values: dict[str, object], way: str = "") -> None:
        """Open a card (at one of its ways), fill it in and let it propose."""
        from kind_rivet.app.kit.card import OperationCard
        from kind_rivet.app.kit.gather import ChoiceCard

        w = self.window
        shown = self.card(stop, title)
        if isinstance(shown, ChoiceCard):
            shown.choose(way)
            shown = shown.inner
        assert isinstance(shown, OperationCard)
        shown.form.set_values(values)
        shown.propose()
        self.wait(lambda: w.session.proposal is not None or not w.session.busy)

    def open(self, path: Path) -> None:
        """A fresh document with a sample part."""
        from kind_rivet.core.document.document import Document

        session = self.window.session
        session.begin(Document())
        self.window.look.hidden = set()
        self.window.stage.box = None
        self.window.open_path(path)
        self.wait(lambda: session.document.bodies)
        print("  " + session.document.notes[0], flush=True)

    def picture(self, name: str) -> None:
        from PySide6.QtWidgets import QApplication

        for _ in range(3):
            QApplication.processEvents()
        self.window.grab().save(str(self.out / f"{name}.png"))


def walk(window: MainWindow, out: Path) -> None:
    """The whole example: look, leave out, midsurface, mesh, mixed, quality, sets, deliver."""
    from kind_rivet.app.window import SAMPLE
    from kind_rivet.core.files.deliver import deliver

    w, session = window, window.session
    step = Walker(window, out)
    w.open_path(SAMPLE)
    step.wait(lambda: session.document.bodies)
    print("  " + session.document.notes[0], flush=True)
    step.picture("1-first-look")
    w.go("prepare")
    step.propose("prepare", "Leave out small holes", {"below": 5.0, "hard_points": True})
    step.picture("2-left-out-holes")
    w.keep()
    w.go("midsurface")
    step.do("midsurface.extract", {})
    w.style_combo.setCurrentIndex(1)
    step.card("midsurface", "Proof")
    step.picture("3-midsurface")
    w.style_combo.setCurrentIndex(0)
    step.propose("mesh", "Mesh with shells", {"size": 5.0})
    step.picture("4-mesh-proposal")
    w.keep()
    step.card("mesh", "Divisions of edges")
    shape = session.document.sheets[1].shape
    w.selection.set("edge", [(1, int(np.argmax(shape.edge_length)))])  # so that its grips are seen
    step.picture("5-divisions")
    w.selection.clear()
    walk_choices(step)
    w.go("mixed")
    step.do("mixed.material", {"material": "Steel"})
    document = session.document
    holes = [(1, *h.centre) for h in document.mesh_holes[1] if abs(h.radius - 4.5) < 0.01]
    step.do("mixed.spiders", {"holes": holes[:4], "mass": 0.002})
    shape = document.sheets[1].shape
    top = [
        e
        for e in np.argsort(-shape.edge_length).tolist()
        if len(shape.edge_faces[e]) == 1 and shape.points[shape.edges[e].nodes][:, 2].min() > 20
    ][:2]
    step.do("mixed.beams_along", {"body": 1, "edges": [int(e) for e in top], "section": "tube", "width": 12.0, "wall": 1.5})
    mesh = session.document.mesh
    centre = mesh.centres()
    pad = np.flatnonzero(mesh.is_shell & (np.abs(centre[:, 0] - 210) < 22) & (np.abs(centre[:, 1] - 142) < 12) & (centre[:, 2] < 1))
    step.do("mixed.layers", {"elements": [int(n) for n in mesh.element_id[pad]], "height": 9.0, "layers": 3})
    w.open_card("mixed", w.kit.cards["mixed"][4])
    step.picture("6-mixed")
    w.go("quality")
    w.ledger.setCurrentIndex(1)
    step.picture("7-quality")
    w.go("deliver")
    step.do("sets.usual", {})
    w.ledger.setCurrentIndex(0)
    w.selection.set("ring", [(1, k) for k, h in enumerate(session.document.mesh_holes[1]) if h.radius > 10])
    step.picture("8-sets")
    w.selection.clear()
    deliver(session.document, out, {}, [])
    session.save(out / "cradle-tray.rivet")
    walk_preparing(step)


def walk_choices(step: Walker) -> None:
    """A finer place and a graded edge, looked at close by and dropped again."""
    w, session = step.window, step.window.session
    hole = next(h for h in session.document.mesh_holes[1] if h.round and h.radius > 10)
    at = np.array(hole.centre) + (hole.radius, 0.0, 0.0)
    step.propose("mesh", "Sizes and grading", {"at": tuple(at), "radius": 12.0, "size": 2.0}, "mesh.size_around")
    w.stage.fit(np.array([at - 45, at + 45]))
    step.picture("16-local-size")
    w.drop()
    step.card("mesh", "Rings by diameter")
    step.propose("mesh", "Mesh with shells", {"size": 5.0, "kind": "trias"})
    w.drop()
    w.stage.fit()


def walk_preparing(step: Walker) -> None:
    """Looking over, splitting, joining, building and a newer revision, each on its sample part."""
    from kind_rivet.app.kit.gather import ChoiceCard

    w, session = step.window, step.window.session
    examples = Path(__file__).resolve().parents[3] / "examples"
    step.open(examples / "sliver_tray.step")
    step.do("midsurface.take_faces", {"body": 1, "thickness": 1.5})
    step.do("prepare.find", {"size": 5.0})
    step.card("prepare", "Findings")
    step.picture("9-findings")
    step.do("prepare.remedy", {})
    step.open(examples / "cradle_tray.step")
    step.do("midsurface.extract", {})
    card = step.card("prepare", "Split walls")
    assert isinstance(card, ChoiceCard)
    card.inner.form.set_values({"distance": 8.0})
    w.stage.fit(np.array([[140.0, 60, 0], [290, 160, 10]]))
    slot = next(k for k, h in enumerate(session.document.bodies[0].holes) if h.kind == "cut-out" and abs(h.length - 48) < 1)
    w.selection.set("hole", [(1, slot)])
    step.wait(lambda: session.proposal is not None)
    step.picture("10-split")
    w.drop()
    w.stage.fit()
    step.do("mesh.shells", {"size": 6.0})
    step.do("prepare.replace", {"body": 1, "path": str(examples / "cradle_tray_rev2.step")})
    step.card("prepare", "Newer revision")
    step.picture("13-revision")
    step.do("mesh.update", {})
    step.open(examples / "ribbed_cover.step")
    step.do("midsurface.extract", {})
    w.style_combo.setCurrentIndex(1)
    step.card("midsurface", "Proof")
    step.picture("14-walls-that-meet")
    w.style_combo.setCurrentIndex(2)
    w.look.section = (np.array([75.0, 0, 0]), np.array([-1.0, 0, 0]))
    hand = step.card("midsurface", "Walls by hand")
    assert isinstance(hand, ChoiceCard)
    hand.choose("midsurface.trim_piece")
    w.redraw()
    step.picture("15-thickness-section")
    w.look.section = None
    w.style_combo.setCurrentIndex(0)
    step.open(examples / "cradle_assembly.step")
    step.do("prepare.join", {"tolerance": 0.01})
    step.card("prepare", "Join bodies")
    step.picture("11-joined")
    step.open(examples / "lug_inch.step")
    shape = session.document.bodies[0].shape
    top = next(
        f
        for f, x in enumerate(shape.faces)
        if x.carrier.kind == "plane" and abs(x.carrier.data[2] - 8) < 1e-6 and abs(x.carrier.data[5]) > 0.9
    )
    step.do("build.plane", {"way": "face", "body": 1, "face": top, "name": "Foot top"})
    step.do("build.point", {"points": [(40.0, 0.0, 8.0)], "name": "Rail end"})
    w.go("part")
    build = step.card("part", "Build")
    assert isinstance(build, ChoiceCard)
    build.choose("build.circle")
    w.selection.set("point", [(40.0, 0.0, 8.0, 0)])
    build.inner.form.set_values({"radius": 12.0})
    build.inner.propose()
    step.wait(lambda: session.proposal is not None)
    w.stage.fit(np.array([[-22.0, -20, 0], [54, 20, 44]]))
    step.picture("12-build")
    w.drop()
