"""Turning the faces of a sheet alike."""

from __future__ import annotations

from collections import deque
from dataclasses import replace

import numpy as np

from kind_rivet.core.geometry.shape import Shape

ALIKE = 0.9  # cosine from which two of three or more walls at an edge count as one running through


def turned_alike(shape: Shape) -> Shape:
    """The sheet with facets and normals of whole faces reversed so that neighbours look the same way.

    Across an edge of two faces always; of three or more, those two that run straight on
    through the edge. Faces that close on themselves the wrong way round are left.
    """
    links: list[list[tuple[int, bool]]] = [[] for _ in shape.faces]
    for edge in shape.edges:
        a, b = int(edge.nodes[0]), int(edge.nodes[1])
        sides = []
        for f in shape.segment_faces[(a, b) if a < b else (b, a)]:
            row = shape.facets[f].tolist()
            sides.append((int(shape.facet_face[f]), f, row[(row.index(a) + 1) % 3] == b))
        for i, (face, f, forward) in enumerate(sides):
            for other, g, onward in sides[i + 1 :]:
                if face == other:
                    continue
                if len(sides) > 2 and abs(float(shape.facet_normal[f] @ shape.facet_normal[g])) < ALIKE:
                    continue
                links[face].append((other, forward == onward))
                links[other].append((face, forward == onward))
    flip = np.zeros(len(shape.faces), bool)
    seen = np.zeros(len(shape.faces), bool)
    for start in np.argsort(-shape.face_area).tolist():
        if seen[start]:
            continue
        seen[start] = True
        queue = deque([start])
        while queue:
            f = queue.popleft()
            for g, turn in links[f]:
                if not seen[g]:
                    seen[g] = True
                    flip[g] = flip[f] != turn
                    queue.append(g)
    if not flip.any():
        return shape
    mine = flip[shape.facet_face]
    facets, normals = shape.facets.copy(), shape.normals.copy()
    facets[mine] = facets[mine][:, [0, 2, 1]]
    normals[mine] = -normals[mine][:, [0, 2, 1]]
    return replace(shape, facets=facets, normals=normals)
