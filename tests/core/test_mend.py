"""Places where shells fail or grow too fast are filled anew; hard points and borders stay."""

from __future__ import annotations

import time

import numpy as np
import pytest

from kind_rivet.core.document.document import Document
from kind_rivet.core.mesh.mesh import ON_FACE, ON_VERTEX, Mesh
from kind_rivet.core.mesh.topology import shell_sides
from kind_rivet.core.meshing.sheet_mesh import HARD_POINT
from kind_rivet.core.operations import perform
from kind_rivet.core.quality.growth import unlike, unlike_pairs
from kind_rivet.core.quality.limits import DEFAULT
from kind_rivet.core.repair import mend
from kind_rivet.core.repair.mend import mended
from kind_rivet.core.repair.places import Ground
from tests.thin_meshes import MOST_GROWTH, Made, made


@pytest.fixture(scope="module")
def plain() -> Made:
    """The pan at twice its size: some neighbours are unlike."""
    return made("drawn_pan", 2.0)


def _ground(plain: Made) -> Ground:
    return Ground({1: plain.sheet}, DEFAULT, plain.size, given_up=2.0)


def _border(mesh: Mesh) -> set[tuple[int, ...]]:
    return {tuple(sorted(mesh.node_id[side].tolist())) for side in shell_sides(mesh.shells()).free}


def test_neighbours_become_alike_within_the_same_border(plain: Made) -> None:
    before = plain.mesh
    assert unlike(before.points, before.shells(), MOST_GROWTH) > 0
    after, places = mended(before, _ground(plain))
    assert places > 0
    assert unlike(after.points, after.shells(), MOST_GROWTH) == 0
    assert _border(after) == _border(before)
    on_edges = before.on_kind < ON_FACE
    assert set(before.node_id[on_edges]) <= set(after.node_id)
    assert (after.ring >= 0).sum() == (before.ring >= 0).sum()


def test_tries_are_limited(plain: Made, monkeypatch: pytest.MonkeyPatch) -> None:
    tries: list[int] = []

    class Counting(Ground):
        def filled(self, *args: object) -> None:  # type: ignore[override]
            tries.append(1)

    ground = Counting(**vars(_ground(plain)))
    monkeypatch.setattr(mend, "MOST_TRIES", 5)
    assert mended(plain.mesh, ground) == (plain.mesh, 0)
    assert len(tries) == 5
    assert mended(plain.mesh, ground, time.monotonic()) == (plain.mesh, 0)
    assert len(tries) == 5


def test_pairs_are_told_worst_first(plain: Made) -> None:
    mesh = plain.mesh
    pairs = unlike_pairs(mesh.points, mesh.shells(), 1.4)
    assert len(pairs) == unlike(mesh.points, mesh.shells(), 1.4)
    values = plain.growth
    assert len(pairs) == (values > 1.4).sum()
    first = unlike_pairs(mesh.points, mesh.shells(), values.max() - 1e-9)
    assert np.array_equal(pairs[: len(first)], first)


def test_shells_meshed_again_keep_hard_points(small_sheet: Document) -> None:
    """A selection meshed again had lost the node of a hard point inside it."""
    shape = small_sheet.sheets[1].shape
    face = int(np.argmax(shape.face_area))
    middle = shape.points[np.unique(shape.facets[shape.facet_face == face])].mean(axis=0)
    hard = perform(small_sheet, "prepare.hard_points", {"body": 1, "points": [tuple(map(float, middle))]})
    document = perform(hard, "mesh.shells", {"size": 6.0})
    mesh = document.mesh
    there = np.flatnonzero((mesh.on_kind == ON_VERTEX) & (mesh.on_item == HARD_POINT))
    assert len(there) == 1
    near = np.linalg.norm(mesh.centres() - mesh.points[there[0]], axis=1) < 15.0
    again = perform(document, "mesh.again", {"elements": [int(k) for k in mesh.element_id[near]], "size": 4.0}).mesh
    assert int(mesh.node_id[there[0]]) in again.node_id[np.unique(again.conn[again.conn >= 0])]


def test_repair_makes_neighbours_alike(small_sheet: Document) -> None:
    """What differs too much in size on a coarse mesh is filled anew, and said."""
    coarse = perform(small_sheet, "mesh.shells", {"size": 9.0})
    mesh = coarse.mesh
    before = unlike(mesh.points, mesh.shells(), MOST_GROWTH)
    assert before > 0
    after = perform(coarse, "quality.repair", {"ease": "failing"})  # as the plain command does
    left = unlike(after.mesh.points, after.mesh.shells(), MOST_GROWTH)
    assert left < before
    assert len(after.quality.failing) <= len(coarse.quality.failing)
    assert "neighbours of unlike size" in after.notes[0]
    for line in after.mesh_edges[1]:
        assert np.isin(line, after.mesh.node_id).all()
