"""Carriers, rays, holes, first look, simplification."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeWire, BRepBuilderAPI_Transform
from OCP.BRepOffsetAPI import BRepOffsetAPI_MakePipe
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder, BRepPrimAPI_MakeSphere
from OCP.gp import gp_Ax1, gp_Ax2, gp_Circ, gp_Dir, gp_Pnt, gp_Trsf

from kind_rivet.core.document.document import Document
from kind_rivet.core.geometry.carriers import Carrier, distance, fit_curve, offset, project
from kind_rivet.core.geometry.extent import extent
from kind_rivet.core.geometry.first_look import look, strip_width, suggested_size, suits
from kind_rivet.core.geometry.holes import Hole
from kind_rivet.core.geometry.kernel.facets import facet_shape
from kind_rivet.core.geometry.rays import FacetTree
from tests.made_up import cube, sharp_channel
from tests.thin_parts import box, cut, cylinder, fused

AXIS = np.array([1.0, 2.0, 2.0]) / 3
CARRIERS = [
    Carrier("plane", (1, 2, 3, *AXIS)),
    Carrier("cylinder", (1, 2, 3, *AXIS, 4.0)),
    Carrier("cone", (1, 2, 3, *AXIS, 0.5)),
    Carrier("sphere", (1, 2, 3, 4.0)),
    Carrier("torus", (1, 2, 3, *AXIS, 6.0, 1.5)),
]


@pytest.mark.parametrize("carrier", CARRIERS, ids=lambda c: c.kind)
def test_projection_lands_on_the_carrier_and_is_nearest(carrier: Carrier) -> None:
    points = np.random.default_rng(1).normal(size=(200, 3)) * 3 + (4, 5, 6)
    on = project(carrier, points)
    assert distance(carrier, on).max() < 1e-9
    nudged = project(carrier, on + np.random.default_rng(2).normal(size=on.shape) * 0.05)
    assert np.all(np.linalg.norm(points - on, axis=1) <= np.linalg.norm(points - nudged, axis=1) + 1e-9)


@pytest.mark.parametrize("carrier", CARRIERS, ids=lambda c: c.kind)
def test_offset_is_parallel(carrier: Carrier) -> None:
    start = project(carrier, np.array([[7.0, 5.0, 9.0]]))[0]
    step = 1e-6
    near = project(carrier, start + step * np.random.default_rng(3).normal(size=(40, 3)))
    normal = np.linalg.svd(near - near.mean(axis=0))[2][2]
    moved = offset(carrier, start, normal, 0.3)
    assert distance(moved, (start + 0.3 * normal)[None])[0] < 1e-4


def test_lines_and_circles_are_recognised() -> None:
    a = np.linspace(0, 2, 9)
    arc = np.column_stack((5 * np.cos(a), 5 * np.sin(a), np.full(9, 2.0)))
    found = fit_curve(arc, 1e-7)
    assert found.kind == "circle"
    assert found.data[6] == pytest.approx(5)
    assert np.allclose(found.data[:3], (0, 0, 2))
    assert fit_curve(np.outer(np.linspace(0, 1, 5), (1, 2, 3)), 1e-9).kind == "line"
    assert fit_curve(np.column_stack((a, a**2, a**3)), 1e-6).kind == "free"


def test_rays_and_nearest_points_agree_with_brute_force() -> None:
    rng = np.random.default_rng(4)
    points = rng.normal(size=(300, 3))
    facets = rng.integers(0, 300, (400, 3)).astype(np.int32)
    tree = FacetTree.over(points, facets)
    origins, directions = rng.normal(size=(60, 3)) * 2, rng.normal(size=(60, 3))
    directions /= np.linalg.norm(directions, axis=1, keepdims=True)
    far, _ = tree.cast(origins, directions)
    a, b, c = (points[facets[:, k]] for k in range(3))
    for o, d, t in zip(origins, directions, far, strict=True):
        p = np.cross(d, c - a)
        det = np.einsum("ij,ij->i", b - a, p)
        with np.errstate(divide="ignore", invalid="ignore"):
            u = np.einsum("ij,ij->i", o - a, p) / det
            q = np.cross(o - a, b - a)
            v = (q @ d) / det
            r = np.einsum("ij,ij->i", c - a, q) / det
        hits = r[(u >= 0) & (v >= 0) & (u + v <= 1) & (r > 0)]
        assert t == pytest.approx(hits.min() if len(hits) else np.inf, rel=1e-9)
    facet, weight, gap = tree.nearest(origins)
    on = np.einsum("ij,ijk->ik", weight, points[facets[facet]])
    assert np.allclose(np.linalg.norm(on - origins, axis=1), gap)
    assert np.all(gap[:, None] <= np.linalg.norm(origins[:, None] - points[np.unique(facets)][None], axis=2) + 1e-12)


def test_the_tray_is_read_completely(tray: Document) -> None:
    body = tray.bodies[0]
    assert body.name == "Cradle tray"
    assert np.allclose(body.shape.box, [[0, 0, 0], [420, 180, 45]], atol=1e-3)
    assert all(len(faces) == 2 for faces in body.shape.edge_faces)  # watertight
    diameters = sorted(round(h.diameter, 3) for h in body.holes if h.kind == "round")
    assert diameters == [4.2] * 6 + [9.0] * 14 + [36.0] * 4
    assert sum(h.kind == "cut-out" for h in body.holes) == 2
    assert body.walls[0][0] == pytest.approx(1.5)
    assert body.walls[0][1] > 0.98
    assert tray.choices.size == 5.0


def test_first_look_tells_thin_from_thick() -> None:
    thin = look(sharp_channel())
    assert suits(sharp_channel(), thin.walls, thin.thin_share)[0] == "shells"
    thick = look(cube())
    assert suits(cube(), thick.walls, thick.thin_share)[0] == "solids"


def test_rods_suit_beams_and_tubes_and_plates_do_not() -> None:
    arc = gp_Circ(gp_Ax2(gp_Pnt(0, 0, 0), gp_Dir(0, 1, 0)), 40.0)
    spine = BRepBuilderAPI_MakeWire(BRepBuilderAPI_MakeEdge(arc, 0.0, 4.0).Edge()).Wire()
    disc = BRepBuilderAPI_MakeEdge(gp_Circ(gp_Ax2(gp_Pnt(40, 0, 0), gp_Dir(0, 0, 1)), 3.0)).Edge()
    bent = BRepOffsetAPI_MakePipe(spine, BRepBuilderAPI_MakeFace(BRepBuilderAPI_MakeWire(disc).Wire()).Face()).Shape()
    for rod in (bent, BRepPrimAPI_MakeBox(5.0, 5.0, 120.0).Shape(), BRepPrimAPI_MakeCylinder(4.0, 90.0).Shape()):
        shape = facet_shape(rod)
        seen = look(shape)
        kind, reason = suits(shape, seen.walls, seen.thin_share)
        assert kind == "beams" and "rod" in reason
    tube = BRepAlgoAPI_Cut(BRepPrimAPI_MakeCylinder(20.0, 90.0).Shape(), BRepPrimAPI_MakeCylinder(18.0, 90.0).Shape()).Shape()
    for thin in (tube, BRepPrimAPI_MakeBox(100.0, 60.0, 3.0).Shape()):
        shape = facet_shape(thin)
        seen = look(shape)
        assert suits(shape, seen.walls, seen.thin_share)[0] == "shells"


def test_suggested_size_is_a_round_number() -> None:
    channel = sharp_channel()  # 40 × 20 × 60, wall 2
    assert suggested_size(channel, ((2.0, 1.0),), ()) == 3.0
    assert suggested_size(channel, ((0.1, 1.0),), ()) == 0.8


def test_a_body_is_as_large_turned_as_it_was() -> None:
    """The box round it must not follow the axes: a mast turned askew would get another size."""
    mast = fused(box(-95, -95, -8, 190, 190, 8), [box(-20, -30, 0, 40, 60, 400)])
    turn = gp_Trsf()
    turn.SetRotation(gp_Ax1(gp_Pnt(3, 2, 1), gp_Dir(1, 2, 3)), 0.7)
    askew = BRepBuilderAPI_Transform(mast, turn, True).Shape()
    straight, aslant = (facet_shape(shape) for shape in (mast, askew))
    assert extent(straight) == pytest.approx(straight.diagonal, rel=1e-9)
    assert extent(aslant) == pytest.approx(straight.diagonal, rel=1e-6)
    assert aslant.diagonal > 1.1 * straight.diagonal
    ball = facet_shape(BRepPrimAPI_MakeSphere(10.0).Shape())
    assert extent(ball) == pytest.approx(20 * 3**0.5, rel=0.05)


def test_narrow_flanges_of_a_long_rail_make_the_suggested_size_finer() -> None:
    rail = facet_shape(BRepPrimAPI_MakeBox(1000.0, 5.0, 1.0).Shape())  # a strip 5 wide: two rows of 4 and less
    assert strip_width(rail, 1.0) == pytest.approx(5.0, rel=0.01)
    assert suggested_size(rail, ((1.0, 1.0),), ()) == 4.0
    assert suggested_size(facet_shape(BRepPrimAPI_MakeBox(1000.0, 500.0, 1.0).Shape()), ((1.0, 1.0),), ()) == 15.0


def test_many_small_cut_outs_make_the_suggested_size_finer_and_a_few_do_not() -> None:
    plate = facet_shape(BRepPrimAPI_MakeBox(700.0, 500.0, 1.0).Shape())
    hexagon = Hole("cut-out", 0.0, 16.0, 18.0, (0.0, 0.0, 0.0), (0.0, 0.0, 1.0), (0, 1, 2, 3, 4, 5))
    assert suggested_size(plate, ((1.0, 1.0),), (hexagon,) * 5) == 10.0
    assert suggested_size(plate, ((1.0, 1.0),), (hexagon,) * 6) == 4.0  # two divisions on each side of about 9
    window = replace(hexagon, width=150.0, length=200.0, faces=(0, 1, 2, 3))
    assert suggested_size(plate, ((1.0, 1.0),), (*(window,) * 7, hexagon)) == 10.0
    assert suggested_size(plate, ((4.0, 1.0),), (hexagon,) * 6) == 6.0  # never below one and a half walls


def test_counterbores_do_not_hide_the_size_of_their_holes() -> None:
    plate = facet_shape(BRepPrimAPI_MakeBox(500.0, 500.0, 4.0).Shape())
    holes = [Hole("round", 10.0, 10.0, 10.0, (50.0 * k, 20.0, 0.0), (0.0, 0.0, 1.0), (k,)) for k in range(4)]
    bored = [replace(h, diameter=18.0, width=18.0, length=18.0, centre=(h.centre[0], 20.0, 3.0), axis=(0.0, 0.0, -1.0)) for h in holes]
    beside = [replace(h, centre=(h.centre[0], 90.0, 3.0)) for h in bored]
    assert suggested_size(plate, ((4.0, 1.0),), tuple(holes)) == suggested_size(plate, ((4.0, 1.0),), (*holes, *bored)) == 6.0
    assert suggested_size(plate, ((4.0, 1.0),), (*holes, *beside)) == 8.0


def test_thin_walls_over_a_thick_floor_rule_the_suggested_size() -> None:
    plate = facet_shape(BRepPrimAPI_MakeBox(120.0, 80.0, 7.0).Shape())
    assert suggested_size(plate, ((7.0, 0.5), (1.0, 0.3)), ()) == 1.5
    assert suggested_size(plate, ((7.0, 0.5), (1.0, 0.1)), ()) == 8.0  # a twentieth of the diagonal is 7.2
    assert suggested_size(plate, ((3.0, 0.5), (2.0, 0.3)), ()) == 5.0


def test_volume_of_the_channel() -> None:
    assert sharp_channel().volume == pytest.approx((40 * 2 + 2 * 18 * 2) * 60)


def test_the_corners_of_a_trapezium_are_no_arc() -> None:
    """They lie on a circle all the same."""
    corners = np.array([(-20.4, 1.5, 0), (-18.4, 0.75, 0), (18.4, 0.75, 0), (20.4, 1.5, 0)], float)
    assert fit_curve(corners, 1e-6).kind == "free"
    angle = np.radians([0, 20, 50, 70])
    assert fit_curve(np.column_stack((5 * np.cos(angle), 5 * np.sin(angle), 0 * angle)), 1e-6).kind == "circle"


def test_slots_count_as_holes_for_the_suggested_size() -> None:
    plate = box(0, 0, 0, 140, 140, 6)
    for x, y in ((30, 30), (110, 30), (30, 110), (110, 110)):
        ends = [cylinder((x + d, y, -1), (0, 0, 1), 4.5, 8) for d in (-8.5, 8.5)]
        plate = cut(plate, [*ends, box(x - 8.5, y - 4.5, -1, 17, 9, 8)])
    shape = facet_shape(plate)
    seen = look(shape)
    assert [hole.width for hole in seen.holes] == pytest.approx([9] * 4)
    assert suggested_size(shape, seen.walls, seen.holes) == 5.0
    assert suggested_size(shape, seen.walls, ()) == 10.0
