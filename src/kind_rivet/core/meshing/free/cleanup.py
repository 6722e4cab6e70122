"""Local changes of a flat quad-dominant mesh that make its nodes regular.

The mesh is `el` (elements by rows, dead rows have −1 in the first place), `inc`, `deg`
(elements round each node). Every change is tried with its nodes relaxed, kept if the
local energy (squared error of the node's element count + shape) falls, else undone.
"""

from __future__ import annotations

import math

import numpy as np

from kind_rivet.core.kernels import kernel
from kind_rivet.core.meshing.free.shapes2d import element_energy, least_scaled_jacobian, quad_angle_score
from kind_rivet.core.meshing.free.smooth import relax

ROOM = 16  # elements that may meet at a node


@kernel
def link(el, nodes):  # type: ignore[no-untyped-def]
    """Elements round each node: (inc, deg)."""
    inc = np.full((nodes, ROOM), -1, np.int32)
    deg = np.zeros(nodes, np.int32)
    for e in range(len(el)):
        for k in range(4):
            v = el[e, k]
            if v >= 0 and deg[v] < ROOM:
                inc[v, deg[v]] = e
                deg[v] += 1
    return inc, deg


@kernel
def _drop(e, el, inc, deg):  # type: ignore[no-untyped-def]
    for k in range(4):
        v = el[e, k]
        if v >= 0:
            for i in range(deg[v]):
                if inc[v, i] == e:
                    deg[v] -= 1
                    inc[v, i] = inc[v, deg[v]]
                    break
    el[e, 0] = -1
    el[e, 1] = -1
    el[e, 2] = -1
    el[e, 3] = -1


@kernel
def _put(e, a, b, c, d, el, inc, deg):  # type: ignore[no-untyped-def]
    el[e, 0], el[e, 1], el[e, 2], el[e, 3] = a, b, c, d
    for k in range(4):
        v = el[e, k]
        if v >= 0:
            inc[v, deg[v]] = e
            deg[v] += 1


@kernel
def across(a, b, e, el, inc, deg):  # type: ignore[no-untyped-def]
    """The other element with the side a-b, or −1."""
    for i in range(deg[a]):
        f = inc[a, i]
        if f == e:
            continue
        n = 3 if el[f, 3] < 0 else 4
        for k in range(n):
            if el[f, k] == b and el[f, (k + 1) % n] == a:
                return f
    return -1


@kernel
def _place(e, v, el):  # type: ignore[no-untyped-def]
    for k in range(4):
        if el[e, k] == v:
            return k
    return -1


@kernel
def _local_energy(nodes, n, pts, el, inc, deg, ideal):  # type: ignore[no-untyped-def]
    """Squared valence errors of the nodes and shape penalty of the elements round them; inf if inverted."""
    total = 0.0
    seen = np.empty(128, np.int32)
    m = 0
    for i in range(n):
        v = nodes[i]
        if v < 0 or deg[v] == 0:
            continue
        count = 0.0
        for j in range(deg[v]):
            e = inc[v, j]
            count += 1.0 if el[e, 3] >= 0 else 0.7
            new = True
            for q in range(m):
                if seen[q] == e:
                    new = False
            if new and m < 128:
                seen[m] = e
                m += 1
        total += (count - ideal[v]) ** 2
    for q in range(m):
        e = seen[q]
        sj = least_scaled_jacobian(pts, el, e)
        if sj <= 0:
            return np.inf
        if sj < 0.7:
            total += 8.0 * (0.7 - sj) ** 2 + (2.0 if sj < 0.3 else 0.0)
        stretch = element_energy(pts, el, e)
        if stretch > 1.7:  # more than about twice as long as wide
            total += 1.2 * (min(stretch, 12.0) - 1.7)
        if el[e, 3] < 0:
            total += 0.8
    return total


@kernel
def _settle(nodes, n, pts, el, inc, deg, fixed):  # type: ignore[no-untyped-def]
    for r in range(3):
        for i in range(n):
            v = nodes[i]
            if v >= 0 and deg[v] > 0 and not fixed[v]:
                relax(pts, v, el, inc, deg, r == 0, 0.15)


