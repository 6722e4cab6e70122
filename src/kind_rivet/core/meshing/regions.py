"""One region of a sheet: its border in the plane, rings round its holes, the fill, and back onto its faces."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.border_nodes import passage, vertex_places
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.meshing.fillings import best_filling
from kind_rivet.core.meshing.free.fill import CannotFill, FlatMesh
from kind_rivet.core.meshing.free.refill import Before
from kind_rivet.core.meshing.lattice import node_turns
from kind_rivet.core.meshing.mapped import ring_quads
from kind_rivet.core.meshing.patch import Patch
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.sheet_mesh import FACE, HARD_POINT, VERTEX, Builder, Ints
from kind_rivet.core.meshing.sizes import spots_of
from kind_rivet.core.meshing.step_rows import row_along
from kind_rivet.core.meshing.washers import RoundHole, ring_outlines

Answers = dict[bytes, FlatMesh | CannotFill]

SLIT = 0.01  # how far, in sizes, both sides of a line inside a region are held apart while it is filled


@dataclass(frozen=True)
class Region:
    """What is to be filled: border loops (nodes and places in the plane), points that become nodes, turns of the border, what was there."""

    patch: Patch
    nodes: list[Ints]
    flat: list[Floats]
    pins: list[int]
    inner: Floats
    hard: int
    turn: NDArray[np.int64] | None
    before: Before | None = None


def begin_region(
    patch: Patch, number: int, joined: tuple[tuple[int, ...], ...], curves: list[Curve], edge_nodes: list[Ints], stations: list[Floats],
    holes: list[RoundHole], rules: ShellRules, hard: Floats, build: Builder, slid: Mapping[int, Floats],
) -> Region | None:  # fmt: skip
    """The border of a region, its rings made; None where it shrank to nothing. `slid`: nodes of plane regions → places (3,) off their vertices."""
    loops_nodes: list[Ints] = []
    loops_flat: list[Floats] = []
    mine = {h.loop: k for k, h in enumerate(holes) if h.region == number}
    spot = vertex_places(patch, edge_nodes, build)
    whole = node_turns(patch, [len(edge_nodes[p.edge]) - 1 for p in patch.loops[0]])
    pins: list[int] = []  # nodes of other walls that stand on a point of this one
    pins_flat: list[Floats] = []
    for index, loop in enumerate(patch.loops):
        parts = [passage(patch, p, curves[p.edge], edge_nodes[p.edge], stations[p.edge]) for p in loop]
        ids = np.concatenate([p[0] for p in parts])
        flat = np.concatenate([p[1] for p in parts])
        for i, n in enumerate(ids.tolist()):
            if n in slid:
                flat[i] = patch.in_plane(slid[n])
            elif n in spot:  # a node that stands for looked-past edges lies at one of their vertices
                nearest = spot[n][int(np.argmin(np.linalg.norm(spot[n] - flat[i], axis=1)))]
                if np.linalg.norm(nearest - flat[i]) < 2 * rules.look_past * rules.size:  # else on the other side of a cut
                    flat[i] = nearest
        if len(np.unique(ids)) < 2 or (len(np.unique(ids)) < 3 and len({p.edge for p in loop}) == len(loop)):
            if index == 0:
                return None  # the region shrank to a line or a point: its neighbours meet there
            if any(set(joined[p.edge]) - set(patch.faces) for p in loop):  # other walls stand there
                pins.append(int(edge_nodes[loop[0].edge][0]))
                pins_flat.append(np.concatenate([patch.flat[p.corners] for p in loop]).mean(axis=0))
            continue
        if index in mine and holes[mine[index]].widths:
            hole = holes[mine[index]]
            outlines = ring_outlines(flat, hole.radius, hole.widths, hole.round)
            for outline in outlines:
                outer_ids = build.nodes(*_on_faces(patch, outline))
                table = np.concatenate((outer_ids[::-1], ids[::-1]))
                build.add(table[ring_quads(len(outline))], build.item[-1][::-1], mine[index])
                ids, flat = outer_ids, outline
        loops_nodes.append(ids)
        loops_flat.append(opened(ids, flat, SLIT * rules.size))
    paired = any(holes[k].rim for k in mine.values())  # rows run all the way to the border then
    for index in range(0 if paired or len(loops_flat) < len(patch.loops) else len(loops_flat)):
        ringed = index in mine and bool(holes[mine[index]].widths)
        if not ringed and (row := row_along(patch, loops_flat, index, rules.size)) is not None:
            row_ids = build.nodes(*_on_faces(patch, row))
            table = np.concatenate((loops_nodes[index], row_ids))
            build.add(table[ring_quads(len(row))], build.item[-1], -1)
            loops_nodes[index], loops_flat[index] = row_ids, row
    hard_flat = patch.to_plane(hard) if len(hard) else np.empty((0, 2))
    inner = np.concatenate((np.array(pins_flat).reshape(-1, 2), hard_flat))
    return Region(patch, loops_nodes, loops_flat, pins, inner, len(hard), whole)


def filled_region(region: Region, rules: ShellRules, answers: Answers) -> FlatMesh | CannotFill:
    """The flat mesh of a region, or why there is none. `answers`: what filled regions got before; the same question is answered once."""
    if region.before is not None:  # filled in places only, which is quick
        return _filled(region, rules)
    question = _question(region, rules)
    if question not in answers:
        answers[question] = _filled(region, rules)
    return answers[question]


def _filled(region: Region, rules: ShellRules) -> FlatMesh | CannotFill:
    try:
        return best_filling(region.patch, region.flat, region.inner, rules, region.turn, region.before)
    except CannotFill as trouble:
        return trouble
    except (ValueError, IndexError, ArithmeticError) as broken:  # one region must not cost the others theirs
        return CannotFill(f"its filling broke off ({broken})", region.flat[0].mean(axis=0))


def _question(region: Region, rules: ShellRules) -> bytes:
    """All that the filling of a region follows from, in few bytes: a sheet is meshed in several passes that change a few regions only."""
    patch = region.patch
    arrays: list[NDArray[Any]] = [*region.flat, region.inner, patch.flat, patch.space, patch.facets, spots_of(patch, rules)]
    if region.turn is not None:
        arrays.append(region.turn)
    words = (patch.carriers, rules.size_on(patch.faces), rules.growth, [rules.ways.get(f) for f in patch.faces])
    out = hashlib.blake2b(repr((words, [a.shape for a in arrays])).encode())
    for array in arrays:
        out.update(np.ascontiguousarray(array).tobytes())
    return out.digest()


def end_region(region: Region, mesh: FlatMesh, build: Builder) -> None:
    """Add the nodes and elements of a filled region."""
    patch = region.patch
    border = np.concatenate((np.concatenate(region.nodes), np.array(region.pins, np.int32)))
    inner_flat = mesh.points[len(border) :]
    inner = build.nodes(*_on_faces(patch, inner_flat)) if len(inner_flat) else np.empty(0, np.int32)
    if region.before is not None and mesh.was is not None:
        was = mesh.was[len(border) :]
        build.points[-1][was >= 0] = region.before.space[was[was >= 0]]
        build.settled.append(inner[was >= 0])
    if region.hard:  # they come first and stay: nothing may move them
        build.kind[-1][: region.hard], build.item[-1][: region.hard] = VERTEX, HARD_POINT
    table = np.concatenate((border, inner))
    elements = np.where(mesh.elements >= 0, table[np.maximum(mesh.elements, 0)], -1).astype(np.int32)
    if len(patch.faces) == 1:
        face = np.full(len(elements), patch.faces[0], np.int32)
    else:
        corners = mesh.elements
        centre = np.where((corners[:, 3] >= 0)[:, None], mesh.points[corners].mean(axis=1), mesh.points[corners[:, :3]].mean(axis=1))
        face = patch.to_space(centre)[1]
    build.add(elements, face, -1)


def opened(ids: Ints, flat: Floats, by: float) -> Floats:
    """Places of a border loop, moved a little into the region wherever the loop passes a node more than once.

    So lines along which other walls stand on this one, and borders that touch themselves,
    become openings that can be filled round; the nodes themselves stay where they are.
    """
    _, index, count = np.unique(ids, return_inverse=True, return_counts=True)
    twice = count[index] > 1
    if not twice.any():
        return flat
    before, after = flat - np.roll(flat, 1, axis=0), np.roll(flat, -1, axis=0) - flat
    turn_in = np.arctan2(before[:, 1], before[:, 0])
    turn = np.arctan2(before[:, 0] * after[:, 1] - before[:, 1] * after[:, 0], (before * after).sum(axis=1))
    way = turn_in + turn / 2 + np.pi / 2  # to the left, half-way round the corner
    out = flat.copy()
    out[twice] += by * np.column_stack((np.cos(way), np.sin(way)))[twice]
    return out


def _on_faces(patch: Patch, flat: Floats) -> tuple[Floats, int, Ints]:
    points, face = patch.to_space(flat)
    return points, FACE, face
