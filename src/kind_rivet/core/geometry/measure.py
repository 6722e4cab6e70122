"""Measuring: lengths, angles, circles, areas, distances, walls; each result comes with the line to draw."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Floats, unit
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape


@dataclass(frozen=True)
class Measured:
    """`value` in `unit` (length, area or degrees), in words, and the line (n, 3) that shows it."""

    value: float
    unit: str
    words: str
    line: Floats


def between_points(a: Floats, b: Floats) -> Measured:
    d = np.subtract(b, a)
    length = float(np.linalg.norm(d))
    return Measured(length, "length", f"distance {length:.5g} (x {d[0]:.5g}, y {d[1]:.5g}, z {d[2]:.5g})", np.array([a, b], float))


def circle_of_edge(shape: Shape, edge: int) -> Measured:
    """Centre and radius of a round edge. Raises `Refused` for others."""
    carrier = shape.edges[edge].carrier
    if carrier.kind != "circle":
        raise Refused("That edge is not round.", "Choose an arc or a circle.")
    c, r = carrier.array[:3], float(carrier.data[6])
    return Measured(
        r, "length", f"radius {r:.5g}, centre ({c[0]:.5g}, {c[1]:.5g}, {c[2]:.5g})", np.array([c, shape.points[shape.edges[edge].nodes[0]]])
    )


def circle_through(a: Floats, b: Floats, c: Floats) -> tuple[Floats, Floats, float]:
    """Centre, axis and radius of the circle through three points. Raises `Refused` for points in a line."""
    u, v = np.subtract(b, a), np.subtract(c, a)
    normal = np.cross(u, v)
    area = float(np.linalg.norm(normal))
    if area < 1e-9 * max(float(u @ u), float(v @ v), 1e-300):
        raise Refused("The three points lie in a line, so no circle runs through them.", "Choose a third point off the line.")
    centre = a + (np.cross(normal, u) * (v @ v) + np.cross(v, normal) * (u @ u)) / (2 * area**2)
    return centre, normal / area, float(np.linalg.norm(centre - a))


def circle_of_points(a: Floats, b: Floats, c: Floats) -> Measured:
    centre, _, r = circle_through(np.asarray(a, float), np.asarray(b, float), np.asarray(c, float))
    words = f"radius {r:.5g}, centre ({centre[0]:.5g}, {centre[1]:.5g}, {centre[2]:.5g})"
    return Measured(r, "length", words, np.array([centre, a], float))


def angle_of_points(corner: Floats, a: Floats, b: Floats) -> Measured:
    """The angle at a corner between two points. Raises `Refused` where points fall together."""
    u, v = np.subtract(a, corner), np.subtract(b, corner)
    if min(float(np.linalg.norm(u)), float(np.linalg.norm(v))) < 1e-12:
        raise Refused("Two of the points are the same.", "Choose the corner first, then two other points.")
    angle = float(np.degrees(np.arccos(np.clip(unit(u) @ unit(v), -1, 1))))
    return Measured(angle, "degrees", f"angle {angle:.4g}°", np.array([a, corner, b], float))


def angle_of_faces(shape_a: Shape, face_a: int, shape_b: Shape, face_b: int) -> Measured:
    """The angle between the mean normals of two faces."""
    normals, places = [], []
    for shape, face in ((shape_a, face_a), (shape_b, face_b)):
        mine = shape.facet_face == face
        normals.append(unit((shape.facet_normal[mine] * shape.facet_area[mine, None]).sum(axis=0)))
        places.append(shape.points[shape.facets[mine]].mean(axis=(0, 1)))
    angle = float(np.degrees(np.arccos(np.clip(normals[0] @ normals[1], -1, 1))))
    return Measured(angle, "degrees", f"{angle:.4g}° between the normals, {180 - angle:.4g}° inside", np.array(places))


def area_of_faces(shapes: list[tuple[Shape, int]]) -> Measured:
    if not shapes:
        raise Refused("No face is chosen.", "Choose one or more faces.")
    total = float(sum(s.face_area[f] for s, f in shapes))
    shape, face = shapes[0]
    middle = shape.points[shape.facets[shape.facet_face == face]].mean(axis=(0, 1))
    return Measured(total, "area", f"area {total:.6g}", np.array([middle, middle]))


def least_distance(a: Shape, b: Shape) -> Measured:
    """The shortest way between two bodies, from the facet nodes of each to the facets of the other (wires: nodes to nodes)."""
    best: tuple[float, Floats, Floats] | None = None
    for one, two in ((a, b), (b, a)):
        if len(two.facets):
            facet, weight, away = FacetTree.over(two.points, two.facets).nearest(one.points)
            k = int(np.argmin(away))
            place = weight[k] @ two.points[two.facets[facet[k]]]
            distance = float(away[k])
        else:
            gap, at = scipy.spatial.cKDTree(two.points).query(one.points)
            k = int(np.argmin(gap))
            place, distance = two.points[at[k]], float(gap[k])
        if best is None or distance < best[0]:
            best = (distance, one.points[k], place)
    assert best is not None
    return Measured(best[0], "length", f"least distance {best[0]:.5g}", np.array([best[1], best[2]]))


def wall_at(shape: Shape, place: Floats) -> Measured:
    """The wall's thickness under a point of a solid: the way straight through. Raises `Refused` where there is no opposite side."""
    if not shape.solid:
        raise Refused("A sheet has no wall thickness of its own.", "Choose a point on a solid.")
    tree = FacetTree.over(shape.points, shape.facets)
    facet, weight, _ = tree.nearest(np.asarray(place, float)[None])
    on = weight[0] @ shape.points[shape.facets[facet[0]]]
    inward = -unit(weight[0] @ shape.normals[facet[0]])
    far, _ = tree.cast(on[None], inward[None], least=1e-6 * shape.diagonal)
    if not np.isfinite(far[0]):
        raise Refused("There is no opposite side under that point.", "Choose a point on a wall.")
    return Measured(float(far[0]), "length", f"wall {float(far[0]):.5g} thick", np.array([on, on + far[0] * inward]))
