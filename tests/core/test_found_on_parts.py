"""What parts from elsewhere showed: holes that step half-way through their wall, walls that step in corners, vertices that lie on several lines."""

from __future__ import annotations

import numpy as np
import pytest

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import FREE, Carrier
from kind_rivet.core.geometry.first_look import look, strip_width, suggested_size
from kind_rivet.core.geometry.kernel.facets import facet_shape
from kind_rivet.core.geometry.kernel.parts import parts_of
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.weld import subshape
from kind_rivet.core.midsurface.extract import extract
from kind_rivet.core.midsurface.fields import CarrierField, settle, settle_each
from kind_rivet.core.midsurface.middles import _chart
from kind_rivet.core.midsurface.verify import inner_free
from kind_rivet.core.quality.shell_metrics import SCALED_JACOBIAN, shell_metrics
from kind_rivet.core.repair.optimise import _put_back_turned
from tests.thin_meshes import moved
from tests.thin_parts import box, cut, cylinder, fused


def solid(part: object) -> Shape:
    return facet_shape(parts_of(part, "solid")[0])


def test_a_counterbore_half_as_deep_as_its_wall_leaves_no_edge_inside() -> None:
    """Its floor lies in the middle of the wall: along the sheet's border nothing is seen of the hole, beside it the hole is."""
    holes = [cylinder((x, 20, -1), (0, 0, 1), 3.0, 10) for x in (15, 45)]
    bores = [cylinder((x, 20, 4), (0, 0, 1), 6.5, 10) for x in (15, 45)]
    sheet = extract(solid(cut(box(0, 0, 0, 60, 40, 8), [*holes, *bores])))
    assert sheet.proof is not None
    assert sheet.proof.pieces == 1
    assert sheet.proof.inner_free_length == 0.0
    assert not [r for r in sheet.remarks if r.kind == "inner edge"]


def test_an_edge_that_ends_inside_is_still_told() -> None:
    """A rib on its base has none; the rib alone, without the base, ends inside the solid along its foot."""
    part = solid(fused(box(0, 0, 0, 80, 40, 2), [box(0, 19, 0, 80, 2, 20)]))
    whole = extract(part)
    assert whole.proof is not None and whole.proof.inner_free_length == 0.0
    rib = [f for f in range(len(whole.shape.faces)) if abs(whole.shape.facet_normal[whole.shape.facet_face == f][0, 2]) < 0.5]
    alone = subshape(whole.shape, tuple(rib))
    length = inner_free(alone, FacetTree.over(part.points, part.facets), np.full(len(alone.faces), 2.0))
    assert length.sum() == pytest.approx(80.0, rel=0.05)


@pytest.mark.parametrize("seed", range(8))
def test_settling_each_point_on_fields_of_its_own_is_as_settling_alike_ones_together(seed: int) -> None:
    rng = np.random.default_rng(seed)
    fields = [
        CarrierField(Carrier("plane", (0.0, 0.0, 0.0, 0.0, 0.0, 1.0)), 1.0),
        CarrierField(Carrier("cylinder", (0.0, 0.0, 0.0, 0.0, 0.0, 1.0, 3.0)), 1.0),
        CarrierField(Carrier("plane", (0.0, 0.0, 0.0, 1.0, 0.0, 0.0)), -1.0),
    ]
    lots = [[], [0], [0, 1], [0, 1, 2]]
    points = rng.normal(size=(40, 3)) * 0.2 + (0.0, 3.0, 0.0)
    which = rng.integers(0, len(lots), 40)
    got, left = settle_each(points, [[fields[k] for k in lots[w]] for w in which])
    for w, lot in enumerate(lots):
        mine = which == w
        wanted, rest = settle(points[mine], [fields[k] for k in lot])
        assert np.allclose(got[mine], wanted, atol=1e-12)
        assert np.allclose(left[mine], rest, atol=1e-12)
    assert np.array_equal(got[which == 0], points[which == 0])


