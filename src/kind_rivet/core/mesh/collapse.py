"""Taking a short side out of a mesh: one of its nodes goes, and with it the trias that have both."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kind_rivet.core.mesh.kinds import QUAD, TRIA
from kind_rivet.core.mesh.mesh import Mesh


def without_side(mesh: Mesh, keep: int, gone: int) -> Mesh | None:
    """The mesh with node `gone` (an index) drawn into node `keep`: quads with both become trias, trias with both go.

    None where `gone` is not a matter of shells alone, where the two lie across a quad, or where an element would come to lie on another.
    """
    touched = np.flatnonzero((mesh.conn == gone).any(axis=1))
    if not mesh.is_shell[touched].all():
        return None
    conn, kind, drop = mesh.conn.copy(), mesh.kind.copy(), np.zeros(mesh.elements, bool)
    for e in touched.tolist():
        row = [int(n) for n in conn[e] if n >= 0]
        if keep in row:
            at, other = row.index(gone), row.index(keep)
            if len(row) == 4 and (at - other) % 4 == 2:
                return None
            row.remove(gone)
            if len(row) < 3:
                drop[e] = True
                continue
            kind[e] = TRIA
        else:
            row[row.index(gone)] = keep
            kind[e] = QUAD if len(row) == 4 else TRIA
        conn[e], conn[e, : len(row)] = -1, row
    near = np.flatnonzero((conn == keep).any(axis=1) & mesh.is_shell & ~drop)
    kinds = {tuple(sorted(conn[e][conn[e] >= 0].tolist())) for e in near.tolist()}
    if len(kinds) < len(near):
        return None
    return replace(mesh, conn=conn, kind=kind).without_nodes(np.arange(mesh.nodes) == gone).without_elements(drop)
