"""How many elements lie along every edge of a body: size, bends, opposite sides, parity."""

from __future__ import annotations

from collections import deque

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.alike_halves import halves_alike
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.meshing.detail import Strip
from kind_rivet.core.meshing.facing_gaps import facing_edges
from kind_rivet.core.meshing.lattice import MOST_BOW, sides_by_heading, standing_lines
from kind_rivet.core.meshing.mapped import turns
from kind_rivet.core.meshing.near_edges import face_rings
from kind_rivet.core.meshing.opposite import Sides, Wishes, alike_sides, match_opposite
from kind_rivet.core.meshing.parity import odd_changes
from kind_rivet.core.meshing.patch import BorderEdge, Patch
from kind_rivet.core.meshing.rims import rim_counts
from kind_rivet.core.meshing.room_to_grow import leave_room_to_grow
from kind_rivet.core.meshing.roundings import in_twos
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.sizes import along, price_of_count, shared_out, wanted_count
from kind_rivet.core.meshing.washers import LEAST_SIDE, RoundHole

MOST_DISC = 34  # divisions round a disc up to which a square with a ring is tried
BULGE = 1.15  # of the longer of two opposite sides: rows between them that are longer bulge
UNSEEN = 0.1  # of the size: what a curve turns within this asks for no divisions
TURNED = 4.0  # price of opposite sides that differ, against a change of counts
FACED = 1.0  # price of a side less or more on an edge whose nodes face those of a ring
LOPSIDED, FEW_SIDES = 1.0, 40  # price of one arc more or less where its like stays, in a region with at most so many sides
ARCHED = 0.97  # of the length of an arc: its ends are at most so far apart
TOO_SHORT = 10.0  # price of a change that makes divisions fail, against some that do not


def plan_divisions(
    shape: Shape,
    curves: list[Curve],
    patches: list[Patch | None],
    holes: list[RoundHole],
    short: NDArray[np.bool_],
    strips: list[Strip],
    rules: ShellRules,
    circles: dict[int, int] | None = None,
) -> NDArray[np.int64]:
    """Divisions (e,) of every edge; counts set by hand stay; `short` edges get none, nor do the ends of `strips`.

    `circles`: counts of closed edges that follow a bolt circle.

    Every region gets an even number of border sides where the free edges allow it.
    """
    lengths = np.array([wanted_count(curve, along(curve, e, shape.edge_faces[e], rules), rules) for e, curve in enumerate(curves)])
    count = np.array([_by_length(curve, n, rules) for curve, n in zip(curves, lengths.tolist(), strict=True)], np.int64)
    held = np.zeros(len(curves), bool)
    short = short.copy()
    for strip in strips:
        short[list(strip.across)] = True
    count[short], held[short] = 0, True
    for hole in holes:
        edges = [e for e in hole.edges if not short[e]]
        count[edges] = _round_hole(hole, edges, curves)
        held[edges] = True
    for hole in holes:
        for e, n in rim_counts(hole, [curves[e].length for e in hole.rim], rules.size).items():
            count[e], held[e] = n, True
    for e, n in (circles or {}).items():
        if not held[e]:
            count[e], held[e] = n, True
    for e, n in rules.divisions.items():
        if 0 <= e < len(count):
            count[e], held[e] = max(1, n), True
    in_twos(shape, curves, count, held, rules.size)
    _discs_in_fours(patches, count, held, curves)
    passed = {strip.region for strip in strips}
    by_region = {r: sides for r, patch in enumerate(patches) if patch is not None and (sides := four_sides(patch)) is not None}
    four = list(by_region.values())
    _by_mean_length(patches, count, held, curves, rules)
    faced = face_rings(shape, patches, holes, count, held, curves, rules)
    if rules.two_rows:
        for sides in (sides for r, sides in by_region.items() if r not in passed):
            for side in sides:
                length = sum(curves[e].length for e in side)
                if len(side) == 1 and count[side[0]] == 1 and length > 0.75 * rules.size and not held[side[0]]:
                    count[side[0]] = 2
    leave_room_to_grow(shape, count, held, curves, rules, faced)
    wishes = Wishes(lengths, held, np.isin(np.arange(len(count)), list(rules.divisions)))
    four = [alike_sides(sides, count, wishes) for sides in four]
    four += [([p.edge for p in strip.first], [], [p.edge for p in strip.second], []) for strip in strips]
    four += [alike_sides(sides, count, wishes) for sides in _room_for_standing(patches, count, held, curves, rules)]
    facing: list[Sides] = [
        ([a], [], [b], []) for patch in patches if patch is not None for a, b in facing_edges(patch, rules.size_on(patch.faces))
    ]
    four += [alike_sides(sides, count, wishes) for sides in facing]
    match_opposite(four, _holed_sides(patches), patches, count, wishes)
    halves_alike(shape, patches, passed | by_region.keys(), holes, count, held, lengths, rules.size)
    _make_even(shape, patches, count, held, curves, rules, faced)
    for strip in strips:
        if not fits(strip, count):  # its sides do not face each other: it gets elements after all
            count[[e for e in strip.across if curves[e].length >= rules.look_past * rules.size]] = 1
    return count


