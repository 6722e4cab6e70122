"""Meshing a selection of shells again inside its own border."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Carrier, Floats, unit
from kind_rivet.core.mesh.topology import as_triangles, turned_as_most
from kind_rivet.core.meshing.fillings import best_filling
from kind_rivet.core.meshing.flatten import flatten_facets
from kind_rivet.core.meshing.free.fill import CannotFill
from kind_rivet.core.meshing.free.loops import area_of
from kind_rivet.core.meshing.free.mend import outline
from kind_rivet.core.meshing.patch import Patch
from kind_rivet.core.meshing.rules import ShellRules

Ints = NDArray[np.int32]


def filled_again(points: Floats, rows: Ints, pinned: NDArray[np.int64], carrier: Carrier, size: float) -> tuple[Floats, Ints]:
    """New inner points and elements for the region that shells `rows` (m, 4) cover.

    points : of the whole mesh; pinned : node indices inside the region that must stay;
    carrier : of the wall the shells lie on (`free` where there is none).
    Elements refer to the whole mesh's nodes, then to the new points behind them. Raises
    `Refused` where the selection hangs together only by points or cannot be filled.
    """
    rows = turned_as_most(rows, len(points))
    trias, _ = as_triangles(rows)
    nodes, facets = np.unique(trias, return_inverse=True)
    facets = facets.reshape(-1, 3)
    space = points[nodes]
    a, b, c = (space[facets[:, k]] for k in range(3))
    normal = unit(np.cross(b - a, c - a))
    at_node = np.zeros((len(nodes), 3))
    for k in range(3):
        np.add.at(at_node, facets[:, k], normal)
    at_node = unit(at_node)
    flat = flatten_facets(space, facets)
    patch = Patch((0,), (carrier,), facets.astype(np.int32), np.zeros(len(facets), np.int32), flat, space, at_node, at_node[facets], ())
    loops = outline(rows)
    if loops is None:
        raise Refused("The chosen elements touch themselves at a point.", "Choose a few more elements there, or mesh the lots one by one.")
    local = [np.searchsorted(nodes, loop) for loop in loops]
    areas = [area_of(flat[loop]) for loop in local]
    order = np.argsort(areas)[::-1]
    if (np.array(areas) > 0).sum() != 1:
        raise Refused("The chosen elements lie in more than one piece.", "Choose one connected lot of elements.")
    border = np.concatenate([local[k] for k in order])
    inside = np.searchsorted(nodes, np.setdiff1d(np.intersect1d(pinned, nodes), nodes[border]))
    try:
        mesh = best_filling(patch, [flat[local[k]] for k in order], flat[inside], ShellRules(size), None)
    except CannotFill as trouble:
        raise Refused("The border of the chosen elements cannot be filled.", "Choose a few more elements.") from trouble
    fresh = patch.to_space(mesh.points[len(border) + len(inside) :])[0]
    table = np.concatenate((nodes[border], nodes[inside], len(points) + np.arange(len(fresh))))
    return fresh, np.where(mesh.elements >= 0, table[np.maximum(mesh.elements, 0)], -1).astype(np.int32)
