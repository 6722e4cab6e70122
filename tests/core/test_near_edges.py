"""Holes near edges: facing rows, rings turned to corners, holes that all but touch a border, discs, collapsed quads."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from kind_rivet.core.geometry.kernel.facets import facet_shape
from kind_rivet.core.geometry.kernel.parts import parts_of
from kind_rivet.core.meshing.fillings import plane_filling
from kind_rivet.core.meshing.free.fill import flat_worst
from kind_rivet.core.meshing.mapped import fill_disc
from kind_rivet.core.meshing.near_edges import _in_phase, _pulled
from kind_rivet.core.meshing.patch import lay_flat
from kind_rivet.core.meshing.rims import rim_of
from kind_rivet.core.meshing.rules import ShellRules, WasherRule
from kind_rivet.core.meshing.sheet_mesh import SheetMesh
from kind_rivet.core.meshing.shells import mesh_sheet, regions_of
from kind_rivet.core.meshing.trias import in_trias, without_collapsed
from kind_rivet.core.meshing.washers import _corners
from kind_rivet.core.midsurface.extract import extract
from kind_rivet.core.midsurface.sheet import Sheet
from kind_rivet.core.quality.shell_metrics import SCALED_JACOBIAN, shell_metrics
from tests.thin_meshes import drawing, made, meshed, solid_of
from tests.thin_parts import box, cut, cylinder, fused

rounded_box = drawing("draw_moulded_parts").rounded_box
RULES = ShellRules(5.0, 0.25, washers=(WasherRule(rings=1, width=0.0),))


def plate_with_hole(x: float, y: float, radius: float) -> Sheet:
    """100 × 60 × 2 with one hole."""
    part = cut(box(0, 0, 0, 100, 60, 2), [cylinder((x, y, -1), (0, 0, 1), radius, 4)])
    return extract(facet_shape(parts_of(part, "solid")[0]))


def border(sheet: Sheet, mesh: SheetMesh, along: int, at: float) -> np.ndarray:
    """Places of the nodes along the straight border where one coordinate has a value."""
    on = np.abs(mesh.points[:, 1 - along] - at) < 1e-6
    return np.sort(mesh.points[on, along])


def test_a_border_near_a_hole_has_a_node_at_its_foot() -> None:
    sheet = plate_with_hole(37.3, 9.0, 3.0)
    mesh = mesh_sheet(sheet.shape, RULES)
    near = border(sheet, mesh, 0, 0.0)
    assert np.abs(near - 37.3).min() < 1e-6
    steps = np.diff(near)
    assert steps.max() / steps.min() < 1.6
    far = border(sheet, mesh, 0, 60.0)  # too far off to care
    assert np.allclose(np.diff(far), 5.0)


def test_a_hole_in_a_corner_gets_more_divisions() -> None:
    inside, edge, corner = (mesh_sheet(plate_with_hole(x, y, 3.9).shape, RULES).holes[0] for x, y in ((50, 30), (50, 11), (11, 11)))
    assert (inside.divisions, edge.divisions, corner.divisions) == (8, 8, 12)
    assert corner.widths == pytest.approx(inside.widths)
    assert 2 * np.pi * 3.9 / corner.divisions > 0.38 * 5.0
    by_hand = ShellRules(5.0, 0.25, washers=(WasherRule(rings=1, width=0.0, divisions=8),))
    assert mesh_sheet(plate_with_hole(11.0, 11.0, 3.9).shape, by_hand).holes[0].divisions == 8


def rounded_plate(radius: float) -> Sheet:
    """100 × 60 × 2 with rounded corners, and a hole of 3.4 near one of them."""
    part = rounded_box(0, 0, 0, 100, 60, 2, radius)
    return extract(facet_shape(parts_of(cut(part, [cylinder((11, 11, -1), (0, 0, 1), 3.4, 4)]), "solid")[0]))


def test_a_ring_faces_the_middle_of_a_rounded_corner() -> None:
    sheet = rounded_plate(6.0)
    patches = [lay_flat(sheet.shape, faces) for faces in regions_of(sheet.shape)]
    about = patches[0].to_plane(np.array([(11.0, 11.0, 1.0)]))[0]
    corners = _corners(patches[0], 3.2 * 5.0, about, np.pi / 4)
    middle = 6 * (1 - 0.5**0.5)
    at = patches[0].to_space(corners)[0]
    assert len(at) == 4
    assert np.abs(np.linalg.norm(at[:, :2] - (middle, middle), axis=1)).min() < 0.05
    assert len(_corners(patches[0], 3.0, about, np.pi / 4)) == 8  # rounded off by more than that: both ends of each
    assert len(_corners(patches[0], 3.2 * 5.0, about, 0.3)) == 5  # fills a division as seen from the hole: a side of its own
    mesh = mesh_sheet(sheet.shape, RULES)
    ring = mesh.points[np.abs(np.linalg.norm(mesh.points[:, :2] - 11, axis=1) - 3.4) < 1e-6][:, :2] - 11
    angle = np.degrees(np.arctan2(ring[:, 1], ring[:, 0]))
    assert np.abs(angle + 135).min() < 1


def test_nodes_of_a_hole_face_the_ends_of_roundings_close_round_it() -> None:
    """A lug 16 wide, its corners rounded by 5, with a hole of 10: eight divisions, one for each side and each rounding round it."""
    blank = rounded_box(0, 0, 0, 16, 40, 2, 5)
    lug = extract(facet_shape(parts_of(cut(blank, [cylinder((8, 32, -1), (0, 0, 1), 5.0, 4)]), "solid")[0]))
    done = meshed(lug, 6.0)
    assert len(done.quality.failing) == 0
    ring = done.mesh.points[np.abs(np.linalg.norm(done.mesh.points[:, :2] - (8, 32), axis=1) - 5.0) < 1e-6][:, :2] - (8, 32)
    assert len(ring) == 8
    assert np.abs((np.degrees(np.arctan2(ring[:, 1], ring[:, 0])) - 22.5) / 45 % 1.0 - 0.5).min() > 0.45


@pytest.mark.parametrize(
    ("count", "feet", "held"),
    [(10, [0.52], {5: 0.52}), (10, [0.52, 0.56], {5: 0.52}), (10, [0.03], {}), (20, [0.26, 0.74], {5: 0.26, 15: 0.74}), (2, [0.9], {})],
)
def test_nodes_are_pulled_to_feet_that_can_be_reached(count: int, feet: list[float], held: dict[int, float]) -> None:
    at = _pulled(count, feet)
    assert len(at) == count + 1
    assert (at[0], at[-1]) == (0.0, 1.0)
    steps = np.diff(at) * count
    assert steps.min() > 0.5
    assert steps.max() < 1.5
    for k, place in held.items():
        assert at[k] == pytest.approx(place)
    if not held:
        assert np.allclose(at, np.linspace(0, 1, count + 1))


def test_a_hole_that_all_but_touches_the_border_is_closed_and_named() -> None:
    sheet = plate_with_hole(50.0, 8.05, 8.0)
    mesh = mesh_sheet(sheet.shape, RULES)
    assert any("The hole at (50, 8.05, 1) was closed" in note for note in mesh.notes)
    assert shell_metrics(mesh.points, mesh.elements)[:, SCALED_JACOBIAN].min() > 0.9
    away = np.linalg.norm(mesh.points[:, :2] - (50, 8.05), axis=1)
    assert away.min() < 4.0  # there are nodes where the hole was


def test_a_hole_with_a_neck_beside_it_stays() -> None:
    sheet = plate_with_hole(50.0, 9.5, 8.0)
    mesh = mesh_sheet(sheet.shape, RULES)
    assert not any("closed" in note for note in mesh.notes)
    away = np.linalg.norm(mesh.points[:, :2] - (50, 9.5), axis=1)
    assert away.min() == pytest.approx(8.0)
    assert shell_metrics(mesh.points, mesh.elements)[:, SCALED_JACOBIAN].min() > 0.2


@pytest.mark.parametrize("count", [8, 12, 16, 20, 32])
def test_discs_become_a_square_with_a_ring(count: int) -> None:
    t = np.arange(count) / count * 2 * np.pi
    loop = 3.0 * np.column_stack((np.cos(t), np.sin(t)))
    mesh = fill_disc(loop, 0.5)
    assert mesh is not None
    assert mesh.trias == 0
    k = count // 4
    assert len(mesh.elements) == k * k + count
    assert mesh.worst > 0.6
    assert np.array_equal(mesh.points[:count], loop)
    turned = mesh.points @ np.array([[0.0, 1.0], [-1.0, 0.0]])  # a quarter turn maps it onto itself
    near = np.linalg.norm(mesh.points[:, None] - turned[None], axis=2).min(axis=0)
    assert near.max() < 1e-9


def test_a_disc_too_small_for_a_square_becomes_four_quads() -> None:
    t = np.arange(8) / 8 * 2 * np.pi
    mesh = fill_disc(np.column_stack((np.cos(t), np.sin(t))), 1.5)
    assert mesh is not None
    assert len(mesh.elements) == 4


@pytest.mark.parametrize("count", [6, 10, 14])
def test_other_counts_are_no_discs(count: int) -> None:
    t = np.arange(count) / count * 2 * np.pi
    assert fill_disc(np.column_stack((np.cos(t), np.sin(t))), 0.5) is None


def test_squares_and_long_ovals_are_no_discs() -> None:
    t = np.arange(16) / 16 * 2 * np.pi
    assert fill_disc(np.column_stack((3 * np.cos(t), np.sin(t))), 0.5) is None
    square = np.array([(0, 0), (1, 0), (2, 0), (2, 1), (2, 2), (1, 2), (0, 2), (0, 1)], float)
    assert fill_disc(square, 0.5) is None


def bare(points: list[tuple[float, float]], elements: list[tuple[int, int, int, int]]) -> SheetMesh:
    p = np.column_stack((np.array(points, float), np.zeros(len(points))))
    n, m = len(p), len(elements)
    return SheetMesh(
        p, np.array(elements, np.int32), np.zeros(n, np.uint8), np.zeros(n, np.int32), np.zeros(m, np.int32), np.full(m, -1, np.int32),
        np.empty(0, np.int64), (), (), (),
    )  # fmt: skip


def test_collapsed_quads_are_cut_in_two_and_others_stay() -> None:
    mesh = bare([(0, 0), (2, 0), (2, 2), (1.8, 0.5), (4, 0), (4, 2)], [(0, 1, 2, 3), (1, 4, 5, 2)])  # the first caves in at its last corner
    assert flat_worst(mesh.points[:, :2], mesh.elements) < 0
    cured = without_collapsed(mesh)
    assert len(cured.elements) == 3
    assert flat_worst(cured.points[:, :2], cured.elements) > 0
    assert (cured.elements[:, 3] >= 0).sum() == 1
    assert without_collapsed(cured) is cured


def test_trias_cut_along_the_shorter_diagonal_or_all_alike() -> None:
    mesh = bare([(0, 0), (2, 0), (3, 1), (1, 1)], [(0, 1, 2, 3)])
    best, alike = in_trias(mesh, True), in_trias(mesh, False)
    assert len(best.elements) == len(alike.elements) == 2
    assert {1, 3} <= set(best.elements[0]) and {1, 3} <= set(best.elements[1])
    assert {0, 2} <= set(alike.elements[0]) and {0, 2} <= set(alike.elements[1])


def test_rims_round_hubs_face_their_rings() -> None:
    """Round ends of a rim get as many divisions as the ring of the hub shows them, and their middles face nodes where the ring has some."""
    mesh = made("lever")
    assert not len(mesh.quality.failing)
    hubs = [h for h in mesh.shells.holes if h.radius < 12 and h.widths and h.round]
    faced = 0
    for e, faces in enumerate(mesh.sheet.edge_faces):
        carrier = mesh.sheet.edges[e].carrier
        if len(faces) < 2 or carrier.kind != "circle" or mesh.sheet.edges[e].closed:
            continue
        hub = next(h for h in hubs if np.linalg.norm(np.array(h.centre) - carrier.array[:3]) < 1e-3)
        nodes = mesh.shells.points[mesh.shells.edge_nodes[e]] - hub.centre
        angle = np.degrees(np.unwrap(np.arctan2(nodes[:, 1], nodes[:, 0])))
        step = 360 / hub.divisions
        assert abs(abs(np.diff(angle).mean()) / step - 1) < 0.15
        ring = mesh.shells.points[mesh.shells.edge_nodes[hub.edges[0]]] - hub.centre
        phase = [((np.degrees(np.arctan2(p[1], p[0])) - angle.mean()) / step) % 1 for p in ring]
        even = min(abs(p - round(p)) for p in phase) < 0.25
        assert even == (len(nodes) % 2 == 1)
        faced += 1
    assert faced >= 2


def test_divisions_in_phase_with_a_ring() -> None:
    sheet = plate_with_hole(50.0, 30.0, 6.0)
    patch = lay_flat(sheet.shape, next(iter(regions_of(sheet.shape))))
    hole = replace(mesh_sheet(sheet.shape, RULES).holes[0], divisions=20)
    corner = patch.flat[patch.loops[hole.loop][0].corners[0]] - patch.outlines[hole.loop].mean(axis=0)
    node = float(np.arctan2(corner[1], corner[0]))
    step = np.radians(18.0)

    def about(middle: float, divisions: float) -> np.ndarray:
        return np.linspace(middle - divisions * step / 2, middle + divisions * step / 2, 9)

    on_node = replace(hole, shift=0.0)
    assert _in_phase(on_node, patch, about(node, 10.4)) == 10
    assert _in_phase(on_node, patch, about(node, 11.4)) == 12
    assert _in_phase(on_node, patch, about(node + step / 2, 10.4)) == 11
    assert _in_phase(on_node, patch, about(node, 11.05)) == 11  # all but a whole number
    assert _in_phase(replace(hole, shift=step / 2 * hole.radius), patch, about(node, 10.4)) == 11


def test_ears_get_divisions_that_face_their_rings() -> None:
    """Four and a half of a ring's divisions face each ear: with five the ring shows it a side, with four its sides were too long."""
    turns = np.arange(6) * np.pi / 3
    ears = [cylinder((50 * np.cos(a), 50 * np.sin(a), 0), (0, 0, 1), 9, 4) for a in turns]
    bores = [cylinder((51 * np.cos(a), 51 * np.sin(a), -1), (0, 0, 1), 3.5, 6) for a in turns]
    mesh = meshed(extract(solid_of(cut(fused(cylinder((0, 0, 0), (0, 0, 1), 50, 4), ears), bores))), 4.0)
    rings = [h for h in mesh.shells.holes if h.radius < 5]
    assert [h.divisions for h in rings] == [8] * 6
    ends = [
        e
        for e in range(len(mesh.sheet.edges))
        if mesh.sheet.edges[e].carrier.kind == "circle" and abs(mesh.sheet.edges[e].carrier.data[6] - 9) < 1e-6
    ]
    assert {int(mesh.shells.divisions[e]) for e in ends} == {5}
    assert len(mesh.quality.failing) == 0


