"""Proof of a sheet against its solid."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, project, unit
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.sampling import by_area, spread_samples, volume_samples
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.midsurface.blend_material import BlendMaterial
from kind_rivet.core.midsurface.pairs import SLANT
from kind_rivet.core.midsurface.remarks import remarks_on
from kind_rivet.core.midsurface.sheet import Proof, Sheet
from kind_rivet.core.midsurface.stations import away_from
from kind_rivet.core.midsurface.toes import TOE

COVER = 0.53  # walls from the sheet up to which the solid counts as covered
SAMPLES = 16000
RAYS = 3000  # along each axis, to find places inside the solid
ALIKE = 0.03  # walls whose thickness differs by a smaller share count as equally thick
FOOT = 3.0  # walls: longest foot of an edge that runs aslant into another wall
HAIR = 0.01  # walls between nodes of a free edge that are as good as one
ROUNDED = 3  # faces, each beside the last, over which a corner of a rounded rim is reached from a side
RIM = 1.5  # of the thickest wall: width up to which a face may be a rim, a rounding or a blend
GRAZE = 0.1  # walls beside the middle at which the surroundings of a free edge are asked as well


def proved(solid: Shape, tree: FacetTree, sheet: Sheet, sides: list[int], tunnels: tuple[int, ...] = ()) -> Sheet:
    """The sheet with its proof (weigh-in, also of blends, cover, pieces, distance off the middle, free edges inside the solid, faces not used) and remarks."""
    shape = sheet.shape
    points, _, face, facet, area = spread_samples(shape, by_area(shape, SAMPLES, 30), unlike=True)
    normal = shape.facet_normal[facet]
    wall = sheet.thickness_at(points, face)
    total = float((area * wall).sum())
    mass = float((area * wall / _layers(sheet, points, normal, wall, face)).sum() / solid.bulged_volume)
    sheet = replace(sheet, sides=tuple(sorted(sides)))
    material = BlendMaterial.of(solid, tree, sheet)
    cover, bare, off_by = _cover(solid, tree, sheet, material)
    inner = inner_free(shape, tree, sheet.thickness)
    unused = tuple(f for f in unused_faces(solid, sides, float(sheet.thickness.max())) if f not in tunnels)
    off = _off_middle(shape, tree, points, face, area, wall)
    blends = float(area @ material.heights(points, normal, face, wall).sum(axis=1) / solid.bulged_volume) if material else 0.0
    proof = Proof(mass, cover, _pieces(shape), off, float(inner.sum()), unused, total / solid.bulged_volume, blends)
    return replace(
        sheet,
        proof=proof,
        remarks=remarks_on(solid, tree, shape, sheet.thickness, inner, bare, off_by, unused, tunnels),
    )


def _layers(sheet: Sheet, points: Floats, normal: Floats, wall: Floats, face: NDArray[np.int64]) -> Floats:
    """How many walls (n,) hold the point at a share of the wall above or below each sample.

    Only walls of one joint of three or more count together: at a corner of two, what is
    counted twice inside is missing outside.
    """
    shape = sheet.shape
    share = (np.arange(len(points)) * 0.5497004779019703 + 0.25) % 1 - 0.5  # unlike the sequences that spread the samples
    q = points + (share * wall)[:, None] * normal
    layers = np.ones(len(points))
    thickest = float(wall.max(initial=0.0))
    order = np.argsort(shape.facet_face, kind="stable")
    bounds = np.searchsorted(shape.facet_face[order], np.arange(len(shape.faces) + 1))
    meets: list[set[int]] = [set() for _ in shape.faces]
    corners_with: list[set[int]] = [set() for _ in shape.faces]
    for faces in shape.edge_faces:
        for f in set(faces):
            (meets if len(faces) > 2 else corners_with)[f].update(set(faces) - {f})
    for f in range(len(shape.faces)):
        rows = shape.facets[order[bounds[f] : bounds[f + 1]]]
        if not len(rows) or not meets[f]:
            continue
        corners = shape.points[rows].reshape(-1, 3)
        low, high = corners.min(axis=0) - thickest / 2, corners.max(axis=0) + thickest / 2
        near = np.flatnonzero(np.isin(face, list(meets[f])) & ((q >= low) & (q <= high)).all(axis=1))
        for g in sorted(meets[f] & corners_with[f]):  # elsewhere these two meet in a corner
            mine = face[near] == g
            at_joint = _near_joint(shape, f, g, q[near[mine]], thickest)
            near = np.concatenate((near[~mine], near[mine][at_joint]))
        if not len(near):
            continue
        used, local = np.unique(rows, return_inverse=True)
        own_rows = local.reshape(-1, 3).astype(np.int32)
        own = FacetTree.over(shape.points[used], own_rows)
        facet, weight, away = own.nearest(q[near])
        at = np.einsum("ij,ijk->ik", weight, own.points[own.facets[facet]])
        a, b, c = (own.points[own.facets[facet, k]] for k in range(3))
        beside = (_border_sides(own_rows)[facet] & (weight < 1e-9)).any(axis=1)  # its foot is on the wall's border
        upright = np.abs(np.einsum("ij,ij->i", unit(q[near] - at), unit(np.cross(b - a, c - a)))) > np.where(beside, 1 - 1e-6, 0.99)
        here = sheet.thickness_at(at, np.full(len(near), f))
        layers[near] += (away < 1e-9 * thickest) | (upright & (away <= 0.5 * here * (1 + 1e-9)))
    return layers


def _border_sides(facets: NDArray[np.int32]) -> NDArray[np.bool_]:
    """For every facet (m, 3) and corner, whether the side opposite to that corner belongs to no other facet."""
    sides = np.sort(np.stack([facets[:, [1, 2]], facets[:, [2, 0]], facets[:, [0, 1]]], axis=1), axis=2).reshape(-1, 2)
    _, of, uses = np.unique(sides, axis=0, return_inverse=True, return_counts=True)
    return np.asarray(uses[of.reshape(-1)] == 1).reshape(-1, 3)


def _near_joint(shape: Shape, f: int, g: int, points: Floats, reach: float) -> NDArray[np.bool_]:
    """Which points (n, 3) lie within `reach` of an edge at which two walls meet a third."""
    near = np.zeros(len(points), np.bool_)
    for e in shape.face_edges[f]:
        if len(shape.edge_faces[e]) > 2 and g in shape.edge_faces[e]:
            near |= away_from(points, shape.points[shape.edges[e].nodes]) < reach
    return near


def _cover(solid: Shape, tree: FacetTree, sheet: Sheet, material: BlendMaterial) -> tuple[float, Floats, Floats]:
    """Share of the solid's volume within 0.53 walls of the sheet; places (k, 3) that are not, nor held as blends, worst first, and how many walls (k,) they are off."""
    inside, part = volume_samples(solid, tree, RAYS, float(np.median(sheet.thickness)))
    if not len(inside):
        return 0.0, np.empty((0, 3)), np.empty(0)
    off = _walls_off(sheet, inside)
    near = off <= COVER
    far = np.flatnonzero(~near)
    if material and len(far):
        far = far[~material.holds(inside[far])]
    far = far[np.argsort(-off[far])]
    apart = 4 * float(np.median(sheet.thickness))
    bare: list[int] = []
    for k in far.tolist():
        if len(bare) < 12 and off[k] > 0.6 and all(np.linalg.norm(inside[k] - inside[b]) > apart for b in bare):
            bare.append(k)
    return float((part * near).sum() / part.sum()), inside[bare].reshape(-1, 3), off[bare]


