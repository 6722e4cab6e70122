"""A tray a fifth as large as the demo's, with one of each of its openings, for what is asked of a mesh and not of a particular part."""

from __future__ import annotations

from pathlib import Path

from kind_rivet.core.document.document import Document
from kind_rivet.headless import open_part
from tests.thin_meshes import drawing

NAME = "small_tray.step"


def small_tray(folder: Path) -> Document:
    """The small tray, written as a STEP file to a folder and opened."""
    parts = drawing("draw_parts")
    tray = parts.Tray(length=150.0, width=100.0, height=40.0, end_height=22.0)
    s, t = tray.inner_radius + tray.wall, tray.wall
    part = parts.box(s, s, 0, tray.length - 2 * s, tray.width - 2 * s, t)
    for side, height in enumerate((tray.height, tray.height, tray.end_height, tray.end_height)):
        part = parts.fuse(part, parts.flange(tray, side, height))
    for x, y, diameter in ((25.0, 26.0, 9.0), (25.0, 74.0, 9.0), (55.0, 50.0, 24.0), (85.0, 25.0, 4.2)):
        part = parts.drill(part, x, y, t / 2, diameter)
    part = parts.drill(part, 75.0, t / 2, 22.5, 9.0, (0, 1, 0))
    part = parts.cut(part, parts.slot(110.0, 65.0, 40.0, 12.0))
    parts.write(part, folder / NAME, "Small tray")
    return open_part(folder / NAME)
