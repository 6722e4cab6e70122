"""Freely curved skins led across under ribs: the patches between them belong to one wall."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, unit
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.soup import facet_neighbours
from kind_rivet.core.midsurface.fields import FacetField, Field, by_field, together
from kind_rivet.core.midsurface.pairs import Pair

NEAR, WIDE = 0.2, 4.0  # walls: how far apart patches lie that a rib, with its blends, parts
ALIKE = 0.3  # by which the walls of both may differ, as a share
AHEAD = np.cos(np.radians(20.0))  # least cosine between where a border leads and where the other one lies
SMOOTH = np.cos(np.radians(25.0))  # least cosine between the normals of both
CORNER = 12  # nodes round a gap where ribs cross that is closed as well

Ints = NDArray[np.int64]
Strip = tuple[Ints, Ints]  # nodes of two patches between which facets are added, row by row
Link = tuple[int, int, list[Strip]]  # two patches, by their places in a list, and the strips between them


@dataclass(frozen=True)
class Border:
    """Border sides of a patch: their nodes (n, 2) as its facets go round, these nodes' points (n, 2, 3), normals and directions away from the patch (n, 3).

    after : (n,) the side that follows each, −1 for none
    """

    nodes: Ints
    ends: Floats
    normals: Floats
    ahead: Floats
    after: Ints

    @property
    def low(self) -> Floats:
        return np.asarray(self.ends.min(axis=(0, 1), initial=np.inf))

    @property
    def high(self) -> Floats:
        return np.asarray(self.ends.max(axis=(0, 1), initial=-np.inf))

    def closed(self, run: list[int]) -> bool:
        """Do sides that follow each other go all round?"""
        return int(self.after[run[-1]]) == run[0]

    def row(self, run: list[int]) -> Ints:
        """The nodes of sides that follow each other."""
        return np.append(self.nodes[run, 0], self.nodes[run[-1], 1])

    @staticmethod
    def of(field: FacetField) -> Border:
        facets, points = field.tree.facets.astype(np.int64), field.tree.points
        beside, _ = facet_neighbours(field.tree.facets, len(points))
        f, k = np.nonzero(beside == -1)
        nodes = np.stack((facets[f, k], facets[f, (k + 1) % 3]), axis=1)
        normals = unit(field.normals[f, k] + field.normals[f, (k + 1) % 3])
        ends = points[nodes]
        starts = dict(zip(nodes[:, 0].tolist(), range(len(nodes)), strict=True))
        after = np.array([starts.get(b, -1) for b in nodes[:, 1].tolist()], np.int64)
        return Border(nodes, ends, normals, unit(np.cross(ends[:, 1] - ends[:, 0], normals)), after)

    def facing(self, other: Border, near_by: float, reach: float) -> Ints:
        """The side (n,) of another border that each of these leads to, at least `near_by` and at most `reach` away; −1 for none."""
        middle = self.ends.mean(axis=1)
        near = scipy.spatial.cKDTree(middle)
        out = np.full(len(middle), -1, np.int64)
        least = np.full(len(middle), reach)
        for j, lot in enumerate(
            near.query_ball_point(other.ends.mean(axis=1), reach + np.linalg.norm(other.ends[:, 1] - other.ends[:, 0], axis=1))
        ):
            mine = np.array(lot, np.int64)
            if not len(mine):
                continue
            a, b = other.ends[j]
            share = np.clip((middle[mine] - a) @ (b - a) / max(float((b - a) @ (b - a)), 1e-300), 0, 1)
            way = a + share[:, None] * (b - a) - middle[mine]
            far = np.linalg.norm(way, axis=1)
            good = (far < least[mine]) & (far > near_by) & (self.normals[mine] @ other.normals[j] > SMOOTH)
            good &= np.einsum("ij,ij->i", way, self.ahead[mine]) > AHEAD * far
            good &= -(way @ other.ahead[j]) > AHEAD * far
            out[mine[good]], least[mine[good]] = j, far[good]
        return out


def led_across(fields: list[Field], pairs: list[Pair]) -> list[Field]:
    """The fields of all faces; patches of one freely curved skin that ribs part share one, with facets from border to border."""
    wall: dict[int, float] = {}
    for p in pairs:
        for f in (p.a, p.b) if not p.narrow else ():
            wall[f] = max(wall.get(f, 0.0), p.wall)
    patches = [(field, faces) for field, faces in by_field(fields) if any(f in wall for f in faces)]
    own = [field for field, _ in patches]
    width = [max(wall.get(f, 0.0) for f in faces) for _, faces in patches]
    borders = [Border.of(field) for field in own]
    opposite = {frozenset((id(fields[p.a]), id(fields[p.b]))) for p in pairs}
    links: list[Link] = []
    for a, b in itertools.combinations(range(len(patches)), 2):
        if abs(width[a] - width[b]) > ALIKE * max(width[a], width[b]) or frozenset((id(own[a]), id(own[b]))) in opposite:
            continue  # another skin, or the other side of this one
        if strips := _strips(borders[a], borders[b], max(width[a], width[b])):
            links.append((a, b, strips))
    out = list(fields)
    if not links:
        return out
    joined = scipy.sparse.coo_matrix((np.ones(len(links)), ([a for a, _, _ in links], [b for _, b, _ in links])), (len(own), len(own)))
    _, group = scipy.sparse.csgraph.connected_components(joined, directed=False)
    for g in np.unique(group[[a for a, _, _ in links]]).tolist():
        members = np.flatnonzero(group == g).tolist()
        one = _in_one([own[k] for k in members], [(members.index(a), members.index(b), s) for a, b, s in links if group[a] == g])
        for f in (f for k in members for f in patches[k][1]):
            out[f] = one
    return out


def _strips(a: Border, b: Border, wall: float) -> list[Strip]:
    """Rows of nodes of two patches that face each other across a rib, both in the order of the first; closed ones, as across a boss, end where they start."""
    if (np.maximum(a.low - b.high, b.low - a.high) > WIDE * wall).any():
        return []
    here, there = a.facing(b, NEAR * wall, WIDE * wall), b.facing(a, NEAR * wall, WIDE * wall)
    out = []
    for run in _runs(here >= 0, a.after):
        mine = np.flatnonzero(np.isin(there, run))
        opposite = [lot for lot in _runs(there >= 0, b.after) if np.isin(mine, lot).any()]
        if len(opposite) != 1 or a.closed(run) != b.closed(back := opposite[0]):
            continue
        if b.closed(back):  # it ends where the other one starts
            last = int(np.argmin(np.linalg.norm(b.ends[back, 1] - a.ends[run[0], 0], axis=1)))
            back = back[last + 1 :] + back[: last + 1]
        out.append((a.row(run), b.row(back)[::-1]))
    return out


def _runs(chosen: NDArray[np.bool_], after: Ints) -> list[list[int]]:
    """Chosen sides that follow each other, in order, those that others lead to last: by then only rings are left."""
    follows = np.zeros(len(after), bool)
    follows[after[chosen & (after >= 0)]] = True
    left = chosen.copy()
    out = []
    for start in [*np.flatnonzero(chosen & ~follows).tolist(), *np.flatnonzero(chosen & follows).tolist()]:
        run = []
        k = start
        while k >= 0 and left[k]:
            left[k] = False
            run.append(k)
            k = int(after[k])
        if run:
            out.append(run)
    return out


def _in_one(fields: list[FacetField], links: list[Link]) -> FacetField:
    """One field of several, with facets between the rows of nodes that face each other, and where such strips meet."""
    both = together(fields)
    first = np.cumsum([0] + [len(f.tree.points) for f in fields])
    owner = np.repeat(np.arange(len(fields)), np.diff(first))
    points, normals = both.tree.points, both.point_normals
    new = [t for a, b, rows in links for row, other in rows for t in _zipped(points, row + first[a], other + first[b])]
    facets = np.concatenate((both.tree.facets.astype(np.int64), np.array(new, np.int64)))
    new += [t for ring in _corners(facets, owner) for t in _fan(points, ring)]
    added = np.array(new, np.int64)
    facets = np.concatenate((both.tree.facets.astype(np.int64), added))
    return FacetField(FacetTree.over(points, facets.astype(np.int32)), np.concatenate((both.normals, normals[added])))


def _zipped(points: Floats, row: Ints, other: Ints) -> list[tuple[int, int, int]]:
    """Facets between two rows that run the same way, always the shorter diagonal next; they go round as those of the first row's patch."""
    out = []
    k = j = 0
    while k + 1 < len(row) or j + 1 < len(other):
        here = np.linalg.norm(points[row[k + 1]] - points[other[j]]) if k + 1 < len(row) else np.inf
        there = np.linalg.norm(points[row[k]] - points[other[j + 1]]) if j + 1 < len(other) else np.inf
        if here <= there:
            out.append((int(row[k + 1]), int(row[k]), int(other[j])))
            k += 1
        else:
            out.append((int(row[k]), int(other[j]), int(other[j + 1])))
            j += 1
    return out


