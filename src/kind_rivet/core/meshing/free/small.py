"""Small regions inside one border: tried with every likely choice of corners, since a front has no room to find its way in them.

Drawn corners, ends of bends, what is left between walls: a few sides round a handful of quads.
"""

from __future__ import annotations

import itertools

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.free import cleanup, smooth
from kind_rivet.core.meshing.free.fill import FlatMesh, flat_worst
from kind_rivet.core.meshing.free.regular import evened
from kind_rivet.core.meshing.free.templates import templates

MOST_SIDES = 16  # of a border that counts as small
MOST_CORNERS = 9  # nodes that may be corners: those with the sharpest angles
MOST_CHOICES = 16  # choices of corners that are tried
Ints = NDArray[np.int64]


def small_fillings(loop: Floats) -> list[FlatMesh]:
    """Fillings of a small region with as few irregular nodes as its corners allow; none where it is not small. loop (n, 2) counter-clockwise."""
    n = len(loop)
    if n % 2 or not 4 <= n <= MOST_SIDES:
        return []
    out = []
    for corners in _choices(loop):
        ring = np.roll(loop, -corners[0], axis=0)
        counts = tuple(np.diff([*corners, corners[0] + n]).tolist())
        for template in templates(counts, loop[list(corners)]):
            place = evened(ring, template, n)
            if place is None:
                continue
            points = np.concatenate((loop, place))
            quads = np.where(template.quads < n, (template.quads + corners[0]) % n, template.quads).astype(np.int32)
            inc, deg = cleanup.link(quads, len(points))
            smooth.smooth(points, quads, inc, deg, np.arange(len(points)) >= n, np.arange(len(points)), 12, 0)
            worst = flat_worst(points, quads)
            if worst > 0:
                out.append(FlatMesh(points, quads, worst))
    return out


def _choices(loop: Floats) -> list[tuple[int, ...]]:
    """Nodes (three to six, in order) that may be the corners, those first whose angles are nearest to right ones and straight ones between them."""
    after, before = np.roll(loop, -1, axis=0) - loop, np.roll(loop, 1, axis=0) - loop
    cross = after[:, 0] * before[:, 1] - after[:, 1] * before[:, 0]
    angle = np.arctan2(cross, np.einsum("ij,ij->i", after, before)) % (2 * np.pi)
    gain = (angle - np.pi) ** 2 - (angle - np.pi / 2) ** 2
    likely = np.sort(np.argsort(-gain, kind="stable")[:MOST_CORNERS])
    lots = [lot for k in (3, 4, 5, 6) for lot in itertools.combinations(likely.tolist(), k)]
    return sorted(lots, key=lambda lot: -float(gain[list(lot)].sum()))[:MOST_CHOICES]
