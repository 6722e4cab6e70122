"""Holes of a pattern get divisions that suit the directions to their neighbours, so that every hole and every cell between them is alike."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.patch import Patch
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.washers import OUTWARD, RoundHole, most_sides, turned_to
from kind_rivet.core.quality.growth import AIM
from kind_rivet.core.quality.limits import MOST_GROWTH

LEAST_HOLES = 6
HEXAGON = 7.2  # divisions wanted up to which six are taken for a pattern of three directions, though twelve would fit
EQUAL = 0.02  # share by which radii of a pattern may differ
LEAST_SEEN = 2.4  # neighbours of a hole, on average
FAR = 4.0  # sizes between two holes up to which they see each other
OFF = 5.0  # degrees by which the way to a neighbour may be off a direction of the pattern
ROW = 0.5  # of the size: least width of a ring and of a row between two rings, in triangular patterns
LEAST_GAPS = 0.5, 0.46  # of the size: left between two rings for the sake of even sizes, and where that is not enough
CLEAR = 1.02  # half distances of two holes round the middle between them, within which no third one lies
FOLDS = (4, 6)  # directions round a hole: square and triangular patterns


def follow_patterns(shape: Shape, patches: list[Patch | None], holes: list[RoundHole], rules: ShellRules) -> list[RoundHole]:
    """The holes, those of patterns with divisions that are a multiple of the directions in which their neighbours lie, a node on each."""
    out = list(holes)
    for region, patch in enumerate(patches):
        mine = [k for k, hole in enumerate(holes) if hole.region == region and len(set(hole.shares)) < 2]
        if patch is None or len(mine) < LEAST_HOLES:
            continue
        lots: dict[tuple[bool, int], list[int]] = {}
        for place, k in enumerate(mine):
            if not holes[k].rim and not any(e in rules.divisions for e in holes[k].edges):
                lots.setdefault((bool(holes[k].shares), round(np.log(holes[k].radius) / EQUAL)), []).append(place)
        lots = {name: lot for name, lot in lots.items() if len(lot) >= LEAST_HOLES}
        if not lots:
            continue
        around = _Around.of([holes[k] for k in mine], patch, rules.size, [place for lot in lots.values() for place in lot])
        for lot in lots.values():
            made = _as_pattern([holes[mine[place]] for place in lot], [around.of_hole(place) for place in lot], shape, patch, rules)
            for place, hole in zip(lot, made, strict=True):
                out[mine[place]] = hole
    return out


@dataclass(frozen=True)
class _Around:
    """Neighbouring holes: pairs of places (p, 2), the angle (rad) from the first to the second, and the gap between them."""

    pairs: NDArray[np.int64]
    angle: Floats
    gap: Floats

    @classmethod
    def of(cls, holes: list[RoundHole], patch: Patch, size: float, alike: list[int]) -> _Around:
        """What the `alike` holes see of each other: the bore amid a circle of bolts makes no pattern of it."""
        centres = patch.discs[0][[hole.loop for hole in holes]]
        radius = np.array([hole.radius for hole in holes])
        pairs = neighbours(centres)
        way = centres[pairs[:, 1]] - centres[pairs[:, 0]]
        gap = np.linalg.norm(way, axis=1) - radius[pairs].sum(axis=1)
        near = (gap < FAR * size) & np.isin(pairs, alike).all(axis=1)
        return cls(pairs[near], np.arctan2(way[near, 1], way[near, 0]), gap[near])

    def of_hole(self, place: int) -> tuple[Floats, Floats]:
        """Angles to the neighbours of one hole, and the gaps to them."""
        first, second = self.pairs[:, 0] == place, self.pairs[:, 1] == place
        return np.concatenate((self.angle[first], self.angle[second] + np.pi)), np.concatenate((self.gap[first], self.gap[second]))


def _as_pattern(
    holes: list[RoundHole], around: list[tuple[Floats, Floats]], shape: Shape, patch: Patch, rules: ShellRules
) -> list[RoundHole]:
    """Equal holes of one region with divisions, widths and turns that suit their neighbours."""
    angles, gap = (np.concatenate([one[k] for one in around]) for k in (0, 1))
    if len(gap) < LEAST_SEEN * len(holes):  # one row, or a circle of bolts
        return holes
    radius, polygon = holes[0].radius, bool(holes[0].shares)
    fold, first = _directions(np.degrees(angles)) or (FOLDS[0], None)
    reach = float(np.median([sum(hole.widths) for hole in holes])) or float(np.median(gap)) / 2
    wanted = 2 * np.pi * (radius + OUTWARD * reach) / rules.size
    count = holes[0].divisions if polygon else _count(fold, wanted, most_sides(radius, rules.size))
    if count is None:
        return holes
    two = fold == 6 and (count % 12 == 0 or polygon)  # one row between rings would leave cells with an odd border
    widths = [_widths(hole, float(gap.min()) / 2, rules.size) if two else hole.widths for hole in holes]
    if (fold, count) in ((4, 8), (4, 12), (6, 12)) and not polygon:
        even = _EvenRings(fold, count, float(gap.min()))
        widths = [even.widths(replace(hole, widths=own), patch, rules) for hole, own in zip(holes, widths, strict=True)]
    if polygon:
        return [replace(hole, widths=own) for hole, own in zip(holes, widths, strict=True)]
    out = []
    for hole, own, (towards, far) in zip(holes, widths, around, strict=True):
        rule = rules.washer_for(2 * radius, hole.centre)
        if (rule is not None and rule.divisions) or not len(towards):
            out.append(hole)
            continue
        angle = _own_direction(towards, far + 2 * radius, count) if first is None else np.radians(first)
        out.append(turned_to(replace(hole, divisions=count, widths=own), shape, patch, angle))
    return out


def neighbours(centres: Floats) -> NDArray[np.int64]:
    """Pairs (p, 2) of points (n, 2) with no other point within the circle round the middle between them (Gabriel's graph)."""
    try:
        corners = scipy.spatial.Delaunay(centres).simplices
        pairs = np.unique(np.sort(np.concatenate((corners[:, [0, 1]], corners[:, [1, 2]], corners[:, [2, 0]])), axis=1), axis=0)
    except scipy.spatial.QhullError:  # all on one line
        order = np.lexsort(centres.T)
        pairs = np.column_stack((order[:-1], order[1:]))
    a, b = centres[pairs[:, 0]], centres[pairs[:, 1]]
    within = CLEAR * np.linalg.norm(b - a, axis=1) / 2
    alone = scipy.spatial.cKDTree(centres).query_ball_point((a + b) / 2, within, return_length=True) == 2
    return np.asarray(pairs[alone], np.int64)


def _directions(degrees: Floats) -> tuple[int, float] | None:
    """The fold of a pattern and its first direction (degrees), where nearly all ways to neighbours follow it."""
    for fold in FOLDS:
        step = 360.0 / fold
        first = float(np.degrees(np.angle(np.exp(1j * fold * np.radians(degrees)).sum())) / fold)
        off = np.abs((degrees - first + step / 2) % step - step / 2)
        if np.mean(off < OFF) > 0.9:
            return fold, first
    return None


def _own_direction(towards: Floats, far: Floats, count: int) -> float:
    """Angle (rad) of a first node with which the nodes of a hole lie nearest to the ways to its neighbours, the near ones above all."""
    return float(np.angle((np.exp(1j * count * towards) / far**2).sum()) / count)


def _widths(hole: RoundHole, half: float, size: float) -> tuple[float, ...]:
    """Ring widths that leave room for two rows between a ring and that of a neighbour, `half` way between the holes."""
    total = sum(hole.widths)
    if total <= half - ROW * size:
        return hole.widths
    left = half - ROW * size
    if left >= ROW * size * len(hole.widths) > 0:
        return tuple(w * left / total for w in hole.widths)
    return (left,) if left >= ROW * size else ()


@dataclass(frozen=True)
class _EvenRings:
    """Rings amid a pattern made so wide that neither they nor the cells between the holes differ too much in size; `gap` between two holes."""

    fold: int
    count: int
    gap: float

    def widths(self, hole: RoundHole, patch: Patch, rules: ShellRules) -> tuple[float, ...]:
        rule = rules.washer_for(2 * hole.radius, hole.centre)
        if len(hole.widths) != 1 or (rule is not None and rule.width > 0) or self._holds_more(hole, patch):
            return hole.widths
        for gap in LEAST_GAPS:
            width = np.linspace(hole.widths[0], max(hole.widths[0], (self.gap - gap * rules.size) / 2), 20)
            areas = self._areas(hole.radius, hole.radius + width)
            growth = np.max([np.sqrt(np.maximum(one / other, other / one)) for one, other in areas], axis=0)
            if growth.min() < MOST_GROWTH:
                break
        fits = np.flatnonzero(growth <= AIM)
        return (float(width[fits[0] if len(fits) else np.argmin(growth)]),)

    def _holds_more(self, hole: RoundHole, patch: Patch) -> bool:
        """Does a hole lie amid a square of others? Then there are no such cells."""
        pitch = self.gap + 2 * hole.radius
        centres, _ = patch.discs
        near = np.linalg.norm(np.delete(centres, [0, hole.loop], axis=0) - centres[hole.loop], axis=1) < 0.9 * pitch
        return self.fold == 4 and bool(near.any())

    def _areas(self, radius: float, reach: Floats) -> list[tuple[Floats, Floats]]:
        """Areas of quads that lie side by side, for rings of some radii `reach` (n,)."""
        pitch = self.gap + 2 * radius
        turn = 2 * np.pi / self.count
        ring = np.sin(turn) / 2 * (reach**2 - radius**2)
        if self.fold == 6:  # twelve quads between ring and hexagon
            return [(ring, (np.tan(turn) * pitch**2 / 4 - np.sin(turn) * reach**2) / 2)]
        between = (pitch - (1 + np.cos(turn)) * reach) * np.sin(turn) * reach  # two between neighbouring rings
        if self.count == 8:  # a square between four of them
            square = (pitch - 2 * np.sin(turn) * reach) ** 2
            return [(ring, between), (between, square)]
        quarter = ((pitch - reach) ** 2 - 2 * (np.cos(turn) - 0.5) ** 2 * reach**2) / 4  # four in an octagon between four of them
        return [(ring, between), (between, quarter), (ring, quarter)]


def _count(fold: int, wanted: float, most: float) -> int | None:
    """The multiple of a fold next to the count wanted, two for each direction where they fit; None where none is better than a hexagon."""
    if 6 <= most < 8:
        return 6 if fold == 6 else None
    least = fold if 2 * fold > most or (fold == 6 and wanted < HEXAGON) else 2 * fold
    count = max(least, fold * round(wanted / fold))
    while count > max(most, least):
        count -= fold
    return count if least <= most and count % 2 == 0 else None
