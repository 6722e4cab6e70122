"""Looking for what is near holes: only near ones count, and the search does not grow with the square of the holes."""

from __future__ import annotations

import numpy as np
import pytest

from kind_rivet.core.geometry.carriers import Carrier
from kind_rivet.core.geometry.kernel.facets import facet_shape
from kind_rivet.core.meshing import washers
from kind_rivet.core.meshing.bolt_circles import furthest
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.meshing.patch import Patch, lay_flat
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.midsurface.extract import extract
from tests.thin_parts import box, cut, cylinder


def plate(nx: int, ny: int) -> tuple[Patch, list[Patch | None]]:
    holes = [cylinder((10 + 10 * i, 10 + 10 * j, -1), (0, 0, 1), 2.5, 4) for i in range(nx) for j in range(ny)]
    shape = extract(facet_shape(cut(box(0, 0, 0, 10 * nx + 10, 10 * ny + 10, 2), holes))).shape
    patch = lay_flat(shape, (0,))
    plate.shape = shape  # type: ignore[attr-defined]
    return patch, [patch]


def test_outlines_and_discs_of_a_region() -> None:
    patch, _ = plate(3, 2)
    assert len(patch.outlines) == 7
    centres, radii = patch.discs
    assert np.sort(radii)[:6] == pytest.approx(2.5, rel=1e-3)
    assert centres[0] == pytest.approx(patch.outlines[0].mean(axis=0))
    assert patch.outlines is patch.outlines  # found once


def test_a_hole_is_measured_against_near_ones_only(monkeypatch: pytest.MonkeyPatch) -> None:
    counted = []
    real = washers.loop_gap
    monkeypatch.setattr(washers, "loop_gap", lambda a, b: counted.append(1) or real(a, b))
    for nx, ny in ((4, 4), (8, 8)):
        counted.clear()
        _, patches = plate(nx, ny)
        found = washers.find_round_holes(plate.shape, patches, ShellRules(2.0))  # type: ignore[attr-defined]
        assert len(found) == nx * ny and all(h.widths for h in found)
        assert len(counted) <= 10 * nx * ny  # the border and up to eight neighbours


def test_furthest_place_along_a_circle() -> None:
    t = np.linspace(0, 2 * np.pi, 41)
    points = np.column_stack((5 * np.cos(t), 5 * np.sin(t), 0 * t))
    points[-1] = points[0]
    curve = Curve.through(points, Carrier("circle", (0, 0, 0, 0, 0, 1, 5)))
    for angle in (0.3, 1.234, 4.0):
        at = curve.at(np.array([furthest(curve, np.zeros(3), np.array([np.cos(angle), np.sin(angle), 0.0]))]))[0]
        assert np.arctan2(at[1], at[0]) % (2 * np.pi) == pytest.approx(angle, abs=1e-4)
