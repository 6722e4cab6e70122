"""Facets inside a region of a chart whose border sides are given."""

from __future__ import annotations

import numpy as np
import scipy
import shapely
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.free.constrained import constrained_triangles


def fill_facets(place: Floats, segments: NDArray[np.int64], inner: Floats, region: shapely.Geometry) -> NDArray[np.int64] | None:
    """Triangles (m, 3) over the border places (n, 2) and the inner ones, counter-clockwise, inside the region.

    Every segment (s, 2) becomes a side. The border may be a little off the region's own:
    whatever the segments enclose counts by where most of it lies. None when segments cross.
    """
    given = np.concatenate((place, inner))
    n = len(given)
    made = constrained_triangles(given, segments)
    if made is None:
        return None
    tri, nbr, con = made
    label = patches(nbr, con)
    real = (tri < n).all(axis=1)
    centre = given[np.minimum(tri, n - 1)].mean(axis=1)
    a, b, c = (given[np.minimum(tri[:, k], n - 1)] for k in range(3))
    area = np.abs((b - a)[:, 0] * (c - a)[:, 1] - (b - a)[:, 1] * (c - a)[:, 0])
    shapely.prepare(region)
    within = shapely.contains_xy(region, centre[:, 0], centre[:, 1])
    count = int(label.max()) + 1
    good = np.bincount(label, area * (within & real), count) > 0.5 * np.bincount(label, area, count)
    outside = np.zeros(count, bool)
    outside[label[~real]] = True
    keep = (good & ~outside)[label]
    return tri[keep].astype(np.int64)


def patches(nbr: NDArray[np.int32], con: NDArray[np.bool_]) -> NDArray[np.int64]:
    """Number of the patch each triangle belongs to: joined across sides (t, 3) that have a neighbour and are not `con`strained."""

    t, k = np.nonzero((nbr >= 0) & ~con)
    graph = scipy.sparse.coo_matrix((np.ones(len(t)), (t, nbr[t, k])), shape=(len(nbr), len(nbr)))
    return np.asarray(scipy.sparse.csgraph.connected_components(graph, directed=False)[1], np.int64)