def _round_hole(hole: RoundHole, edges: list[int], curves: list[Curve]) -> list[int]:
    """The divisions of a hole dealt out to those of its edges that are not looked past."""
    if len(edges) < 2:
        return [hole.divisions] * len(edges)
    if not hole.shares:
        total = sum(curves[e].length for e in edges)
        return shared_out(hole.divisions, [curves[e].length / total for e in edges])
    own = dict(zip(hole.edges, hole.shares, strict=True))
    out = [own[e] for e in edges]
    if (hole.divisions - sum(out)) % 2:  # the count stays even
        out[max(range(len(edges)), key=lambda k: curves[edges[k]].length / out[k])] += 1
    return out


def fits(strip: Strip, count: NDArray[np.int64]) -> bool:
    """Have both long sides of a strip the same number of divisions?"""
    return int(sum(count[p.edge] for p in strip.first)) == int(sum(count[p.edge] for p in strip.second))


def _by_length(curve: Curve, wanted: float, rules: ShellRules) -> int:
    if curve.length <= 0:
        return 1
    return int(max(1, round(wanted), _by_bend(curve, rules), 6 if _closed(curve) else 1))


def _by_bend(curve: Curve, rules: ShellRules) -> int:
    """Divisions that follow a bent curve, no finer than the default limit on short sides allows."""
    by_bend = np.ceil(curve.turning(UNSEEN * rules.size) / np.radians(rules.bend_angle) - 0.05)
    # n balanced chords are L / (n + 1) long.
    return int(min(by_bend, max(1, np.floor(curve.length / (LEAST_SIDE * rules.size) - (0 if _closed(curve) else 1)))))


def _closed(curve: Curve) -> bool:
    return bool(np.allclose(curve.points[0], curve.points[-1]))


def four_sides(patch: Patch) -> Sides | None:
    """Edges on the four sides of a region with one border loop and four corners, in order; else None."""
    passages = side_passages(patch)
    if passages is None:
        return None
    a, b, c, d = ([p.edge for p in side] for side in passages)
    return (a, b, c, d)


def side_passages(patch: Patch) -> list[list[BorderEdge]] | None:
    """Border passages on the four sides of a region with one border loop and four corners, in order; else None.

    Corners are told in the plane or, where laying flat bends the sides of a curved region, on the surface itself.
    """
    if len(patch.loops) != 1:
        return None
    loop = patch.loops[0]
    vertex = np.concatenate([p.corners[:-1] for p in loop])
    starts = np.cumsum([0] + [len(p.corners) - 1 for p in loop])[:-1]
    for turn in (turns(patch.flat[vertex]), patch.turn[vertex]):
        at_start = turn[starts]
        corner = np.flatnonzero((at_start > 0.6) & (at_start < 1.4))
        rest = np.abs(np.delete(turn, starts[corner]))
        if len(corner) == 4 and (not len(rest) or rest.max() <= 0.45) and np.abs(np.delete(turn, starts)).sum() <= MOST_BOW:
            return [[loop[(corner[k] + j) % len(loop)] for j in range((corner[(k + 1) % 4] - corner[k]) % len(loop))] for k in range(4)]
    return None


