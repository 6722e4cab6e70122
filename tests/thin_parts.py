"""Seeded thin-walled solids drawn with the CAD kernel: walls that meet, step, taper, bend, with ribs and holes."""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass

import numpy as np
from OCP.BRepAlgoAPI import BRepAlgoAPI_Common, BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeWire, BRepBuilderAPI_Transform
from OCP.BRepOffsetAPI import BRepOffsetAPI_ThruSections
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder, BRepPrimAPI_MakeRevol
from OCP.collections import List_TopoDS_Shape
from OCP.gp import gp_Ax1, gp_Ax2, gp_Dir, gp_Pnt, gp_Trsf
from OCP.ShapeUpgrade import ShapeUpgrade_UnifySameDomain
from OCP.TopAbs import TopAbs_SOLID
from OCP.TopExp import TopExp_Explorer
from OCP.TopoDS import TopoDS_Shape

from kind_rivet.core.geometry.kernel.facets import facet_shape
from kind_rivet.core.geometry.shape import Shape


@dataclass(frozen=True)
class ThinPart:
    """What was drawn: a name for its kind, the solid, its thinnest wall, and whether walls taper."""

    kind: str
    solid: Shape
    wall: float
    tapers: bool


def draw(seed: int) -> ThinPart:
    """One of seven kinds, at random measures, scale and attitude."""
    rng = np.random.default_rng(seed)
    kinds = (tray, tray, profile, profile, tube, steps, turned_part)
    make = kinds[seed % len(kinds)]
    part, wall, tapers = make(rng)
    scale = float(10.0 ** rng.uniform(-1.5, 1.5))
    move = gp_Trsf()
    axis = gp_Dir(*(rng.normal(size=3)))
    move.SetRotation(gp_Ax1(gp_Pnt(0, 0, 0), axis), float(rng.uniform(0, 6)))
    size = gp_Trsf()
    size.SetScale(gp_Pnt(0, 0, 0), scale)
    part = BRepBuilderAPI_Transform(part, size.Multiplied(move), True).Shape()
    walk = TopExp_Explorer(part, TopAbs_SOLID)
    return ThinPart(make.__name__, facet_shape(walk.Current()), wall * scale, tapers)


def box(x: float, y: float, z: float, dx: float, dy: float, dz: float) -> TopoDS_Shape:
    return BRepPrimAPI_MakeBox(gp_Pnt(x, y, z), dx, dy, dz).Shape()


def cylinder(at: tuple[float, float, float], along: tuple[float, float, float], radius: float, length: float) -> TopoDS_Shape:
    return BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(*at), gp_Dir(*along)), radius, length).Shape()


def combined(make, first: TopoDS_Shape, rest: list[TopoDS_Shape]) -> TopoDS_Shape:  # type: ignore[no-untyped-def]
    if not rest:
        return first
    a, b = List_TopoDS_Shape(), List_TopoDS_Shape()
    a.Append(first)
    for shape in rest:
        b.Append(shape)
    work = make()
    work.SetArguments(a)
    work.SetTools(b)
    work.Build()
    simple = ShapeUpgrade_UnifySameDomain(work.Shape(), True, True, False)
    simple.Build()
    return simple.Shape()


def fused(first: TopoDS_Shape, rest: list[TopoDS_Shape]) -> TopoDS_Shape:
    return combined(BRepAlgoAPI_Fuse, first, rest)


def cut(first: TopoDS_Shape, rest: list[TopoDS_Shape]) -> TopoDS_Shape:
    return combined(BRepAlgoAPI_Cut, first, rest)


def frustum(x: float, y: float, z: float, dx: float, dy: float, height: float, lean: float) -> TopoDS_Shape:
    loft = BRepOffsetAPI_ThruSections(True, True)
    for k, h in ((0.0, 0.0), (lean, height)):
        corners = [(x + k, y + k), (x + dx - k, y + k), (x + dx - k, y + dy - k), (x + k, y + dy - k)]
        wire = BRepBuilderAPI_MakeWire()
        for a, b in itertools.pairwise([*corners, corners[0]]):
            wire.Add(BRepBuilderAPI_MakeEdge(gp_Pnt(*a, z + h), gp_Pnt(*b, z + h)).Edge())
        loft.AddWire(wire.Wire())
    loft.Build()
    return loft.Shape()


