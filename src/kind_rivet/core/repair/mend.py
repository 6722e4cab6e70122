"""Places of a mesh where shells fail or are much larger than their neighbours are filled anew, where that is better.

Moving nodes cannot make up for a row too few or too many; another filling of a few rows within the same border can.
"""

from __future__ import annotations

import math
import time
from collections.abc import Iterator
from itertools import islice

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.mesh.excerpt import put_back
from kind_rivet.core.mesh.kinds import TRIA
from kind_rivet.core.mesh.mesh import Mesh
from kind_rivet.core.quality.growth import unlike, unlike_pairs
from kind_rivet.core.quality.limits import MOST_GROWTH
from kind_rivet.core.repair.places import EASED, Ground
from kind_rivet.core.repair.refilling import lots_of

WIDTHS = (1, 2, 3)  # rows of neighbours that are filled anew with the shells of a place
SIDES = (1.0, 0.75, 1.3)  # times the middle side of the shells there
CUT_OUT = (
    WIDTHS[-1] + EASED + 2
)  # rows that are cut out: easing changes shells one row further, and how these compare with their neighbours
ROUNDS = 4
MOST_HERE, MOST_TRIES = 18, 100  # at one place, and in all
STALLED = 40  # tries after the last that was better from which on no more are made

Ints = NDArray[np.int32]


def mended(mesh: Mesh, ground: Ground, until: float = math.inf) -> tuple[Mesh, int]:
    """The mesh with such places filled anew, and how many these were; new nodes and shells are numbered on and come last.

    until : on the monotonic clock, when no further place is tried
    """
    done: set[bytes] = set()
    places = last = 0
    for _ in range(ROUNDS):
        before = mesh
        for place in _bad(mesh, ground):
            if len(done) >= min(MOST_TRIES, last + STALLED) or time.monotonic() > until:
                return mesh, places
            new = _tried(mesh, ground, place, done)
            if new is not mesh:
                mesh, last, places = new, len(done), places + 1
        if mesh is before:
            break
    return mesh, places


def _bad(mesh: Mesh, ground: Ground) -> list[Ints]:
    """Numbers of the shells of each such place: those that fail, then pairs that are unlike, the worst first."""
    return [mesh.element_id[[e]] for e in ground.judged(mesh).failing] + [
        mesh.element_id[pair] for pair in unlike_pairs(mesh.points, mesh.shells(), MOST_GROWTH)
    ]


def _tried(mesh: Mesh, ground: Ground, place: Ints, done: set[bytes]) -> Mesh:
    """The mesh with a place filled anew in the first way, if any, by which fewer shells fail, or as many with fewer unlike pairs, without more trias.

    done : what was tried
    """
    seeds = np.flatnonzero(np.isin(mesh.element_id, place))
    if len(seeds) < len(place):  # another place took it along
        return mesh
    here = ground.cut_out(mesh, seeds, CUT_OUT)
    before = _state(here, ground)
    if before[:2] == (0, 0):
        return mesh
    trias = int((here.kind == TRIA).sum())
    for lot, size in islice(_ways(here, ground, place), MOST_HERE):
        key = lot.tobytes() + np.float64(size).tobytes()
        if key in done or len(done) >= MOST_TRIES:
            continue
        done.add(key)
        new = ground.filled(here, lot, size, trias)
        if new is not None and _is_better(_state(new, ground), before):
            return put_back(mesh, here, new)
    return mesh


def _ways(mesh: Mesh, ground: Ground, place: Ints) -> Iterator[tuple[Ints, float]]:
    """Lots round the shells of a place, within one wall, and sizes for them: plane ones first, then the smallest first."""
    seeds = np.flatnonzero(np.isin(mesh.element_id, place))
    rows = mesh.shells()
    may = mesh.is_shell & (mesh.ring < 0)
    near = ground.widened(mesh, seeds, 1, may)
    lots = []
    for width in WIDTHS:
        wide = ground.widened(mesh, seeds, width, may)
        for lot in lots_of(mesh, wide[may[wide]]):
            at = np.flatnonzero(np.isin(mesh.element_id, lot))
            if np.isin(at, near).any():
                bent = bool((mesh.height[rows[at]] != 0).any())  # bends and round walls lose their rows only if nothing else helps
                lots.append((bent, lot, ground.middle_side(mesh, lot)))
    for _, lot, side in sorted(lots, key=lambda lot: lot[0]):
        for share in SIDES:
            yield lot, side * share


def _state(mesh: Mesh, ground: Ground) -> tuple[int, int, float]:
    """How many shells fail, how many pairs are unlike, and the least index."""
    quality = ground.judged(mesh)
    return len(quality.failing), unlike(mesh.points, mesh.shells(), MOST_GROWTH), quality.worst


def _is_better(after: tuple[int, int, float], before: tuple[int, int, float]) -> bool:
    """Do fewer shells fail, or as many with fewer unlike pairs, and is the worst sound or no worse?"""
    return after[:2] < before[:2] and after[2] >= min(0.0, before[2])
