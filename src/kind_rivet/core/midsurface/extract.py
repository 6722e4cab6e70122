"""From a solid to its sheet: try the ways in turn, prove each, refuse what cannot be proved."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from dataclasses import replace

import numpy as np

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.simplify import simplify
from kind_rivet.core.midsurface.crossing import Crossed, make_by_crossing
from kind_rivet.core.midsurface.hand import Hand
from kind_rivet.core.midsurface.loose import loose_walls
from kind_rivet.core.midsurface.offset_side import make_by_offset, make_half_way
from kind_rivet.core.midsurface.remarks import Remark
from kind_rivet.core.midsurface.reseam import with_seams_clear
from kind_rivet.core.midsurface.sheet import Proof, Sheet
from kind_rivet.core.midsurface.skins import joined_faces, skins
from kind_rivet.core.midsurface.ties import tied
from kind_rivet.core.midsurface.tubes import with_tubes_divided
from kind_rivet.core.midsurface.verify import proved
from kind_rivet.core.midsurface.walls import measure_walls

Keep = Callable[[Sheet], None]  # takes a sheet that may not be the last
# the ways a sheet is made
TURNING = np.radians(70.0)  # patches of a skin that were one sheet together would be hard to lay flat beyond this
OFFSET, CROSSING, HALF_WAY = "offset of one side", "walls cut by one another", "half-way between two sides"
LEAST_SHARE = 0.3  # of the solid's surface that must belong to walls
WEIGHT = 0.005  # how far an offset may weigh off its solid; twice that where it covers the solid all the same
POOR = 0.03  # left open by the proof, from which on freely curved walls may do better half-way between the sides
MANY = 8  # freely curved patches from which skins are taken whole at first
LEAST_WIDTH = 1.5  # mean width of the sheet in walls, 2 area / border length


def _no_keeping(sheet: Sheet) -> None:
    """Nobody wants what there is so far."""


def extract(solid: Shape, hands: tuple[Hand, ...] = (), keep: Keep = _no_keeping) -> Sheet:
    """Midsurface of a thin-walled solid, proved against it.

    Uniform bent sheet goes by offsetting one side; where that does not stand up to its
    tests, the middles of all walls are cut by one another. Raises `Refused` with the reason
    when neither gives a sheet that can be shown. `keep` is handed what there is so far, the best so far last.
    """
    if solid.volume < 0:  # turned inside out
        solid = replace(solid, facets=solid.facets[:, [0, 2, 1]], normals=-solid.normals[:, [0, 2, 1]])
    tree = FacetTree.over(solid.points, solid.facets)
    sheet: Sheet | None = None
    if not hands:
        with contextlib.suppress(Refused):
            sheet = _by_offset(solid, tree)
    if sheet is not None:
        keep(sheet)
    if sheet is not None and _whole(sheet) and _off_weight(sheet) > WEIGHT:
        # It has sharp corners, which walls cut by one another may weigh better.
        with contextlib.suppress(Refused):
            other = _by_crossing(solid, tree, hands)
            if _whole(other) and _off_weight(other) < _off_weight(sheet) and len(other.shape.faces) <= len(sheet.shape.faces):
                sheet = other
    elif sheet is None or not _whole(sheet):
        refused: Refused | None = None
        try:
            other = _by_crossing(solid, tree, hands, keep if sheet is None else _no_keeping)
            sheet = other if sheet is None or _whole(other) else sheet
            keep(sheet)
        except Refused as reason:
            refused = reason
        if not hands and (sheet is None or _to_be_tried_half_way(sheet)):
            with contextlib.suppress(Refused):
                other = _half_way(solid, tree)
                sheet = other if sheet is None or _doubt(other) < _doubt(sheet) else sheet
        if sheet is None:
            assert refused is not None
            raise refused
    if not hands:  # who decides by hand knows what is a wall
        _must_be_thin(sheet, solid)
    return with_tubes_divided(sheet)


def _off_weight(sheet: Sheet) -> float:
    assert sheet.proof is not None
    return abs(sheet.proof.mass_ratio - 1)


def _by_offset(solid: Shape, tree: FacetTree) -> Sheet:
    walls = measure_walls(solid, tree)
    raw, t, sides = make_by_offset(solid, walls, tree)
    raw = with_seams_clear(raw)
    thickness = np.full(len(raw.faces), t)
    sheet = proved(solid, tree, Sheet(raw, thickness, OFFSET, None), sides[0] + sides[1])
    assert sheet.proof is not None
    problems = _problems(solid, raw, t, sides, sheet.proof)
    if problems:
        raise Refused(
            f"The midsurface does not stand up to its proof: {'; '.join(problems)}.",
            "The body is no uniform bent sheet; mesh it with solids or simplify it first.",
        )
    shape, faces = simplify(raw, turning=TURNING)
    sheet = replace(sheet, shape=shape, thickness=thickness[faces])
    return replace(sheet, remarks=tuple(r for r in sheet.remarks if not r.edges))  # edges have other numbers now


def _half_way(solid: Shape, tree: FacetTree) -> Sheet:
    joined, _ = simplify(solid, blends=True, turning=np.pi)
    raw, thickness, sides = make_half_way(joined, measure_walls(joined, tree), tree)
    used = [f for side in sides for f in side]
    sheet = proved(
        solid, tree, Sheet(raw, thickness, HALF_WAY, None), np.unique(solid.facet_face[np.isin(joined.facet_face, used)]).tolist()
    )
    assert sheet.proof is not None
    proof = sheet.proof
    if proof.pieces != 1 or abs(proof.mass_ratio - 1) > 0.02 or proof.cover < 0.97 or proof.off_middle > 0.06:
        raise Refused("The sheet half-way between the two sides does not stand up to its proof.", "Split the body, or mesh it with solids.")
    return sheet


def _by_crossing(solid: Shape, tree: FacetTree, hands: tuple[Hand, ...] = (), keep: Keep = _no_keeping) -> Sheet:
    """From the walls cut by one another. Skins of patches that close round on themselves are taken patch by patch or whole, many of them whole
    at first, and the other way too where that does not prove well.
    """
    tries: list[Callable[[], Sheet]] = [lambda: _by_patches(solid, tree, hands, keep)]
    tubes = frozenset() if hands else skins(solid, tree)
    if tubes:
        many = sum(face.carrier.kind == "free" for face in joined_faces(solid)) > MANY
        tries.insert(0 if many else 1, lambda: _crossed(solid, tree, make_by_crossing(solid, tree, tubes=tubes)))
    best: Sheet | None = None
    refused: Refused | None = None
    for make in tries:
        try:
            sheet = make()
        except Refused as reason:
            refused = refused or reason
            continue
        if best is None or _unproved(sheet) < _unproved(best):
            best = sheet
            keep(sheet)
        if np.isfinite(_doubt(best)) and _off_weight(best) <= WEIGHT:
            break
    if best is None:
        assert refused is not None
        raise refused
    return best


def _by_patches(solid: Shape, tree: FacetTree, hands: tuple[Hand, ...], keep: Keep) -> Sheet:
    made = make_by_crossing(solid, tree, hands, found=lambda whole, middles: keep(loose_walls(whole, middles)))
    sheet = _crossed(solid, tree, made)
    keep(sheet)
    left: frozenset[frozenset[int]] = frozenset()
    if made.lost and made.wedges and not hands:
        with contextlib.suppress(Refused):
            without = make_by_crossing(solid, tree, (), made.wedges)
            other = _crossed(solid, tree, without)
            if len(without.lost) < len(made.lost) and _off_weight(other) < _off_weight(sheet):
                made, sheet, left = without, other, made.wedges
                keep(sheet)
    if made.slivers and not hands:
        with contextlib.suppress(Refused):
            other = _crossed(solid, tree, make_by_crossing(solid, tree, (), made.slivers | left))
            if _as_good(other, sheet):
                sheet = other
    return sheet


def _unproved(sheet: Sheet) -> float:
    """What a sheet's proof leaves open, in shares of the solid: mass too much or too little, edges inside over all edges, and pieces beyond one."""
    proof = sheet.proof
    assert proof is not None
    edges = float(sheet.shape.edge_length.sum())
    return abs(proof.mass_ratio - 1) + (1 - proof.cover) + proof.inner_free_length / max(edges, 1e-300) + proof.pieces - 1


