"""Prepare: changing bodies with the kernel. Every call runs apart, with a time limit; what fails is bisected and named."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
import scipy
from pydantic import Field

from kind_rivet.core.document.changes import HardPoint, Joint
from kind_rivet.core.document.document import Body, Document
from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Triple, triple
from kind_rivet.core.geometry.kernel import edits
from kind_rivet.core.geometry.kernel.edits import Piece
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.guard import BrokeDown, apart
from kind_rivet.core.operations.part import free_name, new_body, without_bodies
from kind_rivet.core.operations.registry import Parameters, Progress, operation

LIMIT = 20.0  # seconds one kernel call may take
BUDGET = 60.0  # seconds all attempts of one removal may take together


def with_kernel(function: Callable[..., Any], arguments: tuple[Any, ...], doing: str, limit: float = LIMIT) -> Any:
    """One kernel call apart from this process."""
    return apart(function, arguments, limit, doing, "Choose fewer faces at a time.")


def exact(document: Document, key: int) -> Body:
    """A body with kernel geometry. Raises `Refused` for facets."""
    body = document.body(key)
    if not len(body.brep):
        raise Refused(f"{body.name} is made of facets, which the kernel cannot change.", "Work on its mesh, or open it as STEP.")
    return body


def changed(document: Document, body: Body, piece: Piece) -> Document:
    """The document with a body's geometry replaced; what was made from it becomes stale."""
    new = new_body(document, body.name, piece.kind, piece.shape, piece.brep, body.colour, body.source, body.key)
    return replace(document, bodies=tuple(new if b.key == body.key else b for b in document.bodies))


# -- removing -------------------------------------------------------------------
class RemoveFaces(Parameters):
    body: int = Field(title="Body")
    faces: tuple[int, ...] = Field(title="Faces")


@operation("prepare.remove_faces", "Remove faces and close the gap", "prepare", RemoveFaces)
def remove_faces(document: Document, parameters: RemoveFaces, progress: Progress) -> Document:
    """Take holes, blends, bosses or other chosen faces off a solid and let its neighbours close the gap; the volume is guarded."""
    body = exact(document, parameters.body)
    features = _features(body, parameters.faces)
    if not features:
        raise Refused("No face is chosen.", "Choose the faces of a hole, blend or boss in the Stage.")
    out, removed, failed = _removed(document, body, features, progress)
    if not removed:
        raise Refused(
            f"None of the {len(failed)} features could be removed: {failed[0][1]}", "Choose all faces of one feature, or leave them."
        )
    before, after = body.shape.volume, out.body(body.key).shape.volume
    sentence = f"Removed {removed} feature{'s' if removed > 1 else ''} from {body.name}; its volume changed by {100 * (after / before - 1):+.2f} %."
    notes = [f"Faces {', '.join(str(f + 1) for f in faces)} stay: {reason}" for faces, reason in failed]
    return replace(out, notes=(sentence, *notes))


def _features(body: Body, faces: tuple[int, ...]) -> list[tuple[int, ...]]:
    """Chosen faces that hang together belong to one feature."""
    left = {f for f in faces if 0 <= f < len(body.shape.faces)}
    around: dict[int, set[int]] = {f: set() for f in left}
    for beside in body.shape.edge_faces:
        for f in beside:
            if f in around:
                around[f] |= set(beside) & left
    out = []
    while left:
        stack, group = [min(left)], set()
        while stack:
            f = stack.pop()
            if f not in group:
                group.add(f)
                stack += list(around[f] - group)
        out.append(tuple(sorted(group)))
        left -= group
    return out


