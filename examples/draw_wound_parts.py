#!/usr/bin/env python3
"""Draw made-up parts that wind, bear flanges or change their wall, and write them as STEP: a screw on a tube, a rimmed wheel, a rail of two walls.

    python examples/draw_wound_parts.py [FOLDER] [NAME ...]

They serve the tests; none is kept in the repository.
"""

from __future__ import annotations

import math
from itertools import pairwise

from draw_parts import box, cut, write_all
from draw_thin_parts import bent_rail, cylinder, fused, on_circle, turned, without
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeWire
from OCP.BRepOffsetAPI import BRepOffsetAPI_ThruSections
from OCP.gp import gp_Pnt
from OCP.TopoDS import TopoDS_Shape


def screw(turns: float = 1.6, wall: float = 2.5, inner: float = 15.0, outer: float = 34.0, pitch: float = 50.0) -> TopoDS_Shape:
    """A flight that winds about a tube more than once: one smooth face above, one below."""
    tube, steps = 3.0, round(14 * turns)
    loft = BRepOffsetAPI_ThruSections(True, False)
    for k in range(steps + 1):
        turn = turns * k / steps
        c, s, z = math.cos(2 * math.pi * turn), math.sin(2 * math.pi * turn), 20 + pitch * turn
        profile = [(inner - tube / 2, -wall / 2), (outer, -wall / 2), (outer, wall / 2), (inner - tube / 2, wall / 2)]
        corners = [gp_Pnt(r * c, r * s, z + h) for r, h in profile]
        wire = BRepBuilderAPI_MakeWire()
        for a, b in pairwise([*corners, corners[0]]):
            wire.Add(BRepBuilderAPI_MakeEdge(a, b).Edge())
        loft.AddWire(wire.Wire())
    loft.Build()
    height = 40 + pitch * turns
    return cut(
        fused([loft.Shape(), cylinder((0, 0, 0), (0, 0, 1), inner, height)]), cylinder((0, 0, -1), (0, 0, 1), inner - tube, height + 2)
    )


def flanged_wheel(wall: float = 3.6, radius: float = 60.0, width: float = 24.0) -> TopoDS_Shape:
    """A rim with a flange at each side, a disc, a hub and five ribs that end just under the flanges."""
    hub = 16.0

    def ring(outer: float, inner: float, low: float, high: float) -> TopoDS_Shape:
        return cut(cylinder((0, 0, low), (0, 0, 1), outer, high - low), cylinder((0, 0, low - 1), (0, 0, 1), inner, high - low + 2))

    half = width / 2
    walls = [ring(radius, radius - wall, -half, half), ring(hub, hub - 1.2 * wall, -0.6 * width, 0.6 * width)]
    walls += [ring(radius - wall / 2, hub - wall / 2, -wall / 2, wall / 2)]
    walls += [ring(radius + 7, radius - wall / 2, z, z + wall) for z in (half - wall, -half)]
    rib = box(hub - 0.6 * wall, -0.4 * wall, -0.42 * width, radius - hub, 0.8 * wall, 0.84 * width)
    walls += [turned(rib, (0, 0, 0), (0, 0, 1), 72.0 * k) for k in range(5)]
    return without(fused(walls), [cylinder((x, y, -width), (0, 0, 1), 8, 2 * width) for x, y in on_circle(5, 38, 36)])


def two_wall_rail() -> TopoDS_Shape:
    """A bent rail whose wall changes along it, flush outside also round its bends."""
    thick = turned(bent_rail(3.0, 2.0), (80, 20, 0), (0, 0, 1), 180)
    return without(fused([bent_rail(2.0, 3.0), thick]), [cylinder((x, 20, -1), (0, 0, 1), 6, 5) for x in (30, 125)])


PARTS = {"screw": screw, "flanged_wheel": flanged_wheel, "two_wall_rail": two_wall_rail}


if __name__ == "__main__":
    write_all(PARTS)
