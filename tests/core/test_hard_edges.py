"""Hard points on edges, round holes and corners: a node lies on each, and stays there."""

from __future__ import annotations

import numpy as np
import pytest

from kind_rivet.core.document.document import Document
from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.mesh.mesh import ON_VERTEX
from kind_rivet.core.mesh.topology import pieces
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.operations import perform
from kind_rivet.core.operations.quality import document_holds

SIZE = 6.0


def on_edge(document: Document, edge: int, share: float) -> Floats:
    shape = document.sheets[1].shape
    curve = Curve.through(shape.points[shape.edges[edge].nodes], shape.edges[edge].carrier)
    return np.asarray(curve.at(np.array([share * curve.length]))[0])


def longest(document: Document, beside: int, kind: str = "line", closed: bool = False) -> int:
    shape = document.sheets[1].shape
    fits = [e for e, x in enumerate(shape.edges) if len(shape.edge_faces[e]) == beside and x.carrier.kind == kind and x.closed == closed]
    return max(fits, key=lambda e: shape.edge_length[e])


@pytest.fixture(scope="module")
def plain(small_sheet: Document) -> Document:
    """The tray meshed without hard points."""
    return perform(small_sheet, "mesh.shells", {"size": SIZE})


def meshed(document: Document, places: list[Floats], **more: object) -> Document:
    hard = perform(document, "prepare.hard_points", {"body": 1, "points": [tuple(map(float, p)) for p in places]})
    return perform(hard, "mesh.shells", {"size": SIZE, **more})


def gap(document: Document, place: Floats) -> float:
    return float(np.linalg.norm(document.mesh.points - place, axis=1).min())


@pytest.mark.parametrize(("beside", "kind", "closed"), [(1, "line", False), (2, "line", False), (1, "circle", True)])
def test_a_point_on_an_edge_becomes_a_node_that_is_held(
    small_sheet: Document, plain: Document, beside: int, kind: str, closed: bool
) -> None:
    place = on_edge(small_sheet, longest(small_sheet, beside, kind, closed), 0.337)
    made = meshed(small_sheet, [place])
    assert gap(made, place) < 1e-4
    node = int(np.argmin(np.linalg.norm(made.mesh.points - place, axis=1)))
    assert made.mesh.on_kind[node] == ON_VERTEX
    assert not document_holds(made).movable[node]
    assert pieces(made.mesh) == 1
    assert set(made.mesh.face) == set(range(len(made.sheets[1].shape.faces)))
    assert len(made.quality.failing) <= len(plain.quality.failing) + 2
    assert made.stale == ()


def test_several_points_on_one_edge_and_one_inside(small_sheet: Document) -> None:
    edge = longest(small_sheet, 1)
    places = [on_edge(small_sheet, edge, s) for s in (0.11, 0.123, 0.5, 0.77)]
    inside = np.array([91.3, 41.7, 0.75])
    made = meshed(small_sheet, [*places, inside])
    assert [gap(made, p) for p in (*places, inside)] == pytest.approx([0.0] * 5, abs=1e-4)
    again = perform(made, "mesh.divisions", {"body": 1, "edges": [edge], "count": 40})
    assert len(again.mesh_edges[1][edge]) == 41
    assert [gap(again, p) for p in (*places, inside)] == pytest.approx([0.0] * 5, abs=1e-4)


def test_a_hole_keeps_its_even_ring(small_sheet: Document) -> None:
    edge = longest(small_sheet, 1, "circle", True)
    place = on_edge(small_sheet, edge, 0.21)
    made = meshed(small_sheet, [place])
    line = made.mesh_edges[1][edge]
    assert len(line) % 2 == 1
    index = made.node_index
    around = made.mesh.points[[index[int(n)] for n in line[:-1]]]
    away = around - around.mean(axis=0)
    step = np.degrees(np.arccos(np.einsum("ij,ij->i", away, np.roll(away, -1, axis=0)) / np.linalg.norm(away, axis=1) ** 2))
    assert np.ptp(step) < 1.0
    hole = next(h for h in made.mesh_holes[1] if edge in h.edges)
    assert hole.widths


def test_what_cannot_be_hit_is_said(small_sheet: Document, plain: Document) -> None:
    edge = longest(small_sheet, 1)
    shape = small_sheet.sheets[1].shape
    corner = shape.points[shape.edges[edge].nodes[0]]
    beside = on_edge(small_sheet, edge, 0.3 / float(shape.edge_length[edge]))
    made = meshed(small_sheet, [corner, beside])
    assert gap(made, corner) < 1e-6
    assert any("1 hard point lies so near" in note for note in made.notes)
    few = perform(plain, "mesh.divisions", {"body": 1, "edges": [edge], "count": 1})
    held = perform(few, "prepare.hard_points", {"body": 1, "points": [tuple(map(float, on_edge(small_sheet, edge, 0.4)))]})
    held = perform(held, "mesh.update", {})
    assert any("cannot be hit" in note for note in held.notes)
    assert len(held.mesh_edges[1][edge]) == 2


def test_mid_side_nodes_beside_a_point_on_a_hole_lie_on_it(small_sheet: Document) -> None:
    from kind_rivet.core.mesh.quadratic import with_mid_sides

    edge = longest(small_sheet, 1, "circle", True)
    made = meshed(small_sheet, [on_edge(small_sheet, edge, 0.21)])
    mesh, _ = with_mid_sides(made.mesh, {1: made.meshed[1].shape})
    d = made.sheets[1].shape.edges[edge].carrier.array
    added = mesh.points[made.mesh.nodes :]
    off = np.abs(np.linalg.norm(added - d[:3], axis=1) - d[6])
    assert (off < 1e-3).sum() >= len(made.mesh_edges[1][edge]) - 1


def test_a_point_whose_wall_is_gone_is_left_out(small_sheet: Document) -> None:
    shape = small_sheet.sheets[1].shape
    upright = max(range(len(shape.faces)), key=lambda f: float(shape.points[shape.facets[shape.facet_face == f]][..., 2].mean()))
    place = shape.points[shape.facets[shape.facet_face == upright]].mean(axis=1)
    high = place[int(np.argmax(place[:, 2]))]
    hard = perform(small_sheet, "prepare.hard_points", {"body": 1, "points": [tuple(map(float, high))]})
    gone = perform(hard, "midsurface.drop_wall", {"body": 1, "place": tuple(map(float, high))})
    made = perform(gone, "mesh.shells", {"size": SIZE})
    assert any("1 hard point lies on no wall" in note for note in made.notes)
    assert made.quality.values[:, 7].min() > 0.1
    assert set(made.mesh.face) == set(range(len(made.sheets[1].shape.faces)))
