"""Cells and blocks that other programs write, told as the element kinds there are here."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.mesh.kinds import BEAM, HEX, KINDS, MASS, PYRAMID, QUAD, QUAD8, TET, TRIA, TRIA6, WEDGE
from kind_rivet.core.mesh.mesh import Mesh
from kind_rivet.core.words import counted

Places = tuple[int, ...]

# VTK cell type → kind and which of the cell's nodes it takes; mid-side nodes of solids, and middles of faces, are left out.
CELLS: dict[int, tuple[int, Places]] = {k.vtk: (k.code, tuple(range(k.nodes))) for k in KINDS} | {
    8: (QUAD, (0, 1, 3, 2)), 11: (HEX, (0, 1, 3, 2, 4, 5, 7, 6)), 21: (BEAM, (0, 1)), 24: (TET, (0, 1, 2, 3)), 25: (HEX, tuple(range(8))),
    26: (WEDGE, tuple(range(6))), 27: (PYRAMID, tuple(range(5))), 28: (QUAD8, tuple(range(8))), 29: (HEX, tuple(range(8))),
    30: (QUAD, (0, 1, 2, 3)), 32: (WEDGE, tuple(range(6))), 33: (HEX, tuple(range(8))), 34: (TRIA6, tuple(range(6))), 37: (PYRAMID, tuple(range(5))),
}  # fmt: skip
POLYGON = {3: TRIA, 4: QUAD}
_BLOCKS: dict[str, dict[int, int]] = {
    "SPHERE": {1: MASS}, "POINT": {1: MASS}, "BEAM": {2: BEAM, 3: BEAM}, "BAR": {2: BEAM, 3: BEAM}, "TRUSS": {2: BEAM, 3: BEAM}, "EDGE": {2: BEAM, 3: BEAM},
    "TRI": {3: TRIA, 4: TRIA, 6: TRIA6, 7: TRIA6}, "QUAD": {4: QUAD, 5: QUAD, 8: QUAD8, 9: QUAD8}, "SHELL": {3: TRIA, 4: QUAD, 6: TRIA6, 8: QUAD8, 9: QUAD8},
    "TET": {4: TET, 5: TET, 10: TET, 11: TET, 14: TET}, "PYR": {5: PYRAMID, 13: PYRAMID, 14: PYRAMID}, "WEDGE": {6: WEDGE, 15: WEDGE, 18: WEDGE},
    "HEX": {8: HEX, 9: HEX, 20: HEX, 27: HEX},
}  # fmt: skip


def block_kind(name: str, columns: int) -> int | None:
    """Kind of an Exodus II block by the beginning of its element type and its number of nodes; its first nodes are those it takes."""
    for start, by_columns in _BLOCKS.items():
        if name.upper().startswith(start):
            return by_columns.get(columns)
    return None


def as_read(mesh: Mesh, had: NDArray[np.bool_], unread: int) -> tuple[Mesh, tuple[str, ...]]:
    """The mesh without the nodes that its elements left behind, and what was not taken from the file, in words.

    had (n,): nodes of the cells that were read, as the file has them; unread: how many cells are of kinds that are not read.
    """
    has = np.zeros(mesh.nodes, bool)
    has[mesh.conn[mesh.conn >= 0]] = True
    left = had & ~has
    notes = [f"Left out: {counted(unread, 'element')} of kinds that are not read."] if unread else []
    notes += ["Mid-side nodes of solids, and nodes in the middle of faces, were left out."] if left.any() else []
    return mesh.without_nodes(left), tuple(notes)
