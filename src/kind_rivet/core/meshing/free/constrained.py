"""Delaunay triangles over given places with given sides kept: the compiled triangulation for whoever needs nothing more."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.free import triangulation

Triangles = tuple[NDArray[np.int32], NDArray[np.int32], NDArray[np.bool_]]


def constrained_triangles(places: Floats, sides: NDArray[np.int32] | NDArray[np.int64]) -> Triangles | None:
    """Triangles (m, 3), their neighbours (m, 3) and which of their sides were given (m, 3); None where given sides cross.

    places (n, 2), sides (s, 2). Corners from n on belong to a square round all places.
    """
    n = len(places)
    shift, scale = places.min(axis=0), float(np.ptp(places, axis=0).max()) or 1.0
    pts = np.empty((n + 8, 2))
    pts[:n] = (places - shift) / scale
    top = 2 * n + 64
    tri, nbr = np.empty((top, 3), np.int32), np.empty((top, 3), np.int32)
    con, last, inside = np.zeros((top, 3), np.bool_), np.zeros(n + 8, np.int32), np.zeros(top, np.bool_)
    _, used = triangulation.triangulate(pts, n, np.ascontiguousarray(sides, np.int32), tri, nbr, con, last, inside)
    return None if used < 0 else (tri[:used], nbr[:used], con[:used])
