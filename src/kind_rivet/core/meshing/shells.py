"""Shell mesh of one sheet: regions, shared edge nodes, washers, regular or free fill, back onto the faces."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Floats, project, same
from kind_rivet.core.geometry.loops import free_loops
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.kernels import side_by_side
from kind_rivet.core.meshing.bolt_circles import follow_bolts
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.meshing.detail import FIRST, TINY, Strip, narrow_strips, small_detail
from kind_rivet.core.meshing.divisions import fits, odd_regions, plan_divisions
from kind_rivet.core.meshing.facing import facing_shares
from kind_rivet.core.meshing.free.fill import CannotFill, FlatMesh, fill
from kind_rivet.core.meshing.free.flow import Flow, field_of
from kind_rivet.core.meshing.free.regular import IRREGULAR, TRIA
from kind_rivet.core.meshing.lattice import fill_lattice, node_turns
from kind_rivet.core.meshing.mapped import fill_blocks, fill_disc, fill_mapped, fill_rings, ring_quads
from kind_rivet.core.meshing.near_edges import facing_rings
from kind_rivet.core.meshing.necks import close_failed, close_touching, finer_near
from kind_rivet.core.meshing.patch import BorderEdge, Patch, lay_flat
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.sizes import along, spots_of
from kind_rivet.core.meshing.sizes import stations as spread
from kind_rivet.core.meshing.trias import in_trias, without_collapsed
from kind_rivet.core.meshing.washers import RoundHole, find_round_holes, ring_outlines

Ints = NDArray[np.int32]
VERTEX, EDGE, FACE = 1, 2, 3
HARD_POINT = -1  # in place of the number of a vertex
LITTLE = 0.25  # share of the size that is looked past where more would spoil a border
FINER = 1  # how often the divisions near a border that crosses itself are doubled
SLIT = 0.01  # how far, in sizes, both sides of a line inside a region are held apart while it is filled
CALM_ROWS = 0.25  # unease on average up to which a regular mesh is taken without trying the free one


@dataclass(frozen=True)
class SheetMesh:
    """Shells of one sheet.

    points : (n, 3); elements : (m, 4) trias end with −1
    on_kind, on_item : (n,) what each node sits on (VERTEX, EDGE, FACE) and its number in the sheet
    face : (m,) face of each element; ring : (m,) hole number of washer elements, else −1
    divisions : (e,) count along each edge; edge_nodes : nodes along each edge
    holes : the round holes with the rings that were made
    notes : what did not go as asked, in plain words
    kept_faces : faces that were not meshed because the earlier mesh of them stays
    kept_edges : edges whose nodes are where the earlier mesh had them
    """

    points: Floats
    elements: Ints
    on_kind: NDArray[np.uint8]
    on_item: Ints
    face: Ints
    ring: Ints
    divisions: NDArray[np.int64]
    edge_nodes: tuple[Ints, ...]
    holes: tuple[RoundHole, ...]
    notes: tuple[str, ...]
    kept_faces: frozenset[int] = frozenset()
    kept_edges: frozenset[int] = frozenset()


@dataclass(frozen=True)
class Kept:
    """What may stay from an earlier mesh of the same (or nearly the same) sheet.

    faces : faces whose geometry is as it was
    lines : edge → points (count + 1, 3) along it, in the edge's own sense, as they are now
    held : likewise, for edges whose nodes belong to a neighbour and stay whatever happens
    """

    faces: frozenset[int]
    lines: dict[int, Floats]
    held: dict[int, Floats] = field(default_factory=dict)


class _Builder:
    """Collects nodes and elements of all regions."""

    def __init__(self) -> None:
        self.points: list[Floats] = []
        self.kind: list[NDArray[np.uint8]] = []
        self.item: list[Ints] = []
        self.count = 0
        self.elements: list[Ints] = []
        self.face: list[Ints] = []
        self.ring: list[Ints] = []

    def nodes(self, points: Floats, kind: int, item: NDArray[np.int32] | int) -> Ints:
        first = self.count
        self.points.append(points)
        self.kind.append(np.full(len(points), kind, np.uint8))
        self.item.append(np.broadcast_to(np.asarray(item, np.int32), (len(points),)).copy())
        self.count += len(points)
        return np.arange(first, self.count, dtype=np.int32)

    def add(self, elements: Ints, face: Ints, ring: int) -> None:
        self.elements.append(elements.astype(np.int32))
        self.face.append(face.astype(np.int32))
        self.ring.append(np.full(len(elements), ring, np.int32))


def regions_of(shape: Shape) -> list[tuple[int, ...]]:
    """Faces that are meshed as one: those that a round hole across a bend belongs to; all others alone.

    Faces of one carrier stay apart: the line between them was drawn on purpose.
    """
    parent = list(range(len(shape.faces)))

    def root(f: int) -> int:
        while parent[f] != f:
            f = parent[f]
        return f

    for loop in free_loops(shape):
        carriers = [shape.edges[e].carrier for e in loop]
        faces = sorted({shape.edge_faces[e][0] for e in loop})
        turn = sum(Curve.through(shape.points[shape.edges[e].nodes], shape.edges[e].carrier).turning() for e in loop)
        closed_small = sum(shape.edge_length[e] for e in loop) < 0.3 * shape.diagonal
        first = shape.faces[faces[0]].carrier
        tolerance = 1e-6 * shape.diagonal
        bent = any(
            not same(first, shape.faces[f].carrier, shape.points[shape.facets[shape.facet_face == faces[0]]].reshape(-1, 3), tolerance)
            for f in faces[1:]
        )
        if len(faces) > 1 and bent and closed_small and all(c.kind in ("circle", "free") for c in carriers) and turn > 5.5:
            for f in faces[1:]:
                parent[root(f)] = root(faces[0])
    groups: dict[int, list[int]] = {}
    for f in range(len(shape.faces)):
        if shape.face_edges[f]:
            groups.setdefault(root(f), []).append(f)
    return [tuple(g) for g in groups.values()]


def mesh_sheet(shape: Shape, rules: ShellRules, hard: Floats | None = None, kept: Kept | None = None) -> SheetMesh:
    """Mesh every region of a sheet so that shared borders share nodes.

    `hard` (h, 3): points that become nodes. Regions of `kept` faces whose border counts
    come out as before are not meshed again; their borders keep their nodes. A region that cannot be meshed is left
    out and named in the notes. Raises `Refused` when the size makes no sense.
    """
    if not np.isfinite(rules.size) or rules.size <= 0:
        raise Refused(f"The element size must be a positive length, not {rules.size:g}.", "Give a size in document units.")
    notes: list[str] = []
    curves = [Curve.through(shape.points[edge.nodes], edge.carrier) for edge in shape.edges]
    patches: list[Patch | None] = []
    for faces in regions_of(shape):
        try:
            patches.append(lay_flat(shape, faces))
        except Refused as refused:
            if len(faces) > 1:  # meshed one by one instead
                patches.extend(lay_flat(shape, (f,)) for f in faces)
            else:
                patches.append(None)
                notes.append(str(refused))
    hard = np.empty((0, 3)) if hard is None else np.asarray(hard, float)
    close_touching(shape, patches, rules.size, notes)
    spared: set[int] = set()
    finer = 0
    while True:
        mesh, failed, past = _mesh_once(shape, curves, patches, rules, hard, kept, spared, list(notes))
        again: set[int] = set()
        for r, at in failed:  # what was looked past may be why a border crosses itself: first what lies near, then all of it
            mine = ({p.edge for loop in patches[r].loops for p in loop} & past) - spared  # type: ignore[union-attr]
            near = {e for e in mine if np.linalg.norm(curves[e].points - at, axis=1).min() < rules.size / 2}
            again |= near or mine
        if again and rules.look_past > LITTLE:
            rules = replace(rules, look_past=LITTLE)
        elif again:
            spared |= again
        elif close_failed(shape, patches, curves, failed, rules.size, notes):
            continue
        elif failed and finer < FINER:  # chords may cross where the curves do not
            finer += 1
            rules = replace(rules, divisions=dict(rules.divisions) | finer_near(patches, curves, failed, mesh.divisions, rules))
        else:
            break
    mesh = in_trias(mesh, rules.trias == "tria") if rules.trias else without_collapsed(mesh)
    if not len(mesh.elements) and not mesh.kept_faces:
        raise Refused("No face could be meshed.", " ".join(mesh.notes[:1]))
    return mesh


def _mesh_once(
    shape: Shape, curves: list[Curve], patches: list[Patch | None], rules: ShellRules, hard: Floats, kept: Kept | None, spared: set[int], notes: list[str]
) -> tuple[SheetMesh, list[tuple[int, Floats]], set[int]]:  # fmt: skip
    """One try: the mesh, regions that could not be filled and where, and the edges that were looked past (those `spared` are not)."""
    holes, circles = follow_bolts(shape, patches, find_round_holes(shape, patches, rules), rules)
    short = small_detail(shape, curves, patches, rules, spared)
    tiny = sum(all(short[e] for e in h.edges) for h in holes)
    holes = [h for h in holes if not all(short[e] for e in h.edges)]
    strips = narrow_strips(shape, curves, patches, short, rules, spared)
    count = plan_divisions(shape, curves, patches, holes, short, strips, rules, circles.counts)
    strips = [strip for strip in strips if fits(strip, count)]
    for r in odd_regions(patches, count):
        patch = patches[r]
        assert patch is not None
        notes.append(f"Face {patch.faces[0] + 1} has an odd number of border sides, all held by hand, so one tria stays.")
    build = _Builder()
    shift = {hole.edges[0]: hole.shift for hole in holes if hole.shift > 0} | circles.shifts
    staying, lines = _staying(shape, patches, strips, count, kept)
    facing = facing_rings(shape, patches, holes, count, curves, rules) | facing_shares(patches, count, curves, rules)
    edge_nodes, stations = _edge_nodes(shape, curves, count, shift, build, lines, rules, facing)
    _join_strips(shape, patches, strips, edge_nodes, build)
    passed = {strip.region for strip in strips} | staying
    hard_face = _nearest_face(shape, hard)
    begun = []
    for number, patch in enumerate(patches):
        if patch is not None and number not in passed:
            mine = np.isin(hard_face, patch.faces)
            region = _begin_region(patch, number, shape.edge_faces, curves, edge_nodes, stations, holes, rules, hard[mine], build)
            if region is not None:
                begun.append((number, region))
    failed = []
    for (number, region), filled in zip(begun, side_by_side(lambda r: _filled(r[1], rules), begun), strict=True):
        if isinstance(filled, CannotFill):
            x, y, z = at = region.patch.to_space(filled.at[None])[0][0]
            notes.append(f"Face {region.patch.faces[0] + 1} was left out: {filled} near ({x:.4g}, {y:.4g}, {z:.4g}).")
            failed.append((number, at))
        else:
            _end_region(region, filled, build)
    if strips:
        notes.append(
            f"{len(strips)} narrow strip{'s were' if len(strips) > 1 else ' was'} looked past: too narrow for elements of this size."
        )
    if tiny:
        width = TINY * rules.size
        notes.append(f"{tiny} hole{'s' if tiny > 1 else ''} smaller than {width:.3g} across {'were' if tiny > 1 else 'was'} looked past.")
    past = set(np.flatnonzero(count == 0).tolist()) | {p.edge for strip in strips for p in (*strip.first, *strip.second)}
    mesh = _compact(build, count, edge_nodes, holes, notes, set(lines))
    whole = frozenset(f for r in staying for f in patches[r].faces)  # type: ignore[union-attr]
    return replace(mesh, kept_faces=whole, kept_edges=frozenset(lines)), failed, past


def _staying(
    shape: Shape, patches: list[Patch | None], strips: list[Strip], count: NDArray[np.int64], kept: Kept | None
) -> tuple[set[int], dict[int, Floats]]:
    """Regions that need no new mesh, and the points along their border edges."""
    if kept is None:
        return set(), {}
    moved = {p.edge for strip in strips for p in (*strip.first, *strip.second)} | {e for strip in strips for e in strip.across}
    shrunk = {end for e, edge in enumerate(shape.edges) if count[e] == 0 for end in (int(edge.nodes[0]), int(edge.nodes[-1]))}
    same = {e for e, line in kept.lines.items() if len(line) == count[e] + 1 and e not in moved and count[e] > 0}
    same = {e for e in same if not {int(shape.edges[e].nodes[0]), int(shape.edges[e].nodes[-1])} & shrunk}
    staying = {
        r
        for r, patch in enumerate(patches)
        if patch is not None and set(patch.faces) <= kept.faces and all(p.edge in same for loop in patch.loops for p in loop)
    }
    border = {p.edge for r in staying for loop in patches[r].loops for p in loop}  # type: ignore[union-attr]
    taken = {e: line for e, line in kept.held.items() if len(line) == count[e] + 1 and e not in moved}
    return staying, {e: kept.lines[e] for e in border} | taken


def _compact(
    build: _Builder, count: NDArray[np.int64], edge_nodes: list[Ints], holes: list[RoundHole], notes: list[str], lines: set[int]
) -> SheetMesh:
    """Everything in flat arrays, without nodes that neither an element nor one of the kept `lines` uses."""
    elements = np.concatenate(build.elements) if build.elements else np.empty((0, 4), np.int32)
    if not build.points:
        build.nodes(np.empty((0, 3)), EDGE, 0)
    used = np.zeros(build.count, bool)
    for e in lines:
        used[edge_nodes[e]] = True
    used[elements[elements >= 0]] = True
    number = np.cumsum(used) - 1
    along = tuple(number[line[used[line]]].astype(np.int32) for line in edge_nodes)
    return SheetMesh(
        np.concatenate(build.points)[used],
        np.where(elements >= 0, number[np.maximum(elements, 0)], -1).astype(np.int32),
        np.concatenate(build.kind)[used],
        np.concatenate(build.item)[used],
        np.concatenate(build.face) if build.face else np.empty(0, np.int32),
        np.concatenate(build.ring) if build.ring else np.empty(0, np.int32),
        count,
        along,
        tuple(holes),
        tuple(notes),
    )


def _nearest_face(shape: Shape, points: Floats) -> NDArray[np.int64]:
    from kind_rivet.core.geometry.rays import FacetTree

    if not len(points):
        return np.empty(0, np.int64)
    facet, _, _ = FacetTree.over(shape.points, shape.facets).nearest(points)
    return shape.facet_face[facet].astype(np.int64)


def _edge_nodes(
    shape: Shape,
    curves: list[Curve],
    count: NDArray[np.int64],
    shift: dict[int, float],
    build: _Builder,
    lines: dict[int, Floats],
    rules: ShellRules,
    facing: dict[int, Floats],
) -> tuple[list[Ints], list[Floats]]:
    """Nodes along every edge, with their places along it; edges share the nodes at vertices.

    `facing`: shares of the length for edges that follow the side they face. An edge with no divisions is looked past: both its ends are one node.
    """
    rank: dict[int, float] = {}
    parent: dict[int, int] = {}
    for e, edge in enumerate(shape.edges):
        for end in (int(edge.nodes[0]), int(edge.nodes[-1])):
            parent.setdefault(end, end)
            # Of vertices that fall together the one where most and longest edges meet keeps its place.
            rank[end] = rank.get(end, 0.0) + (1.0 + min(curves[e].length, 1e6) * 1e-6 if count[e] else 0.0)

    def root(v: int) -> int:
        while parent[v] != v:
            v = parent[v]
        return v

    for e, edge in enumerate(shape.edges):
        if count[e] == 0:
            a, b = root(int(edge.nodes[0])), root(int(edge.nodes[-1]))
            if a != b:
                parent[b if rank[a] >= rank[b] else a] = a if rank[a] >= rank[b] else b
    at_vertex: dict[int, int] = {}
    nodes: list[Ints] = []
    stations: list[Floats] = []
    spot: dict[int, Floats] = {}  # vertices stay where the kept lines have them
    for e, line in lines.items():
        spot[int(shape.edges[e].nodes[0])], spot[int(shape.edges[e].nodes[-1])] = line[0], line[-1]
    for e, curve in enumerate(curves):
        if e in lines and shape.edges[e].closed:
            nodes.append(_closed_line(build, lines[e], e, at_vertex, root(int(shape.edges[e].nodes[0])), e in shift))
            stations.append(curve.station_of(lines[e]))
            continue
        if e in shift:  # a closed edge of its own: no node needs to lie at its end
            places = (shift[e] + np.linspace(0.0, curve.length, int(count[e]) + 1)) % curve.length
            round_ = build.nodes(curve.at(places[:-1]), EDGE, e)
            nodes.append(np.append(round_, round_[0]))
            stations.append(places)
            continue
        ends = []
        for end in (int(shape.edges[e].nodes[0]), int(shape.edges[e].nodes[-1])):
            keeper = root(end)
            if keeper not in at_vertex:
                at_vertex[keeper] = int(build.nodes(spot.get(keeper, shape.points[keeper])[None], VERTEX, keeper)[0])
            ends.append(at_vertex[keeper])
        if e in lines:
            inner = build.nodes(lines[e][1:-1], EDGE, e)
            nodes.append(np.concatenate(([ends[0]], inner, [ends[1]])).astype(np.int32))
            stations.append(curve.station_of(lines[e]))
            continue
        if e in facing:
            places = facing[e] * curve.length
        else:
            places = spread(curve, int(count[e]), along(curve, e, shape.edge_faces[e], rules), rules.grading.get(e))
        inner = build.nodes(curve.at(places[1:-1]), EDGE, e)
        nodes.append(np.concatenate(([ends[0]], inner, [ends[1]])).astype(np.int32) if count[e] else np.array(ends[:1], np.int32))
        stations.append(places)
    return nodes, stations


def _closed_line(build: _Builder, line: Floats, e: int, at_vertex: dict[int, int], vertex: int, loose: bool) -> Ints:
    """Nodes along a kept closed edge; `loose` when no node lies at its vertex."""
    if loose:
        round_ = build.nodes(line[:-1], EDGE, e)
        return np.append(round_, round_[0]).astype(np.int32)
    if vertex not in at_vertex:
        at_vertex[vertex] = int(build.nodes(line[:1], VERTEX, vertex)[0])
    inner = build.nodes(line[1:-1], EDGE, e)
    return np.concatenate(([at_vertex[vertex]], inner, [at_vertex[vertex]])).astype(np.int32)


def _join_strips(shape: Shape, patches: list[Patch | None], strips: list[Strip], edge_nodes: list[Ints], build: _Builder) -> None:
    """The two long sides of each looked-past strip become one row of nodes in its middle."""
    if not strips:
        return
    points = np.concatenate(build.points)
    parent = np.arange(build.count)
    held = np.zeros(build.count, bool)
    for strip in strips:
        if strip.holds:
            held[_side_nodes(strip.first if strip.holds == FIRST else strip.second, edge_nodes)] = True
    # Where the ends of a strip have shrunk to a node, it belongs on the row, not where one of the ends was.
    ends: dict[int, list[Floats]] = {}
    for strip in strips:
        sides = (strip.first, strip.second) if not strip.holds else (strip.first,) if strip.holds == FIRST else (strip.second,)
        for part in (p for side in sides for p in side):
            for k in (0, -1):
                ends.setdefault(int(edge_nodes[part.edge][k]), []).append(shape.points[shape.edges[part.edge].nodes[k]])
    for node, places in ends.items():
        points[node] = np.mean(places, axis=0)

    def root(v: int) -> int:
        while parent[v] != v:
            v = int(parent[v])
        return v

    for strip in strips:
        a, b = (_side_nodes(side, edge_nodes) for side in (strip.first, strip.second))
        for x, y in zip(a.tolist(), b[::-1].tolist(), strict=True):
            rx, ry = root(x), root(y)
            if rx != ry:
                parent[max(rx, ry)] = min(rx, ry)
    target = np.array([root(v) for v in range(build.count)])
    used = np.unique(
        np.concatenate([np.concatenate((_side_nodes(s.first, edge_nodes), _side_nodes(s.second, edge_nodes))) for s in strips])
    )
    moved = points.copy()
    for v in np.unique(target[used]):
        lot = used[target[used] == v]
        moved[v] = points[lot[held[lot]] if held[lot].any() else lot].mean(axis=0)
    for strip in strips:
        patch = patches[strip.region]
        assert patch is not None
        row = np.setdiff1d(target[_side_nodes(strip.first, edge_nodes)], target[held])
        moved[row] = project(shape.faces[patch.faces[0]].carrier, moved[row])
    at = 0
    for k, lot in enumerate(build.points):  # anew: some are the sheet's own points
        build.points[k] = moved[at : at + len(lot)]
        at += len(lot)
    for e in range(len(edge_nodes)):
        edge_nodes[e] = target[edge_nodes[e]].astype(np.int32)


def _side_nodes(side: tuple[BorderEdge, ...], edge_nodes: list[Ints]) -> Ints:
    """Nodes along one side of a region, both ends included."""
    lots = [edge_nodes[p.edge] if p.forward else edge_nodes[p.edge][::-1] for p in side]
    return np.concatenate([lot[:-1] for lot in lots] + [lots[-1][-1:]])


def _passage(patch: Patch, part: BorderEdge, curve: Curve, nodes: Ints, places: Floats) -> tuple[Ints, Floats]:
    """Mesh nodes (without the last) along a border passage and their places in the plane."""
    along = patch.flat[part.corners if part.forward else part.corners[::-1]]
    k, f = curve.segment(places)
    flat = along[k] * (1 - f)[:, None] + along[k + 1] * f[:, None]
    if curve.carrier.kind == "circle" or curve.turning() > 0.05:
        flat = _bowed(along, curve, k, f)
    if not part.forward:
        nodes, flat = nodes[::-1], flat[::-1]
    return nodes[:-1], flat[:-1]


def _vertex_places(patch: Patch, edge_nodes: list[Ints], build: _Builder) -> dict[int, Floats]:
    """Places (k, 2) in the plane of mesh nodes that stand for looked-past edges: more than one where the region is cut."""
    shrunk = [part for loop in patch.loops for part in loop if len(edge_nodes[part.edge]) == 1]
    if not shrunk:
        return {}
    points = np.concatenate(build.points)
    corners = np.unique(np.concatenate([[p.corners[0], p.corners[-1]] for loop in patch.loops for p in loop]))
    out: dict[int, Floats] = {}
    for part in shrunk:
        node = int(edge_nodes[part.edge][0])
        away = np.linalg.norm(patch.space[corners] - points[node], axis=1)
        here = away < 1e-9 * max(1.0, float(np.abs(points[node]).max()))
        if here.any():
            out[node] = patch.flat[corners[here]]
    return out


def _bowed(along: Floats, curve: Curve, k: NDArray[np.int64], f: Floats) -> Floats:
    """Places between the flat images of facet nodes on the smooth curve through them (exact in the plane up to third order)."""
    flat_curve = Curve(np.column_stack((along, np.zeros(len(along)))), curve.stations, type(curve.carrier)("free"))
    return flat_curve.at(curve.stations[k] + f * (curve.stations[k + 1] - curve.stations[k]))[:, :2]


@dataclass(frozen=True)
class _Region:
    """What is to be filled: border loops (nodes and places in the plane), points that become nodes, turns of the border."""

    patch: Patch
    nodes: list[Ints]
    flat: list[Floats]
    pins: list[int]
    inner: Floats
    hard: int
    turn: NDArray[np.int64] | None


def _begin_region(
    patch: Patch, number: int, joined: tuple[tuple[int, ...], ...], curves: list[Curve], edge_nodes: list[Ints], stations: list[Floats],
    holes: list[RoundHole], rules: ShellRules, hard: Floats, build: _Builder,
) -> _Region | None:  # fmt: skip
    """The border of a region, its rings made; None where it shrank to nothing."""
    loops_nodes: list[Ints] = []
    loops_flat: list[Floats] = []
    mine = {h.loop: k for k, h in enumerate(holes) if h.region == number}
    spot = _vertex_places(patch, edge_nodes, build)
    whole = node_turns(patch, [len(edge_nodes[p.edge]) - 1 for p in patch.loops[0]])
    pins: list[int] = []  # nodes of other walls that stand on a point of this one
    pins_flat: list[Floats] = []
    for index, loop in enumerate(patch.loops):
        parts = [_passage(patch, p, curves[p.edge], edge_nodes[p.edge], stations[p.edge]) for p in loop]
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
    return _Region(patch, loops_nodes, loops_flat, pins, inner, len(hard), whole)


def _filled(region: _Region, rules: ShellRules) -> FlatMesh | CannotFill:
    """The flat mesh of a region, or why there is none."""
    try:
        return _fill(region.patch, region.flat, region.inner, rules, region.turn)
    except CannotFill as trouble:
        return trouble


def _end_region(region: _Region, mesh: FlatMesh, build: _Builder) -> None:
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
    """Regular where that is at least as good, else free, or as forced for a face. Raises `CannotFill` where neither works.

    `turn`: whole quarter turns at the nodes of the outer loop, where it runs along two directions.
    """
    size, spots = rules.size_on(patch.faces), spots_of(patch, rules)
    way = next((rules.ways[f] for f in patch.faces if f in rules.ways), "")
    regular = None
    if not len(hard) and way != "free" and (not len(spots) or way == "regular"):
        regular = (
            fill_mapped(loops[0]) or _along_lattice(loops[0], turn) or fill_blocks(loops[0]) or fill_disc(loops[0], size)
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
    try:
        free = fill(loops, size, rules.growth, hard, spots)
    except CannotFill:
        if regular is not None and regular.worst > 0:
            return regular
        raise
    if regular is None or regular.worst <= 0:
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
