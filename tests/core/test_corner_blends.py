"""Pockets as cutters leave them: large radii in their corners, whose material shells hold beside the joints, and corners rounded outside too."""

from __future__ import annotations

from functools import cache

import numpy as np
import pytest
from OCP.TopoDS import TopoDS_Shape

from kind_rivet.core.document.document import Body, Document
from kind_rivet.core.document.pack import array_key, pack, unpack
from kind_rivet.core.files.report import report_of
from kind_rivet.core.geometry.kernel.facets import facet_shape
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.assemble import measure_thickness
from kind_rivet.core.midsurface.blend_material import BlendMaterial, blends_of
from kind_rivet.core.midsurface.blends import corner_blend, fills, hollow, under_a_corner
from kind_rivet.core.midsurface.extract import extract
from kind_rivet.core.midsurface.sheet import Sheet, Varying
from kind_rivet.core.operations import perform
from tests.rough import rounded
from tests.thin_meshes import meshed
from tests.thin_parts import box, cut, cylinder, fused

LENGTH, WIDTH, HEIGHT, WALL = 86.0, 44.0, 16.0, 2.0
DEEP, WIDE = (LENGTH - 3 * WALL) / 2, WIDTH - 2 * WALL  # of a pocket


def pocketed(corner: float, outside: float = 0.0, more: tuple[TopoDS_Shape, ...] = ()) -> TopoDS_Shape:
    """A block with two pockets side by side, the radii of their corners, that of the block's, and what else is cut out."""
    block = box(0, 0, 0, LENGTH, WIDTH, HEIGHT)
    pockets = [rounded(box(x, WALL, WALL, DEEP, WIDE, HEIGHT), corner, upright=True) for x in (WALL, 2 * WALL + DEEP)]
    return cut(rounded(block, outside, upright=True) if outside else block, [*pockets, *more])


@cache
def sheet_of(corner: float, outside: float = 0.0) -> tuple[Shape, Sheet]:
    solid = facet_shape(pocketed(corner, outside))
    return solid, extract(solid)


@pytest.mark.parametrize("corner", [3.0, 7.0, 12.0])
def test_walls_meet_through_blends_however_large(corner: float) -> None:
    """Two floors, six walls round them, and the web between: with radii of six walls too, under which nothing is a wall of its own."""
    _, sheet = sheet_of(corner)
    proof = sheet.proof
    assert proof is not None
    assert [face.carrier.kind for face in sheet.shape.faces] == ["plane"] * 9
    assert sheet.thickness == pytest.approx(WALL, rel=1e-6)
    assert (proof.pieces, proof.inner_free_length) == (1, 0)
    high, wide = HEIGHT - WALL / 2, WIDTH - WALL
    area = (LENGTH - WALL) * wide + high * (2 * (LENGTH - WALL) + 3 * wide)
    assert sheet.area == pytest.approx(area, rel=1e-6)
    assert not [remark for remark in sheet.remarks if remark.kind == "lump"]


@pytest.mark.parametrize("corner", [3.0, 7.0, 12.0])
def test_blends_are_weighed_once(corner: float) -> None:
    solid, sheet = sheet_of(corner)
    assert sheet.proof is not None
    blends = 8 * (1 - np.pi / 4) * corner**2 * (HEIGHT - WALL)
    assert sheet.proof.blends == pytest.approx(blends / solid.volume, rel=0.03)
    assert sheet.proof.weight == pytest.approx(1, abs=0.004)


def test_shells_beside_joints_hold_their_share_of_the_blends() -> None:
    solid, sheet = sheet_of(7.0)
    made = meshed(sheet, 3.0)
    thickness, offset = measure_thickness(made.mesh, int(made.mesh.body[0]), solid, sheet)
    corner = made.mesh.points[made.mesh.shells()]
    area = np.linalg.norm(np.cross(corner[:, 2] - corner[:, 0], corner[:, 3] - corner[:, 1]), axis=1) / 2
    assert sheet.proof is not None and (made.mesh.shells()[:, 3] >= 0).all()
    assert float(area @ thickness) / solid.volume == pytest.approx(sheet.proof.plain_ratio + sheet.proof.blends, abs=0.004)
    centre = made.mesh.centres()
    upright = np.ptp(corner[:, :, 2], axis=1) > 1
    in_step = upright & (np.abs(centre[:, 1] - WALL / 2) < 0.1)  # the long wall at the front
    beside = np.min([np.abs(centre[:, 0] - x) for x in (WALL / 2, LENGTH / 2, LENGTH - WALL / 2)], axis=0)
    away = in_step & (beside > WALL / 2 + 7 + 1.5) & (centre[:, 2] > WALL)
    assert thickness[away] == pytest.approx(WALL, abs=1e-6) and away.sum() > 10
    assert offset[away] == pytest.approx(0, abs=1e-6)
    near = in_step & (beside > 2.5) & (beside < 6) & (centre[:, 2] > WALL + 1)
    assert near.sum() > 10 and (thickness[near] > 1.1 * WALL).all()
    assert (
        np.abs(offset[near] * 2 - (thickness[near] - WALL)).max() < 1e-6 or np.abs(offset[near] * 2 + (thickness[near] - WALL)).max() < 1e-6
    )


