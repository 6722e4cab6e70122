"""Lines at which walls of different thickness meet: where they begin and end, and where their nodes lie."""

from __future__ import annotations

from types import SimpleNamespace

import numpy as np
import pytest

from kind_rivet.core.geometry.carriers import Carrier, arc_lengths
from kind_rivet.core.midsurface import steps
from kind_rivet.core.midsurface.drawing import _up_to
from kind_rivet.core.midsurface.fields import CarrierField
from kind_rivet.core.midsurface.network import _half_way
from kind_rivet.core.midsurface.steps import _between_bends, _passing, find_steps
from kind_rivet.core.midsurface.traces import Line


def arc(radius: float, low: float, high: float, count: int) -> np.ndarray:
    t = np.linspace(low, high, count)
    return np.column_stack((0 * t, radius * np.cos(t), radius * np.sin(t)))


def test_lengths_along_a_chain() -> None:
    assert arc_lengths(np.array([[0.0, 0], [3, 4], [3, 9]])) == pytest.approx([0, 5, 10])
    assert arc_lengths(np.zeros((1, 3))) == pytest.approx([0])


def test_a_step_round_a_bend_ends_where_the_bend_does() -> None:
    whole = arc(4.0, -0.5, 2.2, 41)
    ends = [arc(4.0, 0.0, np.pi / 2, 2)[k] for k in (0, 1)]
    cut = _between_bends(whole, ends, 2.0)
    assert {tuple(np.round(cut[k], 9)) for k in (0, -1)} == {tuple(np.round(end, 9)) for end in ends}
    assert np.linalg.norm(np.diff(cut, axis=0), axis=1).min() > 0.1  # nothing a hair from the ends
    assert arc_lengths(cut)[-1] == pytest.approx(2 * np.pi, rel=1e-3)


def test_a_step_without_bends_or_all_round_stays_whole() -> None:
    whole, ring = arc(4.0, -0.5, 2.2, 41), arc(4.0, 0, 2 * np.pi, 41)
    assert _between_bends(whole, [], 2.0) is whole
    assert _between_bends(whole, [np.array([0.0, 9.0, 9.0])], 2.0) is whole
    assert _between_bends(ring, [ring[5]], 2.0) is ring


def test_one_end_of_a_bend_on_a_step_becomes_one_of_its_points() -> None:
    whole = arc(4.0, -0.5, 2.2, 41)
    end = arc(4.0, 1.0, 1.1, 2)[0]
    fitted = _between_bends(whole, [end], 2.0)
    assert np.linalg.norm(fitted - end, axis=1).min() == 0
    assert fitted[[0, -1]] == pytest.approx(whole[[0, -1]])
    assert np.linalg.norm(np.diff(fitted, axis=0), axis=1).min() > 0.1


@pytest.mark.parametrize(("x", "passes"), [(80.0, True), (100.0, True), (120.0, False), (-5.0, False)])
def test_where_a_bend_passes_through_a_riser(x: float, passes: bool) -> None:
    riser = Line("riser", np.zeros((2, 3)), (CarrierField(Carrier("plane", (x, 0, 0, 1, 0, 0)), 1.0),), (0,), 7)
    found = _passing(np.array([[0.0, 5, 1], [100.0, 5, 1]]), riser)
    assert [p.tolist() for p in found] == ([[pytest.approx(x), 5, 1]] if passes else [])


def test_curved_bends_tell_no_end() -> None:
    riser = Line("riser", np.zeros((2, 3)), (CarrierField(Carrier("plane", (0, 0, 0, 1, 0, 0)), 1.0),), (0,), 7)
    assert _passing(arc(4.0, 0, 1, 5), riser) == []


def test_what_runs_on_beside_a_step_ends_where_that_does() -> None:
    step, whole = arc(4.0, 0.0, 1.0, 11), arc(4.0, -1.0, 1.05, 42)
    pieces = _up_to([whole[:21], whole[-2:]], whole, [step], 2.0)
    assert len(pieces) == 1  # the stub is gone
    assert pieces[0][-1].tolist() == step[0].tolist()
    assert pieces[0][0].tolist() == whole[0].tolist()
    assert _up_to([whole], whole, [step], 2.0)[0] is whole


def test_nodes_on_a_step_lie_midway_between_its_walls() -> None:
    low, high = arc(4.0, 0.0, 1.0, 3), arc(3.0, 0.0, 1.0, 3)
    line = Line("step", (low + high) / 2, (), (0, 1), 7, (low, high))
    points = np.vstack((low, high[[0, 2]]))  # the middle one on one wall only
    nodes, owner = np.array([[0, 1], [1, 2], [3, 4]]), np.array([0, 0, 1])
    cluster = np.array([[0, 1], [1, 2], [0, 2]])
    passed = arc_lengths(line.points)
    station = passed[cluster]
    place = _half_way(line, nodes, cluster, station, owner, points)
    assert sorted(place) == [0, 1, 2, 3, 4]
    assert place[0] == pytest.approx(line.points[0])
    assert place[3] == pytest.approx(line.points[0])
    assert place[1] == pytest.approx(line.points[1])
    assert place[4] == pytest.approx(line.points[2])


@pytest.mark.parametrize(("thicker", "asked"), [(0.0, []), (0.5, [1])])
def test_walls_alike_that_bend_into_each_other_do_not_step(monkeypatch: pytest.MonkeyPatch, thicker: float, asked: list[int]) -> None:
    """A rounding beside a bend made a tangle of lines on the two walls, one of which was lost."""
    walls = [SimpleNamespace(wall=wall, lines=lines, sides=(set(), set())) for wall, lines in ((3.0, [0]), (3.0 + thicker, []))]
    along = np.array([[0.0, 0, 0], [1, 0, 0]])
    lines = [Line("riser", along, (), (0,), 5), Line("bend", along, (), (0, 1))]
    seen: list[int] = []
    monkeypatch.setattr(steps, "_over", lambda middle, other, here, line: seen.append(walls.index(other)))
    assert find_steps(None, walls, {(0, 1)}, lines) == ([], [])  # type: ignore[arg-type]
    assert seen == asked
