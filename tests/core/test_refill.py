"""Large regions filled again only near what changed on their border, and what stays of a mesh when a count changes."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.spatial import cKDTree

from kind_rivet.core.document.document import Body, Document
from kind_rivet.core.geometry.first_look import look
from kind_rivet.core.mesh.coincident import coincident_groups
from kind_rivet.core.mesh.topology import flipped_pairs, pieces
from kind_rivet.core.meshing.free.fill import FlatMesh, fill
from kind_rivet.core.meshing.free.loops import area_of
from kind_rivet.core.meshing.free.refill import WORTH, Before, refilled
from kind_rivet.core.operations import perform
from tests.bent_sheets import draw
from tests.flat import area
from tests.made_up import circle

Floats = np.ndarray


def plate(counts: tuple[int, int, int, int]) -> list[Floats]:
    """A plate of 60 × 40 with two holes, its four sides in so many divisions."""
    corners = np.array([(0.0, 0), (60, 0), (60, 40), (0, 40)])
    sides = [corners[k] + (corners[(k + 1) % 4] - corners[k]) * (np.arange(counts[k]) / counts[k])[:, None] for k in range(4)]
    return [np.concatenate(sides), circle(15, 20, 5, 24), circle(44, 22, 4, 16)]


@pytest.fixture(scope="module")
def filled() -> Before:
    made = fill(plate((60, 40, 60, 40)), 1.0)
    return Before(made.points, np.column_stack((made.points, np.zeros(len(made.points)))), made.elements)


def check_whole(made: FlatMesh, loops: list[Floats]) -> None:
    assert made.worst > 0.5
    assert area(made) == pytest.approx(sum(area_of(loop) for loop in loops), rel=1e-9)
    border = np.concatenate(loops)
    assert np.array_equal(made.points[: len(border)], border)


@pytest.mark.parametrize("counts", [(62, 40, 60, 40), (60, 40, 57, 41), (61, 40, 61, 40), (60, 44, 60, 40)])
def test_only_what_lies_near_a_change_is_filled_again(filled: Before, counts: tuple[int, int, int, int]) -> None:
    loops = plate(counts)
    made = refilled(filled, loops, 1.0, 0.25)
    assert made is not None
    check_whole(made, loops)
    assert made.trias <= int((filled.elements[:, 3] < 0).sum()) + 2
    assert made.was is not None
    stays = made.was >= 0
    assert stays.sum() > 0.3 * len(filled.points)
    assert np.array_equal(made.points[stays], filled.points[made.was[stays]])


def test_an_unchanged_border_keeps_its_mesh_and_a_new_one_is_left_to_a_whole_filling(filled: Before) -> None:
    same = refilled(filled, plate((60, 40, 60, 40)), 1.0, 0.25)
    assert same is not None
    assert len(same.elements) == len(filled.elements) >= WORTH
    check_whole(same, plate((60, 40, 60, 40)))
    assert refilled(filled, plate((90, 61, 91, 60)), 0.7, 0.25) is None
    few = fill(plate((20, 14, 20, 14)), 3.0)
    assert refilled(Before(few.points, few.points, few.elements), plate((22, 14, 20, 14)), 3.0, 0.25) is None


def test_many_changes_one_after_another_stay_sound(filled: Before) -> None:
    rng = np.random.default_rng(3)
    before, counts, kept = filled, [60, 40, 60, 40], 0
    for _ in range(12):
        k, by = int(rng.integers(4)), int(rng.choice((-2, 2, 4, -4)))
        counts[k] += by
        loops = plate(tuple(counts))  # type: ignore[arg-type]
        made = refilled(before, loops, 1.0, 0.25)
        if made is None:
            counts[k] -= by
            continue
        kept += 1
        check_whole(made, loops)
        before = Before(made.points, before.space, made.elements)
    assert kept >= 10
    assert int((before.elements[:, 3] < 0).sum()) <= 0.004 * len(before.elements)


# -- in documents ----------------------------------------------------------------------
def channel() -> Document:
    part = draw(2)
    seen = look(part.solid)
    body = Body(1, "bent", "#9DB4A0", part.solid, seen.walls, seen.thin_share, seen.holes, "drawn")
    d = perform(Document(name="bent", bodies=(body,)), "midsurface.extract", {})
    return perform(d, "mesh.shells", {"size": part.size / 4})


def test_a_count_on_a_large_wall_leaves_most_of_it_and_its_bends_as_they_were() -> None:
    d = channel()
    shape = d.sheets[1].shape
    walls = np.bincount(d.mesh.face, minlength=len(shape.faces))
    wall = max((f for f, face in enumerate(shape.faces) if face.carrier.kind == "plane"), key=lambda f: walls[f])
    assert walls[wall] > WORTH
    free = [e for e in shape.face_edges[wall] if len(shape.edge_faces[e]) == 1 and not shape.edges[e].closed]
    edge = max(free, key=lambda e: len(d.mesh_edges[1][e]))
    new = perform(d, "mesh.divisions", {"body": 1, "edges": [edge], "count": len(d.mesh_edges[1][edge]) + 1})
    mine = (new.mesh.on_item == wall) & (new.mesh.on_kind == 3)
    gap, _ = cKDTree(d.mesh.points).query(new.mesh.points[mine])
    assert (gap == 0).mean() > 0.25
    assert pieces(new.mesh) == 1
    assert flipped_pairs(new.mesh) == 0
    assert not coincident_groups(new.mesh, 1e-4 * d.choices.size)
    assert len(new.quality.failing) <= len(d.quality.failing)


@pytest.mark.parametrize("seed", [1, 5])
def test_walls_beside_bends_that_stay_do_not_fail(seed: int) -> None:
    """Nodes along a bend lie off its edges; a wall meshed again beside a bend that stays takes them where they are."""
    part = draw(seed)
    seen = look(part.solid)
    body = Body(1, "bent", "#9DB4A0", part.solid, seen.walls, seen.thin_share, seen.holes, "drawn")
    d = perform(Document(name="bent", bodies=(body,)), "midsurface.extract", {})
    d = perform(d, "mesh.shells", {"size": part.size})
    shape = d.sheets[1].shape
    before = len(d.quality.failing)
    for edge in [e for e in range(len(shape.edges)) if len(d.mesh_edges[1][e]) > 6][:4]:
        new = perform(d, "mesh.divisions", {"body": 1, "edges": [edge], "count": len(d.mesh_edges[1][edge]) + 1})
        assert len(new.quality.failing) <= before
        if not any("kept their nodes" in note for note in new.notes):
            continue  # numbers began anew
        place = dict(zip(new.mesh.node_id.tolist(), new.mesh.points, strict=True))
        for number, at in zip(d.mesh.node_id.tolist(), d.mesh.points, strict=True):
            if number in place:
                assert np.allclose(place[number], at, atol=1e-12)
