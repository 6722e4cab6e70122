"""Documents as VTK actors: bodies, sheets, elements, beams, spiders, what is chosen."""

from __future__ import annotations

import itertools

import numpy as np
from numpy.typing import NDArray
from vtkmodules.util.numpy_support import numpy_to_vtk, numpy_to_vtkIdTypeArray
from vtkmodules.vtkCommonCore import vtkPoints
from vtkmodules.vtkCommonDataModel import vtkCellArray, vtkPolyData
from vtkmodules.vtkRenderingCore import vtkActor, vtkPolyDataMapper

from kind_rivet.app.theme import COPPER, FAILING, FOCUS, INK, SOUND, UNEASY, rgb
from kind_rivet.core.document.document import Document, Section
from kind_rivet.core.geometry.carriers import Floats, frame
from kind_rivet.core.geometry.coarse import coarse
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.mesh.kinds import BEAM, KINDS
from kind_rivet.core.mesh.mesh import Mesh
from kind_rivet.core.midsurface.sheet import Sheet

GRADE = np.array([rgb(SOUND), rgb(UNEASY), rgb(FAILING)])
PALE, DEEP = np.array(rgb("#F2EEE2")), np.array(rgb("#1F5A63"))


def poly(points: Floats, cells: list[NDArray[np.int64]] | NDArray[np.int64], lines: bool = False) -> vtkPolyData:
    """Polydata of polygons (or polylines) given as arrays of equal or different width."""
    data = vtkPolyData()
    where = vtkPoints()
    where.SetData(numpy_to_vtk(np.ascontiguousarray(points, float), deep=True))
    data.SetPoints(where)
    lots = [cells] if isinstance(cells, np.ndarray) else cells
    lots = [c for c in lots if len(c)]
    sizes = np.concatenate([np.full(len(c), c.shape[1]) for c in lots]) if lots else np.empty(0, int)
    array = vtkCellArray()
    offsets = np.concatenate(([0], np.cumsum(sizes))).astype(np.int64)
    connectivity = np.concatenate([c.ravel() for c in lots]).astype(np.int64) if lots else np.empty(0, np.int64)
    array.SetData(numpy_to_vtkIdTypeArray(offsets, deep=True), numpy_to_vtkIdTypeArray(connectivity, deep=True))
    if lines:
        data.SetLines(array)
    else:
        data.SetPolys(array)
    return data


def coloured(data: vtkPolyData, colours: Floats) -> vtkPolyData:
    """Cell colours (m, 3) in 0 … 1."""
    array = numpy_to_vtk((np.clip(colours, 0, 1) * 255).astype(np.uint8), deep=True)
    array.SetName("colour")
    data.GetCellData().SetScalars(array)
    return data


def actor(
    data: vtkPolyData, colour: str | None = None, opacity: float = 1.0, width: float = 1.0, lit: bool = True, lift: float = 0.0
) -> vtkActor:
    mapper = vtkPolyDataMapper()
    mapper.SetInputData(data)
    if colour is not None:
        mapper.ScalarVisibilityOff()
    mapper.SetResolveCoincidentTopologyToPolygonOffset()
    mapper.SetRelativeCoincidentTopologyPolygonOffsetParameters(lift, lift)
    mapper.SetRelativeCoincidentTopologyLineOffsetParameters(lift, lift)
    out = vtkActor()
    out.SetMapper(mapper)
    p = out.GetProperty()
    if colour is not None:
        p.SetColor(*rgb(colour))
    p.SetOpacity(opacity)
    p.SetLineWidth(width)
    p.SetLighting(lit)
    p.SetInterpolationToFlat()
    p.SetAmbient(0.28)
    p.SetDiffuse(0.75)
    return out


def edge_lines(shape: Shape, only: list[int]) -> vtkPolyData:
    segments = [np.column_stack((shape.edges[e].nodes[:-1], shape.edges[e].nodes[1:])) for e in only]
    return poly(shape.points, [np.concatenate(segments)] if segments else [], lines=True)


MANY = 150_000  # facets; above, a coarse picture stands in while the view turns
_BODIES: dict[tuple[int, str, float], tuple[Shape, list[vtkActor], vtkActor | None]] = {}


def body_actors(shape: Shape, colour: str, opacity: float) -> tuple[list[vtkActor], vtkActor | None]:
    """A body's actors and, for many facets, a coarse one; made once per shape and look."""
    key = (id(shape), colour, opacity)
    known = _BODIES.get(key)
    if known is None or known[0] is not shape:
        if len(_BODIES) > 60:
            _BODIES.clear()
        rough = None
        if len(shape.facets) > MANY:
            points, facets = coarse(shape.points, shape.facets)
            rough = actor(poly(points, facets.astype(np.int64)), colour, opacity, lift=1.0)
        known = _BODIES[key] = (shape, _body_actors(shape, colour, opacity), rough)
    for made in (*known[1], *([known[2]] if known[2] else [])):
        made.GetMapper().RemoveAllClippingPlanes()
    return known[1], known[2]


