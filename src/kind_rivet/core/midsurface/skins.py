"""Skins: smooth patches that may be taken as one tube where they close round on themselves."""

from __future__ import annotations

import numpy as np

from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Face, Shape
from kind_rivet.core.geometry.simplify import simplify
from kind_rivet.core.midsurface.blends import MARGIN, hollow, rounding
from kind_rivet.core.midsurface.pairs import find_opposed, find_pairs

STEADY = 0.1  # spread of a wall's thickness, in walls, up to which a tight face on it is a bend of that wall


def skins(solid: Shape, tree: FacetTree) -> frozenset[int]:
    """Faces that are patches of skins; none where patches go together by themselves as far as skins would."""
    fewest = len(joined_faces(solid))
    free = frozenset(f for f, face in enumerate(solid.faces) if face.carrier.kind == "free")
    if len(joined_faces(solid, free)) == fewest:
        return frozenset()
    patches = skin_patches(solid, tree)
    return patches if len(joined_faces(solid, patches)) < fewest else frozenset()


def joined_faces(solid: Shape, tubes: frozenset[int] = frozenset()) -> tuple[Face, ...]:
    """Faces of a solid as its walls are looked for between them; `tubes` as for `simplify`."""
    return simplify(solid, blends=True, turning=np.pi, tubes=tubes)[0].faces


def skin_patches(shape: Shape, tree: FacetTree) -> frozenset[int]:
    """The freely curved faces that may be patches of one skin: all but hollow blends beside a wall, under which nothing is evenly thick.

    A blend along a curved rib runs on smoothly into the rib's side and the floor, as patches of a skin do into each other.
    """
    free = [f for f, face in enumerate(shape.faces) if face.carrier.kind == "free"]
    pairs = find_pairs(shape, find_opposed(shape, tree))
    steady = [pair for pair in pairs if pair.spread < STEADY]
    under = np.zeros(len(shape.faces))
    for pair in steady:
        under[[pair.a, pair.b]] += pair.weight
    wall: dict[int, float] = {}  # of the faces with something evenly thick under them, and not just under the margin of a blend
    for pair in steady:
        for f in (pair.a, pair.b):
            if under[f] > MARGIN * shape.face_area[f]:
                wall[f] = min(wall.get(f, np.inf), pair.wall)

    def beside_a_wall(face: int) -> bool:
        beside = {f for e in shape.face_edges[face] for f in shape.edge_faces[e]}
        least = min((wall[f] for f in beside if f in wall), default=0.0)
        return rounding(shape, face, least) and hollow(shape, face)

    return frozenset(f for f in free if f in wall or not beside_a_wall(f))