def _discs_in_fours(patches: list[Patch | None], count: NDArray[np.int64], held: NDArray[np.bool_], curves: list[Curve]) -> None:
    """Discs bounded by one closed edge, or by arcs of one circle, get a multiple of four divisions, so that a square with a ring round it fits.

    The disc at the end of a tube takes the count of its other end, where that is held.
    """
    other_end: dict[int, int] = {}
    for patch in patches:
        sides = four_sides(patch) if patch is not None else None
        for a, c in ((sides[0], sides[2]), (sides[1], sides[3])) if sides is not None else ():
            if len(a) == len(c) == 1:
                other_end |= {a[0]: c[0], c[0]: a[0]}
    for patch in patches:
        if patch is None or len(patch.loops) != 1:
            continue
        edges = [p.edge for p in patch.loops[0] if p.edge < 0 or count[p.edge] > 0]
        if len(edges) > 1 and _on_one_circle(edges, curves) and not held[edges].any() and len(set(edges)) == len(edges):
            total = int(count[edges].sum())
            shares = [curves[e].length / sum(curves[k].length for k in edges) for e in edges]
            if total < MOST_DISC:
                count[edges] = shared_out(_in_fours(total, shares), shares)
                held[edges] = True
            continue
        if len(edges) != 1 or (edges[0] in other_end and held[other_end[edges[0]]]):
            continue
        e = edges[0]
        if e >= 0 and not held[e] and count[e] < MOST_DISC:
            count[e], held[e] = max(8, 4 * round(int(count[e]) / 4)), True


def _on_one_circle(edges: list[int], curves: list[Curve]) -> bool:
    if min(edges) < 0 or any(curves[e].carrier.kind != "circle" for e in edges):
        return False
    first, *others = (curves[e].carrier.array for e in edges)
    return all(np.linalg.norm(d[:3] - first[:3]) + abs(d[6] - first[6]) < 1e-3 * first[6] for d in others)


