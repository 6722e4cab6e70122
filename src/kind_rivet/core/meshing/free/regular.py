"""Fewer irregular nodes: patches that hold several are filled again so that as few remain as their sides allow.

A patch grows from the elements between two irregular nodes until all its corners are
convex, seen by the elements that meet there; what it looks like then says how few irregular
nodes it needs (after Verma and Suresh, "A robust combinatorial approach to reduce
singularities in quadrilateral meshes", 2017). Nothing gets poor for it.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.kernels import kernel
from kind_rivet.core.meshing.free import cleanup, smooth
from kind_rivet.core.meshing.free.flow import Flow
from kind_rivet.core.meshing.free.given import given_near
from kind_rivet.core.meshing.free.mend import score_of, without_unused
from kind_rivet.core.meshing.free.templates import Template, fewest, templates

Ints = NDArray[np.int32]
DEPTH = 7  # sides up to which another irregular node is looked for
PARTNERS = 8  # irregular nodes near by that a patch is laid between
GROWTHS = 3  # how often a patch may grow by one ring
MOST = 220  # elements in a patch
MOST_SIDES = 6  # of a patch
SOUND = 0.72  # of `sized_score`: what may become of better elements
IRREGULAR, TRIA = 0.4, 1.2  # what an irregular node, and a tria, are worth in `Flow.unease`
MORE, LESS = 1.4, 0.7  # elements of the new patch against the old one
ROUNDS = 6
ROUGH = 0.025  # unease per element that smoothing rarely takes away


@kernel
def _add_round(v, el, inc, deg, mark, stamp, lot, n):  # type: ignore[no-untyped-def]
    for i in range(deg[v]):
        e = inc[v, i]
        if mark[e] != stamp:
            if n >= len(lot):
                return -1
            mark[e] = stamp
            lot[n] = e
            n += 1
    return n


@kernel
def _settle(lot, n, el, inc, deg, held, mark, stamp, count, nxt, ring, corner):  # type: ignore[no-untyped-def]
    """Grow a lot of elements until it is a disc without concave corners: (elements, ring length, irregular nodes, trias); 0 elements: impossible.

    `count` and `nxt` (per node) must be 0 and −1, and are left so.
    """
    while True:
        again = False
        for i in range(n):
            for k in range(4):
                if el[lot[i], k] >= 0:
                    count[el[lot[i], k]] += 1
        before, sides, bad = n, 0, False
        start = -1
        for i in range(before):
            e = lot[i]
            m = 3 if el[e, 3] < 0 else 4
            for k in range(m):
                a, b = el[e, k], el[e, (k + 1) % m]
                f = cleanup.across(a, b, e, el, inc, deg)
                if f < 0 or mark[f] != stamp:
                    sides += 1
                    pinched = nxt[a] >= 0
                    nxt[a] = b
                    start = a
                    if pinched or count[a] >= 3:
                        if held[a] or n < 0:
                            bad = True
                        else:
                            n = _add_round(a, el, inc, deg, mark, stamp, lot, n)
                            if n < 0:
                                bad = True
                                n = before
                        again = True
        size, irregular, trias = 0, 0, 0
        if not again and start >= 0:
            v = start
            while size < len(ring):
                ring[size] = v
                corner[size] = count[v] == 1
                size += 1
                v = nxt[v]
                if v == start:
                    break
            if size != sides or v != start:
                bad = True
            for i in range(before):
                if el[lot[i], 3] < 0:
                    trias += 1
                for k in range(4):
                    w = el[lot[i], k]
                    if w >= 0 and nxt[w] < 0 and count[w] > 0:
                        if held[w]:
                            bad = True
                        if deg[w] != 4:
                            irregular += 1
                        count[w] = -count[w]  # seen
        elif start < 0 or n == before:  # nothing is left to grow by: the mesh has a border where no border node is
            bad = True
        for i in range(before):
            for k in range(4):
                w = el[lot[i], k]
                if w >= 0:
                    count[w] = 0
                    nxt[w] = -1
        if bad:
            return 0, 0, 0, 0
        if not again:
            return n, size, irregular, trias


@kernel
def _grown(nodes, lot, n, el, inc, deg, held, mark, stamp, count, nxt, ring, corner, parts):  # type: ignore[no-untyped-def]
    """Add the elements round some nodes to a lot and settle it: as `_settle`, and the number of its sides if that is three to six, else 0.

    `ring` then begins at a corner, and `parts` holds the counts of the sides.
    """
    for i in range(len(nodes)):
        n = _add_round(nodes[i], el, inc, deg, mark, stamp, lot, n)
        if n < 0:
            return 0, 0, 0, 0, 0
    n, size, irregular, trias = _settle(lot, n, el, inc, deg, held, mark, stamp, count, nxt, ring, corner)
    corners, first = 0, -1
    for i in range(size):
        if corner[i]:
            corners += 1
            if first < 0:
                first = i
    if corners < 3 or corners > len(parts):
        return n, size, irregular, trias, 0
    turned = ring[:size].copy()
    side = -1
    for i in range(size):
        k = (first + i) % size
        ring[i] = turned[k]
        if corner[k]:
            side += 1
            parts[side] = 0
        parts[side] += 1
    return n, size, irregular, trias, corners


@kernel
def _around(lot, el, inc, deg, seen, passed, near):  # type: ignore[no-untyped-def]
    n = 0
    for i in range(len(lot)):
        for k in range(4):
            v = el[lot[i], k]
            if v < 0:
                continue
            for j in range(deg[v]):
                e = inc[v, j]
                if seen[e] != passed:
                    seen[e] = passed
                    near[n] = e
                    n += 1
    return n


@kernel
def _partners(v, el, inc, deg, held, depth, most, dist, parent, queue, out):  # type: ignore[no-untyped-def]
    """Irregular nodes near `v` by breadth first: their number; `out` gets them, `parent` leads back. `dist` must be −1, and is left so."""
    head, tail, found = 0, 1, 0
    queue[0] = v
    dist[v] = 0
    parent[v] = -1
    while head < tail and found < most:
        a = queue[head]
        head += 1
        if a != v and deg[a] != 4 and not held[a]:
            out[found] = a
            found += 1
        if dist[a] >= depth or (held[a] and a != v):
            continue
        for i in range(deg[a]):
            e = inc[a, i]
            m = 3 if el[e, 3] < 0 else 4
            for k in range(m):
                if el[e, k] == a:
                    for b in (el[e, (k + 1) % m], el[e, (k + m - 1) % m]):
                        if dist[b] < 0 and tail < len(queue):
                            dist[b] = dist[a] + 1
                            parent[b] = a
                            queue[tail] = b
                            tail += 1
    for i in range(tail):
        dist[queue[i]] = -1
    return found


@dataclass(frozen=True)
class _Patch:
    elements: Ints  # numbers of its elements
    ring: Ints  # its border nodes, from a corner
    counts: tuple[int, ...]
    irregular: int
    trias: int


class _Standing:
    """What elements of a mesh lack (`Flow.unease`) and how good they are (`score_of`), found when first asked for."""

    def __init__(self, points: Floats, elements: Ints, fixed: int, flow: Flow) -> None:
        self._points, self._elements, self._flow = points, elements, flow
        outer = flow.field.calm == 0
        self.given = given_near(flow.field.mid[outer], flow.field.length[outer], fixed, flow.size, flow.growth, flow.spots)
        self._unease, self._score = np.full(len(elements), np.nan), np.full(len(elements), np.nan)

    def unease(self, lot: NDArray[np.int64] | Ints) -> Floats:
        new = lot[np.isnan(self._unease[lot])]
        if len(new):
            self._unease[new] = self._flow.unease(self._points, self._elements[new])
        return np.asarray(self._unease[lot])

    def score(self, lot: NDArray[np.int64] | Ints) -> Floats:
        new = lot[np.isnan(self._score[lot])]
        if len(new):
            self._score[new] = score_of(self._points, self._elements[new], self._flow.size, self.given)
        return np.asarray(self._score[lot])


class _Search:
    """Patches round irregular nodes of one mesh."""

    def __init__(self, points: Floats, elements: Ints, held: NDArray[np.bool_]) -> None:
        n = len(points)
        self.el, self.held = elements, held
        self.inc, self.deg = cleanup.link(elements, n)
        self.mark, self.stamp = np.zeros(len(elements), np.int64), 0
        self.count, self.nxt = np.zeros(n, np.int64), np.full(n, -1, np.int64)
        self.dist, self.parent = np.full(n, -1, np.int64), np.empty(n, np.int64)
        self.lot, self.ring, self.corner = np.empty(MOST, np.int32), np.empty(MOST, np.int32), np.empty(MOST, np.bool_)
        self.queue, self.found = np.empty(1024, np.int32), np.empty(PARTNERS, np.int32)
        self.parts = np.empty(MOST_SIDES, np.int64)
        self.seen, self.passed, self.near = np.zeros(len(elements), np.int64), 0, np.empty(len(elements), np.int64)

    def irregular(self) -> list[int]:
        return np.flatnonzero((self.deg != 4) & (self.deg > 0) & ~self.held).tolist()  # type: ignore[no-any-return]

    def seeds(self, v: int) -> list[list[int]]:
        """Nodes whose elements patches grow from: the node itself, and the ways to irregular ones near by that have not had their turn."""
        found = _partners(v, self.el, self.inc, self.deg, self.held, DEPTH, PARTNERS, self.dist, self.parent, self.queue, self.found)
        out = []
        for u in self.found[:found].tolist():
            if u < v:
                continue
            way = [u]
            while way[-1] != v:
                way.append(int(self.parent[way[-1]]))
            out.append(way)
        return [*out, [v]]

    def patches(self, seed: list[int]) -> Iterator[_Patch]:
        """Growing patches from the elements round some nodes."""
        self.stamp += 1
        n, nodes = 0, np.array(seed)
        for _ in range(GROWTHS + 1):
            n, size, irregular, trias, corners = _grown(
                nodes, self.lot, n, self.el, self.inc, self.deg, self.held, self.mark, self.stamp, self.count, self.nxt, self.ring, self.corner, self.parts
            )  # fmt: skip
            if n == 0:
                return
            nodes = self.ring[:size].copy()
            if corners:
                yield _Patch(self.lot[:n].copy(), nodes, tuple(self.parts[:corners].tolist()), irregular, trias)

    def around(self, lot: Ints) -> NDArray[np.int64]:
        """Numbers, in order, of the elements that share a node with some elements, themselves with them."""
        self.passed += 1
        n = _around(lot, self.el, self.inc, self.deg, self.seen, self.passed, self.near)
        return np.sort(self.near[:n])


def made_regular(points: Floats, elements: Ints, fixed: int, flow: Flow, budget: int) -> tuple[Floats, Ints]:
    """The mesh with fewer irregular nodes; its first `fixed` points stay. `budget` limits the fillings tried."""
    given_up: set[bytes] = set()
    for _ in range(ROUNDS):
        held = np.zeros(len(points), bool)
        held[:fixed] = True
        search = _Search(points, elements, held)
        taken = np.zeros(len(elements), bool)
        gone = np.zeros(len(elements), bool)
        news: list[Ints] = []
        now = _Standing(points, elements, fixed, flow)  # holds wherever nothing was taken
        for v in search.irregular():
            if budget <= 0:
                break
            if taken[search.inc[v, : search.deg[v]]].any():
                continue
            found, used = _improved(points, elements, now, search, v, taken, fixed, flow, given_up, budget)
            budget -= used
            if found is not None:
                points, new, patch = found
                around = search.around(patch.elements)
                taken[around] = True
                gone[patch.elements] = True
                news.append(new)
        if not news:
            break
        elements = np.concatenate((elements[~gone], *news))
        points, elements = without_unused(points, elements, fixed)
    return points, elements


def _improved(
    points: Floats,
    elements: Ints,
    now: _Standing,
    search: _Search,
    v: int,
    taken: NDArray[np.bool_],
    fixed: int,
    flow: Flow,
    given_up: set[bytes],
    budget: int,
) -> tuple[tuple[Floats, Ints, _Patch] | None, int]:
    used = 0
    for seed in search.seeds(v):
        for patch in search.patches(seed):
            if fewest(patch.counts) >= patch.irregular + 2 * patch.trias:
                continue
            around = search.around(patch.elements)
            if taken[around].any():
                break
            name = np.sort(patch.ring).tobytes()
            if name in given_up:
                continue
            corner = np.concatenate(([0], np.cumsum(patch.counts)[:-1]))
            for template in templates(patch.counts, points[patch.ring[corner]]):
                if used >= budget or not LESS <= len(template.quads) / len(patch.elements) <= MORE:
                    continue
                used += 1
                made = _filled(points, elements, now, patch, template, around, fixed, flow)
                if made is not None:
                    return (*made, patch), used
            given_up.add(name)
    return None, used


def _filled(
    points: Floats,
    elements: Ints,
    now: _Standing,
    patch: _Patch,
    template: Template,
    around: NDArray[np.int64],
    fixed: int,
    flow: Flow,
) -> tuple[Floats, Ints] | None:
    """Points and the patch's new elements, or None where something gets poorer."""
    ring = len(patch.ring)
    place = evened(points[patch.ring], template, ring)
    if place is None:
        return None
    table = np.concatenate((patch.ring, len(points) + np.arange(template.inner)))
    new = table[template.quads].astype(np.int32)
    more = np.concatenate((points, place))
    won = IRREGULAR * (patch.irregular - template.irregular) + TRIA * patch.trias
    if flow.unease(more, new).sum() > now.unease(patch.elements).sum() + won + ROUGH * len(new):
        return None
    shell = elements[np.setdiff1d(around, patch.elements)]
    both = np.concatenate((new, shell))
    nodes = np.unique(both[both >= 0])
    local = np.where(both >= 0, np.searchsorted(nodes, np.maximum(both, 0)), -1).astype(np.int32)
    free = (nodes >= fixed) & ~np.isin(nodes, np.setdiff1d(shell[shell >= 0], patch.ring))
    xy = more[nodes]
    inc, deg = cleanup.link(local, len(nodes))
    smooth.smooth(xy, local, inc, deg, free, np.arange(len(nodes)), 8, 1)
    given = replace(now.given, count=int(np.searchsorted(nodes, fixed)))
    if score_of(xy, local, flow.size, given).min() < min(now.score(around).min(), SOUND) - 1e-9:
        return None
    if flow.unease(xy, local).sum() > now.unease(around).sum() + won:
        return None
    more[nodes] = xy
    return more, new


def evened(ring: Floats, template: Template, n: int) -> Floats | None:
    """Places of the inner nodes: each the mean of those it is joined to."""
    if not template.inner:
        return np.empty((0, 2))
    a, b = template.quads.ravel(), np.roll(template.quads, -1, axis=1).ravel()
    total = n + template.inner
    joined = scipy.sparse.csr_matrix((np.ones(2 * len(a)), (np.append(a, b), np.append(b, a))), (total, total))
    joined.data[:] = 1.0  # sides inside belong to two quads
    inner = joined[n:]
    system = scipy.sparse.diags_array(np.diff(inner.indptr).astype(float)) - inner[:, n:]
    try:
        return np.asarray(scipy.sparse.linalg.splu(system.tocsc()).solve(inner[:, :n] @ ring))
    except RuntimeError:  # singular
        return None
