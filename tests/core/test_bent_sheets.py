"""Seeded bent-sheet parts through midsurface and mesh: connected, covered, no inverted element, holes kept."""

from __future__ import annotations

import numpy as np
import pytest

from kind_rivet.core.document.document import Body, Document
from kind_rivet.core.geometry.first_look import look
from kind_rivet.core.mesh.coincident import coincident_groups
from kind_rivet.core.mesh.topology import flipped_pairs, loops_of, pieces, shell_sides
from kind_rivet.core.operations import perform
from tests.bent_sheets import BentSheet, draw


def document_of(part: BentSheet) -> Document:
    seen = look(part.solid)
    return Document(name="bent", bodies=(Body(1, "bent", "#9DB4A0", part.solid, seen.walls, seen.thin_share, seen.holes, "drawn"),))


@pytest.mark.parametrize("seed", range(14))
def test_bent_sheet(seed: int) -> None:
    part = draw(seed)
    d = perform(document_of(part), "midsurface.extract", {})
    proof = d.sheets[1].proof
    assert d.sheets[1].thicknesses == [pytest.approx(part.wall, rel=1e-4)]
    assert proof.mass_ratio == pytest.approx(1, abs=0.005)
    assert proof.cover > 0.998
    assert proof.pieces == 1
    d = perform(d, "mesh.shells", {"size": part.size})
    mesh = d.mesh
    assert pieces(mesh) == 1
    assert loops_of(shell_sides(mesh.shells()).free) == part.holes + 1
    assert flipped_pairs(mesh) == 0
    assert not coincident_groups(mesh, 1e-4 * part.size)
    assert mesh.counts()["quad"] / mesh.elements > 0.96
    assert d.quality.worst_by_metric(mesh)["scaled_jacobian"] > 0.2
    assert len(d.quality.failing) <= 0.05 * mesh.elements
    volume = float(np.sum(_areas(d) * mesh.thickness))
    assert volume / part.solid.volume == pytest.approx(1, abs=0.02)


def _areas(d: Document) -> np.ndarray:
    rows, p = d.mesh.shells(), d.mesh.points
    tria = rows[:, 3] < 0
    a = np.where(tria[:, None], p[rows[:, 1]] - p[rows[:, 0]], p[rows[:, 2]] - p[rows[:, 0]])
    b = np.where(tria[:, None], p[rows[:, 2]] - p[rows[:, 0]], p[rows[:, 3]] - p[rows[:, 1]])
    return np.linalg.norm(np.cross(a, b), axis=1) / 2


def test_thinner_sizes_bring_the_mass_closer() -> None:
    part = draw(3)
    d = perform(document_of(part), "midsurface.extract", {})
    error = []
    for factor in (1.0, 0.5):
        m = perform(d, "mesh.shells", {"size": part.size * factor})
        error.append(abs(float(np.sum(_areas(m) * m.mesh.thickness)) / part.solid.volume - 1))
    assert error[1] <= error[0] + 1e-4