def _corners(facets: Ints, owner: Ints) -> list[list[int]]:
    """Short rings of border nodes of several patches, as facets inside would go round: gaps where ribs cross."""
    beside, _ = facet_neighbours(facets.astype(np.int32), len(owner))
    f, k = np.nonzero(beside == -1)
    start, end = facets[f, (k + 1) % 3], facets[f, k]
    after = dict(zip(start.tolist(), end.tolist(), strict=True))
    seen: set[int] = set()
    out = []
    for node in after:
        ring = []
        while node in after and node not in seen:
            seen.add(node)
            ring.append(node)
            node = after[node]
        if ring and node == ring[0] and len(ring) <= CORNER and len(set(owner[ring].tolist())) > 1:
            out.append(ring)
    return out


def _fan(points: Floats, ring: list[int]) -> list[tuple[int, int, int]]:
    """Facets that fill a ring of nodes, its sharpest corner cut off again and again (that with the shortest line across)."""
    left, out = list(ring), []
    while len(left) >= 3:
        across = [np.linalg.norm(points[left[k - 1]] - points[left[(k + 1) % len(left)]]) for k in range(len(left))]
        k = int(np.argmin(across))
        out.append((left[k - 1], left[k], left[(k + 1) % len(left)]))
        del left[k]
    return out
