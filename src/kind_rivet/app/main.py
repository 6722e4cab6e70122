"""Starting the window."""

from __future__ import annotations

import os
import sys
import threading
from pathlib import Path


def load_kernels() -> None:
    """Load the compiled kernels the window itself uses (rays for picking, metrics), so that the first pick does not wait."""
    import numpy as np

    from kind_rivet.core.geometry.rays import FacetTree
    from kind_rivet.core.mesh.kinds import TRIA
    from kind_rivet.core.mesh.mesh import Mesh
    from kind_rivet.core.quality.index import judge
    from kind_rivet.core.quality.limits import DEFAULT
    from kind_rivet.core.repair.drag import NodeDrag
    from kind_rivet.core.repair.holds import holds_of

    points = np.eye(3)
    tree = FacetTree.over(points, np.array([[0, 1, 2]], np.int32))
    tree.cast(np.zeros((1, 3)), np.ones((1, 3)))
    tree.nearest(np.zeros((1, 3)))
    mesh = Mesh().with_nodes(points).with_elements(TRIA, np.array([[0, 1, 2]]), 0)
    judge(mesh, DEFAULT, 1.0)
    NodeDrag(mesh, holds_of(mesh, {}), DEFAULT, 1.0, 0)


def main(file: Path | None = None) -> int:
    """Open the window, on wish with a file; returns the exit code."""
    from kind_rivet.worker.pool import start_server

    start_server()  # before Qt: workers are forked from a server that knows no Qt
    from PySide6.QtCore import QTimer
    from PySide6.QtWidgets import QApplication

    from kind_rivet.app.theme import apply_theme
    from kind_rivet.app.window import MainWindow

    app = QApplication.instance() or QApplication(sys.argv[:1])
    assert isinstance(app, QApplication)
    apply_theme(app)
    window = MainWindow()
    window.show()

    def begin() -> None:
        window.session.warm(ahead=True)
        threading.Thread(target=load_kernels, daemon=True).start()
        if file is not None:
            window.open_path(file)
        else:
            window.session.recover()

    QTimer.singleShot(0, begin)
    if os.environ.get("KIND_RIVET_QUIT_AFTER"):  # for the start-up benchmark
        QTimer.singleShot(int(os.environ["KIND_RIVET_QUIT_AFTER"]), window.close)
    return app.exec()
