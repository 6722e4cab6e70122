"""A selection meshed again, shells without faces, copies that meet."""

from __future__ import annotations

import numpy as np
import pytest

from kind_rivet.core.document.document import Document
from kind_rivet.core.errors import Refused
from kind_rivet.core.mesh.copies import mirror, rotation
from kind_rivet.core.mesh.topology import shell_sides
from kind_rivet.core.meshing.lines import facing, filled_outline, ruled_strip
from kind_rivet.core.operations import perform
from kind_rivet.core.quality.shell_metrics import SCALED_JACOBIAN, shell_metrics


def row(a: tuple[float, float, float], b: tuple[float, float, float], n: int) -> np.ndarray:
    return np.linspace(a, b, n)


def area_of(points: np.ndarray, elements: np.ndarray) -> float:
    p = points[np.where(elements >= 0, elements, elements[:, [2]])]
    return float(np.linalg.norm(np.cross(p[:, 2] - p[:, 0], p[:, 3] - p[:, 1]), axis=1).sum() / 2)


@pytest.mark.parametrize(("n", "m"), [(9, 9), (9, 13), (13, 8), (5, 17)])
@pytest.mark.parametrize("turned", [False, True])
def test_ruled_strip_never_crosses_itself(n: int, m: int, turned: bool) -> None:
    first, second = row((0, 0, 0), (10, 0, 0), n), row((0, 4, 1), (10, 4, 1), m)
    if turned:
        second = second[::-1]
    points, elements = ruled_strip(first, second, 3, 1.2)
    assert points[:n] == pytest.approx(first)
    assert points[n : n + m] == pytest.approx(second)
    assert area_of(points, elements) == pytest.approx(10 * np.hypot(4, 1), rel=1e-6)
    assert shell_metrics(points, elements)[:, SCALED_JACOBIAN].min() > 0.25
    assert len(np.unique(elements[elements >= 0])) == len(points)


def test_facing_turns_a_row_round() -> None:
    first = row((0, 0, 0), (5, 0, 0), 4)
    assert facing(first, first[::-1] + (0, 1, 0)) == pytest.approx(first + (0, 1, 0))


def test_outline_plane_and_hung() -> None:
    t = np.linspace(0, 2 * np.pi, 25)[:-1]
    flat = np.column_stack((5 * np.cos(t), 5 * np.sin(t), 0 * t + 2))
    points, elements = filled_outline(flat, 1.3)
    assert np.abs(points[:, 2] - 2).max() < 1e-9
    assert area_of(points, elements) == pytest.approx(12 * 25 * np.sin(2 * np.pi / 24), rel=1e-6)
    saddle = flat + np.column_stack((0 * t, 0 * t, np.cos(2 * t)))
    points, elements = filled_outline(saddle, 1.3)
    assert points[:24] == pytest.approx(saddle)
    assert points[24:, 2].max() < 3.0
    assert points[24:, 2].min() > 1.0  # a membrane stays between its border's heights
    with pytest.raises(Refused, match="no area"):
        filled_outline(row((0, 0, 0), (5, 0, 0), 6), 1.0)


