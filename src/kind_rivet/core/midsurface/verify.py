"""Proof of a sheet against its solid."""

from __future__ import annotations

import numpy as np

from kind_rivet.core.geometry.carriers import Floats, unit
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.sampling import face_samples
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.midsurface.sheet import Proof


def prove(solid: Shape, tree: FacetTree, sheet: Shape, thickness: Floats, sides: list[int]) -> Proof:
    """Weigh-in, cover, pieces, distance off the middle and free edges inside the solid."""
    on_facet = thickness[sheet.facet_face]
    mass = float((sheet.facet_area * on_facet).sum() / solid.volume)
    sheet_tree = FacetTree.over(sheet.points, sheet.facets)
    points, normals, _, _ = face_samples(solid, 60)
    weight = np.repeat(solid.face_area[solid.face_area > 0], 60)[: len(points)]
    eps = 1e-6 * solid.diagonal
    depth, hit = tree.cast(points - eps * normals, -normals, least=eps)
    good = hit >= 0
    fraction = (np.arange(len(points)) * 0.6180339887498949 + 0.3) % 1
    inside = points[good] - (fraction[good] * depth[good])[:, None] * normals[good]
    facet, _, gap = sheet_tree.nearest(inside)
    near = gap <= 0.53 * on_facet[facet]
    volume = weight[good] * depth[good]
    cover = float((volume * near).sum() / volume.sum())
    return Proof(
        mass, cover, _pieces(sheet), _off_middle(sheet, tree, thickness), _inner_free(sheet, tree, thickness), _unused(solid, sides)
    )


def _pieces(sheet: Shape) -> int:
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components

    a = sheet.facets[:, [0, 1, 2]].ravel()
    b = sheet.facets[:, [1, 2, 0]].ravel()
    n = len(sheet.points)
    _, label = connected_components(coo_matrix((np.ones(len(a)), (a, b)), shape=(n, n)), directed=False)
    return len(np.unique(label[sheet.facets[:, 0]]))


def _off_middle(sheet: Shape, tree: FacetTree, thickness: Floats) -> float:
    """95th percentile by area of the distance off the middle over the wall.

    Where walls meet, rays run along the other wall and say nothing: only places count
    where they measure the face's own wall within a quarter.
    """
    points, normals, face, _ = face_samples(sheet, 40)
    up, _ = tree.cast(points, normals)
    down, _ = tree.cast(points, -normals)
    wall = thickness[face]
    both = np.isfinite(up) & np.isfinite(down)
    both[both] = np.abs((up + down)[both] - wall[both]) < 0.25 * wall[both]
    if both.sum() < 0.5 * len(both):
        return 1.0
    off = np.abs(up - down)[both] / 2 / wall[both]
    weight = sheet.face_area[face[both]]
    order = np.argsort(off)
    return float(off[order][np.searchsorted(np.cumsum(weight[order]), 0.95 * weight.sum())])


def _inner_free(sheet: Shape, tree: FacetTree, thickness: Floats) -> float:
    """Length of free edges whose surroundings outward are still inside the solid."""
    total = 0.0
    for edge, beside in zip(sheet.edges, sheet.edge_faces, strict=True):
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
        out = unit(np.cross(b - a, normal))
        out *= -np.sign(np.einsum("ij,ij->i", out, inward))[:, None]
        start = (a + b) / 2 - 0.05 * t * out
        far, hit = tree.cast(start, out)
        total += float(np.linalg.norm(b - a, axis=1)[(hit >= 0) & (far > 0.25 * t)].sum())
    return total


def _unused(solid: Shape, sides: list[int]) -> tuple[int, ...]:
    """Faces that are no side and touch fewer than two sides: neither wall nor rim."""
    chosen = set(sides)
    out = []
    for f in range(len(solid.faces)):
        if f in chosen:
            continue
        beside = {g for e in solid.face_edges[f] for g in solid.edge_faces[e]} & chosen
        if not beside:
            out.append(f)
    return tuple(out)
