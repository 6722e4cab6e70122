"""Barbs: bits of walls that stick out beyond another within that one's thickness, where a corner of theirs ends aslant in it."""

from __future__ import annotations

import numpy as np

from kind_rivet.core.midsurface.cells import CutMiddle
from kind_rivet.core.midsurface.middles import Middle
from kind_rivet.core.midsurface.network import Cell, Network, Side

SMALL = 0.5  # squared walls: larger bits are walls of their own
WITHIN = 0.55  # walls from the other's middle at which a bit still lies in it
HAIR = 0.1  # walls: free edges of other walls up to this are put up with
ALONG = 0.9  # cosine between two walls that run alongside


def without_barbs(kept: set[Cell], middles: list[Middle], cuts: list[CutMiddle | None], network: Network) -> set[Cell]:
    """Kept cells without barbs; bits at which the edge of another wall would be left free stay."""
    root = _roots(kept, network)
    sides: dict[Cell, list[Side]] = {}
    for side in network.sides:
        for r in {root[c] for c in side.cells if c in kept}:
            sides.setdefault(r, []).append(side)
    area: dict[Cell, float] = {}
    for m, c in kept:
        cut = cuts[m]
        assert cut is not None
        area[root[m, c]] = area.get(root[m, c], 0.0) + float(cut.cells[c].area)
    small = {r for r in area if area[r] < SMALL * middles[r[0]].wall ** 2 and r in sides}
    barbs = {r for r in small if _sticks_out(r, sides[r], root, kept, middles, network)}
    while left := {r for r in barbs if _left_free(sides[r], root, kept, barbs, network) > HAIR * middles[r[0]].wall}:
        barbs -= left
    return {cell for cell in kept if root[cell] not in barbs}


def _roots(kept: set[Cell], network: Network) -> dict[Cell, Cell]:
    """One cell of the face that each kept cell belongs to: cells of one wall with nothing else between them."""
    parent = {c: c for c in kept}

    def root(c: Cell) -> Cell:
        while parent[c] != c:
            c = parent[c]
        return c

    for side in network.sides:
        lot = [c for c in side.cells if c in kept]
        if len(lot) == 2 and lot[0][0] == lot[1][0]:
            a, b = sorted((root(lot[0]), root(lot[1])))
            parent[b] = a
    return {c: root(c) for c in kept}


def _beside(side: Side, root: dict[Cell, Cell], kept: set[Cell], without: set[Cell]) -> list[Cell]:
    """Kept cells on both hands of a side on every wall, some faces left out."""
    lot = [(p.middle, c) for p in side.at for c in p.beside if (p.middle, c) in kept]
    return [cell for cell in lot if root[cell] not in without]


def _left_free(sides: list[Side], root: dict[Cell, Cell], kept: set[Cell], barbs: set[Cell], network: Network) -> float:
    """Length of edges that would be left with one face."""
    alone = [side.nodes for side in sides if len(_beside(side, root, kept, barbs)) == 1]
    return sum(float(np.linalg.norm(network.points[a] - network.points[b])) for a, b in alone)


def _sticks_out(r: Cell, sides: list[Side], root: dict[Cell, Cell], kept: set[Cell], middles: list[Middle], network: Network) -> bool:
    """Does a face lie in the thickness of a wall that runs through where they meet, with an edge of its own free?"""
    through: set[int] = set()
    free = False
    for side in sides:
        rest = _beside(side, root, kept, {r})
        free |= not rest
        counts = [m for m, _ in rest]
        through |= {m for m in counts if m != r[0] and counts.count(m) > 1}
    if not free or not through:
        return False
    p = network.points[sorted({v for side in sides for v in side.nodes})]
    normal = middles[r[0]].normal(p)
    for k in sorted(through):
        value, _ = middles[k].field(p)
        along = np.abs(np.einsum("ij,ij->i", normal, middles[k].normal(p)))
        if np.abs(value).max() < WITHIN * middles[k].wall and along.max() < ALONG:
            return True
    return False
