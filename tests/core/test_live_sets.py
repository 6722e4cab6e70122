"""Live sets: members found again, by the place of a hole, the face or the part."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kind_rivet.core.document.document import Document, EntitySet, Rule
from kind_rivet.core.document.live_sets import Finder, hole_nodes, members, refreshed, with_set


def test_holes_are_found_by_their_place(mixed: Document) -> None:
    find = Finder(mixed)
    holes = mixed.mesh_holes[1]
    for k, hole in enumerate(holes):
        assert find.hole_number(Rule("hole", 1, hole.centre)) == k
        near = np.array(hole.centre) + [0.3 * hole.radius, 0, 0]
        assert find.hole_number(Rule("hole", 1, tuple(near.tolist()))) == k
    far = np.array(holes[0].centre) + [0, 0, 1000.0]
    assert find.hole_number(Rule("hole", 1, tuple(far.tolist()))) == -1
    assert find.hole_number(Rule("hole", 7, holes[0].centre)) == -1  # no such body


def test_members_of_every_rule(mixed: Document) -> None:
    mesh = mixed.mesh
    holes = mixed.mesh_holes[1]
    ringed = next(k for k in range(len(holes)) if (mesh.ring == k).any())
    centre = holes[ringed].centre
    ring = members(mixed, Rule("ring", 1, centre), "element")
    assert set(ring.tolist()) == set(mesh.element_id[mesh.ring == ringed].tolist())
    nodes = members(mixed, Rule("hole", 1, centre), "node")
    assert np.array_equal(nodes, hole_nodes(mixed, 1, ringed))
    touching = members(mixed, Rule("hole", 1, centre), "element")
    assert set(touching.tolist()) >= set(ring.tolist())
    face = int(mesh.face[mesh.is_shell][0])
    assert len(members(mixed, Rule("face", 1, (0, 0, 0), face), "element")) == ((mesh.body == 1) & (mesh.face == face)).sum()
    part = int(mesh.part[0])
    assert len(members(mixed, Rule("part", -1, (0, 0, 0), part), "element")) == (mesh.part == part).sum()


def test_sets_are_refreshed_and_replaced_by_name(mixed: Document) -> None:
    names = [s.name for s in mixed.sets]
    assert len(set(names)) == len(names)
    emptied = replace(mixed, sets=tuple(replace(s, ids=np.empty(0, np.int32)) for s in mixed.sets))
    again = refreshed(emptied)
    assert all(np.array_equal(a.ids, b.ids) for a, b in zip(again.sets, mixed.sets, strict=True))
    plain = EntitySet(names[0], "node", np.array([1, 2], np.int32), "#000000", None)
    more = EntitySet("another", "node", np.array([3], np.int32), "#000000", None)
    changed = with_set(mixed, plain, more)
    assert [s.name for s in changed.sets] == [*names[1:], names[0], "another"]
    assert changed.sets[-2].ids.tolist() == [1, 2]
