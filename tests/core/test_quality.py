"""Metrics against Verdict, limit sheets, the index, optimising and dragging."""

from __future__ import annotations

import numpy as np
import pytest
from vtkmodules.util.numpy_support import numpy_to_vtk, vtk_to_numpy
from vtkmodules.vtkCommonCore import vtkPoints
from vtkmodules.vtkCommonDataModel import vtkCellArray, vtkPolyData
from vtkmodules.vtkFiltersVerdict import vtkMeshQuality

from kind_rivet.core.document.document import Document
from kind_rivet.core.errors import Refused
from kind_rivet.core.mesh.kinds import QUAD
from kind_rivet.core.mesh.mesh import Mesh
from kind_rivet.core.operations import perform
from kind_rivet.core.operations.quality import document_holds
from kind_rivet.core.quality.index import FAILING, UNEASY, judge
from kind_rivet.core.quality.limits import DEFAULT
from kind_rivet.core.quality.shell_metrics import LARGEST_ANGLE, LEAST_ANGLE, SCALED_JACOBIAN, SIDE_RATIO, SKEW, TAPER, WARP, shell_metrics
from kind_rivet.core.repair.drag import NodeDrag
from kind_rivet.core.repair.optimise import optimise


def verdict(points: np.ndarray, rows: np.ndarray, measure: str) -> np.ndarray:
    data, where, cells = vtkPolyData(), vtkPoints(), vtkCellArray()
    where.SetData(numpy_to_vtk(points, deep=True))
    for row in rows:
        ids = [int(v) for v in row if v >= 0]
        cells.InsertNextCell(len(ids), ids)
    data.SetPoints(where)
    data.SetPolys(cells)
    quality = vtkMeshQuality()
    quality.SetInputData(data)
    getattr(quality, f"SetQuadQualityMeasureTo{measure}")()
    getattr(quality, f"SetTriangleQualityMeasureTo{measure}")()
    quality.Update()
    return vtk_to_numpy(quality.GetOutput().GetCellData().GetArray("Quality"))


@pytest.fixture(scope="module")
def random_shells() -> tuple[np.ndarray, np.ndarray]:
    """10 000 convex, mildly warped quads and trias anywhere in space."""
    rng = np.random.default_rng(8)
    m = 10_000
    corners = np.array([(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)]) + rng.uniform(-0.33, 0.33, (m, 4, 3)) * (1, 1, 0.25)
    stretch = rng.uniform(0.3, 4, (m, 1, 3)) * np.array([1, 1, 1])
    turn = np.linalg.qr(rng.normal(size=(m, 3, 3)))[0]
    points = np.einsum("mij,mkj->mki", turn, corners * stretch).reshape(-1, 3)
    rows = np.arange(4 * m, dtype=np.int32).reshape(m, 4)
    rows[::3, 3] = -1
    return points, rows


@pytest.mark.parametrize(
    ("column", "measure"),
    [(SIDE_RATIO, "EdgeRatio"), (LEAST_ANGLE, "MinAngle"), (LARGEST_ANGLE, "MaxAngle"), (SCALED_JACOBIAN, "ScaledJacobian")],
)
def test_metrics_agree_with_verdict(random_shells: tuple[np.ndarray, np.ndarray], column: int, measure: str) -> None:
    points, rows = random_shells
    mine = shell_metrics(points, rows)[:, column]
    assert np.allclose(mine, verdict(points, rows, measure), rtol=0, atol=1e-6)


def test_metrics_of_known_elements() -> None:
    points = np.array([(0, 0, 0), (2, 0, 0), (2, 1, 0), (0, 1, 0), (0, 0, 1), (1, 0, 0), (0.5, np.sqrt(0.75), 0)], float)
    square = shell_metrics(points, np.array([(0, 1, 2, 3)], np.int32))[0]
    assert square[SIDE_RATIO] == 2
    assert square[[SKEW, WARP, TAPER]] == pytest.approx([0, 0, 0], abs=1e-9)
    equilateral = shell_metrics(points, np.array([(0, 5, 6, -1)], np.int32))[0]
    assert equilateral[[LEAST_ANGLE, LARGEST_ANGLE, SCALED_JACOBIAN]] == pytest.approx([60, 60, 1])
    folded = shell_metrics(np.array([(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 1)], float), np.array([(0, 1, 2, 3)], np.int32))[0]
    assert 30 < folded[WARP] < 90


