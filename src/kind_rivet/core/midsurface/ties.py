"""Round walls that only touch another from outside, as a pipe that lies on a plate: a tie joins them where the solid does.

The middles of such walls lie less than their walls apart and never meet, so that the sheet would fall
into pieces. The tie is a strip from one middle to the other, along the line where they are nearest to
each other. It is as thick as the thinner wall, or the neck of the solid there where that is narrower still:
what it holds belongs to both walls already, and a strip as thick as most necks would add several percent to
the mass of the mesh, while one of the wall's own thickness is stiffer by far than as much of the wall, being so short.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Carrier, Floats, triple, unit
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.ruled import with_strip
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.split import split_faces
from kind_rivet.core.midsurface.remarks import Remark
from kind_rivet.core.midsurface.sheet import Sheet
from kind_rivet.core.midsurface.tangencies import PARALLEL, held_along

MOST = 40  # ties of one sheet
NEAR = 1e-6  # of the diagonal: middles nearer to each other touch
SLACK = 1e-4  # of the diagonal: an edge that ends so near to the end of a line ends there
ASIDE = 0.05  # walls beside a line at which a face is asked for
AS_GOOD = 0.15  # of the neck: an edge no farther from its line, as a seam may lie, is as good
NECKS = 9  # places between two middles at which the solid's width is measured
SHORT = 1.0  # walls: shorter contacts are left as they are


@dataclass(frozen=True)
class _Touch:
    """Two faces and the lines on them that are nearest to each other: a place (3,) on each, the direction of both and the way from the first to the second."""

    faces: tuple[int, int]
    places: tuple[Floats, Floats]
    axis: Floats
    way: Floats

    @property
    def neck(self) -> Floats:
        """A place (3,) on the line half-way between both."""
        return np.asarray((self.places[0] + self.places[1]) / 2)

    def is_like(self, other: _Touch, wall: float) -> bool:
        """Is it along the same line, as for the other half of a tube?"""
        off = self.neck - other.neck
        return bool(np.linalg.norm(np.cross(off, other.axis)) < ASIDE * wall and np.linalg.norm(np.cross(self.axis, other.axis)) < PARALLEL)


def tied(sheet: Sheet, solid: Shape, tree: FacetTree) -> tuple[Sheet, tuple[Remark, ...]]:
    """The sheet, not proved yet, with ties between walls of separate pieces that touch, and where they are."""
    piece, made = _piece_of(sheet.shape), 0
    known: list[_Touch] = []
    remarks: list[Remark] = []
    for touch in list(_touches(sheet, piece)) if piece.max(initial=0) > 0 else []:
        if made >= MOST or any(touch.is_like(other, float(sheet.thickness.min())) for other in known):
            continue
        known.append(touch)
        for low, high in _contacts(sheet, touch, solid, tree):
            after = _with_tie(sheet, touch, low, high, tree)
            if after is not None:
                sheet, made = after, made + 1
                corners = sheet.shape.points[sheet.shape.facets[sheet.shape.facet_face == len(sheet.shape.faces) - 1]]
                remarks.append(Remark("tie", triple(corners.reshape(-1, 3).mean(axis=0)), float(sheet.thickness[-1])))
    return sheet, tuple(remarks)


def _piece_of(shape: Shape) -> NDArray[np.int64]:
    """Which connected piece each face (f,) belongs to."""
    pairs = [(faces[0], g) for faces in shape.edge_faces for g in faces[1:]]
    n = len(shape.faces)
    a, b = np.array(pairs, int).reshape(-1, 2).T
    links = scipy.sparse.coo_matrix((np.ones(len(a)), (a, b)), shape=(n, n))
    return np.asarray(scipy.sparse.csgraph.connected_components(links, directed=False)[1])


def _touches(sheet: Sheet, piece: NDArray[np.int64]) -> Iterator[_Touch]:
    """Faces of separate pieces, a cylinder and a plane or two cylinders side by side, whose middles lie less than their walls apart."""
    faces = sheet.shape.faces
    for a, one in enumerate(faces):
        if one.carrier.kind != "cylinder":
            continue
        centre, axis, radius = one.carrier.array[:3], one.carrier.array[3:6], float(one.carrier.data[6])
        for b, other in enumerate(faces):
            d = other.carrier.array
            if piece[a] == piece[b] or sheet.taper(a) is not None or sheet.taper(b) is not None:
                continue
            if other.carrier.kind == "plane":
                height = float((centre - d[:3]) @ d[3:6])
                way, reach, beyond = -np.sign(height) * d[3:6], abs(height), 0.0
                if abs(float(axis @ d[3:6])) > PARALLEL:
                    continue
            elif other.carrier.kind == "cylinder" and a < b:
                away = d[:3] - centre
                away = away - (away @ axis) * axis
                way, reach, beyond = unit(away), float(np.linalg.norm(away)), float(d[6])
                if np.linalg.norm(np.cross(axis, d[3:6])) > PARALLEL:
                    continue
            else:
                continue
            gap = reach - radius - beyond
            if NEAR * sheet.shape.diagonal < gap < (sheet.thickness[a] + sheet.thickness[b]) / 2:
                yield _Touch((a, b), (centre + radius * way, centre + (reach - beyond) * way), axis, way)


def _contacts(sheet: Sheet, touch: _Touch, solid: Shape, tree: FacetTree) -> list[tuple[float, float]]:
    """The stretches, from the neck's place along its axis, on which the solid holds what lies between two walls."""
    ends, shape = [], sheet.shape
    for face in touch.faces:
        parts = [f for f, other in enumerate(shape.faces) if other.carrier == shape.faces[face].carrier]  # ties before may have cut it
        along = (shape.points[np.unique(shape.facets[np.isin(shape.facet_face, parts)])] - touch.neck) @ touch.axis
        ends.append((float(along.min()), float(along.max())))
    low, high = max(e[0] for e in ends), min(e[1] for e in ends)
    short = SHORT * float(min(sheet.thickness[f] for f in touch.faces))
    runs = held_along(touch.neck, touch.axis, low, high, solid, tree) if high - low > short else []
    return [(s, t) for s, t in runs if t - s > short]


