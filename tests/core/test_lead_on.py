"""Free edges of sheets moved to other walls: led on, cut back, joined where they touch."""

from __future__ import annotations

import numpy as np
import pytest

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Carrier, fit_curve
from kind_rivet.core.geometry.insert import with_line, with_node
from kind_rivet.core.geometry.lead_on import moved_edge
from kind_rivet.core.geometry.shape import Edge, Face, Shape
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.shells import mesh_sheet

Corner = tuple[float, float, float]


def sheet(*walls: tuple[Corner, Corner, Corner, Corner]) -> Shape:
    """Plane walls of four corners each, none joined to another."""
    points, facets, owner, normals, faces, edges = [], [], [], [], [], []
    for f, corners in enumerate(walls):
        p, first = np.array(corners, float), 4 * f
        normal = np.cross(p[1] - p[0], p[3] - p[0])
        normal /= np.linalg.norm(normal)
        points.append(p)
        facets += [[first, first + 1, first + 2], [first, first + 2, first + 3]]
        owner += [f, f]
        normals += [[normal] * 3] * 2
        faces.append(Face(Carrier("plane", (*p[0], *normal))))
        for k in range(4):
            pair = np.array([first + k, first + (k + 1) % 4], np.int32)
            edges.append(Edge(pair, fit_curve(p[[k, (k + 1) % 4]], 1e-9)))
    return Shape(
        np.concatenate(points), np.array(facets, np.int32), np.array(owner, np.int32), np.array(normals), tuple(faces), tuple(edges), False
    )  # fmt: skip


FLOOR = ((0.0, 0.0, 0.0), (100.0, 0.0, 0.0), (100.0, 40.0, 0.0), (0.0, 40.0, 0.0))


def upright(low: float, high: float, start: float = 5.0, end: float = 35.0) -> tuple[Corner, Corner, Corner, Corner]:
    """A wall across the floor; its first edge is the lower one."""
    return (30.0, start, low), (30.0, end, low), (30.0, end, high), (30.0, start, high)


def joint(shape: Shape) -> list[int]:
    return [e for e, faces in enumerate(shape.edge_faces) if len(faces) == 3]


@pytest.mark.parametrize("low", [3.0, 0.0, -4.0], ids=["before", "touching", "beyond"])
def test_an_edge_moved_to_a_wall_shares_an_edge_with_it(low: float) -> None:
    shape = sheet(FLOOR, upright(low, 20.0))
    out, origin = moved_edge(shape, 4, 0)
    assert origin.tolist() == [0, 1]
    assert out.face_area == pytest.approx([4000.0, 600.0])
    lines = joint(out)
    assert len(lines) == 1 and sorted(out.edge_faces[lines[0]]) == [0, 0, 1]
    ends = out.points[out.edges[lines[0]].nodes[[0, -1]]]
    assert np.sort(ends[:, 1]) == pytest.approx([5.0, 35.0]) and ends[:, 2] == pytest.approx(0.0, abs=1e-6)
    assert len(out.edges) == 8  # four round the floor, three round the wall, one in common


def test_a_wall_that_spans_the_other_parts_it(  # the floor falls in two along the whole width
) -> None:
    out, origin = moved_edge(sheet(FLOOR, upright(3.0, 20.0, 0.0, 40.0)), 4, 0)
    assert origin.tolist() == [0, 1, 0]
    assert np.sort(out.face_area) == pytest.approx([800.0, 1200.0, 2800.0])
    lines = joint(out)
    assert len(lines) == 1 and out.edge_length[lines[0]] == pytest.approx(40.0)
    assert not any(len(faces) == 0 for faces in out.edge_faces)


def test_the_moved_edge_carries_common_nodes() -> None:
    out, _ = moved_edge(sheet(FLOOR, upright(3.0, 20.0)), 4, 0)
    mesh = mesh_sheet(out, ShellRules(5.0))
    nodes = mesh.edge_nodes[joint(out)[0]]
    for f in (0, 1):
        used = set(mesh.elements[mesh.face == f].ravel().tolist())
        assert set(nodes.tolist()) <= used


def test_an_edge_led_on_aslant_ends_where_its_wall_points() -> None:
    slanted = ((30.0, 5.0, 4.0), (30.0, 35.0, 4.0), (50.0, 35.0, 24.0), (50.0, 5.0, 24.0))
    out, _ = moved_edge(sheet(FLOOR, slanted), 4, 0)
    ends = out.points[out.edges[joint(out)[0]].nodes[[0, -1]]]
    assert ends[:, 0] == pytest.approx(26.0) and ends[:, 2] == pytest.approx(0.0, abs=1e-6)


def test_refusals_say_why() -> None:
    shape = sheet(FLOOR, upright(3.0, 20.0), ((200.0, 5.0, 3.0), (200.0, 35.0, 3.0), (200.0, 35.0, 20.0), (200.0, 5.0, 20.0)))
    with pytest.raises(Refused, match="belongs to that wall"):
        moved_edge(shape, 4, 1)
    with pytest.raises(Refused, match="misses it"):
        moved_edge(shape, 8, 0)
    joined, _ = moved_edge(shape, 4, 0)
    with pytest.raises(Refused, match="free edge"):
        moved_edge(joined, joint(joined)[0], 2)


def test_nodes_and_lines_inside_a_face() -> None:
    shape = sheet(FLOOR)
    on_corner, node = with_node(shape, 0, np.array([100.0, 40.0, 0.0]))
    assert on_corner is shape and node == 2
    on_side, node = with_node(shape, 0, np.array([50.0, 0.0, 0.0]))
    assert len(on_side.facets) == 3 and node in on_side.edges[0].nodes
    inside, node = with_node(shape, 0, np.array([70.0, 20.0, 0.0]))
    assert len(inside.facets) == 4 and inside.face_area == pytest.approx([4000.0])
    made = with_line(inside, 0, node, np.array([70.0, 40.0, 0.0]))
    assert made is not None
    out, chain = made
    assert chain[0] == node and out.points[chain[-1]] == pytest.approx([70.0, 40.0, 0.0])
    assert out.face_area == pytest.approx([4000.0])
    assert with_line(inside, 0, node, np.array([70.0, 60.0, 0.0])) is None


def test_a_line_to_a_border_does_not_stop_at_a_side_just_before_it() -> None:
    bare, needle = with_node(sheet(FLOOR), 0, np.array([10.0, 0.012, 0.0]))
    whole, start = with_node(bare, 0, np.array([50.0, 20.0, 0.0]))
    assert needle != start
    made = with_line(whole, 0, start, np.array([50.0, 0.0, 0.0]))
    assert made is not None
    out, line = made
    assert line[0] == start
    assert out.points[line[-1]] == pytest.approx([50.0, 0.0, 0.0], abs=1e-9)
    assert (out.points[line[1:-1], 1] > 0).all()
