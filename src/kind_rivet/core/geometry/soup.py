"""From a soup of triangles to a shape: welded, turned alike, with faces and edges found by feature angle."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import FREE, Carrier, Floats, circle_in_plane, fit_curve, unit
from kind_rivet.core.geometry.round_fit import fit_round
from kind_rivet.core.geometry.shape import Edge, Face, Shape
from kind_rivet.core.kernels import kernel

Ints = NDArray[np.int32]
MOST_FACES = 20_000
UNSURE_ROUNDS = 4  # how far normals are handed on to facets that are unsure
LEAST_ROUND = 5  # nodes of a closed chain, its first one twice: fewer sides are a polygon's
ARC_ALIKE = 0.3  # share by which turns and sides of one arc may differ
ARC_TURN = 65.0  # degrees that an arc may turn at a node


@dataclass(frozen=True)
class Soup:
    """A shape made from triangles: `closed` when it encloses a volume, `notes` what was wrong with it.

    kept : (m,) the given triangle that each facet is; node : (n,) the shape's point that each given point became, −1 where none
    """

    shape: Shape
    closed: bool
    notes: tuple[str, ...]
    kept: NDArray[np.int64]
    node: Ints


def shape_from_triangles(
    points: Floats,
    triangles: Ints,
    angle: float = 30.0,
    welded: bool = False,
    labels: NDArray[np.int64] | None = None,
    unsure: NDArray[np.bool_] | None = None,
) -> Soup:
    """Weld corners, drop what is degenerate or no number, turn all facets alike and outward, find faces and edges.

    points (n, 3), triangles (m, 3); two facets belong to one face where they turn by less
    than `angle` degrees and their `labels` (m,), if there are any, agree. Those that are `unsure` (m,), needles for
    example, count as turned like their neighbour at the longest side. Raises `Refused` when nothing usable is left.
    """
    notes: list[str] = []
    points = np.ascontiguousarray(points, np.float64)
    good = np.asarray(np.isfinite(points).all(axis=1), bool)
    whole = np.asarray(good[triangles].all(axis=1), bool)
    if not whole.all():
        notes.append(f"{int((~whole).sum())} facets with coordinates that are no numbers were left out.")
    triangles, kept = np.ascontiguousarray(triangles[whole], np.int32), np.flatnonzero(whole)
    if not len(triangles):
        raise Refused("There are no facets to work on.", "Export the part again.")
    number, given = np.where(good, np.arange(len(points)), 0).astype(np.int32), good
    if not welded:
        number[good], count = _weld_exact(np.ascontiguousarray(points[good]))
        place = np.empty((count, 3))
        place[number[good]] = points[good]
        points, triangles = place, number[triangles]
    flat = (triangles[:, 0] == triangles[:, 1]) | (triangles[:, 1] == triangles[:, 2]) | (triangles[:, 2] == triangles[:, 0])
    triangles, kept = triangles[~flat], kept[~flat]
    if not len(triangles):
        raise Refused("All facets are degenerate.", "Export the part again, in finer units.")
    used = np.zeros(len(points), bool)
    used[triangles.ravel()] = True
    new = (np.cumsum(used) - 1).astype(np.int32)
    node = np.where(given & used[number], new[number], -1).astype(np.int32)
    points, triangles = points[used], np.ascontiguousarray(new[triangles])
    beside, many = facet_neighbours(triangles, len(points))
    if many:
        notes.append(f"{many} sides have more than two facets; faces end there.")
    turned, piece = to_be_turned(triangles, beside)
    if turned.any():
        triangles[turned] = triangles[turned][:, [0, 2, 1]]
        beside[turned] = beside[turned][:, [2, 1, 0]]
        notes.append(f"{int(turned.sum())} facets were turned to match their neighbours.")
    closed = not (beside == -1).any() and not many
    triangles, beside = _outward(points, triangles, beside, piece, closed, notes)
    if not closed:
        notes.append("It is open, so it counts as a sheet.")
    a, b, c = (points[triangles[:, k]] for k in range(3))
    normal = unit(np.cross(b - a, c - a))
    if unsure is not None and unsure[kept].any():
        normal = _as_beside(points, triangles, beside, normal, unsure[kept])
    label = np.zeros(len(triangles), np.int64) if labels is None else np.asarray(labels, np.int64)[kept]
    face = _without_folds(_flood(beside, normal, np.cos(np.radians(angle)), label), beside, normal)
    count = int(face.max()) + 1
    if count > MOST_FACES:
        raise Refused(f"At {angle:g}° these facets fall into {count} faces.", "Give a larger feature angle.")
    shape = _with_edges(points, triangles, face, normal, beside, closed, angle)
    return Soup(shape, closed, tuple(notes), kept, node)


def _as_beside(points: Floats, triangles: Ints, beside: Ints, normal: Floats, unsure: NDArray[np.bool_]) -> Floats:
    """Normals (m, 3), those of facets that are unsure taken from the neighbour at their longest side that is sure, from facet to facet."""
    out, left = normal.copy(), unsure.copy()
    corner = points[triangles]
    side = np.linalg.norm(np.roll(corner, -1, axis=1) - corner, axis=2)
    for _ in range(UNSURE_ROUNDS):
        mine = np.flatnonzero(left)
        known = (beside[mine] >= 0) & ~left[np.maximum(beside[mine], 0)]
        which = np.argmax(np.where(known, side[mine], -1.0), axis=1)
        found = known[np.arange(len(mine)), which]
        if not found.any():
            break
        out[mine[found]] = out[beside[mine[found], which[found]]]
        left[mine[found]] = False
    return out


@kernel
def _weld_exact(points):  # type: ignore[no-untyped-def]
    """Number (n,) of each point among the distinct ones (exact coordinates, open addressing), and their count."""
    n = len(points)
    size = 1
    while size < 2 * n + 2:
        size *= 2
    table = np.full(size, -1, np.int32)
    number = np.empty(n, np.int32)
    first = np.empty(n, np.int32)
    count = 0
    bits = points.view(np.int64)
    for i in range(n):
        h = np.uint64(1469598103934665603)
        for k in range(3):
            b = bits[i, k] if points[i, k] != 0.0 else np.int64(0)  # −0 is 0
            h = (h ^ np.uint64(b)) * np.uint64(1099511628211)
            h ^= h >> np.uint64(29)
        slot = np.int64(h & np.uint64(size - 1))
        while True:
            other = table[slot]
            if other < 0:
                table[slot] = count
                first[count] = i
                number[i] = count
                count += 1
                break
            j = first[other]
            if points[j, 0] == points[i, 0] and points[j, 1] == points[i, 1] and points[j, 2] == points[i, 2]:
                number[i] = other
                break
            slot = (slot + 1) & (size - 1)
    return number, count


def facet_neighbours(triangles: Ints, n: int) -> tuple[Ints, int]:
    """Facet across each side (m, 3): −1 none, −2 more than one; and the number of sides with more than two facets."""
    m = len(triangles)
    a, b = triangles.astype(np.int64).ravel(), triangles[:, [1, 2, 0]].astype(np.int64).ravel()
    key = np.minimum(a, b) * n + np.maximum(a, b)
    order = np.argsort(key, kind="stable")
    ordered = key[order]
    start = np.flatnonzero(np.r_[True, ordered[1:] != ordered[:-1]])
    length = np.diff(np.r_[start, len(ordered)])
    beside = np.full(3 * m, -1, np.int32)
    two = start[length == 2]
    beside[order[two]] = order[two + 1] // 3
    beside[order[two + 1]] = order[two] // 3
    more = start[length > 2]
    for s, k in zip(more.tolist(), length[length > 2].tolist(), strict=True):
        beside[order[s : s + k]] = -2
    return beside.reshape(m, 3), len(more)


@kernel
def to_be_turned(triangles, beside):  # type: ignore[no-untyped-def]
    """Which facets (m,) must be turned so that neighbours agree, and the piece (m,) each belongs to."""
    m = len(triangles)
    turned = np.zeros(m, np.bool_)
    piece = np.full(m, -1, np.int32)
    stack = np.empty(m, np.int32)
    count = 0
    for seed in range(m):
        if piece[seed] >= 0:
            continue
        piece[seed] = count
        top = 1
        stack[0] = seed
        while top > 0:
            top -= 1
            f = stack[top]
            for k in range(3):
                g = beside[f, k]
                if g < 0 or piece[g] >= 0:
                    continue
                a, b = triangles[f, k], triangles[f, (k + 1) % 3]
                same_way = False
                for j in range(3):
                    if triangles[g, j] == a and triangles[g, (j + 1) % 3] == b:
                        same_way = True
                turned[g] = turned[f] != same_way
                piece[g] = count
                stack[top] = g
                top += 1
        count += 1
    return turned, piece


def _outward(points: Floats, triangles: Ints, beside: Ints, piece: Ints, closed: bool, notes: list[str]) -> tuple[Ints, Ints]:
    """Closed pieces turned so that their volume is positive; inner skins of hollow bodies stay turned inward."""
    a, b, c = (points[triangles[:, k]] - points[0] for k in range(3))
    volume = np.bincount(piece, np.einsum("ij,ij->i", a, np.cross(b, c)) / 6)
    if not closed:
        return triangles, beside
    wrong = volume.sum() < 0 if len(volume) > 1 else volume[0] < 0
    if wrong:
        triangles, beside = np.ascontiguousarray(triangles[:, [0, 2, 1]]), np.ascontiguousarray(beside[:, [2, 1, 0]])
        notes.append("It was inside out and has been turned.")
    return triangles, beside


@kernel
def _flood(beside, normal, least, label):  # type: ignore[no-untyped-def]
    """Face (m,) of each facet: neighbours of one label whose normals turn less than the angle whose cosine is `least`."""
    m = len(beside)
    face = np.full(m, -1, np.int32)
    stack = np.empty(m, np.int32)
    count = 0
    for seed in range(m):
        if face[seed] >= 0:
            continue
        face[seed] = count
        stack[0] = seed
        top = 1
        while top > 0:
            top -= 1
            f = stack[top]
            for k in range(3):
                g = beside[f, k]
                if g < 0 or face[g] >= 0 or label[g] != label[f]:
                    continue
                if normal[f, 0] * normal[g, 0] + normal[f, 1] * normal[g, 1] + normal[f, 2] * normal[g, 2] >= least:
                    face[g] = count
                    stack[top] = g
                    top += 1
        count += 1
    return face


def _without_folds(face: Ints, beside: Ints, normal: Floats) -> Ints:
    """Faces (m,), those that a single face encloses and that lie on their backs taken into it: elements folded over, no faces of the part."""
    facet, k = np.nonzero((beside >= 0) & (face[np.maximum(beside, 0)] != face[:, None]))
    other = beside[facet, k]
    count = int(face.max()) + 1
    back = np.einsum("ij,ij->i", normal[facet], normal[other]) < -0.5
    ends = np.bincount(face, (beside < 0).any(axis=1), count)  # faces with a border of their own enclose, and are not enclosed
    low, high, upright = np.full(count, count), np.full(count, -1), np.bincount(face[facet], ~back, count)
    np.minimum.at(low, face[facet], face[other])
    np.maximum.at(high, face[facet], face[other])
    size = np.bincount(face, minlength=count)
    fold = (ends == 0) & (upright == 0) & (low == high) & (size < size[np.minimum(low, count - 1)])
    into = np.where(fold, low, np.arange(count))
    return np.unique(into[into][face], return_inverse=True)[1].ravel().astype(np.int32)


def _with_edges(points: Floats, triangles: Ints, face: Ints, normal: Floats, beside: Ints, closed: bool, angle: float) -> Shape:
    """Corner normals within faces, edges between faces with their carriers, carriers of faces."""
    count = int(face.max()) + 1
    node_face = triangles.ravel().astype(np.int64) * count + np.repeat(face, 3)
    a, b, c = (points[triangles[:, k]] for k in range(3))
    weighted = np.cross(b - a, c - a)
    names, where = np.unique(node_face, return_inverse=True)
    sums = np.column_stack([np.bincount(where, np.repeat(weighted[:, k], 3), len(names)) for k in range(3)])
    corner = unit(np.asarray(sums, float))[where].reshape(-1, 3, 3)
    weak = np.einsum("ijk,ik->ij", corner, normal) < 0.3
    corner[weak] = np.broadcast_to(normal[:, None], corner.shape)[weak]
    across = np.where(beside >= 0, face[np.maximum(beside, 0)], -1)
    f, k = np.nonzero(across != face[:, None])
    segments, between = _bordering(np.column_stack((triangles[f, k], triangles[f, (k + 1) % 3])), face[f])
    edges = edges_from_segments(points, segments, between, angle)
    faces = tuple(Face(fit_surface(points, triangles[mine], corner[mine])) for mine in _members(face, count))
    return Shape(points, triangles, face.astype(np.int32), corner, faces, edges, closed)


def _bordering(sides: Ints, face: Ints) -> tuple[Ints, NDArray[np.int64]]:
    """Each side of facets (m, 2) once, and a number that says between which faces it lies: one, two, or all that meet there.

    `face` (m,): of the facet that each side belongs to.
    """
    if not len(sides):
        return np.empty((0, 2), np.int32), np.empty(0, np.int64)
    ordered = np.sort(sides, axis=1)
    order = np.lexsort((face, ordered[:, 1], ordered[:, 0]))
    ordered, face = ordered[order], face[order]
    start = np.flatnonzero(np.r_[True, (ordered[1:] != ordered[:-1]).any(axis=1)])
    stop = np.r_[start[1:], len(ordered)]
    numbers: dict[tuple[int, ...], int] = {}
    between = [numbers.setdefault(tuple(face[a:b].tolist()), len(numbers)) for a, b in zip(start, stop, strict=True)]
    return np.ascontiguousarray(ordered[start]), np.array(between, np.int64)


def _members(face: Ints, count: int) -> list[NDArray[np.int64]]:
    order = np.argsort(face, kind="stable")
    return np.split(order, np.searchsorted(face[order], np.arange(1, count)))


def edges_from_segments(points: Floats, segments: Ints, between: NDArray[np.int64], angle: float) -> tuple[Edge, ...]:
    """Chains of segments between the same faces, cut where other chains meet or where they turn by more than `angle` degrees.

    segments (m, 2), between (m,): alike where the faces on their sides are the same.

    Closed chains on a circle stay whole however few corners they have: they are holes.
    """
    at: dict[int, list[int]] = {}
    for s, (a, b) in enumerate(segments.tolist()):
        at.setdefault(a, []).append(s)
        at.setdefault(b, []).append(s)
    ends, kinds = segments.tolist(), between.tolist()
    passes = {node: len(mine) == 2 and kinds[mine[0]] == kinds[mine[1]] for node, mine in at.items()}
    used = np.zeros(len(ends), bool)

    def walk(s: int, start: int) -> list[int]:
        chain, here = [start], start
        while not used[s]:
            used[s] = True
            here = ends[s][1] if ends[s][0] == here else ends[s][0]
            chain.append(here)
            if not passes[here] or here == start:
                break
            s = at[here][0] if at[here][1] == s else at[here][1]
        return chain

    least = np.cos(np.radians(angle))
    tolerance = 1e-6 * float(np.linalg.norm(np.ptp(points, axis=0)))
    starts = [(s, n) for n, mine in at.items() if not passes[n] for s in mine]
    out = []
    for s, n in [*starts, *((s, ends[s][0]) for s in range(len(ends)))]:
        if used[s]:
            continue
        nodes = np.array(walk(s, n), np.int32)
        closed = nodes[0] == nodes[-1]
        whole = fit_curve(
            points[nodes], max(tolerance, 1e-3 * float(np.ptp(points[nodes], axis=0).max())) if closed and len(nodes) > 6 else tolerance
        )
        if closed and whole.kind == "circle" and len(nodes) > LEAST_ROUND:
            out.append(Edge(nodes, whole))
            continue
        for part in _at_corners(points, nodes, least):
            out.append(Edge(part, fit_curve(points[part], tolerance)))
    return tuple(out)


def _at_corners(points: Floats, nodes: Ints, least: float) -> list[Ints]:
    """A chain cut at its sharp corners (cosine of the turn below `least`), not along coarse arcs."""
    closed = bool(nodes[0] == nodes[-1])
    side = np.diff(points[nodes], axis=0)
    length = np.linalg.norm(side, axis=1)
    side = unit(side)
    turn = np.einsum("ij,ij->i", side, np.roll(side, -1, axis=0))  # at the end of each side
    sharp = turn < least
    if not closed:
        sharp[-1] = False
    sharp &= ~_on_arc(np.arccos(np.clip(turn, -1, 1)), length, closed)
    corners = (np.flatnonzero(sharp[:-1]) + 1).tolist()
    if closed and not sharp[-1] and corners:  # the chain's own beginning is no corner
        nodes = np.concatenate((nodes[corners[0] :], nodes[1 : corners[0] + 1]))
        corners = [k - corners[0] for k in corners[1:]]
    stops = [0, *corners, len(nodes) - 1]
    return [nodes[a : b + 1] for a, b in itertools.pairwise(stops)]


def _on_arc(turn: Floats, length: Floats, closed: bool) -> NDArray[np.bool_]:
    """Which turns (n,), at the ends of sides of a `length`, belong to at least three like ones in a row: a round edge in few pieces."""
    n = len(turn)
    after = np.roll(turn, -1)
    like = (np.abs(turn - after) < ARC_ALIKE * np.maximum(turn, after)) & (np.maximum(turn, after) < np.radians(ARC_TURN))
    like &= np.abs(length - np.roll(length, -1)) < ARC_ALIKE * np.maximum(length, np.roll(length, -1))
    if not closed:
        like[max(n - 2, 0) :] = False
    row = like & np.roll(like, -1)  # this turn and the next two
    if not closed:
        row[max(n - 3, 0) :] = False
    return np.asarray(row | np.roll(row, 1) | np.roll(row, 2))


def fit_surface(points: Floats, triangles: Ints, normals: Floats) -> Carrier:
    """The plane, cylinder or cone that facets lie on, within 1e-5 of their reach (2e-5 where it has to be fitted); else `free`."""
    nodes = np.unique(triangles)
    p = points[nodes]
    centre = p.mean(axis=0)
    reach = float(np.linalg.norm(np.ptp(p, axis=0)))
    n = unit(np.cross(points[triangles[:, 1]] - points[triangles[:, 0]], points[triangles[:, 2]] - points[triangles[:, 0]]))
    mean = n.mean(axis=0)
    if np.linalg.norm(mean) > 0.999:
        mean = unit(mean)
        if len(p) > 3:
            _, _, axes = np.linalg.svd(p - centre if len(p) < 5000 else (p - centre)[:: len(p) // 2500], full_matrices=False)
            mean = axes[2] if axes[2] @ mean > 0 else -axes[2]
        if np.abs((p - centre) @ mean).max() < 1e-5 * reach:
            return Carrier("plane", (*centre, *mean))
    if len(triangles) < 8:
        return FREE
    some = n[:: max(1, len(n) // 4000)]
    values, axes = np.linalg.eigh(some.T @ some)
    if values[1] < 1e-3 * values[2]:
        return FREE
    axis = axes[:, 0]
    circle = fit_circle(p - ((p - centre) @ axis)[:, None] * axis) if values[0] < 1e-4 * values[2] else None
    if circle is not None:
        middle, radius = circle
        away = p - middle - ((p - middle) @ axis)[:, None] * axis
        if np.abs(np.linalg.norm(away, axis=1) - radius).max() < 1e-5 * max(reach, radius):
            return Carrier("cylinder", (*middle, *axis, radius))
    return fit_round(p, n)


def fit_circle(points: Floats) -> tuple[Floats, float] | None:
    """Centre and radius of the circle that fits points lying in one plane best; None when there is none."""
    centre = points.mean(axis=0)
    some = (points - centre)[:: max(1, len(points) // 2000)]
    _, _, axes = np.linalg.svd(some, full_matrices=False)
    q = some @ axes[:2].T
    found = circle_in_plane(q)
    return None if found is None else (centre + found[0] @ axes[:2], found[1])