def _removed(
    document: Document, body: Body, features: list[tuple[int, ...]], progress: Progress
) -> tuple[Document, int, list[tuple[tuple[int, ...], str]]]:
    """All features in one call; where that fails, halves, down to single ones, which are named."""
    places = {faces: [_place(body, f) for f in faces] for faces in features}
    failed: list[tuple[tuple[int, ...], str]] = []
    removed = 0
    until = time.monotonic() + BUDGET

    def attempt(document: Document, lot: list[tuple[int, ...]]) -> Document:
        nonlocal removed
        if time.monotonic() > until:
            failed.extend((faces, "the time ran out before it was tried.") for faces in lot)
            return document
        now = document.body(body.key)
        faces = tuple(sorted({_found(now, p) for faces in lot for p in places[faces]}))
        progress(removed / len(features), f"removing {len(lot)} features")
        try:
            piece = with_kernel(edits.remove_faces, (now.brep, faces), "removing faces")
            removed += len(lot)
            return changed(document, now, piece)
        except Refused as refused:
            if len(lot) == 1:
                failed.append((lot[0], refused.reason))
                return document
        half = len(lot) // 2
        return attempt(attempt(document, lot[:half]), lot[half:])

    return attempt(document, features), removed, failed


def _place(body: Body, face: int) -> tuple[np.ndarray, float]:
    mine = body.shape.facet_face == face
    return body.shape.points[body.shape.facets[mine]].mean(axis=(0, 1)), float(body.shape.face_area[face])


def _found(body: Body, place: tuple[np.ndarray, float]) -> int:
    """The face at a place: numbers change with every removal."""
    at, area = place
    middles = np.array([_place(body, f)[0] for f in range(len(body.shape.faces))])
    cost = np.linalg.norm(middles - at, axis=1) + np.abs(np.sqrt(body.shape.face_area) - np.sqrt(area))
    return int(np.argmin(cost))


class RemoveHoles(Parameters):
    below: float = Field(5.0, gt=0, title="Diameter below", json_schema_extra={"unit": "length"})
    bodies: tuple[int, ...] = Field((), title="Bodies", description="Empty: all solids")
    hard_points: bool = Field(False, title="Hard point at the centre", description="Leave a node at each hole's centre")


@operation("prepare.remove_holes", "Remove holes from solids", "prepare", RemoveHoles)
def remove_holes(document: Document, parameters: RemoveHoles, progress: Progress) -> Document:
    """Close all round holes below a diameter in the geometry itself, on wish leaving a hard point at each centre."""
    out, total, notes = document, 0, []
    hard: list[HardPoint] = []
    for body in document.bodies:
        if parameters.bodies and body.key not in parameters.bodies:
            continue
        holes = [h for h in body.holes if h.kind == "round" and h.diameter < parameters.below]
        if body.kind == "sheet" and holes and len(body.brep):
            out, count = _filled(out, body, holes)
        elif body.kind == "solid" and holes and len(body.brep):
            out, count, failed = _removed(out, body, [_enclosed(body, h.faces) for h in holes], progress)
            notes += [
                f"{body.name}: the hole with faces {', '.join(str(f + 1) for f in faces)} stays: {reason}" for faces, reason in failed
            ]
        else:
            continue
        total += count
        if parameters.hard_points and count:
            hard += [HardPoint(body.key, h.centre) for h in holes]
    if not total:
        raise Refused(
            f"No round hole below {parameters.below:g} {document.units} could be removed.", " ".join(notes[:1]) or "Give a larger diameter."
        )
    sentence = f"Removed {total} hole{'s' if total > 1 else ''} below {parameters.below:g} {document.units}."
    return replace(out, hard_points=(*out.hard_points, *hard), notes=(sentence, *notes))


def _enclosed(body: Body, faces: tuple[int, ...]) -> tuple[int, ...]:
    """The faces of a hole with those that only they surround: the bottoms of blind holes."""
    around: list[set[int]] = [set() for _ in body.shape.faces]
    for beside in body.shape.edge_faces:
        for f in beside:
            around[f] |= set(beside) - {f}
    inside = set(faces)
    while True:
        more = {f for f, near in enumerate(around) if f not in inside and near and near <= inside}
        if not more:
            return tuple(sorted(inside))
        inside |= more


def _filled(document: Document, body: Body, holes: list[Any]) -> tuple[Document, int]:
    edges = set()
    for hole in holes:
        for e, beside in enumerate(body.shape.edge_faces):
            if len(beside) == 1 and beside[0] in hole.faces:
                middle = body.shape.points[body.shape.edges[e].nodes].mean(axis=0)
                if np.linalg.norm(middle - hole.centre) < 0.6 * hole.diameter:
                    edges.add(e)
    piece = with_kernel(edits.fill_sheet_holes, (body.brep, tuple(sorted(edges))), "filling holes")
    return changed(document, body, piece), len(holes)


