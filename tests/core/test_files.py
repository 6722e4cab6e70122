"""Round trips, other readers, the document store."""

from __future__ import annotations

import os
import signal
import sqlite3
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
from vtkmodules.vtkIOExodus import vtkExodusIIReader

from kind_rivet.core.document.document import Document
from kind_rivet.core.document.store import load, save
from kind_rivet.core.errors import Refused, Unreadable
from kind_rivet.core.files.exchange import Exchange
from kind_rivet.core.files.exodus import read_exodus, write_exodus
from kind_rivet.core.files.vtu import read_vtu, write_vtu
from kind_rivet.core.mesh.mesh import ELEMENT_FIELDS, NODE_FIELDS


@pytest.mark.parametrize(("write", "read", "name"), [(write_vtu, read_vtu, "a.vtu"), (write_exodus, read_exodus, "a.exo")])
def test_what_is_written_is_read_back(mixed: Document, tmp_path: Path, write, read, name: str) -> None:  # type: ignore[no-untyped-def]
    given = Exchange.of(mixed)
    write(given, tmp_path / name)
    back = read(tmp_path / name)
    for field in (*NODE_FIELDS, *ELEMENT_FIELDS):
        assert np.array_equal(getattr(back.mesh, field), getattr(given.mesh, field)), field
    assert [(s.name, s.kind, s.ids.tolist()) for s in back.sets] == [(s.name, s.kind, s.ids.tolist()) for s in given.sets]
    assert back.parts == given.parts
    assert back.masses == given.masses
    assert [(s.name, s.centre, s.nodes.tolist()) for s in back.spiders] == [(s.name, s.centre, s.nodes.tolist()) for s in given.spiders]


def test_vtk_reads_our_exodus(mixed: Document, tmp_path: Path) -> None:
    write_exodus(Exchange.of(mixed), tmp_path / "a.exo")
    reader = vtkExodusIIReader()
    reader.SetFileName(str(tmp_path / "a.exo"))
    reader.UpdateInformation()
    names = {reader.GetObjectName(reader.ELEM_BLOCK, i) for i in range(reader.GetNumberOfObjects(reader.ELEM_BLOCK))}
    assert "Cradle tray quad" in names
    assert "Solid layers hex" in names
    node_sets = {reader.GetObjectName(reader.NODE_SET, i) for i in range(reader.GetNumberOfObjects(reader.NODE_SET))}
    assert {s.name for s in mixed.sets if s.kind == "node"} == node_sets
    reader.Update()
    assert reader.GetOutput().GetNumberOfPoints() > 0


def test_a_document_survives_saving(mixed: Document, tmp_path: Path) -> None:
    save(mixed, tmp_path / "a.rivet")
    back = load(tmp_path / "a.rivet")
    assert np.array_equal(back.mesh.conn, mixed.mesh.conn)
    assert back.quality.mesh_index == mixed.quality.mesh_index
    assert back.sheets[1].proof == mixed.sheets[1].proof
    assert [t.operation for t in back.trail] == [t.operation for t in mixed.trail]
    assert back.choices == mixed.choices
    assert not back.stale
    size = (tmp_path / "a.rivet").stat().st_size
    save(back, tmp_path / "a.rivet")
    assert (tmp_path / "a.rivet").stat().st_size <= 1.1 * size


def test_foreign_and_newer_documents_are_refused(mixed: Document, tmp_path: Path) -> None:
    (tmp_path / "text.rivet").write_text("hello")
    with pytest.raises(Unreadable):
        load(tmp_path / "text.rivet")
    save(mixed, tmp_path / "new.rivet")
    base = sqlite3.connect(tmp_path / "new.rivet")
    base.execute("PRAGMA user_version = 99")
    base.commit()
    base.close()
    with pytest.raises(Unreadable, match="newer version"):
        load(tmp_path / "new.rivet")
    with pytest.raises(Unreadable, match="no file"):
        load(tmp_path / "none.rivet")
    with pytest.raises(Unreadable, match="folder"):
        load(tmp_path)
    with pytest.raises(Refused):
        save(mixed, tmp_path / "no" / "such" / "folder.rivet")


def test_flipped_bytes_are_noticed(mixed: Document, tmp_path: Path) -> None:
    save(mixed, tmp_path / "a.rivet")
    data = bytearray((tmp_path / "a.rivet").read_bytes())
    for at in range(len(data) // 3, len(data) // 3 + 4000):
        data[at] ^= 0x5A
    (tmp_path / "a.rivet").write_bytes(bytes(data))
    with pytest.raises(Unreadable):
        load(tmp_path / "a.rivet")


KILLED = """
import sys, pathlib
from dataclasses import replace
from kind_rivet.core.document.store import load, save
path = pathlib.Path(sys.argv[1])
document = load(path)
print("ready", flush=True)
for k in range(10000):
    document = replace(document, name=f"state {k}", mesh=document.mesh.moved(document.mesh.points + 0.001))
    save(document, path)
    print(k, flush=True)
"""


def test_kill_while_saving_loses_nothing_saved(mixed: Document, tmp_path: Path) -> None:
    """Ten times: a process that saves again and again is killed at a random moment."""
    path = tmp_path / "a.rivet"
    save(mixed, path)
    rng = np.random.default_rng(3)
    for _ in range(10):
        process = subprocess.Popen([sys.executable, "-c", KILLED, str(path)], stdout=subprocess.PIPE, text=True)
        assert process.stdout is not None
        assert process.stdout.readline() == "ready\n"
        time.sleep(float(rng.uniform(0.05, 0.5)))
        os.kill(process.pid, signal.SIGKILL)
        written = [line for line in process.stdout.read().splitlines() if line]
        process.wait()
        document = load(path)
        saved = int(written[-1]) if written else -1
        state = int(document.name.split()[-1]) if document.name.startswith("state") else -1
        if saved >= 0:
            assert state in (saved, saved + 1)
        assert document.mesh.elements == mixed.mesh.elements
