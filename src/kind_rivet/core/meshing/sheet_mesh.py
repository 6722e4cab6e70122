"""The mesh of one sheet, what may stay of an earlier one, and how it is put together."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.washers import RoundHole

Ints = NDArray[np.int32]
VERTEX, EDGE, FACE = 1, 2, 3
HARD_POINT = -1  # in place of the number of a vertex


@dataclass(frozen=True)
class SheetMesh:
    """Shells of one sheet.

    points : (n, 3); elements : (m, 4) trias end with −1
    on_kind, on_item : (n,) what each node sits on (VERTEX, EDGE, FACE) and its number in the sheet
    face : (m,) face of each element; ring : (m,) hole number of washer elements, else −1
    divisions : (e,) count along each edge; edge_nodes : nodes along each edge
    holes : the round holes with the rings that were made
    notes : what did not go as asked, in plain words
    kept_faces : faces that were not meshed because the earlier mesh of them stays
    kept_edges : edges whose nodes are where the earlier mesh had them
    settled : (k,) nodes inside faces that are where the earlier mesh had them
    """

    points: Floats
    elements: Ints
    on_kind: NDArray[np.uint8]
    on_item: Ints
    face: Ints
    ring: Ints
    divisions: NDArray[np.int64]
    edge_nodes: tuple[Ints, ...]
    holes: tuple[RoundHole, ...]
    notes: tuple[str, ...]
    kept_faces: frozenset[int] = frozenset()
    kept_edges: frozenset[int] = frozenset()
    settled: Ints = field(default_factory=lambda: np.empty(0, np.int32))

    @property
    def still(self) -> NDArray[np.bool_]:
        """The nodes (n,) that are where the earlier mesh had them, inside faces and along edges."""
        out = np.zeros(len(self.points), bool)
        for lot in (self.settled, *(self.edge_nodes[e] for e in self.kept_edges)):
            out[lot] = True
        return out


@dataclass(frozen=True)
class Kept:
    """What may stay from an earlier mesh of the same (or nearly the same) sheet.

    faces : faces whose geometry is as it was
    lines : edge → points (count + 1, 3) along it, in the edge's own sense, as they are now
    held : likewise, for edges whose nodes belong to a neighbour and stay whatever happens
    inner : face → points (n, 3) and elements (m, 4) that fill it inside its rings
    """

    faces: frozenset[int]
    lines: dict[int, Floats]
    held: dict[int, Floats] = field(default_factory=dict)
    inner: Callable[[int], tuple[Floats, Ints]] | None = None

    def without(self, faces: Collection[int], shape: Shape) -> Kept:
        """What may stay but these faces and the edges between them."""
        between = {e for f in faces for e in shape.face_edges[f] if set(shape.edge_faces[e]) <= set(faces)}
        return replace(self, faces=self.faces - set(faces), lines={e: line for e, line in self.lines.items() if e not in between})


class Builder:
    """Collects nodes and elements of all regions."""

    def __init__(self) -> None:
        self.points: list[Floats] = []
        self.kind: list[NDArray[np.uint8]] = []
        self.item: list[Ints] = []
        self.count = 0
        self.elements: list[Ints] = []
        self.face: list[Ints] = []
        self.ring: list[Ints] = []
        self.settled: list[Ints] = []

    def nodes(self, points: Floats, kind: int, item: NDArray[np.int32] | int) -> Ints:
        first = self.count
        self.points.append(points)
        self.kind.append(np.full(len(points), kind, np.uint8))
        self.item.append(np.broadcast_to(np.asarray(item, np.int32), (len(points),)).copy())
        self.count += len(points)
        return np.arange(first, self.count, dtype=np.int32)

    def add(self, elements: Ints, face: Ints, ring: int) -> None:
        self.elements.append(elements.astype(np.int32))
        self.face.append(face.astype(np.int32))
        self.ring.append(np.full(len(elements), ring, np.int32))