class RemoveBlends(Parameters):
    below: float = Field(2.0, gt=0, title="Radius below", json_schema_extra={"unit": "length"})
    bodies: tuple[int, ...] = Field((), title="Bodies", description="Empty: all solids")


@operation("prepare.remove_blends", "Remove small blends", "prepare", RemoveBlends)
def remove_blends(document: Document, parameters: RemoveBlends, progress: Progress) -> Document:
    """Take blends below a radius off solids, the neighbours meet in a sharp edge again; what cannot be closed stays and is named."""
    from kind_rivet.core.geometry.faults import find_faults

    out, total, notes = document, 0, []
    for body in document.bodies:
        if body.kind != "solid" or not len(body.brep) or (parameters.bodies and body.key not in parameters.bodies):
            continue
        faults = [f for f in find_faults(body.shape, 2 * parameters.below, (), True) if f.kind == "small blend"]
        features = _features(body, tuple(f for fault in faults for f in fault.faces))
        if features:
            out, count, failed = _removed(out, body, features, progress)
            total += count
            notes += [
                f"{body.name}: the blend with faces {', '.join(str(f + 1) for f in faces)} stays: {reason}" for faces, reason in failed
            ]
    if not total:
        raise Refused(
            f"No blend below {parameters.below:g} {document.units} could be removed.", " ".join(notes[:1]) or "Give a larger radius."
        )
    return replace(out, notes=(f"Removed {total} blend{'s' if total > 1 else ''} below {parameters.below:g} {document.units}.", *notes))


# -- splitting, sectors -------------------------------------------------------------
class SplitBody(Parameters):
    body: int = Field(title="Body")
    origin: Triple = Field((0.0, 0.0, 0.0), title="Plane through")
    normal: Triple = Field((1.0, 0.0, 0.0), title="Plane normal")
    face: int = Field(-1, title="Face", description="From 0: use this plane face, prolonged, instead of the plane")
    one_part: bool = Field(True, title="Pieces count as one", description="The pieces share their interface and are meshed together")


@operation("prepare.split_body", "Split a body", "prepare", SplitBody)
def split_body(document: Document, parameters: SplitBody, progress: Progress) -> Document:
    """Cut a body with a plane or a prolonged plane face into pieces that share their interface."""
    body = exact(document, parameters.body)
    if parameters.face >= 0:
        pieces = with_kernel(edits.split_by_face, (body.brep, parameters.face), "splitting the body")
    else:
        origin, normal = np.array(parameters.origin), np.array(parameters.normal)
        if np.linalg.norm(normal) < 1e-12:
            raise Refused("The plane has no direction.", "Give a normal that is not zero.")
        pieces = with_kernel(edits.split_body, (body.brep, body.kind, origin, normal), "splitting the body")
    out = without_bodies(document, {body.key})
    keys = []
    for k, piece in enumerate(pieces):
        new = new_body(
            out, free_name(out, f"{body.name} {chr(97 + k % 26)}"), piece.kind, piece.shape, piece.brep, body.colour, body.source
        )
        out = replace(out, bodies=(*out.bodies, new))
        keys.append(new.key)
    material = document.body_material.get(body.key)
    if material:
        out = replace(out, body_material=dict(out.body_material) | dict.fromkeys(keys, material))
    if parameters.one_part:
        out = replace(out, joined=(*out.joined, tuple(keys)))
    return replace(out, notes=(f"{body.name} fell into {len(pieces)} pieces.",))


class CutSector(Parameters):
    body: int = Field(title="Body")
    origin: Triple = Field((0.0, 0.0, 0.0), title="Axis or plane through")
    normal: Triple = Field((1.0, 0.0, 0.0), title="Keep this side", description="Normal of the first plane, towards what stays")
    normal_2: Triple = Field((0.0, 0.0, 0.0), title="And this side", description="Normal of a second plane; zero: none")


