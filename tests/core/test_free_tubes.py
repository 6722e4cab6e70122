"""Freely curved tubes: those that run straight are rolled off, others go by how far along and how far round they are."""

from __future__ import annotations

from functools import cache

import numpy as np
import pytest
from OCP.BRepAlgoAPI import BRepAlgoAPI_Common
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeWire
from OCP.BRepOffsetAPI import BRepOffsetAPI_MakePipe, BRepOffsetAPI_ThruSections
from OCP.BRepPrimAPI import BRepPrimAPI_MakePrism
from OCP.GC import GC_MakeArcOfCircle
from OCP.gp import gp_Ax2, gp_Circ, gp_Dir, gp_Elips, gp_Pnt, gp_Trsf, gp_Vec
from OCP.TopLoc import TopLoc_Location
from OCP.TopoDS import TopoDS_Edge, TopoDS_Shape

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.kernel.facets import facet_shape
from kind_rivet.core.geometry.prism_axis import axis_of
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.patch import lay_flat
from kind_rivet.core.midsurface.charts import Chart
from kind_rivet.core.midsurface.extract import extract
from kind_rivet.core.midsurface.fields import FacetField, face_field
from kind_rivet.core.midsurface.led_through import led_through
from kind_rivet.core.midsurface.middles import Between
from kind_rivet.core.midsurface.prisms import PrismChart, prisms_in_one
from kind_rivet.core.midsurface.sheet import Sheet
from kind_rivet.core.midsurface.tube_charts import TubeChart, tube_ends
from tests.free_shapes import bell, curve, dish
from tests.thin_meshes import Made, meshed, size_for
from tests.thin_parts import box, combined, cut, cylinder, fused

WALL = 3.0
DENT = 60.0  # of the bean


def raised(edge: TopoDS_Edge, low: float, height: float) -> TopoDS_Shape:
    """What a closed profile encloses, from one height on."""
    face = BRepBuilderAPI_MakeFace(BRepBuilderAPI_MakeWire(edge).Wire()).Face()
    move = gp_Trsf()
    move.SetTranslation(gp_Vec(0, 0, low))
    return BRepPrimAPI_MakePrism(face, gp_Vec(0, 0, height)).Shape().Moved(TopLoc_Location(move))


def oval(a: float, b: float) -> TopoDS_Edge:
    return BRepBuilderAPI_MakeEdge(gp_Elips(gp_Ax2(gp_Pnt(0, 0, 0), gp_Dir(0, 0, 1)), a, b)).Edge()


def bean(out: float) -> TopoDS_Edge:
    """A profile so deeply dented that no axis sees all of it; `out` is how far outside the inner one."""
    t = np.linspace(0, 2 * np.pi, 24, endpoint=False)
    place = np.column_stack((60 * np.cos(t), 30 * np.sin(t) + DENT * np.cos(t) ** 2))
    normal = np.column_stack((30 * np.cos(t) - 2 * DENT * np.cos(t) * np.sin(t), 60 * np.sin(t)))
    normal /= np.linalg.norm(normal, axis=1)[:, None]
    return curve(np.column_stack((place + out * normal, np.zeros(len(t)))), True)


def pipe(radius: float) -> TopoDS_Shape:
    spine = curve(np.array([[0, 0, 0], [60, 0, 20], [90, 0, 90], [160, 0, 110.0]]), False, (gp_Vec(60, 0, 0), gp_Vec(60, 0, 0)))
    ring = BRepBuilderAPI_MakeEdge(gp_Circ(gp_Ax2(gp_Pnt(0, 0, 0), gp_Dir(1, 0, 0)), radius)).Edge()
    face = BRepBuilderAPI_MakeFace(BRepBuilderAPI_MakeWire(ring).Wire()).Face()
    return BRepOffsetAPI_MakePipe(BRepBuilderAPI_MakeWire(spine).Wire(), face).Shape()


def sleeve(outer: TopoDS_Edge, inner: TopoDS_Edge, height: float) -> TopoDS_Shape:
    return cut(raised(outer, 0, height), [raised(inner, -1, height + 2)])


