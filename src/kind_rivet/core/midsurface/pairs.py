"""Which faces lie opposite each other across a wall, told by balls that touch both."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, frame, same, unit
from kind_rivet.core.geometry.holes import falls_away
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.sampling import face_samples, spread_samples
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.midsurface.blends import hollow
from kind_rivet.core.midsurface.offset_side import smooth_edge

LEAST, MOST = 48, 600  # samples on a face
THIN, BEND = 0.9, 0.3  # mean width in walls below which a flat side is a lump or a rim; tight bends are narrower
SLANT = 0.34  # sine of the angle between two flat sides, or an edge and a wall, from which they are a corner, and what ends there ends across the wall
ASLANT, THINNER = 1.5, 0.5  # walls: how wide the end of a wall is at most that is cut off aslant, and how thick what lies under it
SLIVER = 0.02  # of the largest wall's thickness: thinner walls must be larger than its square
FLAT, CURVED, NARROW = 0.08, 0.25, 0.6  # opposed share from which a flat face is a side, a curved one, and one that is narrow too
AROUND = 0.12  # the same where both are cylinders round one axis: convolutions and bends are far narrower on their inner side
WIDE = 2.5  # walls of mean width from which a face is not narrow
BROKEN = 0.4  # of the thinnest wall: as wide is what rounds or chamfers its edges
SHARP = 0.8  # share of a chamfer's border at which it falls away sharply
ENDS = 0.3  # share of a floor's border at which it may end rather than have walls standing on it
LEFT, HAIR = 2.5, 1e-3  # how much more a floor's outline holds than what is seen of it; walls within which faces lie in one plane
MINOR = 0.2  # of what each of two sides makes with another: up to that an unsteady wall between them is a wedge
OUT = 1.0  # spread of thickness, in walls, from which a round side runs out on a flat one
PART = 0.5  # share of that flat one opposite of which it lies at most
OVERLAP = 0.1  # of a face: what lies opposite a smooth neighbour of its partner up to this belongs to that
NARROWER, MUCH = 0.5, 0.25  # walls: overlaps up to this width, if they are less than so much of what each side has of its own
EVEN = 1e-3  # spread of thickness, in walls, up to which a wall is equally thick all over
STEADY, UNSTEADY = 0.05, 0.1  # the same for freely curved sides, between which it is never quite even, and from which it surely is not


@dataclass(frozen=True)
class Opposed:
    """Samples on the solid's surface whose inscribed ball touches a face looking back.

    point, middle : (n, 3) on the surface and in the middle of the wall
    face, partner : (n,) the two faces; wall : (n,) thickness; weight : (n,) area the sample stands for
    share : (f,) opposed share of each face's area
    width : (f,) mean width of each face, 2 area / border length
    """

    point: Floats
    middle: Floats
    face: NDArray[np.int64]
    partner: NDArray[np.int64]
    wall: Floats
    weight: Floats
    share: Floats
    width: Floats


@dataclass(frozen=True)
class Pair:
    """Two faces across a wall with the samples between them."""

    a: int
    b: int
    wall: float
    weight: float  # opposed area, mean of both sides
    middle: Floats
    share: float = 0.5  # how deep under face a the sheet lies, in walls
    even: bool = False  # equally thick all over
    spread: float = 0.0  # of the thickness, in walls
    narrow: bool = False  # too narrow for a wall of its own, but it may be part of another


def find_opposed(shape: Shape, tree: FacetTree) -> Opposed:
    """Cast inward rays from every face; keep those whose ball of the ray's length touches only its two ends.

    The face met must look back (cosine above 0.8), and no surface may come nearer to the
    middle than 0.85 of half the ray: rims, tabs and feet of ribs fall out by that.
    """
    points, normals, face, weight = _samples(shape, tree)
    eps = 1e-6 * shape.diagonal
    far, hit = tree.cast(points - eps * normals, -normals, least=eps)
    far = far + eps
    met = hit >= 0
    back = np.zeros(len(far))
    back[met] = np.einsum("ij,ij->i", _normals_at(shape, hit[met], points[met] - far[met, None] * normals[met]), -normals[met])
    met &= back > 0.8
    middle = points - 0.5 * np.where(met, far, 0.0)[:, None] * normals
    good = np.flatnonzero(met)
    _, _, gap = tree.nearest(middle[good])
    good = good[gap >= 0.85 * far[good] / 2]
    partner = shape.facet_face[hit[good]].astype(np.int64)
    good, partner = good[partner != face[good]], partner[partner != face[good]]
    share = np.bincount(face[good], weight[good], len(shape.faces)) / np.maximum(shape.face_area, 1e-300)
    width = 2 * shape.face_area / np.maximum(shape.face_border_length, 1e-300)
    return Opposed(points[good], middle[good], face[good], partner, far[good], weight[good], share, width)


def _normals_at(shape: Shape, facet: NDArray[np.int32], at: Floats) -> Floats:
    """Exact normals (n, 3) at points on facets, from the corner normals."""
    corners = shape.points[shape.facets[facet]]
    area = [np.linalg.norm(np.cross(corners[:, (k + 1) % 3] - at, corners[:, (k + 2) % 3] - at), axis=1) for k in range(3)]
    weight = np.stack(area, axis=1)
    weight /= np.maximum(weight.sum(axis=1, keepdims=True), 1e-300)
    return unit(np.einsum("ij,ijk->ik", weight, shape.normals[facet]))


def _samples(shape: Shape, tree: FacetTree) -> tuple[Floats, Floats, NDArray[np.int64], Floats]:
    """Points, exact normals, faces and areas: more on faces that are large for their wall, always the same."""
    count = np.full(len(shape.faces), LEAST)
    points, normals, face, _ = face_samples(shape, 12)
    eps = 1e-6 * shape.diagonal
    far, _ = tree.cast(points - eps * normals, -normals, least=eps)
    for f in np.unique(face):
        wall = np.percentile(far[face == f], 20)
        if np.isfinite(wall) and wall > 0:
            count[f] = int(np.clip(shape.face_area[f] / wall**2, LEAST, MOST))
    points, normals, face, _, area = spread_samples(shape, count)
    return points, normals, face, area


def find_pairs(shape: Shape, opposed: Opposed) -> list[Pair]:
    """Pairs of faces with a wall between them, largest first.

    A face counts as a side when enough of it is opposed: more of a curved one, and most of a
    curved and narrow one unless the wall is equally thick all over or round one axis, else blends would become walls.
    """
    low, high = np.minimum(opposed.face, opposed.partner), np.maximum(opposed.face, opposed.partner)
    key = low * len(shape.faces) + high
    names, index = np.unique(key, return_inverse=True)
    pairs = []
    for k, name in enumerate(names.tolist()):
        mine = index == k
        a, b = divmod(name, len(shape.faces))
        wall = float(np.median(opposed.wall[mine]))
        from_a, from_b = (float(opposed.weight[mine & (opposed.face == f)].sum()) for f in (a, b))
        weight = (from_a + from_b) / 2
        smaller = min(shape.face_area[a], shape.face_area[b])
        spread = float(np.ptp(np.percentile(opposed.wall[mine], (2, 98)))) / wall
        even = spread < EVEN
        coaxial = _coaxial(shape, a, b, wall)
        curved = AROUND if coaxial else CURVED if even else NARROW
        if weight < 0.5 * wall**2 or weight < 0.03 * smaller or not all(_is_side(shape, opposed, f, wall, curved, coaxial) for f in (a, b)):
            continue
        narrow = not all(_is_wide(shape, opposed, f, wall) for f in (a, b))
        if narrow and not (even and shape.faces[a].carrier.kind == shape.faces[b].carrier.kind == "plane"):
            continue
        pairs.append(Pair(a, b, wall, weight, opposed.middle[mine], even=even or coaxial, spread=spread, narrow=narrow))
    wide = [pair for pair in pairs if not pair.narrow]
    wide = _without_rims(shape, opposed.width, _without_eyes(shape, opposed.width, wide))
    wide = _without_tips(shape, opposed.width, wide)
    wide = _without_overlaps(shape, _without_wedges(shape, _without_corners(shape, wide)))
    return sorted(_without_slivers(wide) + [pair for pair in pairs if pair.narrow], key=lambda p: (p.narrow, -p.weight))


def _is_wide(shape: Shape, opposed: Opposed, face: int, wall: float) -> bool:
    """Is a face wide enough for its wall, by itself or together with what lies in one plane with it?"""
    if shape.faces[face].carrier.kind != "plane":
        return bool(opposed.width[face] >= BEND * wall) and not (opposed.width[face] < BROKEN * wall and _is_chamfer(shape, face))
    width = _unbroken_width(shape, opposed.width, face, wall)
    return bool(width >= THIN * wall or (width >= BEND * wall and _is_floor(shape, face, wall)))


def _is_chamfer(shape: Shape, face: int) -> bool:
    """Does a face fall away sharply from what lies on both sides of it? A tight bend runs on smoothly."""
    edges = shape.face_edges[face]
    sharp = [e for e in edges if not smooth_edge(shape, e) and falls_away(shape, face, e)]
    return bool(shape.edge_length[sharp].sum() > SHARP * shape.edge_length[list(edges)].sum())


def _unbroken_width(shape: Shape, width: Floats, face: int, wall: float) -> float:
    """Mean width of a flat face together with the roundings, chamfers and blends along its edges, as they lie in its plane."""
    around = {
        f
        for e in shape.face_edges[face]
        for f in shape.edge_faces[e]
        if f != face and (width[f] < BROKEN * wall or _is_blend(shape, f, e, wall))
    }
    normal = shape.faces[face].carrier.array[3:6]
    seen = np.isin(shape.facet_face, list(around))
    more = float((shape.facet_area[seen] * np.abs(shape.facet_normal[seen] @ normal)).sum())
    return float(width[face] * (1 + more / max(float(shape.face_area[face]), 1e-300)))


def _is_blend(shape: Shape, other: int, edge: int, wall: float) -> bool:
    """Does a flat face run on smoothly, across an edge, into another that is hollow and round with a small radius, as at the foot of another wall?"""
    carrier = shape.faces[other].carrier
    if carrier.kind != "cylinder" or carrier.data[-1] > wall or not smooth_edge(shape, edge):
        return False
    return hollow(shape, other)


def _is_floor(shape: Shape, face: int, wall: float) -> bool:
    """Is a flat face one of those that walls standing close together leave of a wide floor, like that under cooling fins?"""
    import shapely

    edges = np.array(shape.face_edges[face])
    length = shape.edge_length[edges]
    falls = np.array([falls_away(shape, face, int(e)) for e in edges])
    if length[falls].sum() > ENDS * length.sum():
        return False
    plane = shape.faces[face].carrier
    corners = shape.points[shape.facets[shape.facet_face == face]].reshape(-1, 3)
    lot = [f for f, other in enumerate(shape.faces) if same(plane, other.carrier, corners, HAIR * wall)]
    mine = np.isin(shape.facet_face, lot)
    u, v = frame(plane.array[3:6])
    flat = shape.points[np.unique(shape.facets[mine])] @ np.stack((u, v), axis=1)
    hull = shapely.MultiPoint(flat).convex_hull
    return bool(hull.area < LEFT * shape.face_area[lot].sum() and 2 * hull.area > WIDE * wall * hull.length)


def _coaxial(shape: Shape, a: int, b: int, wall: float) -> bool:
    """Are two faces cylinders round one axis? Between facets their wall does not look equally thick where it is short."""
    one, other = shape.faces[a].carrier, shape.faces[b].carrier
    if one.kind != "cylinder" or other.kind != "cylinder":
        return False
    between = other.array[:3] - one.array[:3]
    axes = np.array([one.array[3:6], other.array[3:6]])
    return bool(np.linalg.norm(np.cross(*axes)) < EVEN and np.linalg.norm(np.cross(between, axes[0])) < EVEN * wall)


def _without_slivers(pairs: list[Pair]) -> list[Pair]:
    """The pairs without specks of hair's breadth, where faces that were meant to coincide do not quite."""
    if not pairs:
        return []
    typical = max(pairs, key=lambda pair: pair.weight).wall
    return [pair for pair in pairs if pair.wall > SLIVER * typical or pair.weight > typical**2]


