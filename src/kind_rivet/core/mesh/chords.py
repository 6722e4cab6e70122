"""Chords: columns of quads one behind the other, each left across the side that faces the one it was entered by.

A column put in along a chord, or taken out along it, changes the counts of all edges that the chord
crosses by one and leaves every other border as it is.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.mesh.mesh import ELEMENT_FIELDS, ON_EDGE, ON_FACE, Mesh
from kind_rivet.core.mesh.topology import next_corners

Ints = NDArray[np.int64]


@dataclass(frozen=True)
class Chord:
    """sides (s, 2): nodes of the sides it crosses, lower first; elements (q,): its quads.

    corner (q,), crossed (q, 2): it crosses the sides `corner` and `corner` + 2 of each, the rows `crossed` of `sides`.
    """

    sides: Ints
    elements: Ints
    corner: Ints
    crossed: Ints

    def within(self, nodes: Ints, elements: Ints) -> Chord:
        """The same chord in an excerpt of these nodes and elements, both in order."""
        return Chord(np.searchsorted(nodes, self.sides), np.searchsorted(elements, self.elements), self.corner, self.crossed)


class Chords:
    """The chords of shells (m, 4) as from `Mesh.shells`, found by walking."""

    def __init__(self, shells: NDArray[np.int32]) -> None:
        self.shells = shells
        after = next_corners(shells)
        self._base = int(shells.max(initial=0)) + 1
        keys = np.where(after >= 0, np.minimum(shells, after).astype(np.int64) * self._base + np.maximum(shells, after), -1)
        self._key, inverse = np.unique(keys, return_inverse=True)
        self._side = inverse.reshape(keys.shape)
        order = np.argsort(self._side, axis=None, kind="stable")
        self._uses = np.column_stack(np.unravel_index(order, keys.shape))
        self._start = np.searchsorted(self._side.ravel()[order], np.arange(len(self._key) + 1))

    def through(self, a: int, b: int) -> Chord | None:
        """The chord that crosses the side between two nodes; None where it meets a tria or itself. Where walls meet it runs on into all of them."""
        key = min(a, b) * self._base + max(a, b)
        first = int(np.searchsorted(self._key, key))
        if first == len(self._key) or self._key[first] != key:
            return None
        sides, open_ = {first}, [first]
        quads: dict[int, int] = {}
        while open_:
            side = open_.pop()
            for element, k in self._uses[self._start[side] : self._start[side + 1]].tolist():
                if element in quads:
                    if quads[element] != k % 2:
                        return None
                    continue
                if self.shells[element, 3] < 0:
                    return None
                quads[element] = k % 2
                across = int(self._side[element, (k + 2) % 4])
                if across not in sides:
                    sides.add(across)
                    open_.append(across)
        row = np.array(sorted(sides))
        ends = np.column_stack((self._key[row] // self._base, self._key[row] % self._base))
        if len(np.unique(ends)) < ends.size:  # it runs beside itself
            return None
        elements = np.array(sorted(quads))
        corner = np.array([quads[e] for e in elements.tolist()])
        crossed = np.searchsorted(row, np.column_stack((self._side[elements, corner], self._side[elements, corner + 2])))
        return Chord(ends, elements, corner, crossed)


def side_vectors(points: Floats, rows: NDArray[np.int32]) -> Floats:
    """From corner to corner (m, 4, 3) along the sides of shell rows (m, 4); 0 where a tria has none."""
    after = next_corners(rows)
    return np.asarray(np.where(after[..., None] >= 0, points[np.maximum(after, 0)] - points[np.maximum(rows, 0)], 0.0))


def with_column(mesh: Mesh, chord: Chord, seats: NDArray[np.int32], first: int) -> tuple[Mesh, Floats]:
    """The mesh with one column more, its nodes still half-way along the sides of the chord, and the sides (m, 4, 3) that its elements should have.

    `seats` (s,): the edge of the sheet that each side of the chord lies along, −1 for those on a wall.
    New nodes come last, numbered from `first`; new elements too: the second half of each quad.
    """
    p, rows = mesh.points, mesh.shells()
    wish = side_vectors(p, rows)
    a, b = chord.sides.T
    q, k = chord.elements, chord.corner
    corner = [rows[q, (k + j) % 4] for j in range(4)]
    middle = mesh.nodes + chord.crossed.T
    face = np.full(len(a), -1, np.int32)
    face[chord.crossed] = mesh.face[q][:, None]
    node = {
        "points": (p[a] + p[b]) / 2, "node_id": first + np.arange(len(a)), "height": (mesh.height[a] + mesh.height[b]) / 2,
        "on_kind": np.where(seats >= 0, ON_EDGE, ON_FACE), "on_item": np.where(seats >= 0, seats, face), "on_body": mesh.on_body[a],
    }  # fmt: skip
    nodes = {name: np.concatenate((getattr(mesh, name), values.astype(getattr(mesh, name).dtype))) for name, values in node.items()}
    values = {name: np.concatenate((getattr(mesh, name), getattr(mesh, name)[q])) for name in ELEMENT_FIELDS}
    values["element_id"][mesh.elements :] = int(mesh.element_id.max()) + 1 + np.arange(len(q))
    values["conn"][q, :4] = np.column_stack((corner[0], middle[0], middle[1], corner[3]))
    values["conn"][mesh.elements :, :4] = np.column_stack((middle[0], corner[1], corner[2], middle[1]))
    sides = [wish[q, (k + j) % 4] for j in range(4)]
    inner = (sides[1] - sides[3]) / 2
    wish[q] = np.stack((sides[0], inner, sides[2], sides[3]), axis=1)
    return Mesh(**nodes, **values), np.concatenate((wish, np.stack((sides[0], sides[1], sides[2], -inner), axis=1)))


def without_column(mesh: Mesh, chord: Chord) -> tuple[Mesh, Floats] | None:
    """The mesh without the quads of a chord, the two nodes of each side drawn together half-way, and the sides (m, 4, 3) that its elements should have.

    None where an element would be left with one node twice.
    """
    rows, points = mesh.shells(), mesh.points.copy()
    wish = side_vectors(points, rows)
    a, b = chord.sides.T
    points[a] = (points[a] + points[b]) / 2
    into = np.arange(mesh.nodes)
    into[b] = a
    conn = np.where(mesh.conn >= 0, into[np.maximum(mesh.conn, 0)], -1).astype(np.int32)
    stay = np.ones(mesh.elements, bool)
    stay[chord.elements] = False
    left = np.sort(conn[stay, :4], axis=1)
    if ((left[:, 1:] == left[:, :-1]) & (left[:, 1:] >= 0)).any():
        return None
    gone = np.zeros(mesh.nodes, bool)
    gone[b] = True
    return replace(mesh, points=points, conn=conn)._taken(~gone, stay), wish[stay]
