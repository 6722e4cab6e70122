"""The cards for single edges, walls, holes and places of the shell mesh, and for shells without faces."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

from PySide6.QtWidgets import QHBoxLayout, QHeaderView, QLabel, QPushButton, QTableWidget, QTableWidgetItem

from kind_rivet.app.kit.back_list import BackList
from kind_rivet.app.kit.card import Card
from kind_rivet.app.kit.gather import ChoiceCard, GatherCard, Slot
from kind_rivet.app.kit.tools import edges, faces, one_point
from kind_rivet.app.theme import place_words
from kind_rivet.core.document.document import Document
from kind_rivet.core.geometry.carriers import triple

if TYPE_CHECKING:
    from kind_rivet.app.window import MainWindow

HEADS = ("Ø from", "below", "Rings", "Width", "Count")
ANY = "any"


def chain(document: Document, items: list[Any]) -> list[int]:
    """Node numbers along the chosen edges of a meshed sheet, joined end to end; a closed chain names its first node once."""
    lines = [[int(n) for n in document.lines_of(b)[e]] for b, e in items if e < len(document.lines_of(b))]
    lines = [line for line in lines if len(line) > 1]
    if not lines:
        return []
    out = lines.pop(0)
    while lines:
        for k, line in enumerate(lines):
            for end, piece in ((out[-1], line), (out[-1], line[::-1])):
                if piece[0] == end:
                    out = [*out, *piece[1:]]
                    break
            else:
                if line[-1] == out[0] or line[0] == out[0]:
                    out = [*(line if line[-1] == out[0] else line[::-1])[:-1], *out]
                else:
                    continue
            lines.pop(k)
            break
        else:
            break
    return out[:-1] if len(out) > 1 and out[0] == out[-1] else out


def row(name: str) -> Any:
    return lambda document, items: {name: chain(document, items)}


def numbers(document: Document, items: list[Any]) -> dict[str, Any]:
    return {"elements": [int(i) for i in items]}


def holes(document: Document, items: list[Any]) -> dict[str, Any]:
    known = document.mesh_holes
    return {"holes": [(b, *known[b][k].centre) for b, k in items if b in known and k < len(known[b])]}


class ChoicesByHand(BackList):
    """What was asked of edges, walls and places by hand; one of a kind is taken back with all of its kind."""

    def entries(self) -> list[tuple[str, Any]]:
        c = self.window_.session.shown.choices
        units = self.window_.session.shown.units
        out: list[tuple[str, Any]] = []
        for kind, lots in (("divisions", c.divisions), ("grading", c.grading), ("regular or free", c.ways)):
            count = sum(len(lot) for lot in lots.values())
            if count:
                out.append((f"{kind}: {count}", kind))
        for size in c.local:
            where = f"{len(size.items)} {size.kind}" if size.items else f"{size.kind} at {place_words(size.low)}"
            out.append(
                (f"size {size.size:.4g} {units} on {where}" if size.items else f"size {size.size:.4g} {units} in a {where}", "sizes")
            )
        if c.washers_at:
            out.append((f"rings on {len(c.washers_at)} chosen holes", "rings"))
        return out

    def take_back(self, entry: Any) -> None:
        self.window_.session.do("mesh.forget", {"what": entry})


class RingTableCard(Card):
    """Rules for rings by diameter, applied to all holes at once."""

    def __init__(self, window: MainWindow) -> None:
        super().__init__(
            window, "Rings by diameter", "The first rule that a hole's diameter (or a slot's width) fits counts. Width in sizes; width and count 0: chosen for each hole."
        )  # fmt: skip
        self.table = QTableWidget(0, len(HEADS))
        self.table.setAccessibleName("Rules for rings")
        self.table.setHorizontalHeaderLabels(HEADS)
        self.table.verticalHeader().hide()
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        self.table.horizontalHeader().setMinimumSectionSize(24)
        self.table.setMinimumWidth(60)
        self.table.setFixedHeight(132)
        self.rows.addWidget(self.table)
        buttons = QHBoxLayout()
        for text, act in (("Add", self._add), ("Remove", self._remove), ("Apply to all", self.confirm)):
            button = QPushButton(text)
            button.setObjectName("keep" if act == self.confirm else "")
            button.clicked.connect(act)
            buttons.addWidget(button)
        self.rows.addLayout(buttons)
        self.words = QLabel()
        self.words.setWordWrap(True)
        self.rows.addWidget(self.words)
        self.seen: Any = None

    def refresh(self) -> None:
        rules = self.window_.session.document.choices.washers
        if rules != self.seen:
            self.seen = rules
            self.table.setRowCount(0)
            for r in rules:
                self._add((r.least, r.most, r.rings, r.width, r.divisions))
        counted = [h for lot in self.window_.session.document.mesh_holes.values() for h in lot]
        with_ring = sum(bool(h.widths) for h in counted)
        self.words.setText(f"{with_ring} of {len(counted)} holes have rings." if counted else "Nothing is meshed yet.")

    def _add(self, values: Any = None) -> None:
        at = self.table.rowCount()
        self.table.insertRow(at)
        for k, value in enumerate(values if isinstance(values, tuple) else (0, math.inf, 1, 0, 0)):
            self.table.setItem(at, k, QTableWidgetItem(f"{value:g}" if math.isfinite(value) else ANY))

    def _remove(self) -> None:
        self.table.removeRow(self.table.currentRow() if self.table.currentRow() >= 0 else self.table.rowCount() - 1)

    def confirm(self) -> None:
        rules = []
        for r in range(self.table.rowCount()):
            cells = [item.text() if (item := self.table.item(r, k)) is not None else "" for k in range(len(HEADS))]
            try:
                values = [1e9 if c.strip() == ANY else float(c.replace(",", ".")) for c in cells]
            except ValueError:
                self.window_.say(f"Rule {r + 1} has a cell that is no number.", "problem")
                return
            rules.append((values[0], values[1], int(values[2]), values[3], int(values[4])))
        self.window_.session.do("mesh.washer_table", {"rules": rules})


def mesh_tools(window: MainWindow) -> list[Card]:
    """Sizes, grading, rings, selections and shells without faces."""

    def card(name: str, *slots: Slot, **more: Any) -> GatherCard:
        return GatherCard(window, name, slots, **more)

    def there(name: str) -> Slot:
        return Slot("Place", "point", lambda document, items: {name: triple(items[-1])}, field=name)

    wall, side = Slot("Walls", "face", faces, many=True, needed=False), Slot("Edges", "edge", edges, many=True, needed=False)
    local: dict[str, Any] = {
        "mesh.size_on": lambda: card("mesh.size_on", wall, side, on_sheet=True, at_once=False),
        "mesh.size_around": lambda: card("mesh.size_around", there("at"), at_once=False),
        "mesh.size_in_box": lambda: card(
            "mesh.size_in_box", one_point("Low corner", "low"), one_point("High corner", "high"), at_once=False
        ),
        "mesh.grade": lambda: card("mesh.grade", Slot("Edges", "edge", edges, many=True), on_sheet=True),
        "mesh.way": lambda: card("mesh.way", Slot("Walls", "face", faces, many=True), on_sheet=True),
        "mesh.forget": lambda: card("mesh.forget", at_once=False),
    }
    bare: dict[str, Any] = {
        "mesh.strip": lambda: card(
            "mesh.strip", Slot("First row", "edge", row("first"), many=True), Slot("Second row", "edge", row("second"), many=True),
            skip={"first", "second"}, at_once=False, hint="Rows are the nodes along edges; Ctrl adds edges to a row.",
        ),
        "mesh.outline": lambda: card("mesh.outline", Slot("Outline", "edge", row("nodes"), many=True), skip={"nodes"}, at_once=False, hint="Edges round the gap; Ctrl adds the next."),
        "mesh.drag_row": lambda: card(
            "mesh.drag_row", Slot("Row", "edge", row("row"), many=True), Slot("Path", "edge", row("path"), many=True, needed=False), skip={"row", "path"}, at_once=False,
        ),
    }  # fmt: skip
    again: dict[str, Any] = {
        "mesh.again": lambda: card("mesh.again", Slot("Shells", "element", numbers, many=True), skip={"elements"}, at_once=False, hint="Alt-drag draws a box round shells."),
        "mesh.copies": lambda: card("mesh.copies", Slot("Elements", "element", numbers, many=True, needed=False), skip={"elements"}, at_once=False, hint="Nothing chosen means the whole mesh."),
    }  # fmt: skip
    return [
        ChoiceCard(window, "Sizes and grading", "Where one size for all does not serve.", local, ChoicesByHand(window)),
        RingTableCard(window),
        card("mesh.washer", Slot("Holes", "hole", holes, many=True), skip={"holes"}),
        ChoiceCard(window, "Selection again, copies", "A lot of elements meshed anew, moved, mirrored or turned.", again),
        ChoiceCard(window, "Shells without walls", "Between rows of nodes, inside an outline, along a path.", bare),
    ]
