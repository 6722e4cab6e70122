"""Meshes that came without geometry: seats on the faces they form, repaired, meshed again."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from kind_rivet.core.document.document import Document
from kind_rivet.core.errors import Refused
from kind_rivet.core.files.exchange import Exchange
from kind_rivet.core.files.vtu import write_vtu
from kind_rivet.core.geometry.carriers import Floats, distance
from kind_rivet.core.geometry.holes import sheet_holes
from kind_rivet.core.geometry.round_fit import fit_round
from kind_rivet.core.geometry.soup import shape_from_triangles
from kind_rivet.core.mesh.mesh import ON_EDGE, ON_FACE, ON_VERTEX
from kind_rivet.core.mesh.topology import pieces
from kind_rivet.core.meshing.seats import faces_under
from kind_rivet.core.operations import perform
from kind_rivet.core.operations.quality import document_holds
from tests.loose import grid, joined, loose, shaken


def flat(u: Floats, v: Floats) -> Floats:
    return np.column_stack((12 * u, 8 * v, 0 * u))


def rib(u: Floats, v: Floats) -> Floats:
    return np.column_stack((0 * u + 6, 8 * u, 4 * v))


def tee() -> Document:
    return loose(*joined(grid(12, 8, flat), grid(8, 4, rib)))


def bend() -> tuple[Floats, np.ndarray]:
    """A flange, a quarter bend of radius 4 and another flange."""

    def round_(u: Floats, v: Floats) -> Floats:
        return np.column_stack((10 + 4 * np.sin(np.pi / 2 * u), 12 * v, 4 - 4 * np.cos(np.pi / 2 * u)))

    return joined(
        grid(10, 10, lambda u, v: np.column_stack((10 * u, 12 * v, 0 * u))), grid(6, 10, round_),
        grid(10, 10, lambda u, v: np.column_stack((0 * u + 14, 12 * v, 4 + 10 * u))),
    )  # fmt: skip


def tube(u: Floats, v: Floats) -> Floats:
    return np.column_stack((6 * np.cos(2 * np.pi * u), 6 * np.sin(2 * np.pi * u), 20 * v))


def with_a_hole(sides: int) -> tuple[Floats, np.ndarray]:
    """A square with a round hole, one ring of `sides` quads and three rows beyond it."""

    def place(u: Floats, v: Floats) -> Floats:
        angle = 2 * np.pi * u
        edge = 10 / np.maximum(np.abs(np.cos(angle)), np.abs(np.sin(angle)))
        ring = np.where(v < 0.26, 3 + 1.5 * v / 0.25, 4.5 + (edge - 4.5) * (v - 0.25) / 0.75)
        return np.column_stack((ring * np.cos(angle), ring * np.sin(angle), 0 * u))

    return joined(grid(sides, 4, place))


def test_a_shaken_mesh_is_repaired_on_its_own_faces(tray_mesh: Document) -> None:
    before = shaken(tray_mesh, 0.3)
    assert len(before.quality.failing) > 30
    after = perform(before, "quality.optimise", {})
    assert len(after.quality.failing) <= len(tray_mesh.quality.failing)
    assert after.quality.mesh_index > tray_mesh.quality.mesh_index
    shape = tray_mesh.sheets[1].shape
    off = np.full(after.mesh.nodes, np.inf)
    for f in np.unique(tray_mesh.mesh.face):  # every node still lies on the wall it came from, or on one beside it
        off = np.minimum(off, np.abs(distance(shape.faces[f].carrier, after.mesh.points) - tray_mesh.mesh.height))
    assert off.max() < 0.05
    round_holes = np.concatenate([tray_mesh.mesh_edges[1][e] for h in tray_mesh.mesh_holes[1] if h.round for e in h.edges])
    held = np.isin(tray_mesh.mesh.node_id, round_holes)
    assert after.mesh.points[held] == pytest.approx(tray_mesh.mesh.points[held])


def test_a_joint_is_one_edge_of_all_its_walls() -> None:
    made = perform(tee(), "part.faces_from_mesh", {})
    shape = made.sheets[1].shape
    assert sorted(len(b) for b in shape.edge_faces) == [1] * 9 + [3]
    joint = next(e for e, beside in enumerate(shape.edge_faces) if len(beside) == 3)
    assert len(made.mesh_edges[1][joint]) == 9
    on = made.mesh.on_kind[np.isin(made.mesh.node_id, made.mesh_edges[1][joint])]
    assert np.bincount(on).tolist() == [0, 2, 7]
    assert made.stale == ()
    finer = perform(made, "mesh.shells", {"size": 0.5})
    assert pieces(finer.mesh) == 1
    assert finer.mesh.counts() == {"quad": 24 * 16 + 16 * 8}
    assert np.unique(finer.mesh.thickness).tolist() == [2.0]
    assert [p.name for p in finer.parts] == ["Part 1"]  # the shells that came are replaced, not doubled


def test_faces_end_where_the_part_or_the_thickness_changes() -> None:
    points, rows = grid(12, 8, flat)
    x = points[rows].mean(axis=1)[:, 0]
    walls = perform(loose(points, rows, thickness=np.where(x < 4, 1.0, 2.0), part=np.where(x < 8, 1, 2)), "part.faces_from_mesh", {})
    assert walls.sheets[1].thickness.tolist() == [1.0, 2.0, 2.0]
    assert walls.sheets[1].shape.face_area == pytest.approx([32.0, 32.0, 32.0])
    again = perform(walls, "mesh.shells", {"size": 1.0})
    middle = again.mesh.centres()[:, 0]
    assert (again.mesh.thickness[middle < 4] == 1.0).all()
    assert (again.mesh.thickness[middle > 4] == 2.0).all()


def test_plane_walls_end_where_their_bends_begin() -> None:
    mesh = loose(*bend()).mesh
    shape = faces_under(mesh, mesh.is_shell).shape
    kinds = sorted(f.carrier.kind for f in shape.faces)
    assert kinds == ["cylinder", "plane", "plane"]
    round_ = next(f.carrier for f in shape.faces if f.carrier.kind == "cylinder")
    assert round_.data[6] == pytest.approx(4.0)


def test_a_tube_is_taken_apart_before_it_is_meshed_again() -> None:
    points, rows = joined(grid(36, 20, tube))
    made = perform(loose(points, rows), "part.faces_from_mesh", {})
    shape = made.sheets[1].shape
    assert [f.carrier.kind for f in shape.faces] == ["cylinder"] * 2
    again = perform(made, "mesh.shells", {"size": 1.5})
    assert pieces(again.mesh) == 1
    assert again.mesh.counts().keys() == {"quad"}
    assert np.linalg.norm(again.mesh.points[:, :2], axis=1) == pytest.approx(
        6.0, rel=0.015
    )  # raised so that the elements' centres lie on the tube
    with pytest.raises(Refused, match="as high as it gets"):
        perform(made, "quality.optimise", {})


@pytest.mark.parametrize("sides", [8, 12, 16])
def test_holes_and_rings_are_found(sides: int) -> None:
    made = perform(loose(*with_a_hole(sides), size=2.0), "part.faces_from_mesh", {})
    (hole,) = made.mesh_holes[1]
    assert (hole.divisions, hole.radius) == (sides, pytest.approx(3.0))
    assert hole.widths == pytest.approx((1.5,), rel=0.01)
    assert (made.mesh.ring == 0).sum() == sides
    assert not document_holds(made).movable[np.isin(made.mesh.node_id, made.mesh_edges[1][hole.edges[0]])].any()
    sets = perform(made, "sets.usual", {}).sets
    assert sorted(len(s.ids) for s in sets) == [sides, sides]
    assert perform(made, "mesh.shells", {"size": 2.0}).mesh_holes[1][0].widths


def test_an_element_on_its_back_is_no_face() -> None:
    points, rows = grid(12, 8, flat)
    points[6 * 9 + 4] += (2.6, 1.3, 0)  # an inner node drawn over its neighbours
    folded = loose(points, rows)
    assert len(folded.quality.failing) >= 3
    made = perform(folded, "part.faces_from_mesh", {})
    assert len(made.sheets[1].shape.faces) == 1
    mended = perform(folded, "quality.optimise", {"rounds": 60})
    assert len(mended.quality.failing) == 0
    assert mended.mesh.nodes == folded.mesh.nodes


def test_another_angle_finds_other_faces_under_the_same_shells() -> None:
    made = perform(loose(*bend()), "part.faces_from_mesh", {"angle": 80})
    assert len(made.sheets[1].shape.faces) == 3
    finer = perform(made, "part.faces_from_mesh", {"angle": 5})
    assert len(finer.sheets[1].shape.faces) > 3
    assert finer.stale == ()
    assert (finer.mesh.body == 1).all()
    kept = perform(finer, "midsurface.extract", {})
    assert kept.sheets[1].thickness.tolist() == finer.sheets[1].thickness.tolist()


def test_walls_take_the_thickness_that_was_measured(tray_mesh: Document) -> None:
    bare = shaken(tray_mesh, 0.0)
    bare = replace(bare, mesh=replace(bare.mesh, thickness=np.zeros(bare.mesh.elements)), bodies=tray_mesh.bodies)
    made = perform(bare, "part.faces_from_mesh", {})
    measured = perform(made, "mesh.refresh_thickness", {"body": 1})
    assert made.sheets[2].thickness.max() == 0
    assert measured.sheets[2].thickness == pytest.approx(1.5, rel=0.07)  # chords across bends read a little more


def test_doubled_nodes_stay_together() -> None:
    left, right = grid(6, 8, lambda u, v: flat(u / 2, v)), grid(6, 8, lambda u, v: flat(0.5 + u / 2, v))
    points = np.vstack((left[0], right[0]))
    document = loose(points, np.vstack((left[1], right[1] + len(left[0]))))
    movable = document_holds(document).movable
    assert not movable[points[:, 0] == 6].any()
    assert movable[(points[:, 0] > 0) & (points[:, 0] < 6) & (points[:, 1] > 0) & (points[:, 1] < 8)].all()


def test_ends_of_other_elements_stay() -> None:
    document = tee()
    solid = perform(document, "mixed.layers", {"elements": [int(n) for n in document.mesh.element_id[:3]], "height": 1.0})
    used = solid.mesh.conn[~solid.mesh.is_shell]
    assert len(used)
    assert not document_holds(solid).movable[used[used >= 0]].any()


def test_a_selection_without_geometry_is_meshed_again_wall_by_wall() -> None:
    document = tee()
    at = document.mesh.centres()
    near = np.linalg.norm(at - (6, 4, 0), axis=1) < 3
    made = perform(document, "mesh.again", {"elements": [int(n) for n in document.mesh.element_id[near]], "size": 0.5})
    assert pieces(made.mesh) == 1
    assert made.mesh.elements > document.mesh.elements
    assert (made.mesh.body < 0).all()
    joint = made.mesh.points[np.abs(made.mesh.points[:, 0] - 6) < 1e-9]
    assert len(joint[np.abs(joint[:, 2]) < 1e-9]) >= 9
    assert np.abs(made.mesh.points[:, 2] * (made.mesh.points[:, 0] - 6)).max() < 1e-9


def test_every_node_has_a_seat() -> None:
    made = perform(tee(), "part.faces_from_mesh", {})
    kinds = made.mesh.on_kind
    assert (kinds == ON_VERTEX).sum() == 8
    assert (kinds == ON_EDGE).sum() + (kinds == ON_FACE).sum() == made.mesh.nodes - 8
    assert (made.mesh.face >= 0).all()


def test_cylinders_and_cones_are_fitted_through_coarse_facets() -> None:
    rng = np.random.default_rng(4)
    axis = np.array([1.0, 2.0, 2.0]) / 3
    u = np.array([2.0, 1.0, -2.0]) / 3
    v = np.cross(axis, u)
    h, t = rng.uniform(0, 10, 200), rng.uniform(0, 2.5, 200)
    turned = np.cos(t)[:, None] * u + np.sin(t)[:, None] * v
    for slope, kind in ((0.0, "cylinder"), (0.3, "cone"), (-0.5, "cone")):
        points = np.array([4.0, -3.0, 7.0]) + h[:, None] * axis + (6 + slope * h)[:, None] * turned
        normals = (turned - slope * axis) / np.hypot(1, slope) + rng.normal(0, 0.01, (200, 3))
        found = fit_round(points, normals)
        assert found.kind == kind
        assert np.abs(distance(found, points)).max() < 1e-5
    assert fit_round(points + rng.normal(0, 0.02, points.shape), normals).kind == "free"
    assert fit_round(points[:5], normals[:5]).kind == "free"


def test_round_edges_in_few_pieces_stay_whole() -> None:
    angle = np.linspace(0, 2 * np.pi, 9)[:-1]
    ring = np.column_stack((3 * np.cos(angle), 2 * np.sin(angle), 0.5 * np.cos(2 * angle)))  # no circle
    outer = 3 * ring + (0, 0, 0.01)
    i = np.arange(8)
    j = (i + 1) % 8
    rows = np.vstack((np.column_stack((i, j, j + 8)), np.column_stack((i, j + 8, i + 8))))
    assert len(shape_from_triangles(np.vstack((ring, outer)), rows.astype(np.int32), 80).shape.edges) == 2
    square = np.array([[0, 0, 0], [4, 0, 0], [4, 4, 0], [0, 4, 0], [2, 2, 3.0]])
    pyramid = np.array([[0, 1, 4], [1, 2, 4], [2, 3, 4], [3, 0, 4]], np.int32)
    assert len(shape_from_triangles(square, pyramid, 89).shape.edges) == 4  # corners of a square are corners


def test_a_mesh_is_looked_over_and_repaired_by_the_plain_command(tray_mesh: Document, tmp_path: Path) -> None:
    import json

    from kind_rivet.headless import run_job

    poor = shaken(tray_mesh, 0.3)
    write_vtu(Exchange.of(poor), tmp_path / "shaken.vtu")
    assert run_job(tmp_path / "shaken.vtu", 8.0, tmp_path / "out") == 0
    report = json.loads((tmp_path / "out" / "report.json").read_text())
    assert report["quality"]["failing"] == 0 < len(poor.quality.failing)
    assert report["mesh"]["elements"] == pytest.approx(tray_mesh.mesh.elements, rel=0.02)
    assert report["bodies"][0]["suits"] == "shells"
    assert sum(s["name"].startswith("hole") for s in report["sets"]) == sum(h.round and h.divisions > 4 for h in tray_mesh.mesh_holes[1])


def test_free_edges_that_do_not_lead_round_are_no_holes() -> None:
    shape = perform(tee(), "part.faces_from_mesh", {}).bodies[0].shape
    assert sheet_holes(shape) == ()
    holed = loose(*with_a_hole(12), size=2.0).mesh
    (hole,) = sheet_holes(faces_under(holed, holed.is_shell).shape)
    assert (hole.kind, hole.diameter) == ("round", pytest.approx(6.0))
