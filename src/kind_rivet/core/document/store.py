"""The .rivet file: one SQLite database with the packed document and its arrays in checked chunks.

A save is one transaction with full synchronisation, so that a killed program leaves
either the old or the new state. Arrays are named by their contents: unchanged ones are
not written again.
"""

from __future__ import annotations

import json
import sqlite3
import zlib
from pathlib import Path

import numpy as np

from kind_rivet.core.document.document import Document
from kind_rivet.core.document.pack import array_key, pack, unpack
from kind_rivet.core.errors import Refused, Unreadable

APPLICATION = 0x52495654  # "RIVT"
VERSION = 1
CHUNK = 4 << 20

SCHEMA = """
CREATE TABLE IF NOT EXISTS document (id INTEGER PRIMARY KEY CHECK (id = 1), body TEXT NOT NULL, check_sum INTEGER NOT NULL);
CREATE TABLE IF NOT EXISTS arrays (name TEXT NOT NULL, chunk INTEGER NOT NULL, dtype TEXT NOT NULL, shape TEXT NOT NULL, data BLOB NOT NULL, check_sum INTEGER NOT NULL, PRIMARY KEY (name, chunk)) WITHOUT ROWID;
"""


def save(document: Document, path: Path) -> None:
    """Write the document. Raises `Refused` when the place cannot be written; then the old file is as it was."""
    arrays: dict[str, np.ndarray] = {}

    def keep(array: np.ndarray) -> str:
        name = array_key(array)
        arrays[name] = array
        return name

    body = json.dumps(pack(document, keep), separators=(",", ":"))
    try:
        base = _connect(path, new=not path.exists())
    except sqlite3.Error as error:
        raise Refused(f"{path} cannot be written ({error}).", "Choose a folder you may write to.") from error
    try:
        with base:
            base.execute("BEGIN IMMEDIATE")
            base.execute(f"PRAGMA user_version = {VERSION}")
            there = {row[0] for row in base.execute("SELECT DISTINCT name FROM arrays")}
            for name in there - arrays.keys():
                base.execute("DELETE FROM arrays WHERE name = ?", (name,))
            for name, array in arrays.items():
                if name not in there:
                    _put(base, name, array)
            base.execute("INSERT OR REPLACE INTO document VALUES (1, ?, ?)", (body, zlib.crc32(body.encode())))
    except sqlite3.Error as error:
        raise Refused(f"{path} cannot be written ({error}).", "Check that the disk has room and the file is not open elsewhere.") from error
    finally:
        base.close()


def _connect(path: Path, new: bool) -> sqlite3.Connection:
    base = sqlite3.connect(path, timeout=10, isolation_level=None)
    if new:
        base.execute("PRAGMA page_size = 65536")
        base.execute(f"PRAGMA application_id = {APPLICATION}")
    base.execute("PRAGMA journal_mode = DELETE")
    base.execute("PRAGMA synchronous = FULL")
    for statement in SCHEMA.strip().split(";\n"):
        base.execute(statement)
    return base


def _put(base: sqlite3.Connection, name: str, array: np.ndarray) -> None:
    data = np.ascontiguousarray(array).tobytes()
    for k in range(max(1, -(-len(data) // CHUNK))):
        piece = data[k * CHUNK : (k + 1) * CHUNK]
        base.execute(
            "INSERT INTO arrays VALUES (?, ?, ?, ?, ?, ?)", (name, k, array.dtype.str, json.dumps(array.shape), piece, zlib.crc32(piece))
        )


def load(path: Path) -> Document:
    """Read a document. Raises `Unreadable` with the reason; newer versions are refused."""
    if not path.exists():
        raise Unreadable(f"There is no file {path}.", "Check the name and the folder.")
    if path.is_dir():
        raise Unreadable(f"{path} is a folder, not a document.", "Choose a .rivet file.")
    try:
        base = sqlite3.connect(f"file:{path}?mode=ro", uri=True, timeout=10)
    except sqlite3.Error as error:
        raise Unreadable(f"{path.name} cannot be opened ({error}).", "Check the permissions of the file.") from error
    try:
        try:
            application = base.execute("PRAGMA application_id").fetchone()[0]
            version = base.execute("PRAGMA user_version").fetchone()[0]
        except sqlite3.OperationalError:  # a journal is left from a killed save: it must be rolled back first
            base.close()
            base = sqlite3.connect(path, timeout=10)
            application = base.execute("PRAGMA application_id").fetchone()[0]
            version = base.execute("PRAGMA user_version").fetchone()[0]
        if application != APPLICATION:
            raise Unreadable(f"{path.name} is not a Kind Rivet document.", "Choose a .rivet file.")
        if version > VERSION:
            raise Unreadable(f"{path.name} was saved by a newer version of Kind Rivet (format {version}).", "Open it with that version.")
        return _read(base, path)
    except sqlite3.DatabaseError as error:
        raise Unreadable(
            f"{path.name} is damaged or not a Kind Rivet document ({error}).", "Open the recovery copy beside it, or the last good copy."
        ) from error
    finally:
        base.close()


def _read(base: sqlite3.Connection, path: Path) -> Document:
    row = base.execute("SELECT body, check_sum FROM document").fetchone()
    damaged = Unreadable(
        f"{path.name} is damaged: its contents do not fit their check sums.", "Open the recovery copy beside it, or the last good copy."
    )
    if row is None or zlib.crc32(row[0].encode()) != row[1]:
        raise damaged
    pieces: dict[str, list[tuple[str, str, bytes]]] = {}
    for name, dtype, shape, data, total in base.execute("SELECT name, dtype, shape, data, check_sum FROM arrays ORDER BY name, chunk"):
        if zlib.crc32(data) != total:
            raise damaged
        pieces.setdefault(name, []).append((dtype, shape, data))
    arrays: dict[str, np.ndarray] = {}

    def array(name: str) -> np.ndarray:
        if name not in arrays:
            lots = pieces.get(name)
            if lots is None:
                raise damaged
            arrays[name] = np.frombuffer(b"".join(p[2] for p in lots), np.dtype(lots[0][0])).reshape(json.loads(lots[0][1]))
        return arrays[name]

    document = unpack(json.loads(row[0]), array)
    if not isinstance(document, Document):
        raise damaged
    return document
