"""One region of a sheet: its border in the plane, rings round its holes, the fill, and back onto its faces."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.border_nodes import passage, vertex_places
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.meshing.free.bands import fill_with_bands
from kind_rivet.core.meshing.free.cells import fill_in_cells, fill_star
from kind_rivet.core.meshing.free.fill import CannotFill, FlatMesh, faults_of, fill
from kind_rivet.core.meshing.free.flow import Flow, field_of
from kind_rivet.core.meshing.free.regular import IRREGULAR, TRIA
from kind_rivet.core.meshing.free.symmetry import fill_symmetric
from kind_rivet.core.meshing.lattice import fill_lattice, node_turns
from kind_rivet.core.meshing.mapped import fill_blocks, fill_disc, fill_mapped, fill_rings, ring_quads
from kind_rivet.core.meshing.on_torus import fill_torus
from kind_rivet.core.meshing.patch import Patch
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.sheet_mesh import FACE, HARD_POINT, VERTEX, Builder, Ints
from kind_rivet.core.meshing.sizes import spots_of
from kind_rivet.core.meshing.washers import RoundHole, ring_outlines

SLIT = 0.01  # how far, in sizes, both sides of a line inside a region are held apart while it is filled
SIGNED = 0.65  # scaled Jacobian from which a mesh with three mirror axes or more and no tria is taken without trying another
ALIKE = 1.02  # unease of a symmetric mesh against a free one up to which it is preferred
STRAY = 5e-4  # share of trias up to which a mesh in cells or bands is taken without trying the free one
EVEN = 0.05  # of the scaled Jacobian by which quads round one node may be worse than another filling of a cell
MANY = 16  # borders from which cells that came out well are taken without trying anything else
FEW = 0.5  # faults that one mesh may have more than another and still be taken for its rows
CALM_ROWS = 0.25  # unease on average up to which a regular mesh is taken without trying the free one


@dataclass(frozen=True)
class Region:
    """What is to be filled: border loops (nodes and places in the plane), points that become nodes, turns of the border."""

    patch: Patch
    nodes: list[Ints]
    flat: list[Floats]
    pins: list[int]
    inner: Floats
    hard: int
    turn: NDArray[np.int64] | None


def begin_region(
    patch: Patch, number: int, joined: tuple[tuple[int, ...], ...], curves: list[Curve], edge_nodes: list[Ints], stations: list[Floats],
    holes: list[RoundHole], rules: ShellRules, hard: Floats, build: Builder,
) -> Region | None:  # fmt: skip
    """The border of a region, its rings made; None where it shrank to nothing."""
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
            if n in spot:  # a node that stands for looked-past edges lies at one of their vertices
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
    hard_flat = patch.to_plane(hard) if len(hard) else np.empty((0, 2))
    inner = np.concatenate((np.array(pins_flat).reshape(-1, 2), hard_flat))
    return Region(patch, loops_nodes, loops_flat, pins, inner, len(hard), whole)


def filled_region(region: Region, rules: ShellRules) -> FlatMesh | CannotFill:
    """The flat mesh of a region, or why there is none."""
    try:
        return _fill(region.patch, region.flat, region.inner, rules, region.turn)
    except CannotFill as trouble:
        return trouble


def end_region(region: Region, mesh: FlatMesh, build: Builder) -> None:
    """Add the nodes and elements of a filled region."""
    patch = region.patch
    border = np.concatenate((np.concatenate(region.nodes), np.array(region.pins, np.int32)))
    inner_flat = mesh.points[len(border) :]
    inner = build.nodes(*_on_faces(patch, inner_flat)) if len(inner_flat) else np.empty(0, np.int32)
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


def _fill(patch: Patch, loops: list[Floats], hard: Floats, rules: ShellRules, turn: NDArray[np.int64] | None) -> FlatMesh:
    """Regular where that is at least as good, else symmetric or free, or as forced for a face. Raises `CannotFill` where nothing works.

    `turn`: whole quarter turns at the nodes of the outer loop, where it runs along two directions.
    """
    size, spots = rules.size_on(patch.faces), spots_of(patch, rules)
    way = next((rules.ways[f] for f in patch.faces if f in rules.ways), "")
    regular = None
    if not len(hard) and way != "free" and (not len(spots) or way == "regular"):
        regular = (
            fill_torus(patch, loops[0])
            or fill_mapped(loops[0])
            or _along_lattice(loops[0], turn)
            or fill_blocks(loops[0])
            or fill_disc(loops[0], size)
            if len(loops) == 1
            else fill_rings(loops[0], loops[1], size)
            if len(loops) == 2
            else None
        )
    flow = Flow(field_of(loops), size, rules.growth, spots)
    if regular is not None and (
        regular.worst > 0.0 if way == "regular" else regular.worst > 0.6 and _unrest(regular, loops, flow) < CALM_ROWS
    ):
        return regular
    alike = None
    if not len(hard) and not len(spots):
        alike, axes = _symmetric(loops, size, rules.growth)
        if regular is None and alike is not None and axes > 2 and alike.worst > SIGNED and alike.trias == 0:
            return alike
    try:
        free = fill(loops, size, rules.growth, hard, spots) if len(hard) or len(spots) else _filled(loops, size, rules.growth)
    except CannotFill:
        if regular is not None and regular.worst > 0:
            return regular
        raise
    if alike is not None and alike.worst > min(0.6, free.worst) and _unrest(alike, loops, flow) <= ALIKE * _unrest(free, loops, flow):
        free = alike
    return free if regular is None else _better(regular, free, loops, flow)


def _symmetric(loops: list[Floats], size: float, growth: float) -> tuple[FlatMesh | None, int]:
    """A mesh as symmetric as the border, where that can be, and the number of its mirror axes."""
    try:
        return fill_symmetric(loops, size, growth, lambda lot: _part(lot, size, growth, _filled))
    except CannotFill:
        return None, 0


def _filled(loops: list[Floats], size: float, growth: float) -> FlatMesh:
    """Free, with straight rows first where borders face each other, or in cells between many holes. Raises `CannotFill`."""
    made = []
    for way, surely in ((_in_cells, len(loops) > MANY), (_with_bands, True)):
        with contextlib.suppress(CannotFill):
            mesh = way(loops, size, growth)
            if mesh is not None and surely and mesh.worst > SIGNED and mesh.trias <= STRAY * len(mesh.elements):
                return mesh
            made += [mesh] if mesh is not None else []
    made.append(fill(loops, size, growth))
    return _calmest(_least_faults(made, loops, size), loops, size, growth)


def _with_bands(loops: list[Floats], size: float, growth: float) -> FlatMesh | None:
    return fill_with_bands(loops, size, lambda lot: _part(lot, size, growth, fill))


def _in_cells(loops: list[Floats], size: float, growth: float) -> FlatMesh | None:
    return fill_in_cells(loops, size, growth, lambda lot: _cell(lot, size, growth))


def _cell(lot: list[Floats], size: float, growth: float) -> FlatMesh:
    """A cell between holes: the calmest of what is regular, symmetric or free."""
    star = fill_star(lot[0]) if len(lot) == 1 else None
    made = [fill_mapped(lot[0]), fill_blocks(lot[0]), star] if len(lot) == 1 else []
    made += [_symmetric(lot, size, growth)[0], fill(lot, size, growth)]
    sound = _least_faults([mesh for mesh in made if mesh is not None], lot, size)
    if star is not None and any(mesh is star for mesh in sound) and star.worst >= max(mesh.worst for mesh in sound) - EVEN:
        return star  # seen alike from all holes round it
    return _calmest(sound, lot, size, growth)


def _least_faults(made: list[FlatMesh], loops: list[Floats], size: float) -> list[FlatMesh]:
    """Those with hardly more faults than the best."""
    faults = [faults_of(mesh, loops, size) for mesh in made]
    return [mesh for mesh, count in zip(made, faults, strict=True) if count <= min(faults) + FEW]


def _calmest(made: list[FlatMesh], loops: list[Floats], size: float, growth: float) -> FlatMesh:
    flow = Flow(field_of(loops), size, growth, np.empty((0, 4)))
    return min(made, key=lambda mesh: _unrest(mesh, loops, flow))


def _part(lot: list[Floats], size: float, growth: float, filled: Callable[[list[Floats], float, float], FlatMesh]) -> FlatMesh:
    """Part of a region: regular where that is at least as good as what `filled` makes."""
    regular = fill_mapped(lot[0]) or fill_blocks(lot[0]) if len(lot) == 1 else None
    flow = Flow(field_of(lot), size, growth, np.empty((0, 4)))
    if regular is not None and regular.worst > 0.6 and _unrest(regular, lot, flow) < CALM_ROWS:
        return regular
    free = filled(lot, size, growth)
    return free if regular is None else _better(regular, free, lot, flow)


def _better(regular: FlatMesh, free: FlatMesh, loops: list[Floats], flow: Flow) -> FlatMesh:
    if regular.worst <= 0:
        return free
    if min(regular.worst, free.worst) > 0.6:
        return regular if _unrest(regular, loops, flow) <= _unrest(free, loops, flow) else free
    return regular if regular.worst >= free.worst else free


def _unrest(mesh: FlatMesh, loops: list[Floats], flow: Flow) -> float:
    """What an element of a flat mesh lacks on average, irregular nodes and trias counted in."""
    border = sum(len(loop) for loop in loops)
    used = np.bincount(mesh.elements[mesh.elements >= 0], minlength=len(mesh.points))
    odd = IRREGULAR * int((used[border:] != 4).sum()) + TRIA * mesh.trias
    return (float(flow.unease(mesh.points, mesh.elements).sum()) + odd) / len(mesh.elements)


def _along_lattice(loop: Floats, turn: NDArray[np.int64] | None) -> FlatMesh | None:
    """Rows between four sides whose corners the surface tells, or between the sides of a lattice."""
    if turn is None or len(turn) != len(loop):
        return None
    corners = np.flatnonzero(turn)
    if len(corners) == 4 and (turn[corners] == 1).all():
        return fill_mapped(loop, corners.tolist())
    return fill_lattice(loop, turn)
