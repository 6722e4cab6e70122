"""Counts changed by columns of quads put in or taken out: what such a mesh must still be."""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np
import pytest

from kind_rivet.core.document.document import Document, LumpedMass
from kind_rivet.core.mesh.chords import Chords, side_vectors, with_column, without_column
from kind_rivet.core.mesh.coincident import coincident_groups
from kind_rivet.core.mesh.kinds import QUAD
from kind_rivet.core.mesh.mesh import ON_FACE, Mesh
from kind_rivet.core.mesh.topology import flipped_pairs, pieces, shell_sides
from kind_rivet.core.operations import perform
from kind_rivet.core.quality.growth import growths
from kind_rivet.core.repair.make_room import spread_out


def grid(nx: int, ny: int) -> Mesh:
    x, y = np.meshgrid(np.arange(nx + 1.0), np.arange(ny + 1.0))
    k = (np.arange(ny)[:, None] * (nx + 1) + np.arange(nx)).ravel()
    conn = np.full((nx * ny, 8), -1, np.int32)
    conn[:, :4] = np.column_stack((k, k + 1, k + nx + 2, k + nx + 1))
    n, m = x.size, nx * ny
    return Mesh(
        points=np.column_stack((x.ravel(), y.ravel(), np.zeros(n))), height=np.zeros(n), node_id=np.arange(1, n + 1, dtype=np.int32),
        on_kind=np.full(n, ON_FACE, np.uint8), on_item=np.zeros(n, np.int32), on_body=np.ones(n, np.int32), kind=np.full(m, QUAD, np.uint8), conn=conn,
        element_id=np.arange(1, m + 1, dtype=np.int32), part=np.ones(m, np.int32), thickness=np.full(m, 0.5), offset=np.zeros(m),
        body=np.ones(m, np.int32), face=np.zeros(m, np.int32), ring=np.full(m, -1, np.int32),
    )  # fmt: skip


# -- chords ----------------------------------------------------------------------------
def test_a_chord_runs_from_border_to_border_and_stops_at_trias() -> None:
    mesh = grid(7, 4)
    chord = Chords(mesh.shells()).through(2, 3)
    assert chord is not None
    assert chord.elements.tolist() == [2, 9, 16, 23]
    assert chord.sides.tolist() == [[2, 3], [10, 11], [18, 19], [26, 27], [34, 35]]
    rows = mesh.shells().copy()
    rows[9] = (*rows[9, :3], -1)
    assert Chords(rows).through(2, 3) is None
    assert Chords(mesh.shells()).through(2, 12) is None  # no side


def test_a_chord_runs_on_into_all_walls_at_a_joint_and_not_across_itself() -> None:
    tee = np.array([[0, 1, 4, 3], [3, 4, 7, 6], [3, 4, 9, 8]], np.int32)  # two in a row and one that stands on the side 3–4
    chord = Chords(tee).through(0, 1)
    assert chord is not None
    assert sorted(chord.elements.tolist()) == [0, 1, 2]
    assert [3, 4] in chord.sides.tolist() and [8, 9] in chord.sides.tolist()
    knot = np.array([[0, 1, 2, 3], [3, 2, 4, 5], [5, 4, 1, 2]], np.int32)  # the third leads back into the first, across the way it came
    assert Chords(knot).through(0, 1) is None


def test_a_column_put_in_and_taken_out_again_leaves_the_same_mesh() -> None:
    mesh = grid(7, 4)
    chord = Chords(mesh.shells()).through(2, 3)
    assert chord is not None
    more, wish = with_column(mesh, chord, np.full(5, -1, np.int32), 100)
    assert (more.elements, more.nodes) == (32, 45)
    assert more.node_id[-5:].tolist() == [100, 101, 102, 103, 104]
    assert flipped_pairs(more) == 0
    assert np.allclose(np.linalg.norm(wish, axis=2), 1.0)  # every element shall be a square again
    back = Chords(more.shells()).through(2, 40)
    assert back is not None
    less, _ = without_column(more, back) or (None, None)
    assert less is not None
    assert (less.elements, less.nodes, flipped_pairs(less)) == (28, 40, 0)
    assert len(shell_sides(less.shells()).free) == 22


