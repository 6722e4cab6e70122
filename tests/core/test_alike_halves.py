"""Symmetric walls get symmetric meshes, astride their axes too."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.spatial import cKDTree

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing import fillings
from kind_rivet.core.meshing.alike_halves import halves_alike
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.meshing.detail import narrow_strips
from kind_rivet.core.meshing.free.fill import CannotFill, FlatMesh, fill
from kind_rivet.core.meshing.free.straddled import fill_straddled
from kind_rivet.core.meshing.free.symmetry import find_symmetry, mirror_axes
from kind_rivet.core.meshing.patch import Patch, lay_flat
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.midsurface.extract import extract
from tests.flat import area
from tests.thin_meshes import drawing, solid_of
from tests.thin_parts import box, cut


def frame(width: float, height: float, across: tuple[int, int]) -> Floats:
    """A rectangle about the origin, counter-clockwise, with so many sides along and up."""
    corners = np.array([(-1, -1), (1, -1), (1, 1), (-1, 1)]) * (width / 2, height / 2)
    return np.concatenate(
        [np.linspace(a, b, across[k % 2] + 1)[:-1] for k, (a, b) in enumerate(zip(corners, np.roll(corners, -1, axis=0), strict=True))]
    )


def mirrored(points: Floats, way: tuple[int, int]) -> float:
    """How far the mirrored points lie from others at most."""
    return float(cKDTree(points).query(points * way)[0].max())


def part(loops: list[Floats]) -> FlatMesh:
    return fill(loops, 1.0)


@pytest.mark.parametrize(("outer", "inner"), [((13, 9), (5, 3)), ((13, 8), (5, 4)), ((12, 9), (6, 3))])
def test_a_row_straddles_the_axes_that_cross_sides(outer: tuple[int, int], inner: tuple[int, int]) -> None:
    loops = [frame(12.6, 8.6, outer), frame(5.0, 3.4, inner)[::-1]]
    mesh = fill_straddled(loops, 1.0, 0.25, part)
    assert mesh is not None
    border = np.concatenate(loops)
    assert mesh.points[: len(border)] == pytest.approx(border)
    assert mirrored(mesh.points, (-1, 1)) < 1e-9
    assert mirrored(mesh.points, (1, -1)) < 1e-9
    assert area(mesh) == pytest.approx(12.6 * 8.6 - 5.0 * 3.4)
    assert mesh.worst > 0.5
    assert np.isin(np.arange(len(mesh.points)), mesh.elements).all()


@pytest.mark.parametrize(("outer", "inner"), [((12, 8), (6, 4)), ((12, 9), (5, 4))])
def test_where_all_axes_have_nodes_or_none_agrees_nothing_is_straddled(outer: tuple[int, int], inner: tuple[int, int]) -> None:
    assert fill_straddled([frame(12.6, 8.6, outer), frame(5.0, 3.4, inner)[::-1]], 1.0, 0.25, part) is None


def test_sides_across_an_axis_must_be_alike() -> None:
    loops = [frame(12.6, 8.6, (13, 9)), frame(5.0, 3.4, (3, 4))[::-1]]  # 0.97 and 1.67 along; up, a node and a side
    assert fill_straddled(loops, 1.0, 0.25, part) is None


def test_what_a_part_cannot_be_filled_with_is_passed_on() -> None:
    def refuse(_: list[Floats]) -> FlatMesh:
        raise CannotFill("No.", np.zeros(2))

    with pytest.raises(CannotFill):
        fill_straddled([frame(12.6, 8.6, (13, 9))], 1.0, 0.25, refuse)


def test_axes_are_found_whether_or_not_nodes_lie_on_them() -> None:
    odd, even = frame(12.6, 8.6, (13, 9)), frame(12.6, 8.6, (12, 8))
    assert len(mirror_axes([odd], 1.0).axes) == len(mirror_axes([even], 1.0).axes) == 2  # type: ignore[union-attr]
    assert find_symmetry([odd], 1.0) is None
    assert len(find_symmetry([even], 1.0).axes) == 2  # type: ignore[union-attr]


def window(wide: float = 50) -> tuple[Patch, Shape]:
    """A plate of 120 by 80 with a window amid it, laid flat, and its sheet."""
    shape = extract(solid_of(cut(box(-60, -40, 0, 120, 80, 3), [box(-25, -15, -1, wide, 30, 9)]))).shape
    return lay_flat(shape, (0,)), shape


@pytest.mark.parametrize(("wide", "given", "held", "expected"), [
    (50, (23, 15, 10, 6), (), "alike"),
    (50, (23, 15, 10, 6), (10,), "even"),  # counts inside along stay
    (50, (23, 15, 10, 6), (23, 10), "as given"),  # neither may change
    (48, (23, 15, 10, 6), (), "up alone"),  # not symmetric from left to right
])  # fmt: skip
def test_counts_across_an_axis_agree(wide: float, given: tuple[int, ...], held: tuple[int, ...], expected: str) -> None:
    patch, shape = window(wide)
    size = 5.2
    lengths = shape.edge_length / size
    kind = {120: 0, 80: 1, wide: 2, 30: 3}
    count = np.array([given[kind[round(length)]] for length in shape.edge_length], np.int64)
    stays = np.isin(count, held)
    halves_alike(shape, [patch], set(), [], count, stays, lengths, size)
    after = [sorted({int(n) for n, length in zip(count, shape.edge_length, strict=True) if kind[round(length)] == k}) for k in range(4)]
    assert (after[1], after[3]) in (([15], [5]), ([15], [7]), ([16], [6]), ([14], [6]))
    along = after[0][0] % 2, after[2][0] % 2
    if expected in ("alike", "even"):
        assert along[0] == along[1] == (0 if expected == "even" else along[0])
        assert max(abs(after[0][0] - 23), abs(after[2][0] - 10)) == 1
    else:
        assert (after[0], after[2]) == ([23], [10])


def test_mapped_walls_keep_their_counts() -> None:
    patch, shape = window()
    count = np.full(len(shape.edges), 4, np.int64)
    count[0] = 5
    before = count.copy()
    halves_alike(shape, [patch], {0}, [], count, np.zeros(len(count), bool), shape.edge_length / 5.0, 5.0)
    assert (count == before).all()


def test_both_ends_of_a_narrow_strip_lie_across_it() -> None:
    """One of them was taken for part of a long side, whose nodes then had none to face."""
    shape = extract(solid_of(drawing().bent_rail())).shape
    curves = [Curve.through(shape.points[edge.nodes], edge.carrier) for edge in shape.edges]
    patches = [lay_flat(shape, (f,)) for f in range(len(shape.faces))]
    bends = [r for r, face in enumerate(shape.faces) if face.carrier.kind == "cylinder"]
    width = max(shape.edge_length[e] for r in bends for e in shape.face_edges[r] if shape.edges[e].carrier.kind == "circle")
    strips = narrow_strips(shape, curves, patches, np.zeros(len(curves), bool), ShellRules(width / 0.34))
    assert {s.region for s in strips} == set(bends)
    for strip in strips:
        assert len(strip.across) == 2
        assert all(shape.edges[e].carrier.kind == "circle" for e in strip.across)


def test_a_symmetric_mesh_is_kept_where_none_astride_its_other_axis_can_be_filled(monkeypatch: pytest.MonkeyPatch) -> None:
    def refuse(*_: object) -> None:
        raise CannotFill("No.", np.zeros(2))

    loops = [frame(12.6, 8.6, (12, 9))]
    monkeypatch.setattr(fillings, "fill_straddled", refuse)
    mesh, axes = fillings._symmetric(loops, 1.0, 0.25)
    assert mesh is not None
    assert axes == 1