def _in_fours(total: int, shares: list[float]) -> int:
    """The multiple of four near a count, at least eight, that can be shared out most evenly."""
    near = max(8, 4 * (total // 4)), max(8, 4 * (total // 4) + 4)
    return min(near, key=lambda n: max(abs(n * s - round(n * s)) for s in shares) + abs(float(np.log(n / total))))


def _by_mean_length(
    patches: list[Patch | None], count: NDArray[np.int64], held: NDArray[np.bool_], curves: list[Curve], rules: ShellRules
) -> None:
    """Sides of bulging walls get divisions by the mean length of the rows beside them: the seam of an elbow is its shortest row."""
    for patch in patches:
        if patch is None or all(c.kind in ("plane", "cylinder", "cone") for c in patch.carriers):
            continue
        sides = four_sides(patch)
        if sides is None:
            _by_ring(patch, count, held, curves, rules)
            continue
        length = [sum(curves[e].length for e in side) for side in sides]
        for k in (0, 1):
            row = 2 * patch.area / max(length[k + 1] + length[(k + 3) % 4], 1e-300)
            if set(sides[k + 1]) == set(sides[(k + 3) % 4]):  # ends of a tube, however short its seam
                continue
            if row < BULGE * max(length[k], length[k + 2]):  # a corner that widens from one side to the other does not bulge
                continue
            for side, own in ((sides[k], length[k]), (sides[k + 2], length[k + 2])):
                if len(side) == 1 and not held[side[0]]:
                    count[side[0]] = _bulging(int(count[side[0]]), own, row, curves[side[0]], rules)


def _by_ring(patch: Patch, count: NDArray[np.int64], held: NDArray[np.bool_], curves: list[Curve], rules: ShellRules) -> None:
    """The same for the seam of a torus where other walls cut into its ends: the mean row lies above the middle of its tube."""
    if len(patch.carriers) != 1 or patch.carriers[0].kind != "torus":
        return
    d = patch.carriers[0].array
    passages = [p.edge for loop in patch.loops for p in loop]
    for e in {e for e in passages if e >= 0 and passages.count(e) == 2 and not held[e]}:
        away = curves[e].points - d[:3]
        far = np.linalg.norm(away - (away @ d[3:6])[:, None] * d[3:6], axis=1)
        if np.ptp(far) < 1e-3 * d[7]:
            own = curves[e].length
            count[e] = _bulging(int(count[e]), own, own * d[6] / float(far.mean()), curves[e], rules)


def _bulging(count: int, own: float, row: float, curve: Curve, rules: ShellRules) -> int:
    """Divisions of a side of which rows bulge to a mean length `row`: those with which the default limits find shortest and longest least poor."""
    by_mean = count * row / own
    lengths = np.linspace(own, max(2 * row - own, own), 9) / rules.size
    least = max(min(count, int(by_mean)), int(_by_bend(curve, rules)))
    most = max(count, min(round(by_mean), int(own / (LEAST_SIDE * rules.size))), least)
    return min(range(least, most + 1), key=lambda n: price_of_count(n, lengths, by_mean))


def _room_for_standing(
    patches: list[Patch | None], count: NDArray[np.int64], held: NDArray[np.bool_], curves: list[Curve], rules: ShellRules
) -> list[Sides]:
    """The sides, by heading, of regions that are no plain four sides but fit a lattice; lines on which walls stand there count once each way.

    Where such a line ends within the region, the sides along it get enough divisions to go on beyond its end.
    """
    out: list[Sides] = []
    for patch in patches:
        if patch is None or len(patch.loops) > 1 or four_sides(patch) is not None:
            continue
        found = sides_by_heading(patch)
        if found is None:
            continue
        chains = standing_lines(patch)
        within = {p.edge for chain in chains for p in chain}
        lists = [[p.edge for p in side if p.edge not in within] for side in found]
        for chain in chains:
            edges = [p.edge for p in chain]
            k = next(h for h in range(4) if chain[0] in found[h])
            for side in (lists[k], lists[(k + 2) % 4]):
                length = sum(curves[e].length for e in side)
                beyond = length - sum(curves[e].length for e in edges)
                least = int(count[edges].sum()) + max(1, round(beyond / rules.size))
                if len(side) == 1 and not held[side[0]] and beyond > 0 and count[side[0]] < least <= 1.5 * count[side[0]] + 1:
                    count[side[0]] = least
        out.append((lists[0], lists[1], lists[2], lists[3]))
    return out


def _holed_sides(patches: list[Patch | None]) -> list[Sides]:
    """The sides, by heading, of regions with holes whose outer border fits a lattice."""
    found = [_by_heading(patch) for patch in patches if patch is not None and len(patch.loops) > 1]
    return [sides for sides in found if sides is not None]


def _by_heading(patch: Patch) -> Sides | None:
    """Edges of the outer border that head east, north, west and south; None where they fit no lattice."""
    found = sides_by_heading(patch)
    if found is None:
        return None
    a, b, c, d = ([p.edge for p in side if p.edge >= 0] for side in found)
    return a, b, c, d


def _make_even(
    shape: Shape, patches: list[Patch | None], count: NDArray[np.int64], held: NDArray[np.bool_], curves: list[Curve], rules: ShellRules,
    faced: set[int],
) -> None:  # fmt: skip
    """Parity: from every region with an odd border walk to a free edge or another odd region, changing each edge by one.

    Edges whose nodes face those of a ring (`faced`) are left as they are where others will do.
    """
    region_edges: list[list[int]] = [[p.edge for loop in patch.loops for p in loop if p.edge >= 0] if patch else [] for patch in patches]
    beside: dict[int, list[int]] = {}
    for r, edges in enumerate(region_edges):
        for e in edges:
            beside.setdefault(e, []).append(r)
    four = [(four_sides(patch) or _by_heading(patch)) if patch else None for patch in patches]

    def odd(r: int) -> bool:
        return sum(int(count[e]) for e in region_edges[r]) % 2 == 1

    def step(e: int) -> int:
        """One more, or one less where there are more than the size and bends ask for."""
        asked = max(1.0, curves[e].length / rules.size_on(shape.edge_faces[e]), _by_bend(curves[e], rules))
        return -1 if count[e] > asked + 0.5 else 1

    def cost(e: int) -> float:
        least = LEAST_SIDE * rules.size * (count[e] + 1)
        return (
            1.0 / max(float(count[e]), 1.0)
            + (1.0 if count[e] < 3 else 0.0)
            + (TOO_SHORT if step(e) > 0 and curves[e].length < least else 0.0)
            + (FACED if e in faced else 0.0)
        )

    def turn(sides: Sides | None, entered: int, e: int) -> float:
        """What it costs four sides with equal opposite counts to be left elsewhere than opposite to where they were entered."""
        if sides is None:
            return 0.0
        at, to = ({k for k, side in enumerate(sides) if edge in side} for edge in (entered, e))
        return 0.0 if not at or any((k + 2) % 4 in to for k in at) else TURNED

    def lopsided(r: int, e: int) -> float:
        """What it costs a small region with a rounded end when only one of two like arcs of its border changes."""
        if sum(int(count[x]) for x in region_edges[r]) > FEW_SIDES or not _is_arc(curves[e]):
            return 0.0
        like = (x for x in region_edges[r] if x != e and not held[x] and count[x] == count[e] and _is_arc(curves[x]))
        return LOPSIDED if any(abs(curves[x].length - curves[e].length) < 0.02 * curves[e].length for x in like) else 0.0

    for r in range(len(patches)):
        if not region_edges[r] or not odd(r):
            continue
        # Breadth-first by cost over regions; leaving through a free edge or into an odd region ends the walk.
        best = {r: 0.0}
        came: dict[int, tuple[int, int]] = {}
        queue = deque([r])
        goal: tuple[float, int, int | None] | None = None
        while queue:
            here = queue.popleft()
            for e in region_edges[here]:
                if held[e] or len([x for x in beside[e] if x == here]) == 2:
                    continue
                others = [x for x in beside[e] if x != here]
                price = best[here] + cost(e) + (0.5 if four[here] is not None and not others else 0.0)
                price += (turn(four[here], came[here][1], e) if here != r else 0.0) + lopsided(here, e)
                if not others or (len(others) == 1 and odd(others[0]) and others[0] != r):
                    if goal is None or price < goal[0]:
                        goal = (price, e, here)
                elif len(others) == 1 and price < best.get(others[0], np.inf) - 1e-12:
                    best[others[0]] = price
                    came[others[0]] = (here, e)
                    queue.append(others[0])
        if goal is None:
            continue
        count[goal[1]] += step(goal[1])
        here = goal[2] if goal[2] is not None else r
        while here != r:
            here, e = came[here]
            count[e] += step(e)
    if any(region_edges[r] and odd(r) for r in range(len(patches))):  # junctions of three or more walls: all at once
        prices = np.array([cost(e) for e in range(len(count))])
        for e in odd_changes(region_edges, count, held, prices):
            count[e] += step(e)


def _is_arc(curve: Curve) -> bool:
    return float(np.linalg.norm(curve.points[-1] - curve.points[0])) < ARCHED * curve.length


def odd_regions(patches: list[Patch | None], count: NDArray[np.int64]) -> list[int]:
    """Regions whose border has an odd number of sides: they keep at least one tria."""
    return [
        r for r, patch in enumerate(patches) if patch and sum(int(count[p.edge]) for loop in patch.loops for p in loop if p.edge >= 0) % 2
    ]
