"""Bands between borders that face each other get straight rows first; what is left is filled round them.

Bars between slots, webs between windows: their nodes stand opposite each other, but a front that comes from
both sides of so narrow a gap would sooner or later lose step.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.free.fill import FlatMesh
from kind_rivet.core.meshing.free.loops import next_nodes, normals_at, with_holes
from kind_rivet.core.meshing.free.pieces import Fill, filled_pieces

WIDEST = 3.2  # sizes across a band
TWO_ROWS = 1.0  # sizes across, from which on a band gets two rows at least
SQUARE = 0.87  # cosine between what leads across and the normals at both ends
EVEN = 0.15  # share by which the width may change along a band
INSET = 1e-3  # of its width: what touches a band within less lies beside it
LEAST = 3  # elements along a band
MOST_NODES = 20000
Ints = NDArray[np.int32]


@dataclass(frozen=True)
class Band:
    """Border nodes that face each other: `first` in the order of their loop, `second` against it, `rows` between them."""

    first: tuple[int, ...]
    second: tuple[int, ...]
    rows: int


def fill_with_bands(loops: list[Floats], size: float, fill: Fill) -> FlatMesh | None:
    """A mesh whose bands have straight rows, the rest filled by `fill`; None where there are no bands.

    Loops and points are as for `fill.fill`. Raises `CannotFill` when the rest cannot be filled.
    """
    nodes = np.concatenate(loops)
    after = next_nodes(loops)
    bands = find_bands(nodes, after, size)
    while bands:
        middles, points = _middles(nodes, bands)
        parts = _parts(points, after, bands, middles)
        if not parts:
            return None
        odd = [k for k, part in enumerate(parts) if sum(len(loop) for loop in part) % 2]
        if not odd:
            break
        bands = _without_one(bands, parts, odd)
    if not bands:
        return None
    return filled_pieces(points, parts, fill, [_quads(band, middles) for band in bands])


def find_bands(nodes: Floats, after: NDArray[np.int64], size: float) -> list[Band]:
    """The bands of a region with border `nodes` (n, 2), region on the left of every side from a node to the one `after` it."""
    if len(nodes) > MOST_NODES:
        return []
    across = _facing(nodes, after, size)
    bands, used = [], set()
    for start in sorted(across):
        if start in used:
            continue
        run = [start]
        while (nxt := int(after[run[-1]])) in across and nxt != start and after[across[nxt]] == across[run[-1]]:
            run.append(nxt)
        while (before := _before(after, run[0], across)) is not None and before not in run:
            run.insert(0, before)
        used |= {*run, *(across[i] for i in run)}
        width = np.linalg.norm(nodes[run] - nodes[[across[i] for i in run]], axis=1)
        middle = float(np.median(width))
        even = [i for i, w in zip(run, width, strict=True) if abs(w - middle) <= EVEN * middle]
        run = _longest(even, after)
        ends = {*run, *(across[i] for i in run)}
        if len(run) > LEAST and len(ends) == 2 * len(run):
            rows = max(2, round(middle / size)) if middle >= TWO_ROWS * size else 1
            bands.append(Band(tuple(run), tuple(across[i] for i in run), rows))
    return _clear(nodes, after, bands)


def _clear(nodes: Floats, after: NDArray[np.int64], bands: list[Band]) -> list[Band]:
    """The bands that no border and no longer band passes through."""
    if not bands:
        return []
    import shapely

    borders = shapely.STRtree(shapely.linestrings(np.stack((nodes, nodes[after]), axis=1)))
    out: list[Band] = []
    taken: list[shapely.Polygon] = []
    for band in sorted(bands, key=lambda s: -len(s.first)):
        outline = shapely.Polygon(nodes[[*band.first, *band.second[::-1]]])
        core = outline.buffer(-INSET * float(np.linalg.norm(nodes[band.first[0]] - nodes[band.second[0]])))
        if outline.is_valid and not len(borders.query(core, predicate="intersects")) and not any(core.intersects(t) for t in taken):
            out.append(band)
            taken.append(core)
    return sorted(out, key=lambda s: s.first[0])


def _before(after: NDArray[np.int64], node: int, across: dict[int, int]) -> int | None:
    """The facing node before one, if what it faces follows on what that one faces."""
    other = int(after[across[node]])
    return across[other] if other in across and after[across[other]] == node else None


def _longest(run: list[int], after: NDArray[np.int64]) -> list[int]:
    """The longest stretch of a run without gaps."""
    best: list[int] = []
    here: list[int] = []
    for i in run:
        here = [*here, i] if here and after[here[-1]] == i else [i]
        best = here if len(here) > len(best) else best
    return best


def _facing(nodes: Floats, after: NDArray[np.int64], size: float) -> dict[int, int]:
    """Border nodes and the ones they face: nearest of all that lie square across, both ways round, with nothing between."""
    normal, turn = normals_at(nodes, after)
    straight = turn > 0.5
    pairs = scipy.spatial.cKDTree(nodes).query_pairs(WIDEST * size, output_type="ndarray")
    if not len(pairs):
        return {}
    a, b = np.concatenate((pairs, pairs[:, ::-1])).T
    way = nodes[b] - nodes[a]
    length = np.linalg.norm(way, axis=1)
    way /= np.maximum(length, 1e-300)[:, None]
    good = straight[a] & straight[b] & (length > 0) & (after[a] != b) & (after[b] != a)
    good &= (np.einsum("ij,ij->i", way, normal[a]) > SQUARE) & (np.einsum("ij,ij->i", way, normal[b]) < -SQUARE)
    a, b, length = a[good], b[good], length[good]
    order = np.argsort(length, kind="stable")
    nearest: dict[int, int] = {}
    for i, j in zip(a[order].tolist(), b[order].tolist(), strict=True):
        nearest.setdefault(i, j)
    return {i: j for i, j in nearest.items() if nearest.get(j) == i}


def _middles(nodes: Floats, bands: list[Band]) -> tuple[dict[int, list[int]], Floats]:
    """Nodes across every band between its rows, by the border node on the first side, in order from there; and all points."""
    middles: dict[int, list[int]] = {}
    places: list[Floats] = [nodes]
    at = len(nodes)
    for band in bands:
        share = (np.arange(1, band.rows) / band.rows)[:, None]
        for i, j in zip(band.first, band.second, strict=True):
            middles[i] = list(range(at, at + band.rows - 1))
            places.append(nodes[i] * (1 - share) + nodes[j] * share)
            at += band.rows - 1
    return middles, np.vstack(places)


def _quads(band: Band, middles: dict[int, list[int]]) -> Ints:
    """Elements (m, 4) of a band; the region lies on the left of its first side."""
    number = np.array([[i, *middles[i], j] for i, j in zip(band.first, band.second, strict=True)], np.int32)
    return np.stack((number[:-1, :-1], number[1:, :-1], number[1:, 1:], number[:-1, 1:]), axis=-1).reshape(-1, 4)


def _parts(points: Floats, after: NDArray[np.int64], bands: list[Band], middles: dict[int, list[int]]) -> list[list[NDArray[np.int64]]]:
    """What is left beside the bands: loops of points for every piece, the outer one first; none where that does not come out."""
    step = dict(enumerate(after.tolist()))
    for band in bands:
        for k in range(len(band.first) - 1):
            step.pop(band.first[k], None)
            step.pop(band.second[k + 1], None)
    for band in bands:
        start, end = band.first[0], band.first[-1]
        step |= dict(itertools.pairwise([start, *middles[start], band.second[0]]))
        step |= dict(itertools.pairwise([band.second[-1], *middles[end][::-1], end]))
    rings: list[NDArray[np.int64]] = []
    while step:
        walk = [next(iter(step))]
        while (nxt := step.pop(walk[-1], walk[0])) != walk[0]:
            walk.append(nxt)
        rings.append(np.array(walk))
    grouped = with_holes([points[ring] for ring in rings])
    return [] if grouped is None else [[rings[k] for k in lot] for lot in grouped]


def _without_one(bands: list[Band], parts: list[list[NDArray[np.int64]]], odd: list[int]) -> list[Band]:
    """The bands without one that joins two pieces with odd borders, so that their borders become one even one; none where there is no such."""
    part_of = {int(i): k for k, part in enumerate(parts) for loop in part for i in loop}
    for k, band in enumerate(bands):
        a, b = part_of.get(band.first[0]), part_of.get(band.first[-1])
        if a != b and a in odd and b in odd:
            return bands[:k] + bands[k + 1 :]
    return []
