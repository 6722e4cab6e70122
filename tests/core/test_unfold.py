"""Folded elements: nodes drawn over their neighbours are led back, faces are found as if nothing had been folded."""

from __future__ import annotations

import numpy as np
import pytest

from kind_rivet.core.document.document import Document
from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.operations import perform
from kind_rivet.core.quality.shell_metrics import SCALED_JACOBIAN, shell_metrics
from kind_rivet.core.quality.unfold import unfolded
from tests.loose import grid, joined, loose


def arch(u: Floats, v: Floats) -> Floats:
    return np.column_stack((12 - 12 * np.cos(np.pi * u), 20 * v, 12 * np.sin(np.pi * u)))


def channel() -> tuple[Floats, np.ndarray]:
    """A floor and two walls at right angles to it, one node to each corner of their joints."""
    return joined(
        grid(12, 16, lambda u, v: np.column_stack((0 * u, 16 * v, 12 - 12 * u))), grid(14, 16, lambda u, v: np.column_stack((14 * u, 16 * v, 0 * u))),
        grid(12, 16, lambda u, v: np.column_stack((0 * u + 14, 16 * v, 12 * u))),
    )  # fmt: skip


def drawn(points: Floats, rows: np.ndarray, share: float, by: float, seed: int) -> tuple[Floats, np.ndarray]:
    """Points with a share of the inner nodes drawn `by` sides in their tangent planes, those in joints and on borders left alone; and which."""
    rng = np.random.default_rng(seed)
    normal, turn = np.zeros_like(points), np.zeros(len(points))
    area = np.cross(points[rows[:, 2]] - points[rows[:, 0]], points[rows[:, 3]] - points[rows[:, 1]])
    area /= np.linalg.norm(area, axis=1)[:, None]
    for k in range(4):
        np.add.at(normal, rows[:, k], area)
        np.add.at(turn, rows[:, k], 1.0)
    whole = (turn == 4) & (np.linalg.norm(normal, axis=1) > 3.8)
    normal /= np.linalg.norm(normal, axis=1)[:, None]
    mine = np.flatnonzero(whole & (rng.random(len(points)) < share))
    step = rng.normal(size=(len(mine), 3))
    step -= np.einsum("ij,ij->i", step, normal[mine])[:, None] * normal[mine]
    out = points.copy()
    out[mine] += by * step / np.linalg.norm(step, axis=1)[:, None]
    return out, mine


@pytest.mark.parametrize("surface", ["flat", "arch", "channel"])
@pytest.mark.parametrize("seed", [1, 2, 3])
def test_nodes_drawn_over_their_neighbours_are_led_back(surface: str, seed: int) -> None:
    points, rows = {
        "flat": lambda: grid(24, 20, lambda u, v: np.column_stack((24 * u, 20 * v, 0 * u))), "arch": lambda: grid(36, 20, arch), "channel": channel,
    }[surface]()  # fmt: skip
    folded, mine = drawn(points, rows, 0.04, 1.4, seed)
    assert (shell_metrics(folded, rows)[:, SCALED_JACOBIAN] < 0).sum() > 3
    document = loose(folded, rows)
    shape = perform(document, "part.faces_from_mesh", {}).sheets[1].shape
    assert len(shape.faces) == (3 if surface == "channel" else 1)
    mended = perform(document, "quality.optimise", {})
    assert len(mended.quality.failing) == 0
    assert shell_metrics(mended.mesh.points, mended.mesh.shells())[:, SCALED_JACOBIAN].min() > 0.5
    x, z = mended.mesh.points[mine][:, [0, 2]].T
    off = {
        "flat": np.abs(z),
        "arch": np.abs(np.hypot(x - 12, z) - 12),
        "channel": np.minimum(np.abs(z), np.minimum(np.abs(x), np.abs(x - 14))),
    }[surface]
    assert off.max() < 0.05  # on the surface, and not far from where it was drawn from
    assert np.linalg.norm(mended.mesh.points - points, axis=1)[mine].max() < 0.75


def test_a_sound_mesh_and_nodes_that_must_stay_are_not_touched() -> None:
    points, rows = channel()
    n = len(points)
    free, code, data = np.ones(n, bool), np.zeros(n, np.int8), np.zeros((n, 8))
    same, moved = unfolded(points, rows, free, code, data)
    assert (same == points).all() and not moved.any()
    folded, mine = drawn(points, rows, 0.04, 1.4, 1)
    free[mine] = False
    _, moved = unfolded(folded, rows, free, code, data)
    assert not moved[mine].any()


def test_it_does_not_matter_which_way_elements_are_turned() -> None:
    points, rows = channel()
    folded, _ = drawn(points, rows, 0.04, 1.4, 2)
    n = len(points)
    free, code, data = np.ones(n, bool), np.zeros(n, np.int8), np.zeros((n, 8))
    first, _ = unfolded(folded, rows, free, code, data)
    mixed = rows.copy()
    mixed[::3] = mixed[::3][:, [0, 3, 2, 1]]
    second, _ = unfolded(folded, mixed, free, code, data)
    assert first == pytest.approx(second, abs=1e-9)


def test_trias_are_laid_open_too() -> None:
    points, quads = grid(14, 14, lambda u, v: np.column_stack((14 * u, 14 * v, 0 * u)))
    rows = np.vstack((quads[:, [0, 1, 2, 2]], quads[:, [0, 2, 3, 3]]))
    rows[:, 3] = -1
    points[7 * 15 + 7] += (1.4, 0.3, 0)
    document: Document = loose(points, rows)
    assert len(document.quality.failing)
    mended = perform(document, "quality.optimise", {})
    area = np.cross(*(mended.mesh.points[mended.mesh.shells()[:, k]] - mended.mesh.points[mended.mesh.shells()[:, 0]] for k in (1, 2)))[
        :, 2
    ]
    assert area.min() > 0.3 and len(mended.quality.failing) == 0
