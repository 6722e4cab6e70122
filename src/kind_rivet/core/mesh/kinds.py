"""Element kinds as data: corners, dimension, sides and faces, names in open formats."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Kind:
    """One element kind; `sides` and `faces` are corner numbers, faces turning outward."""

    code: int
    name: str
    nodes: int
    dimension: int
    vtk: int
    exodus: str
    sides: tuple[tuple[int, int], ...]
    faces: tuple[tuple[int, ...], ...] = ()


MASS, BEAM, TRIA, QUAD, TET, PYRAMID, WEDGE, HEX, TRIA6, QUAD8 = range(10)

KINDS: tuple[Kind, ...] = (
    Kind(MASS, "mass", 1, 0, 1, "SPHERE", ()),
    Kind(BEAM, "beam", 2, 1, 3, "BEAM2", ((0, 1),)),
    Kind(TRIA, "tria", 3, 2, 5, "TRI3", ((0, 1), (1, 2), (2, 0))),
    Kind(QUAD, "quad", 4, 2, 9, "SHELL4", ((0, 1), (1, 2), (2, 3), (3, 0))),
    Kind(TET, "tet", 4, 3, 10, "TETRA4", ((0, 1), (1, 2), (2, 0), (0, 3), (1, 3), (2, 3)), ((0, 2, 1), (0, 1, 3), (1, 2, 3), (2, 0, 3))),
    Kind(PYRAMID, "pyramid", 5, 3, 14, "PYRAMID5", ((0, 1), (1, 2), (2, 3), (3, 0), (0, 4), (1, 4), (2, 4), (3, 4)), ((0, 3, 2, 1), (0, 1, 4), (1, 2, 4), (2, 3, 4), (3, 0, 4))),
    Kind(WEDGE, "wedge", 6, 3, 13, "WEDGE6", ((0, 1), (1, 2), (2, 0), (3, 4), (4, 5), (5, 3), (0, 3), (1, 4), (2, 5)), ((0, 2, 1), (3, 4, 5), (0, 1, 4, 3), (1, 2, 5, 4), (2, 0, 3, 5))),
    Kind(HEX, "hex", 8, 3, 12, "HEX8", ((0, 1), (1, 2), (2, 3), (3, 0), (4, 5), (5, 6), (6, 7), (7, 4), (0, 4), (1, 5), (2, 6), (3, 7)), ((0, 3, 2, 1), (4, 5, 6, 7), (0, 1, 5, 4), (1, 2, 6, 5), (2, 3, 7, 6), (3, 0, 4, 7))),
    Kind(TRIA6, "six-node tria", 6, 2, 22, "TRI6", ((0, 1), (1, 2), (2, 0))),
    Kind(QUAD8, "eight-node quad", 8, 2, 23, "SHELL8", ((0, 1), (1, 2), (2, 3), (3, 0))),
)  # fmt: skip

WIDTH = 8  # columns of a connectivity row; unused places hold −1
