"""VTU: the mesh for viewing, with every array needed to read it back.

Cells are the elements in their order, then one vertex per lumped mass, then one line
per spider leg (`cell_role` 0 element, 1 mass, 2 spider leg).
"""

from __future__ import annotations

import json
from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np
from vtkmodules.util.numpy_support import numpy_to_vtk, numpy_to_vtkIdTypeArray, vtk_to_numpy
from vtkmodules.vtkCommonCore import vtkPoints, vtkStringArray
from vtkmodules.vtkCommonDataModel import vtkCellArray, vtkUnstructuredGrid
from vtkmodules.vtkIOXML import vtkXMLUnstructuredGridReader, vtkXMLUnstructuredGridWriter

from kind_rivet.core.document.document import EntitySet, LumpedMass, Part, Section, Spider
from kind_rivet.core.errors import Refused, Unreadable
from kind_rivet.core.files.exchange import Exchange, node_lookup, set_mask
from kind_rivet.core.files.foreign import CELLS, POLYGON, as_read
from kind_rivet.core.mesh.kinds import KINDS, WIDTH
from kind_rivet.core.mesh.mesh import Mesh
from kind_rivet.core.mesh.topology import at_nodes

ELEMENT, MASS_CELL, SPIDER_LEG = 0, 1, 2
VTK_VERTEX, VTK_LINE = 1, 3


def grid_of(exchange: Exchange) -> vtkUnstructuredGrid:
    """The mesh as a VTK grid with all arrays."""
    mesh = exchange.mesh
    lookup = node_lookup(mesh)
    legs = [
        (lookup[s.centre], lookup[int(n)], k)
        for k, s in enumerate(exchange.spiders)
        for n in s.nodes
        if int(n) in lookup and s.centre in lookup
    ]
    masses = [(lookup[m.node], m.mass) for m in exchange.masses if m.node in lookup]
    count = np.array([k.nodes for k in KINDS])[mesh.kind] if mesh.elements else np.empty(0, int)
    there = np.arange(WIDTH)[None] < count[:, None]
    connectivity = np.concatenate((mesh.conn[there], [m[0] for m in masses], np.array([leg[:2] for leg in legs], int).ravel())).astype(
        np.int64
    )
    sizes = np.concatenate((count, np.ones(len(masses), int), np.full(len(legs), 2)))
    offsets = np.concatenate(([0], np.cumsum(sizes))).astype(np.int64)
    codes = np.array([k.vtk for k in KINDS], np.uint8)[mesh.kind] if mesh.elements else np.empty(0, np.uint8)
    types = np.concatenate((codes, np.full(len(masses), VTK_VERTEX), np.full(len(legs), VTK_LINE))).astype(np.uint8)
    extra = len(masses) + len(legs)
    grid = vtkUnstructuredGrid()
    points = vtkPoints()
    points.SetData(numpy_to_vtk(np.ascontiguousarray(mesh.points), deep=True))
    grid.SetPoints(points)
    cells = vtkCellArray()
    cells.SetData(numpy_to_vtkIdTypeArray(offsets, deep=True), numpy_to_vtkIdTypeArray(connectivity, deep=True))
    grid.SetCells(numpy_to_vtk(types, deep=True), cells)

    def padded(values: np.ndarray, fill: float = 0) -> np.ndarray:
        return np.concatenate((values, np.full(extra, fill, values.dtype)))

    index = exchange.index if exchange.index is not None else np.full(mesh.elements, np.nan)
    role = padded(np.zeros(mesh.elements, np.uint8))
    role[mesh.elements : mesh.elements + len(masses)] = MASS_CELL
    role[mesh.elements + len(masses) :] = SPIDER_LEG
    mass = padded(np.zeros(mesh.elements))
    mass[mesh.elements : mesh.elements + len(masses)] = [m[1] for m in masses]
    spider = padded(np.full(mesh.elements, -1, np.int32), -1)
    spider[mesh.elements + len(masses) :] = [leg[2] for leg in legs]
    cell_arrays = {
        "element_id": padded(mesh.element_id), "part_id": padded(mesh.part), "thickness": padded(mesh.thickness), "offset": padded(mesh.offset),
        "index": padded(np.nan_to_num(index, nan=1.0), 1.0), "kind": padded(mesh.kind), "body": padded(mesh.body, -1), "face": padded(mesh.face, -1), "ring": padded(mesh.ring, -1),
        "cell_role": role, "mass": mass, "spider": spider,
    }  # fmt: skip
    for s in exchange.sets:
        if s.kind == "element":
            cell_arrays[f"eset:{s.name}"] = padded(set_mask(mesh.element_id, s.ids))
    point_arrays: dict[str, np.ndarray] = {
        "node_id": mesh.node_id,
        "on_kind": mesh.on_kind,
        "on_item": mesh.on_item,
        "on_body": mesh.on_body,
        "height": mesh.height,
        "node_thickness": at_nodes(mesh, mesh.thickness),
        "node_offset": at_nodes(mesh, mesh.offset),
    }
    for s in exchange.sets:
        if s.kind == "node":
            point_arrays[f"nset:{s.name}"] = set_mask(mesh.node_id, s.ids)
    for data, arrays in ((grid.GetCellData(), cell_arrays), (grid.GetPointData(), point_arrays)):
        for name, values in arrays.items():
            array = numpy_to_vtk(np.ascontiguousarray(values), deep=True)
            array.SetName(name)
            data.AddArray(array)
    text = vtkStringArray()
    text.SetName("kind_rivet")
    text.InsertNextValue(json.dumps({
        "title": exchange.title, "parts": [asdict(p) for p in exchange.parts],
        "sets": [{"name": s.name, "kind": s.kind, "colour": s.colour} for s in exchange.sets], "spiders": [{"name": s.name, "centre": s.centre, "hole": s.hole} for s in exchange.spiders],
    }))  # fmt: skip
    grid.GetFieldData().AddArray(text)
    return grid


