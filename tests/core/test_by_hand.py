"""Walls decided by hand, bridges, and thickness taken from the solid again."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from OCP.TopoDS import TopoDS_Shape

from kind_rivet.core.document.document import Body, Document
from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.first_look import look
from kind_rivet.core.geometry.kernel.facets import facet_shape
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.operations import perform
from tests.thin_parts import box, cut, fused


def document_of(solid: TopoDS_Shape | Shape) -> Document:
    shape = solid if isinstance(solid, Shape) else facet_shape(solid)
    seen = look(shape)
    return Document(name="x", bodies=(Body(1, "x", "#9DB4A0", shape, seen.walls, seen.thin_share, seen.holes, "drawn"),))


def face_near(shape: Shape, place: tuple[float, float, float]) -> int:
    return int(shape.facet_face[FacetTree.over(shape.points, shape.facets).nearest(np.array([place], float))[0][0]])


@pytest.fixture(scope="module")
def t_part() -> Document:
    """A plate 80 × 40 × 2 with a rib 2 thick and 20 high."""
    return perform(document_of(fused(box(0, 0, 0, 80, 40, 2), [box(0, 19, 0, 80, 2, 22)])), "midsurface.extract", {})


def test_a_wall_is_dropped_and_taken_back(t_part: Document) -> None:
    assert t_part.sheets[1].area == pytest.approx(80 * 40 + 80 * 21)
    d = perform(t_part, "midsurface.drop_wall", {"body": 1, "place": (40.0, 21.0, 12.0)})
    assert d.sheets[1].area == pytest.approx(80 * 40)
    assert "face not used" not in {r.kind for r in d.sheets[1].remarks}
    assert any(r.kind in ("lump", "bare") for r in d.sheets[1].remarks)
    back = perform(d, "midsurface.take_back", {"number": 0})
    assert back.sheets[1].area == pytest.approx(t_part.sheets[1].area)
    assert not back.wall_choices


def test_the_sides_of_walls_are_known(t_part: Document) -> None:
    shape = t_part.body(1).shape
    sides = set(t_part.sheets[1].sides)
    for place in ((40, 5, 0), (40, 5, 2), (40, 35, 2), (40, 19, 12), (40, 21, 12)):
        assert face_near(shape, place) in sides
    for place in ((0, 5, 1), (40, 0, 1), (40, 20, 22)):
        assert face_near(shape, place) not in sides


def test_a_side_and_a_share_of_the_wall(t_part: Document) -> None:
    shape = t_part.body(1).shape
    bottom = face_near(shape, (40.0, 5.0, 0.0))
    d = perform(t_part, "midsurface.pair", {"body": 1, "first": bottom, "share": 0.0})
    heights = d.sheets[1].shape.points[:, 2]
    assert heights.min() == pytest.approx(0.0, abs=1e-3)
    assert d.sheets[1].area == pytest.approx(80 * 40 + 80 * 22, rel=1e-4)
    with pytest.raises(Refused):
        perform(t_part, "midsurface.pair", {"body": 1, "first": bottom, "second": bottom})
    with pytest.raises(Refused):
        perform(t_part, "midsurface.pair", {"body": 1, "first": 99})


def test_a_piece_is_trimmed_and_kept(t_part: Document) -> None:
    d = perform(t_part, "midsurface.trim_piece", {"body": 1, "place": (40.0, 5.0, 1.0)})
    assert d.sheets[1].area == pytest.approx(80 * 20 + 80 * 21)
    d = perform(d, "midsurface.keep_piece", {"body": 1, "place": (40.0, 20.0, 0.5)})  # the rib through the plate
    assert d.sheets[1].area == pytest.approx(80 * 20 + 80 * 22)
    assert len(d.wall_choices) == 2


def test_a_thick_pair_found_by_hand() -> None:
    """A block that is no wall by itself becomes one when its sides are chosen."""
    d = document_of(box(0, 0, 0, 20, 50, 60))
    with pytest.raises(Refused):
        perform(d, "midsurface.extract", {})
    shape = d.body(1).shape
    d = perform(d, "midsurface.pair", {"body": 1, "first": face_near(shape, (0, 25, 30)), "second": face_near(shape, (20, 25, 30))})
    assert d.sheets[1].thicknesses == [20.0]
    assert d.sheets[1].area == pytest.approx(50 * 60)


def test_free_edges_are_bridged_and_meshed() -> None:
    """Two plates side by side in one sheet, joined by a strip."""
    d = document_of(fused(box(0, 0, 0, 40, 30, 2), [box(0, 0, 0, 2, 30, 20), box(38, 0, 0, 2, 30, 20)]))
    d = perform(d, "midsurface.extract", {})
    shape = d.sheets[1].shape
    top = [e for e, faces in enumerate(shape.edge_faces) if len(faces) == 1 and np.allclose(shape.points[shape.edges[e].nodes][:, 2], 20)]
    assert len(top) == 2
    d = perform(d, "midsurface.bridge", {"body": 1, "edges": top})
    assert d.sheets[1].area == pytest.approx(shape.face_area.sum() + 38 * 30)
    assert d.sheets[1].thickness[-1] == pytest.approx(2.0)
    d = perform(d, "mesh.shells", {"size": 4.0})
    assert not len(d.quality.failing)
    assert "tria" not in d.mesh.counts()
    with pytest.raises(Refused):
        perform(d, "midsurface.bridge", {"body": 1, "edges": [top[0], top[0]]})
    back = perform(d, "midsurface.take_back", {"number": 0})
    assert back.sheets[1].area == pytest.approx(shape.face_area.sum())
    assert back.stale


def test_a_free_edge_is_moved_to_another_wall_and_taken_back() -> None:
    """A lip on one side of a channel that ends before the other side."""
    d = document_of(fused(box(0, 0, 0, 40, 30, 2), [box(0, 0, 0, 2, 30, 20), box(38, 0, 0, 2, 30, 26), box(0, 0, 18, 30, 30, 2)]))
    d = perform(d, "midsurface.extract", {})
    sheet = d.sheets[1]
    shape = sheet.shape
    tip = [e for e, faces in enumerate(shape.edge_faces) if len(faces) == 1 and np.allclose(shape.points[shape.edges[e].nodes][:, 0], 30)]
    wall = face_near(shape, (39, 15, 13))
    assert len(tip) == 1
    moved = perform(d, "midsurface.move_edge", {"body": 1, "edge": tip[0], "wall": wall})
    made = moved.sheets[1]
    assert made.area == pytest.approx(sheet.area + 9 * 30)
    assert any(len(faces) == 3 for faces in made.shape.edge_faces)
    assert len(made.thickness) == len(made.shape.faces) and np.allclose(made.thickness, 2.0)
    meshed = perform(moved, "mesh.shells", {"size": 4.0})
    assert not len(meshed.quality.failing)
    back = perform(meshed, "midsurface.take_back", {"number": 0})
    assert back.sheets[1].area == pytest.approx(sheet.area) and back.stale and not back.moves
    with pytest.raises(Refused, match="misses it"):
        perform(d, "midsurface.move_edge", {"body": 1, "edge": tip[0], "wall": face_near(shape, (20, 15, 1))})
    with pytest.raises(Refused):
        perform(d, "midsurface.move_edge", {"body": 1, "edge": 999, "wall": wall})
    gone = perform(moved, "part.remove", {"bodies": (1,)})
    assert not gone.moves


def test_walls_far_apart_are_led_on_until_they_meet() -> None:
    """A block between two thin walls: they end at it, and meet in it when told to."""
    part = fused(box(0, 0, 0, 60, 40, 2), [box(60, 0, -9, 20, 40, 20), box(69, 0, 11, 2, 40, 40)])
    d = perform(document_of(part), "midsurface.extract", {})
    before = d.sheets[1].proof
    assert before is not None and before.pieces == 2
    d = perform(d, "midsurface.extend", {"body": 1, "first": (30.0, 20.0, 2.0), "second": (71.0, 20.0, 40.0)})
    d = perform(d, "midsurface.keep_piece", {"body": 1, "place": (65.0, 20.0, 1.0)})
    d = perform(d, "midsurface.keep_piece", {"body": 1, "place": (70.0, 20.0, 6.0)})
    after = d.sheets[1].proof
    assert after is not None and after.pieces == 1
    assert d.sheets[1].area == pytest.approx(40 * 70 + 40 * 50, rel=1e-3)


def test_thickness_is_taken_from_the_solid_for_any_shells(t_part: Document) -> None:
    d = perform(t_part, "mesh.shells", {"size": 4.0})
    lost = replace(d, mesh=replace(d.mesh, thickness=np.full(d.mesh.elements, 9.0), body=np.full(d.mesh.elements, -1, np.int32)))
    again = perform(lost, "mesh.refresh_thickness", {"body": 1})
    assert np.allclose(again.mesh.thickness, 2.0, rtol=1e-6)
    assert np.abs(again.mesh.offset).max() < 1e-6
    moved = replace(d, mesh=replace(d.mesh, points=d.mesh.points + np.array([0, 0, 500.0])))
    with pytest.raises(Refused):
        perform(moved, "mesh.refresh_thickness", {"body": 1})
    tray = cut(box(0, 0, 0, 60, 40, 20), [box(2, 2, 1, 56, 36, 20)])
    d = perform(perform(document_of(tray), "midsurface.extract", {}), "mesh.shells", {"size": 4.0})
    fresh = perform(d, "mesh.refresh_thickness", {"body": 1}).mesh.thickness
    assert sorted(set(np.round(fresh, 6))) == [1.0, 2.0]
