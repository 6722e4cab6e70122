"""What the analyst asks of a shell mesh."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

Triple = tuple[float, float, float]


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
class WasherAt:
    """A rule for the one hole of a body that lies at `centre`."""

    body: int
    centre: Triple
    rule: WasherRule


@dataclass(frozen=True)
class Grading:
    """Sides along an edge that grow: the short ones lie `towards` start, end, both ends or the middle; longest over shortest is `ratio`."""

    towards: str
    ratio: float


@dataclass(frozen=True)
class LocalSize:
    """A size of its own on walls or edges of a body (`items`), or inside a ball (`low` its centre) or box in space."""

    size: float
    kind: str  # faces, edges, ball, box
    body: int = 0
    items: tuple[int, ...] = ()
    low: Triple = (0.0, 0.0, 0.0)
    high: Triple = (0.0, 0.0, 0.0)
    radius: float = 0.0


@dataclass(frozen=True)
class ShellRules:
    """Size and refinements of a shell mesh; lengths in document units, angles in degrees; faces and edges of the sheet by number."""

    size: float
    growth: float = 0.25
    bend_angle: float = 45.0  # most a single element may turn round a bend
    washers: tuple[WasherRule, ...] = (WasherRule(),)
    washers_at: tuple[WasherAt, ...] = ()
    divisions: Mapping[int, int] = field(default_factory=dict)  # edge → count, set by hand
    grading: Mapping[int, Grading] = field(default_factory=dict)  # edge → grading, set by hand
    face_size: Mapping[int, float] = field(default_factory=dict)
    edge_size: Mapping[int, float] = field(default_factory=dict)
    places: tuple[LocalSize, ...] = ()  # balls and boxes
    ways: Mapping[int, str] = field(default_factory=dict)  # face → regular or free, where that is forced
    trias: str = ""  # empty: quads; "tria", "right-angled": quads cut in two
    look_past: float = 0.34  # of the size: shorter edges shrink to a node; about where the default limits fail a side
    two_rows: bool = True  # at least two rows across any strip wider than 0.75 sizes

    def washer_for(self, diameter: float, centre: Triple | None = None) -> WasherRule | None:
        """The rule for a hole: its own, else the first of the table that fits its diameter; None: no ring."""
        if centre is not None:
            for at in self.washers_at:
                if sum((a - b) ** 2 for a, b in zip(at.centre, centre, strict=True)) < (0.25 * diameter) ** 2:
                    return at.rule if at.rule.rings > 0 else None
        return next((rule for rule in self.washers if rule.least <= diameter < rule.most and rule.rings > 0), None)

    def ring_width(self, radius: float, centre: Triple) -> float:
        """The width, in sizes, that a rule asks for round a hole; 0 where it is left to the mesher."""
        rule = self.washer_for(2 * radius, centre)
        return 0.0 if rule is None else rule.width

    def size_on(self, faces: tuple[int, ...]) -> float:
        """The wanted size inside a region made of some faces, balls and boxes left aside."""
        return min((self.face_size.get(f, self.size) for f in faces), default=self.size)
