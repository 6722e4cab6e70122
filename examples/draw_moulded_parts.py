#!/usr/bin/env python3
"""Draw made-up moulded, milled and spun parts with rounded corners, bosses, pads and blades, and write them as STEP.

    python examples/draw_moulded_parts.py [FOLDER] [NAME ...]

They serve the tests; none is kept in the repository.
"""

from __future__ import annotations

import math
from collections.abc import Callable

from draw_parts import box, cut, prism, write_all
from draw_thin_parts import cylinder, fused, on_circle, revolved, rounded, turned, without
from OCP.BRepAlgoAPI import BRepAlgoAPI_Common
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeWire
from OCP.BRepOffsetAPI import BRepOffsetAPI_MakePipe
from OCP.GC import GC_MakeArcOfCircle
from OCP.gp import gp_Ax2, gp_Circ, gp_Dir, gp_Pnt
from OCP.TopoDS import TopoDS_Shape

ROOT_HALF = 0.5**0.5


def upright(a: gp_Pnt, b: gp_Pnt) -> bool:
    return abs(a.X() - b.X()) < 0.01 and abs(a.Y() - b.Y()) < 0.01 and abs(a.Z() - b.Z()) > 0.01


def at_height(z: float) -> Callable[[gp_Pnt, gp_Pnt], bool]:
    return lambda a, b: abs(a.Z() - z) < 0.01 and abs(b.Z() - z) < 0.01


def rounded_box(x: float, y: float, z: float, dx: float, dy: float, dz: float, radius: float) -> TopoDS_Shape:
    return rounded(box(x, y, z, dx, dy, dz), radius, upright)


def moulded_tub() -> TopoDS_Shape:
    """Half a housing: rounded corners and bottom, screw posts near the corners, ribs into the rounded bottom."""
    outer = rounded(rounded_box(0, 0, 0, 60, 40, 16, 8), 3, at_height(0))
    inner = rounded(rounded_box(2, 2, 2, 56, 36, 20, 6), 1, at_height(2))
    posts = [cylinder((x, y, 1.5), (0, 0, 1), 3.2, 12) for x in (12, 48) for y in (12, 28)]
    ribs = [box(x - 0.6, 1, 1, 1.2, 38, 5) for x in (24, 36)]
    tub = fused([cut(outer, inner), *posts, *ribs])
    return without(tub, [cylinder((x, y, 4), (0, 0, 1), 1.4, 20) for x in (12, 48) for y in (12, 28)])


def window_frame() -> TopoDS_Shape:
    """A frame with a rim along its outer and its inner border; the walls round its corners are hardly wider than thick."""
    frame = cut(rounded_box(0, 0, 0, 140, 100, 12, 10), rounded_box(20, 20, -1, 100, 60, 20, 8))
    groove = cut(rounded_box(3, 3, 2.5, 134, 94, 20, 7), rounded_box(17, 17, 0, 106, 66, 30, 11))
    return cut(frame, groove)


def bladed_disc() -> TopoDS_Shape:
    """A disc with curved blades that stop a millimetre before its round border."""
    disc = cut(cylinder((0, 0, 0), (0, 0, 1), 50, 3), cylinder((0, 0, -1), (0, 0, 1), 8, 9))
    bow = cut(cut(cylinder((30, 18, 2.9), (0, 0, 1), 26, 14), cylinder((30, 18, 0), (0, 0, 1), 24, 30)), box(-40, -80, 0, 200, 98, 40))
    ring = cut(cylinder((0, 0, 0), (0, 0, 1), 49, 40), cylinder((0, 0, -1), (0, 0, 1), 14, 60))
    blade = BRepAlgoAPI_Common(bow, ring).Shape()
    return fused([disc, *(turned(blade, (0, 0, 0), (0, 0, 1), 72 * k) for k in range(5))])


def padded_plate() -> TopoDS_Shape:
    """A plate that is thicker round its four holes."""
    at = [(x, y) for x in (20, 100) for y in (20, 60)]
    plate = fused([box(0, 0, 0, 120, 80, 3), *(cylinder((x, y, 2.9), (0, 0, 1), 10, 2.1) for x, y in at)])
    return without(plate, [cylinder((x, y, -1), (0, 0, 1), 4, 10) for x, y in at])