def test_an_eye_without_room_for_a_ring_is_divided_for_the_row_round_it() -> None:
    """A bored boss on a lug: eight sides at the boss would face sides at the lug's end that are too long."""
    lug = fused(box(-60, -18, 0, 60, 36, 8), [cylinder((0, 0, 0), (0, 0, 1), 18, 8), cylinder((0, 0, 8), (0, 0, 1), 14, 6)])
    mesh = meshed(extract(solid_of(cut(lug, [cylinder((0, 0, -1), (0, 0, 1), 8, 20)]))), 8.0)
    assert [hole.divisions for hole in mesh.shells.holes] == [12]
    assert len(mesh.quality.failing) == 0


@pytest.mark.parametrize(("width", "radius", "size"), [(26, 3.9, 5.0), (40, 6.0, 8.0), (26.11, 4.83, 4.0)])
def test_a_lug_with_one_row_round_its_ring_has_rows_to_its_end(width: float, radius: float, size: float) -> None:
    """The ring is a little more than a size from the round end: with too few divisions there quads with three corners on the end were left."""
    ends = [cylinder((30, 0, 0), (0, 0, 1), width / 2, 4)]
    lug = fused(box(-30, -width / 2, 0, 60, width, 4), ends)
    mesh = meshed(extract(solid_of(cut(lug, [cylinder((30, 0, -1), (0, 0, 1), radius, 6)]))), size)
    assert not len(mesh.quality.failing)
    assert mesh.least_jacobian > 0.75


