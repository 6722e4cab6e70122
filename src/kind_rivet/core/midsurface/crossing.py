"""Walls that meet, step and taper: every wall's middle is drawn, all middles are cut by one another, and the right pieces sewn.

1. Faces across a wall are found by balls that touch both (`pairs`).
2. Each wall gets the surface midway between its faces, exact where there is one (`middles`).
3. On each middle lines are drawn: where it leaves the solid, meets other middles, where
   bends begin and steps stand (`drawing`, `traces`).
4. The lines cut each middle into cells (`cells`), which are joined along shared lines (`network`).
5. A small exact optimisation keeps the cells that are wall and those that close the gaps (`choose`).
6. The kept cells are sewn to faces and shared edges (`sew`).

No boolean of the CAD kernel is needed, so nothing can hang.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Floats, Triple
from kind_rivet.core.geometry.orient import turned_alike
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.sampling import face_samples
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.simplify import edges_in_one, simplify, without_slits
from kind_rivet.core.midsurface.blends import rounding
from kind_rivet.core.midsurface.cells import cut_up
from kind_rivet.core.midsurface.choose import choose
from kind_rivet.core.midsurface.drawing import draw_lines, find_middles
from kind_rivet.core.midsurface.fields import CarrierField, face_field
from kind_rivet.core.midsurface.flaps import without_flaps
from kind_rivet.core.midsurface.hand import Hand, chosen_pairs, forced, led_on, without_dropped
from kind_rivet.core.midsurface.led_across import led_across
from kind_rivet.core.midsurface.led_through import grown_together, led_through
from kind_rivet.core.midsurface.middles import Middle
from kind_rivet.core.midsurface.network import connect
from kind_rivet.core.midsurface.noses import parted
from kind_rivet.core.midsurface.pairs import find_opposed, find_pairs
from kind_rivet.core.midsurface.prisms import prisms_in_one
from kind_rivet.core.midsurface.round_corners import round_corners, wall_round
from kind_rivet.core.midsurface.seams import move_cuts, turn_cuts
from kind_rivet.core.midsurface.sew import Sewn, sew
from kind_rivet.core.midsurface.sheet import Taper, Varying
from kind_rivet.core.midsurface.toes import without_toes
from kind_rivet.core.midsurface.tunnels import without_tunnels
from kind_rivet.core.midsurface.wound import unwound

SLIVER = 0.3  # walls: a sheet narrower than this stands for a corner whose inner and outer edges do not face each other

TAKEN = 64  # places at which the thickness of a tapering wall between curved sides is taken
VARIES = 0.1  # walls by which a freely curved one may differ and still counts as equally thick


@dataclass(frozen=True)
class Crossed:
    """A sheet sewn from crossing middles: thickness and taper of each face, the solid's faces that are sides, and holes filled.

    lost : places of faces of the sheet that could not be made
    slivers : the solid's faces beside walls that are far narrower than thick, between others: their sheets could meet without them
    wedges : those beside walls that vary between two exact sides with no exact surface amid them: others may be lost for what is but the wedge between a tube and a plate
    """

    shape: Shape
    thickness: Floats
    tapers: tuple[Taper | Varying | None, ...]
    sides: tuple[int, ...]
    tunnels: tuple[int, ...]
    lost: tuple[Triple, ...]
    slivers: frozenset[frozenset[int]]
    wedges: frozenset[frozenset[int]]


def make_by_crossing(
    solid: Shape,
    tree: FacetTree,
    hands: tuple[Hand, ...] = (),
    left_out: frozenset[frozenset[int]] = frozenset(),
    found: Callable[[Shape, list[Middle]], None] = lambda solid, middles: None,
    tubes: frozenset[int] = frozenset(),
) -> Crossed:
    """The sheet of a body whose walls meet, as decided by hand where it was. Raises `Refused` when no walls are found.

    `left_out`: walls, by the faces beside them, that are not made (`Crossed.slivers` and `Crossed.wedges` of an earlier sheet).
    `tubes`: faces that are taken as one tube where they are patches of one smooth skin that closes round on itself.
    `found` is told of the walls once they are known, with the solid their sides are faces of.
    """
    joined, _ = simplify(solid, blends=True, turning=np.pi, tubes=tubes)
    whole, of_joined = unwound(joined)
    if whole is not joined:
        tree = FacetTree.over(whole.points, whole.facets)
    whole, of_joined = parted(whole, tree, of_joined)
    tolerance = 1e-6 * whole.diagonal
    opposed = find_opposed(whole, tree)
    pairs = find_pairs(whole, opposed)
    plain, tunnels = without_tunnels(whole, {f for p in pairs if not p.narrow for f in (p.a, p.b)})
    if tunnels:
        whole, tree = plain, FacetTree.over(plain.points, plain.facets)
        opposed = find_opposed(whole, tree)
        pairs = find_pairs(whole, opposed)
    fields = led_through(prisms_in_one(whole, [face_field(whole, f) for f in range(len(whole.faces))]))
    thin = min((p.wall for p in pairs), default=0.0)
    blends = {f for f in range(len(whole.faces)) if whole.faces[f].carrier.kind == "free" and rounding(whole, f, thin)}
    fields = led_across(grown_together(fields, [(p.a, p.b) for p in pairs if not p.narrow], blends), pairs)
    pairs = chosen_pairs(whole, tree, opposed, pairs, fields, hands)
    if not pairs:
        raise Refused("No wall was found: nothing thin lies opposite anything.", "Mesh this body with solids.")
    middles = find_middles(whole, pairs, fields, tolerance)
    middles = without_dropped(whole, tree, [*middles, *round_corners(whole, middles, fields)], hands)
    middles = [m for m in middles if _beside(m) not in left_out]
    if not middles:
        raise Refused("No wall is left.", "Keep at least one, or take the body out.")
    turn_cuts(middles, whole)
    found(whole, middles)
    lines = draw_lines(whole, tree, middles, fields, tolerance, led_on(whole, tree, middles, hands))
    move_cuts(middles, lines, tree, whole)
    cuts = [cut_up(middle, k, lines, tree, whole) for k, middle in enumerate(middles)]
    network = connect(middles, cuts, lines)
    kept = choose(middles, cuts, network, lines, forced(middles, cuts, hands))
    sewn = sew(middles, cuts, network, lines, kept, tolerance)
    if not len(sewn.shape.faces):
        raise Refused("No wall was found that is wide for its thickness.", "Mesh this body with solids.")
    own = [middles[m] for m in sewn.face_middle]
    tapers = tuple(wall_round(m, sewn.shape, f, tree) or _taper(m) or _varying(sewn, f, m) for f, m in enumerate(own))
    used = {f for m in own for f in m.sides[0] | m.sides[1]}
    thickness = _thickness(sewn, own, tapers)
    sheet = without_flaps(edges_in_one(without_slits(turned_alike(sewn.shape))), thickness)
    return Crossed(
        without_toes(sheet, thickness),
        thickness,
        tapers,
        _before(solid, joined, {int(of_joined[f]) for f in used}),
        _before(solid, joined, {int(of_joined[f]) for f in tunnels}),
        sewn.lost,
        _slivers(sewn, middles),
        frozenset(_beside(m) for m in middles if m.carrier.kind == "free" and not m.uniform and _taper(m) is not None),
    )


def _beside(middle: Middle) -> frozenset[int]:
    return frozenset(middle.sides[0] | middle.sides[1])


def _slivers(sewn: Sewn, middles: list[Middle]) -> frozenset[frozenset[int]]:
    """Faces beside middles of which only strips far narrower than the wall were kept, with others along both long sides."""
    shape = sewn.shape
    out = set()
    for m in set(sewn.face_middle):
        faces = {f for f, owner in enumerate(sewn.face_middle) if owner == m}
        border = {e: set(beside) for e, beside in enumerate(shape.edge_faces) if faces & set(beside)}
        free = {e for e in border if len(shape.edge_faces[e]) == 1}
        length = sum(float(shape.edge_length[e]) for e, beside in border.items() if e in free or not beside <= faces)
        open_length = sum(float(shape.edge_length[e]) for e in free)
        area = float(shape.face_area[list(faces)].sum())
        if length > 0 and 2 * area < SLIVER * middles[m].wall * length and open_length < 0.3 * length:
            out.add(_beside(middles[m]))
    return frozenset(out)


def _before(solid: Shape, joined: Shape, faces: set[int]) -> tuple[int, ...]:
    """Faces of the solid as it came that make up faces of the simplified one (facets are the same, in the same order)."""
    return tuple(sorted({int(f) for f in solid.facet_face[np.isin(joined.facet_face, list(faces))]}))


def _taper(middle: Middle) -> Taper | None:
    a, b = middle.first, middle.second
    if middle.uniform or not isinstance(a, CarrierField) or not isinstance(b, CarrierField):
        return None
    return Taper(a.carrier, a.sign, b.carrier, b.sign)


def _thickness(sewn: Sewn, own: list[Middle], tapers: tuple[Taper | Varying | None, ...]) -> Floats:
    """Mean thickness (f,) of each face: from its corners, but all over it where a wall between curved sides bulges."""
    shape = sewn.shape
    corner, area = sewn.corner_wall.mean(axis=1), shape.facet_area
    out = np.array([np.average(corner[shape.facet_face == f], weights=area[shape.facet_face == f]) for f in range(len(tapers))])
    places, _, face, _ = face_samples(shape, TAKEN)
    for f, taper in enumerate(tapers):
        if isinstance(taper, Taper) and {taper.first.kind, taper.second.kind} != {"plane"}:
            out[f] = taper.thickness(places[face == f]).mean()
        elif own[f].corner and isinstance(taper, Varying):
            out[f] = float(f"{taper.wall.mean():.2g}")  # corners that are alike are called equally thick
    return np.array([float(f"{t:.9g}") for t in out])


def _varying(sewn: Sewn, face: int, middle: Middle) -> Varying | None:
    """What a freely curved face of the sheet measures at its corners, where that is not the same everywhere."""
    mine = sewn.shape.facet_face == face
    wall = sewn.corner_wall[mine].ravel()
    if middle.carrier.kind != "free" or np.ptp(wall) < VARIES * middle.wall:
        return None
    nodes, first = np.unique(sewn.shape.facets[mine].ravel(), return_index=True)
    return Varying(sewn.shape.points[nodes], wall[first])
