"""Meshes of other programs: cells of other kinds, degenerate elements, nodes that are nowhere, numbers that say little."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import netCDF4
import numpy as np
import pytest
from vtkmodules.util.numpy_support import numpy_to_vtk
from vtkmodules.vtkCommonCore import vtkPoints
from vtkmodules.vtkCommonDataModel import vtkUnstructuredGrid
from vtkmodules.vtkIOXML import vtkXMLUnstructuredGridWriter

from kind_rivet.core.document.document import Document
from kind_rivet.core.errors import Unreadable
from kind_rivet.core.files.foreign import block_kind
from kind_rivet.core.mesh.kinds import HEX, QUAD, QUAD8, TET, TRIA
from kind_rivet.core.mesh.mesh import Mesh
from kind_rivet.core.mesh.tidy import tidied
from kind_rivet.core.operations import perform

CUBE = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0], [0, 0, 1], [1, 0, 1], [1, 1, 1], [0, 1, 1]], float)
EDGES = [(0, 1), (1, 2), (2, 3), (3, 0), (4, 5), (5, 6), (6, 7), (7, 4), (0, 4), (1, 5), (2, 6), (3, 7)]


def written(path: Path, points: np.ndarray, cells: list[tuple[int, list[int]]], **arrays: np.ndarray) -> Document:
    grid, held = vtkUnstructuredGrid(), vtkPoints()
    held.SetData(numpy_to_vtk(np.ascontiguousarray(points, float), deep=True))
    grid.SetPoints(held)
    for kind, nodes in cells:
        grid.InsertNextCell(kind, len(nodes), nodes)
    for name, values in arrays.items():
        array = numpy_to_vtk(np.ascontiguousarray(values), deep=True)
        array.SetName(name)
        (grid.GetPointData() if len(values) == len(points) else grid.GetCellData()).AddArray(array)
    writer = vtkXMLUnstructuredGridWriter()
    writer.SetFileName(str(path))
    writer.SetInputData(grid)
    writer.Write()
    return perform(Document(), "part.open", {"path": str(path)})


def volume(mesh: Mesh) -> float:
    a, b, c, d = (mesh.points[mesh.conn[0, k]] for k in (0, 1, 3, 4))
    return float(np.cross(b - a, c - a) @ (d - a))


def test_cells_of_other_kinds_are_read_by_their_corners(tmp_path: Path) -> None:
    voxel = written(tmp_path / "voxel.vtu", CUBE, [(11, [0, 1, 3, 2, 4, 5, 7, 6])])
    assert voxel.mesh.counts() == {"hex": 1}
    assert volume(voxel.mesh) == pytest.approx(1.0)
    middles = np.array([CUBE[list(e)].mean(axis=0) for e in EDGES])
    brick = written(tmp_path / "brick.vtu", np.vstack((CUBE, middles)), [(25, list(range(20)))])
    assert (brick.mesh.counts(), brick.mesh.nodes) == ({"hex": 1}, 8)
    assert any("Mid-side nodes of solids" in note for note in brick.notes)
    flat = np.array([[x, y, 0] for y in range(3) for x in range(3)], float)
    nine = written(tmp_path / "nine.vtu", flat, [(28, [0, 2, 8, 6, 1, 5, 7, 3, 4])])
    assert (nine.mesh.counts(), nine.mesh.nodes, nine.choices.quadratic) == ({"quad": 1}, 4, True)
    mixed = written(tmp_path / "mixed.vtu", flat, [(8, [0, 1, 3, 4]), (7, [1, 2, 5, 4]), (7, [3, 4, 7, 6, 3]), (7, [4, 5, 8])])
    assert mixed.mesh.counts() == {"tria": 1, "quad": 2}
    assert any("Left out: 1 element of kinds that are not read" in note for note in mixed.notes)
    assert (mixed.quality.values[:, 7] > 0).all()


def test_what_cannot_be_used_is_left_out_and_named(tmp_path: Path) -> None:
    points = np.vstack((CUBE[:4], [[2, 0, 0], [2, 1, 0], [np.nan, 0, 0]]))
    cells = [(9, [0, 1, 2, 3]), (9, [1, 4, 5, 2]), (9, [1, 4, 4, 2]), (5, [0, 0, 1]), (9, [0, 1, 6, 3])]
    d = written(
        tmp_path / "odd.vtu",
        points,
        cells,
        **{"eset:lost": np.array([0, 0, 0, 1, 0], np.uint8), "eset:kept": np.array([1, 0, 0, 1, 0], np.uint8)},
    )
    assert d.mesh.counts() == {"tria": 1, "quad": 2}
    assert d.mesh.nodes == 6
    words = " ".join(d.notes)
    assert "1 node without coordinates and 1 element on such nodes" in words
    assert "1 quad with two corners in one: made trias" in words
    assert "1 element with too few different nodes" in words
    assert [(s.name, len(s.ids)) for s in d.sets] == [("kept", 1)]
    with pytest.raises(Unreadable, match="no elements"):
        written(tmp_path / "none.vtu", points, [(5, [0, 0, 1])])


def test_numbers_that_are_not_all_different_are_given_anew(tmp_path: Path) -> None:
    vector = np.ones((6, 3))
    points = np.vstack((CUBE[:4], [[2, 0, 0], [2, 1, 0]]))
    cells = [(9, [0, 1, 2, 3]), (9, [1, 4, 5, 2])]
    d = written(tmp_path / "alike.vtu", points, cells, node_id=np.array([1, 2, 2, 3, 4, 5]), element_id=np.array([7, 9]), offset=vector)
    assert d.mesh.node_id.tolist() == [1, 2, 3, 4, 5, 6]
    assert d.mesh.element_id.tolist() == [7, 9]
    assert any("nodes were not all numbered differently" in note for note in d.notes)
    assert d.mesh.offset.tolist() == [0.0, 0.0]  # a vector of that name means something else


@pytest.mark.parametrize(
    ("name", "columns", "kind"),
    [("SHELL4", 4, QUAD), ("quad9", 9, QUAD8), ("TRI3", 3, TRIA), ("SHELL", 3, TRIA), ("TETRA10", 10, TET), ("HEX27", 27, HEX), ("NFACED", 5, None), ("TET", 7, None)],
)  # fmt: skip
def test_blocks_are_told_by_name_and_width(name: str, columns: int, kind: int | None) -> None:
    assert block_kind(name, columns) == kind


def test_exodus_blocks_of_other_kinds(tmp_path: Path) -> None:
    middles = np.array([CUBE[list(e)].mean(axis=0) for e in EDGES])
    points = np.vstack((CUBE, middles))
    with netCDF4.Dataset(str(tmp_path / "other.exo"), "w") as file:
        for name, size in (
            ("num_nodes", 20),
            ("num_el_blk", 2),
            ("num_el_in_blk1", 1),
            ("num_nod_per_el1", 20),
            ("num_el_in_blk2", 1),
            ("num_nod_per_el2", 5),
        ):
            file.createDimension(name, size)
        for k, axis in enumerate("xyz"):
            file.createVariable(f"coord{axis}", "f8", ("num_nodes",))[:] = points[:, k]
        rows: tuple[tuple[str, Any], ...] = (("HEX20", np.arange(1, 21)), ("NSIDED", np.arange(1, 6)))
        for k, (kind, nodes) in enumerate(rows, 1):
            connect = file.createVariable(f"connect{k}", "i4", (f"num_el_in_blk{k}", f"num_nod_per_el{k}"))
            connect.elem_type = kind
            connect[:] = nodes[None]
    d = perform(Document(), "part.open", {"path": str(tmp_path / "other.exo")})
    assert (d.mesh.counts(), d.mesh.nodes) == ({"hex": 1}, 8)
    assert volume(d.mesh) == pytest.approx(1.0)
    words = " ".join(d.notes)
    assert "Left out: 1 element of kinds that are not read" in words
    assert "Mid-side nodes of solids" in words


def test_a_sound_mesh_stays_as_it_is(tray_mesh: Document) -> None:
    mesh, notes = tidied(tray_mesh.mesh)
    assert notes == ()
    assert mesh is tray_mesh.mesh
    twice = replace(tray_mesh.mesh, element_id=np.zeros(tray_mesh.mesh.elements, np.int32))
    assert len(np.unique(tidied(twice)[0].element_id)) == twice.elements


def test_elements_of_no_part_get_one_by_kind(tmp_path: Path) -> None:
    points = np.array([(x, y, z) for z in (0, 1) for y in (0, 1) for x in (0, 1)], float)
    document = written(tmp_path / "plain.vtu", points, [(9, [0, 1, 3, 2]), (5, [4, 5, 7]), (3, [0, 4])])
    assert [(p.name, p.kind) for p in document.parts] == [("plain 1", "beam"), ("plain 2", "shell")]
    shells = document.mesh.is_shell
    assert set(document.mesh.part[shells].tolist()) == {document.parts[1].key}
    assert set(document.mesh.part[~shells].tolist()) == {document.parts[0].key}