def test_arcs_of_a_rounded_end_get_the_same_count() -> None:
    """Five sides at the foot of a tongue, one along each flank and four round each corner are odd; one more on one arc alone leaves it lopsided."""
    ends = [cylinder((5, y, 0), (0, 0, 1), 12.28, 2) for y in (-0.22, 0.22)]
    tongue = fused(box(0, -12.5, 0, 5, 25, 2), [*ends, box(5, -0.22, 0, 12.28, 0.44, 2), box(0, -12.5, 0, 2, 25, 30)])
    mesh = meshed(extract(solid_of(cut(tongue, [box(-20, -20, -1, 20, 40, 40)]))), 5.0)
    flat = mesh.mesh.points[np.abs(mesh.mesh.points[:, 2] - 1) < 1e-6]
    rim = flat[np.hypot(flat[:, 0] - 5, np.maximum(np.abs(flat[:, 1]) - 0.22, 0)) > 12.27]
    rim = rim[rim[:, 0] > 5.1]
    assert (rim[:, 1] > 0.5).sum() == (rim[:, 1] < -0.5).sum()
    assert len(mesh.quality.failing) == 0


def test_a_border_that_is_nearly_symmetric_is_filled_alike() -> None:
    """The tip of a tongue lies where one of its corners was, a little beside the axis."""
    half = [(-0.5, 1.2), (0.0, 1.2), (0.0, 0.8), (0.0, 0.4)]
    arc = [(-1.074, 1.086), (-1.561, 0.761), (-1.886, 0.274)]
    tip = (-2.0, 0.04)
    loop = [(x, -y) for x, y in half] + [(0.0, 0.0)] + half[::-1] + arc + [tip] + [(x, -y) for x, y in arc[::-1]]
    mesh = plane_filling([np.array(loop)], 0.5)
    assert mesh.trias == 0
    inner = mesh.points[len(loop) :]
    image = inner * (1, -1)
    assert np.linalg.norm(inner[:, None] - image[None], axis=2).min(axis=1).max() < 0.05