@pytest.mark.parametrize("flush", ["inside", "outside"])
def test_walls_that_step_meet_their_like_in_corners(flush: str) -> None:
    """A box whose walls are 4 thick below and 1.75 above: one wall on each side of each, none of them run on to the corner of the other."""
    out = 2.25 if flush == "inside" else 0.0
    low, high = box(0, 0, 0, 70, 96, 8), box(out, out, 8, 70 - 2 * out, 96 - 2 * out, 7)
    if flush == "inside":
        part = cut(fused(low, [high]), [box(4, 4, 2, 62, 88, 20)])
    else:
        part = cut(fused(low, [high]), [box(4, 4, 2, 62, 88, 6), box(1.75, 1.75, 8, 66.5, 92.5, 20)])
    sheet = extract(solid(part))
    assert sheet.proof is not None
    assert sheet.proof.pieces == 1 and sheet.proof.inner_free_length == 0.0
    assert len(sheet.shape.faces) == 9
    assert sheet.proof.cover > 0.99


def test_elements_that_a_move_turned_inside_out_are_put_back() -> None:
    before = np.array([(x, y, 0.0) for y in range(3) for x in range(4)], float)
    shells = np.array([(i, i + 1, i + 5, i + 4) for i in (0, 1, 2, 4, 5, 6)], np.int32)
    points = before.copy()
    points[5] += (0.1, 0.1, 0.0)  # harmless
    points[6] += (1.6, 0.2, 0.0)  # over its neighbours
    _put_back_turned(points, before, shells)
    assert (shell_metrics(points, shells)[:, SCALED_JACOBIAN] > 0).all()
    assert np.array_equal(points[6], before[6])


def size_of(shape: Shape) -> float:
    seen = look(shape)
    return suggested_size(shape, seen.walls, seen.holes)


def test_the_suggested_size_of_a_solid_body_is_not_larger_than_the_body() -> None:
    cube = solid(box(0, 0, 0, 100, 100, 100))
    assert size_of(cube) <= cube.diagonal / 6


def test_bars_of_a_grille_make_the_suggested_size_finer() -> None:
    """Windows of 16 every 20: bars of 4, so at most one element and a bit across one."""
    windows = [box(2 + 20 * i, 2 + 20 * j, -1, 16, 16, 3) for i in range(6) for j in range(6)]
    plain, grille = solid(box(0, 0, 0, 600, 120, 1)), solid(cut(box(0, 0, 0, 600, 120, 1), windows))
    assert strip_width(plain, 1.0) >= 100.0 - 1e-9
    whole = solid(cut(box(0, 0, 0, 120, 120, 1), windows))
    assert 3.5 < strip_width(whole, 1.0) < 5.0
    assert size_of(whole) <= 4.0 < size_of(plain)
    assert size_of(grille) <= size_of(plain)


@pytest.mark.parametrize("times", [0.01, 100.0])
def test_the_suggested_size_grows_with_the_part(times: float) -> None:
    rail = box(0, 0, 0, 1000, 5, 1)
    assert size_of(solid(moved(rail, str(times)))) == pytest.approx(times * size_of(solid(rail)), rel=1e-6)


def test_round_holes_make_the_suggested_size_finer_cut_outs_do_not() -> None:
    blank = box(0, 0, 0, 400, 200, 2)
    plain, drilled, cut_out = (
        solid(cut(blank, [tool])) for tool in (box(-9, -9, 0, 1, 1, 1), cylinder((99, 99, -1), (0, 0, 1), 2.5, 4), box(99, 99, -1, 5, 5, 4))
    )
    assert size_of(drilled) < size_of(plain)
    assert size_of(cut_out) == size_of(plain)


def test_a_wall_without_a_middle_surface_is_refused() -> None:
    """Two halves of one rod: half-way between them lies its axis."""
    rod = Carrier("cylinder", (0.0, 0.0, 0.0, 0.0, 0.0, 1.0, 2.0))
    side = CarrierField(rod, 1.0)
    near_the_axis = np.array([(1e-3, 0.0, 20.0)])
    with pytest.raises(Refused, match="cannot be laid flat"):
        _chart(FREE, solid(cylinder((0, 0, 0), (0, 0, 1), 2.0, 40)), (0, 0), side, side, 4.0, near_the_axis)
