"""The shells of one body, or of several joined ones, made on their own: so that several can be made side by side."""

from __future__ import annotations

import os
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.document.document import Document, shell_rules
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.weld import Welded, weld
from kind_rivet.core.guard import apart
from kind_rivet.core.mesh.mesh import Mesh
from kind_rivet.core.meshing.assemble import as_mesh, measure_thickness
from kind_rivet.core.meshing.reuse import Earlier, earlier_mesh, places_along, what_stays
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.sheet_mesh import EDGE, FACE, HARD_POINT, VERTEX, Kept, SheetMesh
from kind_rivet.core.meshing.shells import mesh_sheet
from kind_rivet.core.meshing.sizes import wanted_on
from kind_rivet.core.operations.registry import Progress
from kind_rivet.core.quality.index import judge
from kind_rivet.core.repair.holds import holds_of
from kind_rivet.core.repair.like_sizes import rings_of
from kind_rivet.core.repair.optimise import NEW, optimise

WORTH_APART = 4000  # elements from which bodies are meshed in processes of their own, side by side
LONGEST = 3600.0  # seconds for one of them


@dataclass(frozen=True)
class Made:
    """Shells of a lot of bodies, not yet in the document: `mesh.part` counts within the lot.

    welded : the lot's sheets as one, where there are several; earlier : the mesh some of whose regions stay
    """

    lot: tuple[int, ...]
    shells: SheetMesh
    mesh: Mesh
    welded: Welded | None
    earlier: Earlier | None


def make_lot(document: Document, lot: tuple[int, ...], smooth: bool, afresh: bool, lines: dict[int, NDArray[np.int32]]) -> Made:
    """Mesh one body, or several that share their borders. `lines`: node numbers of neighbours along edges of a single body."""
    size = document.choices.size
    sheets = [document.sheets[k] for k in lot]
    welded = weld([s.shape for s in sheets], 1e-7 * max(s.shape.diagonal for s in sheets)) if len(lot) > 1 else None
    shape = welded.shape if welded else sheets[0].shape
    rules = _rules_of(document, lot, welded)
    hard = [h.centre for h in document.left_out if h.body in lot and h.hard_point] + [
        h.place for h in document.hard_points if h.body in lot
    ]
    points = np.array(hard).reshape(-1, 3)
    earlier = None if afresh or welded or lines else _earlier(document, lot[0])
    kept = None
    if earlier:
        kept = what_stays(document.mesh, shape, lot[0], earlier, document.mesh_holes.get(lot[0], ()))
        kept = replace(kept, faces=_without_hard(kept.faces, shape, document, lot[0], points))
    if lines:
        kept = Kept(frozenset(), {}, places_along(document.mesh, shape, lines))
        rules = replace(rules, divisions=dict(rules.divisions) | {e: len(line) - 1 for e, line in lines.items()})

    def made_with(kept: Kept | None) -> tuple[SheetMesh, Mesh, NDArray[np.int32]]:
        """The shells, as a mesh too, and the walls on which some of them fail."""
        shells = mesh_sheet(shape, rules, points, kept)
        new = as_mesh(shells, shape, lot[0], 0, size, {**kept.lines, **kept.held} if kept else None)
        refined = bool(rules.face_size or rules.edge_size or rules.places)
        wanted = wanted_on(shape, new.centres(), new.face, rules) if refined else None
        if smooth:
            still = shells.still
            for e in rules.grading:  # spaced as asked for
                still[shells.edge_nodes[e]] = True
            held = holds_of(new, {lot[0]: shape}, still)
            rings = [k for k, hole in enumerate(shells.holes) if hole.widths and not rules.ring_width(hole.radius, hole.centre)]
            new = optimise(new, held, document.limit_sheet, size, wanted=wanted, given_up=NEW, rings=rings, straight=True).mesh
            shells = _with_widths(shells, new, rings)
        return shells, new, new.face[judge(new, document.limit_sheet, size, wanted).failing] if shells.kept_faces else np.empty(0, np.int32)

    shells, new, failing = made_with(kept)
    if kept is not None and len(failing) > _failed_before(document, lot[0], earlier, failing):
        # What stays may be in the way: the walls round those that fail are meshed again too.
        beside = {f for wall in set(failing.tolist()) for e in shape.face_edges[wall] for f in shape.edge_faces[e]}
        instead = made_with(kept.without(beside, shape))
        if len(instead[2]) < len(failing):
            shells, new, failing = instead
    if welded:
        new = _shared_out(new, welded, lot)
    for key, sheet in zip(lot, sheets, strict=True):
        thickness, offset = measure_thickness(new, key, document.body(key).shape, sheet)
        new = replace(new, thickness=thickness, offset=offset)
    return Made(lot, shells, new, welded, earlier)


def _with_widths(shells: SheetMesh, mesh: Mesh, rings: list[int]) -> SheetMesh:
    """The shells with the widths that their rings (by number) have in the mesh, where these may have changed."""
    holes = list(shells.holes)
    for ring in rings_of(mesh.points, mesh.shells(), mesh.ring, rings):
        holes[ring.number] = replace(holes[ring.number], widths=(ring.width,))
    return replace(shells, holes=tuple(holes))


def _failed_before(document: Document, key: int, earlier: Earlier | None, failing: NDArray[np.int32]) -> int:
    """How many shells of a body failed in its earlier mesh, on the walls (by their present numbers) where some fail now."""
    if earlier is None or not len(failing):
        return 0
    now = set(failing.tolist())
    walls = [was for was, wall in earlier.face_map.items() if wall in now]
    old = document.quality.failing
    return int((np.isin(document.mesh.face[old], walls) & (document.mesh.body[old] == key)).sum())