def ear(off: float) -> Sheet:
    """A tube with an ear of radius 10 on its side, 2.5 thick, and a hole of radius 3 as far off the ear's middle."""
    tube = fused(cylinder((0, 0, 0), (0, 0, 1), 75, 16), [cylinder((83, 0, 7), (0, 0, 1), 10, 2.5)])
    inside = [cylinder((0, 0, -1), (0, 0, 1), 72.5, 20), cylinder((83 + off, 0, 6), (0, 0, 1), 3, 5)]
    return extract(solid_of(cut(tube, inside)))


@pytest.mark.parametrize(("off", "size"), [(0.0, 4.0), (1.0, 4.0), (0.0, 3.0), (0.0, 3.5)])
def test_the_border_of_an_ear_gets_as_many_nodes_as_its_hole(off: float, size: float) -> None:
    """One or two more on the arc, and a parallelogram of shells lay aslant between it and the ring: nine failing, jacobian 0.43."""
    mesh = meshed(ear(off), size)
    hole = next(hole for hole in mesh.shells.holes if hole.radius == pytest.approx(3.0))
    assert len(hole.rim) == 2
    assert sum(mesh.shells.divisions[e] for e in hole.rim) == hole.divisions == 12
    assert not len(mesh.quality.failing)
    assert mesh.least_jacobian > 0.75
    assert mesh.growth.max() < 1.5


