"""Finding edges by where they are: numbers change, places stay."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, arc_lengths
from kind_rivet.core.geometry.shape import Shape


def find_edges(shape: Shape, middles: Floats, lengths: Floats, slack: float) -> NDArray[np.int64]:
    """Edge (k,) nearest to each middle (k, 3) among those of about its length; −1 where none lies within `slack`."""
    places = edge_middles(shape)
    out = np.full(len(middles), -1, np.int64)
    for k, (middle, length) in enumerate(zip(middles, lengths, strict=True)):
        away = np.linalg.norm(places - middle, axis=1)
        away = np.where(np.abs(shape.edge_length - length) < 0.35 * length + 2 * slack, away, np.inf)
        best = int(np.argmin(away)) if len(away) else -1
        if best >= 0 and away[best] <= slack + 0.02 * length:
            out[k] = best
    return out


def edge_middles(shape: Shape) -> Floats:
    """The point (e, 3) halfway along each edge."""
    out = np.empty((len(shape.edges), 3))
    for e, edge in enumerate(shape.edges):
        p = shape.points[edge.nodes]
        s = arc_lengths(p)
        out[e] = [np.interp(s[-1] / 2, s, p[:, k]) for k in range(3)]
    return out
