"""The surface midway between two sides of a wall: an exact carrier where there is one, and a chart to draw on.

A middle is the zero set of half the difference of the two sides' signed distances, so
every point on it lies as deep under one side as under the other. Bisector planes,
coaxial cylinders, cones and tori and concentric spheres are recognised; any other pair
keeps the difference itself and borrows a chart from a surface near it.
"""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass
from typing import Any, cast

import numpy as np

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import FREE, Carrier, Floats, offset, unit
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.midsurface.charts import Chart, ConeChart, CylinderChart, FacetChart, PlaneChart, TorusChart, sphere_chart
from kind_rivet.core.midsurface.fields import CarrierField, FacetField, Field, settle, signed_distance
from kind_rivet.core.midsurface.prisms import PrismChart
from kind_rivet.core.midsurface.round_charts import tube_chart
from kind_rivet.core.midsurface.tube_charts import DOUBT, SLOT, TIP, TubeChart, tube_ends

SHORTER = 0.8  # of the other's area: a side that is much smaller
SLOTTED = 0.9  # a side with a border shorter than this share of the other's is laid flat: ribs leave slots in the other
FLAT_CONE = np.radians(75.0)  # half angle of a cone that is drawn on as on a plane
ASLANT = 0.8  # least cosine between a wall and a cone or cylinder it is drawn on as on
STRAIGHT = 5  # points along a short straight line on a curved middle
ROUNDS = 8  # Newton steps to a place on a middle
EXACT = 1e-11  # walls: steps that change nothing


@dataclass(frozen=True)
class Between:
    """Half the difference of two signed distances: zero midway, growing towards `first`."""

    first: Field
    second: Field
    share: float = 0.5  # how deep under the first side, in walls

    def __call__(self, p: Floats) -> tuple[Floats, Floats]:
        va, ga = self.first(p)
        vb, gb = self.second(p)
        w = 1.0 - self.share
        return w * va - self.share * vb, w * ga - self.share * gb


@dataclass(eq=False)
class Middle:
    """One wall's middle: `sides` are the faces on its two sides, `samples` points of the solid's medial axis on it."""

    carrier: Carrier
    chart: Chart
    field: Field
    first: Field
    second: Field
    sides: tuple[set[int], set[int]]
    wall: float  # typical thickness
    samples: Floats
    around: float = 0.0  # thickest wall near by
    near: tuple[int, ...] = ()  # the middles near by
    least_reach: float = 0.0
    corner: bool = False  # a bend put round a corner whose roundings have two axes; it touches the middles of both walls
    lines: list[int] = dataclasses.field(default_factory=list)

    def place(self, uv: Floats, exact: float = EXACT) -> Floats:
        """Points (n, 3) on the middle for places (n, 2) on the chart: found along the chart's normal, so that `flat` leads back.

        `exact`: walls that a step may be long for the next to be left out.
        """
        p = self.chart.lift(uv)
        if self.carrier.kind == "plane":
            return p
        n = self.chart.normal(uv)
        moving = np.arange(len(p))
        for _ in range(ROUNDS):
            value, gradient = self.field(p[moving])
            slope = np.einsum("ij,ij->i", gradient, n[moving])
            step = np.clip(value / np.where(np.abs(slope) < 0.1, np.where(slope < 0, -0.1, 0.1), slope), -self.wall, self.wall)
            p[moving] -= step[:, None] * n[moving]
            moving = moving[np.abs(step) > exact * self.wall]
            if not len(moving):
                break
        return p

    def straight(self, start: Floats, end: Floats) -> Floats:
        """Points (n, 3) from one of its places (3,) to another, straight on the chart; n is 2 where it is plane."""
        if self.carrier.kind == "plane":
            return np.array([start, end])
        flat = self.chart.flat(np.array([start, end]))
        share = np.linspace(0.0, 1.0, STRAIGHT)[1:-1, None]
        return np.vstack((start, self.place(flat[0] + share * (flat[1] - flat[0])), end))

    def thickness(self, p: Floats) -> Floats:
        return -(self.first(p)[0] + self.second(p)[0])

    def normal(self, p: Floats) -> Floats:
        """Unit normals (n, 3), towards the first side."""
        return unit(self.field(p)[1])

    @property
    def reach(self) -> float:
        """How far beyond the wall itself lines are looked for."""
        return max(3.0 * self.around, self.least_reach)

    @property
    def uniform(self) -> bool:
        """Is the wall equally thick everywhere (to a thousandth)?"""
        t = self.thickness(self.samples)
        return bool(np.ptp(t) <= 2e-3 * self.wall)


