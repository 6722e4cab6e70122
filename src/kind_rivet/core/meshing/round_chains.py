"""Circles one beyond another, as on a dimple, a flanged hole or a turned hub: one count for all, so that rows run from the first to the last."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.bolt_circles import Circles
from kind_rivet.core.meshing.patch import Patch
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.sizes import poor_sides, price_of_count
from kind_rivet.core.meshing.washers import RoundHole, counted_by_hand, rises, turned_alike, widths_for

COAXIAL = 1e-3  # radii by which circles may lie off one axis
WIDER = 1.1  # the widest circle of a chain against its narrowest: tubes keep the counts they have
MOST_POOR = 0.5  # as `poor_sides` has it: a count that would make any circle poorer than this is not given
LEAST = 8  # divisions of a circle
ROOM = 3.0  # sizes between two circles from which their counts may change on the way


def in_step(
    shape: Shape, patches: list[Patch | None], holes: list[RoundHole], circles: Circles, rules: ShellRules
) -> tuple[list[RoundHole], Circles]:
    """Holes and circles with one count along every chain of three circles or more that regions join.

    Where no count suits all of them, the ends of the chain that suit least are left as they were.
    """
    out, counts, shifts = list(holes), dict(circles.counts), dict(circles.shifts)
    by_edge = {h.edges[0]: k for k, h in enumerate(holes) if h.round and len(h.edges) == 1}
    links = _links(shape, patches)
    for chain in _chains(shape, links):
        if any(e in rules.divisions for e in chain) or any(counted_by_hand(holes[by_edge[e]], rules) for e in chain if e in by_edge):
            continue
        each = {e: float(shape.edge_length[e]) / rules.size_on(shape.edge_faces[e]) for e in chain}
        risen = [holes[by_edge[e]] for e in chain if e in by_edge and rises(shape, patches[holes[by_edge[e]].region], (e,), rules.size)]
        agreed = bool(risen) and all(e in by_edge for e in chain) and len({holes[by_edge[e]].divisions for e in chain}) == 1
        for hole in risen:  # a ring in which a wall rises from a step is needed, so its outer sides count
            each[hole.edges[0]] *= 1 + sum(hole.widths) / hole.radius
        given = {e: counts[e] for e in chain if e in counts} | {e: out[by_edge[e]].divisions for e in chain if e in circles.of_holes}
        count, mine = _suited(each, links, given)
        if agreed and mine != set(chain):
            continue
        for e in mine:
            length, k = float(shape.edge_length[e]), by_edge.get(e)
            if k is not None:
                hole = out[k]
                widths = widths_for(count, hole.radius, hole.widths, rules.size, rises(shape, patches[hole.region], (e,), rules.size))
                rim = hole.rim if set(hole.rim) <= mine else ()
                out[k] = replace(hole, divisions=count, widths=widths, rim=rim, shift=hole.shift % (length / count))
            else:
                counts[e] = count
                if e in shifts:
                    shifts[e] %= length / count
        for k in {by_edge[e] for e in chain if e in by_edge and e not in mine}:
            if mine & set(out[k].rim):
                out[k] = replace(out[k], rim=())
    return turned_alike(out, shape), replace(circles, counts=counts, shifts=shifts)


def _suited(each: dict[int, float], links: dict[int, set[int]], given: dict[int, int]) -> tuple[int, set[int]]:
    """A count and the circles that get it: all of a chain, else what is left without the ends that suit least. `each`: lengths in sizes."""
    mine = set(each)
    while len(mine) > 1:
        order = sorted(mine)
        lengths = np.array([each[e] for e in order])
        if lengths.max() <= WIDER * lengths.min():
            break
        count = _best(lengths, {given[e] for e in order if e in given})
        if count is not None:
            return count, mine
        mean = float(np.log(lengths).mean())
        ends = [e for e in order if len(links[e] & mine) < 2 and all(abs(each[e] - each[f]) > 2 * np.pi * ROOM for f in links[e] & mine)]
        if not ends:
            break
        mine.remove(max(ends, key=lambda e: abs(np.log(each[e]) - mean)))
    return 0, set()


def _links(shape: Shape, patches: list[Patch | None]) -> dict[int, set[int]]:
    """Closed circular edges, each with those that a region joins it to."""
    links: dict[int, set[int]] = {}
    for patch in patches:
        pair = _between_two(shape, patch) if patch is not None else None
        if pair is not None:
            links.setdefault(pair[0], set()).add(pair[1])
            links.setdefault(pair[1], set()).add(pair[0])
    return links


def _chains(shape: Shape, links: dict[int, set[int]]) -> list[list[int]]:
    """Circles that hang together: at least three, of unlike radii."""
    out: list[list[int]] = []
    seen: set[int] = set()
    for start in sorted(links):
        chain, todo = [], [start]
        while todo:
            e = todo.pop()
            if e not in seen:
                seen.add(e)
                chain.append(e)
                todo += sorted(links[e] - seen)
        radii = [shape.edges[e].carrier.data[6] for e in chain]
        if len(chain) > 2 and max(radii) > WIDER * min(radii):
            out.append(sorted(chain))
    return out


def _between_two(shape: Shape, patch: Patch) -> tuple[int, int] | None:
    """The two coaxial circles that bound a region, which may have a seam between them, and holes then; else None."""
    seamed = len({p.edge for p in patch.loops[0]}) < len(patch.loops[0])
    passages = [p.edge for loop in (patch.loops[:1] if seamed else patch.loops) for p in loop]
    ends = sorted({e for e in passages if passages.count(e) == 1})
    if len(ends) != 2 or ends[0] < 0 or (len(patch.loops) > 2 and not seamed):
        return None
    a, b = (shape.edges[e] for e in ends)
    if a.carrier.kind != "circle" or b.carrier.kind != "circle" or a.nodes[0] != a.nodes[-1] or b.nodes[0] != b.nodes[-1]:
        return None
    c, d = a.carrier.array, b.carrier.array
    off = np.linalg.norm(np.cross(d[:3] - c[:3], c[3:6]))
    return (ends[0], ends[1]) if abs(c[3:6] @ d[3:6]) > 1 - 1e-6 and off < COAXIAL * min(c[6], d[6]) else None


def _best(each: Floats, given: set[int]) -> int | None:
    """The multiple of four that makes the sides of circles (k,) least poor, or the count already given to some of them; None where none suits all."""
    if len(given) > 1:
        return None
    mean = float(np.exp(np.log(each).mean()))
    likely = given or {n for n in range(4 * int(mean // 8), 8 * int(mean / 4) + 9, 4) if n >= LEAST}
    best = min(sorted(likely), key=lambda n: price_of_count(n, each, mean), default=None)
    return best if best is not None and poor_sides(each / best).max() <= MOST_POOR else None
