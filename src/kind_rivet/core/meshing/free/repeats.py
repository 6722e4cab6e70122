"""Outlines of the same kind, turned, moved or mirrored, are filled once and get the same mesh."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from dataclasses import dataclass
from typing import Generic, TypeVar

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.free.fill import FlatMesh, flat_worst

SAME = 0.01  # sizes by which the border nodes of one kind may differ
MOST_NODES, MOST_HOLES = 80, 4  # of an outline that is compared with others
MOST_TURNS = 8  # of a round or square outline that are tried with its holes
Complex = NDArray[np.complex128]
T = TypeVar("T")


@dataclass(frozen=True)
class Match:
    """Node k of loop j of a new outline is node (first[j] + k) of the known one's loop which[j], or (first[j] − k) when mirrored.

    place = turn z + shift, or of its conjugate when mirrored
    """

    which: tuple[int, ...]
    first: tuple[int, ...]
    mirrored: bool
    turn: complex
    shift: complex


class Kinds(Generic[T]):
    """Outlines seen so far, each with what was made of it; `size` sets how alike outlines must be."""

    def __init__(self, size: float, most_nodes: int = MOST_NODES, most_holes: int = MOST_HOLES) -> None:
        self._size, self._most_nodes, self._most_holes = size, most_nodes, most_holes
        self._known: dict[tuple[Hashable, ...], list[tuple[list[Floats], T]]] = {}

    def comparable(self, loops: list[Floats]) -> bool:
        return len(loops[0]) <= self._most_nodes and len(loops) <= self._most_holes + 1

    def find(self, loops: list[Floats], key: Hashable = None) -> tuple[list[Floats], T, Match] | None:
        """An outline of the same kind and `key`, what was made of it, and how `loops` lie on it."""
        for near in (0, -1, 1):
            for known, made in self._known.get(self._name(loops, key, near), []):
                match = matched(known, loops, SAME * self._size)
                if match is not None:
                    return known, made, match
        return None

    def add(self, loops: list[Floats], made: T, key: Hashable = None) -> None:
        self._known.setdefault(self._name(loops, key, 0), []).append((loops, made))

    def _name(self, loops: list[Floats], key: Hashable, more: int) -> tuple[Hashable, ...]:
        reach = float(np.linalg.norm(loops[0] - loops[0].mean(axis=0), axis=1).mean()) / (0.1 * self._size)
        return key, len(loops[0]), *sorted(map(len, loops[1:])), round(reach) + more


class Repeats:
    """Fills outlines; `size` sets how alike they must be to get the same mesh."""

    def __init__(self, size: float, fill: Callable[[list[Floats]], FlatMesh]) -> None:
        self._fill, self._kinds = fill, Kinds[FlatMesh](size)

    def filled(self, loops: list[Floats]) -> FlatMesh:
        """A mesh inside `loops`, as for `fill.fill`; passes on what filling raises."""
        if not self._kinds.comparable(loops):
            return self._fill(loops)
        found = self._kinds.find(loops)
        if found is not None:
            known, mesh, match = found
            return carried(mesh, loops, [len(own) for own in known], match)
        made = self._fill(loops)
        self._kinds.add(loops, made)
        return made


def matched(before: list[Floats], after: list[Floats], tolerance: float) -> Match | None:
    """How an outline lies on a known one with as many nodes; None where it does not."""
    known, new = ([loop[:, 0] + 1j * loop[:, 1] for loop in loops] for loops in (before, after))
    centre, other = known[0].mean(), new[0].mean()
    b = new[0] - other
    for mirrored in (False, True):
        a = np.conj(known[0] - centre) if mirrored else known[0] - centre
        base = np.conj(centre) if mirrored else centre
        for turn in _turns(a, b, mirrored, tolerance):
            shift = other - turn * base
            moved = [turn * (np.conj(loop) if mirrored else loop) + shift for loop in known]
            pairs = _paired(moved, new, mirrored, tolerance)
            if pairs is not None:
                return Match(tuple(j for j, _ in pairs), tuple(k for _, k in pairs), mirrored, turn, shift)
    return None


def _turns(a: Complex, b: Complex, mirrored: bool, tolerance: float) -> list[complex]:
    """Turns that lay loop `a` on loop `b`, both about their centres, the closest first."""
    a = a[::-1] if mirrored else a
    spin = np.array([np.vdot(np.roll(a, -k), b) for k in range(len(b))])
    turn = spin / np.maximum(np.abs(spin), 1e-300)
    best = np.argsort(-np.abs(spin), kind="stable")[:MOST_TURNS].tolist()
    return [complex(turn[k]) for k in best if np.abs(turn[k] * np.roll(a, -k) - b).max() <= tolerance]


def _paired(moved: list[Complex], new: list[Complex], mirrored: bool, tolerance: float) -> list[tuple[int, int]] | None:
    """For every new loop the known one that lies on it and the node of that which its first node is."""
    out: list[tuple[int, int]] = []
    left = set(range(1, len(moved)))
    for index, loop in enumerate(new):
        for j in [0] if index == 0 else sorted(left):
            if len(moved[j]) != len(loop):
                continue
            k = int(np.argmin(np.abs(moved[j] - loop[0])))
            at = np.arange(len(loop))
            if np.abs(moved[j][(k - at if mirrored else k + at) % len(loop)] - loop).max() <= tolerance:
                out.append((j, k))
                left.discard(j)
                break
        else:
            return None
    return out


def carried(mesh: FlatMesh, outline: list[Floats], counts: list[int], match: Match) -> FlatMesh:
    """The mesh of a known outline, with `counts` nodes on its loops, on one that matches it."""
    n = sum(counts)
    old = mesh.points[n:, 0] + 1j * mesh.points[n:, 1]
    new = match.turn * (np.conj(old) if match.mirrored else old) + match.shift
    points = np.concatenate((*outline, np.column_stack((new.real, new.imag))))
    table = np.arange(len(mesh.points))
    start = np.cumsum([0, *counts])
    first = 0
    for loop, j, k in zip(outline, match.which, match.first, strict=True):
        at = np.arange(len(loop))
        table[start[j] + (k - at if match.mirrored else k + at) % len(loop)] = first + at
        first += len(loop)
    elements = np.where(mesh.elements >= 0, table[np.maximum(mesh.elements, 0)], -1).astype(np.int32)
    if match.mirrored:
        quad = elements[:, 3] >= 0
        elements[quad] = elements[quad][:, [0, 3, 2, 1]]
        elements[~quad] = elements[~quad][:, [0, 2, 1, 3]]
    return FlatMesh(points, elements, flat_worst(points, elements))