def _most_of_sides(pairs: list[Pair]) -> dict[int, float]:
    """Face → opposed area of the largest of these pairs that it is a side of."""
    out: dict[int, float] = {}
    for pair in pairs:
        for f in (pair.a, pair.b):
            out[f] = max(out.get(f, 0.0), pair.weight)
    return out


def _without_corners(shape: Shape, pairs: list[Pair]) -> list[Pair]:
    """The pairs without sides at such an angle that they are a corner, as where a rib is cut off aslant; two flat ones that make no other pair are a wedge.

    Where a round side runs out on a flat face, its wall is known by the other side that it lies evenly opposite to.
    """
    times = Counter(f for pair in pairs for f in (pair.a, pair.b))
    even = _most_of_sides([pair for pair in pairs if pair.even])

    def runs_out(pair: Pair) -> bool:
        flat = [f for f in (pair.a, pair.b) if shape.faces[f].carrier.kind == "plane"]
        if len(flat) != 1 or pair.spread < OUT or pair.b not in shape.face_neighbours[pair.a]:
            return False
        round_one = pair.b if flat[0] == pair.a else pair.a
        return pair.weight < min(PART * float(shape.face_area[flat[0]]), MINOR * even.get(round_one, 0.0))

    def is_corner(pair: Pair) -> bool:
        one, other = shape.faces[pair.a].carrier, shape.faces[pair.b].carrier
        if one.kind != "plane" or other.kind != "plane" or max(times[pair.a], times[pair.b]) == 1:
            return False
        return bool(np.linalg.norm(np.cross(one.array[3:6], other.array[3:6])) > SLANT)

    return [pair for pair in pairs if not (is_corner(pair) or runs_out(pair))]


