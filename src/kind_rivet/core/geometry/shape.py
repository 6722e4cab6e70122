"""A faceted boundary representation: faces, edges and vertices over one watertight facet mesh."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from hashlib import blake2b

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import FREE, Carrier, Floats, unit

Ints = NDArray[np.int32]


@dataclass(frozen=True)
class Face:
    """One face: its carrier; which facets belong to it is in `Shape.facet_face`."""

    carrier: Carrier = FREE
    name: str = ""
    colour: str = ""


@dataclass(frozen=True)
class Edge:
    """One edge: `nodes` are indices into `Shape.points` along it (first = last when closed)."""

    nodes: Ints
    carrier: Carrier = FREE

    @property
    def closed(self) -> bool:
        return bool(self.nodes[0] == self.nodes[-1])


@dataclass(frozen=True)
class Shape:
    """Faces and edges of a solid or a sheet over shared facet nodes.

    points : (n, 3) facet nodes; nodes on edges and at vertices are shared by the faces
    facets : (m, 3) indices, turning outward on solids
    facet_face : (m,) face of each facet
    normals : (m, 3, 3) exact unit normals at the facet corners
    """

    points: Floats
    facets: Ints
    facet_face: Ints
    normals: Floats
    faces: tuple[Face, ...]
    edges: tuple[Edge, ...]
    solid: bool = True

    @cached_property
    def box(self) -> Floats:
        """Lowest and highest corner (2, 3)."""
        return np.array([self.points.min(axis=0), self.points.max(axis=0)])

    @cached_property
    def diagonal(self) -> float:
        return float(np.linalg.norm(self.box[1] - self.box[0]))

    @cached_property
    def facet_area(self) -> Floats:
        a, b, c = (self.points[self.facets[:, k]] for k in range(3))
        return np.asarray(np.linalg.norm(np.cross(b - a, c - a), axis=1) / 2)

    @cached_property
    def face_area(self) -> Floats:
        return np.asarray(np.bincount(self.facet_face, self.facet_area, len(self.faces)), float)

    @cached_property
    def volume(self) -> float:
        """Enclosed volume (solids), by the divergence theorem over the facets."""
        a, b, c = (self.points[self.facets[:, k]] - self.box[0] for k in range(3))
        return float(np.einsum("ij,ij->", a, np.cross(b, c)) / 6)

    @cached_property
    def bulged_volume(self) -> float:
        """The volume with what freely curved faces bulge beyond their facets, to second order, by the exact normals at the corners.

        A patch over a side e of a facet is (n₂ − n₁) · e / 8 high at its middle and so a third of the area times the sum of the
        three in volume. Facets of both sides of round walls fall short alike, as do those of their sheet; freely curved sides may be cut unlike.
        """
        mine = np.array([face.carrier.kind == "free" for face in self.faces], bool)[self.facet_face]
        if not mine.any():
            return self.volume
        p, n = self.points[self.facets[mine]], self.normals[mine]
        height = np.einsum("fij,fij->f", np.roll(p, -1, axis=1) - p, np.roll(n, -1, axis=1) - n) / 8
        return self.volume + float((self.facet_area[mine] * height).sum() / 3)

    @cached_property
    def facet_normal(self) -> Floats:
        a, b, c = (self.points[self.facets[:, k]] for k in range(3))
        return unit(np.cross(b - a, c - a))

    @cached_property
    def segment_faces(self) -> dict[tuple[int, int], list[int]]:
        """Facet numbers beside each facet segment that lies on an edge (keys sorted)."""
        lots = [np.column_stack((e.nodes[:-1], e.nodes[1:])) for e in self.edges]
        segments = np.sort(np.concatenate(lots), axis=1) if lots else np.empty((0, 2), np.int32)
        on_edge: dict[tuple[int, int], list[int]] = {(a, b): [] for a, b in segments.tolist()}
        n = np.int64(len(self.points))
        wanted = np.unique(segments[:, 0] * n + segments[:, 1])
        for k in range(3):
            a, b = self.facets[:, k].astype(np.int64), self.facets[:, (k + 1) % 3].astype(np.int64)
            low, high = np.minimum(a, b), np.maximum(a, b)
            facets = np.flatnonzero(np.isin(low * n + high, wanted))
            for facet, p, q in zip(facets.tolist(), low[facets].tolist(), high[facets].tolist(), strict=True):
                on_edge[(p, q)].append(facet)
        return on_edge

    @cached_property
    def edge_faces(self) -> tuple[tuple[int, ...], ...]:
        """Faces beside each edge; a seam names its face twice, a free edge has one, an edge of a wire none."""
        out = []
        for edge in self.edges:
            a, b = int(edge.nodes[0]), int(edge.nodes[1])
            facets = self.segment_faces[(a, b) if a < b else (b, a)]
            out.append(tuple(sorted(int(self.facet_face[f]) for f in facets)))
        return tuple(out)

    @cached_property
    def face_neighbours(self) -> tuple[frozenset[int], ...]:
        """Faces that share an edge with each face."""
        out: list[set[int]] = [set() for _ in self.faces]
        for faces in self.edge_faces:
            for f in faces:
                out[f] |= set(faces) - {f}
        return tuple(frozenset(near) for near in out)

    @cached_property
    def face_edges(self) -> tuple[tuple[int, ...], ...]:
        """Edges round each face."""
        out: list[list[int]] = [[] for _ in self.faces]
        for e, faces in enumerate(self.edge_faces):
            for f in set(faces):
                out[f].append(e)
        return tuple(tuple(edges) for edges in out)

    @cached_property
    def fingerprint(self) -> bytes:
        """The same for shapes of the same facets, edges and carriers, in whatever process they were made."""
        word = blake2b(digest_size=16)
        for lot in (self.points, self.facets, self.facet_face, self.normals, *(edge.nodes for edge in self.edges)):
            word.update(np.ascontiguousarray(lot).tobytes() + b"|")
        carriers = [face.carrier for face in self.faces] + [edge.carrier for edge in self.edges]
        word.update(repr(carriers).encode())
        return word.digest()

    @cached_property
    def edge_length(self) -> Floats:
        return np.array([np.linalg.norm(np.diff(self.points[e.nodes], axis=0), axis=1).sum() for e in self.edges])

    @cached_property
    def vertices(self) -> dict[int, list[int]]:
        """Facet node of each vertex, with the edges that end there."""
        out: dict[int, list[int]] = {}
        for e, edge in enumerate(self.edges):
            for end in {int(edge.nodes[0]), int(edge.nodes[-1])}:
                out.setdefault(end, []).append(e)
        return out

    @cached_property
    def face_border_length(self) -> Floats:
        out = np.zeros(len(self.faces))
        for e, faces in enumerate(self.edge_faces):
            for f in faces:
                out[f] += self.edge_length[e]
        return out
