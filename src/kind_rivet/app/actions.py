"""One registry of actions: it feeds keys, the finder, buttons and the docs."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True)
class Action:
    """`words` is what the finder searches, `key` a Qt key sequence or empty."""

    name: str
    title: str
    tip: str
    run: Callable[[], None]
    key: str = ""
    enabled: Callable[[], bool] = lambda: True


class ActionRegistry:
    def __init__(self) -> None:
        self.actions: dict[str, Action] = {}

    def add(
        self, name: str, title: str, tip: str, run: Callable[[], None], key: str = "", enabled: Callable[[], bool] | None = None
    ) -> None:
        self.actions[name] = Action(name, title, tip, run, key, enabled or (lambda: True))

    def find(self, words: str) -> list[Action]:
        """Actions whose title or tip holds all the words, titles first."""
        wanted = words.lower().split()
        hits = []
        for a in self.actions.values():
            title, tip = a.title.lower(), a.tip.lower()
            if all(w in title or w in tip for w in wanted):
                hits.append((-sum(w in title for w in wanted), a.title, a))
        return [a for _, _, a in sorted(hits, key=lambda h: h[:2])]
