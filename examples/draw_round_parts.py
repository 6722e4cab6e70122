#!/usr/bin/env python3
"""Draw made-up parts with walls that turn, bulge and end on others, and write them as STEP: elbows, wheels, beads, dimples, ribbed ends.

    python examples/draw_round_parts.py [FOLDER] [NAME ...]

They serve the tests; none is kept in the repository.
"""

from __future__ import annotations

import math
from collections.abc import Callable

from draw_parts import box, cut, write_all
from draw_thin_parts import cylinder, fused, on_circle, revolved, rounded, turned, without
from OCP.BRepAlgoAPI import BRepAlgoAPI_Common
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeWire
from OCP.BRepPrimAPI import BRepPrimAPI_MakeRevol, BRepPrimAPI_MakeSphere
from OCP.gp import gp_Ax1, gp_Ax2, gp_Circ, gp_Dir, gp_Pnt
from OCP.TopoDS import TopoDS_Shape


def _quarter_torus(ring: float, tube: float) -> TopoDS_Shape:
    """A quarter of a torus round z, from the x axis on."""
    circle = gp_Circ(gp_Ax2(gp_Pnt(ring, 0, 0), gp_Dir(0, 1, 0)), tube)
    face = BRepBuilderAPI_MakeFace(BRepBuilderAPI_MakeWire(BRepBuilderAPI_MakeEdge(circle).Edge()).Wire()).Face()
    return BRepPrimAPI_MakeRevol(face, gp_Ax1(gp_Pnt(0, 0, 0), gp_Dir(0, 0, 1)), math.pi / 2).Shape()


def branched_elbow(ring: float = 46.0, tube: float = 16.0, wall: float = 2.0) -> TopoDS_Shape:
    """A quarter elbow with straight ends and a flange with six bolt holes close to its rim; a branch stands where bend and straight end meet."""

    def filled(radius: float, beyond: float) -> TopoDS_Shape:
        ends = [cylinder((ring, 0, 0), (0, -1, 0), radius, 34 + beyond), cylinder((0, ring, 0), (-1, 0, 0), radius, 30 + beyond)]
        return fused([_quarter_torus(ring, radius), *ends])

    flange = cylinder((ring, -34, 0), (0, 1, 0), tube + 12, 3)
    branch = cylinder((ring, -5, 0), (0, 0, 1), tube / 2, tube + 18)
    part = cut(fused([filled(tube, 0), flange, branch]), filled(tube - wall, 1))
    part = cut(part, cylinder((ring, -5, 0), (0, 0, 1), tube / 2 - wall, tube + 19))
    return without(part, [cylinder((ring + x, -35, z), (0, 1, 0), 3, 5) for x, z in on_circle(6, tube + 7.2, 0.3)])


def spoked_wheel() -> TopoDS_Shape:
    """A rim, a hub that stands up higher and a floor, with seven radial ribs, one of them lower."""

    def tube(radius: float, wall: float, height: float) -> TopoDS_Shape:
        return cut(cylinder((0, 0, 0), (0, 0, 1), radius, height), cylinder((0, 0, -1), (0, 0, 1), radius - wall, height + 2))

    ribs = [turned(box(12.1, -1.6, 0, 65, 3.2, 10.1 if k == 0 else 10.8), (0, 0, 0), (0, 0, 1), 360 * k / 7) for k in range(7)]
    floor = cut(cylinder((0, 0, 0), (0, 0, 1), 77, 2.6), cylinder((0, 0, -1), (0, 0, 1), 12, 5))
    return fused([tube(78.5, 3.2, 13.5), tube(13.7, 3.2, 16.2), floor, *ribs])


def long_hub(count: int = 5, radius: float = 70.0, hub: float = 16.0) -> TopoDS_Shape:
    """A rim and a longer hub joined by flat spokes along the axis, lower than both."""
    rings = [((0.0, 0.0, -22.0), radius, 44.0, 3.0), ((0.0, 0.0, -30.0), hub, 60.0, 4.0)]
    tubes = [cut(cylinder(at, (0, 0, 1), r, high), cylinder(at, (0, 0, 1), r - wall, high)) for at, r, high, wall in rings]
    spoke = box(hub - 2, -1.5, -14, radius - hub + 1, 3, 28)
    return fused([*tubes, *(turned(spoke, (0, 0, 0), (0, 0, 1), 360 * k / count + 11) for k in range(count))])


def beaded_plate() -> TopoDS_Shape:
    """A flanged plate with two pressed beads with round ends, one sunk a little deeper than the other."""
    t, length, width = 1.8, 193.0, 119.0
    outside, inside = [], []
    for y, first, last, radius, sunk in ((39.8, 28.0, 171.5, 5.35, -1.1), (79.5, 21.7, 173.6, 5.35, -0.4)):

        def capsule(r: float, y: float = y, a: float = first, b: float = last, z: float = sunk) -> TopoDS_Shape:
            ends = [BRepPrimAPI_MakeSphere(gp_Pnt(x, y, z), r).Shape() for x in (a, b)]
            return fused([cylinder((a, y, z), (1, 0, 0), r, b - a), *ends])

        outside.append(BRepAlgoAPI_Common(capsule(radius + t), box(-9, -9, 0, length + 18, width + 18, 40)).Shape())
        inside.append(capsule(radius))
    plate = [box(0, 0, 0, length, width, t), box(0, 0, -16, length, t, 16 + t)]
    return without(fused([*plate, *outside]), inside)


