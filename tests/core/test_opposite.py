"""Divisions of opposite sides are brought together, unless that would leave one of them with sides far too short or long."""

from __future__ import annotations

import numpy as np
import pytest

from kind_rivet.core.document.document import Document
from kind_rivet.core.meshing.opposite import Sides, Wishes, alike_sides, match_opposite
from kind_rivet.core.operations import perform


def wishes(lengths: list[float], held: tuple[int, ...] = (), by_hand: tuple[int, ...] = ()) -> Wishes:
    of = np.arange(len(lengths))
    return Wishes(np.array(lengths), np.isin(of, held + by_hand), np.isin(of, by_hand))


def matched(sides: list[Sides], count: list[int], known: Wishes) -> list[int]:
    out = np.array(count)
    match_opposite(sides, [], [], out, known)
    return [int(n) for n in out]


ACROSS: Sides = ([0], [1], [2], [3])
COMB: Sides = ([0, 1, 2], [3], [4], [5])


@pytest.mark.parametrize(
    ("count", "lengths", "held", "by_hand", "pairs"),
    [
        ((10, 4, 9, 4), (10, 4, 9, 4), (), (), 2),  # nearly alike
        ((10, 4, 2, 4), (10, 4, 2, 4), (), (), 1),  # one wants far fewer
        ((10, 4, 2, 4), (10, 4, 2, 4), (2,), (), 1),  # held, and far too coarse for what lies opposite
        ((10, 4, 2, 4), (10, 4, 2, 4), (), (2,), 2),  # by hand: it is followed all the same
        ((10, 4, 6, 4), (10, 4, 6, 4), (2,), (), 2),  # held, and bearable
        ((10, 4, 2, 4), (10, 4, 2, 4), (0, 2), (), 2),  # both held: nothing is left to decide
    ],
)
def test_pairs_of_sides_that_differ_too_much_are_left_apart(
    count: tuple[int, ...], lengths: tuple[float, ...], held: tuple[int, ...], by_hand: tuple[int, ...], pairs: int
) -> None:
    out = alike_sides(ACROSS, np.array(count), wishes(list(lengths), held, by_hand))
    assert sum(bool(out[k] and out[k + 2]) for k in (0, 1)) == pairs
    assert (out[1], out[3]) == ([1], [3])


def test_single_edges_opposite_each_other_get_one_count_through_any_number_of_regions() -> None:
    count = matched([([0], [], [1], []), ([1], [], [2], [])], [10, 9, 11], wishes([10, 9, 11]))
    assert count == [10, 10, 10]


def test_what_is_held_is_followed_as_far_as_sides_do_not_become_far_too_long() -> None:
    chain: list[Sides] = [([0], [], [1], []), ([1], [], [2], [])]
    assert matched(chain, [4, 6, 12], wishes([4, 6, 12], held=(0,))) == [4, 4, 12]
    assert matched(chain, [4, 6, 12], wishes([4, 6, 12], by_hand=(0,))) == [4, 4, 4]


def test_counts_of_sides_of_several_edges_are_dealt_out_by_what_their_edges_have() -> None:
    count = matched([COMB], [6, 2, 2, 3, 11, 3], wishes([6, 2, 2, 3, 11, 3], held=(4,)))
    assert (sum(count[:3]), count[4]) == (11, 11)
    assert count[0] > max(count[1:3])


def test_the_other_side_changes_where_the_first_would_be_left_with_sides_far_too_long() -> None:
    lengths = [2.2, 2.2, 2.2, 3.0, 5.0, 3.0]
    assert matched([COMB], [2, 2, 2, 3, 5, 3], wishes(lengths)) == [2, 2, 2, 3, 6, 3]
    # By hand the side of several edges has to follow.
    count = matched([COMB], [2, 2, 2, 3, 5, 3], wishes(lengths, by_hand=(4,)))
    assert (sum(count[:3]), count[4]) == (5, 5)


def test_sides_that_cannot_be_brought_together_stay_as_they_are() -> None:
    count = [2, 1, 1, 3, 20, 3]
    assert matched([COMB], count, wishes([2, 1, 1, 3, 20, 3])) == count


def test_a_count_set_by_hand_is_followed_by_the_side_opposite_however_coarse_it_is(small_mesh: Document) -> None:
    before = [len(nodes) - 1 for nodes in small_mesh.mesh_edges[1]]
    longest = int(np.argmax(before))
    d = perform(small_mesh, "mesh.divisions", {"body": 1, "edges": [longest], "count": 10})
    after = [len(nodes) - 1 for nodes in d.mesh_edges[1]]
    assert after[longest] == 10
    assert sum(b == before[longest] and a == 10 for a, b in zip(after, before, strict=True)) == 2


def test_chains_of_sides_that_differ_too_much_from_first_to_last_are_broken() -> None:
    """25, 10 and 5 divisions: each is like enough to its neighbour, but together none would suit both ends."""
    chain: list[Sides] = [([0], [], [1], []), ([1], [], [2], [])]
    assert matched(chain, [25, 10, 5], wishes([25, 10, 5])) == [25, 8, 8]  # the likest go together
    assert matched(chain, [12, 10, 8], wishes([12, 10, 8])) == [10, 10, 10]
    assert matched(chain, [25, 10, 5], wishes([25, 10, 5], (), (0,))) == [25, 25, 25]  # by hand: all follow


def test_edges_of_one_count_on_both_sides_of_a_region_do_not_grow_round_by_round() -> None:
    """Two ends of a box, and a vane between them that is nearer to one: whatever is added on one side comes on the other too."""
    sides: list[Sides] = [([0], [], [1], []), ([0, 2], [], [1, 3], [])]
    assert matched(sides, [5, 5, 3, 2], wishes([5, 5, 3, 2], held=(2, 3))) == [5, 5, 3, 2]
