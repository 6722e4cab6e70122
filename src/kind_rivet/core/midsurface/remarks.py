"""What an analyst should look at on a sheet: every place where it does not stand for its solid, in words, with where it is."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from kind_rivet.core.geometry.carriers import Floats, Triple, triple
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape

KINDS = {
    "unfinished": "stopped before it was done",
    "lump": "not thin",
    "bare": "not covered",
    "inner edge": "edge inside the solid",
    "piece": "separate piece",
    "unused face": "face not used",
    "tunnel": "hole along a wall",
    "lost": "wall not made",
    "tie": "tie between walls that touch",
}
FAR = 1.2  # walls from the sheet from which an uncovered place belongs to a lump, not to a corner


@dataclass(frozen=True)
class Remark:
    """One place: `faces` of the solid or `edges` of the sheet to show, `measure` a length that says how much (0: none)."""

    kind: str
    place: Triple
    measure: float = 0.0
    faces: tuple[int, ...] = ()
    edges: tuple[int, ...] = ()


def in_words(remarks: tuple[Remark, ...]) -> str:
    """How many remarks there are of each kind; faces not used and corners not covered are not worth a word."""
    kinds = [r.kind for r in remarks if r.kind not in ("unused face", "bare")]
    return ", ".join(f"{kinds.count(k)} × {words}" for k, words in KINDS.items() if k in kinds)


def remarks_on(
    solid: Shape,
    tree: FacetTree,
    sheet: Shape,
    thickness: Floats,
    inner: Floats,
    bare: Floats,
    off_by: Floats,
    unused: tuple[int, ...],
    tunnels: tuple[int, ...],
) -> tuple[Remark, ...]:
    """All remarks, gravest first.

    `inner` (e,) is the length of each sheet edge that is free inside the solid, `bare` (k, 3) places no wall covers, `off_by` (k,) walls from the next one.
    """
    out: list[Remark] = []
    if len(bare):
        _, _, depth = tree.nearest(bare)
        _, _, gap = FacetTree.over(sheet.points, sheet.facets).nearest(bare)
        for p, d, g, walls in zip(bare, depth, gap, off_by, strict=True):
            out.append(Remark("lump" if walls > FAR else "bare", triple(p), float(max(2 * d, g))))
    for e in np.flatnonzero(inner > 0.05 * float(thickness.min(initial=np.inf))).tolist():
        nodes = sheet.edges[e].nodes
        out.append(Remark("inner edge", triple(sheet.points[nodes[len(nodes) // 2]]), float(inner[e]), (), (e,)))
    out += [Remark("piece", triple(p), float(a)) for p, a in _small_pieces(sheet)]
    for kind, faces in (("tunnel", tunnels), ("unused face", unused)):
        for f in faces:
            mine = np.flatnonzero(solid.facet_face == f)
            if len(mine):
                largest = mine[int(np.argmax(solid.facet_area[mine]))]
                place = solid.points[solid.facets[largest]].mean(axis=0)
                out.append(Remark(kind, triple(place), float(np.sqrt(solid.face_area[f])), (f,)))
    order = list(KINDS)
    return tuple(sorted(out, key=lambda r: (order.index(r.kind), -r.measure)))


def _small_pieces(sheet: Shape) -> list[tuple[Floats, float]]:
    """A place on each piece but the largest, and its size."""

    if not len(sheet.facets):
        return []
    a, b = sheet.facets.ravel(), sheet.facets[:, [1, 2, 0]].ravel()
    n = len(sheet.points)
    _, label = scipy.sparse.csgraph.connected_components(scipy.sparse.coo_matrix((np.ones(len(a)), (a, b)), shape=(n, n)), directed=False)
    piece = label[sheet.facets[:, 0]]
    area = np.bincount(piece, sheet.facet_area)
    out = []
    for k in np.unique(piece):
        if k != np.argmax(area):
            first = np.flatnonzero(piece == k)[0]
            out.append((sheet.points[sheet.facets[first]].mean(axis=0), float(np.sqrt(area[k]))))
    return out
