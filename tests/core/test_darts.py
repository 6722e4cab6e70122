"""Walls that bend tightly: their rows run along and across the bend, so that quads are not warped."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.free.fill import FlatMesh, fill
from kind_rivet.core.meshing.free.flow import WARPED, Flow, Grain, field_of
from kind_rivet.core.meshing.grain import _eased, _lack, grain_of, lattices, with_grain
from kind_rivet.core.meshing.patch import lay_flat
from kind_rivet.core.quality.index import judge_shells
from kind_rivet.core.quality.limits import DEFAULT
from kind_rivet.core.quality.shell_metrics import WARP, shell_metrics
from tests.thin_meshes import drawn_sheet, made

SIZE, RADIUS = 1.0, 2.0
ALONG_X = Grain(0.0, 0.5, 1 / RADIUS)  # what bends is x


def oval(long: float, wide: float, sides: int) -> list[Floats]:
    angle = 2 * np.pi * np.arange(sides) / sides
    return [np.column_stack((wide * np.cos(angle), long * np.sin(angle)))]


def wrapped(points: Floats) -> Floats:
    """Places of the plane on a cylinder of RADIUS along y."""
    turn = points[:, 0] / RADIUS
    return np.column_stack((RADIUS * np.sin(turn), points[:, 1], RADIUS * np.cos(turn)))


def failing(mesh: FlatMesh) -> int:
    return len(judge_shells(wrapped(mesh.points), mesh.elements, DEFAULT, SIZE).failing)


def test_a_dart_gets_rows_along_it_and_hardly_any_element_fails() -> None:
    mesh = made("darted_bracket")
    assert (mesh.pieces, mesh.coincident()) == (1, 0)
    assert mesh.quad_share >= 0.99
    assert len(mesh.quality.failing) <= 2  # 57 when rows ran anyhow
    bent = [f for f, face in enumerate(mesh.sheet.faces) if face.carrier.kind == "cylinder" and face.carrier.data[6] > 5]
    mine = np.isin(mesh.mesh.face, bent)
    assert mine.sum() > 50
    assert np.median(mesh.quality.values[mine, WARP]) < 6


def test_flat_walls_have_no_grain_and_bent_ones_have_it_only_where_elements_turn_far() -> None:
    shape = drawn_sheet("darted_bracket").shape
    kinds = {f: face.carrier.kind for f, face in enumerate(shape.faces)}
    dart = max((f for f in kinds if kinds[f] == "cylinder"), key=lambda f: shape.faces[f].carrier.data[6])
    radius = shape.faces[dart].carrier.data[6]
    assert all(grain_of(lay_flat(shape, (f,)), 3.0) is None for f in kinds if kinds[f] == "plane")
    patch = lay_flat(shape, (dart,))
    assert grain_of(patch, 0.25 * radius) is None
    grain = grain_of(patch, 0.7 * radius)
    assert grain is not None
    assert grain.bend == pytest.approx(1 / radius, rel=0.05)
    assert abs(np.sin(grain.angle)) < 0.01  # developed with its axis upright
    weak = grain_of(patch, 0.4 * radius)
    assert weak is not None
    assert weak.reach / 0.4 > grain.reach / 0.7


def test_a_dome_has_no_grain() -> None:
    shape = drawn_sheet("tank").shape
    domes = [f for f, face in enumerate(shape.faces) if face.carrier.kind == "sphere"]
    assert domes
    radius = shape.faces[domes[0]].carrier.data[3]
    assert all(grain_of(lay_flat(shape, (f,)), 0.6 * radius) is None for f in domes)


@pytest.mark.parametrize("turn", [0.0, 15.0, 30.0, 45.0])
def test_unease_knows_how_warped_a_quad_will_be(turn: float) -> None:
    c, s = np.cos(np.radians(turn)), np.sin(np.radians(turn))
    square = np.array([(0.0, 0.0), (0.4, 0.0), (0.4, 0.4), (0.0, 0.4)]) @ np.array([(c, s), (-s, c)])
    rows = np.array([(0, 1, 2, 3)], np.int32)
    loops = [square]
    straight = replace(field_of(loops, ALONG_X), bend=0.0)
    flow = Flow(field_of(loops, ALONG_X), SIZE, 0.25, np.empty((0, 4)))
    more = flow.unease(square, rows) - replace(flow, field=straight).unease(square, rows)
    true = np.radians(shell_metrics(wrapped(square), rows)[0, WARP])
    assert np.sqrt(more[0]) * WARPED == pytest.approx(true, rel=0.03, abs=1e-6)


def test_quads_too_wide_for_a_bend_are_uneasy() -> None:
    rows = np.array([(0, 1, 2, 3)], np.int32)

    def unease(wide: float) -> float:
        square = np.array([(0.0, 0.0), (wide, 0.0), (wide, 1.0), (0.0, 1.0)])
        field = field_of([square], ALONG_X)
        flow = Flow(field, SIZE, 0.25, np.empty((0, 4)))
        return float(flow.unease(square, rows)[0] - replace(flow, field=replace(field, bend=0.0)).unease(square, rows)[0])

    assert unease(1.1) == pytest.approx(0, abs=1e-9)
    assert 0 < unease(1.5) < unease(2.0)


def test_rows_laid_down_along_the_grain_leave_few_failing() -> None:
    c = np.sqrt(0.5)
    across = (
        [(k, 0.0) for k in range(5)],
        [(5.0, k) for k in range(9)],
        [(5.0 - k, 9.0) for k in range(5)],
        [(0.0, 9.0 - k) for k in range(9)],
    )
    askew = [np.array([p for side in across for p in side]) @ np.array([(c, c), (-c, c)])]
    plain = fill(askew, SIZE)
    assert failing(plain) == len(plain.elements)  # every quad lies askew to the bend
    made_with = lattices(askew, ALONG_X, SIZE)
    assert 4 <= len(made_with) <= 8
    best = None
    for points in made_with:
        apart = (points - points[0]) / SIZE
        assert np.allclose(apart, np.round(apart))
        mesh = _eased(fill(askew, SIZE, hard=points, grain=ALONG_X), ALONG_X, len(askew[0]), SIZE)
        assert np.array_equal(mesh.points[: len(askew[0])], askew[0])
        best = mesh if best is None or failing(mesh) < failing(best) else best
    assert best is not None
    assert failing(best) <= 4


def test_fillings_with_a_grain_are_the_same_on_every_run() -> None:
    loops = oval(9.0, 3.0, 40)
    one, two = fill(loops, SIZE, grain=ALONG_X), fill(loops, SIZE, grain=ALONG_X)
    assert np.array_equal(one.points, two.points)
    assert np.array_equal(one.elements, two.elements)


def test_a_clean_filling_is_taken_as_it_is_and_a_failing_one_gives_way_to_a_better() -> None:
    shape = drawn_sheet("darted_bracket").shape
    dart = max((f for f, face in enumerate(shape.faces) if face.carrier.kind == "cylinder"), key=lambda f: shape.faces[f].carrier.data[6])
    patch = lay_flat(shape, (dart,))
    size = 0.6 * shape.faces[dart].carrier.data[6]
    grain = grain_of(patch, size)
    assert grain is not None
    none, middle = np.empty((0, 2)), patch.flat[patch.facets].mean(axis=(0, 1))
    square = middle + 1.2 * size * np.array([(-1, -1), (0, -1), (1, -1), (1, 0), (1, 1), (0, 1), (-1, 1), (-1, 0)], float)
    straight = fill([square], 1.2 * size)
    assert with_grain(patch, [None, straight], [square], none, np.empty((0, 4)), grain, 1.2 * size, 0.25) is straight
    turned = middle + (square - middle) @ (np.array([(1, 1), (-1, 1)]) / np.sqrt(2))
    askew = fill([turned], 1.2 * size)
    better = with_grain(patch, [askew], [turned], none, np.empty((0, 4)), grain, 1.2 * size, 0.25)
    assert better is not askew
    assert _lack(patch, better, 1.2 * size) < _lack(patch, askew, 1.2 * size)
    assert np.array_equal(better.points[:8], turned)


def test_easing_on_the_bend_moves_inner_nodes_only_and_leaves_fewer_failing() -> None:
    loops = oval(9.0, 3.0, 40)
    mesh = fill(loops, SIZE)
    eased = _eased(mesh, ALONG_X, 40, SIZE)
    assert np.array_equal(eased.points[:40], mesh.points[:40])
    assert np.array_equal(eased.elements, mesh.elements)
    assert failing(eased) <= failing(mesh)
    assert eased.worst > 0
    lonely = FlatMesh(loops[0], np.array([(0, 10, 20, 30)], np.int32), 1.0)
    assert _eased(lonely, ALONG_X, 40, SIZE) is lonely
