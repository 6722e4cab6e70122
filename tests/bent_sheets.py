"""Seeded bent-sheet solids drawn with the CAD kernel: folded strips with holes, slots, notches and cut corners."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeWire
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder, BRepPrimAPI_MakePrism
from OCP.GC import GC_MakeArcOfCircle
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt, gp_Vec
from OCP.TopAbs import TopAbs_SOLID
from OCP.TopExp import TopExp_Explorer
from OCP.TopoDS import TopoDS_Shape

from kind_rivet.core.geometry.kernel.facets import facet_shape
from kind_rivet.core.geometry.shape import Shape


@dataclass(frozen=True)
class BentSheet:
    """What was drawn: the solid, its wall, element size to try, holes cut and the largest bend share."""

    solid: Shape
    wall: float
    size: float
    holes: int


def draw(seed: int) -> BentSheet:
    """A folded strip: 1–4 bends with radius, holes in the flats, now and then a slot, a notch, a hole on a bend."""
    rng = np.random.default_rng(seed)
    scale = float(rng.choice([0.1, 1.0, 1.0, 1.0, 10.0]))
    t = float(rng.uniform(0.8, 3.0)) * scale
    depth = float(rng.uniform(30, 160)) * scale
    bends = int(rng.integers(1, 5))
    lengths = [float(rng.uniform(18, 70)) * scale for _ in range(bends + 1)]
    angles = [float(rng.choice([90, 90, 90, 45, 60, 120, 30])) * float(rng.choice([-1, 1])) for _ in range(bends)]
    radii = [t * float(rng.choice([0.6, 1.0, 1.0, 2.0, 4.0])) + t / 2 for _ in range(bends)]
    if sum(angles) > 230 or sum(angles) < -230:
        angles = [a * (-1) ** k for k, a in enumerate(abs(x) for x in angles)]
    left, right, flats = _path(lengths, angles, radii, t)
    solid = BRepPrimAPI_MakePrism(BRepBuilderAPI_MakeFace(_outline(left, right)).Face(), gp_Vec(0, depth, 0)).Shape()
    holes = 0
    for start, direction, length in flats:
        normal = np.array([-direction[1], direction[0]])
        taken: list[tuple[float, float, float]] = []
        for _ in range(int(rng.integers(0, 4))):
            r = float(rng.uniform(1.5, 7)) * scale
            margin = r + 3.0 * scale + t
            if length < 2 * margin or depth < 2 * margin:
                continue
            u, y = float(rng.uniform(margin, length - margin)), float(rng.uniform(margin, depth - margin))
            if any(math.hypot(u - a, y - b) < r + c + 4 * scale for a, b, c in taken):
                continue
            taken.append((u, y, r))
            at = start + u * direction - 3 * t * normal
            solid = _cut(
                solid, BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(at[0], y, at[1]), gp_Dir(normal[0], 0, normal[1])), r, 6 * t).Shape()
            )
            holes += 1
    if rng.random() < 0.4:  # a notch in the border of the first flat
        start, direction, _ = flats[0]
        w = float(rng.uniform(4, 10)) * scale
        y = depth / 2
        corner = start - 1.0 * direction
        solid = _cut(solid, _box(corner, direction, y - w / 2, w, float(rng.uniform(3, 8)) * scale, t))
    if rng.random() < 0.4:  # a corner cut off the last flat
        start, direction, length = flats[-1]
        solid = _cut(solid, _box(start + (length - 5 * scale) * direction, direction, -1.0 * scale, 7 * scale, 8 * scale, t))
    solid = TopExp_Explorer(solid, TopAbs_SOLID).Current()
    size = float(rng.choice([3.0, 4.0, 6.0])) * scale
    return BentSheet(facet_shape(solid, 2e-4, 0.1), t, size, holes)


def _cut(a: TopoDS_Shape, b: TopoDS_Shape) -> TopoDS_Shape:
    return BRepAlgoAPI_Cut(a, b).Shape()


def _box(corner: np.ndarray, direction: np.ndarray, y: float, width: float, reach: float, t: float) -> TopoDS_Shape:
    """A box through the sheet: `reach` along the flat, `width` along its depth."""
    normal = np.array([-direction[1], direction[0]])
    origin = corner - 3 * t * normal
    axes = gp_Ax2(gp_Pnt(origin[0], y, origin[1]), gp_Dir(normal[0], 0, normal[1]), gp_Dir(direction[0], 0, direction[1]))
    # The box's second axis is normal × direction: along −y or +y.
    second = np.cross((normal[0], 0, normal[1]), (direction[0], 0, direction[1]))
    if second[1] < 0:
        axes = gp_Ax2(gp_Pnt(origin[0], y + width, origin[1]), gp_Dir(normal[0], 0, normal[1]), gp_Dir(direction[0], 0, direction[1]))
    return BRepPrimAPI_MakeBox(axes, reach, width, 6 * t).Shape()


Piece = tuple[np.ndarray, np.ndarray, np.ndarray | None]


def _path(
    lengths: list[float], angles: list[float], radii: list[float], t: float
) -> tuple[list[Piece], list[Piece], list[tuple[np.ndarray, np.ndarray, float]]]:
    """Left and right outline pieces (start, end, point on the arc) and the flats (start, direction, length) of the middle line."""
    at, heading = np.zeros(2), 0.0
    left: list[Piece] = []
    right: list[Piece] = []
    flats = []
    for k, length in enumerate(lengths):
        d = np.array([math.cos(heading), math.sin(heading)])
        n = np.array([-d[1], d[0]])
        end = at + length * d
        left.append((at + t / 2 * n, end + t / 2 * n, None))
        right.append((at - t / 2 * n, end - t / 2 * n, None))
        flats.append((at, d, length))
        at = end
        if k < len(angles):
            turn, r = math.radians(angles[k]), radii[k]
            sense = 1.0 if turn > 0 else -1.0
            centre = at + sense * r * n
            after, half = heading + turn, heading + turn / 2

            def on(angle: float, offset: float, c: np.ndarray = centre, s: float = sense, radius: float = r) -> np.ndarray:
                m = np.array([-math.sin(angle), math.cos(angle)])
                return c - s * radius * m + offset * m

            left.append((on(heading, t / 2), on(after, t / 2), on(half, t / 2)))
            right.append((on(heading, -t / 2), on(after, -t / 2), on(half, -t / 2)))
            at, heading = on(after, 0.0), after
    return left, right, flats


def _outline(left: list[Piece], right: list[Piece]):  # type: ignore[no-untyped-def]
    wire = BRepBuilderAPI_MakeWire()

    def point(p: np.ndarray) -> gp_Pnt:
        return gp_Pnt(float(p[0]), 0.0, float(p[1]))

    def add(a: np.ndarray, b: np.ndarray, middle: np.ndarray | None) -> None:
        edge = (
            BRepBuilderAPI_MakeEdge(point(a), point(b))
            if middle is None
            else BRepBuilderAPI_MakeEdge(GC_MakeArcOfCircle(point(a), point(middle), point(b)).Value())
        )
        wire.Add(edge.Edge())

    for a, b, m in right:
        add(a, b, m)
    add(right[-1][1], left[-1][1], None)
    for a, b, m in reversed(left):
        add(b, a, m)
    add(left[0][0], right[0][0], None)
    return wire.Wire()
