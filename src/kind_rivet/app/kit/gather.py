"""Cards that gather what they need step by step: each slot wants something chosen in the Stage."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from PySide6.QtWidgets import QComboBox, QPushButton, QVBoxLayout

from kind_rivet.app.kit.back_list import BackList
from kind_rivet.app.kit.card import Card, OperationCard
from kind_rivet.app.kit.form import PointField
from kind_rivet.app.theme import place_words
from kind_rivet.core.document.document import Document
from kind_rivet.core.operations import all_operations

if TYPE_CHECKING:
    from kind_rivet.app.window import MainWindow


@dataclass(frozen=True)
class Slot:
    """Something to choose: `take` turns the chosen items of the lens into parameters; `needed` may stay empty when False."""

    title: str
    lens: str
    take: Callable[[Document, list[Any]], dict[str, Any]]
    many: bool = False
    needed: bool = True
    field: str = ""  # the point field of the form that it fills; typing there serves as well


class GatherCard(OperationCard):
    """An operation with slots; when all needed ones are filled the proposal is made at once."""

    def __init__(self, window: MainWindow, name: str, slots: tuple[Slot, ...], on_sheet: bool = False, hint: str = "", at_once: bool = True, skip: set[str] | None = None, below: BackList | None = None) -> None:  # fmt: skip
        taken = {"body", "bodies", "edge", "face", "curve", "curves", "points", "faces", "edges"} | (skip or set())
        super().__init__(window, all_operations()[name], skip=taken, hint=hint)
        self.slots, self.on_sheet, self.at_once = slots, on_sheet, at_once
        self.filled: dict[int, list[Any]] = {}
        self.active = 0
        self.slot_buttons: list[QPushButton] = []
        rows = QVBoxLayout()
        rows.setSpacing(3)
        for k, slot in enumerate(slots):
            button = QPushButton()
            button.setObjectName("slot")
            button.setCheckable(True)
            button.setToolTip(f"Choose with the lens {slot.lens}" + ("; Ctrl adds more" if slot.many else ""))
            button.setAccessibleName(slot.title)
            button.clicked.connect(lambda _=False, k=k: self.activate(k))
            self.slot_buttons.append(button)
            rows.addWidget(button)
        self.rows.insertLayout(1, rows)
        self.below = below
        if below is not None:
            self.rows.addWidget(below)

    def open(self) -> None:
        self.filled = {}
        if self.slots:  # before anything is gathered: what was chosen for another tool is not meant for this one
            self.activate(0)
        super().open()

    def activate(self, k: int) -> None:
        """Wait for this slot's choice."""
        self.active = k
        self.window_.selection.set(self.slots[k].lens, [])
        self.window_.set_lens(self.slots[k].lens)
        self._show()

    def gather(self) -> None:
        """Take what is chosen now into the active slot."""
        if not self.slots:
            return
        slot, selection = self.slots[self.active], self.window_.selection
        if selection.kind != slot.lens or not selection.items:
            return
        items = list(selection.items) if slot.many else selection.items[-1:]
        if self.filled.get(self.active) == items:
            return
        self.filled[self.active] = items
        for name, value in slot.take(self.window_.session.document, items).items():
            field = self.form.fields.get(name)
            if isinstance(field, PointField):
                field.set_value(value)
        if not slot.many:
            following = next((k for k, s in enumerate(self.slots) if k not in self.filled and s.needed), None)
            if following is not None:
                self.activate(following)
        self._show()
        if self.at_once and self.complete:
            self._again.start(250)

    @property
    def complete(self) -> bool:
        return all(k in self.filled or not slot.needed for k, slot in enumerate(self.slots))

    def parameters(self) -> dict[str, Any]:
        values = self.form.values()
        for k, items in self.filled.items():
            values |= {n: v for n, v in self.slots[k].take(self.window_.session.document, items).items() if n not in self.form.fields}
        return values

    def propose(self) -> None:
        typed = {n for n, f in self.form.fields.items() if isinstance(f, PointField) and f.text().strip()}
        missing = [s.title.lower() for k, s in enumerate(self.slots) if s.needed and k not in self.filled and s.field not in typed]
        if missing:
            self.window_.say(f"Still to choose: {', '.join(missing)}. Click in the Stage with the lens shown.", "problem")
            return
        super().propose()

    def refresh(self) -> None:
        if self.window_.session.proposal is None and not self.window_.session.busy:
            self.gather()
        super().refresh()
        self._show()
        if self.below is not None:
            self.below.refresh()

    def _show(self) -> None:
        for k, (slot, button) in enumerate(zip(self.slots, self.slot_buttons, strict=True)):
            items = self.filled.get(k)
            button.setChecked(k == self.active)
            text = f"choose {_plural(slot.lens)}" if slot.many else f"choose {'an' if slot.lens[0] in 'aeiou' else 'a'} {slot.lens}"
            if items:
                text = _short(items, slot.lens, self.window_.session.document)
            button.setText(f"{slot.title}: {text}" + ("" if slot.needed or items else ", if wanted"))


