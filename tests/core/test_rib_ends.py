"""Lines that end just before a border: cut through to it, meshed, and told in terms of the sheet as it was."""

from __future__ import annotations

import numpy as np
import pytest

from kind_rivet.core.geometry.kernel.facets import facet_shape
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.split import cut_between
from kind_rivet.core.meshing.rib_ends import cut_at_ends
from kind_rivet.core.meshing.rules import Grading, ShellRules
from kind_rivet.core.meshing.sheet_mesh import EDGE, FACE, VERTEX, Kept
from kind_rivet.core.meshing.shells import mesh_sheet
from kind_rivet.core.midsurface.extract import extract
from kind_rivet.core.midsurface.sheet import Sheet
from kind_rivet.core.quality.shell_metrics import SCALED_JACOBIAN
from tests.thin_meshes import meshed
from tests.thin_parts import box, cut, cylinder, fused

SIZE = 3.0


@pytest.fixture(scope="module")
def low_rib() -> Sheet:
    """A floor with a wall along one edge, and a rib that stops 1 mm below the wall's free edge."""
    return extract(facet_shape(fused(box(0, 0, 0, 100, 40, 2), [box(0, 38, 0, 100, 2, 25), box(48, 0, 0, 2, 40, 24)])))


@pytest.fixture(scope="module")
def stepped() -> Sheet:
    """A plate that steps, with a rib flush with its edge for part of the way."""
    plate = fused(box(0, 0, 0, 40, 40, 2), [box(40, 0, 0, 40, 40, 3)])
    return extract(facet_shape(fused(plate, [box(20, 0, 1, 40, 2, 15)])))


def _top(shape: Shape) -> int:
    """The free edge along the top of the wall."""
    return next(e for e, edge in enumerate(shape.edges) if np.allclose(shape.points[edge.nodes][:, 2], 25) and shape.edge_length[e] > 90)


def test_a_rib_that_stops_below_a_free_edge_is_cut_through_to_it(low_rib: Sheet) -> None:
    shape = low_rib.shape
    cut = cut_at_ends(shape, ShellRules(SIZE))
    assert len(cut.shape.edges) == len(shape.edges) + 2  # the other part of the top, and the cut
    assert (cut.edges < 0).sum() == 1
    line = cut.shape.edges[int(np.flatnonzero(cut.edges < 0)[0])]
    assert np.allclose(np.sort(cut.shape.points[line.nodes[[0, -1]]][:, 2]), [24, 25])
    parts = cut.parts(_top(shape))
    assert len(parts) == 2 and cut.shape.edge_length[parts].sum() == pytest.approx(100)
    assert cut.shape.face_area.sum() == pytest.approx(shape.face_area.sum())


def test_the_mesh_is_told_in_terms_of_the_whole_sheet(low_rib: Sheet) -> None:
    shape = low_rib.shape
    mesh = mesh_sheet(shape, ShellRules(SIZE))
    assert len(mesh.edge_nodes) == len(mesh.divisions) == len(shape.edges)
    assert mesh.face.max() < len(shape.faces)
    ends = {int(n) for edge in shape.edges for n in edge.nodes[[0, -1]]}
    vertex = mesh.on_item[mesh.on_kind == VERTEX]
    assert set(vertex.tolist()) <= ends
    assert mesh.on_item[mesh.on_kind == EDGE].max() < len(shape.edges) and mesh.on_item[mesh.on_kind == FACE].max() < len(shape.faces)
    top = mesh.points[mesh.edge_nodes[_top(shape)]]
    assert len(top) == mesh.divisions[_top(shape)] + 1
    assert np.allclose(top[:, 2], 25) and (np.diff(np.abs(top[:, 0] - top[0, 0])) > 0.5 * SIZE).all()
    assert np.isclose(top[:, 0], 49).any()  # the rib ends on the edge now


def test_ribs_near_a_free_edge_leave_no_failing_element(low_rib: Sheet) -> None:
    made = meshed(low_rib, SIZE)
    assert len(made.quality.failing) == 0 and made.pieces == 1 and made.quad_share > 0.99