def _walls_off(sheet: Sheet, points: Floats) -> Floats:
    """Least distance (n,) of points from any face, in walls of that face: beside a thin web a thick flange may still hold a place."""
    shape = sheet.shape

    def off(points: Floats, facets: NDArray[np.int64]) -> Floats:
        facet, _, gap = FacetTree.over(shape.points, shape.facets[facets]).nearest(points)
        return gap / np.maximum(sheet.thickness_at(points, shape.facet_face[facets[facet]].astype(np.int64)), 1e-300)

    out = off(points, np.arange(len(shape.facets)))
    order = np.argsort(sheet.thickness)
    lots = np.split(order, np.flatnonzero(np.diff(sheet.thickness[order]) > ALIKE * sheet.thickness[order[1:]]) + 1)
    for lot in lots if len(lots) > 1 else []:
        left = np.flatnonzero(out > COVER)
        out[left] = np.minimum(out[left], off(points[left], np.flatnonzero(np.isin(shape.facet_face, lot))))
    return out


def _pieces(sheet: Shape) -> int:
    a = sheet.facets[:, [0, 1, 2]].ravel()
    b = sheet.facets[:, [1, 2, 0]].ravel()
    n = len(sheet.points)
    _, label = scipy.sparse.csgraph.connected_components(scipy.sparse.coo_matrix((np.ones(len(a)), (a, b)), shape=(n, n)), directed=False)
    return len(np.unique(label[sheet.facets[:, 0]]))