def test_room_is_made_evenly_between_what_stays() -> None:
    mesh = grid(7, 4)
    chord = Chords(mesh.shells()).through(3, 4)
    assert chord is not None
    more, wish = with_column(mesh, chord, np.full(5, -1, np.int32), 100)
    free = (more.points[:, 0] > 0) & (more.points[:, 0] < 7)
    points = spread_out(more.points, more.shells(), wish, free)
    sides = side_vectors(points, more.shells())
    assert np.abs(sides[:, :, 0]).max() == pytest.approx(7 / 8)
    assert np.allclose(points[~free], more.points[~free])
    assert np.allclose(points[:, 1], more.points[:, 1])


# -- documents -------------------------------------------------------------------------
@pytest.fixture(scope="module")
def fine(tray_sheet: Document) -> Document:
    return perform(tray_sheet, "mesh.shells", {"size": 3.2})


def check_sound(d: Document) -> None:
    mesh = d.mesh
    assert pieces(mesh) == 1
    assert flipped_pairs(mesh) == 0
    assert not coincident_groups(mesh, 1e-4 * d.choices.size)
    assert mesh.thickness.min() > 0
    assert (growths(mesh.points, mesh.shells()) > 1.5).sum() == 0
    sides = {tuple(side) for side in shell_sides(mesh.shells()).ends.tolist()}
    for line in d.mesh_edges[1]:
        rows = [d.node_index[int(n)] for n in line]
        assert all((min(a, b), max(a, b)) in sides for a, b in itertools.pairwise(rows))


def longest(d: Document, skip: int = 0) -> int:
    shape = d.sheets[1].shape
    free = [e for e, faces in enumerate(shape.edge_faces) if len(faces) == 1 and shape.edges[e].carrier.kind == "line"]
    return sorted(free, key=lambda e: -len(d.mesh_edges[1][e]))[skip]


@pytest.mark.parametrize("by", [1, -1, 2])
def test_a_count_changed_on_a_large_mesh_moves_only_what_lies_near(fine: Document, by: int) -> None:
    edge = longest(fine)
    count = len(fine.mesh_edges[1][edge]) - 1 + by
    new = perform(fine, "mesh.divisions", {"body": 1, "edges": [edge], "count": count})
    assert "olumns were" in new.notes[1]
    assert len(new.mesh_edges[1][edge]) - 1 == count
    assert new.choices.divisions["1"][edge] == count
    assert not new.stale
    check_sound(new)
    assert len(new.quality.failing) <= len(fine.quality.failing)
    place = dict(zip(fine.mesh.node_id.tolist(), fine.mesh.points, strict=True))
    same = [n in place and np.array_equal(place[n], p) for n, p in zip(new.mesh.node_id.tolist(), new.mesh.points, strict=True)]
    assert np.mean(same) > 0.6
    assert new.mesh.thickness.sum() / new.mesh.elements == pytest.approx(fine.mesh.thickness.mean(), rel=1e-3)


def test_nodes_of_columns_lie_on_their_edges_and_walls(fine: Document) -> None:
    from kind_rivet.core.geometry.rays import FacetTree

    edge = longest(fine, 2)
    new = perform(fine, "mesh.divisions", {"body": 1, "edges": [edge], "count": len(fine.mesh_edges[1][edge])})
    shape = new.sheets[1].shape
    fresh = ~np.isin(new.mesh.node_id, fine.mesh.node_id)
    assert fresh.sum() > 10
    _, _, away = FacetTree.over(shape.points, shape.facets).nearest(new.mesh.points[fresh])
    _, _, before = FacetTree.over(shape.points, shape.facets).nearest(fine.mesh.points)
    assert away.max() <= before.max() + 1e-9


