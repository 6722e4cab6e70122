"""Applying what was prepared on a body to its sheet: holes closed, faces split, edges looked past."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.document.changes import Bridge, EdgeMove, Split
from kind_rivet.core.document.document import Document
from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.faults import dihedral
from kind_rivet.core.geometry.lead_on import moved_edge
from kind_rivet.core.geometry.places import find_edges
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.recognise import recognise, recognise_edges
from kind_rivet.core.geometry.ruled import bridged
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.simplify import look_past
from kind_rivet.core.geometry.split import split_faces
from kind_rivet.core.meshing.lies_flat import lies_flat
from kind_rivet.core.meshing.rules import LocalSize
from kind_rivet.core.midsurface.fill_holes import close_holes
from kind_rivet.core.midsurface.sheet import Sheet

T = TypeVar("T")
ON_OLD = 1e-3  # of the diagonal: how far a wall may lie off the one it was part of


def working_shape(document: Document, key: int) -> Shape:
    """What preparing works on: the body's prepared sheet where there is one, else the body itself."""
    sheet = document.sheets.get(key)
    return sheet.shape if sheet is not None else document.body(key).shape


def prepared(document: Document, key: int, must: Split | Bridge | EdgeMove | None = None) -> tuple[Sheet, list[str]]:
    """The extracted sheet of a body with all its recipes applied, and what did not go.

    Raises what the split, bridge or move `must` is refused for.
    """
    sheet = document.raw_sheets[key]
    name = document.body(key).name
    notes: list[str] = []
    shape, thickness, tapers = sheet.shape, sheet.thickness, tuple(sheet.taper(f) for f in range(len(sheet.thickness)))
    out = [h for h in document.left_out if h.body == key]
    if out:
        shape, _, missing = close_holes(
            shape, np.array([h.centre for h in out]), np.array([h.axis for h in out]), np.array([h.diameter for h in out])
        )
        notes += [f"{name}: the {out[m].diameter:g} {document.units} hole was not found on the midsurface and stays." for m in missing]
    for split in document.splits:
        if split.body == key:
            try:
                count = len(shape.faces)
                shape, _ = split_faces(shape, split.way, split.measures, np.array(split.at))
                origin = _of_new_faces(sheet, shape, count)
                thickness = np.concatenate((thickness, sheet.thickness[origin]))
                tapers = (*tapers, *(sheet.taper(f) for f in origin.tolist()))
            except Refused as refused:
                if split is must:
                    raise
                notes.append(f"{name}: the {split.label or split.way} split was not made. {refused.reason}")
    past = [p for p in document.looked_past if p.body == key]
    if past:
        edges = find_edges(shape, np.array([p.middle for p in past]), np.array([p.length for p in past]), slack=_slack(sheet))
        lost = int((edges < 0).sum())
        if lost:
            notes.append(f"{name}: {lost} looked-past edges were not found again.")
        run_on = {int(e) for e, p in zip(edges, past, strict=True) if e >= 0 and not p.join}
        shape, kept, refused_faces = _past(shape, {int(e) for e in edges if e >= 0}, run_on)
        thickness, tapers = thickness[kept], tuple(tapers[k] for k in kept.tolist())
        if refused_faces:
            notes.append(f"{name}: {refused_faces} edges were not looked past: the region could not be laid flat.")
    for bridge in document.bridges:
        if bridge.body == key:
            try:
                shape, wall = _bridged(shape, thickness, bridge, _slack(sheet))
                thickness, tapers = np.append(thickness, wall), (*tapers, None)
            except Refused as refused:
                if bridge is must:
                    raise
                notes.append(f"{name}: a bridge was not made. {refused.reason}")
    for move in document.moves:
        if move.body == key:
            try:
                shape, came_from = _with_edge_moved(shape, move, _slack(sheet))
                thickness, tapers = thickness[came_from], tuple(tapers[k] for k in came_from.tolist())
            except Refused as refused:
                if move is must:
                    raise
                notes.append(f"{name}: an edge was not moved. {refused.reason}")
    return replace(sheet, shape=shape, thickness=thickness, tapers=tapers if any(tapers) else ()), notes


def _bridged(shape: Shape, thickness: Floats, bridge: Bridge, slack: float) -> tuple[Shape, float]:
    """The sheet with a strip between two of its edges, as thick as its neighbours on average."""
    places = np.array([bridge.first, bridge.second])
    edges = find_edges(shape, places, np.array([bridge.first_length, bridge.second_length]), slack=slack)
    if (edges < 0).any():
        raise Refused("One of its edges was not found again.", "Choose the edges anew.")
    a, b = (int(e) for e in edges)
    wall = float(np.mean([thickness[shape.edge_faces[e][0]] for e in (a, b)]))
    return bridged(shape, a, b), wall


def _with_edge_moved(shape: Shape, move: EdgeMove, slack: float) -> tuple[Shape, NDArray[np.int64]]:
    """The sheet with a free edge moved to another wall, and the face that each of its faces came from."""
    edge = int(find_edges(shape, np.array([move.middle]), np.array([move.length]), slack=slack)[0])
    if edge < 0:
        raise Refused("The edge was not found again.", "Choose it anew.")
    facet, _, _ = FacetTree.over(shape.points, shape.facets).nearest(np.array([move.place]))
    return moved_edge(shape, edge, int(shape.facet_face[facet[0]]))


def _slack(sheet: Sheet) -> float:
    """How far an edge chosen on the solid may lie from the same edge on the sheet."""
    return 0.8 * float(np.max(sheet.thickness)) if len(sheet.thickness) and np.max(sheet.thickness) > 0 else 1e-4 * sheet.shape.diagonal


