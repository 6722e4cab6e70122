"""What is prepared on a body without touching it: recipes that are applied to its sheet and can be taken back.

Every recipe names places, not numbers, so that it finds its face or edge again after the
geometry has changed.
"""

from __future__ import annotations

from dataclasses import dataclass

from kind_rivet.core.geometry.carriers import Triple
from kind_rivet.core.midsurface.hand import Hand


@dataclass(frozen=True)
class LeftOut:
    """A hole that later stops look past, known by its place; `hard_point` leaves a node at its centre."""

    body: int
    centre: Triple
    axis: Triple
    diameter: float
    hard_point: bool = False


@dataclass(frozen=True)
class LookedPast:
    """An edge that the mesh ignores, known by a point in its middle and its length.

    `join`: the faces on both sides become one region; else the edge only runs on into its neighbour.
    """

    body: int
    middle: Triple
    length: float
    join: bool = True


@dataclass(frozen=True)
class Split:
    """A cut through faces: `way` and its measures as in `kind_rivet.core.geometry.split.FIELDS`, near the point `at`."""

    body: int
    way: str
    measures: tuple[float, ...]
    at: Triple
    label: str = ""


@dataclass(frozen=True)
class WallChoice:
    """A decision by hand about the walls of a body."""

    body: int
    hand: Hand
    label: str = ""


@dataclass(frozen=True)
class Bridge:
    """A strip between two free edges of a sheet, known by their middles and lengths."""

    body: int
    first: Triple
    first_length: float
    second: Triple
    second_length: float


@dataclass(frozen=True)
class EdgeMove:
    """A free edge of a sheet, known by its middle and length, that is moved to the wall at `place`."""

    body: int
    middle: Triple
    length: float
    place: Triple


@dataclass(frozen=True)
class HardPoint:
    """A place where the mesh must have a node."""

    body: int
    place: Triple


@dataclass(frozen=True)
class WorkingPlane:
    """A named plane to build on and to cut with."""

    name: str
    origin: Triple
    normal: Triple


@dataclass(frozen=True)
class WorkingPoint:
    """A named point to build on."""

    name: str
    place: Triple


@dataclass(frozen=True)
class SavedView:
    """A camera (focal point, position, up, scale) and what was hidden, by name."""

    name: str
    camera: tuple[float, ...]
    hidden: tuple[str, ...] = ()


@dataclass(frozen=True)
class Joint:
    """What joining left: `kind` joined or gap, between two bodies, with the gap's width and a place to look at."""

    kind: str
    bodies: tuple[int, int]
    width: float
    place: Triple
