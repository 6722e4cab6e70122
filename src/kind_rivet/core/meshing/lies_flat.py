"""Can a face be developed into the plane well enough to be meshed there?"""

from __future__ import annotations

import numpy as np

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.patch import lay_flat


def lies_flat(shape: Shape, face: int) -> bool:
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
    return not crosses_itself([np.concatenate([patch.flat[p.corners[:-1]] for p in loop]) for loop in patch.loops])


def crosses_itself(loops: list[Floats]) -> bool:
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
