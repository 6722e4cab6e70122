"""Noses of blades, where one side of a wall turns round into the other: skins drawn in one are parted there, and maps of a side leave them out."""

from __future__ import annotations

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.soup import facet_neighbours
from kind_rivet.core.geometry.split import split_between

BACK = 0.7  # cosine between a ray and the normal of what it meets, from which on the two face each other
LEAST = 8  # facets of a skin worth a look
OPPOSED = 0.5  # of its area: how much must lie opposite itself
EACH = 0.25  # of that: the smaller side
WIDE = 3.0  # walls: least width of a side
LEFT = 0.5  # of its area, seen along its normal: how much a facet on the middle must have left


def parted(shape: Shape, tree: FacetTree, origin: NDArray[np.int64]) -> tuple[Shape, NDArray[np.int64]]:
    """The shape with freely curved skins that lie opposite themselves parted, facets as they were; and what `origin` (f,) says of its faces, new ones last."""
    centre = shape.points[shape.facets].mean(axis=1)
    for face in [f for f, one in enumerate(shape.faces) if one.carrier.kind == "free"]:
        mine = np.flatnonzero(shape.facet_face == face)
        if len(mine) < LEAST:
            continue
        side = _sides(shape, mine, centre[mine], tree)
        if side is None:
            continue
        apart = split_between(shape, face, mine[side == 0])
        if apart is not None:
            origin = np.concatenate((origin, np.full(len(apart.faces) - len(shape.faces), origin[face])))
            shape = apart
    return shape, origin


def _sides(shape: Shape, mine: NDArray[np.int64], centre: Floats, tree: FacetTree) -> NDArray[np.int64] | None:
    """The side (k,), 0 or 1, to which each facet of a skin belongs; None where it is not two sides of a wall."""
    normal, area = shape.facet_normal[mine], shape.facet_area[mine]
    eps = 1e-6 * shape.diagonal
    far, hit = tree.cast(centre - eps * normal, -normal, least=eps)
    met = np.isin(hit, mine)
    met[met] &= np.einsum("ij,ij->i", shape.facet_normal[hit[met]], -normal[met]) > BACK
    if area[met].sum() < OPPOSED * area.sum():
        return None
    wall = float(np.median(far[met]))
    beside = facet_neighbours(shape.facets[mine], len(shape.points))[0].astype(np.int64)
    one, side = np.nonzero((beside >= 0) & ~_seams(shape, mine))  # a seam may run along a nose
    other = beside[one, side]
    near = met[one] & met[other] & (np.einsum("ij,ij->i", normal[one], normal[other]) > 0)
    label = _pieces(one[near], other[near], len(mine))
    share = np.bincount(label[met], area[met], int(label.max()) + 1)
    first, second = np.argsort(-share, kind="stable")[:2] if len(share) > 1 else (0, 0)
    if share[second] < EACH * share.sum() or share[second] < (WIDE * wall) ** 2:
        return None
    # Noses go to the side whose facets they lie nearer to, along the skin.
    length = np.linalg.norm(centre[one] - centre[other], axis=1)
    skin = scipy.sparse.coo_matrix((np.maximum(length, 1e-300), (one, other)), shape=(len(mine), len(mine))).tocsr()
    way = [scipy.sparse.csgraph.dijkstra(skin, indices=np.flatnonzero(met & (label == k)), min_only=True) for k in (first, second)]
    return _in_one(way[1] < way[0], one, other, area)


def _seams(shape: Shape, mine: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Which sides (k, 3) of facets lie on edges."""
    n = np.int64(len(shape.points))
    rows = shape.facets[mine].astype(np.int64)
    side = np.sort(np.stack((rows, np.roll(rows, -1, axis=1)), axis=2), axis=2)
    edges = np.sort(np.concatenate([np.column_stack((e.nodes[:-1], e.nodes[1:])) for e in shape.edges]).astype(np.int64), axis=1)
    return np.isin(side[:, :, 0] * n + side[:, :, 1], edges[:, 0] * n + edges[:, 1])


def _in_one(second: NDArray[np.bool_], one: NDArray[np.int64], other: NDArray[np.int64], area: Floats) -> NDArray[np.int64]:
    """The side (k,) of each facet, islands of one side amid the other taken over."""
    alike = second[one] == second[other]
    label = _pieces(one[alike], other[alike], len(second))
    size = np.bincount(label, area)
    main = [int(np.argmax(np.where(np.bincount(label, second == k) > 0, size, -1.0))) for k in (False, True)]
    return np.where(label == main[0], 0, np.where(label == main[1], 1, np.where(second, 0, 1)))


def apart_from_noses(points: Floats, middle: Floats, facets: NDArray[np.int64]) -> NDArray[np.int64]:
    """Facets (k,) of a side that neither fold nor shrink away when its points (n, 3) go to the middle (n, 3), as they do at a nose; the largest piece of them."""

    def doubled(p: Floats) -> Floats:
        return np.cross(p[facets[:, 1]] - p[facets[:, 0]], p[facets[:, 2]] - p[facets[:, 0]])

    here, there = doubled(points), doubled(middle)
    size = np.linalg.norm(here, axis=1)
    kept = np.flatnonzero(np.einsum("ij,ij->i", here, there) > LEFT * size**2)
    if not len(kept):
        return kept
    beside, _ = facet_neighbours(facets[kept].astype(np.int32), len(points))
    one, k = np.nonzero(beside >= 0)
    label = _pieces(one, beside[one, k].astype(np.int64), len(kept))
    return kept[label == np.argmax(np.bincount(label, size[kept]))]


def _pieces(one: NDArray[np.int64], other: NDArray[np.int64], count: int) -> NDArray[np.int64]:
    """The piece (count,) each facet belongs to, by pairs of neighbours."""
    graph = scipy.sparse.coo_matrix((np.ones(len(one)), (one, other)), shape=(count, count))
    return np.asarray(scipy.sparse.csgraph.connected_components(graph, directed=False)[1], np.int64)