@kernel
def _try_two(e, f, rows, nodes, n, pts, el, inc, deg, fixed, ideal, must):  # type: ignore[no-untyped-def]
    """Replace elements e, f by two rows (a row starting with −1 is no element); True if kept.

    With `must`, any result that is not inverted is kept.
    """
    for i in range(n):
        if deg[nodes[i]] >= ROOM - 2:
            return False
    before = _local_energy(nodes, n, pts, el, inc, deg, ideal)
    old_e, old_f = el[e].copy(), el[f].copy()
    keep = np.empty((n, 2))
    for i in range(n):
        keep[i] = pts[nodes[i]]
    _drop(e, el, inc, deg)
    _drop(f, el, inc, deg)
    if rows[0, 0] >= 0:
        _put(e, rows[0, 0], rows[0, 1], rows[0, 2], rows[0, 3], el, inc, deg)
    if rows[1, 0] >= 0:
        _put(f, rows[1, 0], rows[1, 1], rows[1, 2], rows[1, 3], el, inc, deg)
    _settle(nodes, n, pts, el, inc, deg, fixed)
    after = _local_energy(nodes, n, pts, el, inc, deg, ideal)
    if after < before - 1e-6 or (must and after < np.inf):
        return True
    if rows[0, 0] >= 0:
        _drop(e, el, inc, deg)
    if rows[1, 0] >= 0:
        _drop(f, el, inc, deg)
    _put(e, old_e[0], old_e[1], old_e[2], old_e[3], el, inc, deg)
    _put(f, old_f[0], old_f[1], old_f[2], old_f[3], el, inc, deg)
    for i in range(n):
        pts[nodes[i]] = keep[i]
    return False


@kernel
def merge_trias(pts, el, inc, deg, fixed, ideal):  # type: ignore[no-untyped-def]
    """Join neighbouring trias into quads where the quad is sound; returns how many."""
    done = 0
    rows = np.full((2, 4), -1, np.int32)
    nodes = np.empty(4, np.int32)
    for e in range(len(el)):
        if el[e, 0] < 0 or el[e, 3] >= 0:
            continue
        for k in range(3):
            a, b, c = el[e, k], el[e, (k + 1) % 3], el[e, (k + 2) % 3]
            f = across(a, b, e, el, inc, deg)
            if f < 0 or el[f, 3] >= 0:
                continue
            m = _place(f, a, el)
            d = el[f, (m + 1) % 3]
            if quad_angle_score(pts, a, d, b, c) < 0.02:
                continue
            rows[0, 0], rows[0, 1], rows[0, 2], rows[0, 3] = a, d, b, c
            nodes[0], nodes[1], nodes[2], nodes[3] = a, b, c, d
            if _try_two(e, f, rows, nodes, 4, pts, el, inc, deg, fixed, ideal, False):
                done += 1
                break
    return done


@kernel
def turn_sides(pts, el, inc, deg, fixed, ideal):  # type: ignore[no-untyped-def]
    """Turn the side between two quads (or a quad and a tria) where that makes nodes more regular."""
    done = 0
    ring = np.empty(6, np.int32)
    rows = np.full((2, 4), -1, np.int32)
    for e in range(len(el)):
        if el[e, 0] < 0:
            continue
        n = 3 if el[e, 3] < 0 else 4
        for k in range(n):
            if el[e, 0] < 0 or (el[e, 3] < 0) != (n == 3):
                break
            a, b = el[e, k], el[e, (k + 1) % n]
            f = across(a, b, e, el, inc, deg)
            if f < 0 or el[f, 3] < 0:
                continue
            if n == 4 and f < e:
                continue
            m = _place(f, a, el)
            # Ring counter-clockwise: a, then f's other corners, b, then e's other corners.
            ring[0], ring[1], ring[2], ring[3] = a, el[f, (m + 1) % 4], el[f, (m + 2) % 4], b
            size = n + 2
            for i in range(n - 2):
                ring[4 + i] = el[e, (k + 2 + i) % n]
            best, pick = -0.5, -1
            options = 2 if size == 6 else 4
            for o in range(options):
                if size == 6:
                    p, q = ring[1 + o], ring[4 + o]
                else:
                    p, q = ring[1 + o], ring[(3 + o) % 5]
                if p == q:
                    continue
                gain = 0.0
                for v, delta in ((a, -1), (b, -1), (p, 1), (q, 1)):
                    # Errors add up as if the nodes were apart; the exact energy is tested later.
                    gain += (deg[v] + delta - ideal[v]) ** 2 - (deg[v] - ideal[v]) ** 2
                if size == 5:
                    gain += 0.3
                if gain < best:
                    best, pick = gain, o
            if pick < 0:
                continue
            if size == 6:
                s = 1 + pick
                for i in range(4):
                    rows[0, i] = ring[(s + i) % 6]
                    rows[1, i] = ring[(s + 3 + i) % 6]
            else:
                s = 1 + pick
                rows[0, 0], rows[0, 1], rows[0, 2], rows[0, 3] = ring[s % 5], ring[(s + 1) % 5], ring[(s + 2) % 5], -1
                rows[1, 0], rows[1, 1], rows[1, 2], rows[1, 3] = ring[(s + 2) % 5], ring[(s + 3) % 5], ring[(s + 4) % 5], ring[s % 5]
            if _try_two(e, f, rows, ring, size, pts, el, inc, deg, fixed, ideal, False):
                done += 1
    return done


