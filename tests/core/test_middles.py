"""The pieces midsurfaces are made of: distances, charts, middles, filling of charts, turning, strips, slits, means at nodes."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
import shapely

from kind_rivet.core.document.document import Document
from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Carrier, distance, project, surface_normals
from kind_rivet.core.geometry.kernel.facets import facet_shape
from kind_rivet.core.geometry.orient import turned_alike
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.ruled import bridged
from kind_rivet.core.geometry.shape import Edge, Face, Shape
from kind_rivet.core.mesh.topology import at_nodes
from kind_rivet.core.meshing.regions import opened
from kind_rivet.core.midsurface.charts import (
    ConeChart,
    CylinderChart,
    DomeChart,
    PlaneChart,
    SphereChart,
    TorusChart,
    sphere_chart,
    widest_gap,
)
from kind_rivet.core.midsurface.fields import CarrierField, face_field, settle, signed_distance
from kind_rivet.core.midsurface.middles import middle_of
from kind_rivet.core.midsurface.pairs import find_opposed, find_pairs
from kind_rivet.core.midsurface.stations import away_from
from kind_rivet.core.midsurface.traces import crossing, inside
from kind_rivet.core.midsurface.triangles import fill_facets
from kind_rivet.core.midsurface.tunnels import without_tunnels
from tests.thin_parts import box, cut, cylinder, fused

AXIS = tuple((np.array([1.0, 2.0, -0.5]) / np.linalg.norm([1.0, 2.0, -0.5])).tolist())
CARRIERS = [
    Carrier("plane", (1, 2, 3, *AXIS)), Carrier("cylinder", (1, 2, 3, *AXIS, 4.0)), Carrier("cone", (1, 2, 3, *AXIS, 0.4)),
    Carrier("sphere", (1, 2, 3, 5.0)), Carrier("torus", (1, 2, 3, *AXIS, 9.0, 2.5)),
]  # fmt: skip
CHARTS = {"plane": PlaneChart, "cylinder": CylinderChart, "cone": ConeChart, "sphere": SphereChart, "torus": TorusChart}


def near(carrier: Carrier, count: int = 60) -> np.ndarray:
    """Points on a stretch of a carrier that is not closed."""
    rng = np.random.default_rng(4)
    centre = np.array(carrier.data[:3]) + 6 * np.array(AXIS) + np.array([5.0, -2.0, 1.0])
    return project(carrier, centre + rng.uniform(-1.5, 1.5, (count, 3)))


@pytest.mark.parametrize("carrier", CARRIERS, ids=lambda c: c.kind)
def test_signed_distances_and_their_gradients(carrier: Carrier) -> None:
    p = near(carrier) + np.random.default_rng(1).normal(0, 0.3, (60, 3))
    value, gradient = signed_distance(carrier, p)
    assert np.allclose(np.abs(value), distance(carrier, p), atol=1e-12)
    assert np.allclose(np.linalg.norm(gradient, axis=1), 1)
    for k in range(3):
        step = np.zeros(3)
        step[k] = 1e-6
        slope = (signed_distance(carrier, p + step)[0] - signed_distance(carrier, p - step)[0]) / 2e-6
        assert np.allclose(slope, gradient[:, k], atol=1e-6)


def cap(widest: float, count: int = 200) -> np.ndarray:
    """Points on the sphere of CARRIERS up to so many radians from a direction."""
    rng = np.random.default_rng(2)
    axis = np.array(AXIS)
    u = np.cross(axis, (0.0, 0.0, 1.0))
    u /= np.linalg.norm(u)
    away, turn = rng.uniform(0, widest, (count, 1)), rng.uniform(0, 2 * np.pi, (count, 1))
    across = np.cos(turn) * u + np.sin(turn) * np.cross(axis, u)
    return np.array([1.0, 2.0, 3.0]) + 5.0 * (np.cos(away) * axis + np.sin(away) * across)


@pytest.mark.parametrize(("widest", "kind"), [(0.6, SphereChart), (1.6, DomeChart), (2.9, SphereChart)])
def test_no_pole_of_a_chart_lies_on_a_dome(widest: float, kind: type) -> None:
    points = cap(widest)
    chart = sphere_chart(CARRIERS[3], points)
    assert isinstance(chart, kind)
    flat = chart.flat(points)
    assert np.allclose(chart.lift(flat), points, atol=1e-9)
    assert np.abs(np.einsum("ij,ij->i", chart.normal(flat), points - (1, 2, 3))).min() == pytest.approx(5.0)
    if kind is DomeChart:
        step = chart.lift(flat + (1e-4, 0.0)) - points
        assert np.linalg.norm(step, axis=1).min() > 0.6e-4  # nowhere squeezed to a point
        assert chart.cut_at(1.0) is chart


@pytest.mark.parametrize("carrier", CARRIERS, ids=lambda c: c.kind)
def test_charts_lead_there_and_back(carrier: Carrier) -> None:
    points = near(carrier)
    chart = CHARTS[carrier.kind].over(carrier, points)
    uv = chart.flat(points)
    assert np.allclose(chart.lift(uv), points, atol=1e-9)
    normal = chart.normal(uv)
    assert np.allclose(chart.flat(points + 0.05 * normal), uv, atol=1e-9)  # along the normal the place stays
    if carrier.kind != "plane":
        assert np.allclose(np.abs(np.einsum("ij,ij->i", normal, surface_normals(carrier, points))), 1)
        assert np.abs(uv[:, 0]).max() < chart.period / 2 - 0.1  # the cut lies where no wall is


def test_the_widest_gap_of_angles() -> None:
    assert widest_gap(np.array([0.0, 1.0, 2.0])) == pytest.approx(2.0 + (2 * np.pi - 2.0) / 2)


def test_points_settle_on_several_surfaces_at_once() -> None:
    plane, tube = CarrierField(Carrier("plane", (0, 0, 1, 0, 0, 1)), 1.0), CarrierField(Carrier("cylinder", (0, 0, 0, 0, 0, 1, 2.0)), 1.0)
    moved, left = settle(np.array([[2.3, 0.4, 1.5], [0.1, -1.7, 0.2]]), [plane, tube])
    assert left.max() < 1e-12
    assert np.allclose(moved[:, 2], 1)
    assert np.allclose(np.hypot(moved[:, 0], moved[:, 1]), 2)


@pytest.mark.parametrize(
    ("solid", "kind", "wall"),
    [
        (box(0, 0, 0, 30, 20, 2), "plane", 2.0),
        (cut(cylinder((0, 0, 0), (0, 0, 1), 10, 30), [cylinder((0, 0, -1), (0, 0, 1), 8.5, 32)]), "cylinder", 1.5),
    ],
)
def test_middles_are_recognised(solid: object, kind: str, wall: float) -> None:
    shape = facet_shape(solid)
    tree = FacetTree.over(shape.points, shape.facets)
    pairs = find_pairs(shape, find_opposed(shape, tree))
    assert len(pairs) == 1
    a, b = pairs[0].a, pairs[0].b
    middle = middle_of(shape, a, b, face_field(shape, a), face_field(shape, b), pairs[0].wall, pairs[0].middle, 1e-6 * shape.diagonal)
    assert middle.carrier.kind == kind
    assert middle.uniform
    assert np.allclose(middle.thickness(middle.samples), wall)
    assert inside(middle.samples, tree, shape).all()
    assert not inside(middle.samples + 2 * wall * middle.normal(middle.samples), tree, shape).any()


def test_curves_where_a_field_vanishes_are_found_whole() -> None:
    shape = facet_shape(box(-20, -20, 0, 40, 40, 2))
    tree = FacetTree.over(shape.points, shape.facets)
    pair = find_pairs(shape, find_opposed(shape, tree))[0]
    fields = [face_field(shape, f) for f in (pair.a, pair.b)]
    middle = middle_of(shape, pair.a, pair.b, fields[0], fields[1], pair.wall, pair.middle, 1e-5)
    tube = CarrierField(Carrier("cylinder", (3, 1, 0, 0, 0, 1, 7.0)), 1.0)
    curves = crossing(middle, tube, np.array([-20.0, -20.0]), np.array([20.0, 20.0]), 0.8, 1e-6)
    assert len(curves) == 1
    circle = curves[0]
    assert np.allclose(circle[0], circle[-1])
    assert np.allclose(np.hypot(circle[:, 0] - 3, circle[:, 1] - 1), 7)
    assert np.allclose(circle[:, 2], 1)
    assert np.linalg.norm(np.diff(circle, axis=0), axis=1).sum() == pytest.approx(2 * np.pi * 7, rel=0.003)
    assert away_from(np.array([[3.0, 1.0, 1.0]]), circle)[0] == pytest.approx(7, rel=0.003)


def test_charts_are_filled_with_facets_and_slits_become_sides() -> None:
    place = np.array([[0, 0], [4, 0], [4, 3], [0, 3], [1, 1.5], [3, 1.5]], float)
    border = np.array([[0, 1], [1, 2], [2, 3], [3, 0], [4, 5]])
    rows = fill_facets(place, border, np.array([[2.0, 0.7]]), shapely.box(0, 0, 4, 3))
    assert rows is not None
    sides = {tuple(sorted(s)) for row in rows.tolist() for s in ((row[0], row[1]), (row[1], row[2]), (row[2], row[0]))}
    assert (4, 5) in sides
    every = np.vstack((place, [[2.0, 0.7]]))
    a, b, c = (every[rows[:, k]] for k in range(3))
    assert (((b - a)[:, 0] * (c - a)[:, 1] - (b - a)[:, 1] * (c - a)[:, 0]) / 2).sum() == pytest.approx(12)
    crossed = np.array([[0, 2], [2, 1], [1, 3], [3, 0]])
    assert fill_facets(place[:4], crossed, np.empty((0, 2)), shapely.box(0, 0, 4, 3)) is None


def test_slender_holes_are_filled_and_walls_are_not() -> None:
    shape = facet_shape(cut(fused(box(0, 0, 0, 60, 30, 6), []), [cylinder((-1, 15, 3), (1, 0, 0), 1.5, 62)]))
    plain, filled = without_tunnels(shape, set())
    assert len(filled) == 1
    assert plain.volume == pytest.approx(60 * 30 * 6, rel=1e-9)
    same, none = without_tunnels(shape, set(filled))  # a side of a wall stays
    assert same is shape
    assert not none


def two_squares(second_up: bool) -> Shape:
    """Two squares that share an edge; the second looks down unless `second_up`."""
    points = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0], [2, 0, 0], [2, 1, 0]], float)
    right = [[1, 4, 5], [1, 5, 2]] if second_up else [[1, 5, 4], [1, 2, 5]]
    facets = np.array([[0, 1, 2], [0, 2, 3], *right], np.int32)
    up = np.array([0, 0, 1.0])
    normals = np.array([[up] * 3, [up] * 3, *([[up if second_up else -up] * 3] * 2)])
    edges = tuple(Edge(np.array(e, np.int32)) for e in ([0, 1], [1, 2], [2, 3], [3, 0], [1, 4], [4, 5], [5, 2]))
    return Shape(points, facets, np.array([0, 0, 1, 1], np.int32), normals, (Face(), Face()), edges, False)


def test_faces_are_turned_alike() -> None:
    turned = turned_alike(two_squares(False))
    assert np.allclose(turned.facet_normal, turned.facet_normal[0])
    assert np.allclose(turned.normals, turned.normals[0, 0])
    fine = two_squares(True)
    assert turned_alike(fine) is fine


def test_strips_share_the_nodes_of_both_edges() -> None:
    shape = two_squares(True)
    lifted = replace(shape, points=shape.points + np.where(shape.points[:, :1] > 1.5, np.array([0, 0, 0.5]), 0))
    strip = bridged(lifted, 3, 5)
    assert len(strip.faces) == 3
    assert len(strip.points) == len(lifted.points)
    assert len(strip.edge_faces[3]) == len(strip.edge_faces[5]) == 2
    for bad in ((1, 3), (3, 3)):
        with pytest.raises(Refused):
            bridged(lifted, *bad)


def test_borders_that_pass_a_node_twice_are_opened() -> None:
    ids = np.array([0, 1, 2, 3, 4, 3], np.int32)  # a slit from node 3 to node 4
    flat = np.array([[0, 0], [4, 0], [4, 4], [0, 4], [2, 2], [0, 4]], float)
    out = opened(ids, flat, 0.01)
    assert np.allclose(out[[0, 1, 2, 4]], flat[[0, 1, 2, 4]])
    assert np.linalg.norm(out[3] - out[5]) > 0.005
    assert np.allclose(np.linalg.norm(out[[3, 5]] - flat[[3, 5]], axis=1), 0.01)


def test_means_at_nodes(tray_mesh: Document) -> None:
    mesh = tray_mesh.mesh
    assert np.allclose(at_nodes(mesh, np.ones(mesh.elements)), 1.0)
    heights = at_nodes(mesh, mesh.centres()[:, 2])
    assert np.abs(heights - mesh.points[:, 2]).max() < 8.0
