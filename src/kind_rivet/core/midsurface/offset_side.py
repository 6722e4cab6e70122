"""Sheets with two clear sides, by moving the faces of one side half the wall inward.

No kernel call is needed: every facet node of the side moves to the common point of
the offset tangent planes of the faces that meet there (one plane: along the normal;
sharp bends: the mitre). Where the wall is equally thick everywhere carriers move exactly;
where it is not, each node moves by half the wall behind it and the faces become free-form.
"""

from __future__ import annotations

import numpy as np
import scipy

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import FREE, Carrier, Floats, fit_curve, offset, project
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Edge, Face, Shape
from kind_rivet.core.midsurface.walls import Walls

EVEN, UNEVEN = 0.04, 0.4  # how far a wall of one thickness, and one that varies, may be off the typical one


def side_groups(shape: Shape, walls: Walls, t: float, spread: float = EVEN) -> list[list[int]]:
    """Faces that lie opposite a wall of thickness `t` (give or take a share `spread`), grouped where they touch, largest area first.

    A face is a side when most of its rays end at the wall's thickness; rims (as wide
    as the wall) see along the sheet instead. Raises `Refused` if a large face is neither.
    """

    near = np.abs(walls.sample_thickness - t) <= spread * t
    met = near & (walls.partner >= 0)
    share = np.bincount(walls.sample_face, met, len(shape.faces)) / np.maximum(
        np.bincount(walls.sample_face, minlength=len(shape.faces)), 1
    )
    width = 2 * shape.face_area / np.maximum(shape.face_border_length, 1e-300)
    side = share > 0.5
    # A rim between two sides is as wide as the wall; tabs of that width look opposed across the wrong way.
    for f in np.flatnonzero(side).tolist():
        partners = walls.partner[(walls.sample_face == f) & met]
        partner_width = np.median(width[partners])
        if width[f] < 1.05 * t and partner_width < 1.05 * t and _between_sides(shape, f, side, width, t):
            side[f] = False
    faces = np.flatnonzero(side)
    links = [(a, b) for pair in shape.edge_faces if len(pair) == 2 for a, b in (pair,) if a != b and side[a] and side[b]]
    number = np.full(len(shape.faces), -1)
    number[faces] = np.arange(len(faces))
    if not len(faces):
        return []
    row = np.array([number[a] for a, _ in links], int)
    col = np.array([number[b] for _, b in links], int)
    graph = scipy.sparse.coo_matrix((np.ones(len(row)), (row, col)), shape=(len(faces), len(faces)))
    count, label = scipy.sparse.csgraph.connected_components(graph, directed=False)
    groups = [faces[label == k].tolist() for k in range(count)]
    return sorted(groups, key=lambda g: -shape.face_area[g].sum())


def _between_sides(shape: Shape, face: int, side: np.ndarray, width: Floats, t: float) -> bool:
    """Does a narrow face join two wide sides along its long edges (as a rim does)?"""
    wide = {
        other
        for e in shape.face_edges[face]
        if not smooth_edge(shape, e)  # a narrow bend runs on smoothly; a rim turns a corner
        for other in shape.edge_faces[e]
        if other != face and side[other] and width[other] > 1.5 * t
    }
    return len(wide) >= 2


def smooth_edge(shape: Shape, edge: int, segment: int | None = None) -> bool:
    """Do the faces beside an edge run on within 25°, by their exact normals at the edge's middle, or at one of its segments?"""
    nodes = shape.edges[edge].nodes
    k = (len(nodes) - 1) // 2 if segment is None else segment
    a, b = int(nodes[k]), int(nodes[k + 1])
    beside = shape.segment_faces[(a, b) if a < b else (b, a)]
    if len(beside) != 2:
        return False
    normals = [shape.normals[f][int(np.flatnonzero(shape.facets[f] == a)[0])] for f in beside]
    return bool(normals[0] @ normals[1] > np.cos(np.radians(25)))


