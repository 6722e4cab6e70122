#!/usr/bin/env python3
"""Draw made-up sheets with hole patterns: square, staggered, round and hexagonal ones, slots, a perforated tube, and write them as STEP.

    python examples/draw_hole_patterns.py [FOLDER] [NAME ...]

They serve the tests; none is kept in the repository.
"""

from __future__ import annotations

import math
from collections.abc import Callable

from draw_parts import box, cut, prism, write_all
from draw_thin_parts import cylinder, drilled, fused, turned
from OCP.TopoDS import TopoDS_Shape

ROW = 0.5 * 3**0.5  # of the pitch: between rows of a triangular pattern


def hole(x: float, y: float, radius: float) -> TopoDS_Shape:
    return cylinder((x, y, -5), (0, 0, 1), radius, 20)


def pan(x: float, y: float, t: float, height: float) -> TopoDS_Shape:
    return cut(box(0, 0, 0, x, y, height), box(t, t, t, x - 2 * t, y - 2 * t, height))


def square_pattern() -> TopoDS_Shape:
    return drilled(box(0, 0, 0, 96, 68, 2), [hole(15 + 11 * i, 12 + 11 * j, 3) for i in range(7) for j in range(5)])


def staggered_plate() -> TopoDS_Shape:
    return drilled(box(0, 0, 0, 90, 66, 2), [hole(13 + 10 * i + j % 2 * 5, 12 + 10 * ROW * j, 3) for i in range(7) for j in range(6)])


def staggered_pan() -> TopoDS_Shape:
    return drilled(pan(90, 62, 1.5, 12), [hole(14 + 8 * i + j % 2 * 4, 13 + 8 * ROW * j, 2.75) for i in range(8) for j in range(6)])


def half_pitch_plate() -> TopoDS_Shape:
    """Rows half a pitch apart and half a pitch along: a square pattern turned by 45°."""
    return drilled(box(0, 0, 0, 100, 66, 2), [hole(12 + 14 * i + j % 2 * 7, 12 + 7 * j, 3) for i in range(6) for j in range(7)])


def slanted_plate() -> TopoDS_Shape:
    return drilled(box(0, 0, 0, 110, 62, 2), [hole(12 + 11 * i + 3 * j, 12 + 9 * j, 3) for i in range(7) for j in range(5)])


def hexagon_grille() -> TopoDS_Shape:
    corners = [(4.5 * math.sin(math.pi * k / 3), 4.5 * math.cos(math.pi * k / 3)) for k in range(6)]
    at = [(14 + 11 * i + j % 2 * 5.5, 14 + 11 * ROW * j) for i in range(7) for j in range(5)]
    return drilled(box(0, 0, 0, 98, 66, 2), [prism([(x + u, y + v, -5.0) for u, v in corners], {}, (0, 0, 20)) for x, y in at])


def round_field() -> TopoDS_Shape:
    at = [(7.0 * i, 7.0 * j) for i in range(-5, 6) for j in range(-5, 6) if math.hypot(i, j) < 5.2]
    return drilled(cylinder((0, 0, 0), (0, 0, 1), 44, 1.5), [hole(x, y, 2) for x, y in at])


def two_diameters() -> TopoDS_Shape:
    large = [hole(15 + 14 * i, 15 + 14 * j, 4) for i in range(6) for j in range(4)]
    return drilled(box(0, 0, 0, 100, 72, 2), large + [hole(22 + 14 * i, 22 + 14 * j, 2) for i in range(5) for j in range(3)])


def slotted_pan() -> TopoDS_Shape:
    def slot(x: float, y: float) -> TopoDS_Shape:
        return fused([box(x - 6, y - 2, -5, 12, 4, 20), hole(x - 6, y, 2), hole(x + 6, y, 2)])

    return drilled(pan(116, 62, 1.5, 12), [slot(20 + 22 * i, 13 + 9 * j) for i in range(4) for j in range(5)])


def perforated_tube() -> TopoDS_Shape:
    tube = cut(cylinder((0, 0, 0), (0, 0, 1), 30, 66), cylinder((0, 0, -1), (0, 0, 1), 28.5, 68))
    knives = [cylinder((0, 0, 12 + 10.5 * j), (1, 0, 0), 2.5, 40) for j in range(5)]
    return drilled(tube, [turned(k, (0, 0, 0), (0, 0, 1), 22.5 * i + j % 2 * 11.25) for j, k in enumerate(knives) for i in range(16)])


def field_round_a_hole() -> TopoDS_Shape:
    small = [hole(15 + 10 * i, 15 + 10 * j, 2.5) for i in range(9) for j in range(7) if not (3 <= i <= 5 and 2 <= j <= 4)]
    return drilled(box(0, 0, 0, 110, 90, 2), [*small, hole(55, 45, 9)])


PARTS: dict[str, Callable[[], TopoDS_Shape]] = {
    "square_pattern": square_pattern, "staggered_plate": staggered_plate, "staggered_pan": staggered_pan,
    "half_pitch_plate": half_pitch_plate, "slanted_plate": slanted_plate, "hexagon_grille": hexagon_grille, "round_field": round_field,
    "two_diameters": two_diameters, "slotted_pan": slotted_pan, "perforated_tube": perforated_tube, "field_round_a_hole": field_round_a_hole,
}  # fmt: skip


if __name__ == "__main__":
    write_all(PARTS)
