"""What blends hold beside the joints of walls: thickness over that of the wall, shared between the walls that meet there."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.midsurface.blends import hollow, radius
from kind_rivet.core.midsurface.offset_side import smooth_edge
from kind_rivet.core.midsurface.sheet import Sheet

HALVINGS = 14  # of the height of a blend, to find where another wall begins to be nearer
DIAGONAL = (
    2**0.5
)  # how far the corner of a square is from the corner opposite: between walls square to each other, a blend from their joint
TOLD = 5e-4  # share of a solid from which its blends are worth a word
LEAST = 1e-3  # walls: what stands out less is the solid's facets


def blends_of(solid: Shape, sheet: Sheet) -> NDArray[np.bool_]:
    """Which faces (f,) of the solid are blends in inner corners: no sides of walls, curved round what lies outside, and going over smoothly into sides or other such faces.

    Holes curve so too, but have sharp edges where they come out.
    """
    out = np.zeros(len(solid.faces), np.bool_)
    if not sheet.sides:  # nobody knows which faces are sides
        return out
    sides = set(sheet.sides)
    smooth = {
        f: [e for e in solid.face_edges[f] if smooth_edge(solid, e)]
        for f, face in enumerate(solid.faces)
        if face.carrier.kind != "plane" and f not in sides
    }
    round_ones = {f for f, edges in smooth.items() if len(edges) > 1 and hollow(solid, f)}
    for f in round_ones:
        out[f] = sum(bool((set(solid.edge_faces[e]) - {f}) & (sides | round_ones)) for e in smooth[f]) > 1
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
    blend: NDArray[np.bool_]  # of each facet of the solid
    radius: float  # the largest of any blend; 0: there is none
    own: tuple[NDArray[np.int64], ...]  # facets of each face of the sheet
    beside: tuple[tuple[int, ...], ...]  # faces each face of the sheet shares an edge with

    @classmethod
    def of(cls, solid: Shape, tree: FacetTree, sheet: Sheet) -> BlendMaterial:
        shape = sheet.shape
        order = np.argsort(shape.facet_face, kind="stable")
        bounds = np.searchsorted(shape.facet_face[order], np.arange(len(shape.faces) + 1))
        blends = blends_of(solid, sheet)
        return cls(
            sheet, tree, blends[solid.facet_face], max((radius(solid, f) for f in np.flatnonzero(blends).tolist()), default=0.0),
            tuple(order[a:b] for a, b in pairwise(bounds)), tuple(tuple(sorted(near)) for near in shape.face_neighbours),
        )  # fmt: skip

    def __bool__(self) -> bool:
        """Does the solid have any blend?"""
        return self.radius > 0

    def near(self, points: Floats, wall: Floats, reach: Floats) -> NDArray[np.bool_]:
        """Which places (n, 3) on walls (n,) lie within `reach` (n,) of one beside which a blend stands: no blend is further from the joint it fills."""
        facets = self.tree.facets[self.blend]
        _, _, gap = FacetTree.over(self.tree.points, facets).nearest(points)
        return np.asarray(gap <= DIAGONAL * wall / 2 + (DIAGONAL - 1) * self.radius + reach)

    def heights(self, points: Floats, normal: Floats, face: NDArray[np.int64], wall: Floats) -> Floats:
        """How high (n, 2) blends stand out above and below places (n, 3) on faces (n,) of the sheet whose wall there is `wall` (n,)."""
        out = np.zeros((len(points), 2))
        for side, way in enumerate((normal, -normal)):
            far, hit = self.tree.cast(points, way)
            high = far - wall / 2
            rows = np.flatnonzero((hit >= 0) & (high > LEAST * wall))
            rows = rows[self.blend[hit[rows]]]
            for f in np.unique(face[rows]).tolist():
                mine = rows[face[rows] == f]
                out[mine, side] = self._own_share(f, points[mine] + wall[mine, None] / 2 * way[mine], way[mine], high[mine])
        return out

    def _own_share(self, face: int, start: Floats, way: Floats, high: Floats) -> Floats:
        """Up to which height (n,) over places (n, 3) on a side of a wall no wall beside it is nearer than its own side; `high` (n,) at most."""
        if not self.beside[face]:
            return high
        shape = self.sheet.shape
        others = np.concatenate([self.own[g] for g in self.beside[face]])
        near = FacetTree.over(shape.points, shape.facets[others])
        low, top = np.zeros(len(start)), high.copy()
        step = high
        for _ in range(HALVINGS):
            at = start + step[:, None] * way
            facet, _, gap = near.nearest(at)
            half = self.sheet.thickness_at(at, shape.facet_face[others[facet]].astype(np.int64)) / 2
            mine = gap - half >= step * (1 - 1e-6)
            low, top = np.where(mine, step, low), np.where(mine, top, step)
            step = (low + top) / 2
        return low
