"""Shared documents: the tray opened, with midsurface, meshed (each made once per run)."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from kind_rivet.core.document.document import Document
from kind_rivet.core.operations import perform
from kind_rivet.headless import open_part

ROOT = Path(__file__).resolve().parents[1]
EXAMPLES = ROOT / "examples"
TRAY = EXAMPLES / "cradle_tray.step"
PARTS = ROOT.parent / "shared" / "parts"
JUDGE = ROOT.parent / "shared" / "tools" / "judge_mesh.py"

os.environ.setdefault("XDG_STATE_HOME", "/tmp/kind-rivet-test-state")


@pytest.fixture(scope="session")
def tray() -> Document:
    return open_part(TRAY)


@pytest.fixture(scope="session")
def tray_sheet(tray: Document) -> Document:
    return perform(tray, "midsurface.extract", {})


@pytest.fixture(scope="session")
def tray_mesh(tray_sheet: Document) -> Document:
    return perform(tray_sheet, "mesh.shells", {"size": 8.0})


@pytest.fixture(scope="session")
def small_sheet(tmp_path_factory: pytest.TempPathFactory) -> Document:
    """The midsurface of a tray a fifth as large."""
    from tests.small_tray import small_tray  # it draws, which most tests need not wait for

    return perform(small_tray(tmp_path_factory.mktemp("small")), "midsurface.extract", {})


@pytest.fixture(scope="session")
def small_mesh(small_sheet: Document) -> Document:
    return perform(small_sheet, "mesh.shells", {"size": 8.0})


@pytest.fixture(scope="session")
def mixed(tray_mesh: Document) -> Document:
    """The tray with a material, spiders with masses, beams, layers and sets."""
    d = perform(tray_mesh, "mixed.material", {"material": "Steel"})
    holes = [(1, *h.centre) for h in d.mesh_holes[1] if abs(h.radius - 4.5) < 0.01][:3]
    d = perform(d, "mixed.spiders", {"holes": holes, "mass": 0.002})
    longest = max(range(len(d.mesh_edges[1])), key=lambda e: len(d.mesh_edges[1][e]))
    d = perform(d, "mixed.beams_along", {"body": 1, "edges": [longest]})
    ring = [int(n) for n in d.mesh.element_id[d.mesh.ring == 2]]
    d = perform(d, "mixed.layers", {"elements": ring, "height": 6.0, "layers": 3})
    return perform(d, "sets.usual", {})
