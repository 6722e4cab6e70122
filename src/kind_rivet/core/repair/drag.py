"""Dragging one node on what holds it, with live figures for the elements it touches."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.onto import onto
from kind_rivet.core.mesh.mesh import Mesh
from kind_rivet.core.quality.easing import node_elements
from kind_rivet.core.quality.index import least_margin, side_scale
from kind_rivet.core.quality.limits import LimitSheet
from kind_rivet.core.quality.shell_metrics import element_values
from kind_rivet.core.repair.holds import Holds


@dataclass(frozen=True)
class DragStep:
    """Where the node ended, whether the step was allowed, and the index of every touched element."""

    point: Floats
    allowed: bool
    elements: NDArray[np.int32]
    index: Floats


class NodeDrag:
    """One drag: built once when the node is grasped, then `to` for every move (microseconds)."""

    def __init__(self, mesh: Mesh, holds: Holds, sheet: LimitSheet, size: float, node: int, wanted: Floats | None = None) -> None:
        shells = mesh.shells()
        inc, start = node_elements(shells, mesh.nodes)
        self.node = node
        self.elements = inc[start[node] : start[node + 1]]
        self.movable = bool(holds.movable[node])
        rows = shells[self.elements]
        used, flat = np.unique(rows[rows >= 0], return_inverse=True)
        self._shells = np.full_like(rows, -1)
        self._shells[rows >= 0] = flat
        self._points = mesh.points[used].copy()
        self._local = int(np.searchsorted(used, node))
        self._table = sheet.table(size)
        self._scale = side_scale(mesh.elements, size, wanted)[self.elements]
        self._code, self._data = holds.code[node], holds.data[node]
        self._tree = holds.trees.get(int(mesh.on_body[node])) if self._code == 0 else None
        self.before = self._indices()
        self.start = mesh.points[node].copy()

    def _indices(self) -> Floats:
        values = np.empty(10)
        out = np.empty(len(self._shells))
        for e in range(len(self._shells)):
            element_values(self._points, self._shells, e, values)
            values[8:10] /= self._scale[e]
            out[e] = np.clip(least_margin(values, self._table[0 if self._shells[e, 3] < 0 else 1])[0], -1, 1)
        return out

    def to(self, point: Floats) -> DragStep:
        """Try a place; it is put back on the node's face, and refused (last place kept) when an element would invert."""
        if not self.movable:
            return DragStep(self._points[self._local].copy(), False, self.elements, self._indices())
        last = self._points[self._local].copy()
        if self._code:
            place = np.array(onto(self._code, self._data, point[0], point[1], point[2]))
        elif self._tree is not None:
            facet, weight, _ = self._tree.nearest(point[None])
            place = weight[0] @ self._tree.points[self._tree.facets[facet[0]]]
        else:
            place = np.asarray(point, float)
        self._points[self._local] = place
        values = np.empty(10)
        upright = True
        for e in range(len(self._shells)):
            element_values(self._points, self._shells, e, values)
            upright &= values[7] > 0.02
        if not upright or self._flipped():
            self._points[self._local] = last
            return DragStep(last, False, self.elements, self._indices())
        return DragStep(place, True, self.elements, self._indices())

    def _flipped(self) -> bool:
        """Has a tria turned over against its neighbours?"""
        normals = []
        for row in self._shells:
            a, b = (
                self._points[row[2 if row[3] >= 0 else 1]] - self._points[row[0]],
                self._points[row[3 if row[3] >= 0 else 2]] - self._points[row[1 if row[3] >= 0 else 0]],
            )
            normals.append(np.cross(a, b))
        total = np.array(normals)
        size = np.linalg.norm(total, axis=1)
        mean = total.sum(axis=0)
        return bool(np.any(total @ mean <= -0.2 * size * np.linalg.norm(mean)))
