"""Moulded, milled and spun parts: rounded corners, screw posts, pads, blades that stop before a round border."""

from __future__ import annotations

import numpy as np
import pytest

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import unit
from kind_rivet.core.geometry.kernel.facets import facet_shape
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.simplify import simplify
from kind_rivet.core.geometry.split import split_faces
from kind_rivet.core.meshing.assemble import as_mesh
from kind_rivet.core.meshing.bends import _together
from kind_rivet.core.meshing.on_torus import fill_torus
from kind_rivet.core.meshing.patch import lay_flat
from kind_rivet.core.meshing.rib_ends import cut_at_ends
from kind_rivet.core.meshing.rules import ShellRules, WasherRule
from kind_rivet.core.meshing.shells import mesh_sheet, regions_of
from kind_rivet.core.meshing.trias import inverted
from kind_rivet.core.midsurface import drawing as drawing_lines
from kind_rivet.core.midsurface.fields import face_field
from kind_rivet.core.midsurface.middles import Middle, middle_of
from kind_rivet.core.midsurface.network import _divided_alike
from kind_rivet.core.midsurface.pairs import Pair, _without_corners, find_opposed, find_pairs
from kind_rivet.core.quality.limits import DEFAULT
from kind_rivet.core.quality.shell_metrics import SCALED_JACOBIAN, shell_metrics
from kind_rivet.core.repair.holds import holds_of
from kind_rivet.core.repair.optimise import optimise
from tests.thin_meshes import drawing, drawn, drawn_sheet, made, meshed, size_for, whole_proof
from tests.thin_parts import box

NAMES = [
    "moulded_tub", "window_frame", "bladed_disc", "padded_plate", "swaged_tube", "bent_pipe", "chamfered_bell", "finned_disc", "lens_ring",
    "yoke", "box_with_lugs", "triangle_grid", "barbed_spout", "vaned_wheel", "tray_with_catch",
    "ribbed_bowl",
]  # fmt: skip
LUMPS = {"lens_ring": 0.91, "finned_disc": 0.97}  # least cover of parts that are not thin all over


@pytest.mark.parametrize("name", NAMES)
def test_parts_are_one_sheet_and_mesh_soundly(name: str) -> None:
    proof = whole_proof(name)
    assert proof.mass_ratio == pytest.approx(1, abs=0.03 if name == "lens_ring" else 0.02)
    assert proof.cover > LUMPS.get(name, 0.98)
    mesh = made(name)
    assert mesh.pieces == 1
    assert mesh.coincident() == 0
    assert mesh.quad_share >= 0.985
    assert mesh.least_jacobian > 0.5
    assert not len(mesh.quality.failing)
    assert mesh.angle_spread() < 1.0


@pytest.mark.parametrize("name", NAMES)
def test_every_passage_of_a_region_runs_along_a_whole_edge(name: str) -> None:
    """Closed edges on which a seam ends are cut there: else the seam would part the border but not the edge."""
    sheet = drawn_sheet(name).shape
    for faces in regions_of(sheet):
        for loop in lay_flat(sheet, faces).loops:
            for part in loop:
                assert len(part.corners) == len(sheet.edges[part.edge].nodes)


def test_a_circle_split_where_a_seam_ends_falls_into_two() -> None:
    tube = facet_shape(drawing("draw_thin_parts").round_tube())
    seams = [e for e, beside in enumerate(tube.edge_faces) if len(beside) == 2 and beside[0] == beside[1]]
    face = tube.edge_faces[seams[0]][0]
    ends = set(tube.edges[seams[0]].nodes[[0, -1]].tolist())
    d = tube.faces[face].carrier.array
    start = tube.points[tube.edges[seams[0]].nodes[0]] - d[:3]
    radial = unit(start - (start @ d[3:6]) * d[3:6])
    centre = tube.points[tube.facets[tube.facet_face == face]].mean(axis=1)[0]
    across = np.cross(d[3:6], radial) + 0.8 * radial  # so that the split misses the seam
    split, _ = split_faces(tube, "plane", (*d[:3].tolist(), *unit(across).tolist()), centre)
    for e, edge in enumerate(split.edges):
        if ends & set(edge.nodes.tolist()) and split.edges[e].carrier.kind == "circle":
            assert not ends & set(edge.nodes[1:-1].tolist())