def _without_wedges(shape: Shape, pairs: list[Pair]) -> list[Pair]:
    """The pairs without those between the far sides of two walls that touch, as where a round wall lies tangent to a flat one."""
    even = {f for pair in pairs if pair.even for f in (pair.a, pair.b)}
    steady = _most_of_sides([pair for pair in pairs if pair.spread < STEADY])

    def is_wedge(pair: Pair) -> bool:
        if pair.even or _is_flat(shape, pair):
            return False
        minor = all(pair.weight < MINOR * steady.get(f, 0.0) for f in (pair.a, pair.b))
        return {pair.a, pair.b} <= even or (minor and pair.spread > UNSTEADY)

    return [pair for pair in pairs if not is_wedge(pair)]


def _without_overlaps(shape: Shape, pairs: list[Pair]) -> list[Pair]:
    """The pairs without those across seams of round skins whose seams on both sides do not face each other: each side of it has its own partner."""
    smooth: dict[frozenset[int], float] = {}  # length of the smooth edges between two faces
    for e, beside in enumerate(shape.edge_faces):
        if len(set(beside)) == 2 and not all(shape.faces[f].carrier.kind == "plane" for f in beside) and smooth_edge(shape, e):
            seam = frozenset(beside)
            smooth[seam] = smooth.get(seam, 0.0) + float(shape.edge_length[e])

    def has_own(face: int, other: int, pair: Pair, narrow: bool) -> bool:
        """Does a face lie opposite a smooth neighbour of the other one for far the most part, or beside a strip that is narrow for the wall?"""
        partners = {f: p.weight for p in pairs if face in (p.a, p.b) for f in (p.a, p.b) if f != face}
        seams = [(smooth[seam], w) for f, w in partners.items() if (seam := frozenset((f, other))) in smooth]
        if narrow:
            return any(pair.weight < min(NARROWER * pair.wall * length, MUCH * w) for length, w in seams)
        return any(pair.weight < OVERLAP * w for _, w in seams)

    def overlaps(pair: Pair) -> bool:
        least = min(shape.face_area[pair.a], shape.face_area[pair.b])
        ways = [False, True] if pair.weight < OVERLAP * least else [True]
        return any(has_own(pair.a, pair.b, pair, narrow) and has_own(pair.b, pair.a, pair, narrow) for narrow in ways)

    return [pair for pair in pairs if not overlaps(pair)]


