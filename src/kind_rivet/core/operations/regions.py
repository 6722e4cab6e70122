"""Prepare: edges that the mesh looks past, splits, hard points and curves. All are recipes that can be taken back."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from typing import Literal

import numpy as np
from pydantic import Field

from kind_rivet.core.document.changes import HardPoint, LeftOut, LookedPast, Split
from kind_rivet.core.document.document import Document
from kind_rivet.core.document.preparing import prepare_again, working_shape
from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Triple, triple, unit
from kind_rivet.core.geometry.faults import KINDS, Fault, dihedral, find_faults
from kind_rivet.core.geometry.places import edge_middles
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.split import split_faces
from kind_rivet.core.operations.holes import with_notes
from kind_rivet.core.operations.registry import Parameters, Progress, operation

SHARP = 0.5  # rad: more is a corner of the part, not a split line


def faults_of(document: Document, key: int, below: float = 0.4) -> tuple[Fault, ...]:
    """What would hurt the mesh of a body at the wanted size, on its sheet where there is one, else on the body."""
    shape = working_shape(document, key)
    body = document.body(key)
    if not len(shape.facets):
        return ()
    size = document.choices.size or shape.diagonal / 90
    left = {tuple(np.round(h.centre, 4)) for h in document.left_out if h.body == key}
    holes = tuple(h for h in body.holes if tuple(np.round(h.centre, 4)) not in left) if shape.solid else ()
    middles, known = edge_middles(shape), _known_edges(document, key)
    return tuple(
        f
        for f in find_faults(shape, size, holes, shape.solid, below)
        if f.remedy != "look past" or any(_name(middles[e]) not in known for e in f.edges)
    )


def _name(middle: np.ndarray) -> Triple:
    return triple(np.round(middle, 5))


def _known_edges(document: Document, key: int) -> set[Triple]:
    """Middles of the edges of a body that are looked past already: on a body without a sheet they are still there."""
    return {_name(np.array(p.middle)) for p in document.looked_past if p.body == key}


class FindFaults(Parameters):
    size: float = Field(0.0, ge=0, title="Wanted size", description="0: the document's", json_schema_extra={"unit": "length"})
    below: float = Field(0.4, gt=0, le=2, title="Narrower than, sizes")
    bodies: tuple[int, ...] = Field((), title="Bodies", description="Empty: all bodies")


@operation("prepare.find", "Find what would hurt the mesh", "prepare", FindFaults)
def find(document: Document, parameters: FindFaults, progress: Progress) -> Document:
    """Slivers, short edges, tiny faces, points close to edges, gaps, duplicate faces, small holes and blends at the wanted size, worst first."""
    if parameters.size > 0:
        document = replace(document, choices=replace(document.choices, size=parameters.size))
    found: list[Fault] = []
    for k, body in enumerate(document.bodies):
        if not parameters.bodies or body.key in parameters.bodies:
            progress(k / len(document.bodies), f"looking over {body.name}")
            found += [replace(f, body=body.key) for f in faults_of(document, body.key, parameters.below)]
    found.sort(key=lambda f: f.share)
    counts = {kind: sum(f.kind == kind for f in found) for kind in KINDS}
    words = ", ".join(f"{n} × {KINDS[kind]}" for kind, n in counts.items() if n)
    return replace(
        document, faults=tuple(found), notes=(f"Found {words}." if found else "Nothing found that would hurt the mesh at this size.",)
    )


# -- looking past ----------------------------------------------------------------
class LookPast(Parameters):
    body: int = Field(title="Body")
    edges: tuple[int, ...] = Field(title="Edges")


@operation("prepare.look_past", "Look past edges", "prepare", LookPast)
def look_past_edges(document: Document, parameters: LookPast, progress: Progress) -> Document:
    """Mesh the faces on both sides of chosen edges as one region; short border edges run on into their neighbour."""
    shape = working_shape(document, parameters.body)
    if not parameters.edges or any(not 0 <= e < len(shape.edges) for e in parameters.edges):
        raise Refused("No edge is chosen.", "Choose edges in the Stage first.")
    return _looking_past(document, {parameters.body: dict.fromkeys(parameters.edges, True)})


def _looking_past(document: Document, chosen: dict[int, dict[int, bool]]) -> Document:
    """Recipes for the chosen edges; each with whether its faces are to be joined."""
    new = []
    for key, edges in chosen.items():
        shape = working_shape(document, key)
        middles, known = edge_middles(shape), _known_edges(document, key)
        new += [
            LookedPast(key, triple(middles[e]), float(shape.edge_length[e]), join)
            for e, join in sorted(edges.items())
            if _name(middles[e]) not in known
        ]
    count = len(new)
    if not count:
        raise Refused("Nothing new was found to look past.", "Give a larger limit.")
    out = with_notes(replace(document, looked_past=(*document.looked_past, *new)), f"Looking past {count} edge{'s' if count > 1 else ''}.")
    walls = [(len(document.sheets[k].shape.faces), len(out.sheets[k].shape.faces)) for k in chosen if k in document.sheets]
    if walls:
        before_walls, after_walls = (sum(w[k] for w in walls) for k in (0, 1))
        out = replace(out, notes=(f"{out.notes[0]} {before_walls} walls became {after_walls} regions.", *out.notes[1:]))
    return out


def _past_edges(shape: Shape, faults: Iterable[Fault]) -> dict[int, bool]:
    """Edges that findings want looked past: across sharp turns a short edge only runs on, faces are not joined there."""
    out: dict[int, bool] = {}
    for fault in faults:
        if fault.remedy == "look past":
            for e in fault.edges:
                out[e] = fault.kind != "short edge" or dihedral(shape, e) < SHARP
    return out


class LookPastBy(Parameters):
    by: Literal["width", "angle"] = Field(
        "width", title="By", description="width: short edges and narrow faces; angle: edges where the surface hardly turns"
    )
    below: float = Field(2.0, gt=0, title="Below", description="Width in length units, or angle in degrees")
    bodies: tuple[int, ...] = Field((), title="Bodies", description="Empty: all bodies")


@operation("prepare.look_past_by", "Look past by width or angle", "prepare", LookPastBy)
def look_past_by(document: Document, parameters: LookPastBy, progress: Progress) -> Document:
    """Look past all edges of narrow faces and short edges below a width, or all edges where the surface turns less than an angle."""
    chosen: dict[int, dict[int, bool]] = {}
    for body in document.bodies:
        if parameters.bodies and body.key not in parameters.bodies:
            continue
        shape = working_shape(document, body.key)
        if not len(shape.facets):
            continue
        if parameters.by == "angle":
            limit = np.radians(parameters.below)
            hits = {
                e: True
                for e, beside in enumerate(shape.edge_faces)
                if len(beside) == 2 and beside[0] != beside[1] and dihedral(shape, e) < limit
            }
        else:
            hits = _past_edges(shape, find_faults(shape, parameters.below, (), False, below=1.0))
        if hits:
            chosen[body.key] = hits
    return _looking_past(document, chosen)


class GiveBack(Parameters):
    body: int = Field(title="Body")
    middles: tuple[Triple, ...] = Field(
        (), title="Edges", description="Points on the looked-past edges to give back; empty: all of the body"
    )


@operation("prepare.give_back", "Give edges back", "prepare", GiveBack)
def give_back(document: Document, parameters: GiveBack, progress: Progress) -> Document:
    """Stop looking past edges: the regions fall apart into their faces again."""
    mine = [p for p in document.looked_past if p.body == parameters.body]
    if not mine:
        raise Refused("No edge of this body is looked past.", "")
    gone = set()
    if parameters.middles:
        places = np.array([p.middle for p in mine])
        for middle in parameters.middles:
            away = np.linalg.norm(places - np.asarray(middle), axis=1)
            best = int(np.argmin(away))
            if away[best] > max(0.6 * mine[best].length, 1e-6):
                raise Refused("No looked-past edge lies there.", "Choose one from the list.")
            gone.add(id(mine[best]))
    else:
        gone = {id(p) for p in mine}
    kept = tuple(p for p in document.looked_past if id(p) not in gone)
    return with_notes(replace(document, looked_past=kept), f"Gave back {len(gone)} edge{'s' if len(gone) > 1 else ''}.", parameters.body)


class RemedyFaults(Parameters):
    kind: str = Field("", title="Kind", description="Which kind of finding; empty: all that can be looked past or left out")
    below: float = Field(0.4, gt=0, le=2, title="Narrower than, sizes")
    bodies: tuple[int, ...] = Field((), title="Bodies", description="Empty: all bodies")


@operation("prepare.remedy", "Look past all found", "prepare", RemedyFaults)
def remedy_faults(document: Document, parameters: RemedyFaults, progress: Progress) -> Document:
    """Apply the mesh-only remedy of every finding of a kind: slivers, tiny faces and short edges looked past, small holes left out."""
    if parameters.kind and parameters.kind not in KINDS:
        raise Refused(f"There is no kind of finding called {parameters.kind}.", f"Use one of {', '.join(KINDS)}.")
    chosen_bodies = [b for b in document.bodies if not parameters.bodies or b.key in parameters.bodies]

    def found(document: Document) -> dict[int, list[Fault]]:
        return {b.key: list(faults_of(document, b.key, parameters.below)) for b in chosen_bodies}

    before = len(document.looked_past) + len(document.left_out)
    faults = found(document)
    for _ in range(4):  # joining faces can bring short edges to light
        wanted = {k: [f for f in lot if f.kind == (parameters.kind or f.kind)] for k, lot in faults.items()}
        holes = [(b, b.holes[f.holes[0]]) for b in chosen_bodies for f in wanted[b.key] if f.remedy == "leave out"]
        edges = {k: _past_edges(working_shape(document, k), lot) for k, lot in wanted.items()}
        if not holes and not any(edges.values()):
            break
        left_out = tuple(LeftOut(b.key, h.centre, h.axis, h.diameter, False) for b, h in holes)
        document = replace(document, left_out=(*document.left_out, *left_out))
        document = _looking_past(document, edges) if any(edges.values()) else with_notes(document, "")
        faults = found(document)
    done = len(document.looked_past) + len(document.left_out) - before
    if not done:
        raise Refused("Nothing was found that could be looked past.", "Look at the other findings one by one.")
    left = tuple(replace(f, body=k) for k, lot in faults.items() for f in lot)
    return replace(document, faults=left, notes=(f"Looked past {done} findings, {len(left)} are left.", *document.notes[1:]))


# -- splitting ---------------------------------------------------------------------
def _walls_of(document: Document, key: int) -> Shape:
    """What preparing works on. Raises `Refused` for bodies without faces."""
    shape = working_shape(document, key)
    if not len(shape.facets):
        raise Refused(f"{document.body(key).name} has no faces.", "Choose a solid or a sheet.")
    return shape


def _split(document: Document, split: Split, what: str) -> Document:
    """The document with a split that is known to work on the present geometry."""
    shape = _walls_of(document, split.body)
    grown = replace(document, splits=(*document.splits, split))
    if split.body not in document.raw_sheets:  # to be done on the midsurface: see now that it can be
        split_faces(shape, split.way, split.measures, np.array(split.at))
        return replace(grown, notes=(f"{what}: noted, and drawn on the midsurface once there is one.",))
    ready, notes = prepare_again(grown, {split.body}, must=split)
    before, after = len(shape.faces), len(ready.sheets[split.body].shape.faces)
    return replace(ready, notes=(f"{what}: {before} walls became {after}.", *notes))


def _wall_at(shape: Shape, place: Triple) -> tuple[Triple, np.ndarray]:
    """The nearest point of the surface and its normal there."""
    facet, weight, _ = FacetTree.over(shape.points, shape.facets).nearest(np.asarray(place, float)[None])
    on = weight[0] @ shape.points[shape.facets[facet[0]]]
    return triple(on), unit(weight[0] @ shape.normals[facet[0]])


class SplitRing(Parameters):
    body: int = Field(title="Body")
    hole: Triple = Field(title="Hole", description="The hole's centre")
    distance: float = Field(5.0, ge=0, title="Distance", description="From the hole's border", json_schema_extra={"unit": "length"})
    factor: float = Field(0.0, ge=0, title="Factor of the diameter", description="Above 0: used instead of the distance")


@operation("prepare.split_ring", "Split with a ring round a hole", "prepare", SplitRing)
def split_ring(document: Document, parameters: SplitRing, progress: Progress) -> Document:
    """Split the wall round a hole at a distance from its border, or at a share of its diameter."""
    body = document.body(parameters.body)
    if not body.holes:
        raise Refused(f"{body.name} has no hole.", "Choose a body with holes.")
    hole = min(body.holes, key=lambda h: float(np.linalg.norm(np.subtract(h.centre, parameters.hole))))
    distance = parameters.factor * (hole.diameter or hole.width) if parameters.factor > 0 else parameters.distance
    split = Split(body.key, "ring", (*hole.centre, *hole.axis, distance), hole.centre, f"ring {distance:g}")
    return _split(document, split, f"Ring {distance:g} {document.units} round the hole")


class SplitLine(Parameters):
    body: int = Field(title="Body")
    start: Triple = Field(title="From")
    end: Triple = Field(title="To")


@operation("prepare.split_line", "Split with a line between two points", "prepare", SplitLine)
def split_line(document: Document, parameters: SplitLine, progress: Progress) -> Document:
    """Split a wall along the straight line between two points, prolonged to the borders."""
    shape = working_shape(document, parameters.body)
    middle = triple((np.array(parameters.start) + parameters.end) / 2)
    at, normal = _wall_at(shape, middle)
    return _split(document, Split(parameters.body, "segment", (*parameters.start, *parameters.end, *normal), at, "line"), "Line")


class SplitPerpendicular(Parameters):
    body: int = Field(title="Body")
    point: Triple = Field(title="From point")
    edge: int = Field(title="To edge")


@operation("prepare.split_perpendicular", "Split perpendicular to an edge", "prepare", SplitPerpendicular)
def split_perpendicular(document: Document, parameters: SplitPerpendicular, progress: Progress) -> Document:
    """Split a wall from a point straight to an edge, meeting it at a right angle."""
    shape = working_shape(document, parameters.body)
    if not 0 <= parameters.edge < len(shape.edges):
        raise Refused("No such edge.", "Choose an edge in the Stage.")
    p = shape.points[shape.edges[parameters.edge].nodes]
    point = np.array(parameters.point)
    along = np.diff(p, axis=0)
    t = np.clip(np.einsum("ij,ij->i", point - p[:-1], along) / np.maximum(np.einsum("ij,ij->i", along, along), 1e-300), 0, 1)
    feet = p[:-1] + t[:, None] * along
    foot = feet[int(np.argmin(np.linalg.norm(feet - point, axis=1)))]
    if np.linalg.norm(foot - point) < 1e-6 * shape.diagonal:
        raise Refused("The point lies on the edge already.", "Choose another point or edge.")
    at, normal = _wall_at(shape, triple((foot + point) / 2))
    return _split(document, Split(parameters.body, "segment", (*parameters.point, *foot, *normal), at, "perpendicular"), "Perpendicular")


class SplitPlane(Parameters):
    body: int = Field(title="Body")
    face: Triple = Field(title="Wall", description="A point on the wall")
    origin: Triple = Field(title="Plane through")
    normal: Triple = Field((1.0, 0.0, 0.0), title="Plane normal")


@operation("prepare.split_plane", "Split a wall with a plane", "prepare", SplitPlane)
def split_plane(document: Document, parameters: SplitPlane, progress: Progress) -> Document:
    """Split a wall where a plane crosses it."""
    if np.linalg.norm(parameters.normal) < 1e-12:
        raise Refused("The plane has no direction.", "Give a normal that is not zero.")
    at, _ = _wall_at(working_shape(document, parameters.body), parameters.face)
    return _split(document, Split(parameters.body, "plane", (*parameters.origin, *parameters.normal), at, "plane"), "Plane")


class SplitCircle(Parameters):
    body: int = Field(title="Body")
    centre: Triple = Field(title="Centre")
    radius: float = Field(10.0, gt=0, title="Radius", json_schema_extra={"unit": "length"})


@operation("prepare.split_circle", "Split a wall with a circle", "prepare", SplitCircle)
def split_circle(document: Document, parameters: SplitCircle, progress: Progress) -> Document:
    """Split a wall with a circle about a point on it."""
    at, normal = _wall_at(working_shape(document, parameters.body), parameters.centre)
    split = Split(parameters.body, "circle", (*at, *triple(normal), parameters.radius), at, f"circle {parameters.radius:g}")
    return _split(document, split, f"Circle of radius {parameters.radius:g} {document.units}")


class SplitCurve(Parameters):
    body: int = Field(title="Body")
    face: Triple = Field(title="Wall", description="A point on the wall")
    points: tuple[Triple, ...] = Field(min_length=2, title="Curve", description="Points of the curve")


@operation("prepare.split_curve", "Split a wall with a projected curve", "prepare", SplitCurve)
def split_curve(document: Document, parameters: SplitCurve, progress: Progress) -> Document:
    """Project a drawn curve onto a wall along the wall's normal, prolong it to the borders and split there."""
    at, normal = _wall_at(working_shape(document, parameters.body), parameters.face)
    points = np.asarray(parameters.points, float)
    split = Split(parameters.body, "curve", (*triple(normal), *points.ravel().tolist()), at, "curve")
    return _split(document, split, "Projected curve")