def test_half_a_size_between_a_rib_and_the_rim_becomes_a_row_of_its_own() -> None:
    """Rings in a drum with stiffeners whose inner edges lie 1.5 mm further out than those of the rings."""
    rings = [cut(cylinder((0, 0, z), (0, 0, 1), 99, 3), [cylinder((0, 0, z - 1), (0, 0, 1), 84, 5)]) for z in (0, 60)]
    bars = [box(85.5, -1, 1, 13, 2, 60), box(-98.5, -1, 1, 13, 2, 60), box(-1, 85.5, 1, 2, 13, 60), box(-1, -98.5, 1, 2, 13, 60)]
    drum = cut(cylinder((0, 0, -10), (0, 0, 1), 100, 83), [cylinder((0, 0, -11), (0, 0, 1), 98, 85)])
    made = meshed(extract(facet_shape(fused(drum, [*rings, *bars]))), 4.0)
    assert len(made.quality.failing) == 0 and made.pieces == 1
    assert made.quad_share == 1.0 and made.quality.values[:, SCALED_JACOBIAN].min() > 0.7


def test_counts_by_hand_are_shared_out_along_a_cut_edge(low_rib: Sheet) -> None:
    top = _top(low_rib.shape)
    mesh = mesh_sheet(low_rib.shape, ShellRules(SIZE, divisions={top: 30}))
    assert mesh.divisions[top] == 30


def test_graded_and_held_edges_stay_whole(low_rib: Sheet) -> None:
    top = _top(low_rib.shape)
    assert cut_at_ends(low_rib.shape, ShellRules(SIZE, grading={top: Grading("start", 3.0)})).shape is low_rib.shape
    assert cut_at_ends(low_rib.shape, ShellRules(SIZE), fixed=[top]).shape is low_rib.shape
    assert cut_at_ends(low_rib.shape, ShellRules(1.0)).shape is low_rib.shape  # there is room for elements


def test_what_was_not_cut_may_stay(low_rib: Sheet) -> None:
    shape = low_rib.shape
    first = mesh_sheet(shape, ShellRules(SIZE))
    lines = {e: first.points[nodes] for e, nodes in enumerate(first.edge_nodes)}
    again = mesh_sheet(shape, ShellRules(SIZE), kept=Kept(frozenset(range(len(shape.faces))), lines))
    wall = next(f for f in range(len(shape.faces)) if _top(shape) in shape.face_edges[f])
    assert again.kept_faces and wall not in again.kept_faces
    assert set(again.face.tolist()) == set(range(len(shape.faces))) - again.kept_faces
    assert np.array_equal(again.divisions, first.divisions)


def test_no_cut_runs_beside_a_face(low_rib: Sheet) -> None:
    shape = low_rib.shape
    vertex = int(shape.edges[_top(shape)].nodes[0])
    assert cut_between(shape, 0, vertex, shape.points[vertex] + [0, 0, 5.0]) is None


def test_a_rib_flush_with_the_edge_of_a_stepped_plate_leaves_no_narrow_row(stepped: Sheet) -> None:
    made = meshed(stepped, SIZE)
    assert len(made.quality.failing) == 0 and made.pieces == 1
    three = [e for e, faces in enumerate(stepped.shape.edge_faces) if len(faces) == 3]
    assert not any(len(set(stepped.shape.edge_faces[e])) < 3 for e in three)  # no strip of plate runs on beyond the rib


def test_counts_for_edges_that_are_gone_do_no_harm(low_rib: Sheet) -> None:
    mesh = mesh_sheet(low_rib.shape, ShellRules(SIZE, divisions={-1: 3, 999: 4}))
    assert len(mesh.elements) > 100


def test_an_edge_falls_into_no_more_parts_than_its_count_by_hand(low_rib: Sheet) -> None:
    top = _top(low_rib.shape)
    assert cut_at_ends(low_rib.shape, ShellRules(SIZE, divisions={top: 1})).shape is low_rib.shape
    cut = cut_at_ends(low_rib.shape, ShellRules(SIZE, divisions={top: 2}))
    assert len(cut.parts(top)) == 2
    assert sorted(cut.rules(ShellRules(SIZE, divisions={top: 2})).divisions.values()) == [1, 1]
