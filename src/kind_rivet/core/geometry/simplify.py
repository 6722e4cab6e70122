"""Joining faces across edges: what CAD has split without need, and what the analyst looks past."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import FREE, distance, fit_curve, same, unit
from kind_rivet.core.geometry.curving import curving_on, smooth_on
from kind_rivet.core.geometry.prism_axis import axis_of
from kind_rivet.core.geometry.shape import Edge, Face, Shape
from kind_rivet.core.geometry.weld import subshape

SMOOTH = np.cos(np.radians(8.0))
OPEN = np.radians(80.0)  # what turns by less from its mean is no tube
HAIR = 0.05  # radii: straight bits up to this are parts of the arc beside them
FILLET = 1.8  # radii: a round face narrower than this is a fillet


def simplify(
    shape: Shape, blends: bool = False, turning: float | None = None, tubes: frozenset[int] = frozenset()
) -> tuple[Shape, NDArray[np.int64]]:
    """The shape with same-carrier neighbours joined and smooth two-edge vertices dissolved.

    `blends`: fillets of one radius that meet in a mitre are joined too (and are free-form then), unless a wall bends there.
    `turning`: freely curved faces that curve on alike across the edge between them are joined too, as long as no normal of
    what they make up is further from their mean than this, rad.
    `tubes`: of these faces, those that have one normal along the edge between them too, however they curve, as long as they make up
    a disc or a tube.
    Returns the new shape and, for each new face, one old face it came from.
    """
    return _joined(shape, _joined_faces(shape, blends, turning, tubes), set())


def look_past(shape: Shape, edges: set[int], run_on: set[int] | None = None) -> tuple[Shape, NDArray[np.int64]]:
    """The shape without the given edges: faces on both sides become one; border edges and those in `run_on` run on into a neighbour.

    Joined faces keep their carrier where all have the same, else they are free (their
    exact corner normals stand for it). Faces that would close round on themselves stay
    apart. Returns the shape and, for each new face, the largest old face it came from.
    """
    groups = _Groups(shape)
    bordering = set(run_on or ())
    for e in sorted(edges - bordering):
        beside = shape.edge_faces[e]
        if len(beside) == 2 and beside[0] != beside[1]:
            groups.join_open(beside[0], beside[1])
        elif len(beside) == 1 and not shape.edges[e].closed:
            bordering.add(e)
    return _joined(shape, groups.label, bordering)


class _Groups:
    """Faces that are being joined: those of one group have one label, the lowest of their numbers."""

    def __init__(self, shape: Shape) -> None:
        self.shape = shape
        self.label = np.arange(len(shape.faces))
        self.members = {f: [f] for f in range(len(shape.faces))}
        self.windows: dict[int, int] = {}  # how many each face has, as far as was asked

    def join(self, face: int, other: int) -> None:
        """Make the groups of two faces one."""
        a, b = sorted((int(self.label[face]), int(self.label[other])))
        if a != b:
            self.label[self.members[b]] = a
            self.members[a] += self.members.pop(b)

    def join_open(self, face: int, other: int) -> None:
        """Make them one unless that would close round on itself."""
        a, b = int(self.label[face]), int(self.label[other])
        if a != b and not self._would_close(a, b):
            self.join(a, b)

    def join_turning(self, face: int, other: int, turning: float) -> None:
        """Make them one unless that would turn by more than `turning` from its mean, or be a tube where none was.

        What turns but little closes round a hole or the foot of a rib, not round a tube. Lengths of one straight tube go together.
        """
        a, b = int(self.label[face]), int(self.label[other])
        if a == b:
            return
        turned = self._turned(a, b)
        if turned <= turning and (turned < OPEN or self._are_a_disc(a, b) or self._are_a_prism(a, b) or self._fill_a_hole(a, b)):
            self.join(a, b)

    def join_to_tube(self, face: int, other: int) -> None:
        """Make them one where that is a disc or a tube, or closes round no more often than one of them does; windows within a face do not count."""
        a, b = int(self.label[face]), int(self.label[other])
        if a == b:
            return
        lots = self.label == a, self.label == b
        if self._without_windows(lots[0] | lots[1]) >= min(0, *(self._without_windows(lot) for lot in lots)):
            self.join(a, b)

    def _would_close(self, a: int, b: int) -> bool:
        """Would joining two groups make a band that closes on itself, other than in a plane?

        It does when the edges they share do not hang together.
        """
        few = min(a, b, key=lambda g: len(self.members[g]))
        ends = []
        for e in sorted({e for f in self.members[few] for e in self.shape.face_edges[f]}):
            beside = self.shape.edge_faces[e]
            if len(beside) == 2 and {int(self.label[f]) for f in beside} == {a, b}:
                ends.append({int(self.shape.edges[e].nodes[0]), int(self.shape.edges[e].nodes[-1])})
        chains: list[set[int]] = []
        for pair in ends:
            touching = [c for c in chains if c & pair]
            chains = [c for c in chains if not c & pair] + [pair.union(*touching)]
        return len(chains) > 1 and not self._in_a_plane(self.members[a] + self.members[b])

    def _are_a_disc(self, a: int, b: int) -> bool:
        """Are two groups together one piece without a hole?"""
        return self._euler((self.label == a) | (self.label == b)) == 1

    def _fill_a_hole(self, a: int, b: int) -> bool:
        """Has what two groups make up together fewer holes than one of them has?"""
        lots = self.label == a, self.label == b
        return self._euler(lots[0] | lots[1]) > min(self._euler(lot) for lot in lots)

    def _are_a_prism(self, a: int, b: int) -> bool:
        """Do two groups run straight along one axis, and make no hole that neither of them has?"""
        lots = [self.label == a, self.label == b]
        together = lots[0] | lots[1]
        if self._euler(together) < min(self._euler(lot) for lot in lots):
            return False
        normals = self.shape.normals[together[self.shape.facet_face]].reshape(-1, 3)
        return axis_of(normals) is not None

    def _euler(self, faces: NDArray[np.bool_]) -> int:
        """Euler's number of the facets of some faces (f,): 1 of a disc, 0 of a tube."""
        facets = self.shape.facets[faces[self.shape.facet_face]]
        sides = np.sort(np.concatenate((facets[:, :2], facets[:, 1:], facets[:, ::2])), axis=1)
        return len(np.unique(facets)) - len(np.unique(sides, axis=0)) + len(facets)

    def _without_windows(self, faces: NDArray[np.bool_]) -> int:
        """Euler's number of some faces (f,) as if their windows were filled."""
        return self._euler(faces) + sum(self._windows_of(f) for f in np.flatnonzero(faces).tolist())

    def _windows_of(self, face: int) -> int:
        """Borders of a face beyond the one of a disc, or the two of a tube, which has a seam."""
        if face not in self.windows:
            seam = any(self.shape.edge_faces[e] == (face, face) for e in self.shape.face_edges[face])
            self.windows[face] = max((0 if seam else 1) - self._euler(np.arange(len(self.shape.faces)) == face), 0)
        return self.windows[face]

    def _turned(self, a: int, b: int) -> float:
        """Largest angle between a facet of two groups and the mean of all."""
        mine = (self.label == a) | (self.label == b)
        seen = mine[self.shape.facet_face]
        normals = self.shape.facet_normal[seen]
        mean = unit(self.shape.facet_area[seen] @ normals)
        return float(np.arccos(np.clip((normals @ mean).min(), -1.0, 1.0)))

    def _in_a_plane(self, faces: list[int]) -> bool:
        carriers = [self.shape.faces[f].carrier for f in faces]
        if any(c.kind != "plane" for c in carriers):
            return False
        normals = np.array([c.array[3:6] for c in carriers])
        return bool(np.abs(normals @ normals[0]).min() > 0.999)