def test_counts_given_by_hand_and_rings_are_left_alone(fine: Document) -> None:
    """The edge across the bend from a changed one is held by hand: no column may cross it, so the walls are meshed again."""
    edge = longest(fine)
    count = len(fine.mesh_edges[1][edge])
    once = perform(fine, "mesh.divisions", {"body": 1, "edges": [edge], "count": count})
    other = next(e for e in range(len(fine.mesh_edges[1])) if e != edge and len(once.mesh_edges[1][e]) != len(fine.mesh_edges[1][e]))
    held = replace(fine, choices=replace(fine.choices, divisions={"1": {other: len(fine.mesh_edges[1][other]) - 1}}))
    held = replace(held, basis={**held.basis, "mesh:1": held.mesh_state(1)})
    new = perform(held, "mesh.divisions", {"body": 1, "edges": [edge], "count": count})
    assert len(new.mesh_edges[1][other]) == len(fine.mesh_edges[1][other])
    assert len(new.mesh_edges[1][edge]) - 1 == count
    for hole, was in zip(new.mesh_holes[1], fine.mesh_holes[1], strict=True):
        assert hole.divisions == was.divisions


def test_nodes_that_carry_a_mass_stay_where_they_are(fine: Document) -> None:
    """A mass sits on an edge and one within a wall: columns are sought elsewhere, and neither moves with the room that is made."""
    edge = longest(fine)
    line = fine.mesh_edges[1][edge]
    plain = perform(fine, "mesh.divisions", {"body": 1, "edges": [edge], "count": len(line)})
    before = dict(zip(fine.mesh.node_id.tolist(), fine.mesh.points, strict=True))
    moved = [
        n for n, p in zip(plain.mesh.node_id.tolist(), plain.mesh.points, strict=True) if n in before and not np.array_equal(before[n], p)
    ]
    on_edge = next(n for n in line.tolist() if n in set(moved))
    on_wall = next(n for n in moved if fine.mesh.on_kind[fine.node_index[n]] == ON_FACE)
    laden = replace(fine, masses=(LumpedMass(on_edge, 0.1), LumpedMass(on_wall, 0.1)))
    new = perform(laden, "mesh.divisions", {"body": 1, "edges": [edge], "count": len(line)})
    assert "olumns were" in new.notes[1]
    assert len(new.masses) == 2
    for n in (on_edge, on_wall):
        assert np.array_equal(new.mesh.points[new.node_index[n]], before[n])
    check_sound(new)


def test_graded_edges_are_left_to_the_mesher(fine: Document) -> None:
    edge = longest(fine)
    graded = perform(fine, "mesh.grade", {"body": 1, "edges": [edge], "towards": "start", "ratio": 2.0})
    new = perform(graded, "mesh.divisions", {"body": 1, "edges": [edge], "count": len(fine.mesh_edges[1][edge])})
    assert "olumns were" not in new.notes[1]
    side = np.linalg.norm(np.diff(new.mesh.points[[new.node_index[int(n)] for n in new.mesh_edges[1][edge]]], axis=0), axis=1)
    assert side.max() / side.min() == pytest.approx(2.0, rel=0.05)


def test_many_columns_one_after_the_other_keep_the_mesh_sound(fine: Document) -> None:
    rng = np.random.default_rng(7)
    d, columns = fine, 0
    for _ in range(8):
        edge = longest(fine, int(rng.integers(4)))
        count = len(d.mesh_edges[1][edge]) - 1 + int(rng.choice([-1, 1, 2]))
        held = {e: n for e, n in d.choices.divisions.get("1", {}).items() if e == edge}
        d = replace(d, choices=replace(d.choices, divisions={"1": held} if held else {}))  # each change for itself
        d = replace(d, basis={**d.basis, "mesh:1": d.mesh_state(1)})
        new = perform(d, "mesh.divisions", {"body": 1, "edges": [edge], "count": count})
        if "olumns were" in new.notes[1]:
            d, columns = new, columns + 1
            check_sound(d)
    assert columns >= 6
    assert len(d.quality.failing) <= len(fine.quality.failing)
