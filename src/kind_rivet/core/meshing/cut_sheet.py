"""A sheet with cuts made for meshing only, and the way back to the sheet as it was."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.split import cut_between, split_faces
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.sheet_mesh import EDGE, FACE, VERTEX, Kept, SheetMesh

T = TypeVar("T")


@dataclass(frozen=True)
class CutSheet:
    """A sheet with cuts, and what each of its edges and faces was part of.

    whole : the sheet as it was; shape : with cuts (the same object where there are none)
    edges : (e,) edge of the whole sheet, −1 for a cut; faces : (f,) likewise, none −1
    """

    whole: Shape
    shape: Shape
    edges: NDArray[np.int64]
    faces: NDArray[np.int64]

    def rules(self, rules: ShellRules) -> ShellRules:
        """The same rules for the edges and faces there are now; counts by hand are shared out by length."""
        if self.shape is self.whole:
            return rules
        divisions: dict[int, int] = {}
        for e, n in rules.divisions.items():
            parts = self.parts(e) if 0 <= e < len(self.whole.edges) else []
            divisions |= dict(zip(parts, _shared(n, self.shape.edge_length[parts]), strict=True))
        return replace(
            rules,
            divisions=divisions,
            edge_size=_children(rules.edge_size, self.edges),
            face_size=_children(rules.face_size, self.faces),
            ways=_children(rules.ways, self.faces),
        )

    def kept(self, kept: Kept | None) -> Kept | None:
        """What may stay of an earlier mesh: all but what was cut."""
        if kept is None or self.shape is self.whole:
            return kept
        cut = {int(e) for e in self.edges[len(self.whole.edges) :]}
        broken = {int(f) for f in self.faces[len(self.whole.faces) :]}
        return replace(kept, faces=kept.faces - broken, lines={e: line for e, line in kept.lines.items() if e not in cut})

    def mesh_of_whole(self, mesh: SheetMesh) -> SheetMesh:
        """The mesh in terms of the whole sheet: edges in one piece, nodes on cuts on their faces."""
        if self.shape is self.whole:
            return mesh
        edges, parts = self.edges, [self.parts(e) for e in range(len(self.whole.edges))]
        lines = tuple(np.concatenate([mesh.edge_nodes[k][: -1 if k != lot[-1] else None] for k in lot]) for lot in parts)
        count = np.array([sum(int(mesh.divisions[k]) for k in lot) for lot in parts])
        kind, item = mesh.on_kind.copy(), mesh.on_item.copy()
        owner = {int(n): e for e, edge in enumerate(self.whole.edges) for n in edge.nodes[[0, -1]]}
        at_foot = {int(n): int(edges[k]) for k, edge in enumerate(self.shape.edges) if edges[k] >= 0 for n in edge.nodes[[0, -1]]}
        within = {
            int(n): self.shape.edge_faces[k][0] for k in np.flatnonzero(edges < 0).tolist() for n in self.shape.edges[k].nodes[[0, -1]]
        }
        for n in np.flatnonzero((kind == VERTEX) & (item >= 0)).tolist():
            vertex = int(item[n])
            if vertex in at_foot and vertex not in owner:
                kind[n], item[n] = EDGE, at_foot[vertex]
            elif vertex not in owner:  # where cuts meet, away from all edges
                kind[n], item[n] = FACE, within[vertex]
        on = (mesh.on_kind == EDGE) & (mesh.on_item >= 0)
        cut = on & (edges[np.where(on, mesh.on_item, 0)] < 0)
        item[on] = edges[mesh.on_item[on]]
        beside = {k: self.shape.edge_faces[k][0] for k in np.flatnonzero(edges < 0).tolist()}
        kind[cut], item[cut] = FACE, [beside[int(k)] for k in mesh.on_item[cut]]
        faces = kind == FACE
        item[faces] = self.faces[item[faces]]
        holes = tuple(replace(h, edges=tuple(dict.fromkeys(int(edges[e]) for e in h.edges))) for h in mesh.holes)
        return replace(
            mesh, on_kind=kind, on_item=item, face=self.faces[mesh.face].astype(np.int32), divisions=count, edge_nodes=lines, holes=holes
        )  # fmt: skip

    def followed_by(self, after: Shape, lines: int, face: int) -> CutSheet:
        """The sheet after one more cut of a face: its last `lines` edges are new, those before them later parts of edges that were cut."""
        before = self.shape
        later = list(range(len(before.edges), len(after.edges) - lines))
        parents: list[int] = []
        for e, edge in enumerate(before.edges):  # later parts come in the order of the edges
            first = after.edges[e].nodes
            at, end = int(first[-1]), int(first[0]) if edge.closed else int(edge.nodes[-1])
            while at != end:
                at = int(after.edges[later[len(parents)]].nodes[-1])
                parents.append(int(self.edges[e]))
        edges = np.concatenate((self.edges, parents, np.full(lines, -1))).astype(np.int64)
        faces = np.concatenate((self.faces, np.full(len(after.faces) - len(before.faces), self.faces[face])))
        return CutSheet(self.whole, after, edges, faces)

    def cut_to(self, face: int, vertex: int, place: Floats) -> CutSheet:
        """The sheet with a face cut straight from a vertex inside it to a place (3,) on its border; as it was where that cannot be."""
        after = cut_between(self.shape, face, vertex, place)
        if after is None:
            return self
        cut = self.followed_by(after, 1, face)
        return cut if len(cut.edges) == len(after.edges) else self  # else a line that runs over itself was cut more than once

    def cut_at(self, face: int, height: float) -> CutSheet:
        """The sheet with a round face of the whole sheet cut square to its axis, at a height along it; as it was where that cannot be."""
        d = self.whole.faces[face].carrier.array
        for f in np.flatnonzero(self.faces == face).tolist():
            facets = self.shape.points[self.shape.facets[self.shape.facet_face == f]]
            level = (facets - d[:3]) @ d[3:6]
            if not level.min() < height < level.max():
                continue
            plane = (*(d[:3] + height * d[3:6]).tolist(), *d[3:6].tolist())
            try:
                after, lines = split_faces(self.shape, "plane", plane, facets[int(np.argmax(level.max(axis=1)))].mean(axis=0), snap=False)
            except Refused:
                return self
            return self.followed_by(after, lines, f)
        return self

    @property
    def feet(self) -> frozenset[int]:
        """Where cuts meet the border: the borders keep their line, the ends of the lines come to them."""
        return frozenset(int(self.shape.edges[k].nodes[-1]) for k in np.flatnonzero(self.edges < 0))

    def parts(self, edge: int) -> list[int]:
        """The parts of an edge of the whole sheet, in its own sense."""
        found = np.flatnonzero(self.edges == edge).tolist()
        if len(found) < 2:
            return found
        by_start = {int(self.shape.edges[k].nodes[0]): k for k in found}
        out: list[int] = []
        at = int(self.whole.edges[edge].nodes[0])
        if at not in by_start:  # a closed edge begins where it was cut
            at = min(by_start)
        while at in by_start and len(out) < len(found):
            out.append(by_start[at])
            at = int(self.shape.edges[out[-1]].nodes[-1])
        return out


def _children(table: Mapping[int, T], parents: NDArray[np.int64]) -> dict[int, T]:
    return {k: table[p] for k, p in enumerate(parents.tolist()) if p in table}


def _shared(count: int, length: Floats) -> list[int]:
    """A count shared out among parts by their lengths, none left without; nothing among none."""
    if not len(length):
        return []
    out = np.ones(len(length), int)
    for _ in range(max(count - len(length), 0)):
        out[int(np.argmax(length / out))] += 1
    return [int(n) for n in out]
