"""From the shells of one sheet to a `Mesh`, with thickness and offset measured against the solid."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.mesh.kinds import QUAD, TRIA, WIDTH
from kind_rivet.core.mesh.mesh import Mesh
from kind_rivet.core.meshing.bends import balance_bends
from kind_rivet.core.meshing.sheet_mesh import SheetMesh
from kind_rivet.core.midsurface.blend_material import BlendMaterial
from kind_rivet.core.midsurface.sheet import Sheet

NEAR = 0.02  # of the wall: measured as near to its own thickness, it has just that
PARALLEL = 0.99  # cosine between two sides from which they are parallel
FACING = 0.5  # cosine to the normal from which what a ray meets is a side of its own wall or a blend of it, not the side of another wall

THIRDS = np.array([1.0, 3.0, 5.0]) / 6
# Corner weights of nine places spread over a quad, and of the middles of the nine triangles into which thirds of its sides cut a tria.
OVER_QUAD = np.array([[(1 - u) * (1 - v), u * (1 - v), u * v, (1 - u) * v] for u in THIRDS for v in THIRDS])
OVER_TRIA = np.array([[i, j, 9 - i - j, 0] for i, j in ((7, 1), (4, 4), (4, 1), (1, 7), (1, 4), (1, 1), (5, 2), (2, 5), (2, 2))]) / 9


def as_mesh(shells: SheetMesh, sheet: Shape, body: int, part: int, size: float, lines: Mapping[int, Floats] | None = None) -> Mesh:
    """Numbers start at 1; thickness and offset are filled by `measure_thickness`.

    `lines`: places along kept edges, which stand in the earlier mesh already as bends and round walls want them.
    """
    m, n = len(shells.elements), len(shells.points)
    conn = np.full((m, WIDTH), -1, np.int32)
    conn[:, :4] = shells.elements
    points, height = balance_bends(sheet, shells, size)
    points[shells.settled] = shells.points[shells.settled]
    if lines is not None:
        for e in shells.kept_edges:
            points[shells.edge_nodes[e]] = lines[e]
    return Mesh(
        points=points, height=height, node_id=np.arange(1, n + 1, dtype=np.int32), on_kind=shells.on_kind.copy(), on_item=shells.on_item.copy(),
        on_body=np.full(n, body, np.int32), kind=np.where(shells.elements[:, 3] < 0, TRIA, QUAD).astype(np.uint8), conn=conn,
        element_id=np.arange(1, m + 1, dtype=np.int32), part=np.full(m, part, np.int32), thickness=np.zeros(m), offset=np.zeros(m),
        body=np.full(m, body, np.int32), face=shells.face.copy(), ring=shells.ring.copy(),
    )  # fmt: skip


def measure_thickness(mesh: Mesh, body: int, solid: Shape, sheet: Sheet) -> tuple[Floats, Floats]:
    """Thickness and offset (m,) of the shells of `body` from rays along the element normals.

    thickness = up + down and offset = (up − down) / 2 where both rays leave the solid
    through faces that look along the normal, within twice the wall known for the face; elsewhere the wall's own
    and 0. Elements that slope from one wall to another are as thick as their wall is square to its sides.
    Beside joints, elements hold their share of the blends there. Elements of other bodies keep what they have.
    """
    thickness, offset = mesh.thickness.copy(), mesh.offset.copy()
    mine = np.flatnonzero(mesh.is_shell & (mesh.body == body))
    if not len(mine):
        return thickness, offset
    rows = mesh.conn[mine, :4]
    tria = rows[:, 3] < 0
    p = mesh.points
    a = np.where(tria[:, None], p[rows[:, 1]] - p[rows[:, 0]], p[rows[:, 2]] - p[rows[:, 0]])
    b = np.where(tria[:, None], p[rows[:, 2]] - p[rows[:, 0]], p[rows[:, 3]] - p[rows[:, 1]])
    normal = np.cross(a, b)
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)
    centre = mesh.centres()[mine]
    # Rays start on the sheet itself: a chord across a bend lies off it and would read too thin.
    start = _on_sheet(centre, sheet.shape)
    known = sheet.thickness_at(start, np.maximum(mesh.face[mine], 0))
    tree = FacetTree.over(solid.points, solid.facets)
    eps = 1e-6 * solid.diagonal
    up, above = tree.cast(start, normal, least=eps)
    down, below = tree.cast(start, -normal, least=eps)
    total = up + down
    facing = [np.abs(np.einsum("ij,ij->i", solid.facet_normal[hit], normal)) > FACING for hit in (above, below)]
    good = np.isfinite(total) & (total < 2 * known) & (total > 0.5 * known) & facing[0] & facing[1]
    # Facets cut a little off round walls; within that, the wall's exact value is the better one.
    near = good & (np.abs(total - known) < NEAR * known)
    square = good & (np.abs(total * _slope(solid, normal, above, below) - known) < NEAR * known)
    thickness[mine] = np.where(good & ~near & ~square, total, known)
    apart = np.subtract(up, down, out=np.zeros_like(up), where=good)
    offset[mine] = np.where(~near, apart / 2, 0.0)
    if blends := BlendMaterial.of(solid, tree, sheet):
        beside = blends.near(start, known, np.sqrt(np.linalg.norm(np.cross(a, b), axis=1)))
        high = _blend_heights(blends, p, rows[beside], normal[beside], np.maximum(mesh.face[mine[beside]], 0).astype(np.int64))
        through = np.any([(hit[beside] >= 0) & (blends.radii[hit[beside]] > 0) for hit in (above, below)], axis=0)
        much = high.sum(axis=1) > NEAR * known[beside]
        chosen = np.flatnonzero(beside)[through | much]
        high = np.where(much[:, None], high, 0.0)[through | much]
        thickness[mine[chosen]] = known[chosen] + high.sum(axis=1)
        offset[mine[chosen]] = (high[:, 0] - high[:, 1]) / 2
    return thickness, offset


def _blend_heights(blends: BlendMaterial, points: Floats, rows: NDArray[np.int32], normal: Floats, face: NDArray[np.int64]) -> Floats:
    """How high (m, 2) blends stand over elements (m, 4; trias end with −1) above and below, on the mean of places spread over them."""
    weight = np.where((rows[:, 3] < 0)[:, None, None], OVER_TRIA, OVER_QUAD)
    places = np.einsum("mpk,mkj->mpj", weight, points[rows]).reshape(-1, 3)
    each = len(OVER_QUAD)
    start, of = _on_sheet(places, blends.sheet.shape), np.repeat(face, each)
    high = blends.heights(start, np.repeat(normal, each, axis=0), of, blends.sheet.thickness_at(start, of))
    return np.asarray(high.reshape(-1, each, 2).mean(axis=1))


def _slope(solid: Shape, normal: Floats, above: NDArray[np.int32], below: NDArray[np.int32]) -> Floats:
    """Cosine (m,) between element normals and the two sides they look at, where these are parallel; 1 elsewhere."""
    one, other = solid.facet_normal[above], solid.facet_normal[below]
    parallel = np.einsum("ij,ij->i", one, other) < -PARALLEL
    return np.where(parallel, np.abs(np.einsum("ij,ij->i", normal, one)), 1.0)


def _on_sheet(points: Floats, sheet: Shape) -> Floats:
    tree = FacetTree.over(sheet.points, sheet.facets)
    facet, weight, _ = tree.nearest(points)
    return np.asarray(np.einsum("ij,ijk->ik", weight, sheet.points[sheet.facets[facet]]))
