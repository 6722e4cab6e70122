"""Outlines of the same kind, turned, moved or mirrored, are filled once and get the same mesh."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.free.fill import FlatMesh, flat_worst

SAME = 0.01  # sizes by which the border nodes of one kind may differ
MOST_NODES = 80  # of an outline that is compared with others
Complex = NDArray[np.complex128]


@dataclass(frozen=True)
class _Match:
    """Node k of a new outline is node (first + k) of a known one, or (first − k) when mirrored; place = turn z + shift, or of its conjugate."""

    first: int
    mirrored: bool
    turn: complex
    shift: complex


class Repeats:
    """Fillings of outlines seen so far; `size` sets how alike outlines must be."""

    def __init__(self, size: float, fill: Callable[[list[Floats]], FlatMesh]) -> None:
        self._size, self._fill = size, fill
        self._known: dict[tuple[int, int], list[tuple[Complex, FlatMesh]]] = {}

    def filled(self, loops: list[Floats]) -> FlatMesh:
        """A mesh inside `loops`, as for `fill.fill`; passes on what filling raises."""
        if len(loops) > 1 or len(loops[0]) > MOST_NODES:
            return self._fill(loops)
        z = loops[0][:, 0] + 1j * loops[0][:, 1]
        reach = float(np.abs(z - z.mean()).mean()) / (0.1 * self._size)
        for near in (round(reach), round(reach) - 1, round(reach) + 1):
            for known, mesh in self._known.get((len(z), near), []):
                match = _matched(known, z, SAME * self._size)
                if match is not None:
                    return _carried(mesh, loops[0], match)
        made = self._fill(loops)
        self._known.setdefault((len(z), round(reach)), []).append((z, made))
        return made


def _matched(known: Complex, z: Complex, tolerance: float) -> _Match | None:
    """How an outline lies on a known one with as many nodes; None where it does not."""
    n = len(z)
    centre, other = known.mean(), z.mean()
    b = z - other
    for mirrored in (False, True):
        a = np.conj(known - centre)[::-1] if mirrored else known - centre
        spin = np.array([np.vdot(np.roll(a, -k), b) for k in range(n)])
        k = int(np.argmax(np.abs(spin)))
        turn = spin[k] / max(abs(spin[k]), 1e-300)
        if np.abs(turn * np.roll(a, -k) - b).max() <= tolerance:
            base = np.conj(centre) if mirrored else centre
            return _Match((n - 1 - k) % n if mirrored else k, mirrored, turn, other - turn * base)
    return None


def _carried(mesh: FlatMesh, outline: Floats, match: _Match) -> FlatMesh:
    """The mesh of a known outline on one that matches it."""
    n = len(outline)
    old = mesh.points[n:, 0] + 1j * mesh.points[n:, 1]
    new = match.turn * (np.conj(old) if match.mirrored else old) + match.shift
    points = np.concatenate((outline, np.column_stack((new.real, new.imag))))
    table = np.arange(len(mesh.points))
    at = np.arange(n)
    table[(match.first - at) % n if match.mirrored else (match.first + at) % n] = at
    elements = np.where(mesh.elements >= 0, table[np.maximum(mesh.elements, 0)], -1).astype(np.int32)
    if match.mirrored:
        quad = elements[:, 3] >= 0
        elements[quad] = elements[quad][:, [0, 3, 2, 1]]
        elements[~quad] = elements[~quad][:, [0, 2, 1, 3]]
    return FlatMesh(points, elements, flat_worst(points, elements))
