"""Join what CAD has split without need: faces of one carrier, edges that run on smoothly."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import fit_curve, same
from kind_rivet.core.geometry.shape import Edge, Face, Shape

SMOOTH = np.cos(np.radians(8.0))


def simplify(shape: Shape) -> tuple[Shape, NDArray[np.int64]]:
    """The shape with same-carrier neighbours joined and smooth two-edge vertices dissolved.

    Returns the new shape and, for each new face, one old face it came from.
    """
    label = _joined_faces(shape)
    kept, owner = np.unique(label, return_inverse=True)
    beside = [tuple(sorted({int(owner[f]) for f in faces})) if len(faces) > 1 else (int(owner[faces[0]]),) for faces in shape.edge_faces]
    # An edge vanishes when both its sides now are one face (a seam of a closed face stays).
    inner = [len(faces) == 2 and faces[0] != faces[1] and owner[faces[0]] == owner[faces[1]] for faces in shape.edge_faces]
    alive = [e for e in range(len(shape.edges)) if not inner[e]]
    chains = _chains(shape, alive, beside)
    tolerance = 1e-6 * shape.diagonal
    edges = []
    for nodes, parts in chains:
        carrier = shape.edges[parts[0]].carrier if len(parts) == 1 else fit_curve(shape.points[nodes], tolerance)
        edges.append(Edge(nodes.astype(np.int32), carrier))
    faces = tuple(Face(shape.faces[int(f)].carrier, shape.faces[int(f)].name, shape.faces[int(f)].colour) for f in kept)
    out = Shape(shape.points, shape.facets, owner[shape.facet_face].astype(np.int32), shape.normals, faces, tuple(edges), shape.solid)
    return out, kept


def _joined_faces(shape: Shape) -> NDArray[np.int64]:
    """Lowest face number of each group of neighbouring faces with one carrier."""
    label = np.arange(len(shape.faces))

    def root(f: int) -> int:
        while label[f] != f:
            label[f] = label[label[f]]
            f = int(label[f])
        return f

    tolerance = 1e-6 * shape.diagonal
    for e, faces in enumerate(shape.edge_faces):
        if len(faces) == 2 and faces[0] != faces[1]:
            a, b = faces
            if same(shape.faces[a].carrier, shape.faces[b].carrier, shape.points[shape.edges[e].nodes], tolerance) and _closed_round(
                shape, root(a), root(b)
            ):
                ra, rb = root(a), root(b)
                label[max(ra, rb)] = min(ra, rb)
    return np.array([root(f) for f in range(len(shape.faces))])


def _closed_round(shape: Shape, a: int, b: int) -> bool:
    """Two half tubes stay apart: a closed cylinder without a seam could not be developed."""
    shared = [e for e in shape.face_edges[a] if set(shape.edge_faces[e]) == {a, b}]
    return shape.faces[a].carrier.kind == "plane" or len(shared) < 2


def _chains(shape: Shape, alive: list[int], beside: list[tuple[int, ...]]) -> list[tuple[NDArray[np.int32], list[int]]]:
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
        a, b = (_leaving(shape, e, node) for e in at)
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


def _leaving(shape: Shape, e: int, node: int) -> NDArray[np.float64]:
    nodes = shape.edges[e].nodes
    a, b = (nodes[0], nodes[1]) if nodes[0] == node else (nodes[-1], nodes[-2])
    v = shape.points[b] - shape.points[a]
    return np.asarray(v / max(float(np.linalg.norm(v)), 1e-300))
