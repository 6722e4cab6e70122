"""Starting the window."""

from __future__ import annotations

import os
import sys
from pathlib import Path


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
        window.session.warm()
        if file is not None:
            window.open_path(file)
        else:
            window.session.recover()

    QTimer.singleShot(0, begin)
    if os.environ.get("KIND_RIVET_QUIT_AFTER"):  # for the start-up benchmark
        QTimer.singleShot(int(os.environ["KIND_RIVET_QUIT_AFTER"]), window.close)
    return app.exec()
