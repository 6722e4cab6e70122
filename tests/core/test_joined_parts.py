"""Walls that meet in awkward ways: leaning ducts, rounded and slanting corners, gussets at the very end of a wall or above it."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from kind_rivet.core.meshing.divisions import _in_fours
from kind_rivet.core.meshing.free.fill import CannotFill, fill
from kind_rivet.core.meshing.free.given import Given, given_in
from kind_rivet.core.meshing.free.mend import score_of
from kind_rivet.core.meshing.free.small import small_fillings
from kind_rivet.core.meshing.sizes import shared_out
from kind_rivet.core.meshing.trias import without_doubles
from kind_rivet.core.midsurface.charts import CylinderChart
from kind_rivet.core.midsurface.pairs import Pair, _without_slivers
from kind_rivet.core.midsurface.round_charts import tube_chart
from tests.thin_meshes import drawing, drawn_sheet, made, whole_proof

NAMES = [name for name in drawing("draw_joined_parts").PARTS if name != "darted_bracket"]  # that one: test_darts


@pytest.mark.parametrize("name", NAMES)
def test_parts_are_one_sheet_and_mesh_without_failing(name: str) -> None:
    proof = whole_proof(name)
    assert proof.mass_ratio == pytest.approx(1, abs=0.005)
    assert proof.cover > 0.99
    mesh = made(name)
    assert (mesh.pieces, mesh.coincident()) == (1, 0)
    assert mesh.quad_share >= 0.985
    assert not len(mesh.quality.failing)


def walls(name: str) -> dict[str, list[float]]:
    """Thicknesses of the faces of a sheet by their kind."""
    sheet = drawn_sheet(name)
    out: dict[str, list[float]] = {}
    for f, face in enumerate(sheet.shape.faces):
        out.setdefault(face.carrier.kind, []).append(round(float(sheet.thickness[f]), 3))
    return out


def test_a_leaning_duct_is_one_wall_between_its_flange_and_its_collar() -> None:
    found = walls("leaning_duct")
    assert {kind: len(lot) for kind, lot in found.items()} == {"free": 1, "plane": 1, "cylinder": 1}
    assert (found["plane"], found["cylinder"]) == ([2.4], [2.0])
    sheet = drawn_sheet("leaning_duct").shape
    free = next(f for f in range(3) if sheet.faces[f].carrier.kind == "free")
    z = sheet.points[sheet.facets[sheet.facet_face == free]][..., 2]
    assert z.min() == pytest.approx(-1.2, abs=1e-6)
    assert z.max() == pytest.approx(50, abs=0.3)  # the crease lies half-way between those of its two sides


def test_a_gusset_flush_with_the_end_of_a_wall_leaves_nothing_beyond_its_own_end() -> None:
    sheet = drawn_sheet("end_gusset").shape
    assert len(sheet.faces) == 4
    upright = [f for f in range(4) if abs(abs(sheet.faces[f].carrier.data[3]) - 1) < 1e-9]
    lows = [sheet.points[sheet.facets[sheet.facet_face == f]][..., 1].min() for f in upright]
    assert lows == pytest.approx([1.2, 1.2])  # they end in the middle of the upright wall, and do not run on to its skin


def test_gussets_above_a_rim_make_no_walls_of_hairs() -> None:
    assert min(min(lot) for lot in walls("proud_gussets").values()) > 1


def test_only_specks_are_slivers() -> None:
    wall, speck = Pair(0, 1, 2.0, 900.0, np.zeros((1, 3))), Pair(2, 3, 0.01, 0.5, np.zeros((1, 3)))
    foil = Pair(4, 5, 0.01, 50.0, np.zeros((1, 3)))
    assert _without_slivers([wall, speck, foil]) == [wall, foil]
    assert _without_slivers([speck]) == [speck]
    assert _without_slivers([]) == []


def leaning_tube(lean: float, narrowing: float) -> tuple[np.ndarray, np.ndarray]:
    """Points and outward normals of a tube whose centre moves sideways by `lean` per height and whose radius shrinks by `narrowing`."""
    angle, height = (g.ravel() for g in np.meshgrid(np.linspace(0, 2 * np.pi, 37)[:-1], np.linspace(0, 30, 9)))
    radius = 20 - narrowing * height
    round_ = np.column_stack((np.cos(angle), np.sin(angle), np.zeros_like(angle)))
    points = radius[:, None] * round_ + height[:, None] * np.array([lean, 0.0, 1.0])
    along = -narrowing * round_ + np.array([lean, 0.0, 1.0])
    normal = np.cross(np.column_stack((-np.sin(angle), np.cos(angle), np.zeros_like(angle))), along)
    return points, normal / np.linalg.norm(normal, axis=1)[:, None]


@pytest.mark.parametrize(("lean", "narrowing"), [(0.0, 0.0), (0.4, 0.0), (0.4, 0.1), (0.25, -0.2)])
def test_a_tube_is_drawn_on_round_its_axis(lean: float, narrowing: float) -> None:
    points, normals = leaning_tube(lean, narrowing)
    chart = tube_chart(points, normals)
    assert chart is not None
    assert isinstance(chart, CylinderChart) == (narrowing == 0)
    flat = chart.flat(points)
    assert chart.period == pytest.approx(2 * np.pi * 20, rel=0.25)
    back = chart.lift(flat)
    assert chart.flat(back) == pytest.approx(flat, abs=1e-6)
    assert np.linalg.norm(back - points, axis=1).max() < 4
    assert len(np.unique(np.round(flat / 0.2), axis=0)) == len(points)  # no two places fall together


def test_what_looks_past_its_axis_is_no_tube() -> None:
    points, normals = leaning_tube(0.0, 0.0)
    inwards = normals.copy()
    inwards[::7] *= -1
    assert tube_chart(points, inwards) is None
    assert tube_chart(points[:6], normals[:6]) is None


def ring_of(counts: tuple[int, ...], corners: list[tuple[float, float]]) -> np.ndarray:
    """A border with so many sides between each corner and the next."""
    lots = [
        np.linspace(a, b, n, endpoint=False)
        for n, a, b in zip(counts, np.array(corners), np.roll(np.array(corners), -1, axis=0), strict=True)
    ]
    return np.concatenate(lots)


@pytest.mark.parametrize("counts", [(3, 2, 1, 2), (2, 2, 2, 2), (4, 2, 2, 2), (3, 3, 3, 3), (2, 3, 1, 2)])
def test_small_regions_are_filled_round_their_corners(counts: tuple[int, ...]) -> None:
    loop = ring_of(counts, [(0, 0), (6, 0), (4.2, 4.4), (1.8, 4.4)])
    found = small_fillings(loop)
    assert found
    for mesh in found:
        assert mesh.points[: len(loop)] == pytest.approx(loop)
        assert (mesh.elements >= 0).all()
        assert mesh.worst > 0
        sides = {tuple(sorted((row[k], row[(k + 1) % 4]))) for row in mesh.elements.tolist() for k in range(4)}
        assert {tuple(sorted((k, (k + 1) % len(loop)))) for k in range(len(loop))} <= sides
    assert max(mesh.worst for mesh in found) > 0.6


def test_large_and_odd_borders_are_not_small_regions() -> None:
    square = [(0.0, 0.0), (9.0, 0.0), (9.0, 9.0), (0.0, 9.0)]
    assert small_fillings(ring_of((5, 5, 5, 5), square)) == []
    assert small_fillings(ring_of((2, 2, 2, 1), square)) == []


def test_short_sides_count_as_poor_unless_the_border_has_them() -> None:
    points = np.array([(0, 0), (1, 0), (1, 1), (0, 1), (0.0, 1.3), (1.0, 1.3)])
    rows = np.array([(0, 1, 2, 3), (3, 2, 5, 4)], np.int32)
    assert score_of(points, rows, 1.0) == pytest.approx(score_of(points, rows, 1.0, Given(6)))
    assert score_of(points, rows, 1.0, Given(4))[0] == score_of(points, rows, 1.0)[0]
    assert score_of(points, rows, 1.0, Given(4))[1] == pytest.approx(0.66 * 0.3 / 0.36)
    assert score_of(points, rows, 1.0, Given(6))[1] > 0.5 * score_of(points, rows, 1.0)[0]


def test_sides_beside_finer_borders_may_be_short() -> None:
    points = np.array([(0, 0), (1, 0), (1, 1), (0, 1), (0.0, 1.3), (1.0, 1.3)])
    rows = np.array([(0, 1, 2, 3), (3, 2, 5, 4)], np.int32)
    far, near = (np.array([(x, 1.0), (x + 0.2, 1.0), (x + 0.2, 1.2), (x, 1.2)]) for x in (9.0, 1.0))
    plain = score_of(points, rows, 1.0, Given(4))
    assert score_of(points, rows, 1.0, given_in([far], 4, 1.0)) == pytest.approx(plain)
    beside = score_of(points, rows, 1.0, given_in([near], 4, 1.0))
    assert beside[0] == plain[0]
    assert beside[1] == pytest.approx(score_of(points, rows, 1.0)[1])
    spot = np.array([(0.5, 1.1, 0.4, 0.3)])
    assert score_of(points, rows, 1.0, given_in([far], 4, 1.0, spots=spot))[1] == pytest.approx(beside[1])


def test_a_border_that_holds_nothing_is_refused() -> None:
    square = ring_of((3, 3, 3, 3), [(0, 0), (3, 0), (3, 3), (0, 3)])
    with pytest.raises(CannotFill, match="nothing is left"):
        fill([square[::-1]], 1.0)


@pytest.mark.parametrize(
    ("count", "shares", "dealt"),
    [
        (12, [1 / 6] * 5 + [1 / 12] * 2, [2, 2, 2, 2, 2, 1, 1]),
        (16, [0.25] * 4, [4, 4, 4, 4]),
        (5, [0.5, 0.3, 0.2], [3, 1, 1]),
        (2, [0.4, 0.4, 0.2], [1, 1, 1]),
    ],
)
def test_counts_are_dealt_out_by_what_is_still_missing(count: int, shares: list[float], dealt: list[int]) -> None:
    assert shared_out(count, shares) == dealt


def test_arcs_of_a_disc_get_the_multiple_of_four_that_suits_them() -> None:
    assert _in_fours(13, [0.25, 0.25, 0.25, 0.125, 0.125]) == 16
    assert _in_fours(12, [1 / 6] * 5 + [1 / 12] * 2) == 12
    assert _in_fours(3, [0.5, 0.5]) == 8


def test_elements_on_the_same_nodes_are_dropped_once() -> None:
    shells = made("end_gusset").shells
    assert without_doubles(shells) is shells
    rows = np.concatenate((shells.elements, np.roll(shells.elements[:3], 1, axis=1)))
    double = replace(shells, elements=rows, face=np.append(shells.face, shells.face[:3]), ring=np.append(shells.ring, shells.ring[:3]))
    assert without_doubles(double).elements.tolist() == shells.elements.tolist()