def test_walls_round_corners_hardly_wider_than_thick_are_walls() -> None:
    sheet = drawn_sheet("window_frame")
    kinds = [f.carrier.kind for f in sheet.shape.faces]
    assert kinds.count("plane") == 9 and kinds.count("cylinder") == 8
    assert np.allclose(np.sort(np.unique(sheet.thickness.round(6))), [2.5, 3.0])


def test_a_bend_seen_from_both_sides_is_drawn_once() -> None:
    """Ribs part the inner side of a rounded bottom; its outer side is one face."""
    sheet = drawn_sheet("moulded_tub").shape
    bends = [e for e, edge in enumerate(sheet.edges) if edge.carrier.kind == "line" and len(set(sheet.edge_faces[e])) == 2]
    for e in bends:
        middle = sheet.points[sheet.edges[e].nodes].mean(axis=0)
        twins = [k for k in bends if k != e and np.linalg.norm(sheet.points[sheet.edges[k].nodes].mean(axis=0) - middle) < 0.05]
        assert not twins


def test_blades_are_led_through_to_a_round_border() -> None:
    sheet, size = drawn_sheet("bladed_disc").shape, size_for(drawn("bladed_disc"))
    cut = cut_at_ends(sheet, ShellRules(size))
    assert (cut.edges < 0).sum() == 5
    rim = next(e for e, edge in enumerate(sheet.edges) if edge.closed and sheet.edge_length[e] > 300)
    parts = cut.parts(rim)
    assert len(parts) == 5
    assert cut.shape.edge_length[parts].sum() == pytest.approx(sheet.edge_length[rim])
    for a, b in zip(parts, [*parts[1:], parts[0]], strict=True):
        assert cut.shape.edges[a].nodes[-1] == cut.shape.edges[b].nodes[0]
    mesh = made("bladed_disc").shells
    line = mesh.edge_nodes[rim]
    assert line[0] == line[-1] and len(line) == mesh.divisions[rim] + 1
    assert np.allclose(np.linalg.norm(mesh.points[line][:, :2], axis=1), 50, atol=1e-6)


def test_one_cut_opens_a_closed_border_without_parting_it() -> None:
    sheet = drawn_sheet("bladed_disc").shape
    rim = next(e for e, edge in enumerate(sheet.edges) if edge.closed and sheet.edge_length[e] > 300)
    held = {e for e in range(len(sheet.edges)) if e != rim}
    cut = cut_at_ends(sheet, ShellRules(5.0, divisions={rim: 1}), held)
    assert len(cut.parts(rim)) == 1  # no more parts than the count it has by hand


def test_no_ring_has_sides_much_longer_than_the_size() -> None:
    mesh = made("padded_plate")
    holes = [h for h in mesh.shells.holes if h.radius == pytest.approx(4)]
    pads = [h for h in mesh.shells.holes if h.radius == pytest.approx(10)]
    assert len(holes) == len(pads) == 4
    assert all(h.widths for h in holes)
    assert len({h.divisions for h in holes + pads}) == 1  # rows run from hole to pad
    for pad in pads:
        assert 2 * np.pi * (pad.radius + sum(pad.widths)) / pad.divisions < 1.5 * mesh.size


def test_rows_round_a_bent_pipe_follow_its_circles() -> None:
    """Every row of nodes across the bend lies in a plane through the axis of the bend."""
    mesh = made("bent_pipe")
    assert not len(mesh.quality.failing) and mesh.quality.mesh_index > 99.5
    bend = next(f for f, face in enumerate(mesh.sheet.faces) if face.carrier.kind == "torus")
    nodes = np.unique(mesh.shells.elements[mesh.shells.face == bend])
    centre = mesh.sheet.faces[bend].carrier.array[:3]
    away = mesh.shells.points[nodes] - centre
    about = np.sort(np.arctan2(away[:, 1], away[:, 0]))
    rows = np.split(about, np.flatnonzero(np.diff(about) > 0.02) + 1)
    assert len(rows) == 20  # 19 divisions along the bend
    assert max(float(np.ptp(row)) for row in rows) < 1e-3  # the plane's picture of a facet is straight, the torus is not


