"""Counts for the circles that bound a flange with a circle of bolt holes: those with which it is filled best.

Between the rings of the holes and the circles beside them lie small cells, the same at every bolt. Whether these fall
into sound quads depends on the parity of what the circles give each of them; so a few counts are tried on the flange
as it lies in the plane, and the first that comes out well is taken, else the best.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial
from itertools import product

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.choice import FEW, tried
from kind_rivet.core.meshing.fillings import best_filling
from kind_rivet.core.meshing.free.fill import FlatMesh, faults_of
from kind_rivet.core.meshing.patch import Patch
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.washers import RoundHole
from kind_rivet.core.quality.growth import unlike
from kind_rivet.core.quality.index import judge_shells
from kind_rivet.core.quality.limits import DEFAULT, MOST_GROWTH

SIDES = (0.6, 1.5)  # sizes that sides on the circles may be long
MOST_NODES = 300  # of rings and circles, up to which counts are tried
MOST_TRIES, MOST_COUNTS = 6, 3
WELL, FAIR = 0.1, 85.0  # faults up to which and index from which on a flange has come out well
PAIR = 0.02  # neighbours of unlike size, in faults: most are moved until they are alike
HAIR = 0.02  # rad by which a node may lie before the beginning of its loop
MOST_KNOWN = 256

_known: dict[tuple[object, ...], tuple[int, ...] | None] = {}  # a sheet is meshed in several passes


@dataclass(frozen=True)
class Ring:
    """A circle round a place (2,) of the plane with so many sides and a node in a direction (rad); its border loop begins in another one.

    `within`: radius from which a row of shells runs to it, 0 without one; `follows`: its count may change.
    """

    centre: tuple[float, float]
    radius: float
    sides: int
    node: float
    begin: float
    within: float = 0.0
    follows: bool = False

    @staticmethod
    def of(patch: Patch, loop: int, hole: RoundHole | None, sides: int, way: Floats, follows: bool = False) -> Ring:
        """A border loop of a region, or the outermost ring of the hole that it is, with a node in a direction (2,)."""
        outline = patch.outlines[loop]
        centre = outline.mean(axis=0)
        radius = float(np.linalg.norm(outline - centre, axis=1).mean())
        widths = hole.widths if hole is not None else ()
        out, within = (radius * (1 + sum(w) / hole.radius) if hole is not None else radius for w in (widths, widths[:-1]))
        return Ring(tuple(centre), out, sides, _heading(way), _heading(outline[0] - centre), within if widths else 0.0, follows)

    def nodes(self, sides: int, sense: int) -> Floats:
        """Places (n, 2) of so many nodes, anticlockwise (1) or clockwise (-1) from where the loop begins."""
        step = 2 * np.pi / sides
        first = self.begin + sense * ((sense * (self.node - self.begin) + HAIR) % step - HAIR)
        angle = first + sense * step * np.arange(sides)
        return np.array(self.centre) + self.radius * np.column_stack((np.cos(angle), np.sin(angle)))


def _heading(way: Floats) -> float:
    return float(np.arctan2(way[1], way[0]))


def counts_for(patch: Patch, rings: list[Ring], usual: tuple[int, ...], rules: ShellRules) -> tuple[int, ...] | None:
    """Counts for the circles of a flange that follow its bolts, multiples of these; None where none will do.

    rings : of all border loops, in their order; the sides of those that follow are what they would have alone
    usual : the counts that are taken if the flange comes out well with them
    """
    size = rules.size_on(patch.faces)
    ways = tuple(rules.ways.get(f) for f in patch.faces)
    key = patch.carriers, ways, size, rules.growth, usual, *(ring.nodes(ring.sides, 1).tobytes() for ring in rings)
    if key not in _known:
        if len(_known) >= MOST_KNOWN:
            _known.clear()
        _known[key] = _best(patch, rings, usual, rules, size)
    return _known[key]


def _best(patch: Patch, rings: list[Ring], usual: tuple[int, ...], rules: ShellRules, size: float) -> tuple[int, ...] | None:
    circles = [ring for ring in rings if ring.follows]
    bolts = len(rings) - len(circles)
    lists = [_near(bolts, ring.radius / size, ring.sides) for ring in circles]
    combined = sorted(product(*lists), key=lambda counts: sum(abs(np.log(n / c.sides)) for n, c in zip(counts, circles, strict=True)))
    found: list[tuple[float, float, tuple[int, ...]]] = []
    for counts in [usual, *(counts for counts in combined if counts != usual)][:MOST_TRIES]:
        left = iter(counts)
        sides = [next(left) if ring.follows else ring.sides for ring in rings]
        if sum(sides) > MOST_NODES:
            continue
        loops = [ring.nodes(n, 1 if k == 0 else -1) for k, (ring, n) in enumerate(zip(rings, sides, strict=True))]
        mesh = tried(partial(best_filling, patch, loops, np.empty((0, 2)), rules, None))
        if mesh is None:
            continue
        faults = faults_of(mesh, loops, size)
        points, shells = _with_rings(mesh, loops, rings)
        index = judge_shells(points, shells, DEFAULT, size).mesh_index
        if faults <= WELL and (counts == usual or index >= FAIR):
            return counts
        faults += PAIR * unlike(points, shells, MOST_GROWTH)
        found.append((faults, index, counts))
    if not found:
        return None
    least = min(faults for faults, _, _ in found)
    return max((index, counts) for faults, index, counts in found if faults <= least + FEW)[1]


def _with_rings(mesh: FlatMesh, loops: list[Floats], rings: list[Ring]) -> tuple[Floats, NDArray[np.int32]]:
    """Points (n, 3) and shells of a filled flange with the rings of its holes."""
    points, shells, count, first = [mesh.points], [mesh.elements], len(mesh.points), 0
    for loop, ring in zip(loops, rings, strict=True):
        if ring.within > 0:
            outer, inner = first + np.arange(len(loop)), count + np.arange(len(loop))
            points.append(np.array(ring.centre) + (loop - ring.centre) * ring.within / ring.radius)
            shells.append(np.column_stack((outer, np.roll(outer, -1), np.roll(inner, -1), inner)).astype(np.int32))
            count += len(loop)
        first += len(loop)
    flat = np.concatenate(points)
    return np.column_stack((flat, np.zeros(len(flat)))), np.concatenate(shells)


def _near(bolts: int, radius: float, wanted: int) -> list[int]:
    """Even multiples of the bolts that give sound sides on a circle (its radius in sizes), the nearest to the wanted count first."""
    least, most = (2 * np.pi * radius / side for side in SIDES[::-1])
    lot = [n for n in range(bolts, int(most) + 1, bolts) if n >= max(least, 6) and n % 2 == 0]
    return sorted(lot, key=lambda n: abs(np.log(n / wanted)))[:MOST_COUNTS]
