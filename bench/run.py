#!/usr/bin/env python3
"""Benchmarks: every figure is a ratio within one run, since machines are noisy. `./kind-rivet bench` prints a table.

Each row runs our work and its yardstick alternately and compares the medians.
"""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np

ROOT = Path(__file__).resolve().parents[1]
TRAY = ROOT / "examples" / "cradle_tray.step"


def seconds(work: Callable[[], object]) -> float:
    started = time.perf_counter()
    work()
    return time.perf_counter() - started


def paired(ours: Callable[[], object], yardstick: Callable[[], object], times: int = 5) -> tuple[float, float]:
    """Median seconds of both, run alternately after one warm-up each."""
    ours()
    yardstick()
    a, b = [], []
    for _ in range(times):
        a.append(seconds(ours))
        b.append(seconds(yardstick))
    return statistics.median(a), statistics.median(b)


def row(work: str, goal: str, value: str) -> None:
    print(f"| {work} | {goal} | {value} |", flush=True)


def start_up() -> None:
    script = "import time; t = time.perf_counter(); from kind_rivet.worker.pool import start_server; start_server()\nfrom PySide6.QtWidgets import QApplication\nfrom kind_rivet.app.theme import apply_theme\nfrom kind_rivet.app.window import MainWindow\na = QApplication([]); apply_theme(a); w = MainWindow(); w.show(); a.processEvents(); print(time.perf_counter() - t); import os; os._exit(0)"
    # The server re-imports the main module, so the script lives in a guarded file.
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "start.py"
        path.write_text("if __name__ == '__main__':\n" + "\n".join("    " + line for line in script.splitlines()))
        times = []
        for _ in range(4):
            out = subprocess.run(
                [sys.executable, str(path)], capture_output=True, text=True, env={**os.environ, "QT_QPA_PLATFORM": "offscreen"}
            )
            times.append(float(out.stdout.split()[-1]))
    row("start to painted window", "≤ 1.5 s warm", f"{statistics.median(times[1:]):.2f} s")


def open_and_midsurface() -> object:
    from OCP.STEPControl import STEPControl_Reader

    from kind_rivet.core.document.document import Document
    from kind_rivet.core.geometry.kernel.read import read_geometry
    from kind_rivet.core.operations import perform

    def kernel() -> None:
        reader = STEPControl_Reader()
        reader.ReadFile(str(TRAY))
        reader.TransferRoots()

    ours, theirs = paired(lambda: read_geometry(TRAY), kernel, 3)
    row("open the tray (71 faces, with facets and normals)", "≤ 1.5 × the kernel's read", f"{ours / theirs:.2f} × ({ours:.2f} s)")
    document = perform(Document(), "part.open", {"path": str(TRAY)})
    took = statistics.median(seconds(lambda: perform(document, "midsurface.extract", {})) for _ in range(3))
    row("midsurface of the tray", "≤ 3 × its read + 2 s", f"{took / theirs:.2f} × its read ({took:.2f} s)")
    return perform(document, "midsurface.extract", {})


def midsurfaces() -> None:
    """Growth of midsurfaces of walls that meet, and of one sheet with many holes."""
    sys.path.insert(0, str(ROOT / "examples"))
    from draw_parts import box
    from draw_thin_parts import fused, perforated_tray

    from kind_rivet.core.geometry.kernel.facets import facet_shape
    from kind_rivet.core.geometry.kernel.parts import parts_of
    from kind_rivet.core.midsurface.extract import extract

    def grid(n: int) -> object:
        along = [box(20 * i + 10, 0, 1, 1.5, 20 * n, 15) for i in range(n)]
        return fused([box(0, 0, 0, 20 * n, 20 * n, 2), *along, *(box(0, 20 * j + 10, 1, 20 * n, 1.5, 10) for j in range(n))])

    first = 0.0
    extract(facet_shape(parts_of(grid(2), "solid")[0]))  # everything loaded
    for n in (3, 7, 10, 14, 20):
        shape = facet_shape(parts_of(grid(n), "solid")[0])
        took = seconds(lambda shape=shape: extract(shape))
        each = took / (len(shape.faces) * np.log(len(shape.faces)))
        first = first or each
        row(
            f"midsurface of a ribbed plate, {len(shape.faces)} faces",
            "grows no faster than faces × log faces",
            f"{took:.2f} s, {each / first:.2f} × the first per face × log",
        )
    for nx, ny in ((20, 10), (50, 20)):
        solid = parts_of(perforated_tray(nx, ny), "solid")[0]
        opening = seconds(lambda solid=solid: facet_shape(solid))
        shape = facet_shape(solid, keep_facets=True)
        took = seconds(lambda shape=shape: extract(shape))
        row(f"midsurface of a tray with {nx * ny} holes", "", f"{took:.2f} s (its facets {opening:.1f} s)")


def mesh(document: object) -> object:
    from scipy.spatial import Delaunay

    from kind_rivet.core.meshing.free.fill import fill
    from kind_rivet.core.operations import perform

    def plate(n: int) -> tuple[list[np.ndarray], int]:
        side = np.sqrt(n)
        k = int(side)
        a = np.arange(k) / k * side
        square = np.concatenate(
            (
                np.column_stack((a, 0 * a)),
                np.column_stack((0 * a + side, a)),
                np.column_stack((side - a, 0 * a + side)),
                np.column_stack((0 * a, side - a)),
            )
        )
        turn = -np.arange(64) / 64 * 2 * np.pi
        return [square, np.column_stack((side / 2 + 10 * np.cos(turn), side / 2 + 10 * np.sin(turn)))], n

    for n in (2_000, 10_000, 30_000, 100_000):
        loops, _ = plate(n)
        made = fill(loops, 1.0)
        ours, theirs = paired(lambda p=loops: fill(p, 1.0), lambda q=made.points: Delaunay(q), 2)
        row(
            f"free quad mesh, {len(made.elements):,} elements",
            "≤ 1.5 × SciPy Delaunay of its nodes",
            f"{ours / theirs:.1f} × ({len(made.elements) / ours:,.0f} elements/s)",
        )
    took = seconds(lambda: perform(document, "mesh.shells", {"size": 5.0}))  # type: ignore[arg-type]
    row("mesh and optimise the tray at 5 mm", "", f"{took:.2f} s")
    return perform(document, "mesh.shells", {"size": 5.0})  # type: ignore[arg-type]