def middle_of(
    shape: Shape, a: int, b: int, first: Field, second: Field, wall: float, samples: Floats, tolerance: float, share: float = 0.5
) -> Middle:
    """The middle between faces a and b; `samples` (n, 3) lie near it."""
    between = Between(first, second, share)
    samples, _ = settle(samples, [between])
    carrier = _carrier(shape, first, second, samples, between, tolerance)
    chart = _chart(carrier, shape, (a, b), first, second, wall, samples)
    if carrier.kind == "free":
        exact: Field = between
    else:
        _, gradient = signed_distance(carrier, samples)
        _, wanted = between(samples)
        exact = CarrierField(carrier, 1.0 if np.einsum("ij,ij->", gradient, wanted) > 0 else -1.0)
    return Middle(carrier, chart, exact, first, second, ({a}, {b}), wall, samples)


def _carrier(shape: Shape, first: Field, second: Field, samples: Floats, between: Between, tolerance: float) -> Carrier:
    """The exact carrier, `FREE` where there is none; it must fit the samples within the tolerance."""
    if not isinstance(first, CarrierField) or not isinstance(second, CarrierField):
        return _flat(samples, between, tolerance)
    a, b = first.carrier, second.carrier
    found = FREE
    if a.kind == b.kind == "plane":
        n = unit(first.sign * a.array[3:6] * (1 - between.share) - second.sign * b.array[3:6] * between.share)
        found = Carrier("plane", (*samples.mean(axis=0), *n))
    elif a.kind == b.kind == "sphere" and np.linalg.norm(a.array[:3] - b.array[:3]) < tolerance:
        found = Carrier("sphere", (*a.data[:3], float(np.linalg.norm(samples - a.array[:3], axis=1).mean())))
    elif a.kind == b.kind == "torus":
        axial = abs(a.array[3:6] @ b.array[3:6]) > 1 - 1e-9 and np.linalg.norm(a.array[:3] - b.array[:3]) < tolerance
        if axial and abs(a.data[6] - b.data[6]) < tolerance:
            w = between.share
            found = Carrier("torus", (*a.data[:7], (1 - w) * a.data[7] + w * b.data[7]))
    elif {a.kind, b.kind} <= {"cylinder", "cone"}:
        found = _coaxial(a, b, samples, tolerance)
    elif {a.kind, b.kind} == {"plane", "cone"}:
        found = _coaxial(*((a, b) if a.kind == "cone" else (b, a)), samples, tolerance)
    if found.kind != "free" and np.abs(signed_distance(found, samples)[0]).max() <= tolerance:
        return found
    return _flat(samples, between, tolerance)


def _flat(samples: Floats, between: Between, tolerance: float) -> Carrier:
    """A plane, where samples and gradients say so."""
    centre = samples.mean(axis=0)
    if len(samples) >= 6:
        _, _, axes = np.linalg.svd(samples - centre, full_matrices=False)
        n = axes[2]
        spread = np.ptp((samples - centre) @ axes[0])
        if np.abs((samples - centre) @ n).max() <= tolerance and np.ptp((samples - centre) @ axes[1]) > 0.02 * spread:
            return Carrier("plane", (*centre, *n))
    return FREE


def _coaxial(a: Carrier, b: Carrier, samples: Floats, tolerance: float) -> Carrier:
    """Cylinder or cone midway between a coaxial cylinder, cone, or plane square to the axis, and another: in the half plane
    (height, radius) both are lines.
    """
    axis = a.array[3:6]
    if abs(axis @ b.array[3:6]) < 1 - 1e-9:
        return FREE
    away = b.array[:3] - a.array[:3]
    if b.kind != "plane" and np.linalg.norm(away - (away @ axis) * axis) > tolerance:
        return FREE
    q = samples - a.array[:3]
    h = q @ axis
    rho = np.linalg.norm(q - h[:, None] * axis, axis=1)
    if np.ptp(rho) <= tolerance:
        return Carrier("cylinder", (*a.data[:3], *axis, float(rho.mean())))
    if np.ptp(h) <= tolerance:
        return FREE
    slope, base = np.polyfit(h, rho, 1)
    if np.abs(base + slope * h - rho).max() > tolerance or abs(slope) < 1e-9:
        return FREE
    apex = a.array[:3] - base / slope * axis
    return Carrier("cone", (*apex, *(np.sign(slope) * axis), float(np.arctan(abs(slope)))))


