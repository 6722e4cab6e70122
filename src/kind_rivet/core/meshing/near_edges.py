"""Free edges near a hole face its ring: as many divisions as the ring has there, and a node at the foot of the hole.

Lug ends, eyes and bolt holes near a flange's edge leave room for one or two rows between
ring and edge; these run straight only where both have their nodes opposite each other.
"""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, arc_lengths
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.meshing.patch import BorderEdge, Patch
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.washers import FACING, RoundHole, may_turn

SPACING = (0.55, 1.6)  # sizes: how long divisions may become by that
CONCENTRIC = 0.02  # radii by which an arc may lie off the middle of a hole
NEARLY = 0.12  # of a division of the ring: so near to a whole number of them counts as that
SPREAD = 0.42  # of a division: how far nodes may be pulled to a foot


def face_rings(
    shape: Shape, patches: list[Patch | None], holes: list[RoundHole], count: NDArray[np.int64], held: NDArray[np.bool_],
    curves: list[Curve], rules: ShellRules,
) -> set[int]:  # fmt: skip
    """Counts of free edges that lie all along a ring, and of arcs about its middle on which other walls stand.

    They get one division for each of the ring's that they face. Returns the edges that got a count so.
    """
    faced = set()
    for hole, patch, part in _beside(shape, patches, holes):
        free = _is_free(shape, part)
        if held[part.edge] or part.edge in rules.grading or not (free or _goes_round(shape, hole, part)):
            continue
        angle = angles_about(hole, patch, part, rules.size)
        if angle is None:
            continue
        n = _in_phase(hole, patch, angle)
        size = rules.size_on(patch.faces)
        if _good(n, curves[part.edge].length, size):
            count[part.edge] = n
            held[part.edge] = not free  # what stands there follows
            faced.add(part.edge)
    return faced


def turned_to_lugs(
    shape: Shape, patches: list[Patch | None], holes: list[RoundHole], rules: ShellRules, settled: Collection[int] = ()
) -> list[RoundHole]:
    """The holes with those turned by half a division whose lug would get divisions too long or too short as they lie, and good ones then.

    `settled`: edges that follow their holes as these lie.
    """
    out = list(holes)
    for k, hole in enumerate(holes):
        beside = _beside(shape, patches, [hole])
        if any(part.edge in settled and angles_about(hole, patch, part, rules.size) is not None for _, patch, part in beside):
            continue
        for _, patch, part in beside:
            angle = angles_about(hole, patch, part, rules.size) if _is_free(shape, part) and may_turn(hole, shape, patch) else None
            if angle is None:
                continue
            length, size = float(shape.edge_length[part.edge]), rules.size_on(patch.faces)
            n, step = _in_phase(hole, patch, angle), 2 * np.pi / hole.divisions
            other = n + 1 if n < abs(float(angle[-1] - angle[0])) / step else n - 1
            if not _good(n, length, size) and _good(other, length, size):
                out[k] = replace(hole, shift=float((hole.shift + hole.radius * step / 2) % (hole.radius * step)))
    return out


def _good(n: int, length: float, size: float) -> bool:
    """Are so many divisions of a length neither too short nor too long?"""
    return n >= 1 and SPACING[0] * size <= length / n <= SPACING[1] * size


def facing_rings(
    shape: Shape, patches: list[Patch | None], holes: list[RoundHole], count: NDArray[np.int64], curves: list[Curve], rules: ShellRules
) -> dict[int, Floats]:
    """Edge → shares (n + 1,) of its length for free edges near holes: at equal angles along a ring, else with a node at each foot."""
    out: dict[int, Floats] = {}
    feet: dict[int, list[float]] = {}
    for hole, patch, part in _beside(shape, patches, holes):
        n = int(count[part.edge])
        if (
            not _is_free(shape, part)
            or n < 2
            or part.edge in rules.grading
            or part.edge in out
            or rules.places
            or part.edge in rules.edge_size
        ):
            continue
        angle = angles_about(hole, patch, part, rules.size)
        if angle is not None:
            at = np.interp(np.linspace(0, 1, n + 1), np.abs(angle - angle[0]) / abs(angle[-1] - angle[0]), _places(patch, part))
            if np.diff(at).min() > 0.6 / n:
                out[part.edge] = at if part.forward else 1.0 - at[::-1]
            continue
        foot = _foot(hole, patch, part, rules.size)
        if foot is not None:
            feet.setdefault(part.edge, []).append(foot if part.forward else 1.0 - foot)
    for e, lot in feet.items():
        if e not in out:
            out[e] = _pulled(int(count[e]), lot)
    return out