def test_index_follows_its_definition(tray_mesh: Document) -> None:
    quality = tray_mesh.quality
    e = 17
    values = quality.values[e]
    margins = []
    for limit in DEFAULT.limits:
        kinds = "trias" if tray_mesh.mesh.conn[e, 3] < 0 else "quads"
        if limit.kinds in (kinds, "shells"):
            from kind_rivet.core.quality.shell_metrics import METRICS

            scale = 8.0 if limit.of_size else 1.0
            margins.append((limit.limit * scale - values[METRICS.index(limit.metric)]) / ((limit.limit - limit.comfort) * scale))
    assert quality.index[e] == pytest.approx(np.clip(min(margins), -1, 1))
    assert quality.mesh_index == pytest.approx(100 * np.maximum(quality.index, 0).mean())


def test_optimising_never_makes_the_worst_round_a_node_worse(tray_mesh: Document) -> None:
    rng = np.random.default_rng(9)
    holds = document_holds(tray_mesh)
    points = tray_mesh.mesh.points.copy()
    # Shake the nodes of the flat floor within the plane.
    flat = np.flatnonzero(holds.movable & (holds.code == 1) & (np.abs(points[:, 2] - 0.75) < 1e-6))
    points[flat, :2] += rng.uniform(-1.2, 1.2, (len(flat), 2))
    shaken = tray_mesh.mesh.moved(points)
    done = optimise(shaken, holds, DEFAULT, 8.0)
    before, after = judge(shaken, DEFAULT, 8.0), judge(done.mesh, DEFAULT, 8.0)
    assert after.mesh_index > before.mesh_index + 1
    assert len(after.failing) < len(before.failing)
    assert after.worst >= before.worst - 1e-12
    moved = np.flatnonzero(np.any(done.mesh.points != shaken.points, axis=1))
    assert set(moved) <= set(np.flatnonzero(holds.movable))
    assert np.abs(done.mesh.points[flat, 2] - 0.75).max() < 1e-9


def test_dragging_stays_on_the_face_and_refuses_inversion(tray_mesh: Document) -> None:
    holds = document_holds(tray_mesh)
    node = int(np.flatnonzero(holds.movable & (np.abs(tray_mesh.mesh.points[:, 2] - 0.75) < 1e-6))[10])
    drag = NodeDrag(tray_mesh.mesh, holds, DEFAULT, 8.0, node)
    start = tray_mesh.mesh.points[node]
    small = drag.to(start + (0.5, 0.3, 2.0))
    assert small.allowed
    assert small.point[2] == pytest.approx(0.75)
    far = drag.to(start + (40.0, 0, 0))
    assert not far.allowed
    assert np.allclose(far.point, small.point)


def test_held_nodes_say_why(tray_mesh: Document) -> None:
    stays = ~document_holds(tray_mesh).movable
    held = int(tray_mesh.mesh.node_id[np.flatnonzero(stays & (tray_mesh.mesh.on_kind == 2))[0]])
    with pytest.raises(Refused, match="held by a round hole or a ring"):
        perform(tray_mesh, "quality.move_node", {"node": held, "to": (0, 0, 0)})


def test_an_older_mesh_is_held_by_the_sheet_it_was_made_on(tray_mesh: Document) -> None:
    wall = int(np.argmin(tray_mesh.sheets[1].shape.face_area))
    facets = tray_mesh.sheets[1].shape.facets[tray_mesh.sheets[1].shape.facet_face == wall]
    place = tray_mesh.sheets[1].shape.points[facets[0]].mean(axis=0)
    changed = perform(tray_mesh, "midsurface.drop_wall", {"body": 1, "place": tuple(map(float, place))})
    assert len(changed.sheets[1].shape.faces) < len(tray_mesh.sheets[1].shape.faces)
    assert changed.stale == ("shells of Cradle tray",)
    before, after = document_holds(tray_mesh), document_holds(changed)
    assert (after.movable == before.movable).all()
    assert after.data == pytest.approx(before.data)
    assert changed.lines_of(1) == ()  # its edges have other numbers now
    fresh = perform(changed, "mesh.update", {})
    assert [len(line) for line in fresh.lines_of(1)] == [len(line) for line in fresh.mesh_edges[1]]
    assert perform(fresh, "quality.optimise", {"rounds": 3}).mesh.elements == fresh.mesh.elements


def test_an_element_at_its_limit_does_not_fail_by_the_last_digits() -> None:
    rng = np.random.default_rng(5)
    for width, failing in ((0.35, 0), (0.3499, 1)):
        corners = np.array([[0, 0, 0], [0.7, 0, 0], [0.7, width, 0], [0, width, 0]])
        turned = np.linalg.qr(rng.normal(size=(3, 3)))[0]
        points = corners @ turned.T + rng.uniform(100, 300, 3)
        mesh = Mesh().with_nodes(points).with_elements(QUAD, np.array([[0, 1, 2, 3]]), 1)
        quality = judge(mesh, DEFAULT, 1.0)
        assert len(quality.failing) == failing
        assert quality.grade[0] == (FAILING if failing else UNEASY)
