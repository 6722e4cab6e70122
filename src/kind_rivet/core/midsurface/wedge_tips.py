"""Where two walls that a third one ends on run into each other at a small angle: one of their joints on it stops a hair before the other.

Beyond that place the third wall lies wholly within the other two. Without a line between both it
would go on through the gap, and round both of them within their skins: the web of an arm as wide
as the eyes at its ends. A rim that runs along half a wall beside a joint is closed off likewise:
where that web is flush with one end of the eyes, what is left of them beside it is a strip of its own.
"""

from __future__ import annotations

import numpy as np

from kind_rivet.core.geometry.carriers import Floats, unit
from kind_rivet.core.midsurface.middles import Middle
from kind_rivet.core.midsurface.stations import away_from
from kind_rivet.core.midsurface.traces import Line

WIDE = 0.6  # walls between both at most
ALONG = 0.85  # cosine between both there at least
ACROSS = 0.5  # cosine between the line and the joint's end at most: a line that goes on ahead is none beside it
BEYOND = 0.1  # of its length: the joint there is a chain of chords
HAIR = 1e-3  # walls: an end this near to another line is closed


def wedge_tips(number: int, middle: Middle, lines: list[Line]) -> list[Line]:
    """Lines on a middle from ends of joints that end nowhere to the joint or rim that runs beside them."""
    own = [lines[k] for k in middle.lines]
    low, high = (np.array([end(line.points, axis=0) for line in own]).reshape(-1, 3) for end in (np.min, np.max))
    reach = WIDE * middle.wall
    out: list[Line] = []
    for k, line in enumerate(own):
        if line.kind != "joint" or line.closed:
            continue
        for tip, before in ((line.points[0], line.points[1]), (line.points[-1], line.points[-2])):
            near = ((low < tip + reach) & (high > tip - reach)).all(axis=1)
            near[k] = False
            others = [own[i] for i in np.flatnonzero(near)]
            if not others or min(away_from(tip[None], more.points)[0] for more in others + out) < HAIR * middle.wall:
                continue
            found = [_nearest(tip, more.points) for more in others if more.kind in ("joint", "outline")]
            ahead = unit(tip - before)
            beside = [foot for foot, along in found if abs(along @ ahead) > ALONG and abs(unit(foot - tip) @ ahead) < ACROSS]
            foot = min(beside, key=lambda foot: float(np.linalg.norm(foot - tip)), default=tip)
            if 0 < np.linalg.norm(foot - tip) < reach:
                out.append(Line("prolong", middle.straight(tip, foot + BEYOND * (foot - tip)), (), (number,)))
    return out


def _nearest(place: Floats, line: Floats) -> tuple[Floats, Floats]:
    """The place on a polyline (n, 3) nearest to a given one (3,), and the direction it has there."""
    way = np.diff(line, axis=0)
    t = np.clip(np.einsum("ij,ij->i", place - line[:-1], way) / np.maximum(np.einsum("ij,ij->i", way, way), 1e-300), 0, 1)
    at = line[:-1] + t[:, None] * way
    k = int(np.argmin(np.linalg.norm(at - place, axis=1)))
    return at[k], unit(way[k])
