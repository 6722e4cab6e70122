"""Shell mesh of one sheet: regions, shared edge nodes, washers, regular or free fill, back onto the faces."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.bend_cuts import cut_bends
from kind_rivet.core.meshing.bolt_circles import follow_bolts
from kind_rivet.core.meshing.border_nodes import join_strips, nodes_along
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.meshing.cut_sheet import CutSheet
from kind_rivet.core.meshing.detail import LITTLE, TINY, Strip, agree_across, narrow_strips, small_detail
from kind_rivet.core.meshing.divisions import fits, odd_regions, plan_divisions
from kind_rivet.core.meshing.facing import facing_shares
from kind_rivet.core.meshing.flat_cuts import cut_in_two
from kind_rivet.core.meshing.free.fill import CannotFill
from kind_rivet.core.meshing.free.refill import WORTH, Before
from kind_rivet.core.meshing.hard_edges import cut_at_hard, edges_at, held_at, on_walls
from kind_rivet.core.meshing.hole_patterns import follow_patterns
from kind_rivet.core.meshing.narrow_rings import rim_stations
from kind_rivet.core.meshing.near_edges import facing_rings, turned_to_lugs
from kind_rivet.core.meshing.necks import close_failed, close_touching, finer_near
from kind_rivet.core.meshing.one_region import regions_of
from kind_rivet.core.meshing.patch import Patch, lay_flat, lay_flat_or_none
from kind_rivet.core.meshing.radial_ends import radial_ends
from kind_rivet.core.meshing.regions import Answers, Region, begin_region, end_region
from kind_rivet.core.meshing.regions_alike import filled_regions
from kind_rivet.core.meshing.rib_ends import cut_at_ends
from kind_rivet.core.meshing.round_chains import in_step
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.shared_rings import with_shared_rings
from kind_rivet.core.meshing.sheet_mesh import EDGE, Builder, Ints, Kept, SheetMesh
from kind_rivet.core.meshing.trias import cut_at_steps, cut_at_tips, in_trias, inverted, without_collapsed, without_doubles, without_repeats
from kind_rivet.core.meshing.tube_cuts import cut_tubes
from kind_rivet.core.meshing.tube_sectors import cut_along_tubes
from kind_rivet.core.meshing.washers import RoundHole, find_round_holes

AT_HARD = 1e-7  # of the diagonal: a node nearer to a hard point than this lies on it
STRETCHED = 3.0  # times larger or smaller in the plane than in space: not laid flat but squashed
CUTS = 4  # how often faces that cannot be laid flat or filled are cut in two
LONG_BORDER = 100  # sides round a region from which it may be worth filling in places only
FINER = 1  # how often the divisions near a border that crosses itself are doubled


def mesh_sheet(shape: Shape, rules: ShellRules, hard: Floats | None = None, kept: Kept | None = None) -> SheetMesh:
    """Mesh every region of a sheet so that shared borders share nodes.

    `hard` (h, 3): points that become nodes. Regions of `kept` faces whose border counts
    come out as before are not meshed again; their borders keep their nodes. A region that cannot be meshed is left
    out and named in the notes. Raises `Refused` when the size makes no sense.
    """
    if not np.isfinite(rules.size) or rules.size <= 0:
        raise Refused(f"The element size must be a positive length, not {rules.size:g}.", "Give a size in document units.")
    held = kept.held if kept else ()
    wanted = np.empty((0, 3)) if hard is None else np.asarray(hard, float)
    sheet = cut_along_tubes(cut_tubes(cut_at_ends(shape, rules, held), rules, held), rules, held)
    sheet = cut_bends(sheet, rules, held)
    bare = [f for f, edges in enumerate(sheet.shape.face_edges) if not edges]
    sheet = cut_in_two(sheet, bare, held)
    answers: Answers = {}
    mesh, failed = _meshed(sheet, rules, wanted, kept, answers)
    for _ in range(CUTS):
        cut = cut_in_two(sheet, failed, {*held, *rules.grading, *rules.divisions}) if failed else sheet
        if cut is sheet:
            break
        tried, left = _meshed(cut, rules, wanted, kept, answers)
        if _area(cut.shape, left) > 0.99 * _area(sheet.shape, failed):
            break
        sheet, mesh, failed = cut, tried, left
    if not len(mesh.elements) and not mesh.kept_faces:
        raise Refused("No face could be meshed.", " ".join(mesh.notes[:1]))
    return mesh


def _area(shape: Shape, faces: list[int]) -> float:
    return float(shape.face_area[faces].sum()) if faces else 0.0


def _meshed(sheet: CutSheet, rules: ShellRules, wanted: Floats, kept: Kept | None, answers: Answers) -> tuple[SheetMesh, list[int]]:
    """The mesh of a sheet and the faces, as they are cut, that could not be laid flat or filled. `wanted` (h, 3): hard points."""
    notes: list[str] = []
    wanted = on_walls(sheet.shape, wanted, rules.size, notes)
    sheet, on_edges, hard = cut_at_hard(sheet, wanted, rules, kept.held if kept else (), notes)
    shape, rules, kept = sheet.shape, sheet.rules(rules), sheet.kept(kept)
    curves = [Curve.through(shape.points[edge.nodes], edge.carrier) for edge in shape.edges]
    patches: list[Patch | None] = []
    curled: list[int] = []
    for faces in regions_of(shape, rules.size):
        for lot in [faces] if len(faces) == 1 or lay_flat_or_none(shape, faces) else [(f,) for f in faces]:  # else one by one
            try:
                patch = lay_flat(shape, lot)
                patches.append(patch)
                if patch.rolled > STRETCHED:
                    curled += lot
            except Refused as refused:
                patches.append(None)
                notes.append(str(refused))
                curled += lot
    close_touching(shape, patches, rules.size, notes)
    spared = edges_at(shape, on_edges, AT_HARD * shape.diagonal)
    finer = 0
    while True:
        mesh, failed, past = _mesh_once(sheet, curves, patches, rules, hard, kept, spared, list(notes), answers)
        again: set[int] = set()
        for r, at in failed:  # what was looked past may be why a border crosses itself: first what lies near, then all of it
            mine = ({p.edge for loop in patches[r].loops for p in loop} & past) - spared  # type: ignore[union-attr]
            near = {e for e in mine if np.linalg.norm(curves[e].points - at, axis=1).min() < rules.size / 2}
            again |= near or mine
        if not failed and past - spared:  # nor may anything lie on its back where borders were moved together
            places = inverted(mesh)
            again = {e for e in past - spared for at in places if np.linalg.norm(curves[e].points - at, axis=1).min() < rules.size}
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
    mesh = without_repeats(mesh)
    mesh = in_trias(mesh, rules.trias == "tria") if rules.trias else cut_at_tips(cut_at_steps(without_collapsed(mesh), shape))
    mesh = without_doubles(mesh)
    bad = {f for r, _ in failed for f in patches[r].faces}  # type: ignore[union-attr]
    bent = [f for f in sorted({*curled, *bad}) if shape.faces[f].carrier.kind != "plane"]
    return held_at(sheet.mesh_of_whole(mesh), on_edges, AT_HARD * shape.diagonal), bent


def _mesh_once(
    sheet: CutSheet, curves: list[Curve], patches: list[Patch | None], rules: ShellRules, hard: Floats, kept: Kept | None, spared: set[int],
    notes: list[str], answers: Answers,
) -> tuple[SheetMesh, list[tuple[int, Floats]], set[int]]:  # fmt: skip
    """One try: the mesh, regions that could not be filled and where, and the edges that were looked past (those `spared` are not)."""
    shape = sheet.shape
    holes = follow_patterns(shape, patches, find_round_holes(shape, patches, rules), rules)
    holes, circles = follow_bolts(shape, patches, holes, rules)
    holes, circles = in_step(shape, patches, holes, circles, rules)
    holes, ends = radial_ends(shape, patches, holes, curves, rules, spared)
    holes = turned_to_lugs(shape, patches, holes, rules, ends.counts.keys())
    short = small_detail(shape, curves, patches, rules, spared | ends.counts.keys(), {e for h in holes if h.widths for e in h.edges})
    tiny = sum(all(short[e] for e in h.edges) for h in holes)
    holes = [h for h in holes if not all(short[e] for e in h.edges)]
    strips = narrow_strips(shape, curves, patches, short, rules, spared)
    holes = agree_across(holes, strips, rules)
    count = plan_divisions(shape, curves, patches, holes, short, strips, rules, circles.counts | ends.counts)
    strips = [strip for strip in strips if fits(strip, count)]
    for r in odd_regions(patches, count):
        patch = patches[r]
        assert patch is not None
        notes.append(
            f"Face {sheet.faces[patch.faces[0]] + 1} has an odd number of border sides, {_holding(patch, rules)}, so one tria stays."
        )
    build = Builder()
    turned, rims = rim_stations(shape, holes, count, curves, rules)
    shift = {hole.edges[0]: hole.shift for hole in holes if hole.shift > 0} | circles.shifts | turned
    staying, large, lines = _staying(shape, patches, strips, count, kept)
    facing = (
        facing_rings(shape, patches, holes, count, curves, rules) | facing_shares(patches, count, curves, rules) | rims | ends.along(count)
    )
    edge_nodes, stations = nodes_along(shape, curves, count, shift, build, lines, rules, facing, sheet.feet, ends.slid)
    join_strips(shape, patches, strips, edge_nodes, build)
    passed = {strip.region for strip in strips} | staying
    slid = ends.nodes(shape, edge_nodes)
    hard_face = _nearest_face(shape, hard)
    begun = []
    for number, patch in enumerate(patches):
        if patch is not None and number not in passed:
            mine = np.isin(hard_face, patch.faces)
            region = begin_region(patch, number, shape.edge_faces, curves, edge_nodes, stations, holes, rules, hard[mine], build, slid)
            if region is not None:
                begun.append((number, replace(region, before=_before(region, kept, lines, edge_nodes)) if number in large else region))
    failed = []
    for (number, region), filled in zip(begun, filled_regions([region for _, region in begun], rules, answers), strict=True):
        if isinstance(filled, CannotFill):
            x, y, z = at = region.patch.to_space(filled.at[None])[0][0]
            notes.append(f"Face {sheet.faces[region.patch.faces[0]] + 1} was left out: {filled} near ({x:.4g}, {y:.4g}, {z:.4g}).")
            failed.append((number, at))
        else:
            end_region(region, filled, build)
    if strips:
        notes.append(
            f"{len(strips)} narrow strip{'s were' if len(strips) > 1 else ' was'} looked past: too narrow for elements of this size."
        )
    if tiny:
        width = TINY * rules.size
        notes.append(f"{tiny} hole{'s' if tiny > 1 else ''} smaller than {width:.3g} across {'were' if tiny > 1 else 'was'} looked past.")
    past = set(np.flatnonzero(count == 0).tolist()) | {p.edge for strip in strips for p in (*strip.first, *strip.second)}
    mesh = with_shared_rings(_compact(build, count, edge_nodes, holes, notes, set(lines)))
    whole = frozenset(f for r in staying for f in patches[r].faces)  # type: ignore[union-attr]
    return replace(mesh, kept_faces=whole, kept_edges=frozenset(lines)), failed, past


def _holding(patch: Patch, rules: ShellRules) -> str:
    """What keeps the count of a region's border as it is, in words."""
    edges = sorted({p.edge for loop in patch.loops for p in loop})
    hand = [e for e in edges if e in rules.divisions]
    if not hand or len(hand) == len(edges):
        return "all held by hand" if hand else "held by its rings"
    return f"held by hand (edge {', '.join(str(e + 1) for e in hand)}) and by its rings"