def edges_in_one(shape: Shape) -> Shape:
    """The shape without vertices at which two edges between the same faces run on along one line or arc."""
    tolerance = 1e-6 * shape.diagonal
    edges: list[Edge | None] = list(shape.edges)
    now = list(range(len(edges)))  # the edge that each has become part of
    for node, at in sorted(shape.vertices.items()):
        if len(at) != 2 or now[at[0]] == now[at[1]] or shape.edge_faces[at[0]] != shape.edge_faces[at[1]]:
            continue
        if -float(leaving(shape, at[0], node) @ leaving(shape, at[1], node)) < SMOOTH:
            continue
        first, second = edges[now[at[0]]], edges[now[at[1]]]
        assert first is not None and second is not None
        kinds = sorted((first.carrier.kind, second.carrier.kind))
        chord = kinds == ["circle", "line"] and _is_hair(shape, first, second)  # where an outline was hardly open
        if kinds not in (["circle"] * 2, ["line"] * 2) and not chord:
            continue
        a, b = first.nodes, second.nodes
        nodes = np.concatenate((a if a[-1] == node else a[::-1], (b if b[0] == node else b[::-1])[1:]))
        carrier = fit_curve(shape.points[nodes], tolerance)
        if carrier.kind == kinds[0] and (nodes[0] != nodes[-1] or chord):
            gone = now[at[1]]
            edges[now[at[0]]], edges[gone] = Edge(nodes.astype(np.int32), carrier), None
            now = [now[at[0]] if e == gone else e for e in now]
    kept = tuple(edge for edge in edges if edge is not None)
    return shape if len(kept) == len(edges) else replace(shape, edges=kept)