def drawn(kind: str) -> TopoDS_Shape:
    if kind == "oval on a plate":
        return fused(box(-130, -80, -WALL, 260, 160, WALL), [sleeve(oval(95, 45), oval(92, 42), 40)])
    if kind == "oval through a plate":
        hole = raised(oval(92, 42), -60, 120)
        return cut(fused(box(-130, -80, -2, 260, 160, 4), [raised(oval(95, 45), -22, 44)]), [hole])
    if kind == "bean on a plate":
        return fused(box(-80, -50, -WALL, 160, 180, WALL), [sleeve(bean(WALL), bean(0), 50)])
    if kind == "oval with ribs":
        rings = [raised(oval(74, 48), z, 3) for z in (40, 80)]
        inside = [cut(raised(oval(58, 32), z, 3), [raised(oval(25, 10), z - 1, 5)]) for z in (20, 100)]
        return fused(cut(fused(raised(oval(60, 34), 0, 130), rings), [raised(oval(57, 31), -1, 132)]), inside)
    flanges = [cylinder((-4, 0, 0), (1, 0, 0), 27, 4), cylinder((160, 0, 110), (1, 0, 0), 27, 4)]
    holes = [cylinder((-5, 0, 0), (1, 0, 0), 14, 5), cylinder((160, 0, 110), (1, 0, 0), 14, 5)]
    return cut(fused(pipe(16), flanges), [pipe(14), *holes])


KINDS = ("oval on a plate", "oval through a plate", "bean on a plate", "oval with ribs", "bent pipe with flanges")
WALLS = {"oval on a plate": 3, "oval through a plate": 3, "bean on a plate": 3, "oval with ribs": 9, "bent pipe with flanges": 3}


@cache
def sheet_of(kind: str) -> tuple[Shape, Sheet]:
    solid = facet_shape(drawn(kind))
    return solid, extract(solid)


@cache
def mesh_of(kind: str) -> Made:
    solid, sheet = sheet_of(kind)
    return meshed(sheet, size_for(solid))


@pytest.mark.parametrize("kind", KINDS)
def test_closed_profiles_are_walls_beside_others(kind: str) -> None:
    _, sheet = sheet_of(kind)
    proof = sheet.proof
    assert len(sheet.shape.faces) == WALLS[kind]
    assert proof.pieces == 1
    assert proof.mass_ratio == pytest.approx(1.0, abs=5e-3)
    assert proof.cover >= 0.998
    assert proof.inner_free_length == 0.0


@pytest.mark.parametrize("kind", KINDS)
def test_their_meshes_have_no_failing_shell(kind: str) -> None:
    made = mesh_of(kind)
    assert not len(made.quality.failing)
    assert made.quad_share >= 0.985
    assert made.pieces == 1


def test_rows_run_along_and_round_a_bent_pipe() -> None:
    made = mesh_of("bent pipe with flanges")
    shells = made.mesh.shells()
    middle = made.mesh.points[np.maximum(shells, 0)].mean(axis=1)
    tube = shells[(middle[:, 0] > 1) & (middle[:, 0] < 159)]
    assert (tube[:, 3] >= 0).all()
    inner = np.setdiff1d(np.unique(tube), np.unique(shells[(middle[:, 0] < 1) | (middle[:, 0] > 159)]))
    assert (np.bincount(tube.ravel(), minlength=len(made.mesh.points))[inner] == 4).all()  # no irregular node


def sides_of(kind: str) -> tuple[FacetField, Between]:
    """The inner skin of a tube that is freely curved, and the middle between it and the outer one."""
    solid, _ = sheet_of(kind)
    fields = prisms_in_one(solid, [face_field(solid, f) for f in range(len(solid.faces))])
    area = {f: float(solid.face_area[f]) for f, face in enumerate(solid.faces) if face.carrier.kind == "free"}
    one, other = sorted(area, key=lambda f: -area[f])[:2]
    inner = min(one, other, key=lambda f: area[f])
    outer = one if inner == other else other
    field = fields[inner]
    assert isinstance(field, FacetField)
    return field, Between(fields[outer], field)


def scales(chart: Chart, uv: Floats, step: float) -> tuple[Floats, Floats, Floats]:
    """How much longer steps both ways are in space than on a chart, and the cosine between them."""
    here = chart.lift(uv)
    a, b = (chart.lift(uv + step * np.eye(2)[k]) - here for k in (0, 1))
    long, high = np.linalg.norm(a, axis=1), np.linalg.norm(b, axis=1)
    return long / step, high / step, np.einsum("ij,ij->i", a, b) / (long * high)


def test_a_dented_profile_is_rolled_off_true_to_length() -> None:
    side, between = sides_of("bean on a plate")
    chart = PrismChart.over(side, between, WALL)
    assert chart is not None
    rng = np.random.default_rng(5)
    uv = np.column_stack((rng.uniform(-0.49, 0.49, 200) * chart.period, rng.uniform(5, 40, 200)))
    assert np.abs(chart.flat(chart.lift(uv)) - uv).max() < 1e-6
    round_, along, cosine = scales(chart, uv, 0.05)
    assert np.percentile(np.abs(round_ - 1), 95) < 1e-3  # chords over its sharp ends are shorter
    assert along == pytest.approx(1.0, abs=1e-9)
    assert np.abs(cosine).max() < 1e-9
    assert np.abs(between(chart.lift(uv))[0]).max() < 0.02 * WALL


