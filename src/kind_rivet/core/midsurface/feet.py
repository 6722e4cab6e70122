"""Borders that touch another wall at its skin, and run on past its middle: a short line leads from there straight to that middle.

Without it the wall would go on round the other one, within its skin: a web that runs out beside a hub would make a ring round it.
"""

from __future__ import annotations

import numpy as np

from kind_rivet.core.geometry.carriers import Floats, arc_lengths
from kind_rivet.core.midsurface.fields import settle
from kind_rivet.core.midsurface.middles import Middle
from kind_rivet.core.midsurface.traces import Line

FAR = 0.8  # walls: the foot lies no further off than this
ASLANT = 3.0  # times as far as the foot: what comes to the other middle further off runs along it rather than to it


def feet(number: int, middles: list[Middle], rims: list[Line], prolongs: list[Line]) -> list[Line]:
    """Lines on a middle from ends of its outlines `rims` to the middle of the wall whose side they end on."""
    middle = middles[number]
    touch = 1e-4 * middle.wall
    ends = [(line, line.points[k]) for line in rims if not line.closed for k in (0, -1)]
    if not ends:
        return []
    places = np.array([p for _, p in ends])
    owner = {f: k for k in middle.near for f in middles[k].sides[0] | middles[k].sides[1]}
    own = middle.sides[0] | middle.sides[1]
    out: list[Line] = []
    done: list[Floats] = []
    for line, tip in ends:
        met = {ends[j][0].face for j in np.flatnonzero(np.linalg.norm(places - tip, axis=1) < touch)} - {line.face}
        for k in sorted({owner[f] for f in met if f in owner and f not in own}):
            other = middles[k]
            if line.face in other.sides[0] | other.sides[1] or any(np.linalg.norm(tip - p) < touch for p in done):
                continue
            beyond = [more.points for more in prolongs if np.linalg.norm(more.points[0] - tip) < touch]
            foot, left = settle(tip[None], [middle.field, other.field])
            near = ASLANT * float(np.linalg.norm(foot[0] - tip))
            if any(_meets(points, other) < near for points in beyond):
                continue  # it comes to the other middle by itself
            if left[0] > 1e-6 * middle.wall or not touch < np.linalg.norm(foot[0] - tip) < FAR * other.wall:
                continue
            done.append(tip)
            beyond_foot = foot[0] + 0.1 * (foot[0] - tip)  # the joint there is a chain of chords
            out.append(Line("prolong", middle.straight(tip, beyond_foot), (), (number,)))
    return out


def _meets(points: Floats, other: Middle) -> float:
    """How far along a chain (n, 3) it crosses another middle; infinite where it does not."""
    value = other.field(points)[0]
    crossed = np.flatnonzero(np.sign(value) != np.sign(value[0]))
    if not len(crossed):
        return np.inf
    k = int(crossed[0])
    share = float(value[k - 1] / (value[k - 1] - value[k]))
    at = arc_lengths(points)
    return float(at[k - 1] + share * (at[k] - at[k - 1]))