class TakeBackSplit(Parameters):
    number: int = Field(-1, title="Split", description="Which one, from 0; −1: the last")


@operation("prepare.take_back_split", "Take a split back", "prepare", TakeBackSplit)
def take_back_split(document: Document, parameters: TakeBackSplit, progress: Progress) -> Document:
    """Undo one split of a face, whenever it was made; later ones stay."""
    if not -len(document.splits) <= parameters.number < len(document.splits):
        raise Refused("There is no such split.", "Choose one from the list.")
    gone = document.splits[parameters.number]
    kept = tuple(s for s in document.splits if s is not gone)
    return with_notes(replace(document, splits=kept), f"Took back the {gone.label or gone.way} split.", gone.body)


# -- hard points and curves -----------------------------------------------------------
class AddHardPoints(Parameters):
    body: int = Field(title="Body")
    points: tuple[Triple, ...] = Field(min_length=1, title="Points", description="Projected onto the wall")


@operation("prepare.hard_points", "Hard points", "prepare", AddHardPoints)
def add_hard_points(document: Document, parameters: AddHardPoints, progress: Progress) -> Document:
    """Places where the mesh must have a node, projected onto the nearest wall; they stay when the face changes."""
    shape = _walls_of(document, parameters.body)
    facet, weight, away = FacetTree.over(shape.points, shape.facets).nearest(np.asarray(parameters.points, float))
    if float(np.max(away)) > 0.25 * shape.diagonal:
        raise Refused("The point lies far off the body.", "Choose a point on or near a wall.")
    on = np.einsum("ij,ijk->ik", weight, shape.points[shape.facets[facet]])
    new = tuple(HardPoint(parameters.body, triple(p)) for p in on)
    sentence = f"{len(new)} hard point{'s' if len(new) > 1 else ''}, up to {float(np.max(away)):.3g} {document.units} moved onto the wall."
    return replace(document, hard_points=(*document.hard_points, *new), notes=(sentence,))