def offset_side(shape: Shape, group: list[int], t: float, depth: Floats | None = None) -> Shape:
    """The sheet half a wall inside the faces of `group`, as a `Shape` that is not solid.

    `depth` (n,): how deep each point of the solid goes, where that is not t / 2 everywhere;
    borders then stay on the rims beside them, which may stand aslant to such a wall.
    """
    keep = np.isin(shape.facet_face, group)
    facets = shape.facets[keep]
    used, flat = np.unique(facets, return_inverse=True)
    local = flat.reshape(-1, 3).astype(np.int32)
    face_number = {f: k for k, f in enumerate(group)}
    owner = np.array([face_number[int(f)] for f in shape.facet_face[keep]], np.int32)
    normals = shape.normals[keep]
    if depth is None:
        points = _mitred(shape.points[used], local, normals, np.full(len(used), t / 2))
    else:
        points = _mitred(shape.points[used], local, normals, depth[used], _rims(shape, used, keep))
    first = [int(np.flatnonzero(owner == k)[0]) for k in range(len(group))]
    old = shape.points[used]
    faces = tuple(
        Face(
            FREE if depth is not None else offset(shape.faces[f].carrier, old[local[first[k], 0]], -normals[first[k], 0], t / 2),
            shape.faces[f].name,
            shape.faces[f].colour,
        )
        for k, f in enumerate(group)
    )
    where = np.full(len(shape.points), -1, np.int32)
    where[used] = np.arange(len(used), dtype=np.int32)
    tolerance = 1e-6 * shape.diagonal
    edges = []
    for edge, beside in zip(shape.edges, shape.edge_faces, strict=True):
        if any(f in face_number for f in beside):
            nodes = where[edge.nodes]
            if (nodes >= 0).all():
                curve = fit_curve(points[nodes], tolerance) if edge.carrier.kind != "free" or len(nodes) > 2 else FREE
                edges.append(Edge(nodes, curve))
    for k, face in enumerate(faces if depth is None else ()):  # facet nodes exactly onto the moved carriers
        mine = np.unique(local[owner == k])
        moved = project(face.carrier, points[mine])
        if np.abs(moved - points[mine]).max(initial=0.0) < 1e-3 * t:
            points[mine] = moved
    return Shape(points, local, owner, normals, faces, tuple(edges), solid=False)


def _rims(shape: Shape, used: np.ndarray, side: np.ndarray) -> dict[int, Floats]:
    """Normals (k, 3) of the faces beside a side (facets `side`) at those of its `used` nodes that lie on its border."""
    out: dict[int, list[Floats]] = {}
    place = np.full(len(shape.points), -1)
    place[used] = np.arange(len(used))
    facet, corner = np.nonzero((place[shape.facets] >= 0) & ~side[:, None])
    for f, k in zip(facet.tolist(), corner.tolist(), strict=True):
        out.setdefault(int(place[shape.facets[f, k]]), []).append(shape.normals[f, k])
    return {node: np.array(rows) for node, rows in out.items()}


def _mitred(points: Floats, facets: np.ndarray, normals: Floats, depth: Floats, rims: dict[int, Floats] | None = None) -> Floats:
    """Move each node against its normals so that it ends its own `depth` (n,) below every facet plane that meets there.

    Nodes of `rims` stay in the planes with these normals.

    Least change solving n_i · x = −depth for the distinct normals n_i (pseudo-inverse,
    so nearly equal normals do not blow up).
    """
    node = facets.ravel()
    flat = normals.reshape(-1, 3)
    mean = np.zeros_like(points)
    np.add.at(mean, node, flat)
    mean /= np.maximum(np.linalg.norm(mean, axis=1, keepdims=True), 1e-300)
    least = np.ones(len(points))
    np.minimum.at(least, node, np.einsum("ij,ij->i", flat, mean[node]))
    out = points - depth[:, None] * mean
    order = np.argsort(node, kind="stable")
    bounds = np.searchsorted(node[order], np.arange(len(points) + 1))
    rims = rims or {}
    for i in sorted({*np.flatnonzero(least < np.cos(np.radians(2.0))).tolist(), *rims}):
        rows = flat[order[bounds[i] : bounds[i + 1]]]
        below = np.full(len(rows), -depth[i])
        if i in rims:
            rows, below = np.vstack((rows, rims[i])), np.concatenate((below, np.zeros(len(rims[i]))))
        out[i] = points[i] + np.linalg.pinv(rows, rcond=0.05) @ below
    return out


def make_by_offset(shape: Shape, walls: Walls, tree: FacetTree) -> tuple[Shape, float, list[list[int]]]:
    """Sheet, thickness and the two side groups of a uniformly thick bent sheet.

    Raises `Refused` when the body is not of that kind: the reason names what was found.
    """
    t = walls.typical()
    if not np.isfinite(t):
        raise Refused("No wall was found: nothing lies opposite anything.", "Mesh this body with solids.")
    groups = side_groups(shape, walls, t)
    area = np.array([shape.face_area[g].sum() for g in groups])
    total = shape.face_area.sum()
    if not groups or area.sum() < 0.5 * total:
        raise Refused(
            "The body is not thin: less than half of its surface lies opposite a wall of one thickness.",
            "Mesh this body with solids, or split off its thin walls.",
        )
    main = [g for g, a in zip(groups, area, strict=True) if a > 1e-3 * total]
    if len(main) != 2:
        raise Refused(
            f"The walls fall into {len(main)} sides instead of two, so they meet in joints or have no bend radius.",
            "Uniform bent sheet with two clear sides can be done; this body cannot yet.",
        )
    t = exact_thickness(shape, walls, t)
    widest = max(main, key=lambda g: _least_convex_radius(shape, g, t))
    sheet = offset_side(shape, widest, t)
    return sheet, t, main


