"""Holes amid a narrow ring take the directions of the nodes on its rim.

Where other walls stand on the rim, its nodes lie at uneven angles; columns to a hole divided evenly
would lean by up to half a column, and the narrower the ring, the more its shells would be skewed.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, unit
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.washers import RoundHole

NARROW = 1.0  # sizes between hole and rim up to which columns lean too much
EVEN = 0.05  # of a column: by so little columns may lean
HAIR = 1e-6  # of the length round a hole: nearer to each other lie ends that two edges of a rim share


def rim_stations(
    shape: Shape, holes: list[RoundHole], count: NDArray[np.int64], curves: list[Curve], rules: ShellRules
) -> tuple[dict[int, float], dict[int, Floats]]:
    """Edges of holes → station of their first node, and shares (n + 1,) of their length from there on, opposite the nodes of their rims."""
    starts: dict[int, float] = {}
    shares: dict[int, Floats] = {}
    for hole in holes:
        if len(hole.edges) != 1 or not hole.round or len(hole.rim) < 2 or hole.widths:
            continue
        e = hole.edges[0]
        n = int(count[e])
        carrier = shape.edges[hole.rim[0]].carrier
        free = len(shape.edge_faces[e]) == 1 and not {e, *hole.rim} & (rules.grading.keys() | rules.edge_size.keys())
        if carrier.array[6] - hole.radius > NARROW * rules.size or sum(int(count[r]) for r in hole.rim) != n or not free:
            continue
        rim = np.concatenate([curves[r].at(np.linspace(0.0, curves[r].length, int(count[r]) + 1)) for r in hole.rim])
        station = _facing(curves[e], np.asarray(hole.centre), np.asarray(hole.axis), hole.radius, rim)
        gaps = np.diff(np.append(station, station[0] + curves[e].length))
        apart = gaps > HAIR * curves[e].length
        station, gaps = station[apart], gaps[apart]
        step = curves[e].length / n
        if len(station) == n and np.abs(gaps - step).max() > EVEN * step and gaps.min() > 0.5 * step:
            starts[e] = float(station[0])
            shares[e] = np.append(station - station[0], curves[e].length) / curves[e].length
    return starts, shares


def _facing(curve: Curve, centre: Floats, axis: Floats, radius: float, places: Floats) -> Floats:
    """Stations (n,) along a closed circle in the directions of places (n, 3) seen from its middle, in order."""
    first = curve.at(np.array([0.0, 1e-3 * curve.length])) - centre
    u = unit(first[0] - axis * (first[0] @ axis))
    v = np.cross(axis, u)
    sense = 1.0 if first[1] @ v > 0 else -1.0
    away = places - centre
    return np.sort((np.arctan2(away @ v, away @ u) * sense) % (2 * np.pi)) * radius