def _beside(shape: Shape, width: Floats, pairs: list[Pair]) -> list[frozenset[int]]:
    """The faces that share an edge with each face, or lie just beyond a broken edge: a face narrow for the thinnest wall of these pairs."""
    narrow = BROKEN * min((pair.wall for pair in pairs), default=0.0)
    broken = set(np.flatnonzero(width < narrow).tolist())
    beside = shape.face_neighbours
    return [near.union(*(beside[f] for f in near & broken)) - {f} for f, near in enumerate(beside)]


def _is_flat(shape: Shape, pair: Pair) -> bool:
    return shape.faces[pair.a].carrier.kind == shape.faces[pair.b].carrier.kind == "plane"


def _without_rims(shape: Shape, width: Floats, pairs: list[Pair]) -> list[Pair]:
    """The pairs without slanted ones between a rim of a flat wall and what lies behind it, as where a brace runs out on a tube."""
    beside = _beside(shape, width, pairs)
    walls = [({p.a, p.b}, p.wall) for p in pairs if p.even and _is_flat(shape, p)]

    def is_rim(face: int) -> bool:
        return any(sides <= beside[face] and width[face] <= wall for sides, wall in walls)

    return [pair for pair in pairs if pair.even or not (is_rim(pair.a) or is_rim(pair.b))]


