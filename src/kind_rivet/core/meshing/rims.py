"""Rims: borders that lie about the middle of a hole, those of bosses and flanges all round, those of ears all but the foot they stand on."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from kind_rivet.core.geometry.carriers import Floats, arc_lengths
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.patch import Patch
from kind_rivet.core.meshing.sizes import shared_out

if TYPE_CHECKING:
    from kind_rivet.core.meshing.washers import RoundHole

EAR = 0.75  # of a circle about a hole that must be there for an ear's border to count as one
EAR_OFF = 0.2  # radii: how far the rest of it may lie off that circle
ROUGHLY, OFF_MIDDLE = 0.02, 0.32  # radii of that circle, and of the gap between both, that the hole may lie off its middle
LONGEST_RIM = 1.8  # sizes; longest side of a circle for the sake of one within it


def rim_of(shape: Shape, border: tuple[int, ...], hole: RoundHole, least: float) -> tuple[float, tuple[int, ...]] | None:
    """Radius of the circle about a hole's middle on which a border's edges lie, and these, arcs first.

    All of them, or nearly all as with an ear that stands on another wall, if none is shorter than `least`; else None.
    """
    if min(border) < 0 or len(set(border)) < len(border):
        return None
    arcs = _arcs(shape, border, hole)
    radii = [shape.edges[e].carrier.data[6] for e in arcs]
    if not arcs or any(abs(r - radii[0]) > 1e-3 * radii[0] for r in radii):
        return None
    others = [e for e in border if e not in arcs]
    if others:
        if shape.edge_length[list(border)].min() < least:
            return None
        off = _off_axis(hole, shape.points[np.concatenate([shape.edges[e].nodes for e in others])])
        if shape.edge_length[arcs].sum() < EAR * 2 * np.pi * radii[0] or np.abs(off - radii[0]).max() > EAR_OFF * radii[0]:
            return None
    return float(radii[0]), (*arcs, *others)


def rim_counts(hole: RoundHole, lengths: list[float], size: float) -> dict[int, int]:
    """As many divisions as a hole has, on the edges of its rim: by length, but none with sides far too long."""
    own = dict(zip(hole.rim, lengths, strict=True))
    out = dict(zip(hole.rim, shared_out(hole.divisions, [length / sum(lengths) for length in lengths]), strict=True))
    for e in hole.rim:
        while own[e] > LONGEST_RIM * size * out[e]:
            other = max(hole.rim, key=lambda k: (out[k] > 1, out[k] / own[k]))
            if other == e or out[other] == 1:
                break
            out[e], out[other] = out[e] + 1, out[other] - 1
    return out


def towards_foot(hole: RoundHole, shape: Shape, patch: Patch, size: float) -> float | None:
    """Direction (rad) in which the hole of an ear wants a node, so that its nodes face those on the edge along which the ear stands; None where it has none."""
    arcs = _arcs(shape, hole.rim, hole)
    foot = [p for p in patch.loops[0] if p.edge in hole.rim and p.edge not in arcs]
    if len(foot) != 1:
        return None
    away = patch.flat[foot[0].corners] - patch.outlines[hole.loop].mean(axis=0)
    s = arc_lengths(away)
    x, y = (float(np.interp(s[-1] / 2, s, column)) for column in away.T)
    count = rim_counts(hole, shape.edge_length[list(hole.rim)].tolist(), size)[foot[0].edge]
    return float(np.arctan2(y, x)) + (count % 2) * np.pi / hole.divisions


def _arcs(shape: Shape, border: tuple[int, ...], hole: RoundHole) -> list[int]:
    """The edges of a border that are arcs about a hole, or nearly."""
    out = []
    for e in border:
        c = shape.edges[e].carrier
        if c.kind == "circle" and _off_axis(hole, c.array[:3]) < max(ROUGHLY * c.data[6], OFF_MIDDLE * (c.data[6] - hole.radius)):
            out.append(e)
    return out


def _off_axis(hole: RoundHole, places: Floats) -> Floats:
    """How far places (..., 3) lie off the axis of a hole."""
    return np.asarray(np.linalg.norm(np.cross(places - np.array(hole.centre), hole.axis), axis=-1))
