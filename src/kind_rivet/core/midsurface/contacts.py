"""Where a bend crosses the joints of another wall with both its sides: the two joints touch there without crossing.

Chords would miss each other, so both get a node at the bend; and beside it they part so slowly
that they would be taken for each other, so each is left out where the other stands for it.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, unit
from kind_rivet.core.midsurface.fields import settle
from kind_rivet.core.midsurface.middles import Middle
from kind_rivet.core.midsurface.stations import away_from
from kind_rivet.core.midsurface.traces import Line

FINE = 8  # probes on each segment of a joint
TWIN = 0.05  # walls between two joints up to which one stands for the other
HAIR = 1e-6  # walls by which bends lie off their middles at most, where these touch
VOTES = 12  # places on a wall that tell on which side of a bend it lies
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


def ended_at_bends(joints: list[Line], bends: list[Line], middles: list[Middle]) -> list[Line]:
    """The joints with ends at bends that lie a hair off them, as where a corner's wall thickens a little: both that meet there end in one place."""
    known = {frozenset(joint.middles) for joint in joints}
    out = []
    for joint in joints:
        for bend in bends:
            own = set(bend.middles) & set(joint.middles)
            if len(own) != 1 or joint.closed or bend.closed:
                continue
            (a,), (b,), (m,) = own, set(bend.middles) - own, set(joint.middles) - own
            if frozenset((m, b)) not in known:
                continue
            wall = min(middles[k].wall for k in joint.middles)
            at = _through(bend, middles[m])
            if at is None or not HAIR * wall < max(abs(float(middles[k].field(at[None])[0][0])) for k in (a, b)) < TWIN * wall:
                continue
            if away_from(at[None], joint.points)[0] < TWIN * wall:
                joint = replace(joint, points=_ended(joint.points, at, bend.points, middles[a]))
        out.append(joint)
    return out


def _through(bend: Line, middle: Middle) -> Floats | None:
    """Where a bend crosses a middle, None where it does not."""
    value = middle.field(bend.points)[0]
    k = np.flatnonzero((value[1:] >= 0) != (value[:-1] >= 0))
    if len(k) != 1:
        return None
    i = int(k[0])
    share = value[i] / (value[i] - value[i + 1])
    return np.asarray(bend.points[i] + share * (bend.points[i + 1] - bend.points[i]))


def _ended(points: Floats, at: Floats, bend: Floats, middle: Middle) -> Floats:
    """A chain as far as a place on it, without what lies across the bend there from the wall of its middle."""
    chain = _with_node(points, at, TWIN * middle.wall)
    k = int(np.argmin(np.linalg.norm(chain - at, axis=1)))
    for rest, kept in ((chain[k + 1 :], chain[: k + 1]), (chain[:k], chain[k:])):
        if len(rest) and len(kept) > 1 and _beyond(rest, bend, middle).all():
            return kept
    return chain


def through_contacts(bend: Line, joints: list[Line], middles: list[Middle]) -> Line:
    """A bend of freely curved walls with a node wherever a joint on one of its middles has one on it.

    Where these are laid flat a chord no longer runs through all its places, and would miss the joint's end by a hair.
    """
    if all(middles[m].carrier.kind != "free" for m in bend.middles):
        return bend
    points = bend.points
    wall = min(middles[m].wall for m in bend.middles)
    for joint in joints:
        if set(bend.middles) & set(joint.middles):
            for at in joint.points[away_from(joint.points, points) < HAIR * wall]:
                points = _with_node(points, at, HAIR * wall)
    return bend if len(points) == len(bend.points) else replace(bend, points=points)


def without_twins(joints: list[Line], bends: list[Line], middles: list[Middle]) -> list[Line]:
    """The joints without stretches beyond a bend that all but coincide with the joint of the wall that goes on there.

    Only joints of walls that do not bend themselves: in mitres, where bends meet, the lines on both sides make the corners exact.
    """
    bent = {m for bend in bends for m in bend.middles}
    by_pair: dict[frozenset[int], list[Line]] = {}
    for joint in joints:
        by_pair.setdefault(frozenset(joint.middles), []).append(joint)
    out = []
    for joint in joints:
        cut = np.zeros(len(joint.points), bool)
        for bend in bends if len(joint.points) > 2 else []:
            own = set(bend.middles) & set(joint.middles)
            if len(own) != 1 or set(bend.middles) == set(joint.middles):
                continue
            (a,), (b,), (m,) = own, set(bend.middles) - own, set(joint.middles) - own
            if m in bent:
                continue
            for twin in by_pair.get(frozenset((m, b)), []):
                close = away_from(joint.points, twin.points) < TWIN * middles[m].wall
                if close.any():
                    cut |= close & _beyond(joint.points, bend.points, middles[a])
        out += [joint] if not cut.any() else [replace(joint, points=piece) for piece in _left(joint.points, cut)]
    return out


def _beyond(points: Floats, bend: Floats, middle: Middle) -> NDArray[np.bool_]:
    """Which points (n, 3) lie across a bend from the wall of a middle that ends there."""
    probe = (bend[:-1, None] + (np.arange(FINE) / FINE)[:, None] * np.diff(bend, axis=0)[:, None]).reshape(-1, 3)
    along = np.repeat(unit(np.diff(bend, axis=0)), FINE, axis=0)
    nearest = scipy.spatial.cKDTree(probe).query(points)[1]
    q = probe[nearest]
    across = np.cross(middle.normal(q), along[nearest])
    near = scipy.spatial.cKDTree(middle.samples).query(q, k=min(VOTES, len(middle.samples)))[1].reshape(len(q), -1)
    side = np.sign(np.einsum("ikj,ij->i", middle.samples[near] - q[:, None], across))  # a few may lie a little across the bend
    return np.asarray(np.einsum("ij,ij->i", points - q, across) * side < -1e-6 * middle.wall)


def _left(points: Floats, cut: NDArray[np.bool_]) -> list[Floats]:
    """Stretches of a chain without the points that are cut out; each goes on to the first of those."""
    if cut.all():
        return []
    if np.allclose(points[0], points[-1]):  # begin within what is left out
        k = int(np.argmax(cut))
        points, cut = np.vstack((points[k:-1], points[: k + 1])), np.concatenate((cut[k:-1], cut[: k + 1]))
    ends = np.flatnonzero(np.diff(np.concatenate(([True], cut, [True])).astype(int)))
    return [points[max(a - 1, 0) : b + 1] for a, b in ends.reshape(-1, 2)]


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
