"""What can be said of a solid before anything is done to it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kind_rivet.core.geometry.holes import Hole, find_holes, sheet_holes
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape


@dataclass(frozen=True)
class FirstLook:
    """walls: (thickness, share of the opposed surface), largest share first; thin_share of the whole surface."""

    walls: tuple[tuple[float, float], ...]
    thin_share: float
    holes: tuple[Hole, ...]


def look(shape: Shape) -> FirstLook:
    """Walls and holes of a solid."""
    from kind_rivet.core.midsurface.walls import measure_walls

    if not len(shape.facets):
        return FirstLook((), 0.0, ())
    if not shape.solid:
        return FirstLook((), 0.0, sheet_holes(shape))
    walls = measure_walls(shape, FacetTree.over(shape.points, shape.facets))
    spread = walls.spread()
    # Thin: opposite something much nearer than the body is large.
    met = (walls.partner >= 0) & (walls.sample_thickness < 0.12 * shape.diagonal)
    return FirstLook(tuple(spread[:12]), float(walls.weight[met].sum() / max(walls.weight.sum(), 1e-300)), find_holes(shape))


def suits(walls: tuple[tuple[float, float], ...], thin_share: float, box: np.ndarray, kind: str = "solid") -> tuple[str, str]:
    """Which elements suit a body (shells, beams or solids), and the reason in words."""
    if kind in ("sheet", "wire"):
        return ("shells", "it is a sheet already") if kind == "sheet" else ("beams", "it is a wire")
    extent = np.sort(box[1] - box[0])
    wall = walls[0][0] if walls else float("inf")
    if thin_share > 0.6 and wall < 0.35 * extent[1]:
        return "shells", f"{100 * thin_share:.0f} % of its surface lies opposite a wall of about {wall:.3g}"
    if extent[2] > 8 * extent[1]:
        return "beams", f"it is {extent[2] / max(extent[1], 1e-300):.0f} times as long as wide"
    return "solids", "its walls are not thin against its size"


def suggested_size(diagonal: float, walls: tuple[tuple[float, float], ...], holes: tuple[Hole, ...]) -> float:
    """A usual element size: about 1/90 of the diagonal, not under 1.5 walls, fine enough for the common holes; rounded to a 1-2-5 step."""
    size = diagonal / 90
    if walls:
        size = max(size, 1.5 * walls[0][0])
    round_holes = [h.diameter for h in holes if h.kind == "round"]
    if round_holes:
        size = min(size, max(float(np.median(round_holes)) * 0.6, diagonal / 250))
    power = 10 ** np.floor(np.log10(size))
    step = min((1, 1.5, 2, 2.5, 3, 4, 5, 6, 8, 10), key=lambda s: abs(np.log(s * power / size)))
    return float(f"{step * power:.3g}")
