"""Findings and what is done about them: looking past, splits, hard points, revisions; all of it taken back."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from kind_rivet.core.checks.gate import check
from kind_rivet.core.document.document import Document
from kind_rivet.core.document.store import load, save
from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.faults import find_faults
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.recognise import recognise, recognise_edges
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.simplify import look_past
from kind_rivet.core.geometry.split import split_faces
from kind_rivet.core.mesh.topology import pieces
from kind_rivet.core.meshing.lies_flat import crosses_itself
from kind_rivet.core.meshing.parity import odd_changes
from kind_rivet.core.operations import perform
from kind_rivet.core.operations.regions import faults_of
from tests.conftest import EXAMPLES
from tests.made_up import cube


@pytest.fixture(scope="module")
def sliver_tray() -> Document:
    d = perform(Document(), "part.open", {"path": str(EXAMPLES / "sliver_tray.step")})
    d = perform(d, "midsurface.take_faces", {"body": 1, "thickness": 1.5})
    return perform(d, "mesh.shells", {"size": 5.0})


def closed_loops(shape: Shape) -> int:
    return sum(e.closed for e in shape.edges)


# -- findings and looking past -----------------------------------------------------
def test_findings_have_measured_widths_worst_first(sliver_tray: Document) -> None:
    faults = faults_of(sliver_tray, 1)
    assert [f.share for f in faults] == sorted(f.share for f in faults)
    widths = {(f.kind, round(f.width, 3)) for f in faults}
    assert ("short edge", 1.0) in widths  # the doubled split line of the flange
    assert ("short edge", 1.2) in widths  # the doubled split line of the floor
    assert ("short edge", 0.346) in widths  # where two lines nearly meet
    assert any(f.kind == "sliver" and f.width == pytest.approx(1.187, abs=0.01) for f in faults)
    assert all(f.remedy == "look past" for f in faults)


def test_sliver_tray_fails_before_and_passes_after_looking_past_all_found(sliver_tray: Document) -> None:
    before = len(sliver_tray.quality.failing)
    assert before > 20
    past = perform(sliver_tray, "prepare.remedy", {})
    assert past.stale == ("shells of Sliver tray",)
    clean = perform(past, "mesh.update", {})
    assert len(clean.quality.failing) == 0
    assert not any(f.grade == "blocking" for f in check(clean))
    assert len(clean.sheets[1].shape.faces) < len(sliver_tray.sheets[1].shape.faces)
    assert clean.sheets[1].shape.face_area.sum() == pytest.approx(sliver_tray.sheets[1].shape.face_area.sum())
    back = perform(perform(clean, "prepare.give_back", {"body": 1}), "mesh.update", {})
    assert len(back.quality.failing) == before


def test_edges_are_given_back_one_by_one(sliver_tray: Document) -> None:
    d = perform(sliver_tray, "prepare.look_past_by", {"by": "width", "below": 2.0})
    count, walls = len(d.looked_past), len(d.sheets[1].shape.faces)
    long_one = max(d.looked_past, key=lambda p: p.length)
    one = perform(d, "prepare.give_back", {"body": 1, "middles": [long_one.middle]})
    assert len(one.looked_past) == count - 1
    assert len(one.sheets[1].shape.faces) == walls + 1
    with pytest.raises(Refused, match="lies there"):
        perform(d, "prepare.give_back", {"body": 1, "middles": [(0, 0, 500)]})
    with pytest.raises(Refused, match="No edge"):
        perform(sliver_tray, "prepare.give_back", {"body": 1})


def test_looking_past_by_angle_keeps_corners(sliver_tray: Document) -> None:
    d = perform(sliver_tray, "prepare.look_past_by", {"by": "angle", "below": 5.0})
    assert len(d.sheets[1].shape.faces) == 3  # the floor and two flanges
    d = perform(d, "mesh.update", {})
    assert len(d.quality.failing) == 0


def test_looking_past_a_bend_makes_one_region_on_the_bent_surface(small_sheet: Document) -> None:
    shape = small_sheet.sheets[1].shape
    bend = next(f for f, face in enumerate(shape.faces) if face.carrier.kind == "cylinder")
    lines = [e for e in shape.face_edges[bend] if len(set(shape.edge_faces[e])) == 2]
    d = perform(small_sheet, "prepare.look_past", {"body": 1, "edges": lines})
    assert len(d.sheets[1].shape.faces) == len(shape.faces) - 2
    d = perform(d, "mesh.shells", {"size": 8.0})
    tree = FacetTree.over(shape.points, shape.facets)
    _, _, away = tree.nearest(d.mesh.points)
    assert away.max() < 0.05  # nodes lie on the bent sheet itself, not on chords across the bend
    assert not any(f.grade == "blocking" for f in check(d))


def test_a_cube_without_one_edge_has_five_faces() -> None:
    shape = cube()
    joined, kept = look_past(shape, {0})
    assert len(joined.faces) == len(kept) == 5
    assert len(joined.edges) == 11  # the vertices at its ends keep three edges
    assert joined.face_area.sum() == pytest.approx(shape.face_area.sum())
    run_on, _ = look_past(shape, set(), {0})
    assert len(run_on.faces) == 6


def test_gaps_twins_and_close_points_are_found() -> None:
    a = cube()
    doubled = Shape(
        np.vstack((a.points, a.points + (0, 0, 0.0))), np.vstack((a.facets, a.facets + len(a.points))), np.concatenate((a.facet_face, a.facet_face + 6)),
        np.vstack((a.normals, a.normals)), a.faces * 2, a.edges, False,
    )  # fmt: skip
    assert sum(f.kind == "twin" for f in find_faults(doubled, 5.0, (), False)) == 6


def test_regions_that_would_overlap_when_laid_flat_keep_their_edges(small_sheet: Document) -> None:
    """All bends of the tray looked past: the pattern of a whole tray still lies flat, a closed ring of walls does not."""
    d = perform(small_sheet, "prepare.look_past_by", {"by": "angle", "below": 100.0})
    d = perform(d, "mesh.shells", {"size": 8.0})
    assert not any(f.grade == "blocking" for f in check(d))
    assert pieces(d.mesh) == 1
    assert crosses_itself([np.array([(0, 0), (4, 0), (4, 4), (2, -1)], float)])
    assert not crosses_itself([np.array([(0, 0), (4, 0), (4, 4), (0, 4)], float), np.array([(1, 1), (1, 2), (2, 2)], float)])


def test_a_wall_that_was_left_out_closes_the_gate(tray_mesh: Document) -> None:
    bare = replace(tray_mesh, mesh=tray_mesh.mesh.without_elements(tray_mesh.mesh.face == 3))
    assert any(f.grade == "blocking" and "Walls without elements" in f.text for f in check(bare))


# -- splits --------------------------------------------------------------------------
def hole_at(d: Document, x: float, y: float) -> tuple[float, float, float]:
    return min((h.centre for h in d.bodies[0].holes), key=lambda c: abs(c[0] - x) + abs(c[1] - y))


SPLITS = [
    ("prepare.split_ring", {"hole": (28.0, 28.0, 0.75), "factor": 0.8}, 1),
    ("prepare.split_ring", {"hole": (210.0, 118.0, 0.75), "distance": 8.0}, 1),
    ("prepare.split_line", {"start": (10, 60, 0.75), "end": (50, 120, 0.75)}, 1),
    ("prepare.split_circle", {"centre": (30, 90, 0.75), "radius": 9.0}, 1),
    ("prepare.split_plane", {"face": (210, 0.75, 30), "origin": (80, 0, 0), "normal": (1, 0, 0.3)}, 1),
    ("prepare.split_curve", {"face": (400, 90, 0.75), "points": [(380, 60, 50), (376, 80, 50), (379, 100, 50), (380, 120, 50)]}, 1),
    ("prepare.hard_curve", {"points": [(245, 20, 0), (245, 60, 0)]}, 1),
]


@pytest.mark.parametrize(("name", "values", "more"), SPLITS, ids=[f"{n.split('_', 1)[1]}{k}" for k, (n, _, _) in enumerate(SPLITS)])
def test_faces_split_keep_their_area_and_come_back(tray_sheet: Document, name: str, values: dict[str, object], more: int) -> None:
    before = tray_sheet.sheets[1].shape
    d = perform(tray_sheet, name, {"body": 1, **values})
    after = d.sheets[1].shape
    assert len(after.faces) == len(before.faces) + more
    assert after.face_area.sum() == pytest.approx(before.face_area.sum(), rel=1e-6)
    assert len(d.sheets[1].thickness) == len(after.faces)
    assert np.all(d.sheets[1].thickness == pytest.approx(1.5))
    assert len([b for b in after.edge_faces if len(b) == 1]) >= len([b for b in before.edge_faces if len(b) == 1])
    back = perform(d, "prepare.take_back_split", {})
    assert len(back.sheets[1].shape.faces) == len(before.faces)
    assert len(back.sheets[1].shape.points) == len(before.points)


def test_a_ring_is_an_exact_circle_and_its_wall_is_meshed_in_rows(tray_sheet: Document) -> None:
    d = perform(tray_sheet, "prepare.split_ring", {"body": 1, "hole": (28.0, 28.0, 0.75), "distance": 6.0})
    ring = d.sheets[1].shape.edges[-1]
    assert ring.carrier.kind == "circle"
    assert ring.carrier.data[6] == pytest.approx(10.5, abs=1e-9)
    off = np.linalg.norm(d.sheets[1].shape.points[ring.nodes][:, :2] - (28, 28), axis=1) - 10.5
    assert np.abs(off).max() < 1e-7
    d = perform(d, "mesh.shells", {"size": 5.0})
    assert not any(f.grade == "blocking" for f in check(d))


def test_a_line_that_ends_at_a_hole_runs_on_beyond_it_and_the_mesh_follows(tray_sheet: Document) -> None:
    d = perform(tray_sheet, "prepare.hard_curve", {"body": 1, "points": [(60, 20, 0), (60, 60, 0)]})
    assert len(d.sheets[1].shape.faces) == len(tray_sheet.sheets[1].shape.faces) + 1
    d = perform(d, "mesh.shells", {"size": 6.0})
    on_line = d.mesh.points[np.abs(d.mesh.points[:, 0] - 60) < 1e-6]
    assert len(on_line) > 18
    assert pieces(d.mesh) == 1
    assert not any(f.grade == "blocking" for f in check(d))


def test_perpendicular_meets_the_edge_at_a_right_angle(tray_sheet: Document) -> None:
    shape = tray_sheet.sheets[1].shape
    middles = np.array([shape.points[e.nodes].mean(axis=0) for e in shape.edges])
    edge = int(np.argmin(np.linalg.norm(middles - (210, 4.5, 0.75), axis=1)))
    d = perform(tray_sheet, "prepare.split_perpendicular", {"body": 1, "point": (250, 60, 0.75), "edge": edge})
    new = [e for e in d.sheets[1].shape.edges[len(shape.edges) :] if e.carrier.kind == "line"][-1]
    along = shape.points[shape.edges[edge].nodes[-1]] - shape.points[shape.edges[edge].nodes[0]]
    assert abs(new.carrier.array[3:6] @ along) < 1e-6 * np.linalg.norm(along)


def test_splits_that_miss_are_refused_with_nothing_changed(tray_sheet: Document) -> None:
    for name, values in (
        ("prepare.split_plane", {"face": (210, 0.75, 30), "origin": (1080, 0, 0)}),
        ("prepare.split_ring", {"hole": (28.0, 28.0, 0.75), "distance": 5000.0}),
        ("prepare.split_line", {"start": (10, 60, 0.75), "end": (10, 60, 0.75)}),
        ("prepare.split_circle", {"centre": (30, 90, 0.75), "radius": 900.0}),
        ("prepare.split_perpendicular", {"point": (250, 60, 0.75), "edge": 9999}),
    ):
        with pytest.raises(Refused):
            perform(tray_sheet, name, {"body": 1, **values})
    rail = perform(tray_sheet, "build.line", {"points": [(0, 0, 0), (50, 0, 0)]})
    with pytest.raises(Refused, match="Line has no faces"):
        perform(rail, "prepare.hard_points", {"body": rail.bodies[-1].key, "points": [(0, 0, 0)]})
    with pytest.raises(Refused, match="no such split"):
        perform(tray_sheet, "prepare.take_back_split", {})


@pytest.mark.parametrize("seed", range(6))
def test_random_planes_split_random_walls(seed: int, tray_sheet: Document) -> None:
    """Whatever a plane does to a wall, its area stays and its pieces cover it; else it is refused."""
    rng = np.random.default_rng(seed)
    shape = tray_sheet.sheets[1].shape
    done = 0
    for _ in range(6):
        face = int(rng.integers(len(shape.faces)))
        corners = shape.points[shape.facets[shape.facet_face == face]].reshape(-1, 3)
        at = corners[int(rng.integers(len(corners)))] * 0.5 + corners.mean(axis=0) * 0.5
        try:
            out, lines = split_faces(shape, "plane", (*at, *rng.normal(size=3)), corners[:3].mean(axis=0))
        except Refused:
            continue
        done += 1
        assert lines > 0
        assert out.face_area.sum() == pytest.approx(shape.face_area.sum(), rel=1e-5)
        sides = np.sort(out.facets[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1)
        _, count = np.unique(sides, axis=0, return_counts=True)
        assert count.max() <= 2
        assert all(b for b in out.edge_faces)
    assert done >= 2


# -- hard points, stale marks ----------------------------------------------------------
def test_hard_points_become_nodes_and_only_their_wall_is_meshed_again(tray_mesh: Document) -> None:
    d = perform(tray_mesh, "prepare.hard_points", {"body": 1, "points": [(60, 140, 0), (100.3, 151.7, 0)]})
    assert "shells of Cradle tray" in d.stale
    new = perform(d, "mesh.update", {})
    for p in d.hard_points:
        assert np.linalg.norm(new.mesh.points - np.array(p.place), axis=1).min() < 1e-6
    assert any("1 of 9 walls" in n for n in new.notes)
    old_numbers = set(tray_mesh.mesh.node_id[tray_mesh.mesh.on_item[:] >= 0].tolist())
    assert len(old_numbers & set(new.mesh.node_id.tolist())) > 0
    gone = perform(new, "prepare.drop_hard", {"body": 1, "near": (60, 140, 0)})
    assert len(gone.hard_points) == 1
    with pytest.raises(Refused, match="far off"):
        perform(tray_mesh, "prepare.hard_points", {"body": 1, "points": [(0, 0, 9000)]})


def test_changing_a_count_leaves_the_other_walls_alone(small_mesh: Document) -> None:
    longest = max(range(len(small_mesh.mesh_edges[1])), key=lambda e: len(small_mesh.mesh_edges[1][e]))
    count = len(small_mesh.mesh_edges[1][longest]) + 1
    d = perform(small_mesh, "mesh.divisions", {"body": 1, "edges": [longest], "count": count})
    assert len(d.mesh_edges[1][longest]) - 1 == count
    assert not any(f.grade == "blocking" for f in check(d))
    before = dict(zip(small_mesh.mesh.node_id.tolist(), map(tuple, small_mesh.mesh.points), strict=True))
    after = dict(zip(d.mesh.node_id.tolist(), map(tuple, d.mesh.points), strict=True))
    kept = [n for n in before if n in after]
    assert len(kept) > 0.15 * len(before)
    assert all(np.allclose(before[n], after[n], atol=1e-9) for n in kept)
    for lines in d.mesh_edges[1]:
        assert set(lines.tolist()) <= set(after)


def test_what_stays_is_known_after_saving_and_opening_and_after_a_first_change(tray_mesh: Document, tmp_path: Path) -> None:
    save(tray_mesh, tmp_path / "tray.rivet")
    longest = max(range(len(tray_mesh.mesh_edges[1])), key=lambda e: len(tray_mesh.mesh_edges[1][e]))
    count = len(tray_mesh.mesh_edges[1][longest])
    change = {"body": 1, "edges": [longest], "count": count}
    opened = perform(load(tmp_path / "tray.rivet"), "mesh.divisions", change)
    direct = perform(tray_mesh, "mesh.divisions", change)
    assert np.array_equal(opened.mesh.node_id, direct.mesh.node_id)
    split = perform(direct, "prepare.split_circle", {"body": 1, "centre": (30, 90, 0.75), "radius": 9.0})
    split = perform(split, "mesh.update", {})
    again = perform(split, "prepare.hard_points", {"body": 1, "points": [(60, 140, 0)]})
    again = perform(again, "mesh.update", {})
    assert any("1 of 10 walls" in n for n in again.notes), again.notes


def test_hand_counts_follow_their_edge_through_a_split(tray_mesh: Document) -> None:
    longest = max(range(len(tray_mesh.mesh_edges[1])), key=lambda e: len(tray_mesh.mesh_edges[1][e]))
    length = tray_mesh.sheets[1].shape.edge_length[longest]
    d = perform(tray_mesh, "mesh.divisions", {"body": 1, "edges": [longest], "count": 44})
    d = perform(d, "prepare.split_circle", {"body": 1, "centre": (30, 90, 0.75), "radius": 9.0})
    ((edge, count),) = d.choices.divisions["1"].items()
    assert count == 44
    assert d.sheets[1].shape.edge_length[edge] == pytest.approx(length)


# -- parity ---------------------------------------------------------------------------
def test_odd_borders_are_mended_all_at_once() -> None:
    rng = np.random.default_rng(5)
    for _ in range(50):
        edges = 30
        regions = [rng.choice(edges, size=int(rng.integers(3, 7)), replace=False).tolist() for _ in range(12)]
        count = rng.integers(1, 9, edges)
        held = np.zeros(edges, bool)
        for e in odd_changes(regions, count, held, np.ones(edges)):
            count[e] += 1
        assert all(sum(count[e] for e in r) % 2 == 0 for r in regions)
    assert odd_changes([[0, 1]], np.array([1, 2]), np.array([True, True]), np.ones(2)) == []


# -- revisions ------------------------------------------------------------------------
@pytest.fixture(scope="module")
def job(tray_sheet: Document) -> Document:
    """The tray at size 5 with a material, every usual set, a hole left out, a hand-set count and a live set on a face."""
    d = perform(tray_sheet, "mesh.shells", {"size": 5.0})
    d = perform(d, "sets.usual", {})
    return perform(d, "sets.make", {"name": "floor", "kind": "element", "rule": "face", "body": 1, "number": 0})


def test_a_newer_revision_is_recognised_and_only_touched_walls_are_meshed_again(job: Document) -> None:
    d = perform(job, "prepare.replace", {"body": 1, "path": str(EXAMPLES / "cradle_tray_rev2.step")})
    assert "71 of 71 faces recognised" in d.notes[0]
    assert "25 of 26 holes unmoved, 1 moved" in d.notes[0]
    assert any("36 mm hole moved by 6 mm to (344, 90" in n for n in d.notes)
    assert d.stale == ("midsurface of Cradle tray",)
    new = perform(d, "mesh.update", {})
    assert not new.stale
    assert any("2 of 9 walls were meshed again" in n for n in new.notes)
    assert all(len(s.ids) for s in new.sets), [s.name for s in new.sets if not len(s.ids)]
    assert not any(f.grade == "blocking" for f in check(new))
    # Untouched walls keep every node and element number, in place.
    faces = recognise(job.sheets[1].shape, new.sheets[1].shape)
    unchanged = [f for f in range(9) if faces.unchanged[f]]
    assert len(unchanged) == 7
    old_rows, new_rows = ({int(e): r for e, r in zip(x.mesh.element_id, x.mesh.conn, strict=True)} for x in (job, new))
    kept = 0
    for e, f in zip(job.mesh.element_id.tolist(), job.mesh.face.tolist(), strict=True):
        if f in unchanged and e in new_rows:
            a, b = old_rows[e], new_rows[e]
            assert np.array_equal(job.mesh.node_id[a[a >= 0]], new.mesh.node_id[b[b >= 0]])
            assert np.allclose(job.mesh.points[a[a >= 0]], new.mesh.points[b[b >= 0]], atol=1e-6)
            kept += 1
    assert kept == int(np.isin(job.mesh.face, unchanged).sum())
    moved = next(s for s in new.sets if s.rule is not None and np.allclose(s.rule.centre, (344, 90, 0.75), atol=0.01))
    assert len(moved.ids)


def test_recognition_survives_shuffling_and_finds_what_is_gone(tray: Document) -> None:
    shape = tray.bodies[0].shape
    order = np.random.default_rng(3).permutation(len(shape.faces))
    place = np.argsort(order)
    shuffled = Shape(
        shape.points,
        shape.facets,
        place[shape.facet_face].astype(np.int32),
        shape.normals,
        tuple(shape.faces[k] for k in order),
        shape.edges[::-1],
    )
    found = recognise(shape, shuffled)
    assert np.array_equal(found.faces, place)
    assert found.unchanged.all()
    edges = recognise_edges(shape, shuffled, found.faces)
    assert np.array_equal(edges, np.arange(len(shape.edges))[::-1])
    without = perform(tray, "prepare.remove_holes", {"below": 5.0}).bodies[0]
    less = recognise(shape, without.shape, tray.bodies[0].holes, without.holes)
    assert (less.faces < 0).sum() == 6
    assert sum(k < 0 for k, _ in less.holes) == 6
    assert sum(away == 0.0 and k >= 0 for k, away in less.holes) == 20


def test_another_part_is_no_revision(tray: Document) -> None:
    with pytest.raises(Refused, match="recognised"):
        perform(tray, "prepare.replace", {"body": 1, "path": str(EXAMPLES / "lug_inch.step")})
    with pytest.raises(Refused, match="holds no solid"):
        perform(tray, "prepare.replace", {"body": 1, "path": str(EXAMPLES / "sliver_tray.step")})