def make_half_way(shape: Shape, walls: Walls, tree: FacetTree) -> tuple[Shape, Floats, list[list[int]]]:
    """Sheet, thickness of its faces (f,) and the two side groups of a body with two clear sides whose wall varies.

    Raises `Refused` when there are not just two sides.
    """
    t = walls.typical()
    if not np.isfinite(t):
        raise Refused("No wall was found: nothing lies opposite anything.", "Mesh this body with solids.")
    groups = side_groups(shape, walls, t, UNEVEN)
    total = shape.face_area.sum()
    main = [g for g in groups if shape.face_area[g].sum() > 1e-3 * total]
    if len(main) != 2 or shape.face_area[[f for g in main for f in g]].sum() < 0.5 * total:
        raise Refused(f"The walls fall into {len(main)} sides instead of two.", "Split the body, or mesh it with solids.")
    side = min(main, key=lambda g: shape.face_area[g].sum())  # the hollow one: outward nothing near a ridge folds
    facets = np.flatnonzero(np.isin(shape.facet_face, side))
    wall = _wall_behind(shape, facets, tree, t)
    node = shape.facets[facets].ravel()
    count = np.bincount(node, minlength=len(shape.points))
    depth = np.bincount(node, wall.ravel(), len(shape.points)) / np.maximum(count, 1) / 2
    area = shape.facet_area[facets]
    thickness = np.array(
        [np.average(wall.mean(axis=1)[mine], weights=area[mine]) for f in side if (mine := shape.facet_face[facets] == f).any()]
    )
    return offset_side(shape, side, t, depth), thickness, main


def _wall_behind(shape: Shape, facets: np.ndarray, tree: FacetTree, t: float) -> Floats:
    """Wall (m, 3) behind the corners of facets, seen along the exact normals from just inside each facet; `t` where nothing near is met."""
    corner = shape.points[shape.facets[facets]]
    start = (0.95 * corner + 0.05 * corner.mean(axis=1, keepdims=True)).reshape(-1, 3)
    inward = -shape.normals[facets].reshape(-1, 3)
    eps = 1e-6 * shape.diagonal
    far, hit = tree.cast(start + eps * inward, inward, least=eps)
    far = np.where((hit >= 0) & (np.abs(far - t) < 2 * UNEVEN * t), far + eps, t)
    return np.asarray(far.reshape(-1, 3))


def exact_thickness(shape: Shape, walls: Walls, t: float) -> float:
    """The wall thickness from the carriers of opposed faces (rays only measure to facets); `t` where they give none.

    Parallel planes: their distance; coaxial cylinders, concentric spheres and tori on one circle: the difference of radii.
    """
    met = walls.partner >= 0
    pairs: dict[tuple[int, int], float] = {}
    weight = walls.weight
    for f, g, w in zip(walls.sample_face[met].tolist(), walls.partner[met].tolist(), weight[met].tolist(), strict=True):
        key = (min(f, g), max(f, g))
        pairs[key] = pairs.get(key, 0.0) + w
    values, shares = [], []
    for (f, g), w in pairs.items():
        a, b = shape.faces[f].carrier, shape.faces[g].carrier
        if a.kind != b.kind or a.kind in ("free", "cone"):
            continue
        p, q = a.array, b.array
        if a.kind == "plane":
            exact = abs((q[:3] - p[:3]) @ p[3:6])
        else:
            exact = abs(p[-1] - q[-1])
        if abs(exact - t) < 0.01 * t:
            values.append(exact)
            shares.append(w)
    if not values:
        return t
    order = np.argsort(values)
    total = np.cumsum(np.array(shares)[order])
    return float(np.array(values)[order][int(np.searchsorted(total, total[-1] / 2))])


def _least_convex_radius(shape: Shape, group: list[int], t: float) -> float:
    """Smallest radius that shrinks when the group is offset inward (sharp edges count as zero)."""
    least = np.inf
    for f in group:
        carrier = shape.faces[f].carrier
        if carrier.kind not in ("cylinder", "torus", "sphere"):
            continue
        k = int(np.flatnonzero(shape.facet_face == f)[0])
        moved: Carrier = offset(carrier, shape.points[shape.facets[k, 0]], -shape.normals[k, 0], t / 2)
        if moved.data[-1] < carrier.data[-1]:
            least = min(least, moved.data[-1])
    return float(least)
