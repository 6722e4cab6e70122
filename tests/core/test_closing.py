"""Faces that all but close: skins that come without their solid, hairline gaps, slivers on which the kernel makes no facets."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from kind_rivet.core.document.document import Document
from kind_rivet.core.geometry.kernel.parts import compound, parts_of
from kind_rivet.core.geometry.kernel.slivers import normals_over, sliver_facets
from kind_rivet.core.operations import perform
from tests.thin_parts import box, cut


def opened(path: Path) -> Document:
    return perform(Document(), "part.open", {"path": str(path)})


def tube() -> Any:
    return cut(box(0, 0, 0, 60, 20, 20), [box(-1, 2, 2, 62, 16, 16)])


def written(shape: Any, path: Path) -> Path:
    from OCP.BRepTools import BRepTools

    BRepTools.Write_s(shape, str(path))
    return path


def as_solid(faces: list[Any]) -> Any:
    from OCP.BRep import BRep_Builder
    from OCP.TopoDS import TopoDS_Shell, TopoDS_Solid

    builder, shell, solid = BRep_Builder(), TopoDS_Shell(), TopoDS_Solid()
    builder.MakeShell(shell)
    for face in faces:
        builder.Add(shell, face)
    builder.MakeSolid(solid)
    builder.Add(solid, shell)
    return solid


def shifted(shape: Any, by: float) -> Any:
    from OCP.BRepBuilderAPI import BRepBuilderAPI_Transform
    from OCP.gp import gp_Trsf, gp_Vec

    move = gp_Trsf()
    move.SetTranslation(gp_Vec(0, 0, by))
    return BRepBuilderAPI_Transform(shape, move, True).Shape()


def copies(faces: list[Any]) -> list[Any]:
    from OCP.BRepBuilderAPI import BRepBuilderAPI_Copy

    return [BRepBuilderAPI_Copy(face).Shape() for face in faces]


@pytest.mark.parametrize("how", ["shell", "faces", "apart"])
def test_the_skin_of_a_thin_part_is_a_solid(how: str, tmp_path: Path) -> None:
    faces = parts_of(tube(), "face")
    shape = parts_of(tube(), "shell")[0] if how == "shell" else compound(copies(faces) if how == "apart" else faces)
    d = opened(written(shape, tmp_path / "skin.brep"))
    assert [b.kind for b in d.bodies] == ["solid"]
    assert d.bodies[0].shape.volume == pytest.approx(60 * (20 * 20 - 16 * 16))
    assert any("came in as one solid" in n for n in d.notes)


def test_sheets_that_close_without_being_thin_stay_sheets(tmp_path: Path) -> None:
    d = opened(written(parts_of(box(0, 0, 0, 10, 10, 10), "shell")[0], tmp_path / "closed.brep"))
    assert [b.kind for b in d.bodies] == ["sheet"]
    d = opened(written(compound(parts_of(tube(), "face")[1:]), tmp_path / "open.brep"))
    assert {b.kind for b in d.bodies} == {"sheet"}


def test_hairline_gaps_of_a_solid_are_closed(tmp_path: Path) -> None:
    faces = parts_of(tube(), "face")
    d = opened(written(as_solid([shifted(faces[0], 2e-4), *faces[1:]]), tmp_path / "hair.brep"))
    assert [b.kind for b in d.bodies] == ["solid"]
    assert d.bodies[0].shape.volume == pytest.approx(60 * (20 * 20 - 16 * 16), rel=1e-4)
    assert any("hairline gaps" in n for n in d.notes)
    d = opened(written(as_solid([shifted(faces[0], 0.5), *faces[1:]]), tmp_path / "gap.brep"))
    assert [b.kind for b in d.bodies] == ["sheet"]


def lens(height: float) -> tuple[np.ndarray, list[np.ndarray], np.ndarray]:
    """Nodes of a lens between two rows, its border chains, and one facet beside the lower row."""
    x = np.linspace(0, 1, 6)
    low = np.column_stack((x, 0 * x, 0 * x))
    high = np.column_stack((x, height * np.sin(np.pi * x), 0 * x))[1:-1]
    points = np.concatenate((low, high, [(0.5, -1.0, 0.0)]))
    return points, [np.arange(6), np.array([5, 9, 8, 7, 6, 0])], np.array([(3, 2, 10)])


def test_a_sliver_is_closed_between_its_borders() -> None:
    points, chains, beside = lens(1e-4)
    rows = sliver_facets(points, [c.astype(np.int32) for c in chains], beside, 1e-3)
    assert rows is not None
    sides = [(row[k], row[(k + 1) % 3]) for row in rows.tolist() for k in range(3)]
    assert len(set(sides)) == len(sides)
    border = {side for side in sides if side[::-1] not in set(sides)}
    assert len(border) == 10
    assert (2, 3) in border  # against the facet beside it
    assert np.allclose(normals_over(points, rows)[..., 2], 1.0)


def test_faces_that_are_no_slivers_are_left() -> None:
    points, chains, beside = lens(0.2)
    assert sliver_facets(points, [c.astype(np.int32) for c in chains], beside, 1e-3) is None
    assert sliver_facets(points, [chains[0].astype(np.int32)], beside, 1e-3) is None
