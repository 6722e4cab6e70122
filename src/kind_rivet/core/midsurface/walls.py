"""Which faces of a solid lie opposite each other across a wall, and how thick the wall is."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.sampling import face_samples
from kind_rivet.core.geometry.shape import Shape

PER_FACE = 80
STANDS_OUT = 0.06  # share of the surface below which no single thickness is the wall's


@dataclass(frozen=True)
class Walls:
    """What inward rays say about every face.

    thickness : (f,) median wall thickness behind each face (inf if no ray met a wall)
    opposed : (f,) share of the rays that met a face looking back
    partner : (s,) face met by each sample's ray, −1 if none looked back
    sample_face, sample_thickness : (s,) face of and wall behind each sample
    weight : (s,) area that each sample stands for
    """

    thickness: Floats
    opposed: Floats
    partner: NDArray[np.int64]
    sample_face: NDArray[np.int64]
    sample_thickness: Floats
    weight: Floats

    def typical(self) -> float:
        """The wall thickness that most of the surface has: the mode of the area over log thickness."""
        met = self.partner >= 0
        if not met.any():
            return float("inf")
        log = np.log(self.sample_thickness[met])
        bins = np.floor((log - log.min()) / 0.03).astype(int)
        area = np.bincount(bins, self.weight[met])
        area = area + np.concatenate((area[1:], [0])) + np.concatenate(([0], area[:-1]))
        peak = int(np.argmax(area / np.exp(log.min() + 0.03 * np.arange(len(area)))))
        chosen = np.abs(bins - peak) <= 1
        return float(np.median(self.sample_thickness[met][chosen]))

    def spread(self) -> list[tuple[float, float]]:
        """Wall thicknesses (to three digits) with their share of the opposed surface, largest share first.

        Where walls taper so that none stands out, those within a third of each other go together under their median.
        """
        met = self.partner >= 0
        total = self.weight[met].sum()
        if total <= 0:
            return []
        values = np.array([float(f"{t:.3g}") for t in self.sample_thickness[met]])
        kinds, index = np.unique(values, return_inverse=True)
        share = np.bincount(index, self.weight[met]) / total
        if share.max() < STANDS_OUT:
            kinds, share = _together(kinds, share)
        order = np.argsort(-share)
        return [(float(kinds[k]), float(share[k])) for k in order]


def _together(kinds: Floats, share: Floats) -> tuple[Floats, Floats]:
    """Thicknesses gathered into lots that span a third, the lot of the largest share first; each stands as its weighted median."""
    out: list[tuple[float, float]] = []
    left = np.ones(len(kinds), bool)
    while left.any():
        sums = [share[left & (kinds >= k / 1.15) & (kinds <= k * 1.15)].sum() if free else 0.0 for k, free in zip(kinds, left, strict=True)]
        k = kinds[int(np.argmax(sums))]
        mine = left & (kinds >= k / 1.15) & (kinds <= k * 1.15)
        middle = np.searchsorted(np.cumsum(share[mine]), share[mine].sum() / 2)
        out.append((float(kinds[mine][min(middle, mine.sum() - 1)]), float(share[mine].sum())))
        left &= ~mine
    return np.array([k for k, _ in out]), np.array([s for _, s in out])


def measure_walls(shape: Shape, tree: FacetTree) -> Walls:
    """Cast inward rays from every face; a wall is where the face met looks back (cosine above 0.8)."""
    points, normals, face, _ = face_samples(shape, PER_FACE)
    eps = 1e-6 * shape.diagonal
    far, hit = tree.cast(points - eps * normals, -normals, least=eps)
    far = far + eps
    met = hit >= 0
    back = np.zeros(len(far))
    back[met] = np.einsum("ij,ij->i", shape.facet_normal[hit[met]], -normals[met])
    good = met & (back > 0.8)
    partner = np.where(good, shape.facet_face[np.maximum(hit, 0)], -1).astype(np.int64)
    thickness = np.full(len(shape.faces), np.inf)
    opposed = np.zeros(len(shape.faces))
    for f in range(len(shape.faces)):
        mine = face == f
        if mine.any():
            opposed[f] = good[mine].mean()
            if (mine & good).any():
                thickness[f] = np.median(far[mine & good])
    weight = shape.face_area[face] / PER_FACE
    return Walls(thickness, opposed, partner, face, far, weight)