def _doubt(sheet: Sheet) -> float:
    """The same, without end where the sheet is not whole or has lost a wall."""
    return _unproved(sheet) if _whole(sheet) and not any(r.kind == "lost" for r in sheet.remarks) else np.inf


def _to_be_tried_half_way(sheet: Sheet) -> bool:
    """Is a sheet not whole, or does its proof leave much open though all its walls are freely curved, as they are half-way between two sides?"""
    doubt = _doubt(sheet)
    return doubt > POOR and (np.isinf(doubt) or all(face.carrier.kind == "free" for face in sheet.shape.faces))


def _as_good(other: Sheet, sheet: Sheet) -> bool:
    """Does a sheet with fewer walls still stand for its solid?"""
    a, b = other.proof, sheet.proof
    assert a is not None and b is not None
    slack = 0.1 * float(sheet.thickness.min())
    return (
        a.pieces <= b.pieces
        and a.cover >= b.cover - 0.002
        and abs(a.mass_ratio - 1) <= max(abs(b.mass_ratio - 1), WEIGHT) + 0.001
        and a.inner_free_length <= b.inner_free_length + slack
        and len(other.remarks) <= len(sheet.remarks)
    )


def _crossed(solid: Shape, tree: FacetTree, made: Crossed) -> Sheet:
    sheet = Sheet(made.shape, made.thickness, CROSSING, None, made.tapers if any(made.tapers) else ())
    sheet, ties = tied(sheet, solid, tree)
    sheet = proved(solid, tree, sheet, list(made.sides), made.tunnels)
    return replace(sheet, remarks=(*(Remark("lost", place) for place in made.lost), *sheet.remarks, *ties))


