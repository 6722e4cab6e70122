"""The session: the document with its history, the proposal, the worker, saving. Knows no widgets."""

from __future__ import annotations

import os
import threading
from dataclasses import replace
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QSocketNotifier, QTimer, Signal

from kind_rivet.core.document.document import Document
from kind_rivet.core.document.store import load, save
from kind_rivet.core.errors import Refused
from kind_rivet.worker.pool import Finished, ProgressNote, Worker

HISTORY = 400


class Session(QObject):
    """Signals: `changed` (document or proposal), `progress` (share, words), `stopped` (work broken off), `idle`, `said` (words, kind)."""

    changed = Signal()
    progress = Signal(float, str)
    stopped = Signal()
    idle = Signal()
    said = Signal(str, str)

    def __init__(self) -> None:
        super().__init__()
        self.history: list[Document] = [Document()]
        self.at = 0
        self.proposal: Document | None = None
        self.path: Path | None = None
        self.saved: Document = self.history[0]
        self._worker: Worker | None = None
        self._spare: Worker | None = None
        self._notifier: QSocketNotifier | None = None
        self._keep_at_once = False
        self._autosave = QTimer(self)
        self._autosave.setSingleShot(True)
        self._autosave.timeout.connect(self._write_recovery)
        self._saving = threading.Lock()

    # -- the document ----------------------------------------------------------
    @property
    def document(self) -> Document:
        return self.history[self.at]

    @property
    def shown(self) -> Document:
        """The proposal where there is one, else the document."""
        return self.proposal if self.proposal is not None else self.document

    @property
    def unsaved(self) -> bool:
        return self.document is not self.saved

    def _become(self, document: Document) -> None:
        self.history = [*self.history[: self.at + 1], document][-HISTORY:]
        self.at = len(self.history) - 1
        self.proposal = None
        self._autosave.start(4000)
        self.changed.emit()

    def go_to(self, place: int) -> None:
        """Go to a place in the history (undo, redo, a line of the Trail)."""
        place = max(0, min(place, len(self.history) - 1))
        if place != self.at:
            self.proposal = None
            self.at = place
            self._autosave.start(4000)
            self.changed.emit()

    def undo(self) -> None:
        self.go_to(self.at - 1)

    def redo(self) -> None:
        self.go_to(self.at + 1)

    # -- working -----------------------------------------------------------------
    @property
    def busy(self) -> bool:
        return self._notifier is not None

    @property
    def keeping(self) -> bool:
        """Is work running whose result is kept without asking?"""
        return self.busy and self._keep_at_once

    def begin(self, document: Document) -> None:
        """Go on with another document; the present one stays in the history."""
        self.stop(quietly=True)
        self._become(document)

    def warm(self, ahead: bool = False) -> None:
        """Have a worker waiting, with its kernels loaded ahead if wanted."""
        if self._spare is None:
            self._spare = Worker(ahead)

    def propose(self, name: str, parameters: dict[str, Any]) -> None:
        """Carry out an operation on the document in a worker; the result becomes the proposal."""
        self._start(name, parameters, keep=False)

    def do(self, name: str, parameters: dict[str, Any]) -> None:
        """Carry out an operation and keep it at once."""
        self._start(name, parameters, keep=True)

    def _start(self, name: str, parameters: dict[str, Any], keep: bool) -> None:
        self.stop(quietly=True)
        self._keep_at_once = keep
        self._worker, self._spare = self._spare or Worker(), None
        try:
            self._worker.job(self.document, name, parameters)
        except (OSError, ValueError):  # the waiting worker had died
            self._worker.stop()
            self._worker = Worker()
            self._worker.job(self.document, name, parameters)
        self._notifier = QSocketNotifier(self._worker.pipe.fileno(), QSocketNotifier.Type.Read, self)
        self._notifier.activated.connect(self._receive)
        self.progress.emit(0.0, "working")

    def stop(self, quietly: bool = False) -> None:
        """Stop the running work; the document stays as it is."""
        if self._worker is None or self._notifier is None:
            return
        self._leave(kill=True)
        if not quietly:
            self.said.emit("Stopped. Nothing was changed.", "note")
        self.stopped.emit()
        self.idle.emit()

    def _leave(self, kill: bool) -> None:
        if self._notifier is not None:
            self._notifier.setEnabled(False)
            self._notifier.deleteLater()
            self._notifier = None
        worker, self._worker = self._worker, None
        if worker is not None:
            if kill:
                worker.stop()
            elif self._spare is None:
                self._spare = worker
            else:
                worker.stop()

    def _receive(self) -> None:
        worker = self._worker
        if worker is None:
            return
        try:
            message = worker.pipe.recv()
        except (EOFError, OSError):
            self._leave(kill=True)
            self.said.emit("The worker broke down; only this step is lost. Try it again, or with other values.", "problem")
            self.idle.emit()
            return
        if isinstance(message, ProgressNote):
            self.progress.emit(message.share, message.what)
            return
        assert isinstance(message, Finished)
        self._leave(kill=False)
        if message.refused is not None:
            self.said.emit(str(message.refused), "problem")
        elif message.broken:
            self.said.emit("Something went wrong inside the program; only this step is lost.\n" + message.broken, "problem")
        elif self._keep_at_once:
            self._say_notes(message.document)
            self._become(message.document)
        else:
            self.proposal = message.document
            self.changed.emit()
        self.idle.emit()

    def _say_notes(self, document: Document) -> None:
        for k, note in enumerate(document.notes):
            self.said.emit(note, "done" if k == 0 else "note")

    def keep(self) -> None:
        if self.proposal is not None:
            self._say_notes(self.proposal)
            self._become(self.proposal)

    def drop(self) -> None:
        if self.busy and not self._keep_at_once:
            self.stop(quietly=True)
        if self.proposal is not None:
            self.proposal = None
            self.changed.emit()

    # -- files -------------------------------------------------------------------
    @property
    def recovery_path(self) -> Path:
        if self.path is not None:
            return self.path.with_suffix(".rivet-recovery")
        from platformdirs import user_state_path

        return user_state_path("kind-rivet", ensure_exists=True) / "untitled.rivet-recovery"

    def save(self, path: Path) -> bool:
        """Save; on failure say why and keep everything as it is."""
        try:
            with self._saving:
                save(replace(self.document, name=path.stem, notes=()), path)
        except Refused as refused:
            self.said.emit(str(refused), "problem")
            return False
        self._forget_recovery()
        self.path, self.saved = path, self.document
        self.said.emit(f"Saved {path.name}.", "done")
        self.changed.emit()
        return True

    def open_document(self, path: Path, recovered: bool = False) -> bool:
        try:
            document = load(path)
        except Refused as refused:
            self.said.emit(str(refused), "problem")
            return False
        self.stop(quietly=True)
        self.history, self.at, self.proposal = [document], 0, None
        if not recovered:
            self.path, self.saved = path, document
            recovery = self.recovery_path
            if recovery.exists() and recovery.stat().st_mtime > path.stat().st_mtime:
                self.said.emit(f"There is newer unsaved work from a session that broke off: open {recovery.name} to have it.", "note")
        self.said.emit(
            f"Opened {path.name}." if not recovered else "Brought back unsaved work of a session that broke off. Save it to keep it.",
            "done",
        )
        self.changed.emit()
        return True

    def recover(self) -> bool:
        """Bring back untitled work that was never saved, if there is any."""
        return self.path is None and self.recovery_path.exists() and self.open_document(self.recovery_path, recovered=True)

    def _write_recovery(self) -> None:
        document, path = self.document, self.recovery_path
        if document is self.saved or (not document.bodies and not document.mesh.elements):
            return

        def work() -> None:
            with self._saving:
                try:
                    part = path.with_name(path.name + ".part")
                    part.unlink(missing_ok=True)
                    save(document, part)
                    os.replace(part, path)
                except (Refused, OSError):
                    pass  # the folder may be read-only; saving by hand will say so

        threading.Thread(target=work, daemon=True).start()

    def _forget_recovery(self) -> None:
        self._autosave.stop()
        self.recovery_path.unlink(missing_ok=True)

    def close(self) -> None:
        """End of the program: no worker stays, unsaved work of a document that was given up is forgotten."""
        self.stop(quietly=True)
        if self._spare is not None:
            self._spare.stop()
            self._spare = None
        with self._saving:
            self._forget_recovery()