def off_the_middle(shape: Shape, tree: FacetTree, points: Floats, face: NDArray[np.int64], wall: Floats) -> Floats:
    """Distance off the middle over the wall (n,) at points of the sheet, by rays both ways.

    Where walls meet, rays run along the other wall and say nothing: NaN unless they
    measure the face's own wall within a quarter.
    """
    points, normals = points.copy(), np.empty_like(points)
    facet, weight, _ = FacetTree.over(shape.points, shape.facets).nearest(points)
    normals[:] = unit(np.einsum("ij,ijk->ik", weight, shape.normals[facet]))
    for f in np.unique(face):
        points[face == f] = project(shape.faces[f].carrier, points[face == f])
    up, _ = tree.cast(points, normals)
    down, _ = tree.cast(points, -normals)
    both = np.isfinite(up) & np.isfinite(down)
    up, down = np.where(both, up, 0.0), np.where(both, down, 0.0)
    both &= np.abs(up + down - wall) < 0.25 * wall
    return np.where(both, np.abs(up - down) / 2 / np.maximum(wall, 1e-300), np.nan)


def _off_middle(shape: Shape, tree: FacetTree, points: Floats, face: NDArray[np.int64], area: Floats, wall: Floats) -> float:
    """95th percentile by area; 1 when hardly any place can be measured."""
    off = off_the_middle(shape, tree, points, face, wall)
    good = np.isfinite(off)
    if area[good].sum() < 0.3 * area.sum():
        return 1.0
    order = np.argsort(off[good])
    weight = np.cumsum(area[good][order])
    return float(off[good][order][min(np.searchsorted(weight, 0.95 * weight[-1]), len(order) - 1)])