def _whole(sheet: Sheet) -> bool:
    """One piece, without edges that end inside the solid (holes drilled aslant do, when offset from one side)."""
    proof = sheet.proof
    return proof is not None and proof.pieces == 1 and proof.inner_free_length < 0.1 * float(sheet.thickness.min())


def _must_be_thin(sheet: Sheet, solid: Shape) -> None:
    """Raises `Refused` for a sheet that is hardly wider than thick, or stands for too little of its solid.

    How much it stands for is told by surface: a lump on a thin wall has much volume but little surface.
    """
    assert sheet.proof is not None
    border = sum(sheet.shape.edge_length[e] for e, beside in enumerate(sheet.shape.edge_faces) if len(set(beside)) != 2)
    wall = float(np.average(sheet.thickness, weights=np.maximum(sheet.shape.face_area, 1e-300)))
    width = 2 * sheet.area / max(float(border), 1e-300) / wall
    share = 2 * sheet.area / float(solid.face_area.sum())
    if share < LEAST_SHARE or width < LEAST_WIDTH:
        raise Refused(
            f"The body is not thin: its walls are {width:.1f} times as wide as thick and make up {100 * min(share, 1):.0f} % of its surface.",
            "Mesh it with solids, or split off its thin walls.",
        )


def _problems(solid: Shape, sheet: Shape, t: float, sides: list[list[int]], proof: Proof) -> list[str]:
    """The acceptance tests of an offset: all must hold."""
    out = []
    areas = sorted(float(solid.face_area[g].sum()) for g in sides)
    area = float(sheet.face_area.sum())
    # Sharp corners weigh a little more or less than the solid there; how well the sheet covers it then counts.
    if abs(proof.mass_ratio - 1) > (2 * WEIGHT if proof.cover > 0.999 else WEIGHT):
        out.append(f"its mass is {100 * proof.mass_ratio:.1f} % of the solid's")
    if not 0.999 * areas[0] - 1e-9 <= area <= 1.001 * areas[1]:
        out.append("its area does not lie between the areas of the two sides")
    if proof.pieces != 1:
        out.append(f"it falls into {proof.pieces} pieces")
    if proof.cover < 0.995:
        out.append(f"it covers {100 * proof.cover:.1f} % of the solid")
    if proof.off_middle > 0.02:
        out.append(f"it lies {100 * proof.off_middle:.0f} % of the wall off the middle")
    return out