def less_slotted(sides: list[FacetField]) -> FacetField:
    """The side of a free wall to lay flat: that with more facets, but not if ribs that stand on it leave slots in it, which open when it is laid flat."""
    border = [_border_length(side) for side in sides]
    rank = [(length < SLOTTED * max(border), len(side.tree.facets)) for side, length in zip(sides, border, strict=True)]
    return sides[max(range(len(sides)), key=rank.__getitem__)]


def _smaller_first(sides: list[FacetField]) -> list[FacetField]:
    """Sides with one first that is much smaller than the other, which then runs on where the wall between them does not; else the less slotted one."""
    area = []
    for side in sides:
        p = side.tree.points[side.tree.facets]
        area.append(float(np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1).sum()))
    if min(area) < SHORTER * max(area):
        return [sides[k] for k in np.argsort(area)]
    best = less_slotted(sides)
    return [best, *(side for side in sides if side is not best)]


def _border_length(side: FacetField) -> float:
    """Length of the sides that only one facet has."""
    facets = side.tree.facets
    ends = np.sort(np.concatenate((facets[:, :2], facets[:, 1:], facets[:, ::2])), axis=1)
    lone, count = np.unique(ends, axis=0, return_counts=True)
    a, b = (side.tree.points[lone[count == 1, k]] for k in (0, 1))
    return float(np.linalg.norm(b - a, axis=1).sum())


def chart_over(carrier: Carrier, samples: Floats) -> Chart | None:
    """The flat map of an exact carrier that serves a wall at samples (n, 3): which way a torus closes depends on where they are. None for free ones."""
    if carrier.kind == "cone" and carrier.data[6] > FLAT_CONE:  # seen along its axis: else it would be cut from border to centre
        carrier = Carrier("plane", carrier.data[:6])
    makers: dict[str, Any] = {"plane": PlaneChart, "cylinder": CylinderChart, "cone": ConeChart, "torus": TorusChart}
    if carrier.kind == "sphere":
        return sphere_chart(carrier, samples)
    return makers[carrier.kind].over(carrier, samples) if carrier.kind in makers else None


def _chart(carrier: Carrier, shape: Shape, faces: tuple[int, int], first: Field, second: Field, wall: float, samples: Floats) -> Chart:
    """A flat map of the neighbourhood of the middle."""
    if carrier.kind == "free":  # borrow the chart of the simplest carrier near it
        for side in (first, second):
            if isinstance(side, CarrierField):
                near = offset(side.carrier, samples[0], side(samples[:1])[1][0], -wall / 2)
                if near.kind == "plane" or near.data[-1] > 1e-6 * wall:
                    carrier = near
                    break
    if (exact := chart_over(carrier, samples)) is not None:
        return exact
    return chart_between(first, second, wall, samples)


def chart_between(first: Field, second: Field, wall: float, samples: Floats) -> Chart:
    """A flat map of a freely curved middle at samples (n, 3). Raises `Refused` where there is none."""
    sides = [s for s in (first, second) if isinstance(s, FacetField)]
    if not sides:  # two exact sides with nothing exact between them
        raise Refused(
            "A wall between two sides that do not belong together cannot be laid flat.", "Leave it out, or choose its sides by hand."
        )
    return _free_chart(sides, Between(first, second), wall, samples)


def _free_chart(sides: list[FacetField], between: Between, wall: float, samples: Floats) -> Chart:
    """The middle rolled off where it is a prism; else its facets laid flat, or what leads along and round a tube. Raises `Refused`."""
    shorter = _smaller_first(sides)
    for side in shorter:
        if (prism := PrismChart.over(side, between, wall)) is not None:
            return cast(Chart, prism)
    slot = DOUBT if any(tube_ends(side.tree.points, side.tree.facets.astype(np.int64)) is None for side in sides) else SLOT
    tubes = (tube for side in shorter if (tube := TubeChart.around(side, between, wall, slot=slot)) is not None)
    if (steep := next(tubes, None)) is not None and steep.steep:
        return steep
    flat = trouble = None
    try:
        flat = FacetChart.over(less_slotted(sides), between, wall)
    except Refused as refused:
        trouble = refused
    if flat is not None and not flat.stretched:
        return flat
    if steep is not None:
        return steep
    normals = unit(between(samples)[1])
    made = tube_chart(samples, normals) or flat
    if made is None or np.abs(np.einsum("ij,ij->i", made.normal(made.flat(samples)), normals)).min() < ASLANT:
        tips = (tube for side in shorter if (tube := TubeChart.around(side, between, wall, TIP)) is not None)
        made = next((tube for tube in tips if tube.steep), made)
    if made is None:
        assert trouble is not None
        raise trouble
    return made