def _staying(
    shape: Shape, patches: list[Patch | None], strips: list[Strip], count: NDArray[np.int64], kept: Kept | None
) -> tuple[set[int], set[int], dict[int, Floats]]:
    """Regions that need no new mesh, large ones that need it in places only, and the points along those of their border edges that are as before."""
    if kept is None:
        return set(), set(), {}
    moved = {p.edge for strip in strips for p in (*strip.first, *strip.second)} | {e for strip in strips for e in strip.across}
    same = {e for e, line in kept.lines.items() if len(line) == count[e] + 1 and e not in moved}
    newly = [e for e in range(len(shape.edges)) if count[e] == 0 and e not in same]
    shrunk = {end for e in newly for end in (int(shape.edges[e].nodes[0]), int(shape.edges[e].nodes[-1]))}
    same = {e for e in same if not {int(shape.edges[e].nodes[0]), int(shape.edges[e].nodes[-1])} & shrunk}
    staying = {
        r
        for r, patch in enumerate(patches)
        if patch is not None and set(patch.faces) <= kept.faces and all(p.edge in same for loop in patch.loops for p in loop)
    }
    large = {r for r, patch in enumerate(patches) if patch is not None and r not in staying and _is_large(patch, count, kept)}
    border = {p.edge for r in staying | large for loop in patches[r].loops for p in loop} & same  # type: ignore[union-attr]
    taken = {e: line for e, line in kept.held.items() if len(line) == count[e] + 1 and e not in moved}
    return staying, large, {e: kept.lines[e] for e in border} | taken


