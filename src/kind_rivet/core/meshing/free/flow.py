"""How well a flat mesh follows its borders: every element against the cross direction and size wanted at its place."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.kernels import kernel
from kind_rivet.core.meshing.free.front import cross_and_size
from kind_rivet.core.meshing.free.shapes2d import sized_score

CALM = 2.0  # how far, in its own side lengths, a hole's border turns the cross field
TURN, SIZE = 0.5, 0.15  # weight of a direction that is wrong all over, and of a squared logarithm of area ratio


@dataclass(frozen=True)
class Field:
    """Border sides that steer the cross field and the size: middles (b, 2), lengths, angles and how soon each fades (0: never)."""

    mid: Floats
    length: Floats
    angle: Floats
    calm: Floats


@dataclass(frozen=True)
class Flow:
    """The field of a region with what else says how large elements should be: size, growth, spots (s, 4)."""

    field: Field
    size: float
    growth: float
    spots: Floats

    def unease(self, points: Floats, elements: NDArray[np.int32]) -> Floats:
        """What each element lacks in shape, direction and size; 0 is best."""
        out = np.empty(len(elements))
        f = self.field
        _unease(
            points, elements, f.mid, f.length, np.cos(4 * f.angle), np.sin(4 * f.angle), f.calm, self.size, self.growth, self.spots, out
        )
        return out


def field_of(loops: list[Floats]) -> Field:
    mid = np.concatenate([(loop + np.roll(loop, -1, axis=0)) / 2 for loop in loops])
    side = np.concatenate([np.roll(loop, -1, axis=0) - loop for loop in loops])
    length = np.linalg.norm(side, axis=1)
    calm = np.concatenate([np.full(len(loop), 0.0 if k == 0 else CALM) for k, loop in enumerate(loops)]) * length
    return Field(mid, length, np.arctan2(side[:, 1], side[:, 0]), calm)


@kernel
def _unease(pts, el, mid, length, cos4, sin4, calm, size, growth, spots, out):  # type: ignore[no-untyped-def]
    for e in range(len(el)):
        n = 3 if el[e, 3] < 0 else 4
        x, y, area, c, s = 0.0, 0.0, 0.0, 0.0, 0.0
        for k in range(n):
            p, q = el[e, k], el[e, (k + 1) % n]
            x += pts[p, 0] / n
            y += pts[p, 1] / n
            area += 0.5 * (pts[p, 0] * pts[q, 1] - pts[q, 0] * pts[p, 1])
            a = math.atan2(pts[q, 1] - pts[p, 1], pts[q, 0] - pts[p, 0])
            c += math.cos(4 * a) / n
            s += math.sin(4 * a) / n
        way, h = cross_and_size(x, y, mid, length, cos4, sin4, calm, size, growth, spots)
        turn = 0.5 * (1.0 - (c * math.cos(4 * way) + s * math.sin(4 * way))) if n == 4 else 0.5
        ratio = math.log(max(area, 1e-12 * h * h) / (h * h)) if n == 4 else 0.0
        out[e] = 1.0 - min(sized_score(pts, el, e, size), 1.0) + TURN * turn + SIZE * ratio * ratio
