"""Walls that turn and bulge, stand on bends, end on others: elbows, wheels, beads, dimples, ribbed ends, keyed hubs."""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np
import pytest
from OCP.BRepPrimAPI import BRepPrimAPI_MakeSphere

from kind_rivet.core.geometry.carriers import FREE, Carrier, frame
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.meshing.bolt_circles import Circles
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.meshing.divisions import _bulging
from kind_rivet.core.meshing.patch import lay_flat
from kind_rivet.core.meshing.round_chains import in_step
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.sizes import poor_sides
from kind_rivet.core.meshing.washers import find_round_holes
from kind_rivet.core.midsurface.bend_lines import _joined
from kind_rivet.core.midsurface.contacts import _left
from kind_rivet.core.midsurface.extract import extract
from kind_rivet.core.midsurface.hidden_crossings import without_hidden_crossings
from kind_rivet.core.midsurface.remarks import in_words
from kind_rivet.core.midsurface.sew import _clear_of
from tests.thin_meshes import Made, drawing, drawn, drawn_sheet, made, meshed, size_for, solid_of

NAMES = list(drawing("draw_round_parts").PARTS)


@pytest.mark.parametrize("name", NAMES)
def test_parts_are_one_sheet_and_mesh_without_failing(name: str) -> None:
    sheet = drawn_sheet(name)
    proof = sheet.proof
    assert proof is not None
    assert (proof.pieces, proof.inner_free_length) == (1, 0)
    assert proof.mass_ratio == pytest.approx(1, abs=0.005)
    assert proof.cover > (0.99 if name == "bellows" else 0.998)  # cones with sharp corners
    assert sheet.thickness.min() > 0
    assert in_words(sheet.remarks) == ""
    mesh = made(name)
    assert (mesh.pieces, mesh.coincident()) == (1, 0)
    assert mesh.quad_share >= 0.985
    assert not len(mesh.quality.failing)
    assert mesh.angle_spread() <= 1


def test_convolutions_narrower_than_their_wall_are_walls_of_their_own() -> None:
    """Root, flank, crest, flank, three times over between two straight ends: every wall is there once, and as long as its middle."""
    sheet = drawn_sheet("bellows").shape
    kinds = [face.carrier.kind for face in sheet.faces]
    assert (kinds.count("cylinder"), kinds.count("cone")) == (7, 6)
    for f, face in enumerate(sheet.faces):
        at = sheet.points[sheet.facets[sheet.facet_face == f]]
        high = float(np.ptp(at[..., 2]))
        if face.carrier.kind == "cone":
            assert high == pytest.approx(2.6, abs=1e-3)
        elif high < 10:
            assert high == pytest.approx(2.0 if face.carrier.data[6] > 30 else 1.6, abs=1e-3)
    assert len([1 for faces in sheet.edge_faces if len(faces) == 1]) == 2


def test_a_ribbed_hub_is_not_lost_where_a_rib_meets_the_grid_of_its_filling() -> None:
    sheet = drawn_sheet("spoked_wheel").shape
    tubes = [f for f, face in enumerate(sheet.faces) if face.carrier.kind == "cylinder"]
    heights = {
        round(sheet.faces[f].carrier.data[6], 1): float(np.ptp(sheet.points[sheet.facets[sheet.facet_face == f]][..., 2])) for f in tubes
    }
    assert heights[12.1] == pytest.approx(16.2 - 1.3, abs=1e-6)


def test_bends_of_a_channel_reach_the_middle_of_the_plate_it_ends_on() -> None:
    sheet = drawn_sheet("ribbed_end").shape
    assert len(sheet.faces) == 6
    for f, face in enumerate(sheet.faces):
        if face.carrier.kind == "cylinder":
            assert sheet.points[sheet.facets[sheet.facet_face == f]][..., 0].min() == pytest.approx(-0.75, abs=1e-6)


def test_beads_end_at_the_middle_of_their_plate() -> None:
    sheet = drawn_sheet("beaded_plate").shape
    round_ones = [f for f, face in enumerate(sheet.faces) if face.carrier.kind != "plane"]
    assert len(round_ones) == 6
    assert sheet.points[sheet.facets[np.isin(sheet.facet_face, round_ones)]][..., 2].min() == pytest.approx(0.9, abs=1e-6)


