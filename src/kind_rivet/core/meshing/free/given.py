"""How short the sides that a filling makes may be: sides of the border are what they are, and near fine ones more is not asked for."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from kind_rivet.core.geometry.carriers import Floats

FINE = 0.4  # of the size: what border sides are finer than this make near them is no fault of the filling
SHARE = 0.45  # of the size that is wanted near fine sides: shorter ones are short there too
NOWHERE = np.empty((0, 4))


@dataclass(frozen=True)
class Given:
    """What nobody chose in a region: its first `count` points, and where elements must be fine.

    fine : (k, 4) x, y, radius of places where sides are far shorter than elsewhere, and what is short there
    growth : increase of that per length away from them
    """

    count: int
    fine: Floats = field(default_factory=lambda: NOWHERE)
    growth: float = 0.25


def given_in(loops: list[Floats], count: int, size: float, growth: float = 0.25, spots: Floats = NOWHERE) -> Given:
    """`loops`: (k, 2) each; `count` points of border and hard points; `spots` (s, 4) x, y, radius, size.

    Only fine sides of the outer border count: away from small holes elements are to grow as fast as they can.
    """
    after = np.roll(loops[0], -1, axis=0)
    return given_near((loops[0] + after) / 2, np.linalg.norm(after - loops[0], axis=1), count, size, growth, spots)


def given_near(mid: Floats, length: Floats, count: int, size: float, growth: float, spots: Floats) -> Given:
    """As `given_in`, from the middles (b, 2) and lengths (b,) of the outer border's sides."""
    fine = length < FINE * size
    sides = np.column_stack((mid[fine], length[fine] / 2, length[fine]))
    places = np.concatenate((sides, spots[spots[:, 3] < FINE * size]))
    places[:, 3] *= SHARE
    return Given(count, places, SHARE * growth)