def tinted_body(shape: Shape, by_face: Floats) -> list[vtkActor]:
    """A body with a colour (f, 3) for each face."""
    data = coloured(poly(shape.points, shape.facets.astype(np.int64)), by_face[shape.facet_face])
    lines = actor(edge_lines(shape, list(range(len(shape.edges)))), INK, 0.55, 1.0, lit=False)
    return [actor(data, None, 1.0, lift=1.0), lines]


def _body_actors(shape: Shape, colour: str, opacity: float) -> list[vtkActor]:
    """Facets with exact normals and edges; wires as lines only."""
    if not len(shape.facets):
        return [actor(edge_lines(shape, list(range(len(shape.edges)))), colour, 1.0, 3.0, lit=False)]
    flat = shape.facets.ravel()
    data = poly(shape.points[flat], np.arange(len(flat)).reshape(-1, 3))
    normals = numpy_to_vtk(np.ascontiguousarray(shape.normals.reshape(-1, 3)), deep=True)
    normals.SetName("normals")
    data.GetPointData().SetNormals(normals)
    faces = actor(data, colour, opacity, lift=1.0)
    faces.GetProperty().SetInterpolationToGouraud()
    lines = actor(edge_lines(shape, list(range(len(shape.edges)))), INK, 0.25 if opacity < 1 else 0.55, 1.0, lit=False)
    return [faces, lines]


def sheet_actors(shape: Shape, colour: str, opacity: float = 1.0, by_face: Floats | None = None) -> list[vtkActor]:
    """A sheet: facets, joined edges thin ink, free ones thick copper, junctions blue."""
    data = poly(shape.points, shape.facets.astype(np.int64))
    if by_face is not None:
        coloured(data, by_face[shape.facet_face])
        faces = actor(data, None, opacity, lift=1.0)
    else:
        faces = actor(data, colour, opacity, lift=1.0)
    uses = [len(f) for f in shape.edge_faces]
    out = [faces]
    for wanted, tint, width in (((2,), INK, 1.2), ((1,), COPPER, 2.4), ((3, 4, 5, 6), FOCUS, 3.0)):
        chosen = [e for e, n in enumerate(uses) if n in wanted]
        if chosen:
            out.append(actor(edge_lines(shape, chosen), tint, 1.0, width, lit=False, lift=-1.0))
    return out


def shell_cells(mesh: Mesh, chosen: NDArray[np.int64] | None = None) -> tuple[list[NDArray[np.int64]], NDArray[np.int64]]:
    """Trias and quads as polygon rows, and the element index of each polygon."""
    rows = mesh.shells()
    index = np.flatnonzero(rows[:, 0] >= 0) if chosen is None else chosen[rows[chosen, 0] >= 0]
    tria = rows[index, 3] < 0
    return [rows[index[tria], :3].astype(np.int64), rows[index[~tria]].astype(np.int64)], np.concatenate((index[tria], index[~tria]))


def solid_skin(mesh: Mesh) -> tuple[list[NDArray[np.int64]], NDArray[np.int64]]:
    """Outer faces of the solid elements, and the element of each."""
    lots: dict[int, list[NDArray[np.int64]]] = {3: [], 4: []}
    owner: dict[int, list[NDArray[np.int64]]] = {3: [], 4: []}
    for kind in KINDS:
        if kind.dimension != 3:
            continue
        rows = np.flatnonzero(mesh.kind == kind.code)
        for face in kind.faces:
            if len(rows):
                lots[len(face)].append(mesh.conn[rows][:, face].astype(np.int64))
                owner[len(face)].append(rows)
    cells, owners = [], []
    for width in (3, 4):
        if lots[width]:
            all_faces, own = np.concatenate(lots[width]), np.concatenate(owner[width])
            _, first, count = np.unique(np.sort(all_faces, axis=1), axis=0, return_index=True, return_counts=True)
            outer = first[count == 1]
            cells.append(all_faces[outer])
            owners.append(own[outer])
    return cells, np.concatenate(owners) if owners else np.empty(0, np.int64)


def scale_colours(values: Floats, low: float, high: float) -> Floats:
    """One hue from pale paper to deep teal."""
    share = np.clip((values - low) / (high - low) if high > low else np.zeros_like(values), 0, 1)[:, None]
    return np.asarray(PALE + share * (DEEP - PALE))