def _is_large(patch: Patch, count: NDArray[np.int64], kept: Kept) -> bool:
    """May a region be worth filling only in places? It is one face, as it was before, not round and without seams, and its border is long."""
    edges = [p.edge for loop in patch.loops for p in loop]
    whole = len(patch.faces) == 1 and patch.faces[0] in kept.faces and len(set(edges)) == len(edges) and kept.inner is not None
    return whole and patch.carriers[0].kind in ("plane", "free") and int(count[edges].sum()) > LONG_BORDER


def _before(region: Region, kept: Kept | None, lines: dict[int, Floats], edge_nodes: list[Ints]) -> Before | None:
    """What fills a region in the earlier mesh, laid flat, where that is enough to be worth keeping. `lines`: kept places along edges."""
    assert kept is not None and kept.inner is not None
    patch = region.patch
    points, elements = kept.inner(patch.faces[0])
    if len(elements) < WORTH:
        return None
    flat = patch.to_plane(points)
    # Nodes along bends lie a little off their edges; in the plane they lie on them.
    mine = [p.edge for loop in patch.loops for p in loop if p.edge in lines]
    place = {n: at for e in mine for n, at in zip(edge_nodes[e].tolist(), lines[e], strict=True)}
    for ids, border in zip(region.nodes, region.flat, strict=True):
        there = [k for k, n in enumerate(ids.tolist()) if n in place]
        if there:
            flat[scipy.spatial.cKDTree(points).query(np.array([place[int(n)] for n in ids[there]]))[1]] = border[there]
    return Before(flat, points, elements)


def _compact(
    build: Builder, count: NDArray[np.int64], edge_nodes: list[Ints], holes: list[RoundHole], notes: list[str], lines: set[int]
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
        settled=number[np.concatenate(build.settled or [np.empty(0, np.int32)])].astype(np.int32),
    )


def _nearest_face(shape: Shape, points: Floats) -> NDArray[np.int64]:
    from kind_rivet.core.geometry.rays import FacetTree

    if not len(points):
        return np.empty(0, np.int64)
    facet, _, _ = FacetTree.over(shape.points, shape.facets).nearest(points)
    return shape.facet_face[facet].astype(np.int64)
