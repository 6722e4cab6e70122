"""Patches of few sides filled with few irregular nodes, and meshes that get fewer of them."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
from numpy.typing import NDArray

from kind_rivet.core.meshing.free.fill import fill, flat_worst
from kind_rivet.core.meshing.free.flow import Flow, field_of
from kind_rivet.core.meshing.free.front import cross_and_size
from kind_rivet.core.meshing.free.regular import made_regular
from kind_rivet.core.meshing.free.templates import fewest, templates

NO_SPOTS = np.empty((0, 4))


def corners_of(sides: int) -> NDArray[np.float64]:
    t = np.arange(sides) / sides * 2 * np.pi
    return np.column_stack((np.cos(t), np.sin(t)))


def disc(count: int, radius: float) -> NDArray[np.float64]:
    t = np.arange(count) / count * 2 * np.pi
    return radius * np.column_stack((np.cos(t), np.sin(t)))


def irregular(elements: NDArray[np.int32], points: int, border: int) -> int:
    used = np.bincount(elements[elements >= 0], minlength=points)
    return int((used[border:] != 4).sum())


@pytest.mark.parametrize("sides", [3, 4, 5, 6])
def test_templates_fill_their_ring(sides: int) -> None:
    made = 0
    for counts in itertools.product(range(1, 5), repeat=sides):
        for template in templates(counts, corners_of(sides)):
            made += 1
            ring, total = sum(counts), sum(counts) + template.inner
            assert sorted(np.unique(template.quads).tolist()) == list(range(total))
            directed = {(int(row[k]), int(row[(k + 1) % 4])) for row in template.quads for k in range(4)}
            assert len(directed) == 4 * len(template.quads)  # no side twice the same way
            border = {(a, b) for a, b in directed if (b, a) not in directed}
            assert border == {(k, (k + 1) % ring) for k in range(ring)}
            assert total - (len(directed) + ring) // 2 + len(template.quads) == 1  # a disc
            used = np.bincount(template.quads.ravel(), minlength=total)
            corner = np.concatenate(([0], np.cumsum(counts)[:-1]))
            assert (used[corner] == 1).all() and (np.delete(used[:ring], corner) == 2).all()
            assert int((used[ring:] != 4).sum()) == template.irregular == fewest(counts)
    assert made > 10


def test_templates_need_an_even_ring() -> None:
    assert templates((2, 3, 2, 2), corners_of(4)) == []
    assert templates((1, 1, 4), corners_of(3)) == []  # one side longer than the others together


def test_four_sides_with_other_counts_get_one_pair() -> None:
    for counts in ((5, 5, 4, 4), (4, 5, 5, 4), (6, 3, 4, 3), (3, 4, 3, 6), (2, 4, 4, 6)):
        first = templates(counts, corners_of(4))[0]
        used = np.bincount(first.quads.ravel())[sum(counts) :]
        assert sorted(used[used != 4].tolist()) == [3, 5], counts


@pytest.fixture(scope="module")
def flange() -> list[NDArray[np.float64]]:
    holes = [disc(16, 2.5)[::-1] + (15 * np.cos(q), 15 * np.sin(q)) for q in (0.1, 2.2, 4.3)]
    return [disc(138, 22.0), disc(56, 9.0)[::-1], *holes]


def test_mesh_gets_fewer_irregular_nodes_and_nothing_poor(flange: list[NDArray[np.float64]], monkeypatch: pytest.MonkeyPatch) -> None:
    from kind_rivet.core.meshing.free import regular

    with monkeypatch.context() as patched:
        patched.setattr(regular, "made_regular", lambda points, elements, *_: (points, elements))
        before = fill(flange, 1.0)
    border = sum(len(loop) for loop in flange)
    flow = Flow(field_of(flange), 1.0, 0.25, NO_SPOTS)
    points, elements = made_regular(before.points, before.elements, border, flow, 300)
    assert np.array_equal(points[:border], np.concatenate(flange))
    assert irregular(elements, len(points), border) < 0.75 * irregular(before.elements, len(before.points), border)
    assert flat_worst(points, elements) >= min(before.worst, 0.72) - 1e-6
    assert (elements[:, 3] < 0).sum() <= before.trias
    area = 0.5 * np.sum(
        points[elements, 0] * np.roll(points[elements, 1], -1, axis=1) - np.roll(points[elements, 0], -1, axis=1) * points[elements, 1]
    )
    whole = [0.5 * np.sum(x[:, 0] * np.roll(x[:, 1], -1) - np.roll(x[:, 0], -1) * x[:, 1]) for x in flange]
    if before.trias == 0:
        assert area == pytest.approx(sum(whole), rel=1e-9)
    again, same = made_regular(before.points, before.elements, border, flow, 300)
    assert np.array_equal(again, points) and np.array_equal(same, elements)


def test_no_budget_changes_nothing(flange: list[NDArray[np.float64]]) -> None:
    mesh = fill(flange, 1.0)
    flow = Flow(field_of(flange), 1.0, 0.25, NO_SPOTS)
    points, elements = made_regular(mesh.points, mesh.elements, sum(map(len, flange)), flow, 0)
    assert points is mesh.points and elements is mesh.elements


def test_hard_points_stay_nodes() -> None:
    hard = np.array([(3.3, 2.1), (-4.0, 5.2), (0.5, -6.7)])
    mesh = fill([disc(54, 8.6)], 1.0, hard=hard)
    assert np.allclose(mesh.points[54:57], hard, atol=1e-12)
    assert np.isin(np.arange(54, 57), mesh.elements).all()


def test_unease_tells_direction_from_shape() -> None:
    loop = np.concatenate(
        [np.linspace(a, b, 10, endpoint=False) for a, b in (((0, 0), (10, 0)), ((10, 0), (10, 10)), ((10, 10), (0, 10)), ((0, 10), (0, 0)))]
    )
    flow = Flow(field_of([loop]), 1.0, 0.25, NO_SPOTS)
    half = np.sqrt(0.5)
    points = np.array([(4.5, 4.5), (5.5, 4.5), (5.5, 5.5), (4.5, 5.5), (5 - half, 5), (5, 5 - half), (5 + half, 5), (5, 5 + half)])
    along, across = flow.unease(points, np.array([(0, 1, 2, 3), (4, 5, 6, 7)], np.int32))
    assert along == pytest.approx(0.0, abs=1e-6)
    assert across == pytest.approx(0.5, abs=1e-6)  # all of TURN
    f = flow.field
    way, size = cross_and_size(5.0, 5.0, f.mid, f.length, np.cos(4 * f.angle), np.sin(4 * f.angle), f.calm, 1.0, 0.25, NO_SPOTS)
    assert way == pytest.approx(0.0, abs=1e-9) and size == 1.0


@pytest.mark.parametrize("fixed_hole", [True, False])
def test_a_border_where_no_border_node_is_ends_the_search(fixed_hole: bool) -> None:
    """A patch that cannot grow there any more is given up: it once grew by nothing for ever."""
    n = 9
    number = np.arange(n * n).reshape(n, n)
    rows = np.stack((number[:-1, :-1], number[1:, :-1], number[1:, 1:], number[:-1, 1:]), axis=-1).reshape(-1, 4)
    points = np.stack(np.meshgrid(np.arange(n), np.arange(n), indexing="ij"), axis=-1).reshape(-1, 2).astype(float)
    hole = rows[27]
    border = np.unique(np.concatenate((number[0], number[-1], number[:, 0], number[:, -1], *([hole] if fixed_hole else []))))
    order = np.concatenate((border, np.setdiff1d(np.arange(n * n), border)))
    place = np.argsort(order)
    elements = place[np.delete(rows, 27, axis=0)].astype(np.int32)
    sides = np.array([(0.0, 0), (8, 0), (8, 8), (0, 8)])
    made, same = made_regular(points[order], elements, len(border), Flow(field_of([sides]), 1.0, 0.25, NO_SPOTS), 50)
    np.testing.assert_array_equal(made, points[order])
    np.testing.assert_array_equal(same, elements)