def test_a_chart_that_is_cut_elsewhere_shows_the_same_places() -> None:
    side, between = sides_of("bean on a plate")
    chart = PrismChart.over(side, between, WALL)
    bent, middle = sides_of("bent pipe with flanges")
    tube = TubeChart.around(bent, middle, 2.0)
    assert chart is not None
    assert tube is not None
    for one in (chart, tube):
        uv = np.column_stack((np.linspace(-0.3, 0.3, 50) * one.period, np.linspace(10, 30, 50)))
        there = one.lift(uv)
        moved = one.cut_at(0.4 * one.period).flat(there)
        assert moved[:, 1] == pytest.approx(uv[:, 1], abs=1e-6)
        assert np.ptp((moved[:, 0] - uv[:, 0]) % one.period) < 1e-6 * one.period
        assert (moved[:, 0] - uv[:, 0])[0] % one.period == pytest.approx(0.1 * one.period, rel=1e-6)


def test_a_bent_tube_is_laid_out_true_to_angles() -> None:
    side, between = sides_of("bent pipe with flanges")
    chart = TubeChart.around(side, between, 2.0)
    assert chart is not None
    assert chart.period == pytest.approx(2 * np.pi * 15, rel=0.05)
    rng = np.random.default_rng(6)
    uv = np.column_stack((rng.uniform(-0.49, 0.49, 300) * chart.period, rng.uniform(5, 200, 300)))
    round_, along, cosine = scales(chart, uv, 0.5)
    assert np.percentile(np.abs(cosine), 95) < 0.1
    assert 0.9 < np.median(round_) < 1.1
    assert 0.9 < np.median(along) < 1.1
    back = chart.flat(chart.lift(uv))
    assert np.percentile(np.linalg.norm(back - uv, axis=1), 99) < 0.05


def test_pieces_of_one_prism_on_both_sides_of_a_rib_have_one_field() -> None:
    solid, _ = sheet_of("oval with ribs")
    fields = prisms_in_one(solid, [face_field(solid, f) for f in range(len(solid.faces))])
    free = [f for f, face in enumerate(solid.faces) if face.carrier.kind == "free" and solid.face_area[f] > 3000]
    outer = [f for f in free if solid.points[np.unique(solid.facets[solid.facet_face == f])][:, 0].max() > 59]
    assert len(outer) > 2
    assert len({id(fields[f]) for f in outer}) == 1
    assert len({id(fields[f]) for f in free}) == 2


def test_no_axis_where_a_face_is_flat_or_curved_both_ways() -> None:
    rng = np.random.default_rng(7)
    angle = rng.uniform(0, 6, 100)
    round_ = np.column_stack((np.cos(angle), np.sin(angle), np.zeros(100)))
    axis = axis_of(round_)
    assert axis is not None
    assert abs(axis[2]) == pytest.approx(1.0)
    assert axis_of(np.tile([0.0, 0.0, 1.0], (100, 1))) is None
    cone = round_ * np.cos(0.3) + np.array([0, 0, np.sin(0.3)])
    assert axis_of(cone) is None
    assert axis_of(np.empty((0, 3))) is None


def lofted(outer: bool) -> TopoDS_Shape:
    """From a rounded square to a circle aside, as patches."""
    off = WALL if outer else 0.0
    low = BRepBuilderAPI_MakeWire()
    h, r = 30 + off, 12 + off
    for k in range(4):
        c, s = round(np.cos(k * np.pi / 2)), round(np.sin(k * np.pi / 2))

        def at(x: float, y: float, c: int = c, s: int = s) -> gp_Pnt:
            return gp_Pnt(c * x - s * y, s * x + c * y, 0)

        low.Add(BRepBuilderAPI_MakeEdge(at(h, -(h - r)), at(h, h - r)).Edge())
        mid = (h - r) + r * np.sqrt(0.5)
        low.Add(BRepBuilderAPI_MakeEdge(GC_MakeArcOfCircle(at(h, h - r), at(mid, mid), at(h - r, h)).Value()).Edge())
    ring = BRepBuilderAPI_MakeEdge(gp_Circ(gp_Ax2(gp_Pnt(8, 0, 90), gp_Dir(0, 0, 1)), 22 + off)).Edge()
    loft = BRepOffsetAPI_ThruSections(True, False)
    for wire in (low.Wire(), BRepBuilderAPI_MakeWire(ring).Wire()):
        loft.AddWire(wire)
    loft.Build()
    return loft.Shape()