def inner_free(sheet: Shape, tree: FacetTree, thickness: Floats) -> Floats:
    """Length (e,) of each edge that is free although its surroundings outward are still inside the solid.

    Where a wall ends on another one, its edge runs on across that wall to the middle: such
    feet do not count.
    """
    out = np.zeros(len(sheet.edges))
    places, owner, span, face, joint = [], [], [], [], []
    shared = {
        int(v) for edge, beside in zip(sheet.edges, sheet.edge_faces, strict=True) if len(set(beside)) > 1 for v in edge.nodes[[0, -1]]
    }
    for e, (edge, beside) in enumerate(zip(sheet.edges, sheet.edge_faces, strict=True)):
        if len(beside) != 1:
            continue
        a, b = sheet.points[edge.nodes[:-1]], sheet.points[edge.nodes[1:]]
        t = thickness[beside[0]]
        facets = [
            sheet.segment_faces[(x, y) if x < y else (y, x)][0]
            for x, y in zip(edge.nodes[:-1].tolist(), edge.nodes[1:].tolist(), strict=True)
        ]
        normal = sheet.facet_normal[facets]
        inward = sheet.points[sheet.facets[facets]].mean(axis=1) - (a + b) / 2
        away = unit(np.cross(b - a, normal))
        away *= -np.sign(np.einsum("ij,ij->i", away, inward))[:, None]
        bad = np.ones(len(a), bool)
        for lift in (0.0, GRAZE, -GRAZE):  # in the middle itself there may be a floor, as of a hole that is wider above it
            far, hit = tree.cast((a + b) / 2 - 0.05 * t * away + lift * t * normal, away)
            bad &= (hit >= 0) & (far > 0.3 * t)
        places.append(((a + b) / 2)[bad])
        owner.append(np.full(int(bad.sum()), e))
        span.append((b - a)[bad])
        face.append(np.full(int(bad.sum()), beside[0]))
        at = sheet.points[[int(v) for v in edge.nodes if int(v) in shared]]
        ends = (np.linalg.norm(sheet.points[edge.nodes][:, None] - at[None], axis=2) < HAIR * t).any(axis=1)
        joint.append((ends[:-1] | ends[1:])[bad])
    if places:
        q, own, f, d = np.concatenate(places), np.concatenate(owner), np.concatenate(face), np.concatenate(span)
        np.add.at(out, own, np.linalg.norm(d, axis=1) * ~_in_other_wall(sheet, thickness, q, d, f, np.concatenate(joint)))
    return out


def _in_other_wall(
    sheet: Shape, thickness: Floats, q: Floats, along: Floats, face: NDArray[np.int64], at_joint: NDArray[np.bool_]
) -> NDArray[np.bool_]:
    """Do lines along (n, 3) through points (n, 3) lie in a wall other than that of their face (n,), across it or short and from a joint?

    Lines across that come from a joint may do so in the blend on it.
    """
    out = np.zeros(len(q), bool)
    thickest = float(thickness.max(initial=0.0))
    for f in range(len(sheet.faces)) if len(q) else ():
        rows = sheet.facets[sheet.facet_face == f]
        if not len(rows):
            continue
        corners = sheet.points[rows].reshape(-1, 3)
        near = np.flatnonzero((face != f) & ((q >= corners.min(axis=0) - thickest) & (q <= corners.max(axis=0) + thickest)).all(axis=1))
        if len(near):
            used, local = np.unique(rows, return_inverse=True)
            facet, _, away = FacetTree.over(sheet.points[used], local.reshape(-1, 3).astype(np.int32)).nearest(q[near])
            normal = sheet.facet_normal[sheet.facet_face == f][facet]
            across = np.abs(np.einsum("ij,ij->i", normal, unit(along[near]))) > SLANT
            short = np.linalg.norm(along[near], axis=1) < FOOT * thickness[f]
            toe = across & at_joint[near] & (np.linalg.norm(along[near], axis=1) < TOE * thickness[f])  # straight through a blend
            out[near] |= ((away <= COVER * thickness[f]) & (across | (short & at_joint[near]))) | (toe & (away <= TOE / 2 * thickness[f]))
    return out


def unused_faces(solid: Shape, sides: list[int], wall: float) -> tuple[int, ...]:
    """Faces that are no side and touch no side: neither wall nor rim. From a side to a rim, and on to its corner, there may be roundings and blends."""
    chosen = set(sides)
    width = 2 * solid.face_area / np.maximum(solid.face_border_length, 1e-300)
    narrow = np.flatnonzero(width < RIM * wall).tolist()
    reached = set(chosen)
    for _ in range(ROUNDED):
        reached |= {f for f in narrow if solid.face_neighbours[f] & reached}
    return tuple(f for f in range(len(solid.faces)) if f not in reached and not solid.face_neighbours[f] & chosen)