@operation("prepare.sector", "Cut to a sector", "prepare", CutSector)
def cut_sector(document: Document, parameters: CutSector, progress: Progress) -> Document:
    """Keep only what lies on one side of a plane, or between two planes: one half or one sector of a symmetric part."""
    body = exact(document, parameters.body)
    planes = [(np.array(parameters.origin), np.array(parameters.normal))]
    if np.linalg.norm(parameters.normal) < 1e-12:
        raise Refused("The plane has no direction.", "Give a normal that is not zero.")
    if np.linalg.norm(parameters.normal_2) > 1e-12:
        planes.append((np.array(parameters.origin), np.array(parameters.normal_2)))
    piece = with_kernel(edits.sector, (body.brep, body.kind, planes), "cutting the sector")
    out = changed(document, body, piece)
    share = out.body(body.key).shape.face_area.sum() / body.shape.face_area.sum()
    if body.shape.solid:
        share = out.body(body.key).shape.volume / body.shape.volume
    return replace(out, notes=(f"{100 * share:.1f} % of {body.name} stays.",))


# -- joining --------------------------------------------------------------------------
class Stitch(Parameters):
    bodies: tuple[int, ...] = Field(min_length=1, title="Sheets")
    tolerance: float = Field(0.1, gt=0, title="Tolerance", json_schema_extra={"unit": "length"})


@operation("prepare.stitch", "Stitch sheets", "prepare", Stitch)
def stitch(document: Document, parameters: Stitch, progress: Progress) -> Document:
    """Sew sheets along edges that lie within a tolerance; what closes becomes a solid, what stays apart is listed with its gap."""
    bodies = [exact(document, k) for k in parameters.bodies]
    if any(b.kind == "wire" for b in bodies):
        raise Refused("Wires cannot be stitched.", "Choose sheets.")
    size = max(b.shape.diagonal for b in bodies)
    if parameters.tolerance > 0.1 * size:
        raise Refused(
            f"A tolerance of {parameters.tolerance:g} {document.units} is not small against the sheets.",
            f"Give less than {0.1 * size:.3g}.",
        )
    free_before = sum(_free_edges(b.shape) for b in bodies)
    piece = with_kernel(edits.stitch, ([b.brep for b in bodies], parameters.tolerance), "stitching")
    if abs(piece.shape.face_area.sum() / sum(b.shape.face_area.sum() for b in bodies) - 1) > 0.02:
        raise Refused("Stitching would lose faces.", "Give a smaller tolerance.")
    out = without_bodies(document, {b.key for b in bodies[1:]})
    out = changed(out, bodies[0], piece)
    after = _free_edges(piece.shape)
    from kind_rivet.core.geometry.faults import find_faults

    gaps = [f for f in find_faults(piece.shape, 20 * parameters.tolerance, (), False, below=1.0) if f.kind == "gap"]
    notes = [
        f"A gap of {g.width:.3g} {document.units} stays near ({g.place[0]:.4g}, {g.place[1]:.4g}, {g.place[2]:.4g})." for g in gaps[:20]
    ]
    joints = tuple(Joint("gap", (bodies[0].key, bodies[0].key), g.width, g.place) for g in gaps)
    words = "closed to a solid" if piece.kind == "solid" else f"{after} free edges stay of {free_before}"
    return replace(
        out, joints=(*out.joints, *joints), notes=(f"Stitched {len(bodies)} sheet{'s' if len(bodies) > 1 else ''}: {words}.", *notes)
    )


def _free_edges(shape: Any) -> int:
    return sum(1 for beside in shape.edge_faces if len(beside) == 1)


class JoinBodies(Parameters):
    bodies: tuple[int, ...] = Field((), title="Bodies", description="Empty: all solids and sheets")
    tolerance: float = Field(0.01, gt=0, title="Tolerance", json_schema_extra={"unit": "length"})


