"""Outlines with rounded corners as a lattice sees them: every round as corners in its middle."""

from __future__ import annotations

import itertools

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.mapped import turns

STRAIGHT = 0.04  # quarter turns at a node up to which a side runs on straight
OFF = 0.2  # quarter turns that a round may be off a whole number
ROUNDS = 24  # of one outline
TRIES = 32  # ways to choose between two middles of rounds with an odd count


def rounded_turns(loop: Floats) -> list[NDArray[np.int64]]:
    """Whole quarter turns (k,) at the nodes of a loop whose rounds count as corners in their middle; the likeliest first.

    A round with an odd count has two nodes in its middle: there are several answers, of which only some may close. No
    answer for outlines without rounds, or with some that turn by no whole quarters.
    """
    turn = turns(loop)
    bent = np.abs(turn) > STRAIGHT
    if bent.all() or not bent.any():
        return []
    start = int(np.flatnonzero(~bent)[0])
    order = (start + np.arange(len(loop))) % len(loop)
    signs: list[int] = []  # of every corner, and the nodes it may be at
    choices: list[list[int]] = []
    rounds = 0
    for own, group in itertools.groupby(range(len(order)), key=lambda k: int(np.sign(turn[order[k]])) if bent[order[k]] else 0):
        nodes = order[list(group)]
        if own == 0:
            continue
        total = float(np.abs(turn[nodes]).sum())
        corners = round(total)
        if abs(total - corners) > OFF or corners > 2:
            return []
        rounds += len(nodes) > 1
        passed = np.cumsum(np.abs(turn[nodes])) * corners / total if corners else np.empty(0)
        for i in range(corners):
            middle = i + 0.5
            after = int(np.searchsorted(passed, middle - 1e-6))
            both = after + 1 < len(nodes) and abs(passed[after] - middle) < 1e-3
            choices.append([int(nodes[after]), int(nodes[after + 1])] if both else [int(nodes[after])])
            signs.append(own)
    if not 0 < rounds <= ROUNDS or sum(signs) != 4:
        return []
    out = []
    for lot in itertools.islice(itertools.product(*choices), TRIES):
        if len(set(lot)) < len(lot):
            continue
        whole = np.zeros(len(loop), np.int64)
        whole[list(lot)] = signs
        out.append(whole)
    return out