def test_holes_are_no_blends_and_hold_nothing() -> None:
    solid, sheet = sheet_of(7.0)
    drilled = facet_shape(
        pocketed(7.0, more=(cylinder((-1, WIDTH / 2, 9), (1, 0, 0), 3, LENGTH + 2), cylinder((20, 20, -1), (0, 0, 1), 4, 5)))
    )
    other = extract(drilled)
    assert sheet.proof is not None and other.proof is not None
    assert int(blends_of(drilled, other).sum()) == int(blends_of(solid, sheet).sum()) == 8
    assert other.proof.blends * drilled.volume == pytest.approx(sheet.proof.blends * solid.volume, rel=0.03)


def test_blends_are_told_in_words_and_in_the_report() -> None:
    solid, _ = sheet_of(7.0)
    document = Document(name="block", bodies=(Body(1, "block", "#9DB4A0", solid, (), 1.0, (), "drawn"),))
    done = perform(document, "midsurface.extract", {})
    proof = done.sheets[1].proof
    assert proof is not None and f"{100 * proof.blends:.1f} % are in blends" in done.notes[0]
    (told,) = report_of(done, {}, [])["midsurface"]
    assert told["blends"] == proof.blends and told["mass_ratio"] == proof.weight == proof.mass_ratio + proof.blends


def test_without_blends_nothing_is_measured() -> None:
    solid = facet_shape(cut(box(0, 0, 0, 60, 40, 16), [box(2, 2, 2, 56, 36, 16), cylinder((20, 20, -1), (0, 0, 1), 4, 5)]))
    sheet = extract(solid)
    assert not BlendMaterial.of(solid, FacetTree.over(solid.points, solid.facets), sheet)
    assert sheet.proof is not None and sheet.proof.blends == 0 and sheet.proof.weight == sheet.proof.mass_ratio


@pytest.mark.parametrize(("corner", "outside"), [(5.0, 4.5), (8.0, 5.0), (4.0, 5.0)])
def test_corners_rounded_about_two_axes_get_a_bend_of_the_mean_radius(corner: float, outside: float) -> None:
    """The corner of the middles lies outside such a solid, or hardly inside: its walls had ended at its skin, apart from each other."""
    _, sheet = sheet_of(corner, outside)
    proof, shape = sheet.proof, sheet.shape
    assert proof is not None
    bends = [f for f, face in enumerate(shape.faces) if face.carrier.kind == "cylinder"]
    assert len(bends) == 4 and len(shape.faces) == 13
    assert [shape.faces[f].carrier.data[6] for f in bends] == pytest.approx([(corner + outside) / 2] * 4)
    for f in bends:  # between two walls, on the floor
        assert sum(len(set(shape.edge_faces[e])) == 2 for e in shape.face_edges[f]) == 3
    assert (proof.pieces, proof.inner_free_length) == (1, 0)
    assert proof.weight == pytest.approx(1, abs=0.008)


def cup(inside: float, outside: float, floor: float) -> TopoDS_Shape:
    """Open at the top, its floor's corner rounded inside and outside."""
    outer = rounded(cylinder((0, 0, 0), (0, 0, 1), 26, 50), outside)
    inner = rounded(cylinder((0, 0, floor), (0, 0, 1), 24, 60), inside)
    return cut(outer, [inner, box(-30, -30, 30, 60, 60, 60)])