@operation("prepare.join", "Share interfaces", "prepare", JoinBodies)
def join_bodies(document: Document, parameters: JoinBodies, progress: Progress) -> Document:
    """Make bodies that touch share faces and edges, so that their meshes share nodes; what stays apart is listed with its gap."""
    chosen = [exact(document, k) for k in parameters.bodies] or [b for b in document.bodies if b.kind in ("solid", "sheet") and len(b.brep)]
    if len(chosen) < 2:
        raise Refused("Joining needs two bodies or more.", "Choose them in Contents or in the Stage.")
    if parameters.tolerance > 0.1 * min(b.shape.diagonal for b in chosen):
        raise Refused(f"A tolerance of {parameters.tolerance:g} {document.units} is not small against the bodies.", "Give a smaller one.")
    progress(0.1, "sharing interfaces")
    arguments = ([(b.brep, b.kind) for b in chosen], parameters.tolerance)
    try:
        pieces = with_kernel(edits.share_interfaces, arguments, "sharing interfaces", 3 * LIMIT)
    except Refused as refused:
        raise Refused(f"{refused.reason}{_culprits(chosen, parameters.tolerance)}", refused.remedy) from None
    out = document
    for body, piece in zip(chosen, pieces, strict=True):
        out = changed(out, body, piece)
    touching, joints = _contacts([out.body(b.key) for b in chosen], 50 * parameters.tolerance)
    groups = _merged_groups(touching)
    names = {b.key: b.name for b in chosen}
    notes = [
        f"{names[j.bodies[0]]} and {names[j.bodies[1]]} stay apart by {j.width:.3g} {document.units}." for j in joints if j.kind == "gap"
    ]
    if not groups:
        raise Refused("None of these bodies touch.", " ".join(notes[:3]) or "Give a larger tolerance, or stitch or move them.")
    members = {k for g in groups for k in g}
    rest = tuple(g for g in document.joined if not set(g) & members)
    old = tuple(j for j in document.joints if not set(j.bodies) <= {b.key for b in chosen})
    count = sum(j.kind == "joined" for j in joints)
    sentence = f"{len(members)} bodies share their interfaces now, at {count} places."
    return replace(out, joined=(*rest, *groups), joints=(*old, *joints), notes=(sentence, *notes))


def _culprits(bodies: list[Body], tolerance: float) -> str:
    """Names of pairs that cannot be joined on their own."""
    bad = []
    for k, a in enumerate(bodies):
        for b in bodies[:k]:
            if np.any(a.shape.box[0] > b.shape.box[1] + tolerance) or np.any(b.shape.box[0] > a.shape.box[1] + tolerance):
                continue
            try:
                with_kernel(edits.share_interfaces, ([(b.brep, b.kind), (a.brep, a.kind)], tolerance), "sharing interfaces")
            except BrokeDown:
                bad.append(f"{b.name} and {a.name}")
            except Refused:
                bad.append(f"{b.name} and {a.name}")
    return f" It fails between {'; '.join(bad[:4])}." if bad and len(bodies) > 2 else ""


def _contacts(bodies: list[Body], reach: float) -> tuple[list[tuple[int, int]], list[Joint]]:
    """Pairs that share facet nodes, and pairs that come close without sharing any."""
    touching, joints = [], []
    for k, a in enumerate(bodies):
        for b in bodies[:k]:
            if np.any(a.shape.box[0] > b.shape.box[1] + reach) or np.any(b.shape.box[0] > a.shape.box[1] + reach):
                continue
            common = _common_points(a, b)
            if len(common) >= 2:
                touching.append((b.key, a.key))
                middle = common.mean(axis=0)
                joints.append(Joint("joined", (b.key, a.key), 0.0, triple(middle)))
                continue
            _, _, away = FacetTree.over(b.shape.points, b.shape.facets).nearest(a.shape.points)
            near = int(np.argmin(away))
            if away[near] < reach:
                p = a.shape.points[near]
                joints.append(Joint("gap", (b.key, a.key), float(away[near]), triple(p)))
    return touching, joints


def _common_points(a: Body, b: Body) -> np.ndarray:
    pairs = scipy.spatial.cKDTree(a.shape.points).query(
        b.shape.points, distance_upper_bound=1e-7 * max(a.shape.diagonal, b.shape.diagonal)
    )[0]
    return np.asarray(b.shape.points[np.isfinite(pairs)])


def _merged_groups(pairs: list[tuple[int, int]]) -> tuple[tuple[int, ...], ...]:
    groups: list[set[int]] = []
    for pair in pairs:
        hit = [g for g in groups if g & set(pair)]
        groups = [g for g in groups if not g & set(pair)] + [set(pair).union(*hit)]
    return tuple(tuple(sorted(g)) for g in groups)