def test_patches_of_a_loft_with_a_collar_and_a_flange_are_one_wall() -> None:
    collar, flange = box(-42, -48, 40, 100, 96, WALL), box(-50, -50, 0, 100, 100, WALL)
    solid = facet_shape(cut(fused(lofted(True), [collar, flange]), [lofted(False)]))
    assert sum(face.carrier.kind == "free" for face in solid.faces) > 8
    sheet = extract(solid)
    proof = sheet.proof
    assert proof is not None
    assert sorted(face.carrier.kind for face in sheet.shape.faces) == ["free", "free", "plane", "plane"]
    assert proof.pieces == 1
    assert proof.mass_ratio == pytest.approx(1.0, abs=5e-3)
    assert proof.cover >= 0.995
    assert proof.inner_free_length == 0.0
    made = meshed(sheet, size_for(solid))
    assert not len(made.quality.failing)


def test_tubes_on_both_sides_of_a_collar_share_a_field_with_facets_between() -> None:
    bent = pipe(16)
    collar = cylinder((66, 0, 45), (0.3, 0, 0.95), 26, 3)
    solid = facet_shape(cut(fused(bent, [collar]), [pipe(14)]))
    plain = [face_field(solid, f) for f in range(len(solid.faces))]
    fields = led_through(plain)
    outer = [f for f, field in enumerate(plain) if field is not fields[f]]
    assert len(outer) == 2
    one, other = (plain[f] for f in outer)
    joined = fields[outer[0]]
    assert fields[outer[1]] is joined
    assert isinstance(one, FacetField)
    assert isinstance(other, FacetField)
    assert isinstance(joined, FacetField)
    assert len(joined.tree.facets) > len(one.tree.facets) + len(other.tree.facets)
    ends = tube_ends(joined.tree.points, joined.tree.facets.astype(np.int64))
    assert ends is not None  # one tube from end to end
    x = [float(joined.tree.points[end][:, 0].mean()) for end in ends]
    assert sorted(x) == pytest.approx([0.0, 160.0], abs=0.5)


def test_slits_under_crossing_ribs_do_not_gape_where_a_panel_is_laid_flat() -> None:
    bars = [box(50, 15, -8, 2.5, 90, 60), box(20, 58, -8, 120, 2.5, 60)]
    solid = facet_shape(fused(dish(0, 2.5), [combined(BRepAlgoAPI_Common, bar, [dish(-60, 1)]) for bar in bars]))
    sheet = extract(solid)
    panel = int(np.argmax([sheet.shape.face_area[f] if face.carrier.kind == "free" else 0 for f, face in enumerate(sheet.shape.faces)]))
    patch = lay_flat(sheet.shape, (panel,))
    twice = [p for loop in patch.loops for p in loop if [q.edge for lot in patch.loops for q in lot].count(p.edge) == 2]
    assert len(twice) >= 6
    for there in (p for p in twice if p.forward):
        back = next(p for p in twice if p.edge == there.edge and not p.forward)
        assert np.array_equal(patch.flat[there.corners], patch.flat[back.corners[::-1]])
    made = meshed(sheet, size_for(solid))
    assert not made.shells.notes
    assert made.pieces == 1
    assert not len(made.quality.failing)


def test_ribs_on_a_bell_end_at_its_middle_though_they_meet_it_aslant() -> None:
    ribs = [box(46, -1.5, 10, 44, 3, 60), box(-90, -1.5, 10, 44, 3, 60)]
    ends = [box(-120, -120, -10, 240, 240, 13), box(-120, -120, 115, 240, 240, 30)]
    solid = facet_shape(cut(fused(bell(False), ribs), [bell(True), *ends]))
    sheet = extract(solid)
    proof = sheet.proof
    assert proof is not None
    assert len(sheet.shape.faces) == 3
    assert proof.pieces == 1
    assert proof.mass_ratio == pytest.approx(1.0, abs=5e-3)
    assert proof.inner_free_length == 0.0
    made = meshed(sheet, size_for(solid))
    assert not len(made.quality.failing)


def vase(off: float) -> TopoDS_Shape:
    """Oval all the way up, three times as wide in the middle as at its ends."""
    loft = BRepOffsetAPI_ThruSections(True, False)
    for z, a, b in ((0.0, 18.0, 16.0), (50.0, 55.0, 50.0), (100.0, 18.0, 16.0)):
        ring = gp_Elips(gp_Ax2(gp_Pnt(0, 0, z), gp_Dir(0, 0, 1)), a + off, b + off)
        loft.AddWire(BRepBuilderAPI_MakeWire(BRepBuilderAPI_MakeEdge(ring).Edge()).Wire())
    loft.Build()
    return loft.Shape()


def test_a_tube_that_bulges_has_more_columns_where_it_is_wide() -> None:
    solid = facet_shape(cut(vase(WALL), [vase(0.0)]))
    made = meshed(extract(solid), 4.0)
    assert not len(made.quality.failing)
    corners = made.mesh.points[made.mesh.shells()[:, :4]]
    side = np.linalg.norm(np.roll(corners, -1, axis=1) - corners, axis=2)
    assert side.max() < 2.2 * made.size