@pytest.mark.parametrize(("inside", "outside", "floor"), [(7.0, 5.5, 3.25), (4.0, 4.5, 2.0)])
def test_cups_too_between_walls_of_unlike_thickness(inside: float, outside: float, floor: float) -> None:
    """Floor and side had been two pieces: the circle in which their middles meet lies outside the solid."""
    solid = facet_shape(cup(inside, outside, floor))
    sheet = extract(solid)
    proof, shape = sheet.proof, sheet.shape
    assert proof is not None
    kinds = [face.carrier.kind for face in shape.faces]
    assert sorted(kinds) == ["cylinder", "plane", "torus"]
    bend = kinds.index("torus")
    radius = (inside + outside) / 2
    assert shape.faces[bend].carrier.data[6:8] == pytest.approx((25 - radius, radius))
    assert (proof.pieces, proof.inner_free_length) == (1, 0)
    assert proof.weight == pytest.approx(1, abs=0.006) and proof.cover > 0.99
    # In the middle of the corner it is as thick as the solid is there, from rounding to rounding.
    turn = np.pi / 4
    at = np.array([[25 - radius + radius * np.sin(turn), 0, floor / 2 + radius * (1 - np.cos(turn))]])
    along = np.array([[np.sin(turn), 0, -np.cos(turn)]])
    tree = FacetTree.over(solid.points, solid.facets)
    told = float(tree.cast(at, along)[0][0] + tree.cast(at, -along)[0][0])
    assert float(sheet.thickness_at(at, np.array([bend]))[0]) == pytest.approx(told, rel=0.025)
    assert isinstance(sheet.taper(bend), Varying)
    arrays: dict[str, np.ndarray] = {}

    def keep(array: np.ndarray) -> str:
        arrays[array_key(array)] = array
        return array_key(array)

    back = unpack(pack(sheet, keep), arrays.__getitem__)
    assert back.thickness_at(at, np.array([bend])) == pytest.approx(sheet.thickness_at(at, np.array([bend])))


def test_a_short_boss_round_a_bore_is_a_wall_above_its_plate_not_below() -> None:
    """Where a round wall is cut open to be laid flat it has no free edge; priced as one, the ring below the plate's middle was kept instead."""
    boss = fused(box(-50, -35, 0, 100, 70, 3), [cylinder((0, 0, 0), (0, 0, 1), 9.5, 13.5)])
    sheet = extract(facet_shape(cut(rounded(boss, 6.5, inner=True), [cylinder((0, 0, -1), (0, 0, 1), 4, 20)])))
    assert sheet.proof is not None
    (ring,) = (f for f, face in enumerate(sheet.shape.faces) if face.carrier.kind == "cylinder")
    high = sheet.shape.points[sheet.shape.facets[sheet.shape.facet_face == ring]][..., 2]
    assert (high.min(), high.max()) == pytest.approx((1.5, 13.5))
    assert sheet.proof.weight == pytest.approx(1, abs=0.005)


def test_a_torus_fills_a_corner_however_it_runs_on() -> None:
    """At the foot of a boss it bends away from the boss as well: more, all in all, than about its tube."""
    solid = facet_shape(rounded(fused(box(-50, -35, 0, 100, 70, 3), [cylinder((0, 0, 0), (0, 0, 1), 9.5, 13.5)]), 2.0, inner=True))
    (foot,) = (f for f, face in enumerate(solid.faces) if face.carrier.kind == "torus")
    assert fills(solid, foot) and not hollow(solid, foot)
    outside = facet_shape(rounded(cylinder((0, 0, 0), (0, 0, 1), 26, 50), 5.0))
    assert not any(fills(outside, f) for f, face in enumerate(outside.faces) if face.carrier.kind == "torus")


def test_what_two_faces_enclose_under_a_corner_is_no_wall() -> None:
    solid, sheet = sheet_of(12.0)
    blends = np.flatnonzero(blends_of(solid, sheet)).tolist()
    assert blends and all(corner_blend(solid, f) for f in blends)
    sides = set(sheet.sides)
    across = [  # each long side outside, with the two blends that run out opposite to it in each pocket
        (f, g) for f in sides for g in blends
        if solid.faces[f].carrier.kind == "plane" and abs(solid.faces[f].carrier.array[4]) > 0.9 and abs(np.mean(solid.points[solid.facets[solid.facet_face == f]][..., 1]) - WIDTH / 2) > WIDTH / 2 - 0.1
    ]  # fmt: skip
    walls = {frozenset((f, g)) for f in sides for g in sides if f < g}
    assert across and all(under_a_corner(solid, f, g, walls) for f, g in across)
    assert not any(under_a_corner(solid, f, g, set()) for f, g in across)