def test_a_branch_across_a_bend_meets_both_walls_in_few_edges() -> None:
    sheet = drawn_sheet("branched_elbow").shape
    assert sorted(face.carrier.kind for face in sheet.faces) == ["cylinder", "cylinder", "cylinder", "plane", "torus"]
    torus = next(f for f, face in enumerate(sheet.faces) if face.carrier.kind == "torus")
    assert sheet.points[sheet.facets[sheet.facet_face == torus]][..., 1].min() > -1e-4  # nothing of it beyond its bend
    shared = [e for e, faces in enumerate(sheet.edge_faces) if torus in faces and len(set(faces)) > 1]
    assert len(shared) < 14


def bolts(mesh: Made) -> list[int]:
    return [hole.divisions for hole in mesh.shells.holes if hole.radius == pytest.approx(3, abs=0.01)]


def test_the_bore_amid_a_circle_of_bolts_makes_no_pattern_of_it() -> None:
    assert bolts(made("branched_elbow")) == [8] * 6  # twelve would do for a pattern, with sides that are too short


def test_a_dimple_gets_one_count_from_its_hole_to_its_foot() -> None:
    mesh = made("dimpled_plate")
    hole = next(h for h in mesh.shells.holes if h.radius == pytest.approx(5.7, abs=0.1))
    circles = [e for e, edge in enumerate(mesh.sheet.edges) if edge.carrier.kind == "circle"]
    assert [int(mesh.shells.divisions[e]) for e in circles] == [hole.divisions] * 3
    assert hole.divisions == 16
    tilt = np.abs(mesh.mesh.points[:, 2] - 1.2) > 1e-6
    assert mesh.quality.index[tilt[np.maximum(mesh.mesh.shells(), 0)].all(axis=1)].min() > 0.4


@pytest.mark.parametrize("by_hand", [False, True])
def test_counts_set_by_hand_are_not_brought_in_step(by_hand: bool) -> None:
    shape = drawn_sheet("dimpled_plate").shape
    circle = next(e for e, edge in enumerate(shape.edges) if edge.carrier.kind == "circle")
    rules = ShellRules(size_for(drawn("dimpled_plate")), 0.25, divisions={circle: 20} if by_hand else {})
    patches = [lay_flat(shape, (f,)) for f in range(len(shape.faces))]
    holes = find_round_holes(shape, patches, rules)
    after, circles = in_step(shape, patches, holes, Circles({}, {}), rules)
    if by_hand:
        assert (after, circles.counts) == (holes, {})
    else:
        counts = {*circles.counts.values(), *(h.divisions for h in after if h.round)}
        assert counts == {16}


def arc(radius: float) -> Curve:
    t = np.linspace(0, np.pi / 2, 40)
    points = radius * np.column_stack((np.cos(t), np.sin(t), 0 * t))
    return Curve.through(points, Carrier("circle", (0, 0, 0, 0, 0, 1, radius)))


@pytest.mark.parametrize(("inner", "ring"), [(20, 36), (26, 46), (40, 50)])
def test_rows_round_an_elbow_are_neither_too_short_within_nor_too_long_without(inner: float, ring: float) -> None:
    curve, rules = arc(inner), ShellRules(3.0, 0.25)
    count = round(curve.length / rules.size)
    n = _bulging(count, curve.length, curve.length * ring / inner, curve, rules)
    ends = np.array([inner, 2 * ring - inner]) * np.pi / 2 / rules.size
    by_mean = round(count * ring / inner)
    assert count <= n <= by_mean
    assert poor_sides(ends / n).max() <= poor_sides(ends / by_mean).max()


def test_sides_are_poor_below_and_above_the_comfort_of_the_default_limits() -> None:
    assert poor_sides(np.array([0.2, 0.35, 0.475, 0.6, 1.0, 1.5, 1.85, 2.2, 3.0])) == pytest.approx([1, 1, 0.5, 0, 0, 0, 0.5, 1, 1])


def test_a_kink_within_a_share_of_the_size_asks_for_no_divisions() -> None:
    kinked = Curve.through(np.array([[0, 0, 0], [9.5, 0, 0], [9.6, 0.4, 0], [10, 0.4, 0]], float), Carrier("free", ()))
    assert kinked.turning() > 2
    assert kinked.turning(unseen=0.6) == 0
    assert arc(5).turning(unseen=0.6) == pytest.approx(np.pi / 2, rel=1e-3)


