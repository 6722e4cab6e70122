"""Joints get a node where a bend crosses them: two joints with one wall touch there without crossing, and chords would miss each other."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.midsurface.fields import settle
from kind_rivet.core.midsurface.middles import Middle
from kind_rivet.core.midsurface.traces import Line, away_from

FINE = 8  # probes on each segment of a joint
NEAR = 0.1  # of the wall: how close a bend must pass a joint's chords


def with_contacts(joint: Line, bends: list[Line], middles: list[Middle]) -> Line:
    """The joint with a node at every place where one of the bends on its middles crosses it; straight joints need none."""
    points = joint.points
    if len(points) < 3:
        return joint
    wall = min(middles[m].wall for m in joint.middles)
    fields = [middles[m].field for m in joint.middles]
    for bend in bends:
        if not set(bend.middles) & set(joint.middles) or set(bend.middles) == set(joint.middles):
            continue
        for at in _passes(points, bend.points, NEAR * wall):
            exact, left = settle(at[None], [*fields, *bend.fields])
            if left[0] < 1e-6 * wall and np.linalg.norm(exact[0] - at) < 2 * NEAR * wall:
                points = _with_node(points, exact[0], 1e-3 * wall)
    return joint if len(points) == len(joint.points) else replace(joint, points=points)


def _passes(chain: Floats, line: Floats, reach: float) -> list[Floats]:
    """Places on a chain that are nearest to a line, wherever it passes within `reach`."""
    share = np.arange(FINE) / FINE
    probe = (chain[:-1, None] + share[:, None] * np.diff(chain, axis=0)[:, None]).reshape(-1, 3)
    away = away_from(probe, line)
    closed = np.allclose(chain[0], chain[-1])
    before, after = np.roll(away, 1), np.roll(away, -1)
    if not closed:
        before[0] = after[-1] = np.inf
    return list(probe[(away <= before) & (away < after) & (away < reach)])


def _with_node(chain: Floats, at: Floats, least: float) -> Floats:
    """The chain through one more point; a node that lies there already moves onto it."""
    near = np.linalg.norm(chain - at, axis=1)
    k = int(np.argmin(near))
    if near[k] < least:
        out = chain.copy()
        out[near < least] = at
        return out
    d = np.diff(chain, axis=0)
    t = np.clip(np.einsum("ij,ij->i", at - chain[:-1], d) / np.maximum(np.einsum("ij,ij->i", d, d), 1e-300), 0, 1)
    k = int(np.argmin(np.linalg.norm(chain[:-1] + t[:, None] * d - at, axis=1)))
    return np.insert(chain, k + 1, at, axis=0)
