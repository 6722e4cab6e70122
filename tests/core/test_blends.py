"""Blends in inner corners: they make no walls of their own, and the rims of walls go straight through them."""

from __future__ import annotations

from types import SimpleNamespace

import numpy as np
import pytest

from kind_rivet.core.geometry.carriers import frame
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.simplify import simplify
from kind_rivet.core.midsurface.blends import ROUNDING, radius
from kind_rivet.core.midsurface.drawing import TOLD, _bent_wall, _by_face
from kind_rivet.core.midsurface.pairs import Pair
from kind_rivet.core.midsurface.toes import without_toes
from tests.thin_meshes import drawn, drawn_sheet, sound_quads, whole_proof


def free_edges(sheet: Shape) -> list[int]:
    return [e for e, beside in enumerate(sheet.edge_faces) if len(beside) == 1]


def test_blends_that_run_on_into_each_other_are_no_walls() -> None:
    """The walls were cut up by eight more half-way between blends and the sides behind them (34 failing shells)."""
    proof, sheet = whole_proof("blended_shelf"), drawn_sheet("blended_shelf")
    assert [face.carrier.kind for face in sheet.shape.faces] == ["plane"] * 4
    assert sorted(sheet.thickness) == pytest.approx([3, 4, 4, 4])
    assert proof.mass_ratio == pytest.approx(0.99, abs=0.005)  # the blends are left out


@pytest.mark.parametrize("times", [0.6, 1.0, 1.8])
def test_a_blended_shelf_has_rows_all_over(times: float) -> None:
    mesh = sound_quads("blended_shelf", times)
    assert mesh.least_jacobian > 0.8
    assert mesh.growth.max() < 1.5


def test_rims_go_straight_through_blends_to_the_joint() -> None:
    """The rib ends at 60 and is 25 high: its outline would swing out to 62.8 on the shelf, and to 27.8 on the back."""
    sheet = drawn_sheet("blended_shelf").shape
    rib = next(f for f in range(4) if drawn_sheet("blended_shelf").thickness[f] == pytest.approx(3))
    ends = sheet.points[[int(n) for e in sheet.face_edges[rib] for n in sheet.edges[e].nodes]]
    assert ends[:, 0].min() == pytest.approx(2) and ends[:, 0].max() == pytest.approx(60)
    assert ends[:, 2].min() == pytest.approx(2) and ends[:, 2].max() == pytest.approx(25)
    assert all(sheet.edges[e].carrier.kind == "line" for e in free_edges(sheet))
    assert sheet.edge_length[free_edges(sheet)].min() > 1.9


def test_the_ends_of_a_blended_rib_are_no_toes() -> None:
    """Of the plate's border and eight open edges of the four ribs none is an arc."""
    sheet = drawn_sheet("ribbed_plate_blends").shape
    assert sorted(sheet.edge_length[free_edges(sheet)].round(2)) == [16, 16, 16, 16, 25, 25, 40, 40, 339.31]


def test_toes_longer_than_walls_are_thick_stay() -> None:
    sheet = drawn_sheet("blended_shelf").shape
    assert without_toes(sheet, drawn_sheet("blended_shelf").thickness) is sheet  # none is left
    moulded = drawn_sheet("moulded_tub")
    assert without_toes(moulded.shape, 1e-3 * moulded.thickness) is moulded.shape


def test_the_radius_of_a_face_is_told_by_how_fast_its_normals_turn() -> None:
    pipe = drawn("round_tube")
    radii = {
        round(radius(pipe, f), 2): pipe.faces[f].carrier.data[-1]
        for f in range(len(pipe.faces))
        if pipe.faces[f].carrier.kind == "cylinder"
    }
    assert radii
    for told, real in radii.items():
        assert told == pytest.approx(real, rel=0.02)
    shelf = drawn("blended_shelf")
    free = [radius(shelf, f) for f in range(len(shelf.faces)) if shelf.faces[f].carrier.kind not in ("plane", "cylinder")]
    assert free and max(free) < ROUNDING * 4
    flat = next(f for f in range(len(shelf.faces)) if shelf.faces[f].carrier.kind == "plane")
    assert np.isinf(radius(shelf, flat))


def test_a_blend_goes_through_a_wall_no_further_than_its_face_reaches() -> None:
    """A quarter of a round: the surface that it lies on would cut a whole disc out of a wall that it runs up to."""
    shelf = drawn("blended_shelf")
    f = next(f for f, face in enumerate(shelf.faces) if face.carrier.kind == "cylinder" and abs(face.carrier.array[4]) > 0.9)
    d = shelf.faces[f].carrier.array
    u, v = frame(d[3:6])
    corners = shelf.points[shelf.facets[shelf.facet_face == f]].reshape(-1, 3)
    middle = d[:3] + d[3:6] * float(((corners - d[:3]) @ d[3:6]).mean())
    turn = np.linspace(0, 2 * np.pi, 241)[:, None]
    round_ = middle + d[6] * (np.cos(turn) * u + np.sin(turn) * v)
    pieces = _by_face(shelf, f, round_, 0.1)
    assert 55 < sum(len(piece) for piece in pieces) < 75
    whole = _by_face(shelf, f, round_, 10.0)
    assert len(whole) == 1 and whole[0] is round_


def test_few_places_do_not_tell_that_a_wall_is_equally_thick() -> None:
    shelf, _ = simplify(drawn("blended_shelf"), blends=True, turning=np.pi)
    f = next(f for f, face in enumerate(shelf.faces) if face.carrier.kind == "free")
    pair = Pair(f, 0, 4.0, float(shelf.face_area[f]), np.zeros((1, 3)))
    for count in (1, TOLD - 1, TOLD):
        made = SimpleNamespace(samples=np.zeros((count, 3)), thickness=lambda at: np.full(len(at), 4.0))
        assert _bent_wall(shelf, pair, made) == (count >= TOLD)