@kernel
def collapse_quads(pts, el, inc, deg, fixed, ideal):  # type: ignore[no-untyped-def]
    """Close quads along a diagonal, and take out nodes with two quads, where that makes nodes more regular."""
    done = 0
    nodes = np.empty(64, np.int32)
    saved = np.empty((2 * ROOM + 2, 5), np.int32)
    keep = np.empty((64, 2))
    for e in range(len(el)):
        if el[e, 0] < 0 or el[e, 3] < 0:
            continue
        for k in range(2):
            a, b, c, d = el[e, k], el[e, k + 1], el[e, (k + 2) % 4], el[e, (k + 3) % 4]
            if fixed[a] and fixed[c]:
                continue
            if fixed[c]:
                a, b, c, d = c, d, a, b
            # c moves onto a
            if deg[a] + deg[c] - 2 >= ROOM - 2 or deg[b] < 2 or deg[d] < 2:
                continue
            gain = (deg[a] + deg[c] - 2 - ideal[a]) ** 2 - (deg[a] - ideal[a]) ** 2 - (deg[c] - ideal[c]) ** 2
            for v in (b, d):
                gain += (deg[v] - 1 - ideal[v]) ** 2 - (deg[v] - ideal[v]) ** 2
            if gain > -0.5 and deg[b] > 2 and deg[d] > 2:
                continue
            if (deg[b] == 2 and fixed[b] and ideal[b] > 1) or (deg[d] == 2 and fixed[d] and ideal[d] > 1):
                continue
            # The star of a and c.
            n = 0
            for v in (a, c):
                for i in range(deg[v]):
                    for j in range(4):
                        w = el[inc[v, i], j]
                        if w < 0:
                            continue
                        new = True
                        for q in range(n):
                            if nodes[q] == w:
                                new = False
                        if new and n < 64:
                            nodes[n] = w
                            n += 1
            bad = False
            for i in range(deg[c]):  # no element may hold both a and c but e itself
                f = inc[c, i]
                if f != e and _place(f, a, el) >= 0:
                    bad = True
            if bad:
                continue
            before = _local_energy(nodes, n, pts, el, inc, deg, ideal)
            for i in range(n):
                keep[i] = pts[nodes[i]]
            m = deg[c]
            for i in range(m):
                saved[i, 0] = inc[c, i]
                for j in range(4):
                    saved[i, j + 1] = el[inc[c, i], j]
            for i in range(m):
                f = saved[i, 0]
                _drop(f, el, inc, deg)
                if f != e:
                    row = saved[i, 1:].copy()
                    for j in range(4):
                        if row[j] == c:
                            row[j] = a
                    _put(f, row[0], row[1], row[2], row[3], el, inc, deg)
            if not fixed[a]:
                pts[a, 0], pts[a, 1] = (pts[a, 0] + pts[c, 0]) / 2, (pts[a, 1] + pts[c, 1]) / 2
            _settle(nodes, n, pts, el, inc, deg, fixed)
            after = _local_energy(nodes, n, pts, el, inc, deg, ideal)
            if after < before - 1e-6:
                done += 1
                break
            for i in range(m):
                if saved[i, 0] != e:
                    _drop(saved[i, 0], el, inc, deg)
            for i in range(m):
                _put(saved[i, 0], saved[i, 1], saved[i, 2], saved[i, 3], saved[i, 4], el, inc, deg)
            for i in range(n):
                pts[nodes[i]] = keep[i]
    return done


