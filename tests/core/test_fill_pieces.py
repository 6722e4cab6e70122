"""The pieces of the free mesher: exact tilings, mended places, rings between facing loops, detail that is looked past."""

from __future__ import annotations

import numpy as np
import pytest

from kind_rivet.core.document.document import Document
from kind_rivet.core.geometry.holes import Hole
from kind_rivet.core.geometry.onto import CIRCLE, LINE, onto
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.meshing.detail import narrow_strips, small_detail
from kind_rivet.core.meshing.free import mend
from kind_rivet.core.meshing.free.fill import CannotFill, fill, flat_worst
from kind_rivet.core.meshing.free.tile import tiled
from kind_rivet.core.meshing.mapped import fill_blocks, fill_mapped, fill_rings
from kind_rivet.core.meshing.patch import lay_flat
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.shells import mesh_sheet
from kind_rivet.core.meshing.washers import ring_outlines
from kind_rivet.core.repair.holds import fitting
from tests.core.test_free import check
from tests.made_up import circle, polygon


def test_tiling_of_a_rectangle_is_exact() -> None:
    loop = polygon([(0, 0), (4, 0), (4, 1), (0, 1)], 1.0)
    quads = tiled(loop, 1.0)
    assert quads is not None
    assert len(quads) == 4
    assert flat_worst(loop, quads) == pytest.approx(1.0)


def test_tiling_finds_the_one_way_through_a_bent_strip() -> None:
    loop = np.array([(0, 0), (1, 0), (2, 0), (2, 1), (2, 2), (1, 2), (1, 1), (0, 1)], float)
    quads = tiled(loop, 1.0)
    assert quads is not None
    assert len(quads) == 3
    assert flat_worst(loop, quads) == pytest.approx(1.0)


@pytest.mark.parametrize("corners", [5, 7, 42])
def test_odd_or_long_polygons_have_no_tiling(corners: int) -> None:
    t = np.linspace(0, 2 * np.pi, corners + 1)[:-1]
    assert tiled(np.column_stack((np.cos(t), np.sin(t))), 1.0) is None


def test_mending_raises_the_worst_and_keeps_the_border() -> None:
    loops = [polygon([(0, 0), (30, 0), (30, 20), (0, 20)], 2.0), circle(8, 6, 2.4, 10), circle(22, 12, 3.1, 14)]
    mesh = fill(loops, 2.0)
    check(mesh, loops)
    points, elements = mesh.points.copy(), mesh.elements
    border = sum(len(loop) for loop in loops)
    inner = int(elements[elements >= border][0])
    beside = elements[(elements == inner).any(axis=1)]
    neighbour = next(int(v) for v in beside[0] if v not in (inner, -1))
    points[inner] = points[inner] + 0.9 * (points[neighbour] - points[inner])  # one node pushed almost onto its neighbour
    spoilt = mend.score_of(points, elements, 2.0).min()

    def again(outline: list[np.ndarray], held: np.ndarray, keep_off: float, factor: float) -> tuple[np.ndarray, np.ndarray]:
        mesh = fill(outline, 2.0 * factor, hard=held)
        return mesh.points, mesh.elements

    better, rows = mend.mend(points, elements, border, 0, 2.0, again, 60)
    assert spoilt < mend.POOR
    assert mend.score_of(better, rows, 2.0).min() > spoilt
    assert np.array_equal(better[:border], points[:border])
    assert (mend.score_of(better, rows, 2.0) > 0).all()


def test_outline_of_a_lot_with_a_hole_and_of_one_that_touches_itself() -> None:
    ring = np.array([(0, 1, 5, 4), (1, 2, 6, 5), (2, 3, 7, 6), (3, 0, 4, 7)], np.int32)
    loops = mend.outline(ring)
    assert loops is not None
    assert sorted(len(loop) for loop in loops) == [4, 4]
    assert mend.outline(np.array([(0, 1, 2, 3), (2, 4, 5, 6)], np.int32)) is None


@pytest.mark.parametrize("turn", [0.0, 0.1, 0.3])
def test_rings_between_facing_loops(turn: float) -> None:
    outer, inner = circle(0, 0, 8.0, 16)[::-1], circle(0, 0, 3.0, 16)  # holes run clockwise
    c, s = np.cos(turn), np.sin(turn)
    mesh = fill_rings(outer @ np.array([[c, s], [-s, c]]), inner, 1.7)
    assert mesh is not None
    assert len(mesh.elements) == 3 * 16
    assert mesh.worst > 0.7
    assert fill_rings(outer, circle(0, 0, 3.0, 12), 1.7) is None


def test_ring_outlines_keep_their_distance_from_slots() -> None:
    t = np.linspace(-np.pi / 2, np.pi / 2, 7)
    end = np.column_stack((5 + 2 * np.cos(t), 2 * np.sin(t)))
    slot = np.concatenate((end, -end))[::-1]  # clockwise, as holes run
    (outline,) = ring_outlines(slot, 2.0, (1.0,), False)
    nearest = np.linalg.norm(outline[:, None] - slot[None], axis=2).min(axis=1)
    assert nearest.min() > 0.99
    assert nearest.max() < 1.05


def test_circle_and_line_that_fit_three_points() -> None:
    t = np.array([0.2, 0.5, 1.1])
    code, data = fitting(*np.column_stack((3 + 2 * np.cos(t), 1 + 2 * np.sin(t), 0 * t + 5)))
    assert code == CIRCLE
    assert data[:3] == pytest.approx([3, 1, 5])
    assert data[6] == pytest.approx(2)
    assert onto(code, data, 3.0, 4.0, 9.0) == pytest.approx((3, 3, 5))
    code, data = fitting(np.array([0.0, 0, 0]), np.array([1.0, 0, 0]), np.array([3.0, 0, 0]))
    assert code == LINE
    assert onto(code, data, 7.0, 4.0, 9.0) == pytest.approx((7, 0, 0))