def tray(rng: np.random.Generator) -> tuple[TopoDS_Shape, float, bool]:
    """A tray, sharp or drafted, with ribs along, across and oblique, pads and holes."""
    t, b = float(rng.uniform(1, 2.5)), float(rng.uniform(1, 3))
    dx, dy, h = float(rng.uniform(50, 120)), float(rng.uniform(40, 90)), float(rng.uniform(12, 30))
    drafted = bool(rng.random() < 0.35)
    lean = h * math.tan(math.radians(float(rng.uniform(0.5, 2.5)))) if drafted else 0.0
    outer = frustum(0, 0, 0, dx, dy, h, -lean) if drafted else box(0, 0, 0, dx, dy, h)
    part = cut(
        outer,
        [
            frustum(t, t, b, dx - 2 * t, dy - 2 * t, h, -1.6 * lean * h / max(h - b, 1e-9))
            if drafted
            else box(t, t, b, dx - 2 * t, dy - 2 * t, h)
        ],
    )
    parts: list[TopoDS_Shape] = []
    r = t * float(rng.uniform(0.5, 1.0))
    top = float(rng.uniform(0.35, 1.0)) * h
    taken_x: list[float] = []
    for _ in range(int(rng.integers(0, 4))):
        x = float(rng.uniform(8, dx - 8 - r))
        if all(abs(x - other) > 6 * t for other in taken_x):
            taken_x.append(x)
            parts.append(box(x, t / 2 - lean, b / 2, r, dy - t + 2 * lean, top - b / 2))
    if rng.random() < 0.6:
        y = float(rng.uniform(8, dy - 8 - r))
        whole = rng.random() < 0.5
        x0, x1 = (t / 2 - lean, dx - t / 2 + lean) if whole else (float(rng.uniform(6, 0.3 * dx)), float(rng.uniform(0.6 * dx, dx - 6)))
        if all(abs(x0 - x) > 5 * t and abs(x1 - x) > 5 * t for x in taken_x):
            parts.append(box(x0, y, b / 2, x1 - x0, r, float(rng.uniform(0.5, 0.95)) * top - b / 2))
    if drafted:  # ribs follow the leaning walls
        parts = [combined(BRepAlgoAPI_Common, p, [frustum(t / 2, t / 2, 0, dx - t, dy - t, h, -lean)]) for p in parts]
    part = fused(part, parts)
    knives: list[TopoDS_Shape] = []
    spots: list[tuple[float, float, float]] = []
    for _ in range(int(rng.integers(0, 5))):
        radius = float(rng.uniform(1.5, 4))
        x, y = float(rng.uniform(radius + 4 + t, dx - radius - 4 - t)), float(rng.uniform(radius + 4 + t, dy - radius - 4 - t))
        if all(math.hypot(x - a, y - c) > radius + q + 3 for a, c, q in spots) and all(
            not x - radius - 3 < v < x + radius + 3 for v in taken_x
        ):
            spots.append((x, y, radius))
            knives.append(cylinder((x, y, -5), (0, 0, 1), radius, b + 6))
    return cut(part, knives), min(t, b, r if parts else t), drafted


def profile(rng: np.random.Generator) -> tuple[TopoDS_Shape, float, bool]:
    """An extruded section of plates: L, T, I, H, Z, +, channel with lips, oblique web."""
    t, s = float(rng.uniform(1, 3)), float(rng.uniform(1, 3))
    w, h, length = float(rng.uniform(25, 60)), float(rng.uniform(20, 50)), float(rng.uniform(50, 140))
    kind = int(rng.integers(0, 8))
    flange, web = box(0, -w / 2, 0, length, w, t), box(0, -s / 2, 0, length, s, h)
    other = box(0, -w / 2, h - t, length, w, t)
    lots = {
        0: [box(0, 0, 0, length, w, t), box(0, 0, 0, length, s, h)],
        1: [flange, web],
        2: [flange, web, other],
        3: [box(0, -w / 2, 0, length, t, h), box(0, w / 2 - t, 0, length, t, h), box(0, -w / 2, h / 2 - s / 2, length, w, s)],
        4: [box(0, 0, 0, length, w / 2, t), box(0, 0, 0, length, s, h), box(0, -w / 2 + s, h - t, length, w / 2, t)],
        5: [box(0, -w / 2, h / 2 - t / 2, length, w, t), web],
        6: [flange, box(0, -w / 2, 0, length, s, h), box(0, w / 2 - s, 0, length, s, h), box(0, -w / 2, h - t, length, w / 4, t), box(0, w / 4, h - t, length, w / 4, t)],
        7: [flange, turned(box(0, -s / 2, 0, length, s, h), float(rng.uniform(15, 35)))],
    }  # fmt: skip
    part = fused(lots[kind][0], lots[kind][1:])
    knives: list[TopoDS_Shape] = []
    for k in range(int(rng.integers(0, 4))):
        radius = float(rng.uniform(1.5, 0.12 * w))
        knives.append(cylinder((length * (k + 1) / 5, w / 4, -1), (0, 0, 1), radius, t + 2 if kind != 3 else 0.5))
    if kind == 7:  # the web runs below the flange: cut level
        part = cut(part, [box(-1, -2 * w, -40, length + 2, 4 * w, 40)])
    return cut(part, knives) if kind in (1, 2, 7) else part, min(t, s), False


