"""Rows from side to side that give way only near holes and in rounded corners, and what is filled there."""

from __future__ import annotations

import numpy as np
import pytest

from kind_rivet.core.meshing.choice import unrest
from kind_rivet.core.meshing.fillings import best_filling
from kind_rivet.core.meshing.free.clearings import cleared_elements
from kind_rivet.core.meshing.free.fill import FlatMesh, fill
from kind_rivet.core.meshing.free.flow import Flow, field_of
from kind_rivet.core.meshing.free.loops import area_of
from kind_rivet.core.meshing.free.repeats import Repeats
from kind_rivet.core.meshing.mapped import fill_mapped
from kind_rivet.core.meshing.rounded import rounded_turns
from kind_rivet.core.meshing.rules import ShellRules
from tests.flat import area, flat_patch
from tests.made_up import circle

Floats = np.ndarray


def rectangle(wide: int, high: int) -> Floats:
    corners = np.array([(0.0, 0), (wide, 0), (wide, high), (0, high)])
    count = (wide, high, wide, high)
    return np.concatenate([corners[k] + (corners[(k + 1) % 4] - corners[k]) * (np.arange(count[k]) / count[k])[:, None] for k in range(4)])


def rounded_rectangle(wide: int, high: int, radius: int, sides: int) -> Floats:
    """Straight sides of one, corners in `sides` parts."""
    out = []
    for k, centre in enumerate([(wide - radius, radius), (wide - radius, high - radius), (radius, high - radius), (radius, radius)]):
        angle = np.pi / 2 * (k - 1 + np.arange(sides + 1) / sides)
        out.append(np.array(centre) + radius * np.column_stack((np.cos(angle), np.sin(angle))))
        straight = (high, wide)[k % 2] - 2 * radius
        way = np.array([(0, 1), (-1, 0), (0, -1), (1, 0)][k])
        out.append(out[-1][-1] + np.arange(1, straight)[:, None] * way)
    return np.concatenate(out)


def taken(loops: list[Floats]) -> FlatMesh:
    return best_filling(flat_patch(loops), loops, np.empty((0, 2)), ShellRules(1.0, 0.25), None)


def irregular(mesh: FlatMesh, loops: list[Floats]) -> int:
    used = np.bincount(mesh.elements[mesh.elements >= 0], minlength=len(mesh.points))
    return int((used[sum(map(len, loops)) :] != 4).sum())


def check_whole(mesh: FlatMesh, loops: list[Floats]) -> None:
    assert mesh.trias == 0
    assert area(mesh) == pytest.approx(sum(area_of(loop) for loop in loops), rel=1e-9)
    np.testing.assert_array_equal(mesh.points[: sum(map(len, loops))], np.concatenate(loops))


PLATES = {
    "in the middle": [rectangle(40, 30), circle(20, 15, 3, 16)],
    "anywhere": [rectangle(40, 30), circle(13.3, 11.7, 2.2, 12)],
    "four": [rectangle(40, 30), *(circle(x, y, 2, 12) for x in (6, 34) for y in (6, 24))],
    "two sizes": [rectangle(60, 40), circle(15, 12, 2.5, 16), circle(40, 25, 5, 32)],
}


@pytest.mark.parametrize("name", PLATES)
def test_rows_stay_straight_away_from_holes(name: str) -> None:
    loops = PLATES[name]
    mesh = taken(loops)
    check_whole(mesh, loops)
    assert mesh.worst > 0.7
    inner = mesh.points[sum(map(len, loops)) :]
    away = np.min(
        [np.linalg.norm(inner - hole.mean(axis=0), axis=1) - np.linalg.norm(hole[0] - hole.mean(axis=0)) for hole in loops[1:]], axis=0
    )
    far = inner[away > 9]
    assert len(far) > 100
    assert np.abs(far - np.round(far)).max() < 1e-9


@pytest.mark.parametrize("name", PLATES)
def test_they_follow_the_borders_better_than_a_front(name: str) -> None:
    loops = PLATES[name]
    rows, free = taken(loops), fill(loops, 1.0)
    flow = Flow(field_of(loops), 1.0, 0.25, np.empty((0, 4)))
    assert unrest(rows, loops, flow) < 0.75 * unrest(free, loops, flow)
    assert irregular(rows, loops) <= irregular(free, loops)