def swaged_tube() -> TopoDS_Shape:
    """A tube that widens over a cone, with holes on its seams."""
    tube = revolved([(10, 0), (12, 0), (12, 30), (18, 40), (18, 80), (16, 80), (16, 40.6), (10, 30.6)])
    return without(tube, [cylinder((0, 0, 60), (1, 0, 0), 4, 30), cylinder((0, 0, 15), (0, 1, 0), 3, 30)])


def bent_pipe() -> TopoDS_Shape:
    """A pipe with a quarter bend."""
    at, middle, end, stop = (gp_Pnt(*p) for p in ((60, 0, 0), (60 + 30 * ROOT_HALF, 30 - 30 * ROOT_HALF, 0), (90, 30, 0), (90, 80, 0)))
    wire = BRepBuilderAPI_MakeWire(BRepBuilderAPI_MakeEdge(gp_Pnt(0, 0, 0), at).Edge())
    wire.Add(BRepBuilderAPI_MakeEdge(GC_MakeArcOfCircle(at, middle, end).Value()).Edge())
    wire.Add(BRepBuilderAPI_MakeEdge(end, stop).Edge())

    def swept(radius: float) -> TopoDS_Shape:
        circle = BRepBuilderAPI_MakeEdge(gp_Circ(gp_Ax2(gp_Pnt(0, 0, 0), gp_Dir(1, 0, 0)), radius)).Edge()
        face = BRepBuilderAPI_MakeFace(BRepBuilderAPI_MakeWire(circle).Wire()).Face()
        return BRepOffsetAPI_MakePipe(wire.Wire(), face).Shape()

    return cut(swept(8), swept(6.5))


def chamfered_bell() -> TopoDS_Shape:
    """A bell whose corner is chamfered by as much as its wall: both walls end just where they meet."""
    bell = revolved([(6, 0), (30, 0), (32, 2), (32, 30), (30, 30), (30, 3), (29, 2), (6, 2)])
    return without(bell, [cylinder((x, y, -1), (0, 0, 1), 5, 5) for x, y in on_circle(5, 18)])


def finned_disc() -> TopoDS_Shape:
    """A disc that gets thinner outwards, with a hub and straight fins."""
    disc = revolved([(5, 0), (40, 0), (40, 2), (12, 4), (8, 20), (5, 20)])
    return fused([disc, *(turned(box(7, -0.8, 1, 32, 1.6, 14), (0, 0, 0), (0, 0, 1), 60 * k) for k in range(6))])


def lens_ring() -> TopoDS_Shape:
    """A ring with a flange to each side, hardly at one height: between them lies a strip of a quarter millimetre."""
    profile = [(20, 0), (30, 0), (30, 3), (26, 3), (26, 18), (28, 20), (28, 22), (24.5, 22), (24.5, 19), (23.5, 18), (23.5, 2.5), (20, 2.5)]
    return revolved([(float(r), float(z)) for r, z in profile])


def yoke() -> TopoDS_Shape:
    """Two cheeks on a base; the hole in the base widens by a fillet that begins in its middle."""
    part = fused([box(0, 0, 0, 50, 50, 6), box(0, 0, 6, 6, 50, 50), box(44, 0, 6, 6, 50, 50)])
    part = without(part, [cylinder((-1, 25, 38), (1, 0, 0), 8, 60), cylinder((25, 25, -1), (0, 0, 1), 6, 10)])
    return rounded(part, 3, lambda a, b: at_height(6)(a, b) and abs(a.X() - b.X()) < 0.01)


def crank(wide: float = 17.95, narrow: float = 11.95) -> TopoDS_Shape:
    """Two hubs and a web between them, at half their height; by default it runs out beside the hubs, half as wide as they are."""
    hubs = [
        cut(cylinder((x, 0, 0), (0, 0, 1), r, 20), cylinder((x, 0, -1), (0, 0, 1), bore, 22)) for x, r, bore in ((0, 18, 14), (70, 12, 9))
    ]
    web = prism([(0.0, -wide, 8.0), (70.0, -narrow, 8.0), (70.0, narrow, 8.0), (0.0, wide, 8.0)], {}, (0, 0, 4))
    return fused([*hubs, without(web, [cylinder((0, 0, -1), (0, 0, 1), 16, 30), cylinder((70, 0, -1), (0, 0, 1), 10.5, 30)])])