def _beside(shape: Shape, patches: list[Patch | None], holes: list[RoundHole]) -> list[tuple[RoundHole, Patch, BorderEdge]]:
    """Every round hole with every passage along an open edge of its region's outer border."""
    out = []
    for hole in holes:
        patch = patches[hole.region]
        if patch is not None and hole.round and not hole.rim:
            out += [(hole, patch, p) for p in patch.loops[0] if p.corners[0] != p.corners[-1]]
    return out


def _is_free(shape: Shape, part: BorderEdge) -> bool:
    return len(shape.edge_faces[part.edge]) == 1


def _goes_round(shape: Shape, hole: RoundHole, part: BorderEdge) -> bool:
    """Is a passage an arc about the middle of a hole, as the end of a lever's rim is?"""
    carrier = shape.edges[part.edge].carrier
    if carrier.kind != "circle":
        return False
    off = np.linalg.norm(np.cross(carrier.array[:3] - hole.centre, hole.axis))
    return bool(off < CONCENTRIC * carrier.array[6])


def _in_phase(hole: RoundHole, patch: Patch, angle: Floats) -> int:
    """Divisions of a passage that spans angles (k,) about a hole: as many as the ring has there.

    Where that is no whole number: the one below or above it with which the passage has a node in its middle where the ring has one there.
    """
    step = 2 * np.pi / hole.divisions
    exact = abs(float(angle[-1] - angle[0])) / step
    if abs(exact - round(exact)) < NEARLY or len(patch.loops[hole.loop]) > 1:
        return round(exact)
    middle = float(angle[0] + angle[-1]) / 2
    between = abs(((middle - node_direction(patch, hole)) / step) % 1 - 0.5) < 0.25  # the middle lies between two nodes
    low = int(exact)
    return low if (low % 2 == 1) == between else low + 1


def node_direction(patch: Patch, hole: RoundHole) -> float:
    """Direction (rad) from the middle of a hole of one closed edge to its first node."""
    part = patch.loops[hole.loop][0]
    ring = patch.flat[part.corners[:-1]] - patch.outlines[hole.loop].mean(axis=0)
    sense = -1.0 if part.forward else 1.0  # holes run clockwise along their passage
    return float(np.arctan2(ring[0, 1], ring[0, 0]) + sense * hole.shift / hole.radius)


def _away(hole: RoundHole, patch: Patch, part: BorderEdge) -> Floats:
    """Places (k, 2) along a passage, from the middle of the hole."""
    return np.asarray(patch.flat[part.corners] - patch.outlines[hole.loop].mean(axis=0))


def _places(patch: Patch, part: BorderEdge) -> Floats:
    """Shares (k,) of the passage's length at its corners."""
    s = arc_lengths(patch.flat[part.corners])
    return np.asarray(s / max(s[-1], 1e-300))


def angles_about(hole: RoundHole, patch: Patch, part: BorderEdge, size: float) -> Floats | None:
    """Angles (k,) about the hole at the corners of a passage that lies near its ring all along and goes round it one way; else None."""
    away = _away(hole, patch, part)
    far = np.linalg.norm(away, axis=1)
    if far.max() - hole.radius - sum(hole.widths) > FACING * size:
        return None
    angle = np.unwrap(np.arctan2(away[:, 1], away[:, 0]))
    step = np.diff(angle)
    return angle if abs(angle[-1] - angle[0]) > 0.05 and (step * np.sign(angle[-1] - angle[0]) > 0).all() else None


def _foot(hole: RoundHole, patch: Patch, part: BorderEdge, size: float) -> float | None:
    """Share of a straight passage at which the middle of a hole near it has its foot; None where it is far off or has none."""
    away = _away(hole, patch, part)
    side = away[-1] - away[0]
    length = float(np.linalg.norm(side))
    if length <= 0 or np.abs(np.cross(away - away[0], side)).max() > 1e-6 * length**2:
        return None
    off = abs(float(np.cross(away[0], side))) / length
    share = float(-away[0] @ side) / length**2
    return share if 0 < share < 1 and off - hole.radius - sum(hole.widths) < FACING * size else None


def _pulled(count: int, feet: list[float]) -> Floats:
    """Shares (count + 1,) with the nearest node at each foot that can be reached, and even between them."""
    fixed = {0: 0.0, count: 1.0}
    for foot in sorted(feet, key=lambda f: abs(f * count - round(f * count))):
        k = round(foot * count)
        if not 0 < k < count or k in fixed:
            continue
        low, high = max(j for j in fixed if j < k), min(j for j in fixed if j > k)
        left, right = (foot - fixed[low]) * count / (k - low), (fixed[high] - foot) * count / (high - k)
        if min(left, right) > 1 - SPREAD and max(left, right) < 1 + SPREAD:
            fixed[k] = foot
    at = sorted(fixed)
    return np.interp(np.arange(count + 1), at, [fixed[k] for k in at])
