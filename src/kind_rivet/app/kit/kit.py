"""The Kit: the cards of the current stop, one of them open."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QScrollArea, QVBoxLayout, QWidget

from kind_rivet.app.kit.card import Card
from kind_rivet.app.kit.cards import make_cards

if TYPE_CHECKING:
    from kind_rivet.app.window import MainWindow


class Kit(QScrollArea):
    def __init__(self, window: MainWindow) -> None:
        super().__init__()
        self.setWidgetResizable(True)
        self.setMinimumWidth(300)
        inside = QWidget()
        self.rows = QVBoxLayout(inside)
        self.rows.setContentsMargins(6, 8, 8, 8)
        self.rows.setSpacing(6)
        self.cards = make_cards(window)
        for lot in self.cards.values():
            for card in lot:
                self.rows.addWidget(card)
                card.hide()
        self.rows.addStretch(1)
        self.setWidget(inside)
        self.stop = ""

    @property
    def open_card(self) -> Card | None:
        return next((c for c in self.cards.get(self.stop, []) if c.is_open), None)

    def show_stop(self, stop: str) -> None:
        if stop == self.stop:
            return
        for card in self.cards.get(self.stop, []):
            card.fold()
            card.hide()
        self.stop = stop
        for card in self.cards[stop]:
            card.show()
        self.open(self.first(stop))

    def first(self, stop: str) -> Card:
        cards = self.cards[stop]
        if stop == "part":
            return cards[1] if cards[0].window_.session.document.bodies else cards[0]
        return cards[0]

    def open(self, card: Card) -> None:
        for other in self.cards[self.stop]:
            if other is not card and other.is_open:
                other.fold()
        if not card.is_open:
            card.open()
        card.window_.card_changed()

    def toggle(self, card: Card) -> None:
        if card.is_open:
            card.fold()
            card.window_.card_changed()
        else:
            self.open(card)

    def refresh(self) -> None:
        for card in self.cards.get(self.stop, []):
            if card.is_open:
                card.refresh()