def _of_new_faces(sheet: Sheet, shape: Shape, first: int) -> NDArray[np.int64]:
    """The face of the extracted sheet at the place of each of the faces `first` and up."""
    places = np.array([shape.points[shape.facets[shape.facet_face == f][0]].mean(axis=0) for f in range(first, len(shape.faces))])
    if not len(places):
        return np.empty(0, np.int64)
    facet, _, _ = FacetTree.over(sheet.shape.points, sheet.shape.facets).nearest(places)
    return np.asarray(sheet.shape.facet_face[facet], np.int64)


def _past(shape: Shape, edges: set[int], run_on: set[int]) -> tuple[Shape, NDArray[np.int64], int]:
    """Edges looked past where the regions that come of it can still be laid flat.

    In regions that cannot, edges are tried one by one, those with the least turn first.
    """
    joined, kept = look_past(shape, edges, run_on)
    bad: set[int] = set()
    for f, members in enumerate(_old_faces(shape, joined)):
        if len(members) > 1 and not lies_flat(joined, f):
            bad |= members
    if not bad:
        return joined, kept, 0
    doubtful = sorted((e for e in edges - run_on if set(shape.edge_faces[e]) <= bad), key=lambda e: dihedral(shape, e))
    accepted = edges - set(doubtful)
    refused = 0
    for e in doubtful:
        trial, _ = look_past(shape, accepted | {e}, run_on)
        facet = int(np.flatnonzero(shape.facet_face == shape.edge_faces[e][0])[0])
        if lies_flat(trial, int(trial.facet_face[facet])):
            accepted.add(e)
        else:
            refused += 1
    joined, kept = look_past(shape, accepted, run_on)
    return joined, kept, refused


def _old_faces(shape: Shape, joined: Shape) -> list[set[int]]:
    out: list[set[int]] = [set() for _ in joined.faces]
    for new, old in set(zip(joined.facet_face.tolist(), shape.facet_face.tolist(), strict=True)):
        out[new].add(old)
    return out


def prepare_again(document: Document, keys: set[int] | None = None, must: Split | None = None) -> tuple[Document, list[str]]:
    """The document with the sheets of the given bodies (all) prepared anew from what was extracted."""
    sheets = dict(document.sheets)
    notes: list[str] = []
    for key in document.raw_sheets:
        if keys is None or key in keys:
            sheets[key], more = prepared(document, key, must)
            notes += more
            document = carried_over(document, key, sheets[key])
    return replace(document, sheets=sheets), notes


def carried_over(document: Document, key: int, sheet: Sheet) -> Document:
    """What was asked of edges and faces of a body (counts, grading, sizes, regular or free, live sets), moved to the numbers of its new sheet."""
    old = document.sheets.get(key)
    word, choices = str(key), document.choices
    rules = [s for s in document.sets if s.rule is not None and s.rule.kind == "face" and s.rule.body == key]
    local = [c for c in choices.local if c.kind in ("faces", "edges") and c.body == key]
    asked = word in choices.divisions or word in choices.grading or word in choices.ways
    if old is None or not (asked or rules or local) or old.shape is sheet.shape:
        return document
    found = recognise(old.shape, sheet.shape)
    edges = recognise_edges(old.shape, sheet.shape, found.faces)
    parts = _parts_of(old.shape, sheet.shape)

    def on_edges(table: Mapping[int, T]) -> dict[int, T]:
        return {int(edges[e]): n for e, n in table.items() if 0 <= e < len(edges) and edges[e] >= 0}

    def moved(c: LocalSize) -> LocalSize:
        if c.kind == "edges":
            return replace(c, items=tuple(sorted(on_edges(dict.fromkeys(c.items, True)))))
        return replace(c, items=tuple(sorted(f for item in c.items for f in parts.get(item, ()))))

    def with_mine(table: Mapping[str, Mapping[int, T]], move: Callable[[Mapping[int, T]], dict[int, T]]) -> Mapping[str, Mapping[int, T]]:
        return {**table, word: move(table[word])} if word in table else table

    def on_faces(table: Mapping[int, T]) -> dict[int, T]:
        return {f: value for face, value in table.items() for f in parts.get(face, ())}

    kept = [moved(c) if c in local else c for c in choices.local]
    sets = []
    for s in document.sets:
        if s in rules and s.rule is not None:
            number = int(found.faces[s.rule.number]) if 0 <= s.rule.number < len(found.faces) else -1
            s = replace(s, rule=replace(s.rule, number=number))
        sets.append(s)
    there = tuple(c for c in kept if c.items or c.kind not in ("faces", "edges"))
    choices = replace(
        choices, local=there, divisions=with_mine(choices.divisions, on_edges), grading=with_mine(choices.grading, on_edges),
        ways=with_mine(choices.ways, on_faces),
    )  # fmt: skip
    return replace(document, choices=choices, sets=tuple(sets))


def _parts_of(old: Shape, new: Shape) -> dict[int, list[int]]:
    """Old face → the new faces that lie on it: several where it was split, none where it is gone."""
    out: dict[int, list[int]] = {}
    if not len(old.facets) or not len(new.faces):
        return out
    largest = [
        mine[int(np.argmax(new.facet_area[mine]))] for f in range(len(new.faces)) if len(mine := np.flatnonzero(new.facet_face == f))
    ]
    places = new.points[new.facets[largest]].mean(axis=1)
    facet, _, away = FacetTree.over(old.points, old.facets).nearest(places)
    for k, t, off in zip(largest, facet.tolist(), np.asarray(away).tolist(), strict=True):
        if abs(off) < ON_OLD * old.diagonal:
            out.setdefault(int(old.facet_face[t]), []).append(int(new.facet_face[k]))
    return out