def one_division(document: object) -> None:
    """The longest free edge of the tray, finely meshed, gets one element more, by a column of quads where one fits."""
    from kind_rivet.core.operations import perform

    fine = {"size": 1.3}
    made = perform(document, "mesh.shells", fine)  # type: ignore[arg-type]
    shape = made.sheets[1].shape
    free = [e for e, faces in enumerate(shape.edge_faces) if len(faces) == 1]
    edge = max(free, key=lambda e: len(made.mesh_edges[1][e]))
    change = {"body": 1, "edges": [edge], "count": len(made.mesh_edges[1][edge])}
    ours, whole = paired(lambda: perform(made, "mesh.divisions", change), lambda: perform(document, "mesh.shells", fine), 2)  # type: ignore[arg-type]
    row(f"one division on {made.mesh.elements:,} shells", "≤ 0.5 s", f"{ours:.2f} s, 1/{whole / ours:.0f} of meshing them all")


def metrics() -> None:
    from vtkmodules.util.numpy_support import numpy_to_vtk, numpy_to_vtkIdTypeArray
    from vtkmodules.vtkCommonCore import vtkPoints
    from vtkmodules.vtkCommonDataModel import vtkCellArray, vtkPolyData
    from vtkmodules.vtkFiltersVerdict import vtkMeshQuality

    from kind_rivet.core.quality.shell_metrics import shell_metrics

    n = 1000
    x, y = np.meshgrid(np.arange(n + 1.0), np.arange(n + 1.0))
    points = np.column_stack((x.ravel(), y.ravel(), np.sin(x.ravel() / 30)))
    k = (np.arange(n)[:, None] * (n + 1) + np.arange(n)[None]).ravel()
    quads = np.column_stack((k, k + 1, k + n + 2, k + n + 1)).astype(np.int32)
    data, where, cells = vtkPolyData(), vtkPoints(), vtkCellArray()
    where.SetData(numpy_to_vtk(points, deep=True))
    cells.SetData(
        numpy_to_vtkIdTypeArray(np.arange(0, 4 * len(quads) + 1, 4), deep=True),
        numpy_to_vtkIdTypeArray(quads.ravel().astype(np.int64), deep=True),
    )
    data.SetPoints(where)
    data.SetPolys(cells)

    def verdict() -> None:
        quality = vtkMeshQuality()
        quality.SetInputData(data)
        quality.SetQuadQualityMeasureToScaledJacobian()
        quality.Update()

    ours, theirs = paired(lambda: shell_metrics(points, quads), verdict, 3)
    row("all ten shell metrics, 1M quads", "≤ 2 × VTK's time for one", f"{ours / theirs:.1f} × ({ours:.2f} s)")


def repair(document: object) -> None:
    from kind_rivet.core.operations.quality import document_holds
    from kind_rivet.core.repair.drag import NodeDrag
    from kind_rivet.core.repair.optimise import optimise

    holds = document_holds(document)  # type: ignore[arg-type]
    m = document.mesh  # type: ignore[attr-defined]
    took = seconds(lambda: optimise(m, holds, document.limit_sheet, 5.0))  # type: ignore[attr-defined]
    row(f"optimise {m.elements:,} elements", "≤ the meshing time", f"{took:.2f} s")
    node = int(np.flatnonzero(holds.movable)[5])
    drag = NodeDrag(m, holds, document.limit_sheet, 5.0, node)  # type: ignore[attr-defined]
    steps = [seconds(lambda p=p: drag.to(drag.start + p)) for p in np.random.default_rng(1).normal(size=(200, 3)) * 0.3]
    row("drag a node, one move", "≤ 16 ms median", f"{1000 * statistics.median(steps):.2f} ms")


def storing(document: object) -> None:
    from kind_rivet.core.document.store import save

    m = document.mesh  # type: ignore[attr-defined]
    copies = max(1, 1_000_000 // m.elements)
    big = m
    while big.elements < 1_000_000 and copies > 1:
        big = big.plus(big)
    grown = replace(document, mesh=big)  # type: ignore[type-var]
    with tempfile.TemporaryDirectory() as folder:
        arrays = [
            big.points,
            big.conn,
            big.node_id,
            big.element_id,
            big.thickness,
            big.offset,
            big.part,
            big.body,
            big.face,
            big.ring,
            big.kind,
            big.on_kind,
            big.on_item,
            big.on_body,
            big.height,
        ]

        def raw() -> None:
            with open(Path(folder) / "raw", "wb") as file:
                for a in arrays:
                    a.tofile(file)
                file.flush()
                os.fsync(file.fileno())

        count = iter(range(100))
        ours, theirs = paired(lambda: save(grown, Path(folder) / f"{next(count)}.rivet"), raw, 2)
    row(f"save {big.elements:,} elements", "≤ 3 × a raw array write", f"{ours / theirs:.1f} × ({ours:.2f} s)")


def main() -> None:
    print("| work | goal | measured |\n|---|---|---|")
    start_up()
    document = open_and_midsurface()
    midsurfaces()
    meshed = mesh(document)
    one_division(document)
    metrics()
    repair(meshed)
    storing(meshed)


if __name__ == "__main__":
    main()