def turned(shape: TopoDS_Shape, degrees: float) -> TopoDS_Shape:
    move = gp_Trsf()
    move.SetRotation(gp_Ax1(gp_Pnt(0, 0, 0), gp_Dir(1, 0, 0)), math.radians(degrees))
    return BRepBuilderAPI_Transform(shape, move, True).Shape()


def tube(rng: np.random.Generator) -> tuple[TopoDS_Shape, float, bool]:
    """A box tube with webs or a round one with a flange and a saddle plate; holes across."""
    t, length = float(rng.uniform(1, 2.5)), float(rng.uniform(50, 120))
    if rng.random() < 0.5:
        w, h = float(rng.uniform(20, 50)), float(rng.uniform(20, 50))
        part = cut(box(0, 0, 0, length, w, h), [box(-1, t, t, length + 2, w - 2 * t, h - 2 * t)])
        webs = [box(0, w * f, t / 2, length, t, h - t) for f in ((0.5,) if rng.random() < 0.6 else (0.3, 0.65))]
        part = fused(part, webs if rng.random() < 0.7 else [])
        return cut(part, [cylinder((length / 3, w / 5, -1), (0, 0, 1), min(3.0, w / 12), t + 2)]), t, False
    r = float(rng.uniform(8, 25))
    f = float(rng.uniform(1, 1.5)) * t
    part = cut(cylinder((0, 0, 0), (0, 0, 1), r, length), [cylinder((0, 0, -1), (0, 0, 1), r - t, length + 2)])
    plates: list[TopoDS_Shape] = []
    if rng.random() < 0.7:
        z = float(rng.choice([0.0, length / 2]))
        plates.append(cut(cylinder((0, 0, z), (0, 0, 1), r + 15, f), [cylinder((0, 0, z - 1), (0, 0, 1), r - t / 2, f + 2)]))
    if rng.random() < 0.5:
        plates.append(box(r - t / 2, -f / 2, length * 0.2, 14, f, length * 0.5))
    part = fused(part, plates)
    return cut(part, [cylinder((-2 * r, 0, length * 0.85), (1, 0, 0), min(4.0, r / 3), 2 * r)]), t, False


def steps(rng: np.random.Generator) -> tuple[TopoDS_Shape, float, bool]:
    """A plate of several thicknesses, flush or centred, along one way or as pads."""
    t = float(rng.uniform(1, 3))
    w = float(rng.uniform(30, 60))
    centred = bool(rng.random() < 0.5)
    x, parts = 0.0, []
    for _ in range(int(rng.integers(2, 5))):
        dx, h = float(rng.uniform(20, 45)), t * float(rng.uniform(1.0, 1.7))
        parts.append(box(x, 0, -h / 2 if centred else 0.0, dx, w, h))
        x += dx
    part = fused(parts[0], parts[1:])
    if rng.random() < 0.4:
        part = fused(part, [box(x * 0.3, 0, 0.3 * t, x * 0.3, t, 15.0)])
    return cut(part, [cylinder((10, w / 2, -9), (0, 0, 1), 4.0, 18)]), t, False


def turned_part(rng: np.random.Generator) -> tuple[TopoDS_Shape, float, bool]:
    """A turned shell: cup, cone with flange, stepped pipe."""
    t = float(rng.uniform(1, 2.5))
    r, h = float(rng.uniform(15, 35)), float(rng.uniform(15, 40))
    kind = int(rng.integers(0, 3))
    if kind == 0:
        rings = [(0, 0), (r, 0), (r, h), (r - t, h), (r - t, t), (0, t)]
    elif kind == 1:
        a = math.radians(float(rng.uniform(10, 40)))
        k = t / math.cos(a)
        top = h * math.tan(a)
        rings = [(r, 0), (r + k, 0), (r + k + top, h), (r + top + 18, h), (r + top + 18, h + t), (r + (h + t) * math.tan(a), h + t)]
    else:
        rings = [(r - t, 0), (r, 0), (r, h), (r + 10, h), (r + 10, 2 * h), (r + 10 - t, 2 * h), (r + 10 - t, h + t), (r - t, h + t)]
    wire = BRepBuilderAPI_MakeWire()
    for a, b in itertools.pairwise([*rings, rings[0]]):
        wire.Add(BRepBuilderAPI_MakeEdge(gp_Pnt(a[0], 0, a[1]), gp_Pnt(b[0], 0, b[1])).Edge())
    part = BRepPrimAPI_MakeRevol(BRepBuilderAPI_MakeFace(wire.Wire()).Face(), gp_Ax1(gp_Pnt(0, 0, 0), gp_Dir(0, 0, 1))).Shape()
    if rng.random() < 0.5:
        part = cut(part, [cylinder((0, 0, h * 0.5), (1, 0, 0), 0.15 * h, 2 * r + 60)])
    return part, t, False