def test_rows_on_a_torus_are_for_single_faces_of_one_kind() -> None:
    mesh = made("bent_pipe")
    pipe = next(f for f, face in enumerate(mesh.sheet.faces) if face.carrier.kind == "cylinder")
    patch = lay_flat(mesh.sheet, (pipe,))
    square = np.array([[0.0, 0.0], [1.0, 0.0], [1.0, 1.0], [0.0, 1.0]])
    assert fill_torus(patch, square) is None


def test_walls_that_end_where_they_meet_share_one_circle() -> None:
    sheet = drawn_sheet("chamfered_bell").shape
    joints = [e for e, beside in enumerate(sheet.edge_faces) if len(set(beside)) == 2]
    assert sum(sheet.edge_length[joints]) == pytest.approx(2 * np.pi * 31, rel=1e-3)
    assert len(joints) <= 2


def test_a_disc_that_gets_thinner_outwards_is_a_flat_cone_without_a_seam() -> None:
    sheet = drawn_sheet("finned_disc").shape
    disc = int(np.argmax(sheet.face_area))
    carrier = sheet.faces[disc].carrier
    assert carrier.kind == "cone" and np.degrees(carrier.data[6]) > 85
    assert all(
        len(set(sheet.edge_faces[e])) > 1 or sheet.edges[e].closed or disc not in sheet.edge_faces[e] for e in sheet.face_edges[disc]
    )
    known = drawn_sheet("finned_disc").thickness_at(np.array([[20.0, 3.0, 1.7], [35.0, 3.0, 1.2]]), np.array([disc, disc]))
    assert known[0] > known[1] > 2.0


def test_both_sides_of_a_strip_between_rings_get_one_count() -> None:
    mesh = made("lens_ring").shells
    closed = [e for e, edge in enumerate(drawn_sheet("lens_ring").shape.edges) if edge.closed]
    assert len({int(mesh.divisions[e]) for e in closed}) == 1
    assert any("looked past" in note for note in mesh.notes)


def test_counts_by_hand_across_a_strip_are_left() -> None:
    sheet = drawn_sheet("lens_ring").shape
    closed = [e for e, edge in enumerate(sheet.edges) if edge.closed]
    inner = min(closed, key=lambda e: sheet.edge_length[e])
    mesh = mesh_sheet(sheet, ShellRules(4.0, divisions={inner: 40}, washers=(WasherRule(rings=1, width=0.0),)))
    assert mesh.divisions[inner] == 40


def test_a_fillet_that_begins_on_a_hole_is_no_second_border() -> None:
    sheet = drawn_sheet("yoke").shape
    base = next(f for f in range(len(sheet.faces)) if abs(sheet.faces[f].carrier.array[5]) > 0.9)
    ring = [e for e in sheet.face_edges[base] if sheet.edges[e].carrier.kind == "circle"]
    assert len(ring) == 1 and sheet.edge_length[ring[0]] == pytest.approx(2 * np.pi * 6, rel=2e-3)


def test_charts_of_bends_are_cut_in_their_opening() -> None:
    """Ribs pass where a bend's circle would close; its chart must not be cut through the wall for that."""
    sheet = drawn_sheet("moulded_tub").shape
    bends = [f for f, face in enumerate(sheet.faces) if face.carrier.kind == "cylinder" and abs(face.carrier.data[6] - 2) < 1e-6]
    straight = {round(float(abs(sheet.faces[f].carrier.array[3:6]) @ [1, 2, 3])) for f in bends}
    assert len(straight) == 2  # along x and along y
    for f in bends:
        assert not any(len(beside) == 2 and set(beside) == {f} for beside in sheet.edge_faces)
    along_x = [f for f in bends if abs(sheet.faces[f].carrier.array[3]) > 0.9]
    assert len(along_x) == 6  # three pieces between the ribs on either side, each whole from floor to wall


def test_nothing_is_inverted_where_much_is_looked_past() -> None:
    """Webs on a floor inside a rim six times as thick: borders that move together may turn what lies between over."""
    mesh = meshed(drawn_sheet("pocketed_disc"), 3.0)
    assert mesh.pieces == 1
    assert mesh.coincident() == 0
    assert mesh.least_jacobian > 0
    assert len(inverted(mesh.shells)) == 0