def narrow_crank() -> TopoDS_Shape:
    return crank(12, 8)


def pocketed_disc() -> TopoDS_Shape:
    """A thick disc with hexagonal pockets: thin webs on a thin floor, a rim six times as thick."""
    disc, r = cylinder((0, 0, 0), (0, 0, 1), 40, 12), 9.0
    at = [(1.65 * r * i, (j + i % 2 / 2) * 1.1 * r * 3**0.5) for i in range(-3, 4) for j in range(-3, 4)]
    corners = [(r * math.cos(math.pi * k / 3), r * math.sin(math.pi * k / 3)) for k in range(6)]
    return without(disc, [prism([(x + u, y + v, 2.0) for u, v in corners], {}, (0, 0, 20)) for x, y in at if math.hypot(x, y) < 28])


def box_with_lugs() -> TopoDS_Shape:
    """Lugs twice as thick as the box, their eyes a tube as thick as its walls."""
    part = cut(box(0, 0, 0, 100, 60, 40), box(3, 3, 3, 94, 54, 40))
    for x in (20, 74):
        part = fused([part, box(x, -18, 28, 6, 18.5, 12), cylinder((x, -18, 34), (1, 0, 0), 6, 6)])
    return without(part, [cylinder((x - 1, -18, 34), (1, 0, 0), 3, 8) for x in (20, 74)])


def triangle_grid() -> TopoDS_Shape:
    """A plate with ribs in three directions that all cross in common points."""
    wide, high, pitch = 100.0, 60.0, 30.0
    row = pitch * 0.75**0.5
    ribs = [box(-5, j * row - 6, 1.2, wide + 10, 2, 8.3) for j in range(4)]
    for i in range(-3, 6):
        x = i * pitch + 8
        ribs += [turned(box(x - 60, -6, 1.2, 260, 2, 8.3), (x, -5, 0), (0, 0, 1), a) for a in (60, -60)]
    return fused([box(0, 0, 0, wide, high, 1.5), BRepAlgoAPI_Common(fused(ribs), box(0, 0, 1.2, wide, high, 8.3)).Shape()])


def finned_base() -> TopoDS_Shape:
    """Fins on one side of a plate, screw posts on the other, just between their feet."""
    at = [(x, y) for x in (12, 44) for y in (12, 48)]
    fins = [box(8 + 8 * i - 0.75, 10, 2.9, 1.5, 40, 20) for i in range(6)]
    part = fused([box(0, 0, 0, 56, 60, 3), *fins, *(cylinder((x, y, -8), (0, 0, 1), 5, 8.5) for x, y in at)])
    return without(part, [cylinder((x, y, -9), (0, 0, 1), 2, 9) for x, y in at])


def barbed_spout() -> TopoDS_Shape:
    """A turned spout with a flange and two barbs, each of which ends in a steep step."""
    return revolved([(6, 0), (8, 0), (8, 12), (10, 12.4), (8, 22), (10, 22.4), (8, 32), (8, 50), (22, 50), (22, 53), (6, 53)])


def vaned_wheel() -> TopoDS_Shape:
    """Two discs with slanting vanes between them that stop a millimetre before their round border."""
    wheel = fused(
        [cylinder((0, 0, 0), (0, 0, 1), 60, 2.5), cut(cylinder((0, 0, 22), (0, 0, 1), 60, 2.5), cylinder((0, 0, 20), (0, 0, 1), 28, 8))]
    )
    vane = turned(box(18, -1.2, 2.4, 42, 2.4, 19.7), (18, 0, 0), (0, 0, 1), 25)
    return fused([wheel, *(turned(vane, (0, 0, 0), (0, 0, 1), 40 * k) for k in range(9))])


def tray_with_catch() -> TopoDS_Shape:
    """An open tray; a catch lies half on the outside of one wall and stands up beyond it."""
    tray = cut(box(0, 0, 0, 90, 60, 20), box(2, 2, 2, 86, 56, 20))
    return fused([tray, box(89, 22, 8, 2, 16, 20)])


