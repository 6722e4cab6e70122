"""Rings of even quads round round holes."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import shapely

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.meshing.gaps import loop_gap
from kind_rivet.core.meshing.mapped import FAN, fans_out, turns
from kind_rivet.core.meshing.patch import BorderEdge, Patch
from kind_rivet.core.meshing.rims import LONGEST_RIM, rim_of, towards_foot
from kind_rivet.core.meshing.ring_rows import ring_in_rows
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.sizes import along

LEAST_SIDE = 0.352  # of the size: a little above where the default limit sheet fails a side

MOST_LENGTH = 12.0  # sizes; longer cut-outs carry no fastener and get no ring
LIFTED = 0.05  # sizes by which the edge of a pad leaves the plane of the wall round it, from which it gets a ring at any radius
STEEP = 0.15  # the same from which shells that touch the edge with one corner only fail as warped
BOSS = 3.0  # sizes of radius up to which a round wall that stands on another gets a ring
ROUNDISH = 1.25  # longest over shortest way across an opening that counts as nearly round
AS_ROUND = 1.01  # the same of a hole drilled aslant through a wall, or through a curved one, that counts as round
WARPED = np.radians(10.5)  # angle between the halves of a ring's quad on a bend, from which on rings are narrowed
CREASE = 1.2  # radians that a wall turns within one size, from which on it is a crease and no bend
NARROW, SHORT = 0.5, 0.45  # sizes: no ring becomes narrower for a bend, no side of it shorter
OUTWARD = 0.7  # of the ring's width from the hole: where its sides are as long as the size
FAR_RIM = 6.0  # sizes between a hole and a concentric border up to which rows may run all the way
LONG_SIDE = 1.5  # sizes; longest side that a ring should have
LONG_LIFTED = 1.8  # the same where the wall rises from a step: without a ring its shells would be warped
SHORT_SIDE = 0.5  # of the size; shortest side at a hole for the sake of rings further out
ROUNDED = 3.2  # sizes along a corner that is rounded off
CLOSE = 1.2  # sizes between a ring and the border up to which one row lies between them
ROUND_IT = 12  # steps of ten degrees round a hole in which the border lies close by: more than a straight one does
LONG_FACING, LEAST_FACING = 1.6, 0.38  # sizes: sides on that border, and sides of the hole for their sake
FILLED = 9.8  # divisions per size of radius round a disc, up to which the square within its ring has sides that are sound
LEAST_RING = 0.7  # of the size: ring round a disc, for which its sides may be shorter
LIKE_DISC = 1.35  # times as large as the shells of a disc on average that those of a ring round it may be
SLIM = 0.5  # of the size: thinnest ring worth having round a circle that has a ring within
FACING = 1.6  # sizes between a ring and the border up to which they face each other
SHARP = 65.0  # degrees; a ring cannot run evenly round a sharper corner of a cut-out


@dataclass(frozen=True)
class RoundHole:
    """A hole of a region with rings: its border loop, edges, radius and the ring that fits round it.

    Slots, D-shapes, rounded windows and holes across curved walls have `round` False and
    as radius half their least width.
    """

    region: int
    loop: int
    edges: tuple[int, ...]
    radius: float
    centre: tuple[float, float, float]
    axis: tuple[float, float, float]
    divisions: int
    widths: tuple[float, ...]  # of the rings, from the hole outward; empty where none fits
    wanted: float  # width asked for
    rim: tuple[int, ...] = ()  # edges of a concentric border close by, which gets the same count
    shift: float = 0.0  # of the first node along a closed edge, so that nodes lie on the directions of the border near by
    round: bool = True
    shares: tuple[int, ...] = ()  # divisions of each edge, where they are not dealt out by length
    floored: bool = False  # only a disc lies within, which needs its sides


def find_round_holes(shape: Shape, patches: list[Patch | None], rules: ShellRules) -> list[RoundHole]:
    """Inner loops that get rings, with divisions and ring widths that leave room to their surroundings."""
    holes = []
    for region, patch in enumerate(patches):
        if patch is None:
            continue
        for number in range(1, len(patch.loops)):
            hole = _round(shape, patch, region, number, rules) or _opening(shape, patch, region, number, rules)
            if hole is not None:
                holes.append(hole)
    by_loop = {(h.region, h.loop): h for h in holes}
    widest = max((sum(h.widths) for h in holes), default=0.0)
    yielding = {(h.region, h.loop) for h in holes if _yields(shape, patches[h.region], h, rules.size)}
    fitted = [_fitted(shape, hole, by_loop, yielding, widest, patches, rules) for hole in holes]
    return turned_alike([_aligned(hole, shape, patches, rules.size) for hole in _paired(fitted, shape, patches, rules)], shape)


def _round(shape: Shape, patch: Patch, region: int, number: int, rules: ShellRules) -> RoundHole | None:
    """A hole whose edges all lie on one circle."""
    loop = patch.loops[number]
    edges = tuple(p.edge for p in loop)
    circles = [shape.edges[e].carrier for e in edges if e >= 0]
    first = circles[0] if circles else None
    if first is None or any(c.kind != "circle" for c in circles):
        return None
    d = first.array
    if (
        min(edges) < 0 or len(set(edges)) != len(edges) or sum(shape.edge_length[e] for e in edges) < np.pi * d[6]
    ):  # a wall stands there on an arc
        return None
    if any(np.linalg.norm(c.array[:3] - d[:3]) > 1e-3 * d[6] or abs(c.data[6] - d[6]) > 1e-3 * d[6] for c in circles):
        return None
    widths, width, count = _ring_for(float(d[6]), tuple(d[:3].tolist()), rules, _size_along(shape, edges, rules))
    goes_on = all(len(shape.edge_faces[e]) > 1 for e in edges)  # in another wall: nothing is fastened
    if d[6] > BOSS * rules.size and goes_on and not _leaves_plane(shape, patch, edges, LIFTED * rules.size):
        widths, width, count = (), 0.0, ring_divisions(float(d[6]), 0.0, rules.size)
    hole = RoundHole(region, number, edges, float(d[6]), tuple(d[:3].tolist()), tuple(d[3:6].tolist()), count, widths, width)
    if len(edges) == 1 and edges[0] in rules.divisions:
        return replace(hole, divisions=rules.divisions[edges[0]])
    floored = _floored(shape, edges)
    if (floored or _filled(shape, edges)) and not counted_by_hand(hole, rules):
        most = min(count, max(8, 4 * int(FILLED * hole.radius / rules.size / 4)))
        return _floored_ring(hole, most, rules.size) if floored else replace(hole, divisions=most)
    return hole


def _floored(shape: Shape, edges: tuple[int, ...]) -> bool:
    """Does a disc, and nothing else, lie within a hole's edges, as the thinner floor under a blind hole does?"""
    return any(set(shape.face_edges[f]) == set(edges) for f in shape.edge_faces[edges[0]])


