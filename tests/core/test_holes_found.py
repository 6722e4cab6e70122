"""Which holes the first look lists: also those bored through round walls, across seams and across edges between faces."""

from __future__ import annotations

import numpy as np
import pytest

from kind_rivet.core.document.document import Body, Document
from kind_rivet.core.geometry.first_look import look
from kind_rivet.core.geometry.holes import find_holes
from kind_rivet.core.mesh.topology import shell_sides
from kind_rivet.core.operations import perform
from tests.thin_meshes import drawn, solid_of
from tests.thin_parts import box, cut, cylinder, fused


def test_holes_through_a_tube() -> None:
    """Four holes across the wall, one of them on the seam, and the bore."""
    pipe = cut(cylinder((0, 0, 0), (0, 0, 1), 20, 100), [cylinder((0, 0, -1), (0, 0, 1), 18, 102)])
    for z, along in ((20, (1, 0, 0)), (40, (0, 1, 0)), (60, (-1, 0, 0)), (80, (1, 1, 0))):
        pipe = cut(pipe, [cylinder((0, 0, z), along, 3, 30)])
    holes = find_holes(solid_of(pipe))
    assert sorted(h.diameter for h in holes) == pytest.approx([6, 6, 6, 6, 36], abs=1e-6)
    assert {h.kind for h in holes} == {"round"}
    across = [h for h in holes if h.diameter < 10]
    for hole in across:
        assert hole.axis[2] == pytest.approx(0, abs=1e-9)
        assert hole.centre[0] ** 2 + hole.centre[1] ** 2 == pytest.approx(19**2, rel=0.02)
    assert sorted(h.centre[2] for h in across) == pytest.approx([20, 40, 60, 80], abs=1e-6)


def test_a_hole_over_a_bend_is_one_hole() -> None:
    """Drilled where a plate turns, its mouth runs over two faces."""
    angle = fused(box(0, 0, 0, 60, 40, 2), [box(0, 0, 0, 2, 40, 50)])
    holes = find_holes(solid_of(cut(angle, [cylinder((-5, 20, -5), (1, 0, 1), 5, 30)])))
    assert [h.diameter for h in holes] == pytest.approx([10])


def test_a_boss_is_no_hole() -> None:
    stub = fused(cylinder((0, 0, 0), (0, 0, 1), 20, 60), [cylinder((0, 0, 30), (1, 0, 0), 5, 30)])
    assert find_holes(solid_of(stub)) == ()


def test_half_a_tube_has_no_bore() -> None:
    """A border that goes half way round and back goes round nothing."""
    half = cut(cylinder((0, 0, 0), (0, 0, 1), 20, 60), [cylinder((0, 0, -1), (0, 0, 1), 18, 62), box(-30, -30, -1, 60, 30, 62)])
    assert find_holes(solid_of(half)) == ()


def test_a_hole_in_a_round_wall_is_left_out() -> None:
    """What is listed can be closed on the sheet as well, its middle left as a node."""
    shape = drawn("round_tube")
    seen = look(shape)
    assert [round(h.diameter, 6) for h in seen.holes].count(10.0) == 2
    hole = next(h for h in seen.holes if h.diameter < 11)
    document = Document(bodies=(Body(1, "Tube", "#9DB4A0", shape, seen.walls, seen.thin_share, seen.holes),))
    open_ = perform(perform(document, "midsurface.extract", {}), "mesh.shells", {"size": 2.5})
    document = perform(document, "prepare.leave_out_hole", {"body": 1, "centre": hole.centre, "hard_point": True})
    closed = perform(perform(document, "midsurface.extract", {}), "mesh.shells", {"size": 2.5})
    free = [int((shell_sides(d.mesh.shells()).uses == 1).sum()) for d in (open_, closed)]
    assert free[1] < free[0]
    away = np.linalg.norm(closed.mesh.points - np.array(hole.centre), axis=1).min()
    assert away < 0.5  # the middle of the mouths lies a little within the wall's middle
    assert np.linalg.norm(open_.mesh.points - np.array(hole.centre), axis=1).min() > 3.9
