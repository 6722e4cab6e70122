"""Where places lie along lines."""

from __future__ import annotations

import numpy as np
import pytest

from kind_rivet.core.midsurface.stations import stations


def test_places_on_a_line_of_several_sides() -> None:
    line = np.array([[0.0, 0, 0], [10, 0, 0], [10, 5, 0]])
    at = stations(line, np.array([[2.5, 1, 0], [10, 3, 2], [11, 0, 0], [-4, 1, 0], [10, 9, 0]]), line)
    assert at == pytest.approx([2.5, 13.0, 10.0, -4.0, 19.0])  # beyond its ends it runs straight on


def test_a_closed_line_does_not_run_on() -> None:
    t = np.linspace(0, 2 * np.pi, 181)
    ring = np.column_stack((np.cos(t), np.sin(t), 0 * t)) * 7
    ring[-1] = ring[0]
    angle = np.array([0.4, 1.3, 5.9])
    around = np.column_stack((np.cos(angle), np.sin(angle), 0 * angle)) * 7.01
    assert stations(ring, around, ring) == pytest.approx(7 * angle, rel=1e-3)


def test_places_are_read_on_the_common_line() -> None:
    rng = np.random.default_rng(8)
    common = np.cumsum(rng.uniform(0.2, 1.0, (30, 3)), axis=0)
    image = common * 1.1 + 0.3
    passed = np.r_[0.0, np.cumsum(np.linalg.norm(np.diff(common, axis=0), axis=1))]
    assert stations(image, image, common) == pytest.approx(passed, abs=1e-9)
    middle = (image[:-1] + image[1:]) / 2
    assert stations(image, middle, common) == pytest.approx((passed[:-1] + passed[1:]) / 2, abs=1e-9)