def _floored_ring(hole: RoundHole, most: int, size: float) -> RoundHole:
    """A blind hole with at most so many divisions, and a ring so narrow that shells within and round it are alike: sides at the hole are as long
    as the size, or as a ring can bear."""
    around = 2 * np.pi * hole.radius / size
    outside = around + 2 * np.pi * LEAST_RING if hole.widths else around
    count = min(most, max(8, 4 * round(around / 4), 4 * int(np.ceil(outside / LONG_LIFTED / 4))))
    widths = widths_for(count, hole.radius, hole.widths, size, lifted=True)
    cells = FAN if fans_out(count, hole.radius, size) else (count // 4) ** 2 + count
    like = LIKE_DISC * hole.radius * np.sqrt(np.pi / cells)
    room = max(float(np.sqrt(hole.radius**2 + like**2 * count / np.pi)) - hole.radius, SLIM * size)
    if widths and widths[0] > room:
        widths = tuple(w * room / widths[0] for w in widths)
    return replace(hole, divisions=count, widths=widths, floored=True)


def _filled(shape: Shape, edges: tuple[int, ...]) -> bool:
    """Does a disc lie within a hole's edges, or where the tube that stands on them ends, as in a boss closed beside its foot?"""
    if all(len(shape.edge_faces[e]) > 2 for e in edges):
        return True
    tubes = set(shape.edge_faces[edges[0]]) if len(edges) == 1 else set()
    ends = {e for f in tubes if shape.faces[f].carrier.kind == "cylinder" for e in shape.face_edges[f]} - set(edges)
    return any(shape.face_edges[f] == (e,) for e in ends for f in set(shape.edge_faces[e]) - tubes)


def rises(shape: Shape, patch: Patch | None, edges: tuple[int, ...], size: float) -> bool:
    """Does a plane wall rise so much from some edges, as where pads step, that shells which touch them with one corner fail as warped?"""
    return patch is not None and _leaves_plane(shape, patch, edges, STEEP * size)


def _leaves_plane(shape: Shape, patch: Patch, edges: tuple[int, ...], least: float) -> bool:
    """Do edges lie off the plane of a wall, as where pads step? Shells that touch them with one corner only would be warped."""
    carrier = patch.carriers[0]
    if carrier.kind != "plane" or len(patch.carriers) != 1:
        return False
    off = (shape.points[np.concatenate([shape.edges[e].nodes for e in edges])] - carrier.array[:3]) @ carrier.array[3:6]
    return bool(np.abs(off).max() > least)


def _size_along(shape: Shape, edges: tuple[int, ...], rules: ShellRules) -> float:
    """The least size wanted along some edges."""
    if not rules.places and not rules.face_size and not rules.edge_size:
        return rules.size
    curves = [(e, Curve.through(shape.points[shape.edges[e].nodes], shape.edges[e].carrier)) for e in edges]
    sizes = [along(curve, e, shape.edge_faces[e], rules) for e, curve in curves]
    return min(rules.size if s is None else float(s.min()) for s in sizes)


def _ring_for(radius: float, centre: tuple[float, float, float], rules: ShellRules, size: float) -> tuple[tuple[float, ...], float, int]:
    """Ring widths, the width asked for and the divisions by the rules for holes of a radius."""
    rule = rules.washer_for(2 * radius, centre)
    width = 0.0
    if rule is not None:
        width = rule.width * size if rule.width > 0 else float(np.clip(0.8 * radius, 0.7 * size, 1.2 * size))
    count = rule.divisions if rule is not None and rule.divisions else ring_divisions(radius, width, size)
    return tuple(width for _ in range(rule.rings)) if rule is not None else (), width, count


def bend_along(patch: Patch, number: int) -> float:
    """The tightest curvature of a wall along one of its border loops, from its normals there."""
    at = np.concatenate([p.corners[:-1] for p in patch.loops[number]])
    side = np.linalg.norm(np.roll(patch.space[at], -1, axis=0) - patch.space[at], axis=1)
    turn = np.linalg.norm(np.roll(patch.normals[at], -1, axis=0) - patch.normals[at], axis=1)
    long = side > 0.1 * side.mean()
    return float((turn[long] / side[long]).max(initial=0.0))


def _unwarped(widths: tuple[float, ...], around: float, count: int, bend: float, size: float) -> tuple[tuple[float, ...], int]:
    """Rings narrowed, and divided more often, so that their quads are hardly warped where they lie askew to a bend; `around`: the hole's length.

    A quad turned by 45° on a bend of curvature k has an angle of k/2 · √(side² + width²) between its halves.
    """
    if not widths or not 0 < bend * size < CREASE:
        return widths, count
    most = 2 * WARPED / bend
    while np.hypot(around / count, NARROW * size) > most and around / (count + 4) >= SHORT * size:
        count += 4
    width = max(np.sqrt(max(most**2 - (around / count) ** 2, 0.0)), NARROW * size)
    return tuple(min(w, float(width)) for w in widths), count


def _opening(shape: Shape, patch: Patch, region: int, number: int, rules: ShellRules) -> RoundHole | None:
    """A free, convex loop without sharp corners: a slot, a D-shape, a rounded window, a hole across a curved wall."""
    loop = patch.loops[number]
    edges = tuple(p.edge for p in loop)
    xy = patch.outlines[number]
    if len(xy) < 6 or len(set(edges)) != len(edges) or any(len(shape.edge_faces[e]) != 1 for e in edges):
        return None
    turn = -np.degrees(turns(xy) * np.pi / 2)  # seen from inside the hole
    if turn.min() < -10.0 or turn.max() > SHARP:
        return None
    away = xy - xy.mean(axis=0)
    reach = [np.ptp(away @ np.array([np.cos(t), np.sin(t)])) for t in np.linspace(0, np.pi, 37)[:-1]]
    radius = float(min(reach)) / 2
    if max(reach) > MOST_LENGTH * rules.size:
        return None
    axis = patch.normals[np.unique(np.concatenate([p.corners for p in loop]))].mean(axis=0)
    centre = shape.points[np.unique(np.concatenate([shape.edges[e].nodes for e in edges]))].mean(axis=0)
    size = _size_along(shape, edges, rules)
    widths, width, count = _ring_for(radius, tuple(centre.tolist()), rules, size)
    length = shape.edge_length[list(edges)]
    rule = rules.washer_for(2 * radius, tuple(centre.tolist()))
    if rule is not None and not rule.divisions and not rule.width:
        widths, count = _unwarped(widths, min(float(length.sum()), ROUNDISH * 2 * np.pi * radius), count, bend_along(patch, number), size)
    where = region, number, edges, radius, tuple(centre.tolist()), tuple((axis / max(np.linalg.norm(axis), 1e-300)).tolist())
    if len(edges) > 2 and length.max() < 1.05 * length.min():  # a regular polygon
        each = max(1, int(length.mean() / size + 0.5 + 1e-6))
        each += each * len(edges) % 2
        if not any(e in rules.divisions for e in edges):
            return RoundHole(*where, each * len(edges), widths, width, round=False, shares=(each,) * len(edges))
    if max(reach) < ROUNDISH * min(reach):
        return RoundHole(*where, count, widths, width, round=len(edges) == 1 and max(reach) < AS_ROUND * min(reach))
    shares = []
    for p in loop:
        curve = Curve.through(shape.points[shape.edges[p.edge].nodes], shape.edges[p.edge].carrier)
        bent = min(np.ceil(count * curve.turning() / (2 * np.pi) - 0.05), curve.length // (LEAST_SIDE * size))
        shares.append(int(rules.divisions.get(p.edge, max(1, int(curve.length / size + 0.5 + 1e-6), bent))))
    if sum(shares) % 2:
        free = [k for k, e in enumerate(edges) if e not in rules.divisions]
        if free:
            shares[max(free, key=lambda k: shape.edge_length[edges[k]] / shares[k])] += 1
    return RoundHole(*where, sum(shares), widths, width, round=False, shares=tuple(shares))


def _paired(holes: list[RoundHole], shape: Shape, patches: list[Patch | None], rules: ShellRules) -> list[RoundHole]:
    """Equal counts for a hole and the concentric circle that bounds its region near by (bosses, flanges, rings drawn round holes)."""
    out = list(holes)
    by_edges = {frozenset(h.edges): k for k, h in enumerate(holes)}
    for k, hole in enumerate(holes):
        patch = patches[hole.region]
        if patch is None or len(patch.loops) != 2 or not hole.round:
            continue
        found = rim_of(shape, tuple(p.edge for p in patch.loops[0]), hole, rules.look_past * rules.size)
        if found is None:
            continue
        radius, rim = found
        if radius - hole.radius > FAR_RIM * rules.size:
            continue
        outer = by_edges.get(frozenset(rim))
        between = 2 * np.pi * np.sqrt(radius * hole.radius)  # sides a little short within, a little long without
        most = 2 * int(most_sides(hole.radius, rules.size) / 2)
        count = min(4 * max(2, round(max(between / rules.size, np.pi * radius / (0.75 * rules.size)) / 4)), most)
        if radius - hole.radius > 3 * rules.size:  # rows all the way only where sides stay within reason at both ends
            least, largest = (2 * np.pi * r / (share * rules.size) for r, share in ((radius, 1.5), (hole.radius, 0.5)))
            count = 4 * int(np.ceil(max(least, 2 * np.pi * np.sqrt(radius * hole.radius) / rules.size) / 4))
            if count > largest:
                continue
        beyond = holes[outer].widths if outer is not None else ()  # rings round the circle itself
        lifted = outer is not None and bool(beyond) and rises(shape, patches[holes[outer].region], rim, rules.size)
        if beyond:
            least = 2 * np.pi * (radius + sum(beyond)) / (LONG_SIDE * rules.size)
            count = max(count, min(4 * int(np.ceil(least / 4)), 2 * int(np.pi * hole.radius / (SHORT_SIDE * rules.size))))
        by_hand = any(e in rules.divisions for e in (*rim, *hole.edges))
        if by_hand or count < 6 or 2 * np.pi * radius / count > LONGEST_RIM * rules.size:
            continue
        out[k] = replace(out[k], divisions=count, rim=rim)
        if outer is not None:
            out[outer] = replace(out[outer], divisions=count, widths=widths_for(count, radius, beyond, rules.size, lifted))
    return _agreed(out, holes, by_edges, shape, patches, rules.size)


def _agreed(
    paired: list[RoundHole],
    holes: list[RoundHole],
    by_edges: dict[frozenset[int], int],
    shape: Shape,
    patches: list[Patch | None],
    size: float,
) -> list[RoundHole]:
    """One count for circles one beyond another where pairs of them were given several: as many as the innermost can take, or that one alone."""
    out = list(paired)
    for k in sorted(range(len(out)), key=lambda k: -out[k].radius):
        outer = by_edges.get(frozenset(out[k].rim))
        if not out[k].rim or outer is None or out[outer].divisions == out[k].divisions:
            continue
        group: list[int] = [k]
        wider: int | None = outer
        while wider is not None and wider not in group:
            group.append(wider)
            wider = by_edges.get(frozenset(out[wider].rim)) if out[wider].rim else None
        radii = np.array([out[g].radius for g in group])
        mean, least = np.exp(np.log(radii).mean()), radii.max() / LONG_SIDE  # all a little wrong, none much
        count = min(max(4 * round(2 * np.pi * mean / size / 4), 4 * int(np.ceil(2 * np.pi * least / size / 4))), _most(radii.min(), size))
        if count < 8 or 2 * np.pi * radii.max() / count > LONGEST_RIM * size:
            out[k] = holes[k]
            if out[outer].radius - holes[k].radius - sum(holes[k].widths) < size:  # counts must change on the way: no room for a ring too
                out[k] = replace(holes[k], widths=(), divisions=ring_divisions(holes[k].radius, 0.0, size))
            continue
        for g in group:
            lifted = rises(shape, patches[out[g].region], out[g].edges, size)
            out[g] = replace(out[g], divisions=count, widths=widths_for(count, out[g].radius, holes[g].widths, size, lifted))
    return out


def _most(radius: float, size: float) -> int:
    """The most divisions, in fours, of a circle whose sides may be short for the sake of others."""
    return 4 * int(2 * np.pi * radius / (LEAST_FACING * size) / 4)


def widths_for(count: int, radius: float, widths: tuple[float, ...], size: float, lifted: bool = False) -> tuple[float, ...]:
    """Ring widths narrowed so that `count` sides stay within reason round the last ring; none where that leaves too little.

    `lifted`: the wall rises from a step there, and without a ring its shells would be warped, so longer sides are borne.
    """
    for long in (LONG_SIDE, LONG_LIFTED) if lifted else (LONG_SIDE,):
        room = long * size * count / (2 * np.pi) - radius
        if sum(widths) <= room:
            return widths
        if room > len(widths) * SLIM * size:
            return tuple(w * room / sum(widths) for w in widths)
    return ()


def turned_alike(holes: list[RoundHole], shape: Shape) -> list[RoundHole]:
    """The first nodes of holes with a rim turned to the rim's first node."""
    out = list(holes)
    shifts = {h.edges[0]: h.shift for h in holes if len(h.edges) == 1}
    for k, hole in enumerate(holes):
        if not hole.rim or len(hole.edges) != 1 or len(hole.rim) != 1:
            continue
        inner, outer = (Curve.through(shape.points[shape.edges[e].nodes], shape.edges[e].carrier) for e in (hole.edges[0], hole.rim[0]))
        if len(shape.vertices.get(int(shape.edges[hole.edges[0]].nodes[0]), [])) != 1:
            continue
        centre = np.array(hole.centre)
        wanted = outer.at(np.array([shifts.get(hole.rim[0], 0.0)]))[0] - centre
        places = np.linspace(0.0, inner.length, 721)[:-1]
        near = (inner.at(places) - centre) @ wanted
        step = inner.length / hole.divisions
        out[k] = replace(hole, shift=float(places[int(np.argmax(near))] % step) or step)
    return out


def most_sides(radius: float, size: float) -> float:
    """How many sides of a regular polygon in a circle, no whole number, are as long as the shortest side allowed."""
    return float(np.pi / np.arcsin(min(LEAST_SIDE * size / (2 * radius), 1.0)))


def ring_divisions(radius: float, width: float, size: float) -> int:
    """Count whose sides match the size well out in the ring, where the next rows begin: a multiple of four, so that it looks alike to walls that
    meet at right angles.

    Six for holes too small for eight; four for those so small that six sides would fail as too short and four do not.
    """
    wanted = 2 * np.pi * (radius + OUTWARD * width) / size
    most = most_sides(radius, size)
    count = max(8, 4 * round(wanted / 4))
    if count > most:
        count = 4 * int(most // 4) if most >= 8 else 2 * int(most // 2)
    return int(max(count, 4 if count < 6 and np.sqrt(2) * radius > LEAST_SIDE * size else 6))


def direction_near(patch: Patch, number: int) -> float:
    """Direction (rad, modulo a quarter turn) that the border near a hole agrees on: sides of other loops, by length over distance squared.

    Along straight walls that is the wall's own direction, along round flanges the radius through the hole.
    """
    centres, radii = patch.discs
    centre = centres[number]
    round_it = np.linalg.norm(centres - centre, axis=1) < radii  # other holes see themselves the same from all sides
    total = 0.0j
    for k in sorted({0, *np.flatnonzero(round_it).tolist()} - {number}):
        loop = patch.outlines[k]
        side = np.roll(loop, -1, axis=0) - loop
        away = np.linalg.norm(loop + side / 2 - centre, axis=1)
        weight = np.linalg.norm(side, axis=1) / np.maximum(away, 1e-300) ** 2
        total += complex((weight * np.exp(4j * np.arctan2(side[:, 1], side[:, 0]))).sum())
    return float(np.angle(total) / 4)


def _aligned(hole: RoundHole, shape: Shape, patches: list[Patch | None], size: float) -> RoundHole:
    """Turn the nodes of a hole so that one lies on the direction of the border near it, or half-way where corners near by then face nodes."""
    patch = patches[hole.region]
    if patch is None or not may_turn(hole, shape, patch):
        return hole
    step = 2 * np.pi / hole.divisions
    if (faced := towards_foot(hole, shape, patch, size)) is not None:
        return turned_to(hole, shape, patch, faced)
    wanted = direction_near(patch, hole.loop) + (np.pi / 6 if hole.divisions == 6 else 0.0)  # a hexagon shows its flat side
    if _corners_between(hole, patch, wanted, step, size):
        wanted += step / 2
    return turned_to(hole, shape, patch, wanted)


def may_turn(hole: RoundHole, shape: Shape, patch: Patch) -> bool:
    """Is a hole one closed edge whose first node nothing holds?"""
    loop = patch.loops[hole.loop]
    return len(loop) == 1 and len(shape.vertices.get(int(shape.edges[loop[0].edge].nodes[0]), [])) == 1


def turned_to(hole: RoundHole, shape: Shape, patch: Patch, angle: float) -> RoundHole:
    """The hole with a node in a direction (rad, in the plane of its region), where its nodes are free to turn."""
    if not may_turn(hole, shape, patch):
        return hole
    part = patch.loops[hole.loop][0]
    ring = patch.flat[part.corners[:-1]]
    away = ring - ring.mean(axis=0)
    start = float(np.arctan2(away[0, 1], away[0, 0]))
    sense = -1.0 if part.forward else 1.0  # holes run clockwise along their passage
    step = 2 * np.pi / hole.divisions
    return replace(hole, shift=float(((angle - start) * sense) % step) * hole.radius)


def _corners_between(hole: RoundHole, patch: Patch, start: float, step: float, size: float) -> bool:
    """Do the corners of the outer border near a ring lie rather between nodes at angles start + k step than beside them?"""
    about = patch.outlines[hole.loop].mean(axis=0)
    corners = _corners(patch, ROUNDED * size, about, step) - about
    near = corners[np.linalg.norm(corners, axis=1) < hole.radius + sum(hole.widths) + FACING * size]
    phase = np.exp(2j * np.pi * (np.arctan2(near[:, 1], near[:, 0]) - start) / step)
    return bool(len(near)) and float(phase.real.sum()) < -0.5


def _corners(patch: Patch, most: float, about: Floats, step: float) -> Floats:
    """Corners (c, 2) of the outer border; where it is rounded off by less than a length, the middle of what rounds it.

    What rounds it counts as a side of its own, with corners at its ends, where it fills a division `step` (rad) as seen from `about` (2,).
    """
    out = []
    loop = patch.loops[0]
    rounding = [_rounds_off(patch, p, most) and _seen_under(patch, p, about) < step for p in loop]
    for k, part in enumerate(loop):
        if rounding[k]:
            n = len(part.corners)
            out.append(patch.flat[part.corners[[(n - 1) // 2, n // 2]]].mean(axis=0))
        elif not rounding[k - 1]:
            out.append(patch.flat[part.corners[0]])
    return np.array(out).reshape(-1, 2)


def _seen_under(patch: Patch, part: BorderEdge, about: Floats) -> float:
    """Angle (rad) between the ends of a passage as seen from a place (2,)."""
    first, last = patch.flat[part.corners[[0, -1]]] - about
    return float(abs(np.arctan2(np.cross(first, last), first @ last)))


def _rounds_off(patch: Patch, part: BorderEdge, most: float) -> bool:
    turn = patch.turn[part.corners[1:-1]].sum()
    length = np.linalg.norm(np.diff(patch.flat[part.corners], axis=0), axis=1).sum()
    return bool(0.5 < turn < 1.5 and length < most)


def _yields(shape: Shape, patch: Patch | None, hole: RoundHole, size: float) -> bool:
    """Does a hole's ring make way for those of fasteners, as round a tube that stands on the wall?"""
    return all(len(shape.edge_faces[e]) > 1 for e in hole.edges) and not hole.floored and not rises(shape, patch, hole.edges, size)


def _fitted(
    shape: Shape,
    hole: RoundHole,
    by_loop: dict[tuple[int, int], RoundHole],
    yielding: set[tuple[int, int]],
    widest: float,
    patches: list[Patch | None],
    rules: ShellRules,
) -> RoundHole:
    """Narrow or drop the rings so that something of the size is left between them and whatever is near; `widest`: of all rings.

    Those that are `yielding` get what fasteners leave them.
    """
    patch = patches[hole.region]
    assert patch is not None
    total = sum(hole.widths)
    if total <= 0:
        return hole
    ring = patch.outlines[hole.loop]
    room = np.inf
    centres, radii = patch.discs
    clear = np.linalg.norm(centres - centres[hole.loop], axis=1) - radii - radii[hole.loop]
    close = clear <= total + widest + 0.7 * rules.size  # what is far off need not be measured
    for number in sorted({0, *np.flatnonzero(close).tolist()} - {hole.loop}):
        neighbour = by_loop.get((hole.region, number))
        gap = loop_gap(ring, patch.outlines[number])
        room = min(room, gap - 0.6 * rules.size if neighbour is None else _shared_room(hole, neighbour, gap, yielding, rules.size))
    if room >= total:
        return _facing_corner(_in_rows(shape, hole, patch, rules), patch, rules)
    scale = room / total
    least = _least_width(hole, rules.size)
    if scale * hole.widths[0] < least:
        # One ring that reaches half-way may still fit where several do not.
        single = min(hole.widths[0], room)
        widths: tuple[float, ...] = (single,) if single >= least else ()
    else:
        widths = tuple(w * scale for w in hole.widths)
    count = hole.divisions if widths or hole.shares else ring_divisions(hole.radius, 0.0, rules.size)
    if counted_by_hand(hole, rules):
        count = hole.divisions
    return _facing_corner(replace(hole, divisions=count, widths=widths), patch, rules)


def _in_rows(shape: Shape, hole: RoundHole, patch: Patch, rules: ShellRules) -> RoundHole:
    """The hole with a ring that suits the rows beyond it, where no rule says how wide it is to be."""
    rule = rules.washer_for(2 * hole.radius, hole.centre)
    if rule is None or rule.width or len(hole.widths) != 1:
        return hole
    return replace(hole, widths=(ring_in_rows(shape, patch, hole.loop, hole.widths[0], rules.size),))


def _shared_room(hole: RoundHole, other: RoundHole, gap: float, yielding: set[tuple[int, int]], size: float) -> float:
    """Room for the rings of a hole beside another one, a gap (between the holes) away.

    They share it in proportion to what they want; where a fastener would get no ring so, one that is yielding gets what that leaves.
    A plain border, as one without a ring is then, keeps 0.6 of the size free.
    """
    mine, theirs = sum(hole.widths), sum(other.widths)
    if gap >= mine + theirs + 0.7 * size:
        return np.inf
    share = (gap - 0.7 * size) / (mine + theirs)
    yields = [(h.region, h.loop) in yielding for h in (hole, other)]
    if yields[0] != yields[1]:
        fastener = other if yields[0] else hole
        if share * sum(fastener.widths) < _least_width(fastener, size):
            return gap - 0.7 * size - min(theirs, gap - 0.6 * size) if yields[0] else gap - 0.6 * size
    return share * mine


def _least_width(hole: RoundHole, size: float) -> float:
    """Narrowest first ring of a hole; where the size is finer, so may the ring be."""
    return LEAST_SIDE * min(size, hole.wanted / 0.7)


def counted_by_hand(hole: RoundHole, rules: ShellRules) -> bool:
    """Is the count of a hole set by hand, or by its rule?"""
    rule = rules.washer_for(2 * hole.radius, hole.centre)
    return any(e in rules.divisions for e in hole.edges) or (rule is not None and bool(rule.divisions))


def _facing_corner(hole: RoundHole, patch: Patch, rules: ShellRules) -> RoundHole:
    """The hole with enough divisions for sides of reasonable length on a border that lies close round it or its rings, as in a corner or an eye."""
    if not hole.round or hole.wanted <= 0 or hole.floored or counted_by_hand(hole, rules):
        return hole
    reach = hole.radius + sum(hole.widths)
    sides = shapely.segmentize(shapely.LinearRing(patch.outlines[0]), rules.size / 4)
    away = shapely.get_coordinates(sides) - patch.outlines[hole.loop].mean(axis=0)
    far = np.linalg.norm(away, axis=1)
    if far.min() - reach > CLOSE * rules.size:
        return hole
    near = away[far < 1.3 * (reach + CLOSE * rules.size)]
    if len(np.unique(np.arctan2(near[:, 1], near[:, 0]) // np.radians(10))) < ROUND_IT:
        return hole
    wanted = 4 * int(np.ceil(2 * np.pi * far.min() / (LONG_FACING * rules.size) / 4 - 1e-6))
    most = 4 * int(2 * np.pi * hole.radius / (LEAST_FACING * rules.size) / 4)
    return replace(hole, divisions=max(hole.divisions, min(wanted, most)))


def ring_outlines(hole_flat: Floats, radius: float, widths: tuple[float, ...], round_: bool = True) -> list[Floats]:
    """Outlines of the rings (each (n, 2)) outward from the hole's nodes in the plane: scaled circles, else offset sides."""
    centre = hole_flat.mean(axis=0)
    out, reach = [], 0.0
    side = np.roll(hole_flat, -1, axis=0) - hole_flat
    normal = np.column_stack((-side[:, 1], side[:, 0])) / np.maximum(np.linalg.norm(side, axis=1), 1e-300)[:, None]  # into the region
    both = normal + np.roll(normal, 1, axis=0)
    mitre = both / np.maximum(np.einsum("ij,ij->i", both, both) / 2, 1e-300)[:, None]
    for width in widths:
        reach += width
        out.append(centre + (hole_flat - centre) * (1 + reach / radius) if round_ else hole_flat + reach * mitre)
    return out
