"""Grading, local sizes, ring rules, regular or free, trias: what is asked beside the one size for all."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from kind_rivet.core.document.document import Document
from kind_rivet.core.document.live_sets import hole_nodes
from kind_rivet.core.document.store import load, save
from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Carrier
from kind_rivet.core.mesh.topology import shell_sides
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.meshing.rules import Grading, LocalSize, ShellRules
from kind_rivet.core.meshing.sizes import in_places, stations
from kind_rivet.core.operations import perform
from kind_rivet.core.operations.part import new_body
from tests.thin_meshes import drawn


def longest_free_edge(document: Document) -> int:
    shape = document.sheets[1].shape
    straight = [e for e, edge in enumerate(shape.edges) if edge.carrier.kind == "line" and len(shape.edge_faces[e]) == 1]
    return max(straight, key=lambda e: shape.edge_length[e])


def along(document: Document, edge: int) -> np.ndarray:
    rows = [document.node_index[int(n)] for n in document.mesh_edges[1][edge]]
    return np.linalg.norm(np.diff(document.mesh.points[rows], axis=0), axis=1)


LINE = Curve(np.array([[0.0, 0, 0], [10.0, 0, 0]]), np.array([0.0, 10.0]), Carrier("line", (0, 0, 0, 1, 0, 0)))


@pytest.mark.parametrize(("towards", "shortest"), [("start", [0]), ("end", [7]), ("both ends", [0, 7]), ("middle", [3, 4])])
def test_graded_stations_reach_their_ratio(towards: str, shortest: list[int]) -> None:
    side = np.diff(stations(LINE, 8, None, Grading(towards, 4.0)))
    assert side.sum() == pytest.approx(10.0)
    assert set(np.flatnonzero(side < side.min() * 1.0001)) == set(shortest)
    even_middle = towards in ("both ends", "middle")  # with eight sides the very middle lies between two of them
    assert side.max() / side.min() == pytest.approx(4.0 ** (6 / 7) if even_middle else 4.0, rel=1e-6)


def test_stations_follow_local_sizes() -> None:
    sizes = np.linspace(0.5, 2.0, 65)
    side = np.diff(stations(LINE, 9, sizes, None))
    assert (np.diff(side) > 0).all()
    assert side[-1] / side[0] > 2.5


def test_sizes_grow_out_of_balls_and_boxes() -> None:
    points = np.array([[0.0, 0, 0], [3.0, 0, 0], [30.0, 0, 0]])
    ball = LocalSize(1.0, "ball", low=(0, 0, 0), radius=1.0)
    assert in_places(points, np.full(3, 5.0), (ball,), 0.5) == pytest.approx([1.0, 2.0, 5.0])
    box = LocalSize(1.0, "box", low=(-1, -1, -1), high=(1, 1, 1))
    assert in_places(points, np.full(3, 5.0), (box,), 0.5) == pytest.approx([1.0, 2.0, 5.0])


def test_grading_an_edge_and_taking_it_back(small_mesh: Document) -> None:
    edge = longest_free_edge(small_mesh)
    graded = perform(small_mesh, "mesh.grade", {"body": 1, "edges": [edge], "towards": "both ends", "ratio": 3.0})
    side = along(graded, edge)
    assert side[0] < side[len(side) // 2] / 2.2
    assert len(side) == len(along(small_mesh, edge))
    assert not graded.stale
    back = perform(graded, "mesh.grade", {"body": 1, "edges": [edge], "ratio": 1.0})
    assert not back.choices.grading
    assert along(back, edge) == pytest.approx(along(small_mesh, edge))


def test_size_on_a_wall_is_judged_by_that_size(small_mesh: Document) -> None:
    shape = small_mesh.sheets[1].shape
    wall = int(np.argmax(shape.face_area))
    before = int((small_mesh.mesh.face == wall).sum())
    fine = perform(small_mesh, "mesh.size_on", {"body": 1, "faces": [wall], "size": 4.0})
    after = fine.mesh.face == wall
    assert after.sum() > 2.5 * before
    assert fine.wanted is not None
    assert fine.wanted[after].max() == pytest.approx(4.0)
    assert (fine.quality.index[after] < 0).mean() < 0.01
    again = perform(fine, "mesh.size_on", {"body": 1, "faces": [wall], "size": 5.0})
    assert len(again.choices.local) == 1  # the newer size replaces the older one


def test_size_round_a_point_and_in_a_box(small_mesh: Document) -> None:
    shape = small_mesh.sheets[1].shape
    wall = int(np.argmax(shape.face_area))
    centre = small_mesh.mesh.points[np.unique(small_mesh.mesh.conn[small_mesh.mesh.face == wall][:, :3])].mean(axis=0)
    ball = perform(small_mesh, "mesh.size_around", {"at": centre.tolist(), "radius": 15.0, "size": 2.5})
    near = np.linalg.norm(ball.mesh.centres() - centre, axis=1) < 12
    sides = shell_sides(ball.mesh.shells())
    length = np.linalg.norm(np.diff(ball.mesh.points[sides.ends], axis=1)[:, 0], axis=1)
    middle = np.linalg.norm(ball.mesh.points[sides.ends].mean(axis=1) - centre, axis=1) < 12
    assert near.sum() > 40
    assert np.median(length[middle]) == pytest.approx(2.5, rel=0.25)
    low, high = centre - 15, centre + 15
    box = perform(small_mesh, "mesh.size_in_box", {"low": low.tolist(), "high": high.tolist(), "size": 2.5})
    inside = ((box.mesh.centres() > low) & (box.mesh.centres() < high)).all(axis=1)
    assert inside.sum() > 60
    plain = perform(box, "mesh.forget", {"what": "sizes"})
    assert plain.mesh.elements == small_mesh.mesh.elements


def test_sizes_that_would_make_millions_are_refused(small_mesh: Document) -> None:
    with pytest.raises(Refused, match="elements"):
        perform(small_mesh, "mesh.size_around", {"at": (0, 0, 0), "radius": 500.0, "size": 0.01})


def test_ring_table_and_rings_on_one_hole(small_mesh: Document) -> None:
    table = perform(small_mesh, "mesh.washer_table", {"rules": [(0, 6, 0, 0, 0), (6, 12, 2, 0.5, 12), (12, 100, 1, 0, 0)]})
    for h in table.mesh_holes[1]:
        if h.round:
            expected = 0 if 2 * h.radius < 6 else 2 if 2 * h.radius < 12 else 1
            assert len(h.widths) == expected
            assert h.divisions == 12 or expected != 2
    number, hole = next((k, h) for k, h in enumerate(small_mesh.mesh_holes[1]) if 4 < h.radius < 5)
    one = perform(small_mesh, "mesh.washer", {"holes": [(1, *hole.centre)], "rings": 1, "width": 0.4, "divisions": 14})
    assert one.mesh_holes[1][number].divisions == 14
    assert one.mesh_holes[1][number].widths == pytest.approx((3.2,))
    assert len(hole_nodes(one, 1, number)) == 14
    others = [h.divisions for k, h in enumerate(one.mesh_holes[1]) if k != number]
    assert others == [h.divisions for k, h in enumerate(small_mesh.mesh_holes[1]) if k != number]
    with pytest.raises(Refused, match="even"):
        perform(small_mesh, "mesh.washer", {"holes": [(1, *hole.centre)], "divisions": 13})
    with pytest.raises(Refused, match="no meshed hole"):
        perform(small_mesh, "mesh.washer", {"holes": [(1, 999.0, 0.0, 0.0)]})
    assert ShellRules(1.0).washer_for(5.0) is not None


def test_slots_get_even_rows_round_them(small_mesh: Document) -> None:
    slots = [(k, h) for k, h in enumerate(small_mesh.mesh_holes[1]) if not h.round and h.widths]
    assert slots
    for number, slot in slots:
        ring = np.flatnonzero(small_mesh.mesh.ring == number)
        assert len(ring) == slot.divisions * len(slot.widths)
        assert slot.divisions % 2 == 0
        assert small_mesh.quality.index[ring].min() > 0.3


def test_forcing_a_wall_free_or_regular(small_mesh: Document) -> None:
    shape = small_mesh.sheets[1].shape
    plain = [f for f in range(len(shape.faces)) if len(shape.face_edges[f]) == 4 and shape.faces[f].carrier.kind == "plane"]
    wall = max(plain, key=lambda f: shape.face_area[f])
    free = perform(small_mesh, "mesh.way", {"body": 1, "faces": [wall], "way": "free"})
    assert free.choices.ways["1"] == {wall: "free"}
    regular = perform(free, "mesh.way", {"body": 1, "faces": [wall], "way": "regular"})
    mine = regular.mesh.face == wall
    assert (regular.mesh.conn[mine, 3] >= 0).all()
    back = perform(regular, "mesh.way", {"body": 1, "faces": [wall], "way": "as suits"})
    assert not back.choices.ways
    with pytest.raises(Refused, match="nothing to take back"):
        perform(back, "mesh.forget", {"what": "regular or free"})


@pytest.mark.parametrize("kind", ["trias", "right-angled trias"])
def test_trias_only(small_sheet: Document, kind: str) -> None:
    quads = perform(small_sheet, "mesh.shells", {"size": 8.0, "smooth": False})
    trias = perform(small_sheet, "mesh.shells", {"size": 8.0, "kind": kind, "smooth": False})
    counts = quads.mesh.counts()
    assert trias.mesh.counts() == {"tria": 2 * counts["quad"] + counts.get("tria", 0)}
    assert trias.mesh.nodes == quads.mesh.nodes
    assert len(shell_sides(trias.mesh.shells()).free) == len(shell_sides(quads.mesh.shells()).free)


def test_choices_survive_saving(small_mesh: Document, tmp_path: Path) -> None:
    edge = longest_free_edge(small_mesh)
    made = perform(small_mesh, "mesh.grade", {"body": 1, "edges": [edge], "ratio": 2.0})
    made = perform(made, "mesh.size_around", {"at": (0, 0, 0), "radius": 5.0, "size": 4.0})
    path = tmp_path / "choices.rivet"
    save(made, path)
    again = load(path)
    assert again.choices == made.choices
    assert not again.stale


def test_nothing_chosen_is_said_plainly(small_mesh: Document) -> None:
    for name, parameters in (
        ("mesh.grade", {"body": 1, "edges": []}),
        ("mesh.way", {"body": 1, "faces": []}),
        ("mesh.size_on", {"body": 1, "size": 2.0}),
    ):
        with pytest.raises(Refused, match="chosen"):
            perform(small_mesh, name, parameters)
    with pytest.raises(Refused, match="has no edge"):
        perform(small_mesh, "mesh.grade", {"body": 1, "edges": [99999]})


def test_meshing_to_a_wanted_quality(small_sheet: Document) -> None:
    plain = perform(small_sheet, "mesh.shells", {"size": 9.0})
    best = perform(small_sheet, "mesh.to_quality", {"size": 9.0, "index": 99.9, "span": 0.2, "tries": 3})
    assert "comes nearest" in best.notes[0]
    assert len(best.quality.failing) <= len(plain.quality.failing)
    assert abs(best.choices.size / 9.0 - 1) <= 0.2 + 1e-6
    easy = perform(small_sheet, "mesh.to_quality", {"size": 5.0, "index": 80.0})
    assert easy.choices.size == 5.0
    assert "reaches it" in easy.notes[0]
    with pytest.raises(Refused, match="No size"):
        perform(Document(), "mesh.to_quality", {})


def test_what_was_asked_of_walls_follows_them_through_a_split(small_mesh: Document) -> None:
    shape = small_mesh.sheets[1].shape
    floor = int(np.argmax(shape.face_area))
    other = int(np.argsort(shape.face_area)[-2])
    d = perform(small_mesh, "mesh.size_on", {"body": 1, "faces": [floor], "size": 5.0})
    d = perform(d, "mesh.way", {"body": 1, "faces": [other], "way": "free"})
    edge = max(
        (e for e, beside in enumerate(shape.edge_faces) if other in beside and floor not in beside), key=lambda e: shape.edge_length[e]
    )
    d = perform(d, "mesh.grade", {"body": 1, "edges": [edge], "towards": "start", "ratio": 2.0})
    split = perform(d, "prepare.split_line", {"body": 1, "start": (130.0, 20.0, 0.75), "end": (130.0, 80.0, 0.75)})
    new = split.sheets[1].shape
    assert len(new.faces) == len(shape.faces) + 1
    (local,) = split.choices.local
    assert len(local.items) == 2
    assert new.face_area[list(local.items)].sum() == pytest.approx(shape.face_area[floor], rel=1e-6)
    (walled,) = split.choices.ways["1"]
    assert new.face_area[walled] == pytest.approx(shape.face_area[other])
    (graded,) = split.choices.grading["1"]
    assert new.edge_length[graded] == pytest.approx(shape.edge_length[edge])
    place = shape.points[shape.facets[shape.facet_face == floor]][0].mean(axis=0)
    gone = perform(d, "midsurface.drop_wall", {"body": 1, "place": tuple(map(float, place))})
    assert gone.choices.local == ()
    assert perform(gone, "mesh.size_on", {"body": 1, "edges": [0], "size": 6.0}).choices.local[0].items == (0,)


def test_the_last_wall_is_not_dropped() -> None:
    shape = drawn("square_pattern")
    plate = perform(Document(bodies=(new_body(Document(), "Plate", "solid", shape),)), "midsurface.extract", {})
    wall = plate.sheets[1].shape
    place = wall.points[wall.facets[0]].mean(axis=0)
    with pytest.raises(Refused, match="No wall is left"):
        perform(plate, "midsurface.drop_wall", {"body": 1, "place": tuple(map(float, place))})
