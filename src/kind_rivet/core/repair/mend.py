"""Places of a mesh where shells fail or are much larger than their neighbours are filled anew, where that is better.

Moving nodes cannot make up for a row too few or too many; another filling of a few rows within the same border can.
"""

from __future__ import annotations

from collections.abc import Iterator
from itertools import islice

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.mesh.excerpt import put_back
from kind_rivet.core.mesh.kinds import TRIA
from kind_rivet.core.mesh.mesh import Mesh
from kind_rivet.core.quality.growth import unlike, unlike_pairs
from kind_rivet.core.quality.limits import MOST_GROWTH
from kind_rivet.core.quality.shell_metrics import LONGEST, SHORTEST
from kind_rivet.core.repair.places import EASED, Ground
from kind_rivet.core.repair.refilling import lots_of

WIDTHS = (1, 2, 3)  # rows of neighbours that are filled anew with the shells of a place
FINER = (1.0, 0.75, 1.3)  # times the middle size of the shells there
ROUND = WIDTHS[-1] + EASED + 2  # rows that are cut out: easing changes shells one row further, and how these compare with their neighbours
ROUNDS = 4
MOST_HERE, MOST_TRIES = 18, 100  # at one place, and in all
STALLED = 40  # tries after the last that was better from which on no more are made

Ints = NDArray[np.int32]


def mended(mesh: Mesh, ground: Ground) -> Mesh:
    """The mesh with such places filled anew; shells that touch nodes that are still stay. New nodes and shells are numbered on and come last."""
    done: set[bytes] = set()
    last = 0
    for _ in range(ROUNDS):
        before = mesh
        for place in _bad(mesh, ground):
            if len(done) >= min(MOST_TRIES, last + STALLED):
                return mesh
            new = _tried(mesh, ground, place, done)
            if new is not mesh:
                mesh, last = new, len(done)
        if mesh is before:
            break
    return mesh


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
    here = ground.cut_out(mesh, seeds, ROUND)
    before = _state(here, ground)
    if before == (0, 0):
        return mesh
    trias = int((here.kind == TRIA).sum())
    for lot, size in islice(_ways(here, ground, place), MOST_HERE):
        key = lot.tobytes() + np.float64(size).tobytes()
        if key in done or len(done) >= MOST_TRIES:
            continue
        done.add(key)
        new = ground.filled(here, lot, size, trias)
        if new is not None and _state(new, ground) < before and ground.judged(new).worst >= min(0.0, ground.judged(here).worst):
            return put_back(mesh, here, new)
    return mesh


def _ways(mesh: Mesh, ground: Ground, place: Ints) -> Iterator[tuple[Ints, float]]:
    """Lots round the shells of a place, within one wall, and sizes for them: plane ones first, then the smallest first."""
    seeds = np.flatnonzero(np.isin(mesh.element_id, place))
    rows = mesh.shells()
    may = (mesh.ring < 0) & ~(np.isin(mesh.node_id, ground.still)[np.maximum(rows, 0)] & (rows >= 0)).any(axis=1)
    values = ground.judged(mesh).values
    sides = np.sqrt(values[:, SHORTEST] * values[:, LONGEST])
    lots = []
    near = ground.widened(mesh, seeds, 1, may)
    for width in WIDTHS:
        wide = ground.widened(mesh, seeds, width, may)
        for lot in lots_of(mesh, wide[may[wide]]):
            at = np.flatnonzero(np.isin(mesh.element_id, lot))
            if np.isin(at, near).any():
                bent = bool((mesh.height[rows[at]] != 0).any())  # bends and round walls lose their rows only if nothing else helps
                lots.append((bent, lot, float(np.median(sides[at]))))
    for bent in (False, True):
        for _, lot, size in (lot for lot in lots if lot[0] == bent):
            for finer in FINER:
                yield lot, size * finer


def _state(mesh: Mesh, ground: Ground) -> tuple[int, int]:
    """How many shells fail, and how many pairs are unlike."""
    return len(ground.judged(mesh).failing), unlike(mesh.points, mesh.shells(), MOST_GROWTH)
