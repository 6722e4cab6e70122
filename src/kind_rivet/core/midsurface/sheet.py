"""A sheet: the midsurface of one body, faceted, on exact carriers, with thickness."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Carrier, Floats
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.midsurface.fields import signed_distance
from kind_rivet.core.midsurface.remarks import Remark

AROUND = 4  # places between which a thickness that varies freely is told


@dataclass(frozen=True)
class Proof:
    """What verification measured on a sheet."""

    mass_ratio: float  # area × thickness / volume of the solid, places where walls meet counted once
    cover: float  # share of the solid's volume within 0.53 wall of the sheet
    pieces: int
    off_middle: float  # 95th percentile of the distance off the middle over the wall
    inner_free_length: float  # length of free edges that lie inside the solid
    unused_faces: tuple[int, ...]  # faces of the solid that are neither side nor rim
    plain_ratio: float = 0.0  # area × thickness / volume with such places counted for every wall
    blends: float = 0.0  # volume of the blends in inner corners / volume of the solid: shells beside the joints are thicker by it

    @property
    def weight(self) -> float:
        """What walls and blends together weigh / what the solid weighs."""
        return self.mass_ratio + self.blends


@dataclass(frozen=True)
class Taper:
    """The two surfaces of a wall that is not equally thick everywhere; the signs turn both outward."""

    first: Carrier
    first_sign: float
    second: Carrier
    second_sign: float

    def thickness(self, points: Floats) -> Floats:
        """Thickness (n,) at points (n, 3): how deep they lie under both surfaces together."""
        deep = [s * signed_distance(c, points)[0] for c, s in ((self.first, self.first_sign), (self.second, self.second_sign))]
        return np.asarray(-deep[0] - deep[1])


@dataclass(frozen=True, eq=False)
class Varying:
    """The thickness (k,) at places (k, 3) of a freely curved wall that is not equally thick everywhere, like that of a blade."""

    places: Floats
    wall: Floats

    def thickness(self, points: Floats) -> Floats:
        """Thickness (n,) at points (n, 3): that of the places round them, the near ones above all."""
        far, which = scipy.spatial.cKDTree(self.places).query(points, k=list(range(1, min(AROUND, len(self.places)) + 1)))
        weight = 1 / np.maximum(far, 1e-9 * np.ptp(self.places, axis=0).max()) ** 2
        return np.asarray((weight * self.wall[which]).sum(axis=1) / weight.sum(axis=1))


@dataclass(frozen=True)
class Sheet:
    """`shape` (not solid) with the wall thickness of each face (f,), the way it was made and its proof.

    tapers : for each face the two surfaces of its wall where it tapers, or its thickness at places where it varies freely, else None; empty: none does
    remarks : places where the sheet does not stand for its solid
    sides : the solid's faces that are sides of walls
    """

    shape: Shape
    thickness: Floats
    way: str
    proof: Proof | None  # None: taken as it is, or walls that are not joined yet
    tapers: tuple[Taper | Varying | None, ...] = ()
    remarks: tuple[Remark, ...] = ()
    sides: tuple[int, ...] = ()

    @property
    def area(self) -> float:
        return float(self.shape.face_area.sum())

    def taper(self, face: int) -> Taper | Varying | None:
        return self.tapers[face] if face < len(self.tapers) else None

    def thickness_at(self, points: Floats, face: NDArray[np.int64]) -> Floats:
        """Thickness (n,) at points (n, 3) on faces (n,)."""
        out = self.thickness[face].astype(float)
        for f, taper in enumerate(self.tapers):
            if taper is not None and (face == f).any():
                out[face == f] = taper.thickness(points[face == f])
        return out

    @property
    def thicknesses(self) -> list[float]:
        return sorted({float(f"{t:.5g}") for t in np.unique(self.thickness)})
