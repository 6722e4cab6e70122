"""Rows from side to side with a clearing round each hole: a region that were regular without its holes stays so away from them.

A front that starts at all borders at once meets itself somewhere in the middle, in a different way for every hole. Rows laid
as if there were no holes only have to give way near them.
"""

from __future__ import annotations

import numpy as np
import shapely
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.free import cleanup, smooth
from kind_rivet.core.meshing.free.fill import FlatMesh, flat_worst
from kind_rivet.core.meshing.free.loops import with_holes
from kind_rivet.core.meshing.free.mend import outline, without_unused
from kind_rivet.core.meshing.free.pieces import Fill, filled_pieces

ROWS_EASED = 2  # rows round a clearing that give way with it
MOST = 0.92  # share of the elements that clearings may take
Ints = NDArray[np.int64]


def cleared_elements(rows: FlatMesh, holes: list[Floats], wide: float, poor: NDArray[np.bool_], beyond: float) -> NDArray[np.bool_] | None:
    """Elements (m,) of `rows` within `wide` of holes or `beyond` of `poor` ones, and those that would stick out between them.

    None where these are most.
    """
    shapes = shapely.polygons(rows.points[rows.elements])
    near = poor.copy()
    tree = shapely.STRtree(shapes)
    for hole in holes:
        shape = shapely.Polygon(hole) if len(hole) > 2 else shapely.LineString(hole)  # a wall that stands on one side of an element
        near[tree.query(shape, predicate="dwithin", distance=wide)] = True
    if poor.any() and beyond > 0:
        near[tree.query(shapes[poor], predicate="dwithin", distance=beyond)[1]] = True
    beside = _neighbours(rows.elements)
    more = near
    while more.any() and near.mean() <= MOST:
        gone = np.where(beside >= 0, near[np.maximum(beside, 0)], False)
        more = ~near & (gone.sum(axis=1) >= 2)
        near = near | more
    return near if near.mean() <= MOST else None


def filled_anew(rows: FlatMesh, along: list[int], loops: list[Floats], cleared: NDArray[np.bool_], fill: Fill) -> FlatMesh | None:
    """`rows` with its `cleared` elements filled anew, round the loops that are not in `along`; None where lots of them touch at a node."""
    first = np.cumsum([0, *map(len, loops)])
    held = int(first[-1])
    border = np.concatenate([np.arange(first[k], first[k + 1]) for k in along])
    number = np.concatenate((border, np.arange(held, held + len(rows.points) - len(border))))
    points = np.concatenate((*loops, rows.points[len(border) :]))
    elements = number[rows.elements].astype(np.int32)
    walks = outline(elements[cleared])
    if walks is None:
        return None
    walks = walks + [np.arange(first[k], first[k + 1]) for k in range(len(loops)) if k not in along]
    pieces = with_holes([points[walk] for walk in walks])
    if pieces is None:
        return None
    kept = elements[~cleared]
    mesh = filled_pieces(points, [[walks[k] for k in lot] for lot in pieces], fill, [kept])
    return _eased(*without_unused(mesh.points, mesh.elements, held), held, len(kept))


def _eased(points: Floats, elements: NDArray[np.int32], held: int, kept: int) -> FlatMesh:
    """A mesh with the nodes of clearings and of the rows next to them moved where its elements are best.

    The first `held` nodes stay; the first `kept` elements are rows.
    """
    free = np.zeros(len(points), np.bool_)
    free[elements[kept:][elements[kept:] >= 0]] = True
    for _ in range(ROWS_EASED):
        beside = elements[:kept][free[elements[:kept]].any(axis=1)]
        free[beside] = True
    free[:held] = False
    inc, deg = cleanup.link(elements, len(points))
    smooth.smooth(points, elements, inc, deg, free, np.arange(len(points)), 12, 0)
    return FlatMesh(points, elements, flat_worst(points, elements))


def _neighbours(elements: NDArray[np.int32]) -> Ints:
    """The quad (m, 4) across each side, −1 on the border."""
    m = len(elements)
    a, b = elements, np.roll(elements, -1, axis=1)
    key = np.stack((np.minimum(a, b), np.maximum(a, b)), axis=-1).reshape(-1, 2)
    order = np.lexsort((key[:, 1], key[:, 0]))
    same = (key[order[1:]] == key[order[:-1]]).all(axis=1)
    out = np.full(4 * m, -1, np.int64)
    one, other = order[:-1][same], order[1:][same]
    out[one], out[other] = other // 4, one // 4
    return out.reshape(m, 4)
