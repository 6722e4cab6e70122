"""What an analyst decides by hand about the walls of a body; the rest stays automatic."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Floats, Triple
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.midsurface.cells import CutMiddle
from kind_rivet.core.midsurface.fields import Field, settle
from kind_rivet.core.midsurface.middles import Between, Middle
from kind_rivet.core.midsurface.network import Cell
from kind_rivet.core.midsurface.pairs import Opposed, Pair

HAIR = 1e-4  # walls
KINDS = ("pair", "drop", "meet", "keep", "leave")


@dataclass(frozen=True)
class Hand:
    """One decision, at places on or near the walls it is about.

    kind : "pair" (two places on opposite sides, or one and its partner is found; the sheet lies
        `share` of the wall under the first), "drop" (no wall here), "meet" (two walls are led
        on until they meet), "keep" and "leave" (the piece of a wall at the place)
    """

    kind: str
    places: tuple[Triple, ...]
    share: float = 0.5


def chosen_pairs(
    shape: Shape, tree: FacetTree, opposed: Opposed, pairs: list[Pair], fields: list[Field], hands: tuple[Hand, ...]
) -> list[Pair]:
    """The pairs with those chosen by hand, which replace what was found between the same faces."""
    out = list(pairs)
    for hand in hands:
        if hand.kind != "pair":
            continue
        a = _face_at(shape, tree, hand.places[0])
        known = [p for p in out if a in (p.a, p.b)]
        if len(hand.places) == 1 and known:  # one side: all walls under it
            turned = [replace(p, a=a, b=p.b if p.a == a else p.a, share=_inside(hand.share)) for p in known]
            out = [*turned, *(p for p in out if a not in (p.a, p.b))]
            continue
        b = _face_at(shape, tree, hand.places[1]) if len(hand.places) > 1 else _partner(opposed, a)
        if a == b:
            raise Refused("Both places lie on the same face.", "Choose two faces that lie opposite each other.")
        mine = ((opposed.face == a) & (opposed.partner == b)) | ((opposed.face == b) & (opposed.partner == a))
        if mine.any():
            middle, wall = opposed.middle[mine], float(np.median(opposed.wall[mine]))
        else:
            middle = _between(shape, a, fields[a], fields[b])
            wall = float(np.median(-(fields[a](middle)[0] + fields[b](middle)[0])))
        if wall <= 0:
            raise Refused("Nothing of the body lies between these two faces.", "Choose two faces that lie opposite each other.")
        out = [p for p in out if {p.a, p.b} != {a, b}]
        out.insert(0, Pair(a, b, wall, float(opposed.weight[mine].sum() / 2) if mine.any() else wall**2, middle, _inside(hand.share)))
    return out


def without_dropped(shape: Shape, tree: FacetTree, middles: list[Middle], hands: tuple[Hand, ...]) -> list[Middle]:
    """The middles less those that are dropped."""
    gone = {wall_at(shape, tree, middles, np.array(hand.places[0])) for hand in hands if hand.kind == "drop"}
    return [m for k, m in enumerate(middles) if k not in gone]


def led_on(shape: Shape, tree: FacetTree, middles: list[Middle], hands: tuple[Hand, ...]) -> set[tuple[int, int]]:
    """Pairs of middles that are to meet, however far they end from each other."""
    out = set()
    for hand in hands:
        if hand.kind != "meet" or len(hand.places) < 2:
            continue
        a, b = (wall_at(shape, tree, middles, np.array(p)) for p in hand.places[:2])
        if a != b:
            out.add((min(a, b), max(a, b)))
            gap = min(float(np.linalg.norm(middles[a].samples - p, axis=1).min()) for p in middles[b].samples)
            for m in (a, b):
                middles[m].least_reach = max(middles[m].least_reach, 1.5 * gap)
    return out


def forced(middles: list[Middle], cuts: list[CutMiddle | None], hands: tuple[Hand, ...]) -> dict[Cell, bool]:
    """Pieces of walls that must be kept (True) or left (False)."""
    import shapely

    out: dict[Cell, bool] = {}
    for hand in hands:
        if hand.kind not in ("keep", "leave"):
            continue
        p = np.array(hand.places[0])[None]
        best, found = np.inf, None
        for m, cut in enumerate(cuts):
            if cut is None:
                continue
            away = abs(float(middles[m].field(p)[0][0])) / middles[m].wall
            spot = shapely.Point(middles[m].chart.flat(p)[0])
            for c, cell in enumerate(cut.cells):
                if away < min(best, 1.5) and cell.polygon.distance(spot) < 1e-3 * middles[m].wall:
                    best, found = away, (m, c)
        if found is not None:
            out[found] = hand.kind == "keep"
    return out


def wall_at(shape: Shape, tree: FacetTree, middles: list[Middle], place: Floats) -> int:
    """Number of the middle of the wall at a place on or in it. Raises `Refused` when there is none."""
    f = _face_at(shape, tree, (float(place[0]), float(place[1]), float(place[2])))
    near = [k for k, m in enumerate(middles) if f in m.sides[0] | m.sides[1]]
    lots = near or range(len(middles))
    away = [(abs(float(middles[k].field(place[None])[0][0])) + (0.0 if near else _gap(middles[k], place)), k) for k in lots]
    if not away or min(away)[0] > 3 * middles[min(away)[1]].wall:
        raise Refused("There is no wall at this place.", "Choose a side of a wall, or the wall on the midsurface.")
    return min(away)[1]


def _inside(share: float) -> float:
    """A sheet on a side itself is drawn a hair inside, so that it can be told what is inside the solid."""
    return float(np.clip(share, HAIR, 1 - HAIR))


def _gap(middle: Middle, place: Floats) -> float:
    return float(np.linalg.norm(middle.samples - place, axis=1).min())


def _face_at(shape: Shape, tree: FacetTree, place: Triple) -> int:
    facet, _, _ = tree.nearest(np.array(place)[None])
    return int(shape.facet_face[facet[0]])


def _partner(opposed: Opposed, face: int) -> int:
    """The face that most of a face lies opposite to. Raises `Refused` when there is none."""
    mine = opposed.face == face
    if not mine.any():
        raise Refused("Nothing lies opposite this face.", "Choose the second side too.")
    weight = np.bincount(opposed.partner[mine], opposed.weight[mine])
    return int(np.argmax(weight))


def _between(shape: Shape, face: int, first: Field, second: Field) -> Floats:
    """Points midway between a face and the carrier of another."""
    facets = shape.facets[shape.facet_face == face]
    return settle(shape.points[facets].mean(axis=1), [Between(first, second)])[0]
