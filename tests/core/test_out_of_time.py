"""Bodies that run out of time keep the walls there are so far."""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np
import pytest

import kind_rivet.core.operations.midsurface as operations
from kind_rivet.core.checks.gate import check
from kind_rivet.core.geometry.kernel.facets import facet_shape
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.guard import OutOfTime, apart
from kind_rivet.core.midsurface.crossing import make_by_crossing
from kind_rivet.core.midsurface.extract import extract
from kind_rivet.core.midsurface.hand import Hand
from kind_rivet.core.midsurface.loose import LOOSE, loose_walls
from kind_rivet.core.midsurface.sheet import Sheet
from kind_rivet.core.operations import perform
from tests.core.test_by_hand import document_of
from tests.thin_parts import box, fused


def _late(count: int, keep: Callable[[int], None]) -> int:
    for k in range(count):
        keep(k)
    time.sleep(30)
    return -1


def test_what_was_handed_over_outlives_the_process() -> None:
    with pytest.raises(OutOfTime, match=r"longer than 0\.8 s") as late:
        apart(_late, (3,), 0.8, "waiting", hands_over=True)
    assert late.value.partial == 2
    with pytest.raises(OutOfTime) as late:
        apart(_late, (0,), 0.3, "waiting", hands_over=True)
    assert late.value.partial is None


def test_loose_walls_lie_in_the_middle_of_their_walls() -> None:
    solid = facet_shape(fused(box(0, 0, 0, 80, 40, 2), [box(0, 19, 0, 80, 2, 22)]))
    kept: list[Sheet] = []
    from kind_rivet.core.geometry.rays import FacetTree

    make_by_crossing(
        solid, FacetTree.over(solid.points, solid.facets), found=lambda whole, middles: kept.append(loose_walls(whole, middles))
    )
    walls = kept[0]
    assert walls.way == LOOSE and np.allclose(walls.thickness, 2.0)
    flat = np.abs(walls.shape.facet_normal[:, 2]) > 0.9
    assert walls.shape.points[walls.shape.facets[flat]][..., 2] == pytest.approx(1.0)
    assert walls.shape.points[walls.shape.facets[~flat]][..., 1] == pytest.approx(20.0)
    assert not any(len(faces) > 2 for faces in walls.shape.edge_faces)


def test_sheets_are_handed_over_best_last() -> None:
    solid = facet_shape(fused(box(0, 0, 0, 80, 40, 2), [box(0, 19, 0, 80, 2, 22)]))
    kept: list[Sheet] = []
    made = extract(solid, keep=kept.append)
    assert kept[0].way == LOOSE
    assert kept[-1].proof is not None and kept[-1].area == pytest.approx(made.area)


def test_a_body_that_runs_out_of_time_keeps_its_walls_and_says_so(monkeypatch: pytest.MonkeyPatch) -> None:
    def slow(solid: Shape, hands: tuple[Hand, ...] = (), keep: Callable[[Sheet], None] = lambda sheet: None) -> Sheet:
        def handed(sheet: Sheet) -> None:
            keep(sheet)
            time.sleep(60)

        return extract(solid, hands, handed)

    monkeypatch.setattr(operations, "extract", slow)
    d = document_of(fused(box(0, 0, 0, 80, 40, 2), [box(0, 19, 0, 80, 2, 22)]))
    d = perform(d, "midsurface.extract", {"limit": 5.0})
    sheet = d.sheets[1]
    assert sheet.way == LOOSE and len(sheet.shape.faces) == 3
    assert sheet.remarks[0].kind == "unfinished"
    assert "stopped after 5 s" in d.notes[0] and "more time" in d.notes[0]
    meshed = perform(d, "mesh.shells", {"size": 5.0})
    assert meshed.mesh.elements > 100
    assert any("stopped before it was done" in finding.text for finding in check(meshed))
