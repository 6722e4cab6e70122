"""Freely curved skins that ribs, frames and bosses part: one wall, whichever side they stand on."""

from __future__ import annotations

from functools import cache
from types import SimpleNamespace

import numpy as np
import pytest
from OCP.BRepAlgoAPI import BRepAlgoAPI_Common
from OCP.TopoDS import TopoDS_Shape

from kind_rivet.core.geometry.carriers import Carrier, unit
from kind_rivet.core.geometry.kernel.facets import facet_shape
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.soup import facet_neighbours
from kind_rivet.core.meshing.flatten import flatten_facets
from kind_rivet.core.midsurface import skins
from kind_rivet.core.midsurface.blends import hollow, rounding
from kind_rivet.core.midsurface.charts import FacetChart
from kind_rivet.core.midsurface.drawing import _bent_wall
from kind_rivet.core.midsurface.extract import extract
from kind_rivet.core.midsurface.fields import CarrierField, FacetField, face_field
from kind_rivet.core.midsurface.led_across import led_across
from kind_rivet.core.midsurface.led_through import led_through
from kind_rivet.core.midsurface.middles import Between, chart_between
from kind_rivet.core.midsurface.pairs import Pair, find_opposed, find_pairs
from kind_rivet.core.midsurface.sheet import Sheet
from kind_rivet.core.midsurface.tube_charts import TubeChart, tube_ends
from kind_rivet.core.midsurface.wound import unwound
from tests.free_shapes import dish, hull, turned
from tests.rough import rounded
from tests.thin_meshes import meshed, size_for
from tests.thin_parts import box, combined, cut, cylinder, fused

WALL = 2.5


def common(first: TopoDS_Shape, second: TopoDS_Shape) -> TopoDS_Shape:
    return combined(BRepAlgoAPI_Common, first, [second])


def panel() -> TopoDS_Shape:
    """Curved both ways, ribs from border to border that cross, and a boss."""
    ribs = [box(50, -1, -30, WALL, 122, 90), box(-1, 40, -30, 162, WALL, 90)]
    boss = cut(cylinder((110, 85, -30), (0, 0, 1), 9, 90), [cylinder((110, 85, -31), (0, 0, 1), 7, 92)])
    return fused(dish(0, WALL), [common(tool, dish(-12, 1)) for tool in (*ribs, boss)])


def boat() -> TopoDS_Shape:
    """A hull with a keel from end to end and two frames that are open above."""
    skin = cut(hull(0), [hull(WALL)])
    keel = common(box(-1, -WALL / 2, -60, 222, WALL, 42), hull(0.5))
    frames = [common(box(x, -80, -60, WALL, 160, 46), hull(0.5)) for x in (70, 150)]
    return fused(skin, [keel, *frames])


def framed_nose() -> TopoDS_Shape:
    """A turned nose with two ring frames, whose rims leave edges on the skin."""
    outer = np.array([[52.0, 0], [48, 52], [31, 105], [13, 132]])
    inner = np.array([[52.0 - WALL, 0], [48 - WALL, 52], [31 - 0.85 * WALL, 105], [13 - WALL, 132]])
    frames = [cut(common(box(-80, -80, z, 160, 160, WALL), turned(outer)), [cylinder((0, 0, z - 1), (0, 0, 1), 18, 5)]) for z in (40, 80)]
    skin = cut(turned(outer), [turned(inner)])
    return fused(skin, frames)


def bowl() -> TopoDS_Shape:
    """A deep bowl with a cross of ribs at its bottom."""
    outer = np.array([[0.0, 0], [36, 6], [60, 25], [66, 50]])
    inner = np.array([[0.0, WALL], [35.3, 6 + WALL], [57.7, 26], [66 - WALL, 50]])
    core = np.array([[0.0, 1], [35.8, 7], [59, 25.5], [65, 50]])
    ribs = [common(tool, turned(core)) for tool in (box(-80, -WALL / 2, 0, 160, WALL, 30), box(-WALL / 2, -80, 0, WALL, 160, 30))]
    return fused(cut(turned(outer), [turned(inner)]), ribs)


