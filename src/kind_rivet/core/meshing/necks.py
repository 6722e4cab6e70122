"""Holes that all but touch what is beside them: nothing fits between, so the hole is closed and named, and its wall is kept."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.meshing.gaps import loop_gap
from kind_rivet.core.meshing.patch import Patch
from kind_rivet.core.meshing.rules import ShellRules

TOUCHING = 0.05  # of the size: a hole nearer to what is beside it is closed before it is tried

Failed = tuple[int, Floats]  # a region and the place where it could not be filled


def close_touching(shape: Shape, patches: list[Patch | None], size: float, notes: list[str]) -> None:
    """Close free holes that leave less than TOUCHING of the size beside them."""
    for r, patch in enumerate(patches):
        if patch is None or len(patch.loops) < 2:
            continue
        points = patch.outlines
        low, high = (np.array([of(line, axis=0) for line in points]) for of in (np.min, np.max))
        near = TOUCHING * size
        closed: set[int] = set()
        for k in _free_holes(shape, patch):
            beside = ((low <= high[k] + near) & (high >= low[k] - near)).all(axis=1)
            beside[0] = True
            for other in np.flatnonzero(beside).tolist():
                if other == k or other in closed:
                    continue
                if min(loop_gap(points[k], points[other]), loop_gap(points[other], points[k])) < near:
                    closed.add(k)
                    break
        for k in sorted(closed):
            _say(patch, k, notes)
        if closed:
            patches[r] = replace(patch, loops=tuple(loop for k, loop in enumerate(patch.loops) if k not in closed))


def close_failed(
    shape: Shape, patches: list[Patch | None], curves: list[Curve], failed: list[Failed], size: float, notes: list[str]
) -> bool:
    """Close the nearest free hole of every region that failed beside it; True if there was one."""
    found = False
    for r, at in failed:
        patch = patches[r]
        if patch is None:
            continue
        near = [
            (min(float(np.linalg.norm(curves[p.edge].points - at, axis=1).min()) for p in patch.loops[k]), k)
            for k in _free_holes(shape, patch)
        ]
        if near and min(near)[0] < size:
            hole = min(near)[1]
            _say(patch, hole, notes)
            patches[r] = replace(patch, loops=tuple(loop for k, loop in enumerate(patch.loops) if k != hole))
            found = True
    return found


def finer_near(
    patches: list[Patch | None], curves: list[Curve], failed: list[Failed], count: NDArray[np.int64], rules: ShellRules
) -> dict[int, int]:
    """Twice the divisions for curved edges that pass by the places where regions failed: chords may cross where the curves do not."""
    out = {}
    for r, at in failed:
        patch = patches[r]
        for e in {p.edge for loop in patch.loops for p in loop} if patch is not None else ():
            if e not in rules.divisions and curves[e].turning() > 0.05 and np.linalg.norm(curves[e].points - at, axis=1).min() < rules.size:
                out[e] = 2 * int(count[e])
    return out


def _free_holes(shape: Shape, patch: Patch) -> list[int]:
    """Inner loops on which no other wall stands."""
    return [k for k, loop in enumerate(patch.loops) if k and all(p.edge >= 0 and len(shape.edge_faces[p.edge]) == 1 for p in loop)]


def _say(patch: Patch, hole: int, notes: list[str]) -> None:
    border = patch.space[np.concatenate([p.corners for p in patch.loops[hole]])]
    x, y, z = (border.min(axis=0) + border.max(axis=0)) / 2
    notes.append(f"The hole at ({x:.4g}, {y:.4g}, {z:.4g}) was closed: it all but touches what is beside it.")
