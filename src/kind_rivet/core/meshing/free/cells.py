"""Regions with many holes are cut into cells along straight links between borders that face each other; cells that are alike are filled alike.

A front that runs through a whole hole pattern repeats its flaws from hole to hole; a cell between three or four
holes is so small that the best of many fillings can be had, once for all of its kind.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.free.fill import FlatMesh
from kind_rivet.core.meshing.free.links import Link, find_links
from kind_rivet.core.meshing.free.loops import next_nodes, with_holes
from kind_rivet.core.meshing.free.pieces import Fill, filled_pieces
from kind_rivet.core.meshing.free.repeats import Repeats
from kind_rivet.core.meshing.parity import odd_changes

LEAST = 6  # links of a region worth cutting along
EVEN_SHORT = 0.4  # of the size: the shortest side along a link that gets two sides rather than an odd count
SHORT, LONG = 0.55, 1.6  # sizes that a side along a link may have once its count was changed
DROPPED = 5.0  # sides by which a count must be off before a link is rather left out
AMID = 2.0  # sides more by which one must be off between two holes: rather than those of a pattern, links to the border change
PATTERN = 9  # borders from which holes make a pattern
Ints = NDArray[np.int64]


def fill_in_cells(loops: list[Floats], size: float, growth: float, fill: Fill) -> FlatMesh | None:
    """A mesh made of cells between links, each filled by `fill`; None where there are too few links.

    Loops and points are as for `fill.fill`. Raises `CannotFill` when a cell cannot be filled.
    """
    nodes, after = np.concatenate(loops), next_nodes(loops)
    links = find_links(loops, size, growth) if len(loops) > 2 else []
    if len(links) < LEAST:
        return None
    amid = len(loops[0]) if len(loops) > PATTERN else len(nodes)
    links = _evened(nodes, after, _between_cells(nodes, after, links), amid, size)
    if len(links) < LEAST:
        return None
    points, along = _with_links(nodes, links)
    cells = _Cells.between(nodes, after, links)
    if cells is None:
        return None
    outlines = cells.outlines(along)
    if any(sum(map(len, cell)) % 2 or len(np.unique(loop)) < len(loop) for cell in outlines for loop in cell):
        return None
    return filled_pieces(points, outlines, Repeats(size, fill).filled)


def _evened(nodes: Floats, after: Ints, links: list[Link], amid: int, size: float) -> list[Link]:
    """The links with counts that give every cell an even border; those on which no other count fits are left out.

    `amid`: number from which on nodes lie on holes of a pattern; links between two of these change last.
    """
    cells = _Cells.between(nodes, after, links)
    if cells is None:
        return []
    regions, sides = cells.borders()
    links = _even_round(regions, sides, [_coarser(link, size) for link in links], size)
    count = np.array([link.count for link in links] + sides)
    held = np.arange(len(count)) >= len(links)
    way = nodes[[link.end for link in links]] - nodes[[link.start for link in links]]
    direction = np.round(np.degrees(np.arctan2(way[:, 1], way[:, 0])) % 180.0 / 15.0) % 12
    other = [_other(link, size) for link in links]
    misfit = np.array([abs(link.row.sides - n) if n else DROPPED for link, n in zip(links, other, strict=True)])
    misfit += AMID * np.array([min(link.start, link.end) >= amid for link in links])
    cost = np.concatenate((np.round(misfit, 1) + 1e-3 * direction, np.zeros(len(sides))))  # parallel ones alike
    out: list[Link | None] = list(links)
    for k in odd_changes([[*lot, len(links) + c] for c, lot in enumerate(regions)], count, held, cost):
        out[k] = replace(links[k], count=other[k]) if other[k] else None
    return _between_cells(nodes, after, [link for link in out if link is not None])


def _even_round(regions: list[list[int]], sides: list[int], links: list[Link], size: float) -> list[Link]:
    """The links with even counts on all round odd cells, if that leaves fewer of them odd (triangular patterns)."""

    def odd(now: list[Link]) -> list[int]:
        return [c for c, lot in enumerate(regions) if (sides[c] + sum(now[k].count for k in lot)) % 2]

    before = odd(links)
    beside = {k for c in before for k in regions[c]}
    even = [_even(link, size) if k in beside else link for k, link in enumerate(links)]
    return even if len(odd(even)) < len(before) else links


def _between_cells(nodes: Floats, after: Ints, links: list[Link]) -> list[Link]:
    """The links that part two cells: one with the same cell on both sides would be passed twice on the way round it."""
    while (cells := _Cells.between(nodes, after, links)) is not None:
        twice = {k for lot in cells.borders()[0] for k in lot if lot.count(k) > 1}
        if not twice:
            return links
        links = [link for k, link in enumerate(links) if k not in twice]
    return []


def _even(link: Link, size: float) -> Link:
    """The link with an even count: the next best whose sides are not too short, else two where they are just long enough."""
    fits = [n for n in (2 * int(link.row.sides / 2), 2 * int(link.row.sides / 2) + 2) if n and _fits(link, n, size)]
    if not fits and link.row.length >= 2 * EVEN_SHORT * size and link.row.length <= 2 * LONG * size:
        fits = [2]
    return replace(link, count=min(fits, key=lambda n: abs(link.row.sides - n))) if fits else link


def _coarser(link: Link, size: float) -> Link:
    """The link with two sides less where its sides are shorter than need be: those of small holes are, and sides along links would follow them."""
    fewer = link.count - 2
    return replace(link, count=fewer) if fewer >= 2 and not _fits(link, link.count, size) and _fits(link, fewer, size) else link


def _other(link: Link, size: float) -> int:
    """The next best count along a link; 0 where none fits."""
    fits = [n for n in (link.count - 1, link.count + 1) if n and _fits(link, n, size)]
    return min(fits, key=lambda n: abs(link.row.sides - n), default=0)


def _fits(link: Link, count: int, size: float) -> bool:
    return SHORT * size <= link.row.length / count <= LONG * size


def _with_links(nodes: Floats, links: list[Link]) -> tuple[Floats, list[Ints]]:
    """All points, those along links after the border nodes, and the numbers along each link from end to end."""
    lots, along, at = [nodes], [], len(nodes)
    for link in links:
        share = link.row.shares(link.count)[1:-1, None]
        lots.append(nodes[link.start] * (1 - share) + nodes[link.end] * share)
        along.append(np.array([link.start, *range(at, at + link.count - 1), link.end]))
        at += link.count - 1
    return np.concatenate(lots), along


@dataclass(frozen=True)
class _Cells:
    """Closed walks along border sides and links, the region on their left, grouped by cell, outer walk first.

    Steps: n for the border side after node n, then two for every link, one each way.
    """

    nodes: int
    walks: list[list[list[int]]]

    @classmethod
    def between(cls, nodes: Floats, after: Ints, links: list[Link]) -> _Cells | None:
        """None where the walks do not come out."""
        n = len(nodes)
        tail = [*range(n), *(end for link in links for end in (link.start, link.end))]
        head = [*after.tolist(), *(end for link in links for end in (link.end, link.start))]
        leaving: list[list[int]] = [[k] for k in range(n)]
        for k in range(n, len(tail)):
            leaving[tail[k]].append(k)
        way = nodes[head] - nodes[tail]
        angle = np.arctan2(way[:, 1], way[:, 0]).tolist()

        def following(step: int) -> int:
            """The first way on, clockwise from where a step came from."""
            ways = leaving[head[step]]
            if len(ways) == 1:
                return ways[0]
            back = angle[step] + np.pi
            return min(ways, key=lambda k: (back - angle[k] - 1e-9) % (2 * np.pi))

        seen = [False] * len(tail)
        walks = []
        for first in range(len(tail)):
            if seen[first]:
                continue
            walk, step = [], first
            while not seen[step]:
                seen[step] = True
                walk.append(step)
                step = following(step)
            if step != first:
                return None
            walks.append(walk)
        grouped = with_holes([nodes[[tail[k] for k in walk]] for walk in walks])
        return None if grouped is None else cls(n, [[walks[k] for k in lot] for lot in grouped])

    def borders(self) -> tuple[list[list[int]], list[int]]:
        """For every cell, the links round it (twice where it lies on both sides) and how many border sides it has."""
        steps = [[k for walk in cell for k in walk] for cell in self.walks]
        return [[(k - self.nodes) // 2 for k in lot if k >= self.nodes] for lot in steps], [
            sum(k < self.nodes for k in lot) for lot in steps
        ]

    def outlines(self, along: list[Ints]) -> list[list[Ints]]:
        """Loops of points for every cell, the outer one first."""

        def numbers(step: int) -> list[int]:
            if step < self.nodes:
                return [step]
            line = along[(step - self.nodes) // 2]
            return (line if (step - self.nodes) % 2 == 0 else line[::-1])[:-1].tolist()

        return [[np.array([i for k in walk for i in numbers(k)]) for walk in cell] for cell in self.walks]