def beam_actor(document: Document) -> vtkActor | None:
    """Beams as the real sections: prisms round the element lines."""
    mesh = document.mesh
    points: list[Floats] = []
    quads: list[NDArray[np.int64]] = []
    first = 0
    sections = {p.key: p.section for p in document.parts}
    for e in np.flatnonzero(mesh.kind == BEAM):
        section = sections.get(int(mesh.part[e]))
        outline = section_outline(section) if section else section_outline(Section("tube", (2.0, 0.1)))
        a, b = mesh.points[mesh.conn[e, 0]], mesh.points[mesh.conn[e, 1]]
        axis = (b - a) / max(float(np.linalg.norm(b - a)), 1e-300)
        u, v = frame(axis)
        ring = outline[:, :1] * u + outline[:, 1:] * v
        n = len(ring)
        points += [a + ring, b + ring]
        k = np.arange(n)
        quads.append(first + np.column_stack((k, (k + 1) % n, n + (k + 1) % n, n + k)))
        first += 2 * n
    if not points:
        return None
    return actor(poly(np.concatenate(points), [np.concatenate(quads)]), "#8EA3B8")


def section_outline(section: Section) -> Floats:
    """Outer outline (k, 2) of a section."""
    if section.shape == "tube":
        a = np.arange(16) / 16 * 2 * np.pi
        return section.measures[0] / 2 * np.column_stack((np.cos(a), np.sin(a)))
    w, h = section.measures[0] / 2, section.measures[1] / 2
    return np.array([(-w, -h), (w, -h), (w, h), (-w, h)])


def spider_actors(document: Document) -> list[vtkActor]:
    """Spider legs as focus-blue lines."""
    index = document.node_index
    legs = [(index[s.centre], index[int(n)]) for s in document.spiders if s.centre in index for n in s.nodes if int(n) in index]
    if not legs:
        return []
    return [actor(poly(document.mesh.points, [np.array(legs, np.int64)], lines=True), FOCUS, 1.0, 1.6, lit=False, lift=-2.0)]


def thick_sheet(sheet: Sheet) -> vtkPolyData:
    """A sheet drawn with its walls' real thickness: facets on both sides and rims at free edges."""
    shape = sheet.shape
    corner = shape.points[shape.facets].reshape(-1, 3)
    normal = shape.normals.reshape(-1, 3)
    half = sheet.thickness_at(corner, np.repeat(shape.facet_face, 3).astype(np.int64))[:, None] / 2 * normal
    row = np.arange(len(corner)).reshape(-1, 3)
    n = len(corner)
    rims = []
    for edge, beside in zip(shape.edges, shape.edge_faces, strict=True):
        if len(beside) != 1:
            continue
        for a, b in itertools.pairwise(edge.nodes.tolist()):
            facet = shape.segment_faces[(a, b) if a < b else (b, a)][0]
            nodes = shape.facets[facet].tolist()
            i, j = 3 * facet + nodes.index(a), 3 * facet + nodes.index(b)
            rims.append((i, j, j + n, i + n))
    return poly(np.vstack((corner + half, corner - half)), [row, row[:, ::-1] + n, np.array(rims, np.int64).reshape(-1, 4)])


def thick_shells(mesh: Mesh) -> vtkPolyData:
    """Shells drawn with their real thickness: top and bottom sheets and rims at free sides."""
    from kind_rivet.core.mesh.topology import shell_sides
    from kind_rivet.core.meshing.layers import node_directions

    index = np.flatnonzero(mesh.is_shell)
    nodes, lift = node_directions(mesh, index)
    rows = mesh.conn[index, :4]
    thickness, weight = np.zeros(mesh.nodes), np.zeros(mesh.nodes)
    for k in range(4):
        good = rows[:, k] >= 0
        np.add.at(thickness, rows[good, k], mesh.thickness[index[good]])
        np.add.at(weight, rows[good, k], 1)
    half = (thickness / np.maximum(weight, 1))[nodes, None] / 2
    top, bottom = mesh.points.copy(), mesh.points.copy()
    top[nodes] += half * lift
    bottom[nodes] -= half * lift
    n = mesh.nodes
    tria = rows[:, 3] < 0
    trias, quads = rows[tria, :3].astype(np.int64), rows[~tria].astype(np.int64)
    sides = shell_sides(mesh.shells())
    single = np.flatnonzero(sides.uses[sides.of_use] == 1)
    ends = sides.ends[sides.of_use[single]]
    a = np.where(sides.forward[single], ends[:, 0], ends[:, 1])
    b = np.where(sides.forward[single], ends[:, 1], ends[:, 0])
    rims = np.column_stack((a + n, b + n, b, a))  # outward, since the element lies left of a → b
    return poly(np.vstack((top, bottom)), [trias, trias[:, ::-1] + n, quads, quads[:, ::-1] + n, rims])
