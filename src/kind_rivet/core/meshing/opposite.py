"""Opposite sides of four-sided regions get equal divisions, so that rows run from one to the other."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.patch import Patch
from kind_rivet.core.meshing.sizes import poor_sides, shared_out
from kind_rivet.core.meshing.washers import LEAST_SIDE

LONGEST = 1.85  # sizes: sides up to which what lies opposite alone decides the count of an edge
UNLIKE = 0.55  # of their mean: opposite sides are not given equal counts where one wants fewer
NEARLY = 0.08  # of the greater count: opposite sides of regions with holes are given equal counts where they differ by less
ROUNDS = 6  # in which sides of several edges follow each other
Sides = tuple[list[int], list[int], list[int], list[int]]


@dataclass(frozen=True)
class Wishes:
    """What is known of edges before their counts are brought together.

    lengths : (e,) in the sizes wanted along them
    held : (e,) whose counts stay
    by_hand : (e,) whose counts were set by hand: what lies opposite follows these however long its sides become
    """

    lengths: Floats
    held: NDArray[np.bool_]
    by_hand: NDArray[np.bool_]

    def too_long(self, edges: list[int], count: int) -> bool:
        """Would a count leave some edges together with far too long sides?"""
        return bool(self.lengths[edges].sum() > LONGEST * max(count, 1))


def alike_sides(sides: Sides, count: NDArray[np.int64], wishes: Wishes) -> Sides:
    """The four sides without those pairs that differ so much that equal counts would make the divisions of one far too short or long."""
    out = [list(side) for side in sides]
    for a, c in ((0, 2), (1, 3)):
        total = {k: int(count[sides[k]].sum()) for k in (a, c)}
        mean = sum(total.values()) / 2
        short = min(total.values()) < UNLIKE * mean
        if total[a] != total[c]:
            short |= min(wishes.lengths[sides[k]].sum() for k in (a, c)) < 1.2 * LEAST_SIDE * mean
        firm = [k for k in (a, c) if any(wishes.held[e] and count[e] for e in sides[k])]
        far = len(firm) == 1 and not wishes.by_hand[sides[firm[0]]].any() and wishes.too_long(sides[a + c - firm[0]], total[firm[0]])
        if (short and not firm) or far:
            out[a], out[c] = [], []
    return out[0], out[1], out[2], out[3]


def match_opposite(four: list[Sides], holed: list[Sides], patches: list[Patch | None], count: NDArray[np.int64], wishes: Wishes) -> None:
    """Give opposite sides of four-sided regions equal sums; counts that are held, or follow a held one, stay.

    Those of `holed` regions, which are meshed without rows as well, are only brought together where they are nearly equal.
    """
    matching = _Matching(count, wishes, edge_uses(patches, len(count)), _groups(four, count, wishes.held))
    for _ in range(ROUNDS):
        changed = False
        for a, c in _pairs(four):
            if a and c and (len(a) > 1 or len(c) > 1):
                changed |= matching.bring_together(a, c)
        for a, c in _pairs(holed):
            total = sorted(int(count[side].sum()) for side in (a, c))
            if a and c and total[1] - total[0] <= NEARLY * total[1] + 0.5:
                changed |= matching.bring_together(a, c)
        if not changed:
            break


def _pairs(lot: list[Sides]) -> list[tuple[list[int], list[int]]]:
    return [(sides[k], sides[k + 2]) for sides in lot for k in (0, 1)]


def _groups(four: list[Sides], count: NDArray[np.int64], held: NDArray[np.bool_]) -> list[list[int]]:
    """Edges that lie opposite each other alone, through any number of regions; the likest come together first.

    Regions side by side may each be a little wider at one end: from the first to the last they are so unlike
    that equal counts would suit neither. Only what follows held edges goes together all the same.
    """
    parent = list(range(len(count)))
    least, most = count.copy(), count.copy()
    firm = held & (count > 0)

    def root(e: int) -> int:
        while parent[e] != e:
            e = parent[e]
        return e

    def unlikeness(pair: tuple[int, int]) -> tuple[bool, float]:
        low, high = sorted(int(count[e]) for e in pair)
        return not firm[list(pair)].any(), high / low

    alone = [(a[0], c[0]) for a, c in _pairs(four) if len(a) == len(c) == 1]
    pairs = [pair for pair in alone if count[list(pair)].all()]  # a side that shrank to a node takes none with it
    for a, c in sorted(pairs, key=unlikeness):
        one, other = root(a), root(c)
        low, high = min(least[one], least[other]), max(most[one], most[other])
        if one == other or (low < UNLIKE * (low + high) / 2 and not (firm[one] or firm[other])):
            continue
        parent[one] = other
        least[other], most[other] = low, high
        firm[other] |= firm[one]
    groups: dict[int, list[int]] = {}
    for e in range(len(count)):
        groups.setdefault(root(e), []).append(e)
    return list(groups.values())


class _Matching:
    """Counts while they are brought together: which are firm (held, or bound to follow something held), and which edges are kin (have one count)."""

    def __init__(self, count: NDArray[np.int64], wishes: Wishes, uses: NDArray[np.int64], groups: list[list[int]]) -> None:
        self.count, self.wishes, self.uses = count, wishes, uses
        self.firm, self.by_hand = wishes.held.copy(), wishes.by_hand.copy()
        self.kin = {e: group for group in groups for e in group}
        for group in groups:
            if len(group) > 1:
                self._settle(group)

    def _settle(self, group: list[int]) -> None:
        """One count for a group: that of what is held, else the mean; what is far too long for a held one goes its own way."""
        held = [e for e in group if self.wishes.held[e]]
        by_hand = bool(self.by_hand[group].any())
        if held:
            value = max(int(self.count[e]) for e in held)
        else:
            mean = max(round(float(self.count[group].mean())), int(self.count[group].min()))
            value = _bearable(mean, self.wishes.lengths[group])
        loose = [e for e in group if held and not by_hand and not self.wishes.held[e] and self.wishes.too_long([e], value)]
        follow = [e for e in group if not self.wishes.held[e] and e not in loose]
        self.count[follow] = value
        self.firm[follow] |= bool(held)
        self.by_hand[follow] |= by_hand
        for e in loose:
            self.kin[e] = [e]

    def bring_together(self, a: list[int], c: list[int]) -> bool:
        """Change the side of two that is bound by less, so that both sums are equal; True if anything changed.

        The other one where the first would be left with sides far too long.
        """
        count, firm = self.count, self.firm
        gap = int(count[a].sum() - count[c].sum())
        changed = False
        if gap and abs(gap) <= 0.25 * max(count[a].sum(), count[c].sum()) + 2:
            # Free edges bind nobody, edges of a split side bind fewer others; what follows something held stays.
            order = sorted(((a, c, -gap), (c, a, gap)), key=lambda way: (self.uses[way[0]].max(), -len(way[0])))
            for side, opposite, more in order:
                free = [e for e in side if not firm[e]]
                if not free:
                    continue
                dealt = self._dealt(free, more)
                if not dealt:
                    break
                if not self.by_hand[opposite].any() and any(n < count[e] and self.wishes.too_long([e], n) for e, n in dealt.items()):
                    continue
                before = count.copy()
                for e, n in dealt.items():
                    count[[e, *(other for other in self.kin[e] if not firm[other])]] = n
                if count[a].sum() != count[c].sum():  # its kin lie opposite too: both would grow round by round
                    count[:] = before
                    continue
                gap, changed = 0, True
                break
        if gap == 0 and firm[a].all() != firm[c].all():
            firm[a], firm[c] = True, True
            changed = True
        return changed

    def _dealt(self, free: list[int], more: int) -> dict[int, int]:
        """Counts of some edges with so many more in all; none where they cannot take so many."""
        total = int(self.count[free].sum())
        if not len(free) <= total + more <= 2 * total:
            return {}
        return dict(zip(free, shared_out(total + more, [float(self.count[e]) / total for e in free]), strict=True))


def _bearable(count: int, lengths: Floats) -> int:
    """A count for edges of some lengths (k,), in sizes, more where it would leave one of them far too long."""
    if lengths.max(initial=0.0) <= LONGEST * count:
        return count
    return min(range(count, int(lengths.max()) + 1), key=lambda n: (float(poor_sides(lengths / n).max()), n))


def edge_uses(patches: list[Patch | None], edges: int) -> NDArray[np.int64]:
    """Regions (e,) that each edge bounds; 1 at free edges and seams."""
    uses = np.zeros(edges, np.int64)
    for patch in patches:
        for e in {p.edge for loop in patch.loops for p in loop if p.edge >= 0} if patch else ():
            uses[e] += 1
    return uses