def test_stretches_of_one_circle_are_joined_where_a_wall_stands_between_them() -> None:
    """Where the elbow's bend begins a branch stands (with its bore between −13° and 13°), where it ends there is nothing but its wall."""
    sheet, solid = drawn_sheet("branched_elbow"), drawn("branched_elbow")
    ring, radius = next(face.carrier for face in sheet.shape.faces if face.carrier.kind == "torus").data[6:8]
    tree = FacetTree.over(solid.points, solid.facets)
    begins, ends = (Carrier("circle", (*at, *axis, radius)) for at, axis in (((ring, 0, 0), (0, 1, 0)), ((0, ring, 0), (1, 0, 0))))

    def stretch(circle: Carrier, first: float, last: float) -> np.ndarray:
        """Part of a circle (degrees)."""
        d = circle.array
        u, v = frame(d[3:6])
        t = np.radians(np.linspace(first, last, 9))[:, None]
        return d[:3] + d[6] * (np.cos(t) * u + np.sin(t) * v)

    def joined(circle: Carrier, *spans: tuple[float, float]) -> list[np.ndarray]:
        return _joined(circle, [stretch(circle, *span) for span in spans], [], solid, tree)

    (closed,) = joined(ends, (0, 150), (170, 340))
    assert np.allclose(closed[0], closed[-1])
    (open_,) = joined(begins, (30, 150), (170, 330))
    assert not np.allclose(open_[0], open_[-1])  # the bore lies between
    assert len(joined(begins, (-80, -15), (15, 80))) == 2  # nor is more than half a round led on
    (once,) = joined(ends, (0, 60), (40, 90))
    assert np.linalg.norm(np.diff(once, axis=0), axis=1).sum() == pytest.approx(radius * np.pi / 2, rel=0.01)


def test_flanges_thicker_than_their_web_are_covered_beside_it() -> None:
    draw = drawing()
    solid = solid_of(draw.fused([draw.box(0, -25, 0, 120, 50, 6), draw.box(0, -1, 3, 120, 2, 60)]))
    sheet = extract(solid)
    assert sheet.proof is not None
    assert sheet.proof.cover > 0.999
    assert in_words(sheet.remarks) == ""  # its outer corners are nearer to the thin web, but within the flange


def test_a_bore_that_cuts_into_a_wall_lengthwise_leaves_no_wall_thinner_than_nothing() -> None:
    draw = drawing()
    box = [draw.box(0, 0, 0, 120, 60, 38), draw.box(-1, 2, 2, 122, 56, 34)]
    tube = draw.fused([draw.cut(*box), draw.box(0, 1, 18, 120, 58, 2)])
    sheet = extract(solid_of(draw.cut(tube, draw.cylinder((60, -5, 25), (0, 1, 0), 7.1, 80))))
    assert sheet.proof is not None
    assert sheet.proof.pieces == 1
    assert sheet.proof.mass_ratio == pytest.approx(1, abs=0.005)
    assert sheet.thickness.min() > 0.3


def test_a_small_disc_within_a_boss_gets_few_divisions() -> None:
    draw = drawing()
    boss = draw.cut(
        draw.fused([draw.box(-30, -30, 0, 60, 60, 3), draw.cylinder((0, 0, 0), (0, 0, 1), 3.9, 25)]),
        draw.cylinder((0, 0, 3), (0, 0, 1), 2.4, 30),
    )
    mesh = meshed(extract(solid_of(boss)), 3.0)
    assert [hole.divisions for hole in mesh.shells.holes] == [8]  # twelve would leave the square within sides of a third of the size
    assert not len(mesh.quality.failing)


def test_a_chain_without_some_of_its_points_falls_into_stretches() -> None:
    line = np.column_stack((np.arange(7.0), np.zeros(7), np.zeros(7)))
    cut = np.isin(np.arange(7), [2, 3])
    assert [part[:, 0].tolist() for part in _left(line, cut)] == [[0, 1, 2], [3, 4, 5, 6]]
    assert _left(line, np.ones(7, bool)) == []
    ring = np.array([[0, 0, 0], [1, 0, 0], [2, 1, 0], [1, 2, 0], [0, 0, 0]], float)
    (part,) = _left(ring, np.array([False, False, True, False, False]))
    assert part.tolist() == [ring[2].tolist(), ring[3].tolist(), ring[0].tolist(), ring[1].tolist(), ring[2].tolist()]


def test_places_on_a_segment_are_left_out_of_a_filling() -> None:
    grid = np.stack(np.meshgrid(np.arange(5.0), np.arange(3.0), indexing="ij"), axis=-1).reshape(-1, 2)
    rib = np.array([[[2.0, -1.0], [2.0, 1.5]]])
    left = _clear_of(rib, grid)
    assert len(left) == len(grid) - 2
    assert not ((left[:, 0] == 2) & (left[:, 1] < 1.5)).any()


