#!/usr/bin/env python3
"""Draw made-up parts whose walls meet in awkward ways, and write them as STEP: leaning ducts, rounded corners, gussets at the very end, darts across bends.

    python examples/draw_joined_parts.py [FOLDER] [NAME ...]

They serve the tests; none is kept in the repository.
"""

from __future__ import annotations

import math
from collections.abc import Callable

from draw_moulded_parts import at_height, rounded_box
from draw_parts import box, cut, prism, write_all
from draw_thin_parts import cylinder, fused, rounded, turned, without
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeWire
from OCP.BRepOffsetAPI import BRepOffsetAPI_ThruSections
from OCP.gp import gp_Ax2, gp_Circ, gp_Dir, gp_Pnt
from OCP.TopoDS import TopoDS_Shape


def _between_circles(low: tuple[float, float, float, float], high: tuple[float, float, float, float]) -> TopoDS_Shape:
    """A solid with straight lines from one circle (x, y, z, radius) to another."""
    made = BRepOffsetAPI_ThruSections(True, True)
    for x, y, z, radius in (low, high):
        circle = gp_Circ(gp_Ax2(gp_Pnt(x, y, z), gp_Dir(0, 0, 1)), radius)
        made.AddWire(BRepBuilderAPI_MakeWire(BRepBuilderAPI_MakeEdge(circle).Edge()).Wire())
    made.Build()
    return made.Shape()


def leaning_duct() -> TopoDS_Shape:
    """A duct that leans from a bolted flange to a narrower collar: freely curved, and closed."""
    outer = _between_circles((0, 0, 0, 45), (12, -14, 50, 40))
    collar = cut(cylinder((12, -14, 50), (0, 0, 1), 40, 18), cylinder((12, -14, 49), (0, 0, 1), 38, 20))
    flange = cut(cylinder((0, 0, -2.4), (0, 0, 1), 62, 2.4), cylinder((0, 0, -4), (0, 0, 1), 43, 9))
    duct = fused([cut(outer, _between_circles((0, 0, 0, 43), (12, -14, 50, 38))), collar, flange])
    return without(duct, [cylinder((x, y, -4), (0, 0, 1), 3.5, 8) for x, y in ((53, 0), (-53, 0), (0, 53), (0, -53))])


def rounded_tray() -> TopoDS_Shape:
    """A deep tray whose corners are hardly wider than its rounded bottom; one wall is cut out from above."""
    outer = rounded(rounded_box(0, 0, 0, 115, 97, 37, 5.7), 4.6, at_height(0))
    inner = rounded(rounded_box(2, 2, 2, 111, 93, 40, 3.7), 2.6, at_height(2))
    return cut(cut(outer, inner), box(40, -5, 22, 35, 10, 20))


def bowed_tray() -> TopoDS_Shape:
    """A tray with a rounded bottom, whose upright corners are sharp: the bottom's bends meet aslant."""
    outer = rounded(box(0, 0, 0, 76, 108, 30), 3.6, at_height(0))
    return cut(outer, rounded(box(1.9, 1.9, 1.9, 72.2, 104.2, 40), 1.7, at_height(1.9)))


def end_gusset() -> TopoDS_Shape:
    """An angle with a steep gusset flush with its end, and holes close to the edges of its foot."""
    angle = fused([box(0, 0, 0, 139, 60, 4), box(0, 0, 0, 139, 2.4, 85)])
    gussets = [prism([(x, 2, 3.9), (x, 44, 3.9), (x, 2, 68)], {}, (3.6, 0, 0)) for x in (0, 80)]
    return without(fused([angle, *gussets]), [cylinder((x, y, -1), (0, 0, 1), 2.9, 9) for x, y in ((110, 54.2), (133, 30), (40, 50))])


def proud_gussets() -> TopoDS_Shape:
    """A post on a plate; its gussets stand a hundredth of a millimetre above its rim."""
    gusset = prism([(9.6, -0.9, 2.9), (26, -0.9, 2.9), (9.6, -0.9, 18.01)], {}, (0, 1.8, 0))
    body = fused(
        [
            box(-40, -40, 0, 80, 80, 3),
            cylinder((0, 0, 2.9), (0, 0, 1), 11, 15.1),
            *(turned(gusset, (0, 0, 0), (0, 0, 1), 90 * k) for k in range(4)),
        ]
    )
    return without(body, [cylinder((0, 0, 3), (0, 0, 1), 8.8, 40)])


def lever(long: float = 105.0, radii: tuple[float, float] = (19.0, 14.0), web: float = 2.6, rim: float = 2.6) -> TopoDS_Shape:
    """Two hubs with bores, a web between them and a rim all round: the rim's round ends lie close to the hubs, about the same middles."""
    sine = (radii[0] - radii[1]) / long
    cosine = math.sqrt(1 - sine * sine)

    def outline(z: float, high: float, inside: float) -> TopoDS_Shape:
        (r0, r1) = (r - inside for r in radii)
        corners = [(r0 * sine, r0 * cosine, z), (long + r1 * sine, r1 * cosine, z)]
        sides = prism([*corners, *((x, -y, z) for x, y, _ in reversed(corners))], {}, (0, 0, high))
        return fused([sides, cylinder((0, 0, z), (0, 0, 1), r0, high), cylinder((long, 0, z), (0, 0, 1), r1, high)])

    part = without(outline(-8, 16, 0), [outline(web / 2, 16, rim), outline(-web / 2 - 16, 16, rim)])
    hubs = [cylinder((x, 0, -8.5), (0, 0, 1), r, 17) for x, r in ((0, 10.2), (long, 7.6))]
    bores = [cylinder((x, 0, -20), (0, 0, 1), r, 40) for x, r in ((0, 7.6), (long, 5.4))]
    return without(fused([part, *hubs]), bores)


def darted_bracket() -> TopoDS_Shape:
    """A bent angle whose bend is stiffened by a dart pressed across it: a half pipe whose radius is hardly more than an element."""
    c = math.sqrt(0.5)
    outline = [(0.0, y, z) for y, z in ((-1, 50), (-1, 4.5), (4.5, -1), (56, -1), (56, 1), (4.5, 1), (1, 4.5), (1, 50))]
    bends = {1: (0.0, 4.5 - 5.5 * c, 4.5 - 5.5 * c), 5: (0.0, 4.5 - 3.5 * c, 4.5 - 3.5 * c)}
    angle = prism(outline, bends, (72, 0, 0))

    def pipe(radius: float, low: float) -> TopoDS_Shape:
        bar = cylinder((36, -40, 56), (0, c, -c), radius, 140)
        return cut(cut(bar, box(0, -90, -90, 72, 90 + low, 240)), box(0, -90, -90, 72, 240, 90 + low))

    dented = cut(fused([angle, pipe(6.8, -1)]), pipe(4.8, -2))
    return without(dented, [cylinder((x, 40, -3), (0, 0, 1), 3.3, 6) for x in (12, 60)])


PARTS: dict[str, Callable[[], TopoDS_Shape]] = {
    "leaning_duct": leaning_duct,
    "rounded_tray": rounded_tray,
    "bowed_tray": bowed_tray,
    "end_gusset": end_gusset,
    "proud_gussets": proud_gussets,
    "lever": lever,
    "darted_bracket": darted_bracket,
}


if __name__ == "__main__":
    write_all(PARTS)