def write_vtu(exchange: Exchange, path: Path) -> None:
    """Write a VTU file (appended binary). Raises `Refused` when the place cannot be written."""
    writer = vtkXMLUnstructuredGridWriter()
    writer.SetFileName(str(path))
    writer.SetInputData(grid_of(exchange))
    writer.SetDataModeToAppended()
    writer.EncodeAppendedDataOff()
    writer.SetCompressorTypeToLZ4()
    if not writer.Write() or not path.exists():
        raise Refused(f"{path} cannot be written.", "Choose a folder you may write to.")


def read_vtu(path: Path) -> Exchange:
    """Read a VTU file: ours completely, others as plain meshes. Raises `Unreadable`."""
    head = path.read_bytes()[:400] if path.is_file() else b""
    if b"UnstructuredGrid" not in head:
        raise Unreadable(f"{path.name} is not a VTU file of an unstructured grid.", "Choose another file.")
    reader = vtkXMLUnstructuredGridReader()
    reader.SetFileName(str(path))
    reader.Update()
    grid = reader.GetOutput()
    if grid.GetNumberOfPoints() == 0:
        raise Unreadable(f"{path.name} holds no nodes, or ends in the middle.", "Write the file again.")
    return _exchange_of(grid, path.stem)


def _exchange_of(grid: vtkUnstructuredGrid, title: str) -> Exchange:
    def arrays(data: Any) -> dict[str, np.ndarray]:
        return {data.GetArrayName(i): vtk_to_numpy(data.GetArray(i)).copy() for i in range(data.GetNumberOfArrays()) if data.GetArray(i)}

    cell, point = arrays(grid.GetCellData()), arrays(grid.GetPointData())
    points = vtk_to_numpy(grid.GetPoints().GetData()).astype(float)
    types = vtk_to_numpy(grid.GetCellTypesArray())
    offsets = vtk_to_numpy(grid.GetCells().GetOffsetsArray())
    connectivity = vtk_to_numpy(grid.GetCells().GetConnectivityArray())
    role = cell.get("cell_role", np.zeros(len(types), np.uint8))
    cells = np.flatnonzero(role == ELEMENT)
    count = np.diff(offsets)
    codes = np.full(len(types), -1)
    for t in np.unique(types[cells]).tolist():
        codes[cells[types[cells] == t]] = CELLS[t][0] if t in CELLS else -1
    for corners, code in POLYGON.items():
        codes[cells[(types[cells] == 7) & (count[cells] == corners)]] = code
    keep = cells[codes[cells] >= 0]
    m, n = len(keep), len(points)
    conn = np.full((m, WIDTH), -1, np.int32)
    kind = codes[keep].astype(np.uint8)
    for t in np.unique(types[keep]).tolist():
        for width in np.unique(count[keep[types[keep] == t]]).tolist():
            rows = np.flatnonzero((types[keep] == t) & (count[keep] == width))
            places = np.array(CELLS[t][1] if t in CELLS else range(width))
            conn[rows[:, None], np.arange(len(places))] = connectivity[offsets[keep[rows]][:, None] + places]
    had = np.zeros(n, bool)
    had[connectivity[np.repeat(np.isin(np.arange(len(types)), keep), count)]] = True

    def column(name: str, default: Any, dtype: Any) -> np.ndarray:
        return (
            cell[name][keep].astype(dtype)
            if name in cell and cell[name].ndim == 1
            else np.broadcast_to(np.asarray(default, dtype), (m,)).copy()
        )

    def nodal(name: str, default: Any, dtype: Any) -> np.ndarray:
        return (
            point[name].astype(dtype)
            if name in point and point[name].ndim == 1
            else np.broadcast_to(np.asarray(default, dtype), (n,)).copy()
        )

    mesh = Mesh(
        points=points, node_id=nodal("node_id", np.arange(1, n + 1), np.int32), on_kind=nodal("on_kind", 0, np.uint8), on_item=nodal("on_item", -1, np.int32),
        on_body=nodal("on_body", -1, np.int32), height=nodal("height", 0, float), kind=kind, conn=conn, element_id=column("element_id", np.arange(1, m + 1), np.int32), part=column("part_id", 0, np.int32),
        thickness=column("thickness", 0, float), offset=column("offset", 0, float), body=column("body", -1, np.int32), face=column("face", -1, np.int32), ring=column("ring", -1, np.int32),
    )  # fmt: skip
    field = grid.GetFieldData().GetAbstractArray("kind_rivet")
    about = json.loads(field.GetValue(0)) if field is not None else {}
    parts = tuple(
        Part(**{**p, "section": Section(p["section"]["shape"], tuple(p["section"]["measures"])) if p.get("section") else None})
        for p in about.get("parts", [])
    )
    colour = {s["name"]: s["colour"] for s in about.get("sets", [])}
    order = {s["name"]: k for k, s in enumerate(about.get("sets", []))}
    sets = [
        EntitySet(name[5:], "element", mesh.element_id[values[keep] > 0], colour.get(name[5:], "#2F6F8F"))
        for name, values in cell.items()
        if name.startswith("eset:")
    ]
    sets += [
        EntitySet(name[5:], "node", mesh.node_id[values > 0], colour.get(name[5:], "#2F6F8F"))
        for name, values in point.items()
        if name.startswith("nset:")
    ]
    sets.sort(key=lambda s: order.get(s.name, 0))
    spiders = []
    for k, s in enumerate(about.get("spiders", [])):
        legs = np.flatnonzero((role == SPIDER_LEG) & (cell["spider"] == k))
        spiders.append(Spider(s["name"], s["centre"], mesh.node_id[connectivity[offsets[legs] + 1]].astype(np.int32), s["hole"]))
    mass_cells = np.flatnonzero(role == MASS_CELL)
    masses = tuple(LumpedMass(int(mesh.node_id[connectivity[offsets[c]]]), float(cell["mass"][c])) for c in mass_cells)
    index = cell["index"][keep] if "index" in cell else None
    mesh, notes = as_read(mesh, had, len(cells) - m)
    return Exchange(mesh, parts, tuple(sets), tuple(spiders), masses, index, about.get("title", title), notes)