def braced_spigot() -> TopoDS_Shape:
    """A spigot on a flange, held by four steep gussets whose slanted tops run into it at 24°."""
    flange = rounded_box(-45, -30, 0, 90, 60, 5, 15)
    gusset = prism([(19, -2, 4.9), (30, -2, 4.9), (19, -2, 30)], {}, (0, 4, 0))
    body = fused([flange, cylinder((0, 0, 0), (0, 0, 1), 20, 60), *(turned(gusset, (0, 0, 0), (0, 0, 1), 90 * k) for k in range(4))])
    return without(
        body, [cylinder((0, 0, -1), (0, 0, 1), 17, 70)] + [cylinder((x, y, -1), (0, 0, 1), 4, 8) for x in (-34, 34) for y in (-19, 19)]
    )


def strutted_ring() -> TopoDS_Shape:
    """A ring with a flange below; struts thinner than the flange carry a cup in its middle, flush with the flange's underside."""
    ring = cut(cylinder((0, 0, 0), (0, 0, 1), 55, 25), cylinder((0, 0, -1), (0, 0, 1), 52, 30))
    flange = cut(rounded_box(-60, -60, 0, 120, 120, 4, 8), cylinder((0, 0, -1), (0, 0, 1), 52, 10))
    cup = cut(cylinder((0, 0, 0), (0, 0, 1), 20, 18), cylinder((0, 0, 2), (0, 0, 1), 18, 20))
    struts = [turned(box(18.5, -2, 0, 35, 4, 2), (0, 0, 0), (0, 0, 1), 90 * k + 45) for k in range(4)]
    return fused([ring, flange, cup, *struts])


def ribbed_bowl() -> TopoDS_Shape:
    """A tray with a rounded bottom; ribs part its small bends."""
    tray = cut(rounded(box(0, 0, 0, 150, 90, 30), 4.4, at_height(0)), rounded(box(3, 3, 3, 144, 84, 40), 1.4, at_height(3)))
    return fused([tray, box(1, 29, 1, 148, 2, 14), box(99, 1, 1, 2, 88, 14)])


def blended_shelf() -> TopoDS_Shape:
    """A shelf with a gusset flush with its side and a rib that ends on it; blends run on into each other in all inner corners."""
    gusset = prism([(3, 76, 3), (90, 76, 3), (90, 76, 12), (14, 76, 60), (3, 76, 60)], {}, (0, 4, 0))
    part = fused([box(0, 0, 0, 100, 80, 4), box(0, 0, 0, 4, 80, 66), gusset, box(3, 28, 3, 57, 3, 22)])

    def inner(a: gp_Pnt, b: gp_Pnt) -> bool:
        floor = all(abs(p.Z() - 4) < 0.01 for p in (a, b)) and not any(abs(a.Y() - y) + abs(b.Y() - y) < 0.01 for y in (0, 80))
        back = all(abs(p.X() - 4) < 0.01 for p in (a, b)) and not any(abs(a.Y() - y) + abs(b.Y() - y) < 0.01 for y in (0, 80))
        return (floor and not abs(a.X() - 100) + abs(b.X() - 100) < 0.01) or (back and not abs(a.Z() - 66) + abs(b.Z() - 66) < 0.01)

    return rounded(part, 2.8, inner)


PARTS: dict[str, Callable[[], TopoDS_Shape]] = {
    "moulded_tub": moulded_tub, "window_frame": window_frame, "bladed_disc": bladed_disc, "padded_plate": padded_plate,
    "swaged_tube": swaged_tube, "bent_pipe": bent_pipe, "chamfered_bell": chamfered_bell, "finned_disc": finned_disc, "lens_ring": lens_ring,
    "yoke": yoke, "crank": crank, "narrow_crank": narrow_crank, "pocketed_disc": pocketed_disc,
    "box_with_lugs": box_with_lugs, "triangle_grid": triangle_grid, "finned_base": finned_base,
    "barbed_spout": barbed_spout, "vaned_wheel": vaned_wheel, "tray_with_catch": tray_with_catch,
    "braced_spigot": braced_spigot, "strutted_ring": strutted_ring, "ribbed_bowl": ribbed_bowl,
    "blended_shelf": blended_shelf,
}  # fmt: skip


if __name__ == "__main__":
    write_all(PARTS)