PARTS = {"panel": panel, "boat": boat, "framed nose": framed_nose, "bowl": bowl}
FREE = {"panel": 5, "boat": 2, "framed nose": 3, "bowl": 1}  # faces of the skin's middle


@cache
def solid_of(name: str) -> Shape:
    return facet_shape(PARTS[name]())


@cache
def sheet_of(name: str) -> Sheet:
    return extract(solid_of(name))


@pytest.mark.parametrize("name", PARTS)
def test_a_skin_parted_by_ribs_is_one_wall(name: str) -> None:
    sheet = sheet_of(name)
    proof = sheet.proof
    assert proof is not None
    assert sum(face.carrier.kind == "free" for face in sheet.shape.faces) <= FREE[name]
    assert (proof.pieces, proof.inner_free_length) == (1, 0.0)
    assert proof.mass_ratio == pytest.approx(1.0, abs=5e-3)
    assert proof.cover > 0.998


@pytest.mark.parametrize("name", PARTS)
def test_its_mesh_is_one_piece_without_failing_shells(name: str) -> None:
    made = meshed(sheet_of(name), size_for(solid_of(name)))
    assert not made.shells.notes
    assert (made.pieces, made.coincident()) == (1, 0)
    assert not len(made.quality.failing)
    assert made.quad_share > 0.98


def test_patches_across_a_gap_share_a_field_that_closes_it() -> None:
    solid = solid_of("panel")
    plain = [face_field(solid, f) for f in range(len(solid.faces))]
    pairs = find_pairs(solid, find_opposed(solid, FacetTree.over(solid.points, solid.facets)))
    free = {f for p in pairs for f in (p.a, p.b) if solid.faces[f].carrier.kind == "free"}
    fields = led_across(plain, pairs)
    below = [f for f in sorted(free) if solid.facet_normal[solid.facet_face == f][:, 2].mean() < 0]
    joined = fields[below[0]]
    assert len(below) == 5  # four patches, and the disc within the boss
    assert all(fields[f] is joined for f in below)
    assert isinstance(joined, FacetField)
    facets = joined.tree.facets.astype(np.int64)
    beside, folded = facet_neighbours(joined.tree.facets, len(joined.tree.points))
    assert folded == 0
    f, k = np.nonzero(beside == -1)
    border = joined.tree.points[np.unique(np.concatenate((facets[f, k], facets[f, (k + 1) % 3])))]
    x, y = border[:, 0], border[:, 1]
    assert (
        np.minimum(np.minimum(x, 160 - x), np.minimum(y, 120 - y)) < 1e-6
    ).all()  # no gap is left amid them, not where ribs cross either
    added = facets[sum(len(plain[f].tree.facets) for f in below) :]  # type: ignore[attr-defined]
    p = joined.tree.points[added]
    assert (np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])[:, 2] < 0).all()  # they look the way the patches do


def test_patches_far_apart_or_of_unlike_walls_keep_their_fields() -> None:
    solid = solid_of("panel")
    plain = [face_field(solid, f) for f in range(len(solid.faces))]
    free = [f for f, face in enumerate(solid.faces) if face.carrier.kind == "free" and solid.face_area[f] > 100]
    thin = [Pair(f, f, WALL / 5, 1.0, np.empty((0, 3))) for f in free]
    assert all(a is b for a, b in zip(plain, led_across(plain, thin), strict=True))
    unlike = [Pair(f, f, WALL * 1.5**k, 1.0, np.empty((0, 3))) for k, f in enumerate(free)]
    assert all(a is b for a, b in zip(plain, led_across(plain, unlike), strict=True))


