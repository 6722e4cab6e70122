"""Regions that come again between passes are filled once; one that breaks off costs the others nothing."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

import kind_rivet.core.meshing.regions as regions
from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.free.fill import CannotFill
from kind_rivet.core.meshing.free.flow import Grain
from kind_rivet.core.meshing.grain import lattices
from kind_rivet.core.meshing.patch import Patch, lay_flat
from kind_rivet.core.meshing.regions import Region, filled_region
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.shells import mesh_sheet
from kind_rivet.core.midsurface.extract import extract
from tests.flat import flat_patch
from tests.thin_meshes import solid_of
from tests.thin_parts import box, cylinder, fused

RULES = ShellRules(1.0, 0.25)


def square(side: float) -> np.ndarray:
    """Corners and nodes at every unit of a square."""
    t = np.arange(int(side))
    low, high = np.zeros(len(t)), np.full(len(t), side)
    return np.concatenate([np.column_stack(xy) for xy in ((t, low), (high, t), (side - t, high), (low, side - t))]).astype(float)


def region(side: float = 6.0) -> Region:
    loop = square(side)
    return Region(flat_patch([loop]), [np.arange(len(loop), dtype=np.int32)], [loop], [], np.empty((0, 2)), 0, None)


def test_the_same_question_is_answered_once(monkeypatch: pytest.MonkeyPatch) -> None:
    asked = []
    best = regions.best_filling
    monkeypatch.setattr(regions, "best_filling", lambda *a: asked.append(1) or best(*a))
    answers: regions.Answers = {}
    first = filled_region(region(), RULES, answers)
    again = filled_region(region(), RULES, answers)
    assert again is first and len(asked) == 1


@pytest.mark.parametrize(
    "other",
    [
        lambda r: (replace(r, inner=np.array([(3.3, 2.7)]), hard=1), RULES),
        lambda r: (replace(r, flat=[r.flat[0] * 1.1]), RULES),
        lambda r: (replace(r, turn=np.zeros(len(r.flat[0]), np.int64)), RULES),
        lambda r: (r, replace(RULES, growth=0.5)),
        lambda r: (r, replace(RULES, size=0.9)),
        lambda r: (r, replace(RULES, ways={0: "free"})),
    ],
    ids=["hard point", "border", "turns", "growth", "size", "way"],
)
def test_another_question_is_another_one(other) -> None:  # type: ignore[no-untyped-def]
    mine = regions._question(region(), RULES)
    assert regions._question(region(), RULES) == mine
    assert regions._question(*other(region())) != mine


def test_a_filling_that_breaks_off_is_told_and_the_rest_goes_on(monkeypatch: pytest.MonkeyPatch) -> None:
    def broken(*_: object) -> None:
        raise ValueError("a ring of two points")

    monkeypatch.setattr(regions, "best_filling", broken)
    answer = filled_region(region(), RULES, {})
    assert isinstance(answer, CannotFill)
    assert "broke off (a ring of two points)" in str(answer)
    assert answer.at == pytest.approx((3.0, 3.0))


def test_one_wall_that_breaks_off_is_named_and_the_others_are_meshed(monkeypatch: pytest.MonkeyPatch) -> None:
    sheet = extract(solid_of(fused(box(0, 0, 0, 60, 40, 2), [box(0, 0, 0, 2, 40, 30), cylinder((40, 20, 0), (0, 0, 1), 5, 2)]))).shape
    best = regions.best_filling
    walls = len(mesh_sheet(sheet, ShellRules(5.0, 0.25)).elements)

    def sometimes(patch: Patch, *rest):  # type: ignore[no-untyped-def]
        if patch.faces[0] == 0:
            raise IndexError("out of bounds")
        return best(patch, *rest)

    monkeypatch.setattr(regions, "best_filling", sometimes)
    left = mesh_sheet(sheet, ShellRules(5.0, 0.25))
    assert 0 < len(left.elements) < walls
    assert any("left out" in note and "broke off" in note for note in left.notes)


def test_rows_keep_clear_of_the_foot_of_a_wall_one_side_long() -> None:
    """A loop of two nodes is a line on which another wall stands, not a hole."""
    foot = np.array([(3.0, 3.0), (3.0, 4.0)])
    made = lattices([square(6.0), foot], Grain(0.0, 1.0, 0.1), 0.5)
    assert made
    for points in made:
        t = np.clip(points[:, 1] - 3.0, 0.0, 1.0)
        assert np.hypot(points[:, 0] - 3.0, points[:, 1] - 3.0 - t).min() > 0.5 * 0.5


def test_facets_that_do_not_hang_together_are_refused_in_order() -> None:
    """Where one is missing the border runs along a side that belongs to no edge."""
    sheet = extract(solid_of(box(0, 0, 0, 40, 30, 2))).shape
    torn = Shape(sheet.points, sheet.facets[1:], sheet.facet_face[1:], sheet.normals[1:], sheet.faces, sheet.edges)
    lay_flat(sheet, (0,))
    with pytest.raises(Refused, match="do not hang together"):
        lay_flat(torn, (0,))
