"""A sheet: the midsurface of one body, faceted, on exact carriers, with thickness."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.shape import Shape


@dataclass(frozen=True)
class Proof:
    """What verification measured on a sheet."""

    mass_ratio: float  # area × thickness / volume of the solid
    cover: float  # share of the solid's volume within 0.53 wall of the sheet
    pieces: int
    off_middle: float  # 95th percentile of the distance off the middle over the wall
    inner_free_length: float  # length of free edges that lie inside the solid
    unused_faces: tuple[int, ...]  # faces of the solid that are neither side nor rim


@dataclass(frozen=True)
class Sheet:
    """`shape` (not solid) with the wall thickness of each face (f,), the way it was made and its proof."""

    shape: Shape
    thickness: Floats
    way: str
    proof: Proof | None  # None: taken as it is, nothing to prove against

    @property
    def area(self) -> float:
        return float(self.shape.face_area.sum())

    @property
    def thicknesses(self) -> list[float]:
        return sorted({float(f"{t:.5g}") for t in np.unique(self.thickness)})
