"""Edges of sheets that run on along one line or arc between the same walls become one."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from kind_rivet.core.geometry.carriers import Carrier, fit_curve
from kind_rivet.core.geometry.kernel.facets import facet_shape
from kind_rivet.core.geometry.shape import Edge, Face, Shape
from kind_rivet.core.geometry.simplify import edges_in_one, without_slits
from kind_rivet.core.midsurface.extract import extract
from tests.thin_parts import box, fused


def fan(outline: np.ndarray, stops: list[int]) -> Shape:
    """A plane face over an outline (n, 2), its border cut into edges at some of its corners."""
    n = len(outline)
    points = np.column_stack((np.vstack((outline, outline.mean(axis=0))), np.zeros(n + 1)))
    facets = np.array([[k, (k + 1) % n, n] for k in range(n)], np.int32)
    edges = []
    for a, b in zip(stops, [*stops[1:], stops[0] + n], strict=True):
        nodes = np.arange(a, b + 1, dtype=np.int32) % n
        edges.append(Edge(nodes, fit_curve(points[nodes], 1e-9)))
    up = np.broadcast_to([0.0, 0.0, 1.0], (n, 3, 3)).copy()
    return Shape(points, facets, np.zeros(n, np.int32), up, (Face(Carrier("plane", (0, 0, 0, 0, 0, 1))),), tuple(edges), False)


SQUARE = np.array([[0, 0], [1, 0], [2, 0], [2, 2], [1, 2], [0, 2]], float)


def test_straight_edges_become_one_and_corners_stay() -> None:
    out = edges_in_one(fan(SQUARE, [0, 1, 2, 3, 4, 5]))
    assert len(out.edges) == 4
    assert np.sort(out.edge_length) == pytest.approx([2, 2, 2, 2])
    assert all(edge.carrier.kind == "line" for edge in out.edges)


def test_nothing_to_join_gives_the_same_object() -> None:
    shape = fan(SQUARE, [0, 2, 3, 5])
    assert edges_in_one(shape) is shape


def test_a_circle_that_is_hardly_open_is_closed() -> None:
    t = np.append(np.linspace(0.0, 2 * np.pi - 0.01, 60), 2 * np.pi - 0.005)[:-1]
    out = edges_in_one(fan(3.0 * np.column_stack((np.cos(t), np.sin(t))), [0, 59]))
    assert len(out.edges) == 1 and out.edges[0].closed and out.edges[0].carrier.kind == "circle"
    wide = np.linspace(0.0, 2 * np.pi - 0.1, 60)
    assert len(edges_in_one(fan(3.0 * np.column_stack((np.cos(wide), np.sin(wide))), [0, 59])).edges) == 2


def test_arcs_of_one_circle_become_one_but_never_close() -> None:
    t = np.arange(72) / 72 * 2 * np.pi
    out = edges_in_one(fan(3.0 * np.column_stack((np.cos(t), np.sin(t))), [0, 18, 36, 54]))
    assert len(out.edges) == 2 and all(edge.carrier.kind == "circle" for edge in out.edges)
    assert not any(edge.closed for edge in out.edges)


def test_a_line_that_runs_into_an_arc_keeps_its_vertex() -> None:
    t = np.linspace(-np.pi / 2, np.pi / 2, 37)
    outline = np.vstack(([[-4.0, -1.0]], np.column_stack((np.cos(t), np.sin(t))), [[-4.0, 1.0]]))
    shape = fan(outline, [0, 1, 37, 38])
    assert edges_in_one(shape) is shape


def test_edges_of_sheets_end_only_where_something_changes() -> None:
    """The top of a rib that runs into another one is one edge, though the end of it lies inside the other."""
    solid = facet_shape(fused(box(0, 0, 0, 100, 40, 2), [box(48, 0, 0, 2, 40, 24), box(20, 19, 0, 29, 2, 15)]))
    shape = extract(solid).shape
    for vertex, at in shape.vertices.items():
        if len(at) == 2 and shape.edge_faces[at[0]] == shape.edge_faces[at[1]]:
            ways = []
            for e in at:
                nodes = shape.edges[e].nodes
                far = nodes[1] if nodes[0] == vertex else nodes[-2]
                ways.append((shape.points[far] - shape.points[vertex]) / np.linalg.norm(shape.points[far] - shape.points[vertex]))
            assert float(ways[0] @ ways[1]) > -0.99


def test_edges_that_bound_nothing_are_left_out() -> None:
    plain = fan(SQUARE, [0, 2, 3, 5])
    centre = len(SQUARE)
    lines = [np.array(nodes, np.int32) for nodes in ([0, centre], [centre, 3])]
    slit, through = (replace(plain, edges=(*plain.edges, *(Edge(n, fit_curve(plain.points[n], 1e-9)) for n in lines[:k]))) for k in (1, 2))
    assert slit.edge_faces[-1] == (0, 0)
    assert without_slits(slit).edges == plain.edges
    assert without_slits(through) is through  # from border to border
    assert without_slits(plain) is plain
