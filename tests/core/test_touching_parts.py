"""Walls that touch along their sides, stand as close together as they are thick, or thicken round corners a little."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from OCP.BRepBuilderAPI import BRepBuilderAPI_Transform
from OCP.gp import gp_Pnt, gp_Trsf

from kind_rivet.core.geometry.carriers import Carrier
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.simplify import simplify
from kind_rivet.core.meshing.opposite import _bearable
from kind_rivet.core.midsurface.contacts import _ended, _through
from kind_rivet.core.midsurface.fields import CarrierField, face_field
from kind_rivet.core.midsurface.middles import Middle, middle_of
from kind_rivet.core.midsurface.pairs import Pair, _is_floor, _without_wedges, find_opposed, find_pairs
from kind_rivet.core.midsurface.prolongs import _as_far_as, prolongs
from kind_rivet.core.midsurface.tangencies import _contact_line, tangencies
from kind_rivet.core.midsurface.ties import tied
from kind_rivet.core.midsurface.traces import Line, _between, inside, outlines
from tests.thin_meshes import drawing, drawn, drawn_sheet, made, meshed, solid_of

# mass and least cover: what a half pipe's wall and the box beside it hold together thickens away from where they touch
PROOFS = {
    "fin_row": (0.002, 0.999),
    "trough": (0.003, 0.997),
    "twin_trough": (0.003, 0.997),
    "collar": (0.003, 0.997),
    "spoked_cap": (0.003, 0.996),
    "closed_bosses": (0.003, 0.999),
    "pipe_on_rail": (0.003, 0.999),
    "barred_window": (0.003, 0.994),
    "pipe_clips": (0.006, 0.999),
    "twin_pipes": (0.006, 0.999),
    "pipe_on_pads": (0.006, 0.999),
    "eyed_link": (0.003, 0.999),
    "flush_link": (0.003, 0.997),
    "flush_lever": (0.003, 0.995),
}
TIES = {"pipe_clips": 3, "twin_pipes": 1, "pipe_on_pads": 2}


@pytest.mark.parametrize("name", PROOFS)
def test_the_sheet_is_one_piece_and_weighs_what_its_solid_weighs(name: str) -> None:
    proof = drawn_sheet(name).proof
    assert proof is not None
    mass, cover = PROOFS[name]
    assert (proof.pieces, proof.inner_free_length) == (1, 0)
    assert proof.mass_ratio == pytest.approx(1, abs=mass)
    assert proof.cover > cover


@pytest.mark.parametrize("name", ["fin_row", "collar", "spoked_cap", "closed_bosses", "pipe_on_rail", "barred_window", *TIES])
def test_its_mesh_has_no_failing_element(name: str) -> None:
    mesh = made(name)
    assert (mesh.pieces, mesh.coincident()) == (1, 0)
    assert not len(mesh.quality.failing)
    assert set(mesh.shells.face.tolist()) == set(range(len(mesh.sheet.faces))) or any("strip" in note for note in mesh.shells.notes)


@pytest.mark.parametrize("name", TIES)
def test_round_walls_that_only_touch_are_tied_where_the_solid_holds_them(name: str) -> None:
    sheet = drawn_sheet(name)
    ties = [r for r in sheet.remarks if r.kind == "tie"]
    assert len(ties) == TIES[name]
    solid = drawn(name)
    tree, own = FacetTree.over(solid.points, solid.facets), FacetTree.over(sheet.shape.points, sheet.shape.facets)
    for tie in ties:
        assert inside(np.array([tie.place]), tree, solid)[0]
        facet, _, away = own.nearest(np.array([tie.place]))
        strip = int(sheet.shape.facet_face[facet[0]])
        assert away[0] < 1e-6 and sheet.shape.faces[strip].carrier.kind == "plane"
        assert sheet.thickness[strip] == pytest.approx(tie.measure)
        beside = sorted(len(faces) for faces in sheet.shape.edge_faces if strip in faces)
        assert beside == [1, 1, 3, 3] or (name == "twin_pipes" and beside[:2] == [1, 1] and len(beside) == 4)


def test_walls_that_do_not_touch_are_not_tied() -> None:
    """Were the walls a quarter as thick, the same middles would lie farther than their walls apart."""
    sheet = drawn_sheet("pipe_clips")
    solid = drawn("pipe_clips")
    tree = FacetTree.over(solid.points, solid.facets)
    apart = replace(sheet, thickness=sheet.thickness / 4)
    assert tied(apart, solid, tree)[0] is apart
    assert tied(sheet, solid, tree)[0] is sheet  # one piece already


@pytest.mark.parametrize("name", ["eyed_link", "flush_link"])
def test_a_web_between_tangent_walls_ends_where_they_run_into_each_other(name: str) -> None:
    """It neither goes on round the eyes within their walls, nor do the eyes keep half a wall below a web that is flush with them."""
    sheet = drawn_sheet(name).shape
    faces = [sheet.points[np.unique(sheet.facets[sheet.facet_face == f])] for f in range(len(sheet.faces))]
    web = next(at for at in faces if np.ptp(at[:, 2]) < 1e-9)
    assert web[:, 0].min() > -1e-3 and web[:, 0].max() < 130 + 1e-3 and np.abs(web[:, 1]).max() < 17.01
    assert np.linalg.norm(web[:, :2], axis=1).min() == pytest.approx(17, abs=1e-3)
    if name == "flush_link":
        low = np.concatenate([at[at[:, 2] < -13 - 1e-6] for at in faces])
        assert ((low[:, 0] < 8) | (low[:, 0] > 122)).all()  # the outer halves of both eyes alone go down to their rims
        assert low[:, 2].min() == pytest.approx(-15, abs=1e-6)


@pytest.mark.parametrize("name", ["eyed_link", "flush_link"])
def test_only_tips_of_wedges_between_tangent_walls_fail(name: str) -> None:
    mesh = made(name)
    assert (mesh.pieces, mesh.coincident()) == (1, 0)
    rows = mesh.shells.elements[mesh.quality.failing]
    centre = np.array([mesh.shells.points[row[row >= 0]].mean(axis=0) for row in rows])
    from_eye = np.minimum(np.abs(centre[:, 0]), np.abs(centre[:, 0] - 130))
    assert len(centre) <= 12
    assert (from_eye < 13).all() and (np.abs(centre[:, 1]) > 13).all()


def test_a_slit_and_a_line_beside_it_are_not_drawn_together_by_a_short_edge_of_another_wall() -> None:
    """The border of the small eye would touch itself; spared as a whole, it was filled with 270 failing shells."""
    mesh = meshed(drawn_sheet("flush_lever"), 8.0)
    assert (mesh.pieces, mesh.coincident()) == (1, 0)
    assert len(mesh.quality.failing) <= 20
    assert mesh.mesh.elements < 500


def junctions(shape: Shape) -> list[np.ndarray]:
    """Where three walls or more share a straight edge: its two ends."""
    return [
        shape.points[shape.edges[e].nodes[[0, -1]]]
        for e, beside in enumerate(shape.edge_faces)
        if len(beside) > 2 and shape.edges[e].carrier.kind == "line"
    ]


def test_a_base_between_close_fins_is_one_wall_with_its_own_thickness() -> None:
    sheet = drawn_sheet("fin_row")
    flat = [f for f in range(len(sheet.shape.faces)) if abs(sheet.shape.faces[f].carrier.data[5]) > 0.999]
    assert [round(float(sheet.thickness[f]), 6) for f in flat] == [3.8]
    assert sheet.shape.face_area[flat[0]] == pytest.approx(19.2 * 56 - 2 * np.pi * 1.4**2, rel=0.01)
    fins = [f for f in range(len(sheet.shape.faces)) if f not in flat]
    assert len(fins) == 10  # five, each cut in two by the slot
    assert all(sheet.taper(f) is not None for f in fins)


@pytest.mark.parametrize("factor", [0.01, 100.0])
def test_close_fins_are_told_alike_at_any_scale(factor: float) -> None:
    move = gp_Trsf()
    move.SetScale(gp_Pnt(0, 0, 0), factor)
    other = solid_of(BRepBuilderAPI_Transform(drawing("draw_touching_parts").fin_row(), move, True).Shape())
    found = []
    for solid, scale in ((drawn("fin_row"), 1.0), (other, factor)):
        pairs = find_pairs(solid, find_opposed(solid, FacetTree.over(solid.points, solid.facets)))
        found.append({(p.a, p.b): p.wall / scale for p in pairs if not p.narrow})
    assert found[0].keys() == found[1].keys()
    assert list(found[0].values()) == pytest.approx([found[1][pair] for pair in found[0]], rel=0.01)  # medians of fins that taper


def test_bottoms_of_holes_far_apart_are_no_floor() -> None:
    solid = drawn("blind_holes")
    bottoms = [f for f, face in enumerate(solid.faces) if face.carrier.kind == "plane" and solid.face_area[f] < 20]
    assert len(bottoms) == 4
    assert not any(_is_floor(solid, f, 4.0) for f in bottoms)


def test_gaps_between_fins_are_a_floor_and_their_tips_are_none() -> None:
    solid = drawn("fin_row")
    middle = np.array([solid.points[solid.facets[solid.facet_face == f]].reshape(-1, 3).mean(axis=0) for f in range(len(solid.faces))])
    up = [f for f, face in enumerate(solid.faces) if face.carrier.kind == "plane" and abs(face.carrier.data[5]) > 0.999]
    gaps = [f for f in up if middle[f, 2] == pytest.approx(3.8)]
    tips = [f for f in up if middle[f, 2] == pytest.approx(24.8)]
    assert gaps
    assert all(_is_floor(solid, f, 3.8) for f in gaps if solid.face_area[f] > 50)
    assert len(tips) == 10
    assert not any(_is_floor(solid, f, 3.8) for f in tips)


def test_a_half_pipe_meets_the_sides_of_its_box_in_straight_lines_at_its_widest() -> None:
    sheet = drawn_sheet("trough")
    pipe = [f for f, face in enumerate(sheet.shape.faces) if face.carrier.kind == "cylinder"]
    assert len(pipe) == 1
    assert sheet.shape.face_area[pipe[0]] == pytest.approx(np.pi * 11.95 * (66 - 1.9), rel=2e-3)
    lines = [ends for ends in junctions(sheet.shape) if abs(ends[0, 1] - ends[1, 1]) > 50]
    assert len(lines) == 2
    for ends in lines:
        assert ends[:, 2] == pytest.approx([12.9, 12.9], abs=1e-4)
        assert min(abs(ends[0, 0] - 0.95), abs(ends[0, 0] - 24.85)) < 1e-6


def test_two_half_pipes_touch_the_wall_between_them_in_one_line() -> None:
    shape = drawn_sheet("twin_trough").shape
    amid = [ends for ends in junctions(shape) if np.allclose(ends[:, 0], 20.4, atol=1e-6) and abs(ends[0, 1] - ends[1, 1]) > 50]
    assert len(amid) == 1
    wall = [f for f, face in enumerate(shape.faces) if np.ptp(shape.points[shape.facets[shape.facet_face == f]][..., 0]) < 1e-6]
    ends = [shape.points[shape.facets[shape.facet_face == f]][..., 1] for f in wall]
    assert {round(float(y.min()), 6) for y in ends} == {0.8}  # no wall goes on beyond the middle of the ends
    assert {round(float(y.max()), 6) for y in ends} == {59.2}


def test_corners_that_thicken_leave_nothing_of_the_flange_within_the_collar() -> None:
    shape = drawn_sheet("collar").shape
    assert len(shape.faces) == 9
    assert all(len(beside) == len(set(beside)) for beside in shape.edge_faces)


def test_only_what_lies_between_the_far_sides_of_two_even_walls_is_a_wedge() -> None:
    solid = drawn("trough")
    kinds = [face.carrier.kind for face in solid.faces]
    pipe, flat = kinds.index("cylinder"), kinds.index("plane")
    other_pipe = kinds.index("cylinder", pipe + 1)
    far = np.zeros((1, 3))
    walls = [Pair(pipe, other_pipe, 1.9, 9.0, far, even=True), Pair(flat, flat + 1, 1.9, 9.0, far, even=True)]
    wedge = Pair(flat, pipe, 2.6, 3.0, far)
    assert _without_wedges(solid, [*walls, wedge]) == walls
    assert _without_wedges(solid, [walls[0], wedge]) == [walls[0], wedge]  # the flat side makes no other wall: this one tapers


def wall_between(solid: Shape, kind: str) -> Middle:
    """The middle of the largest wall of a solid between two faces of a kind."""
    pairs = find_pairs(solid, find_opposed(solid, FacetTree.over(solid.points, solid.facets)))
    pair = next(p for p in pairs if {solid.faces[p.a].carrier.kind, solid.faces[p.b].carrier.kind} == {kind})
    fields = [face_field(solid, f) for f in range(len(solid.faces))]
    return middle_of(solid, pair.a, pair.b, fields[pair.a], fields[pair.b], pair.wall, pair.middle, 1e-6 * solid.diagonal)


@pytest.mark.parametrize(("lift", "touch"), [(0.0, True), (0.5, False), (-0.5, False)])
def test_round_and_flat_middles_touch_only_where_they_just_meet(lift: float, touch: bool) -> None:
    solid = drawn("pipe_on_rail")
    round_, flat = wall_between(solid, "cylinder"), wall_between(solid, "plane")
    data = list(flat.carrier.data)
    data[2] += lift
    flat.carrier = Carrier("plane", tuple(data))
    found = _contact_line(round_, flat)
    assert (found is not None) == touch
    if found is not None:
        place, axis, normal = found
        assert place[1:] == pytest.approx([0, 0.75], abs=1e-9)
        assert abs(axis[0]) == pytest.approx(1)
        assert abs(normal[2]) == pytest.approx(1)


def test_a_tangency_is_drawn_as_far_as_the_solid_goes_and_not_beside_a_bend() -> None:
    solid = drawn("pipe_on_rail")
    tree = FacetTree.over(solid.points, solid.facets)
    middles = [wall_between(solid, "cylinder"), wall_between(solid, "plane")]
    for middle in middles:
        middle.around = middle.wall
    lines = tangencies(solid, tree, middles, {(0, 1)}, [])
    assert [line.middles for line in lines] == [(0, 1)]
    assert sorted(lines[0].points[:, 0]) == pytest.approx([0, 70], abs=0.02)
    assert tangencies(solid, tree, middles, {(0, 1)}, lines) == []
    assert tangencies(solid, tree, middles, set(), []) == []


@pytest.mark.parametrize(("away", "radii", "expected"), [(9.0, (5.0, 4.0), 5.0), (1.0, (5.0, 4.0), 5.0), (8.0, (5.0, 4.0), None)])
def test_round_middles_touch_from_outside_or_one_within_the_other(away: float, radii: tuple[float, float], expected: float | None) -> None:
    middles = [wall_between(drawn("pipe_on_rail"), "cylinder") for _ in radii]
    for middle, x, radius in zip(middles, (0.0, away), radii, strict=True):
        middle.carrier = Carrier("cylinder", (x, 0, 0, 0, 0, 1, radius))
    found = _contact_line(*middles)
    assert (found is None) == (expected is None)
    if found is not None:
        assert found[0] == pytest.approx([expected, 0, 0])


def test_a_long_side_of_a_facet_is_cut_where_the_middle_is_not_where_its_chord_says() -> None:
    middle = wall_between(drawn("pipe_on_rail"), "cylinder")
    radius, z = float(middle.carrier.data[6]), float(middle.carrier.data[2])
    a, b = np.array([[5.0, -20.0, z + 9]]), np.array([[5.0, 3.0, z + 9]])
    values = [middle.field(p)[0] for p in (a, b)]
    at = _between(middle, a, b, *values)
    assert at[0, 1] == pytest.approx(-np.sqrt(radius**2 - 81), abs=0.05 * middle.wall)
    chord = a + values[0] / (values[0] - values[1]) * (b - a)
    assert abs(chord[0, 1] - at[0, 1]) > middle.wall


def test_a_joint_ends_at_a_bend_that_lies_a_hair_off_it() -> None:
    flat = wall_between(drawn("pipe_on_rail"), "plane")
    bend = Line("bend", np.array([[30.0, 1e-4, -2.0], [30.0, 1e-4, 4.0]]), (), (0, 1))
    at = _through(bend, flat)
    assert at == pytest.approx([30, 1e-4, 0.75])
    chain = np.array([[90.0, 0, 0.75], [-20.0, 0, 0.75]])
    upright = replace(flat, field=CarrierField(Carrier("plane", (0, 0, 0, 0, 1, 0)), 1.0), samples=np.array([[10.0, 0, 2]]))
    kept = _ended(chain, at, bend.points, upright)
    assert kept == pytest.approx(np.array([at, chain[1]]))
    assert _through(Line("bend", bend.points + [0, 0, 9], (), (0, 1)), flat) is None


@pytest.mark.parametrize(
    ("count", "lengths", "expected"),
    [(2, [2.0, 3.0], 2), (2, [2.1, 5.3], 4), (1, [0.9, 1.7], 1), (3, [], 3)],
)
def test_counts_that_would_leave_sides_far_too_long_are_raised(count: int, lengths: list[float], expected: int) -> None:
    assert _bearable(count, np.array(lengths)) == expected


def test_rims_of_a_cap_are_not_divided_as_coarsely_as_its_hub() -> None:
    mesh = made("spoked_cap").mesh
    rim = np.linalg.norm(mesh.points[:, :2], axis=1) > 12
    top = rim & (mesh.points[:, 2] > mesh.points[:, 2].max() - 0.5)
    angle = np.sort(np.arctan2(mesh.points[top, 1], mesh.points[top, 0]))
    gaps = np.diff(np.append(angle, angle[0] + 2 * np.pi)) * 12.6
    assert gaps.max() < 1.85 * made("spoked_cap").size


def test_a_hollow_boss_closed_beside_its_foot_gets_no_more_divisions_than_its_floor_bears() -> None:
    mesh = meshed(drawn_sheet("closed_bosses"), 3.0)
    assert [hole.divisions for hole in mesh.shells.holes] == [8, 8]
    assert not len(mesh.quality.failing)


def test_windows_between_bars_leave_no_short_edges_and_no_slits() -> None:
    shape = drawn_sheet("barred_window").shape
    assert shape.edge_length.min() > 1.5
    assert all(len(beside) == len(set(beside)) for beside in shape.edge_faces)
    rims = [edge.carrier.array[6] for edge in shape.edges if edge.carrier.kind == "circle" and edge.carrier.array[6] > 8]
    assert sorted(np.round(rims, 6).tolist()) == [9.0] * 4 + [18.0] * 4


def test_what_two_windows_have_in_common_is_drawn_once_from_end_to_end() -> None:
    solid, _ = simplify(drawn("barred_window"), blends=True)  # as walls are looked for: without the seams of round faces
    tree = FacetTree.over(solid.points, solid.facets)
    fields = [face_field(solid, f) for f in range(len(solid.faces))]
    pair = find_pairs(solid, find_opposed(solid, tree))[0]
    floor = middle_of(solid, pair.a, pair.b, fields[pair.a], fields[pair.b], pair.wall, pair.middle, 1e-6 * solid.diagonal)
    rims = [line for line in outlines(floor, 0, solid, fields, 6.0, 1e-6) if line.kind == "outline"]
    ends = {tuple(p.round(9)) for line in rims if not line.closed for p in line.points[[0, -1]]}
    round_ = [line.points for line in prolongs(rims, floor, 0, tree, solid, 6.0) if len(line.points) > 2]
    amid = [points for points in round_ if np.linalg.norm(points[0, :2] - 30) < 20]
    assert len(amid) == 8  # four bars, at their inner and their outer end
    assert all(tuple(p.round(9)) in ends for points in amid for p in points[[0, -1]])


ARC = np.array([[np.cos(t), np.sin(t), 0.0] for t in np.linspace(0, 1.2, 9)])


def against(angle: float) -> np.ndarray:
    """Direction in which an outline on the unit circle runs on at an angle towards the beginning of the arc."""
    return np.array([np.sin(angle), -np.cos(angle), 0.0])


@pytest.mark.parametrize(
    ("tip", "outward", "wall", "ends"),
    [
        (0.8, against(0.8), 1.0, 0.8),  # what comes to meet it: as far as there
        (0.8, -against(0.8), 1.0, 1.2),  # what begins there and runs the same way is no end
        (0.8, against(0.8) + [0, 0, 1.0], 1.0, 1.2),  # another curve passes
        (0.05, against(0.05), 1.0, 1.2),  # its own beginning
    ],
)
def test_a_curve_is_run_on_as_far_as_the_outline_that_comes_to_meet_it(tip: float, outward: np.ndarray, wall: float, ends: float) -> None:
    at = np.array([np.cos(tip), np.sin(tip), 0.0])
    kept = _as_far_as(ARC, [(at, outward / np.linalg.norm(outward))], wall)
    assert np.arctan2(kept[-1, 1], kept[-1, 0]) == pytest.approx(ends)
    assert np.array_equal(kept[0], ARC[0])
    assert (np.diff(np.arctan2(kept[:, 1], kept[:, 0])) > 0).all()


def test_an_outline_far_off_the_curve_does_not_end_it() -> None:
    at = np.array([np.cos(0.8), np.sin(0.8), 0.2])
    assert _as_far_as(ARC, [(at, against(0.8))], 1.0) is ARC
