"""What can be said of a solid before anything is done to it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kind_rivet.core.geometry.extent import extent
from kind_rivet.core.geometry.holes import Hole, find_holes, sheet_holes
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape

RIM = 2.5  # walls; a face narrower than this is a rim, not a side
MOST_COMPARED = 1500  # round holes up to which each is compared with all others
ALL_ROUND = 0.85  # share of what lies opposite itself at one distance, from which a body is a rod
LONG_ROD = 4.0  # times as long as thick, at least
COMMON = 6  # cut-outs alike from which they count for the size suggested


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


def strip_width(shape: Shape, wall: float) -> float:
    """Width of the narrow sides of a thin body, 2 × area / border length; a tenth of all side area is narrower. Rims do not count."""
    width = 2.0 * shape.face_area / np.maximum(shape.face_border_length, 1e-300)
    side = np.flatnonzero(width > RIM * wall)
    if not len(side):
        return float("inf")
    order = side[np.argsort(width[side], kind="stable")]
    share = np.cumsum(shape.face_area[order])
    return float(width[order[np.searchsorted(share, 0.1 * share[-1])]])


def suits(shape: Shape, walls: tuple[tuple[float, float], ...], thin_share: float, kind: str = "solid") -> tuple[str, str]:
    """Which elements suit a body (shells, beams or solids), and the reason in words."""
    if kind in ("sheet", "wire"):
        return ("shells", "it is a sheet already") if kind == "sheet" else ("beams", "it is a wire")
    if (across := _rod(shape, walls)) is not None:
        return "beams", f"it is a rod of about {across:.3g} across"
    extent = np.sort(shape.box[1] - shape.box[0])
    wall = walls[0][0] if walls else float("inf")
    if thin_share > 0.6 and wall < 0.35 * extent[1]:
        return "shells", f"{100 * thin_share:.0f} % of its surface lies opposite a wall of about {wall:.3g}"
    if extent[2] > 8 * extent[1]:
        return "beams", f"it is {extent[2] / max(extent[1], 1e-300):.0f} times as long as wide"
    return "solids", "its walls are not thin against its size"


def _rod(shape: Shape, walls: tuple[tuple[float, float], ...]) -> float | None:
    """How thick a rod is (also a bent one, like a spring); None for anything else.

    All round a rod the same lies opposite, and its volume is a quarter of that times its surface; it is half of that for a sheet.
    """
    across = walls[0][0] if walls else 0.0
    alike = sum(share for t, share in walls if abs(t - across) < 0.05 * across)
    depth = shape.volume / max(float(shape.facet_area.sum()), 1e-300)
    extent = float(np.sort(shape.box[1] - shape.box[0])[2])
    return across if alike > ALL_ROUND and depth < 0.27 * across and extent > LONG_ROD * across else None


def _bores(holes: list[Hole]) -> np.ndarray:
    """Diameters of round holes, without those about the axis of a narrower one: counterbores and countersinks."""
    diameter = np.array([h.diameter for h in holes])
    if not 1 < len(holes) <= MOST_COMPARED:
        return diameter
    centre, axis = (np.array([getattr(h, name) for h in holes]) for name in ("centre", "axis"))
    away = centre[:, None] - centre[None]  # from the second to the first
    off = np.linalg.norm(away - np.einsum("ijk,jk->ij", away, axis)[..., None] * axis[None], axis=2)
    coaxial = (np.abs(axis @ axis.T) > 0.999) & (off < 0.05 * diameter[None])
    wider = diameter[:, None] > 1.05 * diameter[None]
    return np.asarray(diameter[~(coaxial & wider).any(axis=1)])


def _is_slot(shape: Shape, hole: Hole) -> bool:
    """Is a cut-out bounded by two half cylinders and what joins them? A fastener goes through it as through a round hole."""
    kinds = sorted(shape.faces[f].carrier.kind for f in hole.faces if f < len(shape.faces))
    return hole.kind != "round" and kinds == ["cylinder", "cylinder", "plane", "plane"]


def _ruling_wall(walls: tuple[tuple[float, float], ...]) -> float:
    """The commonest thickness, or the least one that is less than a third of it and has a fifth of the surface: a thick floor under thin walls."""
    common = walls[0][0] if walls else 0.0
    return min((t for t, share in walls if share > 0.2 and t < common / 3), default=common)


def _for_cut_outs(holes: tuple[Hole, ...]) -> float:
    """Size at which the sides of the commonest cut-outs have two divisions and their width has nearly as many; infinity when they are few.

    The length round a cut-out is taken for that of a circle as wide on average.
    """
    lots: dict[tuple[int, float, float], list[Hole]] = {}
    for hole in holes:
        if hole.kind != "round" and hole.faces:
            lots.setdefault((len(hole.faces), float(f"{hole.width:.2g}"), float(f"{hole.length:.2g}")), []).append(hole)
    common = max(lots.values(), key=len, default=[])
    if len(common) < COMMON:
        return float("inf")
    width, length, sides = common[0].width, common[0].length, len(common[0].faces)
    return min(0.6 * width, np.pi / 2 * (width + length) / sides / 2)


def suggested_size(shape: Shape, walls: tuple[tuple[float, float], ...], holes: tuple[Hole, ...]) -> float:
    """A usual element size: about 1/90 of the diagonal, at least 1.5 walls (the ruling ones) but never over 1/20 of it; finer, down to 1/250, for the
    common holes, slots and cut-outs and for narrow strips (flanges of rails, bars of grilles); rounded to a 1-2-5 step."""
    across = extent(shape)
    wall, finest = _ruling_wall(walls), across / 250
    size = min(max(across / 90, 1.5 * wall), across / 20)
    bores = np.concatenate((_bores([h for h in holes if h.kind == "round"]), [h.width for h in holes if _is_slot(shape, h)]))
    if len(bores):
        size = min(size, max(0.6 * float(np.median(bores)), finest))
    narrow = min(_for_cut_outs(holes), 0.8 * strip_width(shape, wall))
    size = min(size, max(narrow, 1.5 * wall, finest))
    power = 10 ** np.floor(np.log10(size))
    step = min((1, 1.5, 2, 2.5, 3, 4, 5, 6, 8, 10), key=lambda s: abs(np.log(s * power / size)))
    return float(f"{step * power:.3g}")
