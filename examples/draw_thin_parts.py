#!/usr/bin/env python3
"""Draw made-up thin-walled parts whose walls meet, step, taper and curve, and write them as STEP.

    python examples/draw_thin_parts.py [FOLDER] [NAME ...]

They serve the tests and benchmarks of midsurfaces; none is kept in the repository.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable

from draw_parts import box, cut, only_solid, prism, write_all
from OCP.BRep import BRep_Builder, BRep_Tool
from OCP.BRepAlgoAPI import BRepAlgoAPI_Common, BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeWire, BRepBuilderAPI_Transform
from OCP.BRepFilletAPI import BRepFilletAPI_MakeFillet
from OCP.BRepGProp import BRepGProp
from OCP.BRepOffset import BRepOffset_MakeSimpleOffset
from OCP.BRepOffsetAPI import BRepOffsetAPI_MakeThickSolid, BRepOffsetAPI_ThruSections
from OCP.BRepPrimAPI import BRepPrimAPI_MakeCylinder, BRepPrimAPI_MakeRevol, BRepPrimAPI_MakeSphere
from OCP.collections import Array2_gp_Pnt, List_TopoDS_Shape
from OCP.GC import GC_MakeArcOfCircle
from OCP.GeomAPI import GeomAPI_PointsToBSplineSurface
from OCP.gp import gp_Ax1, gp_Ax2, gp_Dir, gp_Pnt, gp_Trsf, gp_Vec
from OCP.GProp import GProp_GProps
from OCP.ShapeUpgrade import ShapeUpgrade_UnifySameDomain
from OCP.TopAbs import TopAbs_EDGE, TopAbs_FACE
from OCP.TopExp import TopExp, TopExp_Explorer
from OCP.TopoDS import TopoDS, TopoDS_Compound, TopoDS_Shape


def cylinder(at: tuple[float, float, float], along: tuple[float, float, float], radius: float, length: float) -> TopoDS_Shape:
    return BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(*at), gp_Dir(*along)), radius, length).Shape()


def fused(parts: Iterable[TopoDS_Shape]) -> TopoDS_Shape:
    """All parts as one solid without needless edges."""
    lots = list(parts)
    first, rest = List_TopoDS_Shape(), List_TopoDS_Shape()
    first.Append(lots[0])
    for part in lots[1:]:
        rest.Append(part)
    union = BRepAlgoAPI_Fuse()
    union.SetArguments(first)
    union.SetTools(rest)
    union.Build()
    return unified(union.Shape())


def unified(shape: TopoDS_Shape) -> TopoDS_Shape:
    simple = ShapeUpgrade_UnifySameDomain(shape, True, True, False)
    simple.Build()
    return simple.Shape()


def without(part: TopoDS_Shape, knives: Iterable[TopoDS_Shape]) -> TopoDS_Shape:
    for knife in knives:
        part = cut(part, knife)
    return part


def drilled(part: TopoDS_Shape, knives: Iterable[TopoDS_Shape]) -> TopoDS_Shape:
    """The part without many knives that do not touch each other, in one go."""
    first, rest = List_TopoDS_Shape(), List_TopoDS_Shape()
    first.Append(part)
    for knife in knives:
        rest.Append(knife)
    cutter = BRepAlgoAPI_Cut()
    cutter.SetArguments(first)
    cutter.SetTools(rest)
    cutter.Build()
    return cutter.Shape()


def turned(shape: TopoDS_Shape, at: tuple[float, float, float], axis: tuple[float, float, float], degrees: float) -> TopoDS_Shape:
    move = gp_Trsf()
    move.SetRotation(gp_Ax1(gp_Pnt(*at), gp_Dir(*axis)), math.radians(degrees))
    return BRepBuilderAPI_Transform(shape, move, True).Shape()


def revolved(profile: list[tuple[float, float]]) -> TopoDS_Shape:
    """A closed profile of (radius, height) corners turned round the z axis."""
    wire = BRepBuilderAPI_MakeWire()
    for k, (r, z) in enumerate(profile):
        r2, z2 = profile[(k + 1) % len(profile)]
        wire.Add(BRepBuilderAPI_MakeEdge(gp_Pnt(r, 0, z), gp_Pnt(r2, 0, z2)).Edge())
    return BRepPrimAPI_MakeRevol(BRepBuilderAPI_MakeFace(wire.Wire()).Face(), gp_Ax1(gp_Pnt(0, 0, 0), gp_Dir(0, 0, 1))).Shape()


def on_circle(count: int, radius: float, turn: float = 0.0) -> list[tuple[float, float]]:
    return [(radius * math.cos(turn + 2 * math.pi * k / count), radius * math.sin(turn + 2 * math.pi * k / count)) for k in range(count)]


def rounded(shape: TopoDS_Shape, radius: float, choose: Callable[[gp_Pnt, gp_Pnt], bool]) -> TopoDS_Shape:
    """Fillets on all edges whose two end points are chosen."""
    fillet = BRepFilletAPI_MakeFillet(shape)
    walk = TopExp_Explorer(shape, TopAbs_EDGE)
    seen: set[int] = set()
    while walk.More():
        edge = TopoDS.Edge(walk.Current())
        walk.Next()
        if hash(edge) in seen:
            continue
        seen.add(hash(edge))
        a, b = (BRep_Tool.Pnt_s(v(edge, False)) for v in (TopExp.FirstVertex_s, TopExp.LastVertex_s))
        if choose(a, b):
            fillet.Add(radius, edge)
    fillet.Build()
    return fillet.Shape()


def frustum(x: float, y: float, z: float, dx: float, dy: float, height: float, draft: float) -> TopoDS_Shape:
    """A box whose four sides lean inwards by `draft` degrees towards the top (negative: outwards)."""
    lean = height * math.tan(math.radians(draft))
    loft = BRepOffsetAPI_ThruSections(True, True)
    for k, h in ((0.0, 0.0), (lean, height)):
        corners = [(x + k, y + k), (x + dx - k, y + k), (x + dx - k, y + dy - k), (x + k, y + dy - k)]
        wire = BRepBuilderAPI_MakeWire()
        for i in range(4):
            a, b = corners[i], corners[(i + 1) % 4]
            wire.Add(BRepBuilderAPI_MakeEdge(gp_Pnt(*a, z + h), gp_Pnt(*b, z + h)).Edge())
        loft.AddWire(wire.Wire())
    loft.Build()
    return loft.Shape()


def sharp_rail(t: float = 2.0) -> TopoDS_Shape:
    outer = [
        (0.0, 0.0, 0.0),
        (0.0, 40.0, 0.0),
        (0.0, 40.0, 20.0),
        (0.0, 40 - t, 20.0),
        (0.0, 40 - t, t),
        (0.0, t, t),
        (0.0, t, 20.0),
        (0.0, 0.0, 20.0),
    ]
    return prism(outer, {}, (80, 0, 0))


def bent_rail(t: float = 2.0, r: float = 3.0) -> TopoDS_Shape:
    q, s = math.sqrt(0.5), r + t
    w, h = 40.0, 24.0
    corners = [
        (0.0, s, 0.0), (0.0, w - s, 0.0), (0.0, w, s), (0.0, w, h), (0.0, w - t, h), (0.0, w - t, s),
        (0.0, w - s, t), (0.0, s, t), (0.0, t, s), (0.0, t, h), (0.0, 0.0, h), (0.0, 0.0, s),
    ]  # fmt: skip
    arcs = {
        1: (0.0, w - s + s * q, s - s * q), 5: (0.0, w - s + r * q, s - r * q),
        7: (0.0, s - r * q, s - r * q), 11: (0.0, s - s * q, s - s * q),
    }  # fmt: skip
    return prism(corners, arcs, (80, 0, 0))


def box_tube(t: float = 2.0) -> TopoDS_Shape:
    tube = cut(box(0, 0, 0, 90, 30, 40), box(-1, t, t, 92, 30 - 2 * t, 40 - 2 * t))
    return without(tube, [cylinder((30, -1, 20), (0, 1, 0), 5, 32), cylinder((60, 15, -1), (0, 0, 1), 6, 42)])


def round_tube(t: float = 1.5) -> TopoDS_Shape:
    tube = cut(cylinder((0, 0, 0), (1, 0, 0), 15, 90), cylinder((-1, 0, 0), (1, 0, 0), 15 - t, 92))
    return without(tube, [cylinder((30, 0, -20), (0, 0, 1), 5, 40), cylinder((60, -20, 0), (0, 1, 0), 4, 40)])


def ribbed_plate(t: float = 2.0, rib: float = 1.6) -> TopoDS_Shape:
    """A plate with a long rib, a crossing one, an oblique one and one that ends in the middle."""
    oblique = turned(box(60, 15, 0, 30, rib, 10), (75, 15, 0), (0, 0, 1), 35)
    ribs = [box(10, 40, 0, 40, rib, 14), box(30, 25, 0, rib, 32, 14), oblique, box(0, 60, 0, 100, rib, 9)]
    return fused([box(0, 0, -t, 100, 70, t), *ribs])


def ribbed_plate_blends() -> TopoDS_Shape:
    part = fused([box(0, 0, -2, 100, 70, 2), box(10, 34, 0, 80, 2, 15), box(49, 10, 0, 2, 50, 15)])
    return rounded(part, 1.5, lambda a, b: abs(a.Z()) < 1e-6 and abs(b.Z()) < 1e-6)


def stepped_flush() -> TopoDS_Shape:
    return fused([box(0, 0, 0, 40, 50, 2), box(40, 0, 0, 30, 50, 3), box(70, 0, 0, 40, 50, 2.4)])


def stepped_centred() -> TopoDS_Shape:
    return fused([box(0, 0, -1, 40, 50, 2), box(40, 0, -1.5, 30, 50, 3), box(70, 0, -1.2, 40, 50, 2.4)])


def drafted_tray() -> TopoDS_Shape:
    return cut(frustum(0, 0, 0, 90, 60, 25, -2.0), frustum(3, 3, 2.5, 84, 54, 30, -4.0))


def cone_flange(t: float = 2.0) -> TopoDS_Shape:
    """A cone that opens into a flange with bolt holes."""
    h = t / math.cos(math.radians(30.0))
    profile = [
        (12.0, 0.0),
        (12.0 + h, 0.0),
        (30.0, (18 - h) / math.tan(math.radians(30.0))),
        (48.0, (18 - h) / math.tan(math.radians(30.0))),
    ]
    top = profile[-1][1] + t
    inner_r = 12.0 + top * math.tan(math.radians(30.0))
    profile += [(48.0, top), (inner_r, top)]
    return without(revolved(profile), [cylinder((x, y, 0), (0, 0, 1), 2.5, 60) for x, y in on_circle(6, 41)])


def moulded_cover() -> TopoDS_Shape:
    """A drafted shell with ribs, two bosses and blends outside and in."""
    shell = cut(frustum(0, 0, 0, 80, 55, 22, 2.0), frustum(2, 2, -1, 76, 51, 21, 2.0))
    ribs = [frustum(1, 26.9, 9, 78, 1.2, 11.5, 0.0), frustum(39.4, 1, 9, 1.2, 53, 11.5, 0.0)]
    bosses = [cylinder((x, 14.0, 6.0), (0, 0, 1), 3.5, 14.5) for x in (20.0, 60.0)]
    inside = frustum(1, 1, 0, 78, 53, 21.5, 2.0)
    part = fused([shell, *(BRepAlgoAPI_Common(s, inside).Shape() for s in (*ribs, *bosses))])
    part = without(part, [cylinder((x, 14.0, -1.0), (0, 0, 1), 2.2, 30) for x in (20.0, 60.0)])
    return rounded(part, 1.5, lambda a, b: a.Z() > 21.9 and b.Z() > 21.9 and min(a.X(), b.X(), a.Y(), b.Y()) < 12)


def louvre(t: float = 1.2) -> TopoDS_Shape:
    """A freely curved sheet of one thickness."""
    grid = Array2_gp_Pnt(1, 8, 1, 8)
    for i in range(8):
        for j in range(8):
            x, y = 12.0 * i, 9.0 * j
            grid.SetValue(i + 1, j + 1, gp_Pnt(x, y, 8 * math.sin(x / 30) + 4 * math.cos(y / 22) + 0.002 * x * y))
    face = BRepBuilderAPI_MakeFace(GeomAPI_PointsToBSplineSurface(grid).Surface(), 1e-6).Face()
    offset = BRepOffset_MakeSimpleOffset(face, t)
    offset.SetBuildSolidFlag(True)
    offset.Perform()
    return offset.GetResultShape()


def bracket(t: float, length: float, height: float) -> TopoDS_Shape:
    return fused([box(0, 0, 0, length, 30, t), box(0, 0, 0, t, 30, height)])


def lapped_brackets() -> TopoDS_Shape:
    """Two brackets, one lying on the other: two bodies."""
    move = gp_Trsf()
    move.SetTranslation(gp_Vec(20, 0, 2.0))
    second = BRepBuilderAPI_Transform(bracket(1.5, 50, 20), move, True).Shape()
    both, build = TopoDS_Compound(), BRep_Builder()
    build.MakeCompound(both)
    build.Add(both, only_solid(bracket(2.0, 60, 25)))
    build.Add(both, only_solid(second))
    return both


def perforated_tray(nx: int = 20, ny: int = 10, t: float = 1.5) -> TopoDS_Shape:
    """A sharp-cornered tray with nx × ny holes in its floor."""
    dx, dy = 10.0 * nx + 20, 10.0 * ny + 20
    tray = cut(box(0, 0, 0, dx, dy, 20), box(t, t, t, dx - 2 * t, dy - 2 * t, 20))
    return drilled(tray, [cylinder((15 + 10 * i, 15 + 10 * j, -1), (0, 0, 1), 2.5, 5) for i in range(nx) for j in range(ny)])


def _upright(a: gp_Pnt, b: gp_Pnt) -> bool:
    return abs(a.X() - b.X()) < 1e-6 and abs(a.Y() - b.Y()) < 1e-6 and abs(a.Z() - b.Z()) > 10


def pocket_part() -> TopoDS_Shape:
    """Milled from the solid: pockets between ribs, a wall round it, pads and holes."""
    part = box(0, 0, 0, 120, 80, 18)
    pockets = [box(2 + 39.5 * i, 2 + 38.75 * j, 2, 37, 36.25, 20) for i in range(3) for j in range(2)]
    part = without(part, pockets)
    part = rounded(part, 1.5, lambda a, b: _upright(a, b) and 1 < a.X() < 119 and 1 < a.Y() < 79)
    pads = [cylinder((20.5, 20, 1), (0, 0, 1), 8, 2.5), cylinder((99.5, 59, 1), (0, 0, 1), 8, 2.5)]
    part = fused([part, *pads])
    return without(part, [cylinder((20.5, 20, -1), (0, 0, 1), 3, 9), cylinder((60, 20, -1), (0, 0, 1), 5, 9)])


def hollowed(shape: TopoDS_Shape, wall: float, open_at: Callable[[gp_Pnt], bool]) -> TopoDS_Shape:
    """A shell inside a solid, open where faces with a chosen centre were."""
    gone = List_TopoDS_Shape()
    walk = TopExp_Explorer(shape, TopAbs_FACE)
    while walk.More():
        face, mass = TopoDS.Face(walk.Current()), GProp_GProps()
        walk.Next()
        BRepGProp.SurfaceProperties_s(face, mass)
        if open_at(mass.CentreOfMass()):
            gone.Append(face)
    shell = BRepOffsetAPI_MakeThickSolid()
    shell.MakeThickSolidByJoin(shape, gone, -wall, 1e-4)
    shell.Build()
    return shell.Shape()


def drawn_pan() -> TopoDS_Shape:
    """Deep-drawn: corners curved both ways, a lightening hole, bolt holes, a hole in a side."""
    block = rounded(box(0, 0, 0, 100, 70, 30), 10, lambda a, b: _upright(a, b))
    block = rounded(block, 4, lambda a, b: a.Z() < 1e-6 and b.Z() < 1e-6)
    pan = hollowed(block, 2, lambda c: c.Z() > 29.9)
    holes = [cylinder((x, 35, -1), (0, 0, 1), r, 5) for x, r in ((50, 12), (20, 4), (80, 4))]
    return without(pan, [*holes, cylinder((50, -1, 15), (0, 1, 0), 5, 10)])


def fork_bracket() -> TopoDS_Shape:
    """A base with two rounded lugs whose eyes lie close to their edges."""
    part = fused([box(0, 0, 0, 70, 50, 6), box(20, 5, 0, 30, 5, 45), box(20, 40, 0, 30, 5, 45)])
    part = without(
        part, [cylinder((35, -1, 30), (0, 1, 0), 7, 60), *(cylinder((x, y, -1), (0, 0, 1), 3.5, 10) for x in (9, 61) for y in (12, 38))]
    )
    return rounded(part, 12, lambda a, b: a.Z() > 44.9 and b.Z() > 44.9 and abs(a.Y() - b.Y()) > 1)


def rimmed_wheel() -> TopoDS_Shape:
    """Hub, conical web with holes and rim: closed walls that meet in rings."""
    profile = [(10, 0), (14, 0), (14, 8), (40, 12), (40, 4), (44, 4), (44, 20), (40, 20), (40, 15), (14, 11), (14, 20), (10, 20)]
    return without(revolved(profile), [cylinder((x, y, 0), (0, 0, 1), 6, 30) for x, y in on_circle(6, 27)])


def _duct_solid(grow: float) -> TopoDS_Shape:
    loft = BRepOffsetAPI_ThruSections(True, False)
    square, ring = BRepBuilderAPI_MakeWire(), BRepBuilderAPI_MakeWire()
    half, radius = 30 + grow, 20 + grow
    corners = [(-half, -half), (half, -half), (half, half), (-half, half)]
    for i in range(4):
        a, b = corners[i], corners[(i + 1) % 4]
        square.Add(BRepBuilderAPI_MakeEdge(gp_Pnt(*a, 0), gp_Pnt(*b, 0)).Edge())
        at = [gp_Pnt(radius * math.cos(t), radius * math.sin(t), 60) for t in (math.radians(225 + 90 * i + 45 * k) for k in range(3))]
        ring.Add(BRepBuilderAPI_MakeEdge(GC_MakeArcOfCircle(*at).Value()).Edge())
    loft.AddWire(square.Wire())
    loft.AddWire(ring.Wire())
    loft.Build()
    return loft.Shape()


def duct() -> TopoDS_Shape:
    """From square to round: ridges that fade, a wall that is not equally thick everywhere."""
    return cut(_duct_solid(2.0), _duct_solid(0.0))


def lattice_panel() -> TopoDS_Shape:
    """Three families of ribs that nearly meet in points, as on a stiffened skin."""
    ribs = [turned(box(k * 30, -60, 0, 2, 260, 10), (k * 30, 50, 0), (0, 0, 1), way) for k in range(-2, 8) for way in (30, -30)]
    ribs += [box(0, y, 0, 150, 2, 10) for y in (0, 26, 52, 78)]
    return BRepAlgoAPI_Common(fused([box(0, 0, 0, 150, 100, 1.5), *ribs]), box(0, 0, 0, 150, 100, 12)).Shape()


def stamped_cup() -> TopoDS_Shape:
    """A drawn cup with a flange; the corners inside do not face those outside, so slivers lie between its walls."""
    outer = [(0, 0), (24, 0), (26, 1), (27, 3), (27, 30), (28, 32), (30, 33), (44, 33)]
    inner = [(44, 34.2), (29.8, 34.2), (27.2, 33), (25.8, 30.3), (25.8, 3.2), (25.2, 1.8), (24, 1.2), (0, 1.2)]
    return without(revolved([*outer, *inner]), [cylinder((x, y, 20), (0, 0, 1), 3, 30) for x, y in on_circle(3, 36)])


def flanged_pipe() -> TopoDS_Shape:
    """A pipe end with a flange and four bolt holes as near to its border as they may be."""
    pipe = revolved([(10, 0), (12, 0), (12, 36), (24, 36), (24, 40), (10, 40)])
    return without(pipe, [cylinder((x, y, 30), (0, 0, 1), 2.5, 20) for x, y in on_circle(4, 18, math.pi / 4)])


def ribbed_lid() -> TopoDS_Shape:
    """A lid whose eight ribs meet a boss; within the boss its floor is thicker."""
    lid = revolved([(0, 0), (50, 0), (50, 18), (48, 18), (48, 2), (0, 2)])
    hub = cut(cylinder((0, 0, 1), (0, 0, 1), 7, 14), cylinder((0, 0, 3), (0, 0, 1), 4.5, 20))
    ribs = [turned(box(6, -0.8, 1, 43, 1.6, 9), (0, 0, 0), (0, 0, 1), 45 * k) for k in range(8)]
    return fused([lid, hub, *(cut(rib, cylinder((0, 0, 0), (0, 0, 1), 5, 30)) for rib in ribs)])


def branch_pipe() -> TopoDS_Shape:
    """Three pipes of one radius that meet in a point."""

    def legs(radius: float) -> TopoDS_Shape:
        up = cylinder((0, 0, 0), (0, 0, 1), radius, 60)
        return fused([cylinder((0, 0, -50), (0, 0, 1), radius, 50), *(turned(up, (0, 0, 0), (1, 0, 0), way) for way in (35, -35))])

    bore = cylinder((0, 0, 0), (0, 0, 1), 13, 70)
    return without(
        legs(15), [fused([cylinder((0, 0, -60), (0, 0, 1), 13, 60), *(turned(bore, (0, 0, 0), (1, 0, 0), way) for way in (35, -35))])]
    )


def bead_panel() -> TopoDS_Shape:
    """A pressed panel with two half-round beads that rise from it without a radius."""

    def bead(y: float, radius: float) -> TopoDS_Shape:
        ends = [BRepPrimAPI_MakeSphere(gp_Pnt(x, y, 0), radius).Shape() for x in (25, 85)]
        return fused([cylinder((25, y, 0), (1, 0, 0), radius, 60), *ends])

    panel = box(0, 0, 0, 110, 70, 1)
    for y in (22, 48):
        panel = fused([panel, BRepAlgoAPI_Common(bead(y, 6), box(0, 0, 0, 110, 70, 20)).Shape()])
        panel = cut(panel, bead(y, 5))
    return panel


PARTS: dict[str, Callable[[], TopoDS_Shape]] = {
    "sharp_rail": sharp_rail, "bent_rail": bent_rail, "box_tube": box_tube, "round_tube": round_tube, "ribbed_plate": ribbed_plate,
    "ribbed_plate_blends": ribbed_plate_blends, "stepped_flush": stepped_flush, "stepped_centred": stepped_centred,
    "drafted_tray": drafted_tray, "cone_flange": cone_flange, "moulded_cover": moulded_cover, "louvre": louvre,
    "lapped_brackets": lapped_brackets, "perforated_tray": perforated_tray, "pocket_part": pocket_part,
    "drawn_pan": drawn_pan, "fork_bracket": fork_bracket, "rimmed_wheel": rimmed_wheel, "duct": duct, "lattice_panel": lattice_panel,
    "stamped_cup": stamped_cup, "flanged_pipe": flanged_pipe, "ribbed_lid": ribbed_lid, "branch_pipe": branch_pipe, "bead_panel": bead_panel,
}  # fmt: skip


if __name__ == "__main__":
    write_all(PARTS, {"lapped_brackets"})