def test_the_ends_nearest_to_each_other_are_joined_first() -> None:
    """Three lengths in a row: joining the outer two would lead a skin over the middle one."""
    solid = solid_of("framed nose")
    plain = [face_field(solid, f) for f in range(len(solid.faces))]
    tubes = [
        f for f, field in enumerate(plain) if isinstance(field, FacetField) and solid.facet_normal[solid.facet_face == f][:, 2].mean() < 0
    ]
    assert len(tubes) == 3  # lengths of the inner skin
    for order in (tubes, tubes[::-1], [tubes[1], tubes[0], tubes[2]], [tubes[0], tubes[2], tubes[1]]):
        joined = led_through([plain[f] for f in order])[0]
        assert isinstance(joined, FacetField)
        height = np.ptp(joined.tree.points[joined.tree.facets][:, :, 2], axis=1)
        assert len(height) > sum(len(plain[f].tree.facets) for f in tubes)  # type: ignore[attr-defined]
        assert height.max() < 20.0


def strip(width: float) -> tuple[np.ndarray, np.ndarray]:
    """A square grid of facets, 40 by 40, with a slot 30 long and so wide amid it."""
    x, y = (g.ravel() for g in np.meshgrid(np.linspace(0, 40, 81), np.linspace(0, 40, 81), indexing="ij"))
    n = np.arange(81 * 81).reshape(81, 81)
    a, b, c, d = n[:-1, :-1].ravel(), n[1:, :-1].ravel(), n[1:, 1:].ravel(), n[:-1, 1:].ravel()
    facets = np.concatenate((np.column_stack((a, b, c)), np.column_stack((a, c, d))))
    middle = np.column_stack((x, y))[facets].mean(axis=1)
    slot = (np.abs(middle[:, 0] - 20) < 15) & (np.abs(middle[:, 1] - 20) < width / 2)
    return np.column_stack((x, y, np.zeros(len(x)))), facets[~slot]


def test_a_slot_is_no_end_of_a_tube_but_a_window_may_be() -> None:
    assert tube_ends(*strip(1)) is None
    assert tube_ends(*strip(20)) is not None
    assert tube_ends(*strip(6)) is not None
    assert tube_ends(*strip(6), slot=0.5) is None  # in doubt


def test_a_blunt_nose_is_a_tube_though_its_tip_is_small() -> None:
    outer = np.array([[52.0, 0], [50, 60], [36, 110], [9, 135]])
    inner = np.array([[52.0 - WALL, 0], [50 - WALL, 60], [36 - 0.9 * WALL, 110 - 0.4 * WALL], [9, 135 - WALL]])
    solid = facet_shape(cut(turned(outer), [turned(inner), cylinder((0, 0, 130), (0, 0, 1), 9, 10)]))
    wall = find_pairs(solid, find_opposed(solid, FacetTree.over(solid.points, solid.facets)))[0]
    first, second = (face_field(solid, f) for f in (wall.a, wall.b))
    chart = chart_between(first, second, wall.wall, wall.middle)
    assert isinstance(chart, TubeChart)
    normal = Between(first, second)(wall.middle)[1]
    assert np.abs(np.einsum("ij,ij->i", chart.normal(chart.flat(wall.middle)), unit(normal))).min() > 0.95


def test_a_slotted_bowl_does_not_wind() -> None:
    solid = solid_of("bowl")
    shape, _ = unwound(solid)
    assert len(shape.faces) == len(solid.faces)


def test_a_deep_bowl_is_laid_flat_as_stiffly_as_nothing_folds() -> None:
    """The rigid map folds a few needles there; seen from above, its rim would have no width."""
    solid = solid_of("bowl")
    face = int(np.argmax(solid.face_area))
    used, local = np.unique(solid.facets[solid.facet_face == face], return_inverse=True)
    space, facets = solid.points[used], local.reshape(-1, 3)
    flat = flatten_facets(space, facets)
    p, q = space[facets], flat[facets]
    was = np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1)
    a, b = q[:, 1] - q[:, 0], q[:, 2] - q[:, 0]
    now = a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]
    assert was[now <= 0].sum() < 1e-3 * was.sum()
    order = np.argsort(now / was)
    least = (now / was)[order][np.searchsorted(np.cumsum(was[order]), 0.02 * was.sum())]
    assert least > 0.3


