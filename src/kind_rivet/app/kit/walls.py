"""Midsurface: the proof with what to look at, and deciding about walls by hand."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtWidgets import QLabel, QListWidget

from kind_rivet.app.kit.back_list import BackList
from kind_rivet.app.kit.card import Card
from kind_rivet.app.kit.gather import ChoiceCard, GatherCard, Slot
from kind_rivet.app.kit.tools import edges, faces, owner
from kind_rivet.app.theme import place_words
from kind_rivet.core.document.document import Document
from kind_rivet.core.geometry.carriers import triple
from kind_rivet.core.midsurface.blend_material import TOLD
from kind_rivet.core.midsurface.remarks import KINDS, Remark

if TYPE_CHECKING:
    from kind_rivet.app.window import MainWindow

MEANING = {
    "unfinished": "The time was up: these are the walls as far as they had come. Give it more time, or join them by hand.",
    "lump": "Too thick for a shell: mesh it with solids, or pair its sides by hand.",
    "bare": "A corner or blend that no wall reaches.",
    "inner edge": "A wall ends here inside the solid: extend it, keep a piece, or bridge.",
    "piece": "This wall hangs on nothing: extend it or bridge to it.",
    "unused face": "This face belongs to no wall and borders none.",
    "lost": "Lines cross on this wall, so it could not be made: trim or drop it, or mesh it with solids.",
    "tie": "These walls only touch: a strip as thick as the thinner one joins their middles. It adds a little mass.",
    "tunnel": "A hole drilled along the wall was looked past.",
}


class ProofCard(Card):
    """The weigh-in and the other proofs of each midsurface, and every place that does not stand for its solid."""

    def __init__(self, window: MainWindow) -> None:
        super().__init__(window, "Proof", "Each midsurface measured against its solid.")
        self.words = QLabel()
        self.words.setWordWrap(True)
        self.rows.addWidget(self.words)
        self.list = QListWidget()
        self.list.setAccessibleName("Places to look at")
        self.list.setMinimumHeight(150)
        self.list.itemClicked.connect(lambda _: self._go(False))
        self.list.itemDoubleClicked.connect(lambda _: self._go(True))
        self.rows.addWidget(self.list)
        self.meaning = QLabel()
        self.meaning.setObjectName("muted")
        self.meaning.setWordWrap(True)
        self.rows.addWidget(self.meaning)
        self.shown: list[tuple[int, Remark]] = []

    def refresh(self) -> None:
        document = self.window_.session.shown
        out = []
        for key, sheet in document.sheets.items():
            p = sheet.proof
            if p is None:
                out.append(f"<b>{document.body(key).name}</b>: {sheet.way}, not proved against a solid.")
                continue
            tapering = sum(t is not None for t in sheet.tapers)
            out.append(
                f"<b>{document.body(key).name}</b> by {sheet.way}<br>Weigh-in: {100 * p.weight:.2f} % of the solid, joints counted once"
                + (f", {100 * p.blends:.2f} % of it in blends" if p.blends >= TOLD else "")
                + f"<br>Cover: {100 * p.cover:.1f} % of its volume<br>Off the middle: {100 * p.off_middle:.2f} % of the wall (95th percentile)"
                f"<br>Free edges inside the solid: {p.inner_free_length:.2f} {document.units}<br>Pieces: {p.pieces} · walls: {len(sheet.shape.faces)}"
                + (f", {tapering} tapering" if tapering else "")
            )
        self.words.setText("<br><br>".join(out) or "No midsurface yet.")
        shown = [(key, r) for key, sheet in document.sheets.items() for r in sheet.remarks]
        if shown != self.shown:
            self.shown = shown
            self.list.clear()
            several = len(document.sheets) > 1
            for key, r in shown:
                size = f"  {r.measure:.3g} {document.units}" if r.measure else ""
                self.list.addItem(f"{KINDS[r.kind]}{size}" + (f"  · {document.body(key).name}" if several else ""))
            self.meaning.setText("" if shown else "Nothing to look at." if document.sheets else "")
        self.list.setVisible(bool(shown))

    def _go(self, frame: bool) -> None:
        row = self.list.currentRow()
        if not 0 <= row < len(self.shown):
            return
        key, remark = self.shown[row]
        sheet = self.window_.session.shown.sheets.get(key)
        self.meaning.setText(MEANING.get(remark.kind, ""))
        self.window_.look.pointed = (np.array(remark.place), KINDS[remark.kind])
        if remark.edges and sheet is not None and max(remark.edges) < len(sheet.shape.edges):
            self.window_.set_lens("edge")
            self.window_.selection.set("edge", [(key, e) for e in remark.edges])
        self.window_.redraw()
        if frame:
            wall = float(np.median(sheet.thickness)) if sheet is not None and len(sheet.thickness) else remark.measure
            reach = max(8 * wall, 2 * remark.measure)
            self.window_.stage.fit(np.array([np.array(remark.place) - reach, np.array(remark.place) + reach]))

    def fold(self) -> None:
        super().fold()
        if self.window_.look.pointed is not None:
            self.window_.look.pointed = None
            self.window_.redraw()


class ChoiceList(BackList):
    """Decisions about walls, bridges and moved edges."""

    def entries(self) -> list[tuple[str, Any]]:
        document = self.window_.session.shown
        rows = [f"{c.label} at {place_words(c.hand.places[0])}" for c in document.wall_choices]
        rows += [f"bridge at {place_words(b.first)}" for b in document.bridges]
        rows += [f"edge moved at {place_words(m.middle)}" for m in document.moves]
        return [(text, k) for k, text in enumerate(rows)]

    def take_back(self, entry: Any) -> None:
        self.window_.session.do("midsurface.take_back", {"number": entry})


def _side(name: str) -> Any:
    def take(document: Document, items: list[Any]) -> dict[str, Any]:
        return {"body": items[-1][0], name: items[-1][1]}

    return take


def _place(name: str) -> Any:
    def take(document: Document, items: list[Any]) -> dict[str, Any]:
        return {"body": owner(document, items), name: triple(items[-1])}

    return take


def wall_tools(window: MainWindow) -> list[Card]:
    """Deciding about walls by hand; every decision is proved at once and can be taken back in any order."""

    def card(name: str, *slots: Slot, **more: Any) -> GatherCard:
        made = GatherCard(window, name, slots, **more)
        made.on_solid = name in ("midsurface.pair", "midsurface.drop_wall", "midsurface.extend")  # type: ignore[attr-defined]
        return made

    place = Slot("Place", "point", _place("place"))
    ways: dict[str, Any] = {
        "midsurface.pair": lambda: card(
            "midsurface.pair", Slot("First side", "face", _side("first")), Slot("Second side", "face", _side("second"), needed=False),
            skip={"first", "second"}, at_once=False, hint="One side alone is paired with what lies opposite.",
        ),
        "midsurface.drop_wall": lambda: card("midsurface.drop_wall", place, skip={"place"}),
        "midsurface.extend": lambda: card(
            "midsurface.extend", Slot("First wall", "point", _place("first")), Slot("Second wall", "point", _place("second")), skip={"first", "second"}
        ),
        "midsurface.keep_piece": lambda: card("midsurface.keep_piece", place, skip={"place"}),
        "midsurface.trim_piece": lambda: card("midsurface.trim_piece", place, skip={"place"}),
        "midsurface.bridge": lambda: card("midsurface.bridge", Slot("Free edges", "edge", edges, many=True), at_once=False, hint="Ctrl adds the second edge."),
        "midsurface.move_edge": lambda: card(
            "midsurface.move_edge", Slot("Free edge", "edge", _side("edge")), Slot("Wall it shall end on", "face", _side("wall")), skip={"edge", "wall"}
        ),
    }  # fmt: skip
    hand = ChoiceCard(
        window, "Walls by hand", "For the places where you know better; each step is proved at once.", ways, ChoiceList(window)
    )
    take = GatherCard(window, "midsurface.take_faces", (Slot("Faces", "face", faces, many=True),), at_once=False)
    return [hand, take]
