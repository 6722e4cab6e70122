#!/usr/bin/env python3
"""Renew docs/screenshots from the demo data: walks the example off-screen and keeps its pictures."""

from __future__ import annotations

import os
import shutil
import tempfile
from pathlib import Path

if __name__ == "__main__":
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    from kind_rivet.app.demo import demo

    here = Path(__file__).parent / "screenshots"
    with tempfile.TemporaryDirectory() as folder:
        demo(Path(folder))
        for picture in sorted(Path(folder).glob("*.png")):
            shutil.copy(picture, here / picture.name)