def test_short_edges_shrink_only_as_far_as_the_limit(tray_sheet: Document) -> None:
    shape = tray_sheet.sheets[1].shape
    curves = [Curve.through(shape.points[e.nodes], e.carrier) for e in shape.edges]
    patches = [lay_flat(shape, (f,)) for f in range(len(shape.faces))]
    length = np.array([c.length for c in curves])
    for size in (5.0, 12.0, 25.0):
        rules = ShellRules(size)
        short = small_detail(shape, curves, patches, rules)
        closed = np.array([e.closed for e in shape.edges])
        assert (length[short & ~closed] < rules.look_past * size).all()
        spared = {int(e) for e in np.flatnonzero(short)[:2]}
        assert not small_detail(shape, curves, patches, rules, spared)[list(spared)].any()
        for strip in narrow_strips(shape, curves, patches, short, rules):
            assert sum(length[e] for e in strip.across) <= 2 * 0.352 * size + 1e-9


def test_tiny_holes_are_looked_past_and_said(tray_sheet: Document) -> None:
    shape = tray_sheet.sheets[1].shape
    smallest: Hole = min((h for h in tray_sheet.bodies[0].holes if h.kind == "round"), key=lambda h: h.diameter)
    big = smallest.diameter / 0.15
    mesh = mesh_sheet(shape, ShellRules(big))
    assert any("smaller than" in note for note in mesh.notes)
    kept = mesh_sheet(shape, ShellRules(smallest.diameter / 0.25))
    assert not any("smaller than" in note for note in kept.notes)


def mirrored(loop: np.ndarray) -> np.ndarray:
    """The loop seen in a mirror, running the same way round as before."""
    return (loop * (-1.0, 1.0))[::-1]


def same_points(a: np.ndarray, b: np.ndarray) -> bool:
    gap = np.linalg.norm(a[:, None] - b[None], axis=2).min(axis=1)
    return len(a) == len(b) and float(gap.max()) < 1e-9


def test_mirrored_borders_give_the_mirrored_rows_and_rings() -> None:
    bent = np.concatenate(
        [np.linspace(a, b, n + 1)[:-1] for a, b, n in (((0, 0), (9, 1), 8), ((9, 1), (8, 6), 5), ((8, 6), (1, 5), 8), ((1, 5), (0, 0), 5))]
    )
    one, other = fill_mapped(bent), fill_mapped(mirrored(bent))
    assert one is not None
    assert other is not None
    assert same_points(one.points * (-1.0, 1.0), other.points)
    outer, inner = circle(1, 2, 8.0, 16)[::-1], circle(1.5, 2.2, 3.0, 16)
    one, other = fill_rings(outer, inner, 1.7), fill_rings(mirrored(outer), mirrored(inner), 1.7)
    assert one is not None
    assert other is not None
    assert same_points(one.points * (-1.0, 1.0), other.points)
    hole = circle(3, 1, 2.0, 12)
    (ring,), (seen,) = ring_outlines(hole, 2.0, (1.0,)), ring_outlines(mirrored(hole), 2.0, (1.0,))
    assert same_points(ring * (-1.0, 1.0), seen)


@pytest.mark.parametrize(("sides", "step"), [(3, 1.0), (5, 0.88)])
def test_blocks_in_three_and_five_sides_have_one_irregular_node(sides: int, step: float) -> None:
    angle = np.linspace(0, 2 * np.pi, sides + 1)[:-1] + np.pi / 2
    loop = polygon([(6 * float(np.cos(a)), 6 * float(np.sin(a))) for a in angle], step)
    mesh = fill_blocks(loop)
    assert mesh is not None
    check(mesh, [loop])
    assert mesh.trias == 0
    assert mesh.worst > 0.85
    used = np.bincount(mesh.elements.ravel(), minlength=len(mesh.points))[len(loop) :]
    assert (used != 4).sum() == 1
    assert fill_blocks(loop[1:]) is None or len(loop) % 2  # an odd border fits no blocks


@pytest.mark.parametrize("degrees", [0.01, 0.5, 5.0])
def test_thin_wedges_are_filled_without_turning_over(degrees: float) -> None:
    share = np.linspace(0, 1, 11)
    tip = np.radians(degrees)
    out, back = 10 * share[:, None] * (1.0, 0.0), 10 * share[::-1, None] * (float(np.cos(tip)), float(np.sin(tip)))
    loop = np.concatenate((out, back[:-1]))
    assert fill([loop], 1.0).worst > 0


def test_necks_slits_and_tiny_holes() -> None:
    plate = polygon([(0, 0), (10, 0), (10, 10), (0, 10)], 1.0)
    speck = circle(5, 5, 1e-4, 6)
    assert fill([plate, speck], 1.0).worst > 0.5
    touching = np.array([(0, 0), (2, 0), (4, 0), (4, 2), (2, 2), (4, 4), (2, 4), (0, 4), (0, 2), (2, 2)], float)
    with pytest.raises(CannotFill, match="touches") as caught:
        fill([touching], 1.0)
    assert caught.value.at == pytest.approx([2, 2])
    neck = np.array(
        [
            (0, 0),
            (1, 0),
            (2, 0),
            (3, 0),
            (4, 0),
            (4, 1.999),
            (6, 1.999),
            (6, 0),
            (8, 0),
            (10, 0),
            (10, 2),
            (10, 4),
            (8, 4),
            (6, 4),
            (6, 2.001),
            (4, 2.001),
            (4, 4),
            (2, 4),
            (0, 4),
            (0, 2),
        ]
    )
    assert fill([neck], 1.0).worst > 0