@kernel
def drop_doublets(pts, el, inc, deg, fixed):  # type: ignore[no-untyped-def]
    """Interior nodes with just two quads vanish: the quads become one."""
    done = 0
    for v in range(len(deg)):
        if fixed[v] or deg[v] != 2:
            continue
        e, f = inc[v, 0], inc[v, 1]
        if el[e, 3] < 0 or el[f, 3] < 0:
            continue
        k, m = _place(e, v, el), _place(f, v, el)
        a, b, c, d = el[e, (k + 1) % 4], el[e, (k + 2) % 4], el[e, (k + 3) % 4], el[f, (m + 2) % 4]
        if quad_angle_score(pts, a, b, c, d) <= 0.02:
            continue
        _drop(e, el, inc, deg)
        _drop(f, el, inc, deg)
        _put(e, a, b, c, d, el, inc, deg)
        done += 1
    return done


@kernel
def walk_trias(pts, el, inc, deg, fixed, ideal, reach, floor):  # type: ignore[no-untyped-def]
    """Walk trias towards each other across quads and join them; returns how many pairs met.

    A walk whose worst element afterwards is below `floor` (scaled Jacobian) is undone.
    """
    done = 0
    came = np.full(len(el), -1, np.int32)
    queue = np.empty(len(el) + 1, np.int32)
    depth = np.zeros(len(el), np.int32)
    path = np.empty(len(el) + 1, np.int32)
    log_el = np.empty((4 * reach + 8, 5), np.int32)
    log_pt_node = np.empty(12 * reach + 64, np.int32)
    log_pt = np.empty((12 * reach + 64, 2))
    ring = np.empty(5, np.int32)
    nodes = np.empty(8, np.int32)
    for start in range(len(el)):
        if el[start, 0] < 0 or el[start, 3] >= 0:
            continue
        # Nearest other tria.
        head, tail = 0, 1
        queue[0] = start
        came[start] = start
        depth[start] = 0
        goal = -1
        while head < tail and goal < 0:
            e = queue[head]
            head += 1
            if depth[e] >= reach:
                break
            n = 3 if el[e, 3] < 0 else 4
            for k in range(n):
                f = across(el[e, k], el[e, (k + 1) % n], e, el, inc, deg)
                if f < 0 or came[f] >= 0:
                    continue
                came[f] = e
                depth[f] = depth[e] + 1
                queue[tail] = f
                tail += 1
                if el[f, 3] < 0:
                    goal = f
                    break
        n_path = 0
        if goal >= 0:
            e = goal
            while e != start:
                path[n_path] = e
                n_path += 1
                e = came[e]
            path[n_path] = start
            n_path += 1
        for i in range(tail):
            came[queue[i]] = -1
        if goal < 0:
            continue
        # Walk: path is goal … start reversed.
        logged, moved = 0, 0
        ok = True
        tria = np.int64(start)
        for i in range(n_path - 2, 0, -1):
            quad = np.int64(path[i])
            beyond = path[i - 1]
            # Side shared by tria and quad.
            found = False
            for k in range(3):
                a, b, c = el[tria, k], el[tria, (k + 1) % 3], el[tria, (k + 2) % 3]
                m = _place(quad, b, el)
                if m >= 0 and el[quad, (m + 1) % 4] == a:
                    found = True
                    ring[0], ring[1], ring[2], ring[3], ring[4] = a, el[quad, (m + 2) % 4], el[quad, (m + 3) % 4], b, c
                    break
            if not found:
                ok = False
                break
            exit_at = -1
            for j in range(3):
                p, q = ring[j], ring[j + 1]
                m = _place(beyond, q, el)
                size = 3 if el[beyond, 3] < 0 else 4
                if m >= 0 and el[beyond, (m + 1) % size] == p:
                    exit_at = j
            if exit_at < 0:
                ok = False
                break
            best, pick = -9.0, 0
            for o in range(2):
                s = (exit_at + 5 - o) % 5  # tria: ring[s], ring[s+1], ring[s+2]
                score = quad_angle_score(pts, ring[(s + 2) % 5], ring[(s + 3) % 5], ring[(s + 4) % 5], ring[s])
                if score > best:
                    best, pick = score, s
            if moved + 40 >= len(log_pt_node) or logged + 4 >= len(log_el):
                ok = False
                break
            for j in range(5):
                if deg[ring[j]] >= ROOM - 2:
                    ok = False
            if not ok:
                break
            for x in (tria, quad):
                log_el[logged, 0] = x
                for j in range(4):
                    log_el[logged, j + 1] = el[x, j]
                logged += 1
            for j in range(5):
                log_pt_node[moved] = ring[j]
                log_pt[moved] = pts[ring[j]]
                moved += 1
            s = pick
            _drop(tria, el, inc, deg)
            _drop(quad, el, inc, deg)
            _put(tria, ring[(s + 2) % 5], ring[(s + 3) % 5], ring[(s + 4) % 5], ring[s], el, inc, deg)
            _put(quad, ring[s], ring[(s + 1) % 5], ring[(s + 2) % 5], -1, el, inc, deg)
            for j in range(5):
                nodes[j] = ring[j]
            _settle(nodes, 5, pts, el, inc, deg, fixed)
            tria = quad
        merged = False
        if ok:
            for k in range(3):
                a, b, c = el[tria, k], el[tria, (k + 1) % 3], el[tria, (k + 2) % 3]
                f = np.int64(across(a, b, tria, el, inc, deg))
                if f == goal:
                    m = _place(f, a, el)
                    d = el[f, (m + 1) % 3]
                    for x in (tria, f):
                        log_el[logged, 0] = x
                        for j in range(4):
                            log_el[logged, j + 1] = el[x, j]
                        logged += 1
                    for v in (a, b, c, d):
                        log_pt_node[moved] = v
                        log_pt[moved] = pts[v]
                        moved += 1
                    _drop(tria, el, inc, deg)
                    _drop(f, el, inc, deg)
                    _put(tria, a, d, b, c, el, inc, deg)
                    merged = True
                    break
        if merged:
            # Relax the whole way twice, then look whether everything is upright.
            for r in range(8):
                for i in range(moved):
                    v = log_pt_node[i]
                    if not fixed[v] and deg[v] > 0:
                        relax(pts, v, el, inc, deg, r == 0, 0.15)
            worst = 1.0
            for i in range(moved):
                v = log_pt_node[i]
                for j in range(deg[v]):
                    worst = min(worst, least_scaled_jacobian(pts, el, inc[v, j]), 1.5 / element_energy(pts, el, inc[v, j]))
            if worst < floor:
                merged = False
        if merged:
            done += 1
            continue
        for i in range(logged - 1, -1, -1):  # undo
            x = log_el[i, 0]
            if el[x, 0] >= 0:
                _drop(x, el, inc, deg)
        # Rows come back oldest last, so that each element ends with its first state.
        for i in range(logged - 1, -1, -1):
            x = log_el[i, 0]
            if el[x, 0] >= 0:
                _drop(x, el, inc, deg)
            _put(x, log_el[i, 1], log_el[i, 2], log_el[i, 3], log_el[i, 4], el, inc, deg)
        for i in range(moved - 1, -1, -1):
            pts[log_pt_node[i]] = log_pt[i]
    return done


@kernel
def ideal_counts(pts, loops_prev, loops_next, border, n_border, nodes):  # type: ignore[no-untyped-def]
    """Wanted number of elements round each node: 4 inside, interior angle / 90° on the border (at least 1)."""
    ideal = np.full(nodes, 4.0)
    for i in range(n_border):
        v = border[i]
        p, q = loops_prev[i], loops_next[i]
        ux, uy = pts[q, 0] - pts[v, 0], pts[q, 1] - pts[v, 1]
        wx, wy = pts[p, 0] - pts[v, 0], pts[p, 1] - pts[v, 1]
        angle = math.atan2(ux * wy - uy * wx, ux * wx + uy * wy)
        if angle <= 0:
            angle += 2 * math.pi
        ideal[v] = max(1.0, math.floor(angle / (math.pi / 2) + 0.45))
    return ideal