def test_elements_past_help_do_not_ruin_their_neighbours() -> None:
    """Webs far narrower than the size leave slivers; moving nodes for their sake must not turn sound elements over, or fling nodes away."""
    sheet = drawn_sheet("pocketed_disc")
    shells = mesh_sheet(sheet.shape, ShellRules(6.0, 0.25))
    before = as_mesh(shells, sheet.shape, 1, 1, 6.0)
    after = optimise(before, holds_of(before, {1: sheet.shape}), DEFAULT, 6.0)
    least = [float(shell_metrics(m.points, m.shells())[:, SCALED_JACOBIAN].min()) for m in (before, after.mesh)]
    assert least[1] >= least[0]
    assert after.failing_after <= after.failing_before
    assert np.linalg.norm(after.mesh.points - before.points, axis=1).max() < 12.0


def test_a_border_touched_by_nothing_is_left_closed() -> None:
    plate = facet_shape(box(0, 0, 0, 40, 30, 2))
    assert cut_at_ends(plate, ShellRules(4.0)).shape is plate
    assert mesh_sheet(drawn_sheet("swaged_tube").shape, ShellRules(3.0)).elements.shape[1] == 4


def test_the_eye_of_a_lug_belongs_to_its_flat_wall() -> None:
    """Its tube is only half as thick as the lug, but its ends are the lug's sides."""
    sheet = drawn_sheet("box_with_lugs")
    assert all(face.carrier.kind == "plane" for face in sheet.shape.faces)
    assert len(sheet.shape.faces) == 7
    lugs = [h for h in made("box_with_lugs").shells.holes if h.radius == pytest.approx(3)]
    assert len(lugs) == 2


def test_three_walls_through_one_line_share_one_edge() -> None:
    sheet = drawn_sheet("triangle_grid").shape
    upright = [e for e in range(len(sheet.edges)) if abs(np.ptp(sheet.points[sheet.edges[e].nodes][:, 2]) - 8.75) < 1e-3]
    assert max(len(set(sheet.edge_faces[e])) for e in upright) == 6
    assert set(drawn_sheet("triangle_grid").thickness.round(6).tolist()) == {1.5, 2.0}  # corners of ribs cut off aslant are no walls
    mesh = made("triangle_grid")
    middle = sheet.points[[sheet.edges[e].nodes[0] for e in upright]][:, :2]
    assert len({tuple(p) for p in middle.round(2).tolist()}) == len(upright)
    assert mesh.coincident() == 0


def test_sides_are_divided_where_nodes_of_another_line_lie_on_them() -> None:
    place = np.array([(0, 0, 0), (4, 0, 0), (1, 0, 0), (3, 1e-4, 0), (2, 0.5, 0), (4.0005, 0, 0)], float)
    number = np.arange(len(place))
    raw = [(0, 7, [0, 1], np.array([(0.0, 0.0), (8.0, 0.0)])), (1, 3, [0, 2, 3, 4, 5], np.zeros((5, 2)))]
    made = _divided_alike(raw, number, place, 1e-3)
    assert made[0][2] == [0, 2, 3, 1]
    assert np.allclose(made[0][3][:, 0], [0, 2, 6, 8])
    assert made[1][2] == [0, 2, 3, 4, 5]
    assert _divided_alike([], number, place, 1e-3) == []


def test_posts_between_the_feet_of_fins_are_made() -> None:
    """Nodes where lines meet move a little; at the cut of a closed wall they still lie on it."""
    sheet = drawn_sheet("finned_base")
    assert [face.carrier.kind for face in sheet.shape.faces].count("cylinder") == 4
    assert sheet.proof is not None
    assert sheet.proof.pieces == 1 and sheet.proof.cover > 0.99
    mesh = meshed(sheet, 2.5)
    assert mesh.pieces == 1 and mesh.coincident() == 0
    assert mesh.least_jacobian > 0.2


def test_a_wedge_alone_keeps_its_two_sides() -> None:
    """Only where a side is seen by another one too is a slanting pair a corner."""
    solid = drawn("triangle_grid")
    flat = [f for f, face in enumerate(solid.faces) if face.carrier.kind == "plane"]
    normal = {f: solid.faces[f].carrier.array[3:6] for f in flat}
    a = flat[0]
    slanting = next(f for f in flat if 0.5 < np.linalg.norm(np.cross(normal[a], normal[f])) < 0.95 or abs(normal[a] @ normal[f]) < 0.5)
    parallel = next(f for f in flat if f != a and abs(normal[a] @ normal[f]) > 0.999)
    wedge, wall = (Pair(a, f, 1.0, 1.0, np.zeros((1, 3))) for f in (slanting, parallel))
    assert _without_corners(solid, [wedge]) == [wedge]
    assert _without_corners(solid, [wedge, wall]) == [wall]