def _with_tie(sheet: Sheet, touch: _Touch, low: float, high: float, tree: FacetTree) -> Sheet | None:
    """The sheet with a tie along one stretch of contact; None where a wall cannot be cut there."""
    axis, wall = touch.axis, float(min(sheet.thickness[f] for f in touch.faces))
    aside = unit(np.cross(axis, touch.way))
    between = np.linspace(-0.5, 0.5, 2 * NECKS + 1)[1::2, None] * (touch.places[1] - touch.places[0])
    across = touch.neck + (low + high) / 2 * axis + between
    sideways = np.broadcast_to(aside, across.shape)
    width = float((tree.cast(across, sideways)[0] + tree.cast(across, -sideways)[0]).min())
    lines = []
    for place, on in zip(touch.places, [sheet.shape.faces[f].carrier for f in touch.faces], strict=True):
        found = _line_on(sheet, on, place, axis, aside, low, high, ASIDE * wall, AS_GOOD * width)
        if found is None:
            return None
        sheet, edge = found
        lines.append(sheet.shape.edges[edge].nodes)
    shape = with_strip(sheet.shape, lines[0], lines[1])
    tapers = (*sheet.tapers, None) if sheet.tapers else ()
    return replace(sheet, shape=shape, thickness=np.append(sheet.thickness, min(width, wall)), tapers=tapers)


def _line_on(
    sheet: Sheet, on: Carrier, place: Floats, axis: Floats, aside: Floats, low: float, high: float, step: float, near: float
) -> tuple[Sheet, int] | None:
    """The sheet with an edge along a line from `low` to `high`, and its number: one that is there, or cut along the line and across its ends."""
    edge = _edge_along(sheet.shape, on, place, axis, low, high, near)
    if edge is not None:
        return sheet, edge
    middle = place + (low + high) / 2 * axis
    cuts = [(place, aside, middle + step * aside)]
    for end in (low, high):
        inward = np.sign((low + high) / 2 - end) * step
        cuts += [(place + end * axis, axis, place + (end + inward) * axis + sign * step * aside) for sign in (1.0, -1.0)]
    for origin, normal, at in cuts:
        sheet = _cut(sheet, origin, normal, at)
        edge = _edge_along(sheet.shape, on, place, axis, low, high, near)
        if edge is not None:
            return sheet, edge
    return None


def _cut(sheet: Sheet, origin: Floats, normal: Floats, at: Floats) -> Sheet:
    """The sheet with the face at a place cut by a plane; as it is where that does not divide it."""
    facet, _, _ = FacetTree.over(sheet.shape.points, sheet.shape.facets).nearest(at[None])
    face = int(sheet.shape.facet_face[facet[0]])
    try:
        shape, _ = split_faces(sheet.shape, "plane", (*origin, *normal), at)
    except Refused:
        return sheet
    more = len(shape.faces) - len(sheet.shape.faces)
    tapers = (*sheet.tapers, *[sheet.taper(face)] * more) if sheet.tapers else ()
    return replace(sheet, shape=shape, thickness=np.append(sheet.thickness, [sheet.thickness[face]] * more), tapers=tapers)


def _edge_along(shape: Shape, on: Carrier, place: Floats, axis: Floats, low: float, high: float, aside: float) -> int | None:
    """The edge of a wall `on` some carrier that runs along a line from `low` to `high`, or no farther `aside` of it."""
    slack = SLACK * shape.diagonal
    for e, edge in enumerate(shape.edges):
        if not any(shape.faces[f].carrier == on for f in shape.edge_faces[e]):
            continue
        off = shape.points[edge.nodes] - place
        along = off @ axis
        if np.linalg.norm(off - along[:, None] * axis, axis=1).max() > aside:
            continue
        if abs(along.min() - low) < slack and abs(along.max() - high) < slack:
            return e
    return None