def _is_hair(shape: Shape, first: Edge, second: Edge) -> bool:
    """Is the straight one of two edges a single segment far shorter than the radius of the round one?"""
    line, arc = (first, second) if first.carrier.kind == "line" else (second, first)
    ends = shape.points[line.nodes[[0, -1]]]
    return len(line.nodes) == 2 and bool(np.linalg.norm(ends[1] - ends[0]) < HAIR * arc.carrier.data[-1])


def without_slits(shape: Shape) -> Shape:
    """The shape without edges inside one face that bound nothing: they hang on others at one end, or at neither."""
    edges = dict(enumerate(shape.edges))
    while True:
        ends: dict[int, int] = {}
        for edge in edges.values():
            for node in edge.nodes[[0, -1]].tolist():
                ends[node] = ends.get(node, 0) + 1
        slits = [
            e
            for e, edge in edges.items()
            if len(shape.edge_faces[e]) == 2
            and len(set(shape.edge_faces[e])) == 1
            and min(ends[n] for n in edge.nodes[[0, -1]].tolist()) == 1
        ]
        if not slits:
            return shape if len(edges) == len(shape.edges) else replace(shape, edges=tuple(edges.values()))
        for e in slits:
            del edges[e]


def tidied(shape: Shape, faces: tuple[int, ...]) -> Shape:
    """Only some faces of a shape, as a sheet without slits, with what runs on smoothly in one edge."""
    return edges_in_one(without_slits(subshape(shape, faces)))


def _joined(shape: Shape, label: NDArray[np.int64], bordering: set[int]) -> tuple[Shape, NDArray[np.int64]]:
    """Faces with one label joined; smooth vertices between two edges dissolved, and one end of each `bordering` edge."""
    names, owner = np.unique(label, return_inverse=True)
    kept = np.array([max(np.flatnonzero(owner == k), key=lambda f: shape.face_area[f]) for k in range(len(names))])
    # Once each, but for the seam of a closed face; an edge between faces without facets has none.
    beside = [
        tuple(sorted({int(owner[f]) for f in faces})) if len(faces) > 1 else tuple(int(owner[f]) for f in faces)
        for faces in shape.edge_faces
    ]
    # An edge vanishes when both its sides now are one face (a seam of a closed face stays).
    inner = [len(faces) == 2 and faces[0] != faces[1] and owner[faces[0]] == owner[faces[1]] for faces in shape.edge_faces]
    alive = [e for e in range(len(shape.edges)) if not inner[e]]
    chains = _chains(shape, alive, beside, _given_up(shape, alive, beside, bordering))
    tolerance = 1e-6 * shape.diagonal
    edges = []
    for nodes, parts in chains:
        carrier = shape.edges[parts[0]].carrier if len(parts) == 1 else fit_curve(shape.points[nodes], tolerance)
        edges.append(Edge(nodes.astype(np.int32), carrier))
    faces = []
    for k, f in enumerate(kept.tolist()):
        members = np.flatnonzero(owner == k)
        first = shape.faces[f].carrier
        alike = len(members) == 1 or all(
            same(first, shape.faces[m].carrier, shape.points[shape.facets[shape.facet_face == f]].reshape(-1, 3), tolerance)
            for m in members.tolist()
            if m != f
        )
        faces.append(Face(first if alike else FREE, shape.faces[f].name, shape.faces[f].colour))
    out = Shape(
        shape.points, shape.facets, owner[shape.facet_face].astype(np.int32), shape.normals, tuple(faces), tuple(edges), shape.solid
    )
    return out, kept


def _joined_faces(shape: Shape, blends: bool, turning: float | None, tubes: frozenset[int]) -> NDArray[np.int64]:
    """Lowest face number of each group of neighbouring faces with one carrier."""
    width = 2 * shape.face_area / np.maximum(shape.face_border_length, 1e-300)
    groups = _Groups(shape)

    def join(a: int, b: int) -> None:
        if _stays_open(shape, int(groups.label[a]), int(groups.label[b])):
            groups.join(a, b)

    tolerance = 1e-6 * shape.diagonal
    mitres = []
    for e, faces in enumerate(shape.edge_faces):
        if len(faces) == 2 and faces[0] != faces[1]:
            a, b = faces
            first, other, shared = shape.faces[a].carrier, shape.faces[b].carrier, shape.points[shape.edges[e].nodes]
            if same(first, other, shared, tolerance):
                join(a, b)
            elif blends and first.kind == other.kind == "cylinder":
                radius = first.data[-1]
                mitre = abs(radius - other.data[-1]) < tolerance and max(width[a], width[b]) < FILLET * radius
                if mitre and bool((distance(first, shared) < tolerance).all() and (distance(other, shared) < tolerance).all()):
                    mitres.append((a, b))
    bends = _with_coaxial_partner(shape, {f for pair in mitres for f in pair}, tolerance)
    for a, b in mitres:
        if not bends & {a, b}:
            join(a, b)
    if turning is not None:
        for e in curving_on(shape):
            groups.join_turning(shape.edge_faces[e][0], shape.edge_faces[e][1], turning)
    if tubes:
        for e in smooth_on(shape):
            if not tubes.issuperset(shape.edge_faces[e]):
                continue
            groups.join_to_tube(shape.edge_faces[e][0], shape.edge_faces[e][1])
    return groups.label


