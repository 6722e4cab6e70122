"""Mesh: what is asked of single edges, walls, holes and places beside the one size for all."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np
from pydantic import Field

from kind_rivet.core.document.document import Document, MeshChoices
from kind_rivet.core.errors import Refused
from kind_rivet.core.mesh.quadratic import with_mid_sides
from kind_rivet.core.meshing.rules import Grading, LocalSize, Triple, WasherAt, WasherRule
from kind_rivet.core.operations.chosen import sheet_with
from kind_rivet.core.operations.registry import Parameters, Progress, operation
from kind_rivet.core.operations.shells import mesh_again


def with_choices(document: Document, choices: MeshChoices, bodies: list[int], progress: Progress, note: str) -> Document:
    """The document with other choices; bodies that have shells already are meshed again."""
    changed = replace(document, choices=choices)
    meshed = [b for b in bodies if b in document.mesh_edges and b in document.sheets]
    if not meshed:
        return replace(changed, notes=(note,))
    made = mesh_again(changed, meshed, progress)
    return replace(made, notes=(f"{note} {made.notes[0]}", *made.notes[1:]))


class GradeEdges(Parameters):
    body: int
    edges: tuple[int, ...] = Field(title="Edges")
    towards: Literal["start", "end", "both ends", "middle"] = Field("both ends", title="Short sides towards")
    ratio: float = Field(3.0, ge=1, le=50, title="Longest over shortest", description="1 takes the grading back")


@operation("mesh.grade", "Grade edges", "mesh", GradeEdges)
def grade_edges(document: Document, parameters: GradeEdges, progress: Progress) -> Document:
    """Let the sides along edges grow from one end, both ends or the middle."""
    sheet_with(document, parameters.body, parameters.edges, "edge")
    grading = {k: dict(v) for k, v in document.choices.grading.items()}
    mine = grading.setdefault(str(parameters.body), {})
    for e in parameters.edges:
        if parameters.ratio > 1:
            mine[e] = Grading(parameters.towards, parameters.ratio)
        else:
            mine.pop(e, None)
    if not mine:
        del grading[str(parameters.body)]
    what = f"{len(parameters.edges)} edge{'s' if len(parameters.edges) > 1 else ''}"
    note = f"{what} graded {parameters.ratio:g} : 1 towards {parameters.towards}." if parameters.ratio > 1 else f"Even again: {what}."
    return with_choices(document, replace(document.choices, grading=grading), [parameters.body], progress, note)


class SizeOn(Parameters):
    body: int
    faces: tuple[int, ...] = Field((), title="Walls")
    edges: tuple[int, ...] = Field((), title="Edges")
    size: float = Field(gt=0, title="Size there", json_schema_extra={"unit": "length"})


@operation("mesh.size_on", "Size on walls or edges", "mesh", SizeOn)
def size_on(document: Document, parameters: SizeOn, progress: Progress) -> Document:
    """Give chosen walls or edges a size of their own; from there elements grow as the growth allows."""
    lots = [("faces", "face", parameters.faces), ("edges", "edge", parameters.edges)]
    if not parameters.faces and not parameters.edges:
        raise Refused("No wall and no edge is chosen.", "Choose walls or edges of the midsurface.")
    local = list(document.choices.local)
    for kind, word, items in lots:
        if not items:
            continue
        sheet_with(document, parameters.body, items, word)
        rest = []
        for c in local:
            if c.kind == kind and c.body == parameters.body:
                c = replace(c, items=tuple(i for i in c.items if i not in items))
            if c.kind in ("ball", "box") or c.items:
                rest.append(c)
        local = [*rest, LocalSize(parameters.size, kind, parameters.body, tuple(items))]
    _affordable(document, local)
    note = f"Size {parameters.size:g} {document.units} on {len(parameters.faces) + len(parameters.edges)} chosen."
    return with_choices(document, replace(document.choices, local=tuple(local)), [parameters.body], progress, note)


class SizeAround(Parameters):
    at: Triple = Field(title="Centre", description="Of the ball")
    radius: float = Field(gt=0, title="Radius", json_schema_extra={"unit": "length"})
    size: float = Field(gt=0, title="Size inside", json_schema_extra={"unit": "length"})


@operation("mesh.size_around", "Size round a point", "mesh", SizeAround)
def size_around(document: Document, parameters: SizeAround, progress: Progress) -> Document:
    """Give all shells inside a ball a size of their own."""
    place = LocalSize(parameters.size, "ball", low=parameters.at, radius=parameters.radius)
    return _in_place(document, place, progress)


class SizeInBox(Parameters):
    low: Triple = Field(title="Low corner")
    high: Triple = Field(title="High corner")
    size: float = Field(gt=0, title="Size inside", json_schema_extra={"unit": "length"})


@operation("mesh.size_in_box", "Size in a box", "mesh", SizeInBox)
def size_in_box(document: Document, parameters: SizeInBox, progress: Progress) -> Document:
    """Give all shells inside a box along the axes a size of their own."""
    low, high = np.minimum(parameters.low, parameters.high), np.maximum(parameters.low, parameters.high)
    place = LocalSize(parameters.size, "box", low=tuple(low.tolist()), high=tuple(high.tolist()))
    return _in_place(document, place, progress)


def _in_place(document: Document, place: LocalSize, progress: Progress) -> Document:
    local = [*document.choices.local, place]
    _affordable(document, local)
    note = f"Size {place.size:g} {document.units} in a {place.kind}."
    return with_choices(document, replace(document.choices, local=tuple(local)), list(document.mesh_edges), progress, note)


def _affordable(document: Document, local: list[LocalSize]) -> None:
    """Raises `Refused` when the sizes asked for would make millions of elements."""
    from kind_rivet.core.operations.shells import MOST_ELEMENTS

    total = sum(s.area for s in document.sheets.values())
    count = 0.0
    for c in local:
        if c.kind == "faces" and c.body in document.sheets:
            count += float(document.sheets[c.body].shape.face_area[list(c.items)].sum()) / c.size**2
        elif c.kind == "ball":
            count += min(total, 4 * np.pi * c.radius**2) / c.size**2
        elif c.kind == "box":
            count += min(total, 2 * float(np.prod(np.sort(np.subtract(c.high, c.low))[1:]))) / c.size**2
    if count > MOST_ELEMENTS:
        raise Refused(f"These sizes would make about {count:.2g} elements.", "Give a larger size or a smaller place.")


class MeshWay(Parameters):
    body: int
    faces: tuple[int, ...] = Field(title="Walls")
    way: Literal["as suits", "regular", "free"] = Field("regular", title="Mesh")


@operation("mesh.way", "Regular or free", "mesh", MeshWay)
def mesh_way(document: Document, parameters: MeshWay, progress: Progress) -> Document:
    """Force rows and columns, or a free mesh, on chosen walls; `as suits` leaves the choice to the mesher."""
    sheet_with(document, parameters.body, parameters.faces, "face")
    ways = {k: dict(v) for k, v in document.choices.ways.items()}
    mine = ways.setdefault(str(parameters.body), {})
    for f in parameters.faces:
        if parameters.way == "as suits":
            mine.pop(f, None)
        else:
            mine[f] = parameters.way
    if not mine:
        del ways[str(parameters.body)]
    note = f"{len(parameters.faces)} wall{'s' if len(parameters.faces) > 1 else ''}: {parameters.way}."
    return with_choices(document, replace(document.choices, ways=ways), [parameters.body], progress, note)


class WasherTable(Parameters):
    rules: tuple[tuple[float, float, int, float, int], ...] = Field(
        title="Rules", description="Each: diameter from, diameter below, rings, ring width in sizes (0: chosen), divisions (0: chosen)"
    )


@operation("mesh.washer_table", "Rings by diameter", "mesh", WasherTable)
def washer_table(document: Document, parameters: WasherTable, progress: Progress) -> Document:
    """Rings for holes, slots and D-shapes by their diameter (or width); the first rule that fits counts, holes without one get no ring."""
    rules = []
    for least, most, rings, width, divisions in parameters.rules:
        if not 0 <= least < most:
            raise Refused(f"A rule runs from diameter {least:g} to {most:g}.", "The second diameter must be the larger one.")
        if not 0 <= rings <= 4 or not 0 <= width <= 5:
            raise Refused(f"{rings} rings of width {width:g}.", "Ask for 0 to 4 rings, each at most 5 sizes wide.")
        rules.append(WasherRule(least, most if most < 1e9 else float("inf"), rings, width, _even(divisions)))
    note = f"{len(rules)} rules for rings round holes."
    return with_choices(document, replace(document.choices, washers=tuple(rules)), list(document.mesh_edges), progress, note)


class WasherOn(Parameters):
    holes: tuple[tuple[int, float, float, float], ...] = Field(title="Holes", description="Body and centre of each")
    rings: int = Field(1, ge=0, le=4, title="Rings")
    width: float = Field(0.0, ge=0, le=5, title="Ring width, sizes", description="0: chosen for the hole")
    divisions: int = Field(0, ge=0, le=400, title="Divisions", description="Even; 0: chosen for the hole")


@operation("mesh.washer", "Rings on these holes", "mesh", WasherOn)
def washer_on(document: Document, parameters: WasherOn, progress: Progress) -> Document:
    """Give chosen holes rings of their own, whatever the table says."""
    if not parameters.holes:
        raise Refused("No hole is chosen.", "Choose one or more holes.")
    rule = WasherRule(rings=parameters.rings, width=parameters.width, divisions=_even(parameters.divisions))
    kept = list(document.choices.washers_at)
    for body, *place in parameters.holes:
        found = min(document.mesh_holes.get(body, ()), key=lambda h: float(np.linalg.norm(np.subtract(h.centre, place))), default=None)
        if found is None or np.linalg.norm(np.subtract(found.centre, place)) > found.radius:
            raise Refused("There is no meshed hole at that place.", "Mesh the body first, then choose one of its holes.")
        kept = [w for w in kept if w.body != body or np.linalg.norm(np.subtract(w.centre, found.centre)) > 0.1 * found.radius]
        kept.append(WasherAt(body, found.centre, rule))
    note = f"{parameters.rings} ring{'' if parameters.rings == 1 else 's'} on {len(parameters.holes)} chosen hole{'s' if len(parameters.holes) > 1 else ''}."
    bodies = sorted({h[0] for h in parameters.holes})
    return with_choices(document, replace(document.choices, washers_at=tuple(kept)), bodies, progress, note)


def _even(divisions: int) -> int:
    if divisions % 2 or 0 < divisions < 4:
        raise Refused(f"A ring cannot have {divisions} divisions.", "Give an even number from 4, or 0 to have it chosen.")
    return divisions


class ForgetChoices(Parameters):
    what: Literal["divisions", "grading", "sizes", "rings", "regular or free"] = Field("divisions", title="Take back all")


@operation("mesh.forget", "Take mesh choices back", "mesh", ForgetChoices)
def forget_choices(document: Document, parameters: ForgetChoices, progress: Progress) -> Document:
    """Forget everything of one kind that was asked by hand; the bodies concerned are meshed again."""
    plain = MeshChoices()
    field = {"divisions": "divisions", "grading": "grading", "sizes": "local", "rings": "washers_at", "regular or free": "ways"}[
        parameters.what
    ]
    if getattr(document.choices, field) == getattr(plain, field) and not (
        field == "washers_at" and document.choices.washers != plain.washers
    ):
        raise Refused(f"There is nothing to take back: no {parameters.what} by hand.", "")
    choices = replace(document.choices, **{field: getattr(plain, field)})
    if field == "washers_at":
        choices = replace(choices, washers=plain.washers)
    return with_choices(document, choices, list(document.mesh_edges), progress, f"No {parameters.what} by hand any more.")


class MeshToQuality(Parameters):
    size: float = Field(0.0, ge=0, title="Size", description="0: the present one", json_schema_extra={"unit": "length"})
    index: float = Field(85.0, gt=0, le=100, title="Wanted index", description="And no element failing")
    span: float = Field(0.15, ge=0, le=0.5, title="Size may change by", description="As a share, to either side")
    tries: int = Field(7, ge=1, le=25, title="Tries")


@operation("mesh.to_quality", "Mesh to a wanted quality", "mesh", MeshToQuality)
def mesh_to_quality(document: Document, parameters: MeshToQuality, progress: Progress) -> Document:
    """Try sizes near the wanted one, nearest first, until no element fails and the index is reached; else the best is kept."""
    from kind_rivet.core.operations.shells import check_size

    wanted = parameters.size or document.choices.size
    if not wanted:
        raise Refused("No size has been chosen yet.", "Give a size.")
    keys = list(document.sheets)
    sizes = sorted(wanted * np.linspace(1 - parameters.span, 1 + parameters.span, parameters.tries), key=lambda s: abs(s - wanted))
    best: Document | None = None
    tried = 0
    for k, size in enumerate([wanted, *[s for s in sizes if abs(s - wanted) > 1e-9 * wanted]][: parameters.tries]):
        check_size(document, float(size))
        choices = replace(document.choices, size=float(f"{size:.4g}"))

        def part_of(share: float, what: str, k: int = k) -> None:
            progress((k + share) / parameters.tries, what)

        made = mesh_again(replace(document, choices=choices), keys, part_of, afresh=True)
        tried += 1
        if best is None or _better_quality(made, best):
            best = made
        if not len(made.quality.failing) and made.quality.mesh_index >= parameters.index:
            break
    assert best is not None
    reached = not len(best.quality.failing) and best.quality.mesh_index >= parameters.index
    note = f"Size {best.choices.size:g} of {tried} tried" + (" reaches it: " if reached else " comes nearest: ") + best.notes[0]
    return replace(best, notes=(note, *best.notes[1:]))


def _better_quality(new: Document, old: Document) -> bool:
    return (-len(new.quality.failing), new.quality.mesh_index) > (-len(old.quality.failing), old.quality.mesh_index)


class MidSideNodes(Parameters):
    quadratic: bool = Field(True, title="Mid-side nodes", description="Six and eight nodes per shell in the files handed over")


@operation("mesh.mid_sides", "Mid-side nodes", "mesh", MidSideNodes)
def mid_side_nodes(document: Document, parameters: MidSideNodes, progress: Progress) -> Document:
    """Hand shells over with mid-side nodes that lie on the geometry, or without."""
    changed = replace(document, choices=replace(document.choices, quadratic=parameters.quadratic))
    if not parameters.quadratic:
        return replace(changed, notes=("Shells are handed over with corner nodes only.",))
    if not document.mesh.is_shell.any():
        return replace(changed, notes=("Shells will be handed over with mid-side nodes.",))
    _, middles = with_mid_sides(document.mesh, {key: sheet.shape for key, sheet in document.meshed.items()})
    chord = document.mesh.points[middles.ends].mean(axis=1)
    bulge = float(np.linalg.norm(middles.points - chord, axis=1).max())
    note = f"{len(middles.ends)} mid-side nodes will be handed over; the farthest stands {bulge:.3g} {document.units} off its chord."
    left = (
        (f"{middles.straight} of them stay on the chord: the geometry is too strongly curved there for this size.",)
        if middles.straight
        else ()
    )
    return replace(changed, notes=(note, *left))
