"""Reading facet files: STL (text and binary), OBJ, PLY."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.errors import Unreadable

Floats = NDArray[np.float64]
Ints = NDArray[np.int32]
SUFFIXES = (".stl", ".obj", ".ply")


def read_facets(path: Path) -> tuple[Floats, Ints]:
    """Points (n, 3) and triangles (m, 3) of a facet file; larger polygons are cut into fans. Raises `Unreadable`."""
    if not path.exists():
        raise Unreadable(f"There is no file {path}.", "Check the name and the folder.")
    if path.stat().st_size == 0:
        raise Unreadable(f"{path.name} is empty.", "Export the part again.")
    suffix = path.suffix.lower()
    try:
        points, triangles = _stl(path) if suffix == ".stl" else _polygons(path, suffix)
    except (OSError, ValueError, MemoryError) as error:
        raise Unreadable(f"{path.name} is damaged: {error}.", "Export the part again.") from None
    if not len(triangles):
        raise Unreadable(f"{path.name} holds no facets.", "Export the part again.")
    return points, triangles


def _stl(path: Path) -> tuple[Floats, Ints]:
    data = path.read_bytes()
    if len(data) >= 84:
        count = int(np.frombuffer(data, "<u4", 1, 80)[0])
        if len(data) == 84 + 50 * count:
            rows = np.frombuffer(data, np.dtype([("normal", "<f4", 3), ("corner", "<f4", (3, 3)), ("extra", "<u2")]), count, 84)
            return rows["corner"].reshape(-1, 3).astype(np.float64), np.arange(3 * count, dtype=np.int32).reshape(-1, 3)
    if not data.lstrip()[:5].lower() == b"solid":
        raise ValueError("its length does not fit the number of facets it names")
    words = data.split()
    places = np.array([k for k, w in enumerate(words) if w == b"vertex"], np.int64)
    if len(places) % 3 or not len(places) or places[-1] + 3 >= len(words):
        raise ValueError("it ends in the middle of a facet")
    numbers = np.array([[float(words[k + j]) for j in (1, 2, 3)] for k in places])
    return numbers, np.arange(len(places), dtype=np.int32).reshape(-1, 3)


def _polygons(path: Path, suffix: str) -> tuple[Floats, Ints]:
    from vtkmodules.util.numpy_support import vtk_to_numpy
    from vtkmodules.vtkFiltersCore import vtkTriangleFilter
    from vtkmodules.vtkIOGeometry import vtkOBJReader
    from vtkmodules.vtkIOPLY import vtkPLYReader

    reader = vtkOBJReader() if suffix == ".obj" else vtkPLYReader()
    if suffix == ".ply" and not path.read_bytes()[:3] == b"ply":
        raise ValueError("its first line does not say ply")
    reader.SetFileName(str(path))
    cut = vtkTriangleFilter()
    cut.SetInputConnection(reader.GetOutputPort())
    with _quiet():
        cut.Update()
    out = cut.GetOutput()
    if not out.GetNumberOfPolys():
        raise ValueError("no polygon could be read from it")
    cells = vtk_to_numpy(out.GetPolys().GetConnectivityArray()).reshape(-1, 3)
    points = vtk_to_numpy(out.GetPoints().GetData()).astype(np.float64)
    if cells.min() < 0 or cells.max() >= len(points):
        raise ValueError("a facet names a point that is not there")
    return points, cells.astype(np.int32)


@contextlib.contextmanager
def _quiet() -> Iterator[None]:
    """The reader's own complaints are turned off: ours say the same in one sentence."""
    from vtkmodules.vtkCommonCore import vtkObject

    vtkObject.GlobalWarningDisplayOff()
    keep = os.dup(2)
    sink = os.open(os.devnull, os.O_WRONLY)
    os.dup2(sink, 2)
    try:
        yield
    finally:
        os.dup2(keep, 2)
        os.close(keep)
        os.close(sink)
        vtkObject.GlobalWarningDisplayOn()