def test_selection_is_meshed_again_inside_its_border(small_mesh: Document) -> None:
    mesh = small_mesh.mesh
    wall = int(np.argmax(small_mesh.sheets[1].shape.face_area))
    mine = np.flatnonzero((mesh.face == wall) & (mesh.ring < 0))
    centre = mesh.centres()[mine]
    near = mine[np.linalg.norm(centre - centre[len(centre) // 3], axis=1) < 22]
    chosen = tuple(int(n) for n in mesh.element_id[near])
    fine = perform(small_mesh, "mesh.again", {"elements": chosen, "size": 4.0})
    assert fine.mesh.elements > mesh.elements
    kept = np.setdiff1d(mesh.element_id, chosen)
    assert set(kept.tolist()) <= set(fine.mesh.element_id.tolist())
    assert len(shell_sides(fine.mesh.shells()).free) == len(shell_sides(mesh.shells()).free)
    new = ~np.isin(fine.mesh.element_id, mesh.element_id)
    assert (fine.mesh.face[new] == wall).all()
    assert np.abs(fine.mesh.thickness[new] - np.median(mesh.thickness[near])).max() < 1e-9
    assert fine.quality.values[new, SCALED_JACOBIAN].min() > 0.2
    before = area_of(mesh.points, mesh.conn[near, :4])
    assert area_of(fine.mesh.points, fine.mesh.conn[new, :4]) == pytest.approx(before, rel=1e-6)


def test_lots_that_lie_apart_are_meshed_again_one_by_one(small_mesh: Document) -> None:
    with pytest.raises(Refused, match="No shell"):
        perform(small_mesh, "mesh.again", {"elements": []})
    mesh = small_mesh.mesh
    wall = int(np.argmax(small_mesh.sheets[1].shape.face_area))
    mine = mesh.element_id[(mesh.face == wall) & (mesh.ring < 0)]
    apart = [int(mine[0]), int(mine[len(mine) // 2])]
    made = perform(small_mesh, "mesh.again", {"elements": apart})
    kept = np.isin(mesh.element_id, apart, invert=True)
    assert not np.isin(apart, made.mesh.element_id).any()
    assert np.isin(mesh.element_id[kept], made.mesh.element_id).all()
    assert len(made.quality.failing) <= len(small_mesh.quality.failing)


def test_strip_between_two_free_edges_shares_their_nodes(small_mesh: Document) -> None:
    shape = small_mesh.sheets[1].shape
    free = [e for e in range(len(shape.edges)) if len(shape.edge_faces[e]) == 1 and shape.edges[e].carrier.kind == "line"]
    first, second = sorted(free, key=lambda e: -shape.edge_length[e])[:2]
    a, b = ([int(n) for n in small_mesh.mesh_edges[1][e]] for e in (first, second))
    made = perform(small_mesh, "mesh.strip", {"first": a, "second": b, "rows": 4, "thickness": 1.5})
    new = ~np.isin(made.mesh.element_id, small_mesh.mesh.element_id)
    used = made.mesh.node_id[np.unique(made.mesh.conn[new][made.mesh.conn[new] >= 0])]
    assert set(a) <= set(used.tolist())
    assert set(b) <= set(used.tolist())
    assert (made.mesh.thickness[new] == 1.5).all()
    swept = perform(small_mesh, "mesh.drag_row", {"row": a, "shift": (0, 0, 12), "count": 3})
    assert swept.mesh.elements - small_mesh.mesh.elements == 3 * (len(a) - 1)
    path = perform(small_mesh, "mesh.drag_row", {"row": a[:3], "path": b[:5]})
    assert path.mesh.elements - small_mesh.mesh.elements == 2 * 4
    for name, parameters, word in (
        ("mesh.strip", {"first": a, "second": a}, "share"),
        ("mesh.strip", {"first": [a[0], a[0]], "second": b}, "twice"),
        ("mesh.drag_row", {"row": a, "shift": (0, 0, 0)}, "zero"),
        ("mesh.outline", {"nodes": a[:2]}, "three"),
        ("mesh.outline", {"nodes": [a[0], a[1], 10**8]}, "no node"),
    ):
        with pytest.raises(Refused, match=word):
            perform(small_mesh, name, parameters)


def test_mirror_and_rotation_matrices() -> None:
    turn, shift = mirror(np.array([1.0, 0, 0]), np.array([2.0, 0, 0]))
    assert turn @ np.array([3.0, 4, 5]) + shift == pytest.approx([-1, 4, 5])
    turn, shift = rotation(np.array([1.0, 0, 0]), np.array([0, 0, 3.0]), np.pi / 2)
    assert turn @ np.array([2.0, 0, 7]) + shift == pytest.approx([1, 1, 7])


def sector() -> Document:
    """A flat quarter ring of shells, without geometry: row of nodes swept about z."""
    from kind_rivet.core.document.document import Part
    from kind_rivet.core.mesh.kinds import QUAD
    from kind_rivet.core.mesh.mesh import Mesh

    r, t = np.meshgrid(np.linspace(5, 9, 5), np.linspace(0, np.pi / 4, 6))
    points = np.column_stack(((r * np.cos(t)).ravel(), (r * np.sin(t)).ravel(), np.zeros(r.size)))
    k = np.arange(30).reshape(6, 5)
    quads = np.stack((k[:-1, :-1], k[:-1, 1:], k[1:, 1:], k[1:, :-1]), axis=-1).reshape(-1, 4)
    mesh = Mesh().with_nodes(points).with_elements(QUAD, quads, 1, thickness=1.0, offset=0.2)
    return Document(mesh=mesh, parts=(Part(1, "Sector", "#88aa99", "shell", ""),))


def test_sector_mirrored_rotated_and_merged_closes_without_a_gap() -> None:
    one = sector()
    eighth = np.pi / 4
    normal = (-np.sin(eighth), np.cos(eighth), 0.0)
    two = perform(one, "mesh.copies", {"how": "mirror", "along": normal, "tolerance": 1e-6})
    assert two.mesh.elements == 40
    assert two.mesh.nodes == 55
    all_round = perform(two, "mesh.copies", {"how": "rotate", "along": (0, 0, 1), "angle": 90.0, "count": 3, "tolerance": 1e-6})
    assert all_round.mesh.elements == 160
    sides = shell_sides(all_round.mesh.shells())
    radius = np.linalg.norm(all_round.mesh.points[sides.free].reshape(-1, 3), axis=1)
    assert len(sides.free) == 2 * 40  # only the inner and the outer rim are free
    assert np.abs(np.abs(radius - 7) - 2).max() < 1e-9
    p = all_round.mesh.points[all_round.mesh.conn[:, :4]]
    up = np.cross(p[:, 2] - p[:, 0], p[:, 3] - p[:, 1])[:, 2]
    assert (up > 0).all() or (up[:20] > 0).all()
    assert (all_round.mesh.offset == pytest.approx(0.2)) if np.ndim(all_round.mesh.offset) == 0 else np.allclose(all_round.mesh.offset, 0.2)


def test_copies_moved_scaled_and_refused() -> None:
    one = sector()
    moved = perform(one, "mesh.copies", {"how": "move", "along": (0, 0, 3), "count": 2})
    assert sorted(np.unique(moved.mesh.points[:, 2])) == pytest.approx([0, 3, 6])
    alone = perform(one, "mesh.copies", {"how": "scale", "factor": 2.0, "keep": False})
    assert alone.mesh.elements == one.mesh.elements
    assert np.allclose(alone.mesh.thickness, 2.0)
    for parameters, word in (
        ({"how": "mirror", "along": (0, 0, 0)}, "zero"),
        ({"how": "mirror", "count": 2}, "twice"),
        ({"elements": [77777]}, "no longer"),
    ):
        with pytest.raises(Refused, match=word):
            perform(one, "mesh.copies", parameters)
    with pytest.raises(Refused, match="nothing to copy"):
        perform(Document(), "mesh.copies", {})