class AddHardCurve(Parameters):
    body: int = Field(title="Body")
    points: tuple[Triple, ...] = Field(min_length=2, title="Curve", description="Points of the curve, projected onto the wall")


@operation("prepare.hard_curve", "Hard curve", "prepare", AddHardCurve)
def add_hard_curve(document: Document, parameters: AddHardCurve, progress: Progress) -> Document:
    """A line that the mesh must follow, projected onto the nearest wall and prolonged to its borders."""
    shape = _walls_of(document, parameters.body)
    points = np.asarray(parameters.points, float)
    at, normal = _wall_at(shape, triple(points.mean(axis=0)))
    split = Split(parameters.body, "curve", (*triple(normal), *points.ravel().tolist()), at, "hard curve")
    return _split(document, split, "Hard curve, prolonged to the borders")


class DropHard(Parameters):
    body: int = Field(title="Body")
    near: Triple = Field(title="Place")


@operation("prepare.drop_hard", "Let go of a hard point", "prepare", DropHard)
def drop_hard(document: Document, parameters: DropHard, progress: Progress) -> Document:
    """Let go of the hard point nearest to a place."""
    mine = [p for p in document.hard_points if p.body == parameters.body]
    if not mine:
        raise Refused("This body has no hard point.", "Hard curves are taken back with the splits.")
    gone = min(mine, key=lambda p: float(np.linalg.norm(np.subtract(p.place, parameters.near))))
    return replace(document, hard_points=tuple(p for p in document.hard_points if p is not gone), notes=("Let go of a hard point.",))