def _with_coaxial_partner(shape: Shape, faces: set[int], tolerance: float) -> set[int]:
    """Those of some cylinders round whose axis there is another one: a wall bends between them, they are no blends."""
    round_ones = [f for f, face in enumerate(shape.faces) if face.carrier.kind == "cylinder"]
    data = np.array([shape.faces[f].carrier.data for f in round_ones]).reshape(-1, 7)
    out = set()
    for f in sorted(faces):
        own = shape.faces[f].carrier.array
        off = np.linalg.norm(np.cross(data[:, :3] - own[:3], own[3:6]), axis=1)
        turned = np.linalg.norm(np.cross(data[:, 3:6], own[3:6]), axis=1)
        if ((off < tolerance) & (turned < 1e-6) & (np.abs(data[:, 6] - own[6]) > tolerance)).any():
            out.add(f)
    return out


def _stays_open(shape: Shape, a: int, b: int) -> bool:
    """Two half tubes stay apart: a closed cylinder without a seam could not be developed."""
    shared = [e for e in shape.face_edges[a] if set(shape.edge_faces[e]) == {a, b}]
    return shape.faces[a].carrier.kind == "plane" or len(shared) < 2


def _given_up(shape: Shape, alive: list[int], beside: list[tuple[int, ...]], bordering: set[int]) -> set[int]:
    """For each border edge that is looked past, the vertex where it runs on most smoothly into another."""
    at: dict[int, list[int]] = {}
    for e in alive:
        for end in {int(shape.edges[e].nodes[0]), int(shape.edges[e].nodes[-1])}:
            at.setdefault(end, []).append(e)
    out: set[int] = set()
    for e in bordering & set(alive):
        choices = []
        for end in (int(shape.edges[e].nodes[0]), int(shape.edges[e].nodes[-1])):
            others = [k for k in at[end] if k != e]
            if len(others) == 1 and beside[others[0]] == beside[e]:
                choices.append((float(leaving(shape, e, end) @ leaving(shape, others[0], end)), end))
        if choices:
            out.add(min(choices)[1])
    return out


def _chains(shape: Shape, alive: list[int], beside: list[tuple[int, ...]], given_up: set[int]) -> list[tuple[NDArray[np.int32], list[int]]]:
    """Edges linked through vertices where exactly two of them run on smoothly between the same faces."""
    ends: dict[int, list[int]] = {}
    for e in alive:
        edge = shape.edges[e]
        if not edge.closed:
            ends.setdefault(int(edge.nodes[0]), []).append(e)
            ends.setdefault(int(edge.nodes[-1]), []).append(e)

    def dissolves(node: int) -> bool:
        at = ends[node]
        if len(at) != 2 or at[0] == at[1] or beside[at[0]] != beside[at[1]]:
            return False
        if node in given_up:
            return True
        a, b = (leaving(shape, e, node) for e in at)
        if -float(a @ b) < SMOOTH:
            return False
        ka, kb = shape.edges[at[0]].carrier.kind, shape.edges[at[1]].carrier.kind
        return ka == kb  # a line that runs into an arc keeps its vertex: slots stay readable

    used: set[int] = set()
    out = []
    for e in alive:
        if e in used:
            continue
        used.add(e)
        nodes, parts = list(shape.edges[e].nodes), [e]
        for _ in range(2):  # grow at the end, then turn round and grow at the other end
            while nodes[0] != nodes[-1] and dissolves(int(nodes[-1])):
                following = next((k for k in ends[int(nodes[-1])] if k not in used), None)
                if following is None:
                    break
                used.add(following)
                more = list(shape.edges[following].nodes)
                nodes += more[1:] if more[0] == nodes[-1] else more[::-1][1:]
                parts.append(following)
            nodes.reverse()
        out.append((np.array(nodes, np.int32), parts))
    return out


def leaving(shape: Shape, e: int, node: int) -> NDArray[np.float64]:
    """Direction (3,) in which an edge leaves one of its end nodes."""
    nodes = shape.edges[e].nodes
    a, b = (nodes[0], nodes[1]) if nodes[0] == node else (nodes[-1], nodes[-2])
    v = shape.points[b] - shape.points[a]
    return np.asarray(v / max(float(np.linalg.norm(v)), 1e-300))