def test_walls_round_one_axis_are_cut_on_one_side() -> None:
    """Else the nodes at two cuts would be a hair apart where the walls meet."""
    sheet = drawn_sheet("barbed_spout").shape
    seams = [edge for e, edge in enumerate(sheet.edges) if len(sheet.edge_faces[e]) == 2 and len(set(sheet.edge_faces[e])) == 1]
    assert len(seams) == 4
    angles = [np.arctan2(p[1], p[0]) for edge in seams for p in sheet.points[edge.nodes]]
    assert np.ptp(angles) < 1e-6


def test_the_line_round_a_steep_step_is_one_circle() -> None:
    sheet = drawn_sheet("barbed_spout").shape
    joints = [e for e, beside in enumerate(sheet.edge_faces) if len(set(beside)) == 2]
    assert len(joints) == 4
    for e in joints:
        p = sheet.points[sheet.edges[e].nodes]
        assert sheet.edges[e].closed
        assert np.ptp(np.hypot(p[:, 0], p[:, 1])) < 0.02 and np.ptp(p[:, 2]) < 0.01


def test_a_wall_that_runs_on_beyond_a_step_stands_in_its_own_middle() -> None:
    sheet = drawn_sheet("tray_with_catch").shape
    catch = [f for f, face in enumerate(sheet.faces) if np.ptp(sheet.points[sheet.facets[sheet.facet_face == f]][..., 2]) < 9]
    top = [p for f in catch for p in sheet.points[np.unique(sheet.facets[sheet.facet_face == f])] if p[2] > 27.9]
    assert len(top) >= 2
    assert np.allclose(np.array(top)[:, 0], 90)


# -- walls that run into each other aslant, beside or in a mitre -----------------------------
def test_the_slanted_top_of_a_gusset_ends_in_the_wall_it_stands_on() -> None:
    """At 24° it is no wall with the bore behind it, and the gusset does not run on within the tube above it."""
    sheet = drawn_sheet("braced_spigot")
    assert sheet.proof is not None
    assert sheet.proof.pieces == 1
    assert sorted(set(np.round(sheet.thickness, 1))) == [3.0, 4.0, 5.0]
    gussets = [f for f in range(len(sheet.shape.faces)) if round(float(sheet.thickness[f]), 1) == 4.0]
    assert len(gussets) == 4
    assert sheet.shape.face_area[gussets] == pytest.approx(180, abs=3)
    mesh = meshed(sheet, 5.0)
    assert len(mesh.quality.failing) <= 4  # the tips themselves, sharper than any element should be


def test_thin_struts_meet_a_thicker_flange_under_the_ring_that_stands_on_both() -> None:
    proof = drawn_sheet("strutted_ring").proof
    assert proof is not None
    assert proof.pieces == 1
    assert proof.mass_ratio == pytest.approx(1, abs=0.005)  # ring and flange share nothing but at the struts
    assert not len(meshed(drawn_sheet("strutted_ring"), 2.5).quality.failing)
    sheet = drawn_sheet("strutted_ring").shape
    stubs = [f for f in range(len(sheet.faces)) if sheet.faces[f].carrier.kind == "cylinder" and sheet.face_area[f] < 5]
    assert len(stubs) == 4
    for f in stubs:  # between the struts' middle and the flange's
        z = sheet.points[sheet.facets[sheet.facet_face == f]][..., 2]
        assert (z.min(), z.max()) == pytest.approx((1, 2))


def test_bends_of_one_radius_meet_in_a_mitre() -> None:
    sheet = drawn_sheet("ribbed_bowl").shape
    bends = [f for f in range(len(sheet.faces)) if sheet.faces[f].carrier.kind == "cylinder"]
    assert len(bends) == 8  # four, each parted by a rib
    corners = [e for e, beside in enumerate(sheet.edge_faces) if len(beside) == 2 and set(beside) <= set(bends)]
    ends = sheet.points[[sheet.edges[e].nodes[[0, -1]] for e in corners]]
    mitres = [q for q in ends if np.abs(np.diff(q[:, 2])) > 1]
    assert len(mitres) == 4
    for q in mitres:
        low, high = q[np.argsort(q[:, 2])]
        assert low[2] == pytest.approx(1.5, abs=1e-6)
        assert high[2] == pytest.approx(4.4, abs=0.2)  # other lines run along it just below its upper end


