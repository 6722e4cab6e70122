"""Applying what was prepared on a body to its sheet: holes closed, faces split, edges looked past."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.document.changes import Split
from kind_rivet.core.document.document import Document
from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.faults import dihedral
from kind_rivet.core.geometry.recognise import recognise, recognise_edges
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.simplify import look_past
from kind_rivet.core.geometry.split import split_faces
from kind_rivet.core.meshing.patch import lay_flat
from kind_rivet.core.midsurface.fill_holes import close_holes
from kind_rivet.core.midsurface.sheet import Sheet


def working_shape(document: Document, key: int) -> Shape:
    """What preparing works on: the body's prepared sheet where there is one, else the body itself."""
    sheet = document.sheets.get(key)
    return sheet.shape if sheet is not None else document.body(key).shape


def prepared(document: Document, key: int, must: Split | None = None) -> tuple[Sheet, list[str]]:
    """The extracted sheet of a body with all its recipes applied, and what did not go.

    Raises what the split `must` is refused for.
    """
    sheet = document.raw_sheets[key]
    name = document.body(key).name
    notes: list[str] = []
    shape, thickness = sheet.shape, sheet.thickness
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
                thickness = np.concatenate((thickness, _of_new_faces(sheet, shape, count)))
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
        thickness = thickness[kept]
        if refused_faces:
            notes.append(f"{name}: {refused_faces} edges were not looked past: the region could not be laid flat.")
    return replace(sheet, shape=shape, thickness=thickness), notes


def _slack(sheet: Sheet) -> float:
    """How far an edge chosen on the solid may lie from the same edge on the sheet."""
    return 0.8 * float(np.max(sheet.thickness)) if len(sheet.thickness) and np.max(sheet.thickness) > 0 else 1e-4 * sheet.shape.diagonal


def _of_new_faces(sheet: Sheet, shape: Shape, first: int) -> Floats:
    """Thickness of faces `first` and up: that of the extracted sheet at their place."""
    from kind_rivet.core.geometry.rays import FacetTree

    places = np.array([shape.points[shape.facets[shape.facet_face == f][0]].mean(axis=0) for f in range(first, len(shape.faces))])
    if not len(places):
        return np.empty(0)
    facet, _, _ = FacetTree.over(sheet.shape.points, sheet.shape.facets).nearest(places)
    return np.asarray(sheet.thickness[sheet.shape.facet_face[facet]])


def _past(shape: Shape, edges: set[int], run_on: set[int]) -> tuple[Shape, NDArray[np.int64], int]:
    """Edges looked past where the regions that come of it can still be laid flat.

    In regions that cannot, edges are tried one by one, those with the least turn first.
    """
    joined, kept = look_past(shape, edges, run_on)
    bad: set[int] = set()
    for f, members in enumerate(_old_faces(shape, joined)):
        if len(members) > 1 and not _lies_flat(joined, f):
            bad |= members
    if not bad:
        return joined, kept, 0
    doubtful = sorted((e for e in edges - run_on if set(shape.edge_faces[e]) <= bad), key=lambda e: dihedral(shape, e))
    accepted = edges - set(doubtful)
    refused = 0
    for e in doubtful:
        trial, _ = look_past(shape, accepted | {e}, run_on)
        facet = int(np.flatnonzero(shape.facet_face == shape.edge_faces[e][0])[0])
        if _lies_flat(trial, int(trial.facet_face[facet])):
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


def _lies_flat(shape: Shape, face: int) -> bool:
    """Can the face be developed without folding or shrinking anything to less than a third?"""
    try:
        patch = lay_flat(shape, (face,))
    except Refused:
        return False
    a, b, c = (patch.flat[patch.facets[:, k]] for k in range(3))
    flat = ((b - a)[:, 0] * (c - a)[:, 1] - (b - a)[:, 1] * (c - a)[:, 0]) / 2
    true = shape.facet_area[shape.facet_face == face]
    large = true > 1e-6 * true.sum()
    if not (np.all(flat[large] > 0) and np.all(np.abs(np.log(flat[large] / true[large])) < np.log(3))):
        return False
    return not _crosses_itself([np.concatenate([patch.flat[p.corners[:-1]] for p in loop]) for loop in patch.loops])


