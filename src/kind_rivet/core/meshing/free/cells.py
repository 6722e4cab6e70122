"""Regions with many holes are cut into cells along straight links between borders that face each other; cells that are alike are filled alike.

A front that runs through a whole hole pattern repeats its flaws from hole to hole; a cell between three or four
holes is so small that the best of many fillings can be had, once for all of its kind.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
import shapely
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.free.bands import next_nodes
from kind_rivet.core.meshing.free.fill import FlatMesh, flat_worst
from kind_rivet.core.meshing.free.kinds import Kinds
from kind_rivet.core.meshing.free.row import Row, sides_at
from kind_rivet.core.meshing.parity import odd_changes

LONGEST = 4.0  # sizes of a link
CLEAR = 1.12  # half lengths of a link round its middle within which no other border node lies
SQUARE = 0.87  # cosine between a link and the normals at both its ends, where the border turns there
UPRIGHT = 0.95  # the same where it runs straight
APART = 50.0  # degrees between links from one node
STRAIGHT, FLAT = (
    0.3,
    0.995,
)  # cosine between the normals of the two sides at a node where a link may begin, and where the border runs straight
MOST_ROUND = 12  # border nodes of a cell with one inner node
LEAST = 6  # links of a region worth cutting along
EVEN_SHORT = 0.4  # of the size: the shortest side along links of a pattern that get an even count
DROPPED = 5.0  # sides by which a count must be off before a link is rather left out
SHORT, LONG = 0.55, 1.6  # sizes that a side along a link may have once its count was changed
Ints = NDArray[np.int64]
Fill = Callable[[list[Floats]], FlatMesh]


@dataclass(frozen=True)
class Link:
    """A straight line through the region from one border node to another, with `count` sides along `row`."""

    start: int
    end: int
    row: Row
    count: int


def fill_in_cells(loops: list[Floats], size: float, growth: float, fill: Fill) -> FlatMesh | None:
    """A mesh made of cells between links, each filled by `fill`; None where there are too few links.

    Loops and points are as for `fill.fill`. Raises `CannotFill` when a cell cannot be filled.
    """
    nodes, after = np.concatenate(loops), next_nodes(loops)
    links = find_links(loops, size, growth) if len(loops) > 2 else []
    if len(links) < LEAST:
        return None
    links = _evened(nodes, after, _between_cells(nodes, after, links), size)
    if len(links) < LEAST:
        return None
    points, along = _with_links(nodes, links)
    cells = _Cells.between(nodes, after, links)
    if cells is None:
        return None
    outlines = cells.outlines(along)
    if any(sum(map(len, cell)) % 2 or len(np.unique(loop)) < len(loop) for cell in outlines for loop in cell):
        return None
    kinds = Kinds(size, fill)
    lots, rows, at = [points], [], len(points)
    for cell in outlines:
        made = kinds.filled([points[loop] for loop in cell])
        border = np.concatenate(cell)
        inner = len(made.points) - len(border)
        table = np.concatenate((border, np.arange(at, at + inner)))
        rows.append(np.where(made.elements >= 0, table[np.maximum(made.elements, 0)], -1))
        lots.append(made.points[len(border) :])
        at += inner
    whole, elements = np.concatenate(lots), np.concatenate(rows).astype(np.int32)
    return FlatMesh(whole, elements, flat_worst(whole, elements))


def find_links(loops: list[Floats], size: float, growth: float) -> list[Link]:
    """Links between nodes of different loops that face each other with nothing near the line between them."""
    nodes, after = np.concatenate(loops), next_nodes(loops)
    loop_of = np.repeat(np.arange(len(loops)), [len(loop) for loop in loops])
    before = np.empty(len(nodes), np.int64)
    before[after] = np.arange(len(nodes))
    side = nodes[after] - nodes
    side /= np.maximum(np.linalg.norm(side, axis=1, keepdims=True), 1e-300)
    normal = np.column_stack((-side[:, 1], side[:, 0]))
    both = normal + normal[before]
    both /= np.maximum(np.linalg.norm(both, axis=1, keepdims=True), 1e-300)
    tree = cKDTree(nodes)
    a, b = tree.query_pairs(LONGEST * size, output_type="ndarray").T
    length = np.linalg.norm(nodes[b] - nodes[a], axis=1)
    way = (nodes[b] - nodes[a]) / np.maximum(length, 1e-300)[:, None]
    turn = np.einsum("ij,ij->i", normal, normal[before])
    least = np.where(turn > FLAT, UPRIGHT, SQUARE)
    good = (loop_of[a] != loop_of[b]) & (turn[a] > STRAIGHT) & (turn[b] > STRAIGHT) & (length > 0)
    good &= (np.einsum("ij,ij->i", way, both[a]) > least[a]) & (np.einsum("ij,ij->i", way, both[b]) < -least[b])
    a, b, length = a[good], b[good], length[good]
    if not len(a):
        return []
    alone = tree.query_ball_point((nodes[a] + nodes[b]) / 2, CLEAR * length / 2, return_length=True) == 2
    a, b, length = a[alone], b[alone], length[alone]
    sides = shapely.STRtree(shapely.linestrings(np.stack((nodes, nodes[after]), axis=1)))
    inside = shapely.linestrings(np.stack((0.999 * nodes[a] + 0.001 * nodes[b], 0.001 * nodes[a] + 0.999 * nodes[b]), axis=1))
    clear = np.ones(len(a), bool)
    clear[sides.query(inside, predicate="intersects")[0]] = False
    a, b, length = a[clear], b[clear], length[clear]
    wanted = sides_at(loops)
    out = []
    ways: dict[int, list[Floats]] = {}
    for k in np.lexsort((b, a, np.round(length / size, 3))).tolist():  # short ones first
        i, j = int(a[k]), int(b[k])
        way = (nodes[j] - nodes[i]) / length[k]
        if any(way @ other > np.cos(np.radians(APART)) for other in ways.get(i, [])) or any(
            -way @ other > np.cos(np.radians(APART)) for other in ways.get(j, [])
        ):
            continue
        ways.setdefault(i, []).append(way)
        ways.setdefault(j, []).append(-way)
        row = Row(float(length[k]), float(wanted[i]), float(wanted[j]), size, growth)
        out.append(Link(i, j, row, row.count))
    return out


def fill_star(loop: Floats) -> FlatMesh | None:
    """Quads round one inner node, which joins every other border node; None where the outline has too many nodes for that."""
    n = len(loop)
    if n % 2 or not 6 <= n <= MOST_ROUND:
        return None
    points = np.concatenate((loop, loop.mean(axis=0)[None]))
    best = None
    for first in (0, 1):
        k = first + np.arange(0, n, 2)
        quads = np.column_stack((np.full(n // 2, n), k, (k + 1) % n, (k + 2) % n)).astype(np.int32)
        worst = flat_worst(points, quads)
        if best is None or worst > best.worst:
            best = FlatMesh(points, quads, worst)
    return best


def _evened(nodes: Floats, after: Ints, links: list[Link], size: float) -> list[Link]:
    """The links with counts that give every cell an even border; those on which no other count fits are left out."""
    cells = _Cells.between(nodes, after, links)
    if cells is None:
        return []
    regions, sides = cells.borders()
    odd = {c for c, lot in enumerate(regions) if (sides[c] + sum(links[k].count for k in lot)) % 2}
    by_link: dict[int, list[int]] = {}
    for c, lot in enumerate(regions):
        for k in lot:
            by_link.setdefault(k, []).append(c)
    even = [_even(link, size) if any(c in odd for c in by_link[k]) else link for k, link in enumerate(links)]
    if len(odd) > sum((sides[c] + sum(even[k].count for k in lot)) % 2 for c, lot in enumerate(regions)):
        links = even
    count = np.array([link.count for link in links] + sides)
    held = np.arange(len(count)) >= len(links)
    way = nodes[[link.end for link in links]] - nodes[[link.start for link in links]]
    direction = np.round(np.degrees(np.arctan2(way[:, 1], way[:, 0])) % 180.0 / 15.0) % 12
    other = [_other(link, size) for link in links]
    misfit = np.array([abs(link.row.sides - n) if n else DROPPED for link, n in zip(links, other, strict=True)])
    cost = np.concatenate((np.round(misfit, 1) + 1e-3 * direction, np.zeros(len(sides))))  # parallel ones alike
    out: list[Link | None] = list(links)
    for k in odd_changes([[*lot, len(links) + c] for c, lot in enumerate(regions)], count, held, cost):
        out[k] = replace(links[k], count=other[k]) if other[k] else None
    return _between_cells(nodes, after, [link for link in out if link is not None])


def _between_cells(nodes: Floats, after: Ints, links: list[Link]) -> list[Link]:
    """The links that part two cells: one with the same cell on both sides would be passed twice on the way round it."""
    while (cells := _Cells.between(nodes, after, links)) is not None:
        twice = {k for lot in cells.borders()[0] for k in lot if lot.count(k) > 1}
        if not twice:
            return links
        links = [link for k, link in enumerate(links) if k not in twice]
    return []


def _even(link: Link, size: float) -> Link:
    """The link with an even count, where its sides stay within reason so."""
    count = 2 * max(1, round(link.row.sides / 2))
    return replace(link, count=count) if EVEN_SHORT * size <= link.row.length / count <= LONG * size else link


def _other(link: Link, size: float) -> int:
    """The next best count along a link; 0 where none fits."""
    fits = [n for n in (link.count - 1, link.count + 1) if n and SHORT * size <= link.row.length / n <= LONG * size]
    return min(fits, key=lambda n: abs(link.row.sides - n), default=0)


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
        grouped = _grouped([nodes[[tail[k] for k in walk]] for walk in walks])
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


def _grouped(rings: list[Floats]) -> list[list[int]] | None:
    """Rings that run counter-clockwise, each with the clockwise ones that lie in it and in no smaller one; None where one lies in none."""
    area = [_area(ring) for ring in rings]
    outer = [k for k, a in enumerate(area) if a > 0]
    out = {k: [k] for k in outer}
    inner = [k for k, a in enumerate(area) if a <= 0]
    if inner:
        discs = [shapely.Polygon(rings[k]) for k in outer]
        tree = shapely.STRtree(discs)
        for k in inner:
            hits = [outer[j] for j in tree.query(shapely.Point(rings[k][0]), predicate="within").tolist()]
            if not hits:
                return None
            out[min(hits, key=lambda j: area[j])].append(k)
    return list(out.values())


def _area(ring: Floats) -> float:
    x, y = ring.T
    return float(np.sum(x * np.roll(y, -1) - np.roll(x, -1) * y) / 2)