def _plural(lens: str) -> str:
    return "bodies" if lens == "body" else lens + "s"


def _short(items: list[Any], lens: str, document: Document) -> str:
    if len(items) > 1:
        return f"{len(items)} {_plural(lens)}"
    item = items[0]
    if lens == "point":
        return place_words(item[:3])
    if lens == "body":
        return next((b.name for b in document.bodies if b.key == item), "gone")
    return f"{lens} {item[1] + 1}" if isinstance(item, tuple) else str(item)


class ChoiceCard(Card):
    """Several related operations behind one head: the way is chosen first, then its own fields show.

    `ways` are operation names with what makes their cards; each is made when it is first needed.
    """

    def __init__(
        self, window: MainWindow, title: str, help_text: str, ways: dict[str, Callable[[], OperationCard]], below: BackList | None = None
    ) -> None:
        super().__init__(window, title, help_text)
        self.ways = ways
        self.cards: dict[str, OperationCard] = {}
        self.combo = QComboBox()
        self.combo.setAccessibleName(title)
        for name in ways:
            self.combo.addItem(all_operations()[name].title, name)
        self.combo.currentIndexChanged.connect(lambda _: self._switch())
        self.rows.addWidget(self.combo)
        self.below = below
        if below is not None:
            self.rows.addWidget(below)

    @property
    def inner(self) -> OperationCard:
        name = self.combo.currentData()
        if name not in self.cards:
            card = self.cards[name] = self.ways[name]()
            card.setObjectName("inner")
            card.head.hide()
            card.body.layout().setContentsMargins(0, 2, 0, 0)  # type: ignore[union-attr]
            self.rows.insertWidget(self.rows.count() - (1 if self.below is not None else 0), card)
        return self.cards[name]

    @property
    def on_sheet(self) -> bool:
        return bool(getattr(self.inner, "on_sheet", False))

    @property
    def on_solid(self) -> bool:
        return bool(getattr(self.inner, "on_solid", False))

    def choose(self, name: str) -> None:
        """Switch to the operation of this name."""
        self.combo.setCurrentIndex(list(self.ways).index(name))

    def _switch(self) -> None:
        self.window_.drop()
        for card in self.cards.values():
            card.hide()
            card.fold()
        if self.is_open:
            self.inner.show()
            self.inner.open()
            self.window_.card_changed()

    def open(self) -> None:
        super().open()
        self._switch()

    def fold(self) -> None:
        super().fold()
        for card in self.cards.values():
            card.fold()

    def refresh(self) -> None:
        if self.is_open and self.inner.isVisibleTo(self):
            self.inner.refresh()
        if self.below is not None:
            self.below.refresh()

    def confirm(self) -> None:
        self.inner.confirm()
