"""Rows on a freely curved tube run along and round it, not along the straight lines of its flattened picture."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.harmonic import laplacian, side_weights, solved
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.meshing.free.fill import FlatMesh
from kind_rivet.core.meshing.mapped import fill_mapped
from kind_rivet.core.meshing.patch import Patch
from kind_rivet.core.meshing.washers import LEAST_SIDE
from kind_rivet.core.quality.shell_metrics import LONGEST, SCALED_JACOBIAN, SHORTEST, shell_metrics

LONG = 1.9  # sizes: longest side that rows round a bulge may have


def fill_tube(patch: Patch, loop: Floats, size: float) -> FlatMesh | None:
    """Rows and columns between both ends of a tube with a seam; None on other faces, or where counts do not fit or sides would be far off the `size`.

    `loop` (k, 2) lies in the plane of the patch, and so does the mesh; its worst element is that on the tube, which the plane distorts.
    """
    ends = _ends_and_seam(patch)
    if ends is None:
        return None
    first, last, left, right = ends
    around = _harmonic(patch, np.concatenate((left, right)), np.repeat([0.0, 1.0], (len(left), len(right))))
    along = _harmonic(patch, np.concatenate((last, first)), np.repeat([0.0, 1.0], (len(last), len(first))), (left, right))
    if around is None or along is None:
        return None
    wide = 0.5 * sum(float(np.linalg.norm(np.diff(patch.space[end], axis=0), axis=1).sum()) for end in (first, last))
    chart = np.column_stack((wide * around, patch.area / wide * along))
    facet, weight, _ = patch.flat_tree.nearest(np.column_stack((loop, np.zeros(len(loop)))))
    made = fill_mapped(np.einsum("ij,ijk->ik", weight, chart[patch.facets[facet]]))
    if made is None:
        return None
    inside = made.points[len(loop) :]
    tree = FacetTree.over(np.column_stack((chart, np.zeros(len(chart)))), patch.facets)
    facet, weight, _ = tree.nearest(np.column_stack((inside, np.zeros(len(inside)))))
    points = np.concatenate((loop, np.einsum("ij,ijk->ik", weight, patch.flat[patch.facets[facet]])))
    metrics = shell_metrics(patch.to_space(points)[0], made.elements)
    if metrics[:, LONGEST].max() > LONG * size or metrics[:, SHORTEST].min() < LEAST_SIDE * size:
        return None  # it bulges or has a waist
    return FlatMesh(points, made.elements, float(metrics[:, SCALED_JACOBIAN].min()))


def _ends_and_seam(patch: Patch) -> tuple[NDArray[np.int64], ...] | None:
    """Cut vertices along both ends of a tube and along both passages of its seam, those of one seam vertex at one place; None where it is no such tube."""
    if len(patch.faces) != 1 or patch.carriers[0].kind != "free" or len(patch.loops) != 1:
        return None
    passages = patch.loops[0]
    edges = [p.edge for p in passages]
    seam = [k for k, e in enumerate(edges) if edges.count(e) == 2]
    if len(seam) != 2 or passages[seam[0]].forward == passages[seam[1]].forward:
        return None
    chain = [*passages[seam[0] :], *passages[: seam[0]]]  # the seam first
    other = seam[1] - seam[0]
    lots = [chain[:1], chain[1:other], chain[other : other + 1], chain[other + 1 :]]
    if not all(lots):
        return None
    right, first, left, last = (np.concatenate([p.corners[:-1] for p in lot] + [lot[-1].corners[-1:]]).astype(np.int64) for lot in lots)
    return (first, last, left[::-1], right) if len(left) == len(right) else None


def _harmonic(
    patch: Patch, held: NDArray[np.int64], values: Floats, seam: tuple[NDArray[np.int64], NDArray[np.int64]] | None = None
) -> Floats | None:
    """The values (k,) at cut vertices that are as even as can be between those held; along a `seam` those on both sides are one."""
    name = np.arange(len(patch.space))
    if seam is not None:
        name[seam[1]] = name[seam[0]]
    sides, weights = side_weights(patch.space, patch.facets.astype(np.int64))
    out = solved(laplacian(len(name), name[sides], weights), name[held], values)[name]
    return out if np.isfinite(out).all() else None
