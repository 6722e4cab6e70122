"""Free edges take the stations of the side they face, so that rows run straight across walls on which others stand."""

from __future__ import annotations

import itertools

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.meshing.divisions import side_passages
from kind_rivet.core.meshing.lattice import corner_turns, standing_lines
from kind_rivet.core.meshing.opposite import edge_uses
from kind_rivet.core.meshing.patch import BorderEdge, Patch
from kind_rivet.core.meshing.rules import ShellRules


def facing_shares(patches: list[Patch | None], count: NDArray[np.int64], curves: list[Curve], rules: ShellRules) -> dict[int, Floats]:
    """Edge → shares (n + 1,) of its length, in its own sense, for free edges that face a side of several edges with equal counts."""
    uses = edge_uses(patches, len(count))
    out: dict[int, Floats] = {}
    for patch in patches:
        sides = four_with_standing(patch) if patch is not None else None
        if sides is None:
            continue
        for a, c in ((sides[0], sides[2]), (sides[1], sides[3]), (sides[2], sides[0]), (sides[3], sides[1])):
            if len(c) != 1 or len(a) < 2 or uses[c[0].edge] != 1 or c[0].edge in rules.grading or c[0].edge in out:
                continue
            if sum(int(count[p.edge]) for p in a) != count[c[0].edge]:
                continue
            length = [curves[p.edge].length for p in a]
            total = sum(length)
            at, places = 0.0, [0.0]
            for part, own in zip(a, length, strict=True):
                n = int(count[part.edge])
                places += [at + own * (k + 1) / n for k in range(n)]
                at += own
            share = 1.0 - np.array(places)[::-1] / total  # the facing side runs the other way round the region
            out[c[0].edge] = share if c[0].forward else 1.0 - share[::-1]
    return out


def four_with_standing(patch: Patch) -> list[list[BorderEdge]] | None:
    """Border passages on the four sides of a region, also where other walls stand on it and end within it; else None."""
    plain = side_passages(patch)
    if plain is not None:
        return plain
    whole = corner_turns(patch)
    if whole is None:
        return None
    within = {id(p) for chain in standing_lines(patch) for p in chain}
    edges = {p.edge for chain in standing_lines(patch) for p in chain}
    heading = (np.cumsum(whole) % 4).tolist()
    left = [(h, p) for h, p in zip(heading, patch.loops[0], strict=True) if id(p) not in within and p.edge not in edges]
    changes = [k for k in range(len(left)) if left[k][0] != left[k - 1][0]]
    if len(changes) != 4 or [left[k][0] for k in changes] not in [[(h + j) % 4 for j in range(4)] for h in range(4)]:
        return None
    ends = [*changes, changes[0] + len(left)]
    return [[left[k % len(left)][1] for k in range(a, b)] for a, b in itertools.pairwise(ends)]
