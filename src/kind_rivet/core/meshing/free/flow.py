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
WARPED = math.radians(12.0)  # warp that weighs as much as a shape that is wrong all over
MOST_WARP = 2.0  # more than so many times that weighs no more
ROOMY, WIDE = 1.15, 4.0  # sizes across from which on quads of a bend are too wide, and what that weighs
TURN, SIZE = 0.5, 0.15  # weight of a direction that is wrong all over, and of a squared logarithm of area ratio


@dataclass(frozen=True)
class Grain:
    """A direction along and across which rows run all over a region, since it bends.

    angle : of the direction that bends
    reach : distance from a border at which both have as much say
    bend : curvature that way
    """

    angle: float
    reach: float
    bend: float


@dataclass(frozen=True)
class Field:
    """Border sides that steer the cross field and the size: middles (b, 2), lengths, angles and how soon each fades (0: never).

    A grain is a side that fades less than never: `calm` −1, its reach for a length. `bend` is its curvature.
    """

    mid: Floats
    length: Floats
    angle: Floats
    calm: Floats
    bend: float = 0.0

    def near(self, sides: NDArray[np.bool_]) -> Field:
        """What only the chosen sides steer, and the grain."""
        kept = sides | (self.calm < 0)
        return Field(self.mid[kept], self.length[kept], self.angle[kept], self.calm[kept], self.bend)


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
        if f.bend:
            way = float(f.angle[f.calm < 0][0])
            _add_warp(points, elements, math.cos(way), math.sin(way), f.bend, self.size, out)
        return out


def field_of(loops: list[Floats], grain: Grain | None = None) -> Field:
    mid = np.concatenate([(loop + np.roll(loop, -1, axis=0)) / 2 for loop in loops])
    side = np.concatenate([np.roll(loop, -1, axis=0) - loop for loop in loops])
    length = np.linalg.norm(side, axis=1)
    calm = np.concatenate([np.full(len(loop), 0.0 if k == 0 else CALM) for k, loop in enumerate(loops)]) * length
    angle = np.arctan2(side[:, 1], side[:, 0])
    if grain is None:
        return Field(mid, length, angle, calm)
    mid, length, angle = np.vstack((mid, mid.mean(axis=0))), np.append(length, grain.reach), np.append(angle, grain.angle)
    return Field(mid, length, angle, np.append(calm, -1.0), grain.bend)


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


@kernel
def _add_warp(pts, el, ex, ey, bend, size, out):  # type: ignore[no-untyped-def]
    """What quads lack since they lie askew to a bend, the angle between their halves squared, or are too wide across or along it.

    Lifted by bend · x² / 2, x along what bends, the middles of a quad's diagonals come apart by half of
    its twist; over the halves' heights that is the angle between them.
    """
    for e in range(len(el)):
        if el[e, 3] < 0:
            continue
        area, twist = 0.0, 0.0
        low_x, high_x, low_y, high_y = np.inf, -np.inf, np.inf, -np.inf
        x0 = ex * pts[el[e, 0], 0] + ey * pts[el[e, 0], 1]
        for k in range(4):
            p, q = el[e, k], el[e, (k + 1) % 4]
            area += 0.5 * (pts[p, 0] * pts[q, 1] - pts[q, 0] * pts[p, 1])
            x = ex * pts[p, 0] + ey * pts[p, 1] - x0
            y = ex * pts[p, 1] - ey * pts[p, 0]
            low_x, high_x, low_y, high_y = min(low_x, x), max(high_x, x), min(low_y, y), max(high_y, y)
            twist += bend * x * x / 2 if k % 2 == 0 else -bend * x * x / 2
        longest = 0.0
        for k in range(2):
            p, q = el[e, k], el[e, k + 2]
            longest = max(longest, math.sqrt((pts[p, 0] - pts[q, 0]) ** 2 + (pts[p, 1] - pts[q, 1]) ** 2))
        share = min(abs(twist) * longest / max(area, 1e-300) / WARPED, MOST_WARP)
        out[e] += share * share
        for wide in (high_x - low_x, high_y - low_y):
            if wide > ROOMY * size:
                out[e] += WIDE * math.log(wide / (ROOMY * size)) ** 2
