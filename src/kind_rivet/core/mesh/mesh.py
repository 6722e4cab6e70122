"""Mesh: nodes and elements of all kinds in flat, read-only arrays, each knowing where it sits on the geometry."""

from __future__ import annotations

from dataclasses import dataclass, field, fields, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.mesh.kinds import KINDS, QUAD, TRIA, WIDTH

Ints = NDArray[np.int32]
FREE_NODE, ON_VERTEX, ON_EDGE, ON_FACE = range(4)

NODE_FIELDS = ("points", "node_id", "on_kind", "on_item", "on_body", "height")
ELEMENT_FIELDS = ("kind", "conn", "element_id", "part", "thickness", "offset", "body", "face", "ring")


def _empty(dtype: Any, *shape: int) -> Any:
    return field(default_factory=lambda: np.empty(shape, dtype))


@dataclass(frozen=True, eq=False)
class Mesh:
    """n nodes and m elements.

    points (n, 3); node_id (n,) stable numbers; on_kind, on_item, on_body (n,) what the
    node sits on (FREE_NODE, ON_VERTEX, ON_EDGE, ON_FACE), its number in that body's
    sheet, the body (−1 none); height (n,) how far it
    stands off that on purpose. kind (m,) element kind; conn (m, 8) node indices, −1
    beyond the kind's nodes; element_id (m,); part (m,); thickness, offset (m,) 0 where
    not a shell; body, face, ring (m,) −1 where none.
    """

    points: Floats = _empty(float, 0, 3)
    node_id: Ints = _empty(np.int32, 0)
    on_kind: NDArray[np.uint8] = _empty(np.uint8, 0)
    on_item: Ints = _empty(np.int32, 0)
    on_body: Ints = _empty(np.int32, 0)
    height: Floats = _empty(float, 0)
    kind: NDArray[np.uint8] = _empty(np.uint8, 0)
    conn: Ints = _empty(np.int32, 0, WIDTH)
    element_id: Ints = _empty(np.int32, 0)
    part: Ints = _empty(np.int32, 0)
    thickness: Floats = _empty(float, 0)
    offset: Floats = _empty(float, 0)
    body: Ints = _empty(np.int32, 0)
    face: Ints = _empty(np.int32, 0)
    ring: Ints = _empty(np.int32, 0)

    def __post_init__(self) -> None:
        for f in fields(self):
            getattr(self, f.name).setflags(write=False)

    @property
    def nodes(self) -> int:
        return len(self.points)

    @property
    def elements(self) -> int:
        return len(self.kind)

    @property
    def is_shell(self) -> NDArray[np.bool_]:
        return (self.kind == QUAD) | (self.kind == TRIA)

    def counts(self) -> dict[str, int]:
        """Elements by kind name, only kinds that occur."""
        number = np.bincount(self.kind, minlength=len(KINDS))
        return {k.name: int(number[k.code]) for k in KINDS if number[k.code]}

    def shells(self) -> Ints:
        """Connectivity (m, 4) of all elements, −1 rows where not a shell and last place −1 for trias."""
        return np.where(self.is_shell[:, None], self.conn[:, :4], -1).astype(np.int32)

    def centres(self) -> Floats:
        """Mean of each element's nodes (m, 3)."""
        there = self.conn >= 0
        total = np.where(there[:, :, None], self.points[np.maximum(self.conn, 0)], 0.0).sum(axis=1) if self.elements else np.empty((0, 3))
        return np.asarray(total / np.maximum(there.sum(axis=1), 1)[:, None])

    def moved(self, points: Floats) -> Mesh:
        return replace(self, points=points)

    def without_elements(self, drop: NDArray[np.bool_], keep_nodes: NDArray[np.bool_] | None = None) -> Mesh:
        """The mesh without marked elements and without the nodes that only they used."""
        keep = ~drop
        used = np.zeros(self.nodes, bool)
        conn = self.conn[keep]
        used[conn[conn >= 0]] = True
        before = np.zeros(self.nodes, bool)
        gone = self.conn[drop]
        before[gone[gone >= 0]] = True
        stay = used | ~before
        if keep_nodes is not None:
            stay |= keep_nodes
        return self._taken(stay, keep)

    def without_nodes(self, drop: NDArray[np.bool_]) -> Mesh:
        """The mesh without marked nodes, which no element may use."""
        return self._taken(~drop, np.ones(self.elements, bool)) if drop.any() else self

    def _taken(self, stay: NDArray[np.bool_], keep: NDArray[np.bool_]) -> Mesh:
        number = np.cumsum(stay) - 1
        values = {name: getattr(self, name)[stay] for name in NODE_FIELDS} | {name: getattr(self, name)[keep] for name in ELEMENT_FIELDS}
        conn = values["conn"]
        values["conn"] = np.where(conn >= 0, number[np.maximum(conn, 0)], -1).astype(np.int32)
        return Mesh(**values)

    def plus(self, other: Mesh) -> Mesh:
        """Both meshes side by side; the other's numbers continue after this one's."""
        first_node = int(self.node_id.max(initial=0))
        first_element = int(self.element_id.max(initial=0))
        shifted = replace(
            other,
            node_id=(np.arange(other.nodes) + first_node + 1).astype(np.int32),
            element_id=(np.arange(other.elements) + first_element + 1).astype(np.int32),
            conn=np.where(other.conn >= 0, other.conn + self.nodes, -1).astype(np.int32),
        )
        return Mesh(
            **{name: np.concatenate((getattr(self, name), np.asarray(getattr(shifted, name)))) for name in (*NODE_FIELDS, *ELEMENT_FIELDS)}
        )

    def with_elements(self, kind: int, conn: NDArray[Any], part: int, **values: Any) -> Mesh:
        """Elements of one kind added on existing nodes; `conn` (k, nodes of the kind) indices."""
        k = len(conn)
        rows = np.full((k, WIDTH), -1, np.int32)
        rows[:, : conn.shape[1]] = conn
        first = int(self.element_id.max(initial=0)) + 1
        new: dict[str, Any] = {
            "kind": np.full(k, kind, np.uint8), "conn": rows, "element_id": np.arange(first, first + k, dtype=np.int32), "part": np.full(k, part, np.int32),
            "thickness": np.zeros(k), "offset": np.zeros(k), "body": np.full(k, -1, np.int32), "face": np.full(k, -1, np.int32), "ring": np.full(k, -1, np.int32),
        }  # fmt: skip
        for name, value in values.items():
            new[name] = np.broadcast_to(np.asarray(value, new[name].dtype), (k,)).copy()
        return replace(self, **{name: np.concatenate((getattr(self, name), new[name])) for name in ELEMENT_FIELDS})

    def with_nodes(self, points: Floats) -> Mesh:
        """Free nodes added at the end."""
        k = len(points)
        first = int(self.node_id.max(initial=0)) + 1
        new: dict[str, Any] = {
            "points": points, "node_id": np.arange(first, first + k, dtype=np.int32), "on_kind": np.zeros(k, np.uint8),
            "on_item": np.full(k, -1, np.int32), "on_body": np.full(k, -1, np.int32), "height": np.zeros(k),
        }  # fmt: skip
        return replace(self, **{name: np.concatenate((getattr(self, name), new[name])) for name in NODE_FIELDS})
