"""Compile all kernels once, at set-up, by meshing a small made-up sheet."""

from __future__ import annotations

import time
from collections.abc import Iterator

import numpy as np

from kind_rivet.core.document.document import Body, Document
from kind_rivet.core.geometry.carriers import Carrier
from kind_rivet.core.geometry.first_look import look
from kind_rivet.core.geometry.shape import Edge, Face, Shape
from kind_rivet.core.operations import perform


def plate(length: float = 40.0, width: float = 30.0, wall: float = 2.0) -> Shape:
    """A flat plate as a solid of six faces."""
    corner = np.array([(x, y, z) for z in (0, wall) for y in (0, width) for x in (0, length)], float)
    quads = [(0, 2, 3, 1), (4, 5, 7, 6), (0, 1, 5, 4), (1, 3, 7, 5), (3, 2, 6, 7), (2, 0, 4, 6)]
    facets, owner, normals, faces = [], [], [], []
    for f, (a, b, c, d) in enumerate(quads):
        n = np.cross(corner[b] - corner[a], corner[c] - corner[a])
        n = n / np.linalg.norm(n)
        facets += [(a, b, c), (a, c, d)]
        owner += [f, f]
        normals += [[n, n, n]] * 2
        faces.append(Face(Carrier("plane", (*corner[a], *n))))
    pairs = sorted({tuple(sorted((q[k], q[(k + 1) % 4]))) for q in quads for k in range(4)})
    edges = []
    for a, b in pairs:
        direction = (corner[b] - corner[a]) / np.linalg.norm(corner[b] - corner[a])
        edges.append(Edge(np.array([a, b], np.int32), Carrier("line", (*corner[a], *direction))))
    return Shape(corner, np.array(facets, np.int32), np.array(owner, np.int32), np.array(normals), tuple(faces), tuple(edges))


def plate_document() -> Document:
    """A document with the plate as its only body."""
    shape = plate()
    seen = look(shape)
    return Document(name="plate", bodies=(Body(1, "plate", "#9DB4A0", shape, seen.walls, seen.thin_share, seen.holes, "made up"),))


def load_kernels() -> Iterator[str]:
    """Call every kernel once, in steps; what was done is named after each."""
    from kind_rivet.core.geometry.flats import plane_parts
    from kind_rivet.core.geometry.soup import shape_from_triangles
    from kind_rivet.core.geometry.split import distance_to_lines, split_faces
    from kind_rivet.core.meshing.free.fill import fill
    from kind_rivet.core.meshing.free.flow import Grain
    from kind_rivet.core.meshing.spread import taken_apart
    from kind_rivet.core.midsurface.stations import away_from, stations
    from kind_rivet.core.operations.quality import document_holds
    from kind_rivet.core.repair.drag import NodeDrag

    ring = np.array([(np.cos(a), -np.sin(a)) for a in np.arange(12) / 12 * 2 * np.pi]) * 3 + (20, 15)
    sides = [
        np.linspace(p, q, n, endpoint=False)
        for p, q, n in (((0, 0), (40, 0), 10), ((40, 0), (40, 30), 8), ((40, 30), (0, 30), 10), ((0, 30), (0, 0), 8))
    ]
    fill([np.concatenate(sides), ring], 4.0, hard=np.array([(5.0, 5.0)]), spots=np.array([(30.0, 20.0, 2.0, 2.0)]))
    fill([np.concatenate(sides), ring], 4.0, most=1, grain=Grain(0.0, 8.0, 0.05))
    yield "free meshing"
    document = perform(plate_document(), "midsurface.extract", {})
    document = perform(document, "mesh.shells", {"size": 4.0})
    yield "midsurface, shells"
    NodeDrag(document.mesh, document_holds(document), document.limit_sheet, 4.0, document.mesh.nodes - 1).to(document.mesh.points[-1])
    box = plate()
    shape_from_triangles(box.points[box.facets].reshape(-1, 3), np.arange(3 * len(box.facets), dtype=np.int32).reshape(-1, 3))
    split_faces(document.sheets[1].shape, "circle", (20.0, 15.0, 1.0, 0.0, 0.0, 1.0, 5.0), np.array([20.0, 15.0, 1.0]))
    distance_to_lines(box.points, box.points)
    plane_parts(box.points, box.facets)
    taken_apart(box.points, box.facets, box.facet_face.astype(np.int64))
    stations(box.points, box.points, box.points)
    away_from(box.points, box.points)
    yield "the rest"


def main() -> None:
    started = time.perf_counter()
    print("Compiling the numerical kernels (once, about a minute) …", flush=True)
    for what in load_kernels():
        print(f"  {what:18s} {time.perf_counter() - started:5.1f} s", flush=True)


if __name__ == "__main__":
    main()