def _crosses_itself(loops: list[Floats]) -> bool:
    """Do sides of closed polygons in the plane cross or touch others that are not their neighbours?"""
    a = np.concatenate(loops)
    b = np.concatenate([np.roll(loop, -1, axis=0) for loop in loops])
    owner = np.concatenate([np.full(len(loop), k) for k, loop in enumerate(loops)])
    place = np.concatenate([np.arange(len(loop)) for loop in loops])
    count = np.array([len(loop) for loop in loops])[owner]

    def side(p: Floats, q: Floats, r: Floats) -> Floats:
        return np.asarray((q[..., 0] - p[..., 0]) * (r[..., 1] - p[..., 1]) - (q[..., 1] - p[..., 1]) * (r[..., 0] - p[..., 0]))

    for k in range(len(a)):
        rest = slice(k + 1, None)
        near = (owner[rest] == owner[k]) & np.isin((place[rest] - place[k]) % count[k], (0, 1, count[k] - 1))
        s1, s2 = side(a[k], b[k], a[rest]), side(a[k], b[k], b[rest])
        t1, t2 = side(a[rest], b[rest], a[k]), side(a[rest], b[rest], b[k])
        if np.any((s1 * s2 <= 0) & (t1 * t2 <= 0) & ((s1 != s2) | (t1 != t2)) & ~near):
            return True
    return False


def find_edges(shape: Shape, middles: Floats, lengths: Floats, slack: float) -> NDArray[np.int64]:
    """Edge (k,) nearest to each middle (k, 3) among those of about its length; −1 where none lies within `slack`."""
    places = edge_middles(shape)
    out = np.full(len(middles), -1, np.int64)
    for k, (middle, length) in enumerate(zip(middles, lengths, strict=True)):
        away = np.linalg.norm(places - middle, axis=1)
        away = np.where(np.abs(shape.edge_length - length) < 0.35 * length + 2 * slack, away, np.inf)
        best = int(np.argmin(away)) if len(away) else -1
        if best >= 0 and away[best] <= slack + 0.02 * length:
            out[k] = best
    return out


def edge_middles(shape: Shape) -> Floats:
    """The point (e, 3) halfway along each edge."""
    out = np.empty((len(shape.edges), 3))
    for e, edge in enumerate(shape.edges):
        p = shape.points[edge.nodes]
        s = np.concatenate(([0.0], np.cumsum(np.linalg.norm(np.diff(p, axis=0), axis=1))))
        out[e] = [np.interp(s[-1] / 2, s, p[:, k]) for k in range(3)]
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
    """Counts set by hand and live sets on faces of a body, moved to the numbers of its new sheet."""
    old = document.sheets.get(key)
    hand = document.choices.divisions.get(str(key), {})
    rules = [s for s in document.sets if s.rule is not None and s.rule.kind == "face" and s.rule.body == key]
    if old is None or not (hand or rules) or old.shape is sheet.shape:
        return document
    found = recognise(old.shape, sheet.shape)
    edges = recognise_edges(old.shape, sheet.shape, found.faces)
    divisions = dict(document.choices.divisions)
    if hand:
        divisions[str(key)] = {int(edges[e]): n for e, n in hand.items() if 0 <= e < len(edges) and edges[e] >= 0}
    sets = []
    for s in document.sets:
        if s in rules and s.rule is not None:
            number = int(found.faces[s.rule.number]) if 0 <= s.rule.number < len(found.faces) else -1
            s = replace(s, rule=replace(s.rule, number=number))
        sets.append(s)
    return replace(document, choices=replace(document.choices, divisions=divisions), sets=tuple(sets))