def test_a_facet_that_reaches_from_end_to_end_of_an_arc_is_split() -> None:
    def across(p: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """A cylinder of radius 2 about the y axis' direction through (5, 0, 1), and one of radius 1 through (5, 0, 7)."""
        away = [np.hypot(p[:, 0] - 5, p[:, 2] - z) - r for z, r in ((1.0, 2.0), (7.0, 1.0))]
        return np.minimum(*away), np.zeros_like(p)

    points = np.array([(0, 0, 0), (10, 0, 0), (5, 0, 20.0), (5, 0, -20.0)])
    facets = np.array([(0, 1, 2), (1, 0, 3)])
    new, split, of = without_hidden_crossings(points, facets, across, 0.1)
    assert np.array_equal(new[:4], points)
    assert set(of.tolist()) == {0, 1}
    corners = new[split]
    area = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])[:, 1]
    assert (area < 0).all() if area[0] < 0 else (area > 0).all()
    for k, whole in enumerate((100.0, 100.0)):
        assert np.abs(area[of == k]).sum() / 2 == pytest.approx(whole)
    sides = [tuple(sorted((int(a), int(b)))) for row in split for a, b in itertools.pairwise([*row, row[0]])]
    middle = np.array([new[list(side)].mean(axis=0) for side in set(sides)])
    ends = np.array([across(new[list(side)])[0] >= 0 for side in set(sides)])
    alike = ends[:, 0] == ends[:, 1]
    assert ((across(middle)[0] >= 0)[alike] == ends[alike, 0]).all()
    assert not ends.all()  # the circles are seen now, the small one too
    assert (across(new)[0][new[:, 2] > 5] < 0).any()
    beside = {side: sides.count(side) for side in sides}
    assert sum(n == 1 for n in beside.values()) == 4  # nothing gapes where the two facets meet
    same = without_hidden_crossings(points, facets, lambda p: (p[:, 2] + 30, np.zeros_like(p)), 0.1)
    assert len(same[0]) == 4 and np.array_equal(same[1], facets)


def test_a_facet_on_a_middle_itself_is_not_split() -> None:
    """Round-off changes the sign all over it: it would be split again and again."""
    points = np.array([(0, 0, 0), (10, 0, 0), (5, 0, 20.0)])

    def noise(p: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        return 1e-14 * np.sin(1e3 * p.sum(axis=1)), np.zeros_like(p)

    _, split, _ = without_hidden_crossings(points, np.array([(0, 1, 2)]), noise, 1.0)
    assert split.tolist() == [[0, 1, 2]]


def test_a_facet_that_is_a_line_is_split_by_its_neighbours_alone() -> None:
    def waves(p: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        return np.sin(0.4 * p[:, 0]) + 0.2, np.zeros_like(p)

    def quick(p: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        return np.sin(1.3 * p[:, 0]) + 0.2, np.zeros_like(p)

    points = np.array([(0, 0, 0), (60, 0, 0), (53, 0, 0), (30, 10, 0.0)])
    new, split, of = without_hidden_crossings(points, np.array([(0, 1, 2), (1, 0, 3)]), waves, 4.0)
    assert len(split) > 8 and set(of.tolist()) == {0, 1}
    corners = new[split[of == 1]]
    assert np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1).sum() / 2 == pytest.approx(300)
    sides = [{tuple(sorted((int(a), int(b)))) for row in split[of == k] for a, b in itertools.pairwise([*row, row[0]])} for k in (0, 1)]
    assert {side for side in sides[1] if not new[list(side), 1].any()} <= sides[0]  # nothing gapes
    line = np.array([(4.25, 0, 0), (55.75, 0, 0), (50.34, 0, 0)])
    assert without_hidden_crossings(line, np.array([(0, 1, 2)]), quick, 2.0)[1].tolist() == [[0, 1, 2]]


def test_what_faces_bulge_beyond_their_facets_counts() -> None:
    ball = solid_of(BRepPrimAPI_MakeSphere(10.0).Solid())
    exact = 4000 * np.pi / 3
    assert ball.bulged_volume == ball.volume  # round sides and their sheet fall short alike
    free = replace(ball, faces=tuple(replace(face, carrier=FREE) for face in ball.faces))
    assert abs(ball.volume / exact - 1) > 1e-3
    assert free.bulged_volume == pytest.approx(exact, rel=1e-4)