def test_facets_that_are_a_line_do_not_lead_far_away() -> None:
    points = np.array([[0.0, 0, 0], [2, 0, 0], [2, 1, 0], [0, 1, 0], [3, 0, 0], [4, 0, 0]])
    facets = np.array([[0, 1, 2], [0, 2, 3], [1, 4, 5]])  # the last one has no area
    chart = FacetChart(points, points[:, :2], facets)
    places = np.array([[0.5, -1e-3, 0], [2.5, 1e-3, 0], [3.5, -1e-3, 0]])
    assert chart.flat(places) == pytest.approx(places[:, :2])


def test_points_that_find_no_middle_stay_half_a_wall_below() -> None:
    points = np.array([[0.0, 0, 0], [1, 0, 0], [0, 1, 0]])
    side = FacetField(FacetTree.over(points, np.array([[0, 1, 2]], np.int32)), np.tile([0.0, 0, 1], (1, 3, 1)))
    near = CarrierField(Carrier("plane", (0, 0, -0.4, 0, 0, 1)), 1.0)
    far = CarrierField(Carrier("plane", (0, 0, -50, 0, 0, 1)), 1.0)
    assert side.moved_to(near, 1.0)[:, 2] == pytest.approx(-0.4)
    assert side.moved_to(far, 1.0)[:, 2] == pytest.approx(-0.5)


def test_the_margin_of_a_blend_is_no_wall_though_equally_thick() -> None:
    """What lies between the margin of a free-form blend along a corner and the side opposite is as thick as the wall beside it."""
    solid = solid_of("panel")
    free = [f for f, face in enumerate(solid.faces) if face.carrier.kind == "free"]
    a, b = sorted(free, key=lambda f: -float(solid.face_area[f]))[:2]

    made = SimpleNamespace(samples=np.zeros((40, 3)), thickness=lambda at: np.full(len(at), WALL))
    smaller = float(min(solid.face_area[a], solid.face_area[b]))
    assert _bent_wall(solid, Pair(a, b, WALL, 0.6 * smaller, made.samples), made)  # type: ignore[arg-type]
    assert not _bent_wall(solid, Pair(a, b, WALL, 0.2 * smaller, made.samples), made)  # type: ignore[arg-type]


def test_the_margin_of_a_blend_makes_it_no_patch_of_a_skin(monkeypatch: pytest.MonkeyPatch) -> None:
    ribs = [common(rib, dish(-12, 1)) for rib in (box(50, -1, -30, WALL, 122, 90), box(-1, 40, -30, 162, WALL, 90))]
    solid = facet_shape(rounded(fused(dish(0, WALL), ribs), 2.0, inner=True))
    skin = int(np.argmax(solid.face_area))
    free = [f for f, face in enumerate(solid.faces) if face.carrier.kind == "free" and solid.face_area[f] > 100]
    blend = next(f for f in free if rounding(solid, f, WALL) and hollow(solid, f) and f != skin)
    beside = next(f for e in solid.face_edges[blend] for f in solid.edge_faces[e] if f != blend and solid.face_area[f] > 1000)
    for share, taken in ((0.2, False), (0.8, True)):
        pairs = [
            Pair(skin, beside, WALL, float(solid.face_area[beside]), np.empty((0, 3))),
            Pair(skin, blend, WALL, share * float(solid.face_area[blend]), np.empty((0, 3))),
        ]
        monkeypatch.setattr(skins, "find_pairs", lambda shape, opposed, pairs=pairs: pairs)
        assert (blend in skins.skin_patches(solid, FacetTree.over(solid.points, solid.facets))) == taken
