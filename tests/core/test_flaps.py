"""Covers whose corners are rounded unlike inside and outside, and flaps of their plates."""

import numpy as np
import pytest
from OCP.BRepAdaptor import BRepAdaptor_Curve
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
from OCP.BRepFilletAPI import BRepFilletAPI_MakeFillet
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox
from OCP.gp import gp_Pnt
from OCP.TopAbs import TopAbs_EDGE
from OCP.TopExp import TopExp_Explorer
from OCP.TopoDS import TopoDS, TopoDS_Shape

from kind_rivet.core.geometry.carriers import Carrier
from kind_rivet.core.geometry.shape import Edge, Face, Shape
from kind_rivet.core.midsurface.extract import extract
from kind_rivet.core.midsurface.flaps import without_flaps
from tests.thin_meshes import meshed, solid_of

Place = tuple[float, float, float]


def rounded_box(low: Place, high: Place, upright: float, top: float) -> TopoDS_Shape:
    """A box whose upright edges are rounded, then those round its top."""
    box = BRepPrimAPI_MakeBox(gp_Pnt(*low), gp_Pnt(*high)).Shape()
    for radius, on_top in ((upright, False), (top, True)):
        fillet = BRepFilletAPI_MakeFillet(box)
        edges = TopExp_Explorer(box, TopAbs_EDGE)
        while edges.More():
            edge = TopoDS.Edge(edges.Current())
            curve = BRepAdaptor_Curve(edge)
            ends = [curve.Value(at).Z() for at in (curve.FirstParameter(), curve.LastParameter())]
            if min(ends) > high[2] - 1e-6 if on_top else abs(ends[0] - ends[1]) > 5:
                fillet.Add(radius, edge)
            edges.Next()
        box = fillet.Shape()
    return box


@pytest.fixture(scope="module")
def sheet():  # type: ignore[no-untyped-def]
    """A cover of 80×60×25 and walls of 2.25, rounded by 9 and 4.5 outside, by 6.75 and 2 inside."""
    t = 2.25
    outside = rounded_box((0, 0, 0), (80, 60, 25), 9, 4.5)
    return extract(solid_of(BRepAlgoAPI_Cut(outside, rounded_box((t, t, -5), (80 - t, 60 - t, 25 - t), 9 - t, 2.0)).Shape()))


def test_a_plate_whose_corners_are_rounded_unlike_has_no_flaps(sheet) -> None:  # type: ignore[no-untyped-def]
    assert sheet.proof.pieces == 1 and sheet.proof.inner_free_length == 0
    assert sheet.proof.cover > 0.99 and abs(sheet.proof.mass_ratio - 1) < 0.006
    free = [e for e, beside in enumerate(sheet.shape.edge_faces) if len(beside) == 1]
    assert sheet.shape.points[np.concatenate([sheet.shape.edges[e].nodes for e in free])][:, 2].max() < 1e-6  # only the open rim
    touching = [beside for beside in sheet.shape.edge_faces if len(beside) > 2]
    assert not touching


def test_all_of_its_faces_are_meshed(sheet) -> None:  # type: ignore[no-untyped-def]
    made = meshed(sheet, 3.0)
    assert not made.shells.notes and made.pieces == 1
    assert len(made.quality.failing) == 0 and made.growth.max() <= 1.5


def test_a_flap_goes_and_a_rim_stays() -> None:
    """A plate with a wall along one side, and a speck of the plate beyond that wall; without the wall it would be a corner of the plate."""
    points = np.array([(0, 0, 0), (10, 0, 0), (10, 8, 0), (1, 8, 0), (0, 8, 0), (10, 8, 5), (1, 8, 5), (0, 8, 5), (0.5, 8.4, 0)], float)
    plate, speck = [(0, 1, 3), (1, 2, 3), (0, 3, 4)], [(4, 3, 8)]
    wall = [(4, 3, 6), (4, 6, 7), (3, 2, 5), (3, 5, 6)]
    edges = [(4, 3), (3, 2), (4, 0), (0, 1), (1, 2), (3, 8), (8, 4), (2, 5), (5, 6), (6, 7), (7, 4)]
    normals = {0: (0, 0, 1), 1: (0, 1, 0)}

    def shape(rows: dict[int, list[tuple[int, int, int]]]) -> Shape:
        facets = np.array([row for lot in rows.values() for row in lot], np.int32)
        owner = np.array([f for f, lot in rows.items() for _ in lot], np.int32)
        corner = np.array([[normals[f]] * 3 for f in owner.tolist()], float)
        used = [Edge(np.array(e, np.int32), Carrier("free")) for e in edges if {*e} <= set(facets.ravel().tolist())]
        return Shape(points, facets, owner, corner, tuple(Face(Carrier("free")) for _ in rows), tuple(used), False)

    whole = shape({0: plate + speck, 1: wall})
    tidy = without_flaps(whole, np.array([2.0, 2.0]))
    assert len(tidy.faces) == 2 and tidy.face_area == pytest.approx(np.array([80.0, 50.0]))
    assert without_flaps(whole, np.array([0.5, 0.5])) is whole  # too large for walls so thin
    corner = shape({0: plate + speck})
    assert without_flaps(corner, np.array([2.0])) is corner