def disc(radius: float, inside: float, off: float) -> Sheet:
    """A disc 2 thick with a hole off its middle."""
    return extract(solid_of(cut(cylinder((0, 0, 0), (0, 0, 1), radius, 2), [cylinder((off, 0, -1), (0, 0, 1), inside, 4)])))


@pytest.mark.parametrize(("radius", "inside", "off", "size"), [(20.0, 10.0, 2.0, 4.0), (15.0, 8.0, 0.8, 3.0), (12.0, 8.0, 1.0, 4.0)])
def test_rows_run_all_round_a_hole_that_is_off_the_middle_of_its_disc(radius: float, inside: float, off: float, size: float) -> None:
    """Counts of their own met in shells of a scaled jacobian of 0.2: four to eight failing."""
    mesh = meshed(disc(radius, inside, off), size)
    hole = mesh.shells.holes[0]
    assert mesh.mesh.elements % hole.divisions == 0
    assert mesh.quad_share == 1
    assert not len(mesh.quality.failing)
    assert mesh.least_jacobian > 0.8


def test_a_hole_far_off_the_middle_has_no_rim() -> None:
    assert [bool(meshed(disc(20.0, 10.0, off), 4.0).shells.holes[0].rim) for off in (3.0, 4.0)] == [True, False]


def test_no_edge_too_short_for_a_shell_belongs_to_a_rim() -> None:
    shape = ear(0.0).shape
    hole = next(hole for hole in mesh_sheet(shape, RULES).holes if hole.radius == pytest.approx(3.0))
    assert rim_of(shape, hole.rim, hole, 6.0) == (pytest.approx(10.0), hole.rim)
    assert rim_of(shape, hole.rim, hole, 10.0) is None
    assert rim_of(shape, (*hole.rim, -1), hole, 6.0) is None