def make_lots(document: Document, lots: list[tuple[int, ...]], progress: Progress, smooth: bool, afresh: bool) -> Iterator[Made]:
    """Mesh lots that know nothing of each other, as many at once as there are cores, each in a process of its own when that pays."""
    names = [document.body(lot[0]).name if len(lot) == 1 else f"{len(lot)} joined bodies" for lot in lots]
    expected = sum(document.sheets[k].area for lot in lots for k in lot) / document.choices.size**2
    if len(lots) < 2 or expected < WORTH_APART:
        for k, lot in enumerate(lots):
            progress(k / len(lots), f"meshing {names[k]}")
            yield make_lot(document, lot, smooth, afresh, {})
        return

    def of(k: int) -> Made:
        made: Made = apart(make_lot, (document, lots[k], smooth, afresh, {}), LONGEST, f"meshing {names[k]}", "Give a larger size.")
        return made

    progress(0.0, f"meshing {names[0]}")
    with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        for k, made in enumerate(pool.map(of, range(len(lots)))):
            progress((k + 1) / len(lots), f"meshed {names[k]}")
            yield made


def rules_word(document: Document, body: int) -> str:
    return f"{document.choices.size:g}|{document.choices.growth:g}|{document.choices.washers}{document.choices.beside_size(body)}"


def _earlier(document: Document, key: int) -> Earlier | None:
    """What there is of an earlier mesh made by the same rules; None when there is none."""
    old, new = document.meshed.get(key), document.sheets[key]
    if old is None or key not in document.mesh_edges or document.basis.get(f"rules:{key}") != rules_word(document, key):
        return None
    if not (document.mesh.body == key).any():
        return None
    return earlier_mesh(old.shape, new.shape, document.mesh_edges[key])


def _without_hard(faces: frozenset[int], shape: Shape, document: Document, key: int, points: NDArray[np.float64]) -> frozenset[int]:
    """Faces whose hard points are nodes already: the others must be meshed again."""
    mesh = document.mesh
    held = mesh.points[(mesh.on_body == key) & (mesh.on_kind == VERTEX) & (mesh.on_item == HARD_POINT)]
    touched: list[NDArray[np.float64]] = []
    for lot, other in ((points, held), (held, points)):
        for p in lot:
            if not len(other) or np.linalg.norm(other - p, axis=1).min() > 0.25 * document.choices.size:
                touched.append(p)
    if not touched:
        return faces
    facet, _, _ = FacetTree.over(shape.points, shape.facets).nearest(np.array(touched))
    return faces - {int(f) for f in shape.facet_face[facet]}


def _rules_of(document: Document, lot: tuple[int, ...], welded: Welded | None) -> ShellRules:
    """The mesher's rules for one body, or for several with their faces and edges numbered as in the welded sheet."""
    if welded is None:
        return shell_rules(document.choices, lot[0])
    rules = ShellRules(document.choices.size, document.choices.growth, washers=document.choices.washers, trias=document.choices.trias)
    for k, key in enumerate(lot):
        mine = shell_rules(document.choices, key)
        edge, face = welded.edges[k], welded.faces[k]
        rules = replace(
            rules, places=mine.places, washers_at=rules.washers_at + mine.washers_at,
            divisions=dict(rules.divisions) | {int(edge[e]): n for e, n in mine.divisions.items() if 0 <= e < len(edge)},
            grading=dict(rules.grading) | {int(edge[e]): g for e, g in mine.grading.items() if 0 <= e < len(edge)},
            edge_size=dict(rules.edge_size) | {int(edge[e]): v for e, v in mine.edge_size.items() if 0 <= e < len(edge)},
            face_size=dict(rules.face_size) | {int(face[f]): v for f, v in mine.face_size.items() if 0 <= f < len(face)},
            ways=dict(rules.ways) | {int(face[f]): w for f, w in mine.ways.items() if 0 <= f < len(face)},
        )  # fmt: skip
    return rules


def _shared_out(mesh: Mesh, welded: Welded, lot: tuple[int, ...]) -> Mesh:
    """Elements and nodes of a welded sheet given to the bodies they came from (common ones to the first)."""
    owner_face = np.full(len(welded.shape.faces), -1)
    local_face = np.zeros(len(welded.shape.faces), np.int32)
    owner_edge, local_edge = np.full(len(welded.shape.edges), -1), np.zeros(len(welded.shape.edges), np.int32)
    owner_point, local_point = np.full(len(welded.shape.points), -1), np.zeros(len(welded.shape.points), np.int32)
    tables = ((owner_face, local_face, welded.faces), (owner_edge, local_edge, welded.edges), (owner_point, local_point, welded.points))
    for owner, local, maps in tables:
        for k in range(len(lot) - 1, -1, -1):
            owner[maps[k]] = k
            local[maps[k]] = np.arange(len(maps[k]))
    keys = np.array(lot, np.int32)
    whose = owner_face[mesh.face]
    item, on = mesh.on_item.copy(), np.zeros(mesh.nodes, np.int64)
    for kind, owner, local in ((VERTEX, owner_point, local_point), (EDGE, owner_edge, local_edge), (FACE, owner_face, local_face)):
        mine = (mesh.on_kind == kind) & (mesh.on_item >= 0)
        on[mine], item[mine] = owner[mesh.on_item[mine]], local[mesh.on_item[mine]]
    return replace(
        mesh, body=keys[whose], part=whose.astype(np.int32), face=local_face[mesh.face].astype(np.int32), on_item=item, on_body=keys[on]
    )
