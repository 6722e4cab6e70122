"""Equal plane regions of a body are filled once, and the best of a few fillings is what all of them get."""

from __future__ import annotations

from functools import cache

import numpy as np
import scipy
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakePolygon, BRepBuilderAPI_Transform
from OCP.BRepPrimAPI import BRepPrimAPI_MakePrism
from OCP.gp import gp_Ax1, gp_Dir, gp_Pnt, gp_Trsf, gp_Vec
from OCP.TopoDS import TopoDS_Shape

from kind_rivet.core.meshing.free.repeats import Kinds
from kind_rivet.core.meshing.regions_alike import TRIED
from kind_rivet.core.midsurface.extract import extract
from tests.thin_meshes import Made, meshed, solid_of
from tests.thin_parts import cut, cylinder, fused

Z = (0, 0, 1)


def gusset(angle: float) -> TopoDS_Shape:
    corners = BRepBuilderAPI_MakePolygon(gp_Pnt(58, -2, 6), gp_Pnt(92, -2, 6), gp_Pnt(58, -2, 48), True)
    plate = BRepPrimAPI_MakePrism(BRepBuilderAPI_MakeFace(corners.Wire()).Face(), gp_Vec(0, 4, 0)).Shape()
    move = gp_Trsf()
    move.SetRotation(gp_Ax1(gp_Pnt(0, 0, 0), gp_Dir(*Z)), angle)
    return BRepBuilderAPI_Transform(plate, move, True).Shape()


@cache
def footed() -> Made:
    """A tube on a round plate with eight gussets."""
    body = fused(cylinder((0, 0, 0), Z, 62, 90), [cylinder((0, 0, 0), Z, 100, 6)])
    body = fused(body, [gusset(k * np.pi / 4) for k in range(8)])
    return meshed(extract(solid_of(cut(body, [cylinder((0, 0, -1), Z, 58, 100)]))), 6.0)


def test_equal_gussets_have_equal_meshes() -> None:
    made = footed()
    shape = made.sheet
    area = [f for f, face in enumerate(shape.faces) if face.carrier.kind == "plane" and abs(face.carrier.array[5]) < 0.5]
    assert len(area) == 8
    assert TRIED < 8
    lots = [made.shells.elements[made.shells.face == f] for f in area]
    assert len({len(lot) for lot in lots}) == 1
    assert len({int((lot[:, 3] < 0).sum()) for lot in lots}) == 1
    # Every gusset's nodes, by how far out and how high they lie, are those of the first.
    seen = []
    for lot in lots:
        p = made.shells.points[np.unique(lot[lot >= 0])]
        seen.append(np.column_stack((np.hypot(p[:, 0], p[:, 1]), p[:, 2])))
    for other in seen[1:]:
        assert scipy.spatial.KDTree(seen[0]).query(other)[0].max() < 0.02 * made.size
    assert not len(made.quality.failing)


def test_outlines_are_known_again_turned_and_mirrored_but_not_at_another_size_or_under_another_key() -> None:
    loop = np.array([[0, 0], [1, 0], [2, 0], [2, 1], [1, 1.5], [0, 1.7]], float)
    kinds = Kinds[str](1.0)
    kinds.add([loop], "first", 7)
    c, s = np.cos(0.7), np.sin(0.7)
    moved = np.roll(loop, 2, axis=0) @ np.array([[c, s], [-s, c]]) + (5, -3)
    mirrored = (loop * (-1, 1))[::-1]
    for again, flipped in ((moved, False), (mirrored, True)):
        found = kinds.find([again], 7)
        assert found is not None
        assert (found[1], found[2].mirrored) == ("first", flipped)
    assert kinds.find([moved]) is None
    assert kinds.find([1.2 * loop], 7) is None
    assert kinds.find([loop[:5]], 7) is None