def _without_tips(shape: Shape, width: Floats, pairs: list[Pair]) -> list[Pair]:
    """The pairs without thin ones between the end of a wall, cut off aslant, and one of its sides."""
    beside = _beside(shape, width, pairs)

    def ends(face: int, pair: Pair) -> bool:
        side = pair.b if face == pair.a else pair.a
        return any(
            side in (wall.a, wall.b)
            and {wall.a, wall.b} <= beside[face]
            and width[face] < ASLANT * wall.wall
            and pair.wall < THINNER * wall.wall
            and pair.weight < MINOR * wall.weight
            for wall in pairs
        )

    return [pair for pair in pairs if pair.even or not (ends(pair.a, pair) or ends(pair.b, pair))]


def _without_eyes(shape: Shape, width: Floats, pairs: list[Pair]) -> list[Pair]:
    """The pairs without round ones whose two ends are the sides of a flat wall: that wall goes on round its hole."""
    beside = _beside(shape, width, pairs)
    flat = [{p.a, p.b} for p in pairs if _is_flat(shape, p)]

    def is_eye(pair: Pair) -> bool:
        ends = beside[pair.a] & beside[pair.b]
        return shape.faces[pair.a].carrier.kind != "plane" and any(sides <= ends for sides in flat)

    return [pair for pair in pairs if not is_eye(pair)]


def _is_side(shape: Shape, opposed: Opposed, face: int, wall: float, curved: float, coaxial: bool) -> bool:
    """Is enough of a face opposed? `curved`: share that is enough of a narrow curved one, and of a wide one if the wall is `coaxial`."""
    share = opposed.share[face]
    if shape.faces[face].carrier.kind == "plane":
        return bool(share > FLAT)
    return bool(share > (curved if coaxial or opposed.width[face] < WIDE * wall else CURVED))