@pytest.mark.parametrize("sides", [3, 4])
def test_rounded_corners_take_part_only_near_them(sides: int) -> None:
    loops = [rounded_rectangle(36, 24, 4, sides), circle(18, 12, 3, 16)]
    mesh = taken(loops)
    check_whole(mesh, loops)
    assert mesh.worst > 0.6
    assert irregular(mesh, loops) <= 24


def test_equal_holes_are_seen_alike() -> None:
    loops = PLATES["four"]
    mesh = taken(loops)
    inner = mesh.points[sum(map(len, loops)) :]
    for turned in (inner * (-1, 1) + (40, 0), inner * (1, -1) + (0, 30)):
        apart = np.linalg.norm(inner[:, None] - turned[None], axis=2).min(axis=1)
        assert apart.max() < 0.05


def test_what_is_cleared_has_no_corners_that_point_inwards() -> None:
    rows = fill_mapped(rectangle(30, 20))
    assert rows is not None
    none = np.zeros(len(rows.elements), bool)
    holes = [circle(8, 8, 1.5, 8), circle(12.5, 11, 1.5, 8)]
    lot = cleared_elements(rows, holes, 0.8, none, 0.0)
    assert lot is not None
    centre = rows.points[rows.elements[lot]].mean(axis=1)
    low, high = centre.min(axis=0), centre.max(axis=0)
    assert lot.sum() == np.prod(np.round(high - low) + 1)  # one block round both
    assert cleared_elements(rows, [circle(15, 10, 9.5, 32)], 6.0, none, 0.0) is None


# -- corners of rounded outlines -----------------------------------------------------------
def test_rounds_count_as_corners_in_their_middle() -> None:
    (even,) = rounded_turns(rounded_rectangle(20, 12, 4, 4))
    assert sorted(np.flatnonzero(even) % 1) == [0, 0, 0, 0]
    assert even.sum() == 4
    odd = rounded_turns(rounded_rectangle(20, 12, 4, 3))
    assert len(odd) == 16
    assert all(whole.sum() == 4 for whole in odd)


def test_outlines_without_straight_sides_or_with_odd_turns_have_none() -> None:
    assert rounded_turns(circle(0, 0, 5, 24)[::-1]) == []
    assert rounded_turns(rectangle(5, 4)) == []
    skew = np.array([(0.0, 0), (4, 0), (8, 1), (12, 4), (6, 8), (0, 8)])
    assert rounded_turns(skew) == []


# -- outlines with a hole that are alike -----------------------------------------------------
@pytest.mark.parametrize("mirrored", [False, True])
def test_a_turned_or_mirrored_clearing_is_filled_once(mirrored: bool) -> None:
    calls = []

    def filled(loops: list[Floats]) -> FlatMesh:
        calls.append(len(loops))
        return fill(loops, 1.0)

    repeats = Repeats(1.0, filled)
    first = [rectangle(9, 7), circle(3.8, 3.2, 1.6, 12)]
    turn = np.array([(0.6, 0.8), (-0.8, 0.6)])

    def moved(points: Floats) -> Floats:
        return (points * (-1, 1) if mirrored else points) @ turn + (50, -20)

    second = [np.roll(moved(loop)[::-1] if mirrored else moved(loop), 5, axis=0) for loop in first]
    one, other = repeats.filled(first), repeats.filled(second)
    assert calls == [2]
    assert other.worst == pytest.approx(one.worst, abs=1e-9)
    check_whole(other, second)
    there = moved(one.points)
    assert np.linalg.norm(other.points[:, None] - there[None], axis=2).min(axis=1).max() < 1e-9


def test_a_hole_elsewhere_is_another_clearing() -> None:
    repeats = Repeats(1.0, lambda loops: fill(loops, 1.0))
    one = repeats.filled([rectangle(9, 7), circle(3.8, 3.2, 1.6, 12)])
    other = repeats.filled([rectangle(9, 7), circle(4.2, 3.2, 1.6, 12)])
    assert one is not other
    assert other.worst > 0.4
