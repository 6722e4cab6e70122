"""Facets of plane faces with very many holes, made without the kernel: watertight, true to area, the same edges as the kernel's."""

from __future__ import annotations

import numpy as np
import pytest
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace
from OCP.gp import gp_Dir, gp_Pln, gp_Pnt
from OCP.TopAbs import TopAbs_FACE
from OCP.TopExp import TopExp_Explorer
from OCP.TopoDS import TopoDS, TopoDS_Shape

from kind_rivet.core.geometry.kernel import facets
from kind_rivet.core.geometry.kernel.facets import facet_shape, is_crowded
from kind_rivet.core.geometry.kernel.parts import parts_of
from kind_rivet.core.geometry.plane_facets import plane_facets
from kind_rivet.core.geometry.shape import Shape
from tests.made_up import circle
from tests.thin_parts import box, cut, cylinder


def plate(nx: int, ny: int) -> TopoDS_Shape:
    holes = [cylinder((10 + 10 * i, 10 + 10 * j, -1), (0, 0, 1), 2.5, 4) for i in range(nx) for j in range(ny)]
    return parts_of(cut(box(0, 0, 0, 10 * nx + 10, 10 * ny + 10, 2), holes), "solid")[0]


def sides(shape: Shape) -> np.ndarray:
    """How many facets lie beside each side."""
    rows = np.sort(shape.facets[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1)
    return np.unique(rows, axis=0, return_counts=True)[1]


def test_a_plate_with_many_holes_is_watertight_and_true() -> None:
    solid = plate(7, 6)
    shape = facet_shape(solid)
    assert (sides(shape) == 2).all()
    exact = (80 * 70 - 42 * np.pi * 2.5**2) * 2
    assert shape.volume == pytest.approx(exact, rel=1e-3)
    large = [f for f in range(len(shape.faces)) if shape.face_area[f] > 4000]
    assert len(large) == 2
    for f in large:
        assert shape.faces[f].carrier.kind == "plane"
        mine = shape.facet_face == f
        outward = shape.normals[mine].reshape(-1, 3)
        assert np.allclose(outward, outward[0])
        assert np.allclose(shape.facet_normal[mine], outward[0], atol=1e-9)
        middle = shape.points[shape.facets[mine]].reshape(-1, 3).mean(axis=0)
        assert outward[0] @ (middle - (40, 35, 1)) > 0


def test_the_kernel_and_we_agree(monkeypatch: pytest.MonkeyPatch) -> None:
    ours = facet_shape(plate(7, 6))
    monkeypatch.setattr(facets, "MOST_BORDERS", 10_000)
    theirs = facet_shape(plate(7, 6))
    assert len(ours.faces) == len(theirs.faces)
    assert len(ours.edges) == len(theirs.edges)
    assert ours.volume == pytest.approx(theirs.volume, rel=1e-9)
    assert np.allclose(ours.face_area, theirs.face_area, rtol=1e-9)
    assert [len(b) for b in ours.edge_faces] == [len(b) for b in theirs.edge_faces]
    assert np.allclose(ours.edge_length, theirs.edge_length, rtol=1e-9)


def test_only_plane_faces_with_many_borders_are_crowded() -> None:
    def faces(shape: TopoDS_Shape) -> list[TopoDS_Shape]:
        walk, out = TopExp_Explorer(shape, TopAbs_FACE), []
        while walk.More():
            out.append(TopoDS.Face(walk.Current()))
            walk.Next()
        return out

    assert sum(is_crowded(f) for f in faces(plate(7, 6))) == 2
    assert sum(is_crowded(f) for f in faces(plate(3, 3))) == 0


def test_a_bare_sheet_with_many_holes(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(facets, "MOST_BORDERS", 0)
    square = BRepBuilderAPI_MakeFace(gp_Pln(gp_Pnt(0, 0, 5), gp_Dir(0, 0, -1)), 0, 30, 0, 20).Face()
    shape = facet_shape(square, solid=False)
    assert float(shape.face_area.sum()) == pytest.approx(600)
    assert len(shape.edges) == 4
    assert (np.bincount([len(b) for b in shape.edge_faces]) == [0, 4]).all()
    assert np.allclose(shape.normals.reshape(-1, 3), (0, 0, -1))


def test_islands_within_holes_are_inside_again() -> None:
    square = np.array([(0, 0), (10, 0), (10, 10), (0, 10)], float)
    rings = [circle(5, 5, 4, 24), circle(5, 5, 2, 16)]
    flat = np.vstack((square, *rings))
    points = np.column_stack((flat, np.zeros(len(flat))))
    chains = [np.array([0, 1, 2, 3, 0], np.int32), np.r_[4:28, 4].astype(np.int32), np.r_[28:44, 28].astype(np.int32)]
    rows = plane_facets(points, chains, np.array([0.0, 0.0, 1.0]))
    assert rows is not None
    a, b, c = (points[rows[:, k], :2] for k in range(3))
    area = ((b - a)[:, 0] * (c - a)[:, 1] - (b - a)[:, 1] * (c - a)[:, 0]) / 2
    assert (area > 0).all()
    polygon = [n / 2 * r**2 * np.sin(2 * np.pi / n) for n, r in ((24, 4.0), (16, 2.0))]
    assert area.sum() == pytest.approx(100 - polygon[0] + polygon[1])


def test_borders_that_cross_are_told() -> None:
    points = np.array([(0, 0, 0), (4, 0, 0), (4, 4, 0), (0, 4, 0), (2, 2, 0), (6, 2, 0), (6, 3, 0), (2, 3, 0)], float)
    chains = [np.array([0, 1, 2, 3, 0], np.int32), np.array([4, 5, 6, 7, 4], np.int32)]
    assert plane_facets(points, chains, np.array([0.0, 0.0, 1.0])) is None
