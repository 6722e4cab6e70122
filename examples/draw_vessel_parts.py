#!/usr/bin/env python3
"""Draw made-up vessels and ducts and write them as STEP: tanks with domed ends, drums on cones, scoops, ducts that change their section.

    python examples/draw_vessel_parts.py [FOLDER] [NAME ...]

They serve the tests; none is kept in the repository.
"""

from __future__ import annotations

import math
from itertools import pairwise

from draw_parts import box, cut, write_all
from draw_thin_parts import cylinder, fused, revolved, turned, without
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeWire
from OCP.BRepOffsetAPI import BRepOffsetAPI_ThruSections
from OCP.BRepPrimAPI import BRepPrimAPI_MakeSphere
from OCP.gp import gp_Pnt
from OCP.TopoDS import TopoDS_Shape

Corner = tuple[float, float, float]


def tank(radius: float = 72.0, wall: float = 4.0, length: float = 150.0) -> TopoDS_Shape:
    """A lying drum with half spheres at its ends and two branches, one of them with a flange."""

    def filled(r: float) -> TopoDS_Shape:
        ends = [BRepPrimAPI_MakeSphere(gp_Pnt(x, 0, 0), r).Shape() for x in (0.0, length)]
        return fused([cylinder((0, 0, 0), (1, 0, 0), r, length), *ends])

    branches = [(length * 0.25, (0.0, 0.0, 1.0), 18.0), (length * 0.75, (0.0, 0.6, 0.8), 22.0)]
    outside = [cylinder((x, 0, 0), way, r, radius + 30) for x, way, r in branches]
    flange = cylinder((branches[0][0], 0, radius + 25), (0, 0, 1), 32, 5)
    inside = [cylinder((x, 0, 0), way, r - 3.2, radius + 40) for x, way, r in branches]
    return without(fused([filled(radius), *outside, flange]), [filled(radius - wall), *inside])


def drum_on_cone(
    radius: float = 45.24, wall: float = 1.728, height: float = 55.66, depth: float = 130.8, foot: float = 17.93
) -> TopoDS_Shape:
    """A drum on a cone whose wall is a hair thicker along the drum's axis, so that the two step by a hair inside.

    A square inlet touches the drum along its side, and a pipe dips in from above.
    """
    slope = (radius - foot) / depth
    own = wall * math.hypot(1.0, slope)
    wide, high = 18.34, 33.4
    base = height - high - 2 * wall
    outside = fused([cylinder((0, 0, 0), (0, 0, 1), radius, height), revolved([(0, -depth), (foot, -depth), (radius, 0), (0, 0)])])
    outside = fused([outside, box(0, radius - wide, base, radius * 1.8, wide, high)])
    cone = revolved([(0, -depth - 5), (foot - own - 5 * slope, -depth - 5), (radius - own, 0), (0, 0)])
    inlet = box(0, radius - wide + wall, base + wall, radius * 1.8 + 1, wide - 2 * wall, high - 2 * wall)
    inside = fused([cylinder((0, 0, 0), (0, 0, 1), radius - wall, height - wall), cone, inlet])
    pipe = cut(
        cylinder((0, 0, height * 0.3), (0, 0, 1), 13.87, height * 0.7 + 25), cylinder((0, 0, 0), (0, 0, 1), 13.87 - wall, height + 99)
    )
    return cut(fused([cut(outside, inside), pipe]), cylinder((0, 0, height * 0.3), (0, 0, 1), 13.87 - wall, height + 99))


def scoop(radius: float = 41.0, wall: float = 1.6, length: float = 108.0) -> TopoDS_Shape:
    """A cup cut open along its length, so that the upper half of its end is left as a wedge that thins out; a handle stands on the end."""
    cup = cut(cylinder((0, 0, 0), (1, 0, 0), radius, length), cylinder((wall, 0, 0), (1, 0, 0), radius - wall, length))
    cup = cut(cup, turned(box(0, -99, 2, 300, 198, 200), (length * 0.1, 0, 2), (0, 1, 0), 1.7))
    handle = cut(cylinder((-60, 0, -14), (1, 0, 0), 11, 60.8), cylinder((-61, 0, -14), (1, 0, 0), 11 - wall, 61))
    return fused([cup, handle])


def _section(x: float, y: float, wide: float, high: float) -> list[Corner]:
    return [(x, y - wide, -high), (x, y + wide, -high), (x, y + wide, high), (x, y - wide, high)]


def _lofted(sections: list[list[Corner]]) -> TopoDS_Shape:
    loft = BRepOffsetAPI_ThruSections(True, False)
    for corners in sections:
        wire = BRepBuilderAPI_MakeWire()
        for a, b in pairwise([*corners, corners[0]]):
            wire.Add(BRepBuilderAPI_MakeEdge(gp_Pnt(*a), gp_Pnt(*b)).Edge())
        loft.AddWire(wire.Wire())
    loft.Build()
    return loft.Shape()


def offset_duct(wall: float = 1.5) -> TopoDS_Shape:
    """A duct of square section that widens and swings to one side, with a flange."""
    stations = [(0.0, 0.0, 30.8, 30.7), (79.8, 0.0, 43.6, 27.3), (159.7, 29.4, 55.5, 26.0), (239.5, 36.0, 31.8, 32.0)]
    outer = [_section(*station) for station in stations]
    inner = [_section(x, y, wide - wall, high - wall) for x, y, wide, high in stations]
    duct = cut(_lofted(outer), _lofted(inner))
    flange = cut(box(0, -45.6, -45.6, wall, 91.2, 91.2), box(-1, -30.8 + wall, -30.7 + wall, 9, 61.6 - 2 * wall, 61.4 - 2 * wall))
    return fused([duct, flange])


PARTS = {"tank": tank, "drum_on_cone": drum_on_cone, "scoop": scoop, "offset_duct": offset_duct}


if __name__ == "__main__":
    write_all(PARTS)
