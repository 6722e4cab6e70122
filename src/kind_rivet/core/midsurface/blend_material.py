"""What blends hold beside the joints of walls: thickness over that of the wall, shared between the walls that meet there."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.midsurface.blends import fills, radius, smooth_neighbours
from kind_rivet.core.midsurface.sheet import Sheet

HALVINGS = 14  # of the height of a blend, to find where another wall begins to be nearer
DIAGONAL = 2**0.5  # radii from the axis of a blend between square walls to the edge it fills
KINDS = ("plane", "cylinder", "torus")  # of walls beside bends, and of bends
COAXIAL = 1e-6  # share of the radius by which axes may be apart, and the sine between them
TOLD = 5e-4  # share of a solid from which its blends are worth a word
HIGH = 2.5  # times its radius: a blend between walls at 45° or more stands no higher
LEANS = 0.1  # cosine from which a blend leans away from a wall
LEAST = 1e-3  # walls: what stands out less is the solid's facets


def blends_of(solid: Shape, sheet: Sheet) -> NDArray[np.bool_]:
    """Which faces (f,) of the solid are blends in inner corners: curved round what lies outside, going over smoothly into sides of walls or other such faces, and no sides themselves.

    Holes curve so too, but have sharp edges where they come out. The inner side of a bend about another axis is
    one as well: it begins before or after the bend does.
    """
    out = np.zeros(len(solid.faces), np.bool_)
    if not sheet.sides:  # nobody knows which faces are sides
        return out
    sides = set(sheet.sides) - _askew_sides(solid, sheet)
    smooth = {f: smooth_neighbours(solid, f) for f, face in enumerate(solid.faces) if face.carrier.kind != "plane" and f not in sides}
    round_ones = {f for f, near in smooth.items() if len(near) > 1 and fills(solid, f)}
    for f in round_ones:
        out[f] = len(smooth[f] & (sides | round_ones)) > 1
    return out


def _askew_sides(solid: Shape, sheet: Sheet) -> set[int]:
    """Sides of walls that are cylinders or tori while no face of the sheet of that kind has their axis."""
    out = set()
    for kind in KINDS[1:]:
        about = np.array([face.carrier.data[:6] for face in sheet.shape.faces if face.carrier.kind == kind]).reshape(-1, 6)
        for f in sheet.sides:
            side = solid.faces[f].carrier
            if side.kind != kind:
                continue
            axis, away = side.array[3:6], about[:, :3] - side.array[:3]
            if kind == "cylinder":
                away = away - (away @ axis)[:, None] * axis
            apart = np.maximum(np.linalg.norm(np.cross(about[:, 3:], axis), axis=1), np.linalg.norm(away, axis=1) / side.data[6])
            if apart.min(initial=1.0) > COAXIAL:
                out.add(f)
    return out


@dataclass(frozen=True)
class BlendMaterial:
    """Measures how far blends stand out from the walls of a sheet.

    Rays square to a wall that leave the solid through a blend tell how high it stands
    there; of that the wall has what is no nearer to another wall it meets (half of a
    blend between two that are square to each other), so that nothing is counted twice.
    """

    sheet: Sheet
    tree: FacetTree  # of the solid's facets
    normals: Floats  # normal (m, 3) of each facet of the solid
    radii: Floats  # radius of each facet of the solid that is one of a blend, else 0
    bend: NDArray[np.int64]  # kind of each facet of the solid that is a bend's inner side (it stands over walls beside the bend), else −1
    kind: NDArray[np.int64]  # the same of each face of the sheet, −2 where it is none of them
    own: tuple[NDArray[np.int64], ...]  # facets of each face of the sheet
    beside: tuple[tuple[int, ...], ...]  # faces each face of the sheet shares an edge with

    @classmethod
    def of(cls, solid: Shape, tree: FacetTree, sheet: Sheet) -> BlendMaterial:
        shape = sheet.shape
        order = np.argsort(shape.facet_face, kind="stable")
        bounds = np.searchsorted(shape.facet_face[order], np.arange(len(shape.faces) + 1))
        blends = np.zeros(len(solid.faces))
        for f in np.flatnonzero(blends_of(solid, sheet)).tolist():
            blends[f] = radius(solid, f)
        kinds = [KINDS.index(face.carrier.kind) if face.carrier.kind in KINDS else -2 for face in (*solid.faces, *shape.faces)]
        kind = np.array(kinds, np.int64)[len(solid.faces) :]
        bend = np.where(np.isin(np.arange(len(solid.faces)), sheet.sides), kinds[: len(solid.faces)], -1)
        return cls(
            sheet, tree, solid.facet_normal, blends[solid.facet_face], bend[solid.facet_face], kind,
            tuple(order[a:b] for a, b in pairwise(bounds)), tuple(tuple(sorted(near)) for near in shape.face_neighbours),
        )  # fmt: skip

    def __bool__(self) -> bool:
        """Does the solid have any blend?"""
        return bool((self.radii > 0).any())

    def near(self, points: Floats, wall: Floats, reach: Floats) -> NDArray[np.bool_]:
        """Which places (n, 3) on walls (n,) lie within `reach` (n,) of one beside which a blend stands: no blend is further from the joint it fills."""
        facets = self.tree.facets[self.radii > 0]
        _, _, gap = FacetTree.over(self.tree.points, facets).nearest(points)
        return np.asarray(gap <= DIAGONAL * wall / 2 + (DIAGONAL - 1) * self.radii.max() + reach)

    def holds(self, points: Floats) -> NDArray[np.bool_]:
        """Which places (n, 3) of the solid lie in blends: no further behind one than the edge that it fills is between walls square to each other."""
        behind = np.flatnonzero(self.radii > 0)
        facet, _, gap = FacetTree.over(self.tree.points, self.tree.facets[behind]).nearest(points)
        return np.asarray(gap <= (DIAGONAL - 1) * self.radii[behind[facet]])

    def heights(self, points: Floats, normal: Floats, face: NDArray[np.int64], wall: Floats) -> Floats:
        """How high (n, 2) blends stand out above and below places (n, 3) on faces (n,) of the sheet whose wall there is `wall` (n,)."""
        out = np.zeros((len(points), 2))
        trees: dict[int, FacetTree] = {}
        for side, way in enumerate((normal, -normal)):
            far, hit = self.tree.cast(points, way)
            high = far - wall / 2
            rows = np.flatnonzero((hit >= 0) & (high > LEAST * wall))
            rows = rows[high[rows] < HIGH * self.radii[hit[rows]]]
            over = self.bend[hit[rows]]
            rows = rows[(over < 0) | ((self.kind[face[rows]] >= 0) & (over != self.kind[face[rows]]))]
            for f in np.unique(face[rows]).tolist():
                mine = rows[face[rows] == f]
                start = points[mine] + wall[mine, None] / 2 * way[mine]
                lean = self.normals[hit[mine]]
                for g in self.beside[f]:
                    trees[g] = trees.get(g) or FacetTree.over(self.sheet.shape.points, self.sheet.shape.facets[self.own[g]])
                own = [self._short_of(g, trees[g], start, way[mine], high[mine], lean) for g in self.beside[f]]
                out[mine, side] = np.min([high[mine], *own], axis=0)
        return out

    def _short_of(self, other: int, near: FacetTree, start: Floats, way: Floats, high: Floats, lean: Floats) -> Floats:
        """Up to which height (n,) over places (n, 3) on a side of a wall another one is no nearer than that side; `high` (n,) at most.

        Only where the blend leans (its normals (n, 3)) away from the other wall: one in a corner of two walls fills nothing on the floor both stand on.
        """
        low, top, step = np.zeros(len(start)), high.copy(), high
        for _ in range(HALVINGS):
            at = start + step[:, None] * way
            facet, weight, gap = near.nearest(at)
            away = at - np.einsum("ij,ijk->ik", weight, near.points[near.facets[facet]])
            half = self.sheet.thickness_at(at, np.full(len(at), other)) / 2
            mine = (gap - half >= step * (1 - 1e-6)) | (np.einsum("ij,ij->i", away, lean) < LEANS * gap)
            low, top = np.where(mine, step, low), np.where(mine, top, step)
            step = (low + top) / 2
        _, _, gap = near.nearest(start)
        half = self.sheet.thickness_at(start, np.full(len(start), other)) / 2
        return np.where(gap < half * (1 - 1e-6), 0.0, low)  # what lies within the other wall belongs to that
