"""What the analyst asks of a shell mesh."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field


@dataclass(frozen=True)
class WasherRule:
    """Rings for round holes whose diameter lies in [least, most).

    `width` is the ring's width as a factor of the wanted size; `divisions` 0 means: chosen, always even.
    """

    least: float = 0.0
    most: float = float("inf")
    rings: int = 1
    width: float = 0.0  # 0: between 0.7 and 1.2 sizes, growing with the hole
    divisions: int = 0


@dataclass(frozen=True)
class ShellRules:
    """Size and refinements of a shell mesh; lengths in document units, angles in degrees."""

    size: float
    growth: float = 0.25
    bend_angle: float = 45.0  # most a single element may turn round a bend
    washers: tuple[WasherRule, ...] = (WasherRule(),)
    divisions: Mapping[int, int] = field(default_factory=dict)  # edge → count, set by hand
    look_past: float = 0.352  # edges shorter than this share of the size shrink to one node: a little above where the default limit sheet fails a side
    two_rows: bool = True  # at least two rows across any strip wider than 0.75 sizes

    def washer_for(self, diameter: float) -> WasherRule | None:
        return next((rule for rule in self.washers if rule.least <= diameter < rule.most and rule.rings > 0), None)
