"""Solids and sheets that came as triangles: walls and bends told apart, midsurfaces, faces that close on themselves."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.flats import plane_parts, walls_and_bends
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.soup import shape_from_triangles
from kind_rivet.core.mesh.topology import shell_sides
from kind_rivet.core.meshing.patch import lay_flat_or_none
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.shells import mesh_sheet
from kind_rivet.core.midsurface.extract import extract
from kind_rivet.core.quality.shell_metrics import SCALED_JACOBIAN, shell_metrics
from tests.loose import grid, joined
from tests.thin_meshes import drawn, drawn_sheet, meshed, size_for


def as_facets(solid: Shape) -> Shape:
    """The solid as an STL file would give it: loose triangles in single precision."""
    corners = solid.points[solid.facets].reshape(-1, 3).astype(np.float32).astype(float)
    return walls_and_bends(corners, np.arange(len(corners), dtype=np.int32).reshape(-1, 3), 30.0).shape


@pytest.mark.parametrize("name", ["bent_rail", "sharp_rail", "box_tube", "ribbed_plate", "stepped_flush", "flanged_pipe"])
def test_facets_give_the_midsurface_of_their_solid(name: str) -> None:
    solid = drawn(name)
    facets = as_facets(solid)
    assert facets.solid
    assert facets.volume == pytest.approx(solid.volume, rel=1e-3)
    sheet, exact = extract(facets), drawn_sheet(name)
    assert sheet.proof is not None
    assert sheet.proof.pieces == 1
    assert sheet.proof.cover > 0.98
    assert sheet.area == pytest.approx(exact.area, rel=5e-3)
    mesh = meshed(sheet, size_for(solid))
    assert mesh.pieces == 1
    assert len(mesh.quality.failing) <= 2
    assert mesh.least_jacobian > 0.3


def test_bends_between_plane_walls_are_faces_of_their_own() -> None:
    solid, facets = drawn("bent_rail"), as_facets(drawn("bent_rail"))
    kinds = [sorted(f.carrier.kind for f in shape.faces) for shape in (solid, facets)]
    assert kinds[1].count("plane") == kinds[0].count("plane")
    assert kinds[1].count("cylinder") == kinds[0].count("cylinder")


def test_strips_of_a_faceted_tube_are_no_walls() -> None:
    def tube(u: Floats, v: Floats) -> Floats:
        angle = 2 * np.pi * np.where(u < 0.5, 0.6 * u, 0.3 + 1.4 * (u - 0.5))  # strips of two widths
        return np.column_stack((5 * np.cos(angle), 5 * np.sin(angle), 30 * v))

    points, rows = joined(grid(40, 3, tube))
    triangles = np.vstack((rows[:, :3], rows[:, [0, 2, 3]])).astype(np.int32)
    assert (plane_parts(points, triangles) < 0).all()


def oval(u: Floats, v: Floats) -> Floats:
    return np.column_stack((9 * np.cos(2 * np.pi * u), (5 + v) * np.sin(2 * np.pi * u), 20 * v))


def bulb(u: Floats, v: Floats) -> Floats:
    across = np.sin(np.pi * (0.08 + 0.84 * v))
    return np.column_stack((8 * across * np.cos(2 * np.pi * u), 8 * across * np.sin(2 * np.pi * u), -8 * np.cos(np.pi * (0.08 + 0.84 * v))))


def ring(u: Floats, v: Floats) -> Floats:
    far = 10 + 3 * np.cos(2 * np.pi * v)
    return np.column_stack((far * np.cos(2 * np.pi * u), far * np.sin(2 * np.pi * u), 3 * np.sin(2 * np.pi * v)))


@pytest.mark.parametrize(("place", "n", "m"), [(oval, 48, 20), (bulb, 40, 24), (ring, 60, 30)])
def test_faces_that_close_on_themselves_are_cut_and_meshed(place: object, n: int, m: int) -> None:
    points, rows = joined(grid(n, m, place))  # type: ignore[arg-type]
    triangles = np.vstack((rows[:, :3], rows[:, [0, 2, 3]])).astype(np.int32)
    shape = replace(shape_from_triangles(points, triangles, 40.0).shape, solid=False)
    assert len(shape.faces) == 1
    patch = lay_flat_or_none(shape, (0,))
    assert patch is None or patch.stretch > 2
    mesh = mesh_sheet(shape, ShellRules(1.2))
    assert not any("left out" in note for note in mesh.notes)
    assert (mesh.face == 0).all()
    p = mesh.points[np.where(mesh.elements >= 0, mesh.elements, mesh.elements[:, [2]])]
    area = np.linalg.norm(np.cross(p[:, 2] - p[:, 0], p[:, 3] - p[:, 1]), axis=1).sum() / 2
    assert area == pytest.approx(shape.face_area.sum(), rel=0.02)
    assert shell_metrics(mesh.points, mesh.elements)[:, SCALED_JACOBIAN].min() > 0.2
    sides = shell_sides(mesh.elements)
    free = len(sides.free)
    assert free == sum(len(line) - 1 for line, beside in zip(mesh.edge_nodes, shape.edge_faces, strict=True) if len(beside) == 1)
    assert not len(sides.junctions)