def dimpled_plate() -> TopoDS_Shape:
    """A plate with a conical dimple that has a hole in its floor."""
    t, lean = 2.4, math.radians(36.0)
    shift = t / math.cos(lean) - t * math.tan(lean)
    outer = revolved([(0, t), (18.5, t), (18.5 - 8 * math.tan(lean), t + 8), (0, t + 8)])
    inner = revolved([(0, 0), (18.5 - shift, 0), (18.5 - shift - 8 * math.tan(lean), 8), (0, 8)])
    plate = cut(fused([box(-60, -45, 0, 120, 90, t), outer]), inner)
    return cut(plate, cylinder((0, 0, -1), (0, 0, 1), 5.7, 20))


def ribbed_end() -> TopoDS_Shape:
    """A channel with rounded edges that ends on a plate larger than itself."""
    outer, inner = box(0, 0, 0, 90, 40, 24), box(-1, 1.5, 1.5, 92, 37, 30)
    outer = rounded(outer, 3.5, lambda a, b: abs(a.Z()) + abs(b.Z()) < 1e-9 and abs(a.X() - b.X()) > 1)
    inner = rounded(inner, 2.0, lambda a, b: abs(a.Z() - 1.5) + abs(b.Z() - 1.5) < 1e-9 and abs(a.X() - b.X()) > 1)
    return fused([cut(outer, inner), box(-1.5, -8, -8, 1.5, 56, 40)])


def keyed_pulley() -> TopoDS_Shape:
    """A pulley with a slightly conical web, a keyway in its hub and four holes."""
    hub = revolved([(14.2, -13.2), (19.0, -13.2), (19.0, 13.2), (14.2, 13.2)])
    web = revolved([(16.6, -5.1), (80.3, -7.8), (80.3, -4.1), (16.6, -1.4)])
    rim = revolved([(78.8, -16.5), (81.8, -16.5), (81.8, 16.5), (78.8, 16.5)])
    holes = [cylinder((x, y, -40), (0, 0, 1), 7, 80) for x, y in on_circle(4, 48, math.pi / 4)]
    return without(fused([hub, web, rim]), [*holes, box(0, -2.5, -40, 15.7, 5, 80)])


def bellows(inner: float = 28.0, high: float = 6.3, wall: float = 1.4) -> TopoDS_Shape:
    """A tube with three sharp convolutions, whose crests are as narrow inside as the wall is thick and whose roots are narrower still outside."""
    middle, z = [(inner, 0.0), (inner, 11.0)], 11.0
    for _ in range(3):
        middle += [(inner + high, z + 2.6), (inner + high, z + 4.6), (inner, z + 7.2), (inner, z + 8.8)]
        z += 8.8
    middle.append((inner, z + 10.0))

    def beside(by: float) -> list[tuple[float, float]]:
        out = []
        for k, (r, h) in enumerate(middle):
            sides = [(middle[j], middle[j + 1]) for j in (k - 1, k) if 0 <= j < len(middle) - 1]
            normals = [((b[1] - a[1]) / math.dist(a, b), (a[0] - b[0]) / math.dist(a, b)) for a, b in sides]
            nr, nz = (sum(n[i] for n in normals) / len(normals) for i in (0, 1))
            mitre = by / (nr * nr + nz * nz)
            out.append((r + nr * mitre, h + nz * mitre))
        return out

    return revolved(beside(wall / 2) + beside(-wall / 2)[::-1])


def arched_rib(radius: float = 37.3, wall: float = 3.0) -> TopoDS_Shape:
    """A plate with a thinner rib along more than half a circle, both ends of which are flush with one side of the plate."""
    plate = box(-52, 0, -wall, 104, 95, wall)
    ring = cut(cylinder((0, 26.8, -1), (0, 0, 1), radius + 1, 27), cylinder((0, 26.8, -2), (0, 0, 1), radius - 1, 30))
    return fused([plate, BRepAlgoAPI_Common(ring, box(-52, 0, -1, 104, 95, 27)).Shape()])


def finned_collar() -> TopoDS_Shape:
    """A tube with a narrow collar inside its top; fins stand round it at uneven angles, up to the collar."""
    tube = cut(cylinder((0, 0, 0), (0, 0, 1), 24, 40), cylinder((0, 0, -1), (0, 0, 1), 22, 50))
    collar = cut(cylinder((0, 0, 38), (0, 0, 1), 23, 2), cylinder((0, 0, 30), (0, 0, 1), 19.2, 20))
    fins = [turned(box(23, -1, 0, 15, 2, 40), (0, 0, 0), (0, 0, 1), angle) for angle in (0, 70, 155, 250)]
    return fused([tube, collar, *fins])


PARTS: dict[str, Callable[[], TopoDS_Shape]] = {
    "arched_rib": arched_rib,
    "branched_elbow": branched_elbow,
    "spoked_wheel": spoked_wheel,
    "long_hub": long_hub,
    "beaded_plate": beaded_plate,
    "dimpled_plate": dimpled_plate,
    "ribbed_end": ribbed_end,
    "keyed_pulley": keyed_pulley,
    "bellows": bellows,
    "finned_collar": finned_collar,
}


if __name__ == "__main__":
    write_all(PARTS)