def test_moves_of_two_bends_go_together() -> None:
    down, along, in_ = np.array([0.0, 0, -1.2]), np.array([1.0, 0, 0]), np.array([0.0, 0.8, 0])
    assert _together([down, down]) == pytest.approx(down)
    assert _together([down, along, in_]) == pytest.approx(down + along + in_)
    assert _together([0 * down]) == pytest.approx(np.zeros(3))
    slant = np.array([0.6, 0, -0.8])
    both = _together([down, slant])
    assert (both @ down / 1.2, both @ slant) == pytest.approx((1.2, 1.0))


def test_a_rib_across_a_bend_leaves_its_rows_as_wide_as_beside_it() -> None:
    sheet = drawn_sheet("ribbed_bowl")
    mesh = meshed(sheet, 5.0)
    bends = [f for f in range(len(sheet.shape.faces)) if sheet.shape.faces[f].carrier.kind == "cylinder"]
    rows = mesh.shells.elements[np.isin(mesh.shells.face, bends)]
    corners = mesh.mesh.points[rows]
    shortest = np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=2).min(axis=1)
    assert shortest.min() > 0.4 * 5.0


def test_fillets_in_a_mitre_stay_apart_where_a_wall_bends() -> None:
    bowl = drawn("ribbed_bowl")
    joined = simplify(bowl, blends=True)[0]
    round_ones = [f for f in range(len(joined.faces)) if joined.faces[f].carrier.kind == "cylinder"]
    radii = {round(float(joined.faces[f].carrier.data[6]), 6) for f in round_ones}
    assert radii == {1.4, 4.4}
    assert joined.face_area[round_ones].sum() == pytest.approx(
        sum(a for f, a in enumerate(bowl.face_area) if bowl.faces[f].carrier.kind == "cylinder")
    )


def test_a_wall_that_cannot_be_laid_flat_leaves_the_others(monkeypatch: pytest.MonkeyPatch) -> None:
    whole = simplify(drawn("box_with_lugs"), blends=True)[0]
    tree = FacetTree.over(whole.points, whole.facets)
    pairs = find_pairs(whole, find_opposed(whole, tree))
    fields = [face_field(whole, f) for f in range(len(whole.faces))]
    tolerance = 1e-6 * whole.diagonal
    all_of_them = drawing_lines.find_middles(whole, pairs, fields, tolerance)
    first = pairs[0]

    def fails(shape: Shape, a: int, b: int, *rest: object) -> Middle:
        if {a, b} == {first.a, first.b}:
            raise Refused("It is too strongly curved.", "Split it.")
        return middle_of(shape, a, b, *rest)  # type: ignore[arg-type]

    monkeypatch.setattr(drawing_lines, "middle_of", fails)
    left = drawing_lines.find_middles(whole, pairs, fields, tolerance)
    assert 0 < len(left) <= len(all_of_them)
    assert sum(len(m.sides[0] | m.sides[1]) for m in left) < sum(len(m.sides[0] | m.sides[1]) for m in all_of_them)
    with pytest.raises(Refused, match="too strongly curved"):
        drawing_lines.find_middles(whole, [first], fields, tolerance)


def test_corners_between_bends_stay_round_as_they_follow_them() -> None:
    shape, size = drawn_sheet("moulded_tub").shape, 2.0
    shells = mesh_sheet(shape, ShellRules(size))
    mesh = as_mesh(shells, shape, 1, 1, size)
    moved = 0.0
    for e, beside in enumerate(shape.edge_faces):
        kinds = [shape.faces[f].carrier.kind for f in beside]
        if sorted(kinds) != ["plane", "torus"]:
            continue
        torus = shape.faces[beside[kinds.index("torus")]].carrier.array
        away = [np.linalg.norm(np.cross(p[shells.edge_nodes[e]] - torus[:3], torus[3:6]), axis=1) for p in (shells.points, mesh.points)]
        assert np.ptp(away[1]) < 1e-4 * size
        moved = max(moved, float(np.abs(away[1] - away[0]).max()))
    assert moved > 0.1 * size
