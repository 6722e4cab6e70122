"""Repair: failing shells eased, short sides taken out, places filled anew; never more that fail, never a border lost."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
import scipy

from kind_rivet.core.document.document import Document, EntitySet
from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.mesh.collapse import without_side
from kind_rivet.core.mesh.excerpt import Around, excerpt, put_back
from kind_rivet.core.mesh.kinds import BEAM, QUAD, TRIA
from kind_rivet.core.mesh.mesh import Mesh
from kind_rivet.core.mesh.topology import pieces, shell_sides
from kind_rivet.core.operations import perform
from kind_rivet.core.quality.shell_metrics import SCALED_JACOBIAN
from tests.core.test_unfold import channel
from tests.loose import grid, loose


def needled(points: Floats, rows: np.ndarray, count: int, seed: int) -> tuple[Floats, np.ndarray]:
    """Quads (−1 as fourth node: trias) with `count` sides between two quads split near one end, each leaving a needle on both sides."""
    rng = np.random.default_rng(seed)
    points, rows = list(points), [row.tolist() for row in rows]
    beside: dict[tuple[int, int], list[int]] = {}
    for e, row in enumerate(rows):
        for k in range(4):
            beside.setdefault(tuple(sorted((row[k], row[k - 1]))), []).append(e)  # type: ignore[arg-type]
    sides = [s for s, lot in sorted(beside.items()) if len(lot) == 2]
    used: set[int] = set()
    for i in rng.permutation(len(sides)).tolist():
        (a, b), lot = sides[i], beside[sides[i]]
        if count == 0 or used & set(lot):
            continue
        used.update(lot)
        count -= 1
        share, new = rng.uniform(0.05, 0.2), len(points)
        points.append((1 - share) * points[a] + share * points[b])
        for e in lot:
            row = rows[e]
            at = row.index(a)
            across = row[(at + 3) % 4] if row[(at + 1) % 4] == b else row[(at + 1) % 4]
            rows[e] = [new if n == a else n for n in row]
            rows.append([a, new, across, -1])
    return np.array(points), np.array(rows)


def mixed(points: Floats, rows: np.ndarray) -> Document:
    quads, trias = rows[rows[:, 3] >= 0], rows[rows[:, 3] < 0][:, :3]
    document = loose(points, quads)
    mesh = document.mesh.with_elements(TRIA, trias, 1, thickness=2.0)
    return replace(document, mesh=mesh)


def border(mesh: Mesh) -> set[tuple[float, ...]]:
    sides = shell_sides(mesh.shells())
    return {tuple(np.round(mesh.points[n], 6)) for n in np.unique(sides.free).tolist()}


@pytest.mark.parametrize("seed", [1, 2, 3, 4])
@pytest.mark.parametrize("with_faces", [True, False])
def test_needles_go(seed: int, with_faces: bool) -> None:
    points, rows = channel()
    document = mixed(*needled(points, rows, 16, seed))
    area = 38 * 16.0
    assert len(document.quality.failing) > 12
    whole = border(loose(points, rows).mesh)
    if with_faces:
        document = perform(document, "part.faces_from_mesh", {})
    after = perform(document, "quality.repair", {})
    assert len(after.quality.failing) == 0 and pieces(after.mesh) == 1
    edge = border(after.mesh)
    assert len(edge) == len(whole)
    assert all(z == 12 or y in (0, 16) for _, y, z in edge)  # nodes may have slid along the border, not off it
    p = after.mesh.points[np.maximum(after.mesh.conn[:, :4], 0)]
    last = np.where((after.mesh.kind == QUAD)[:, None], p[:, 3], p[:, 2])
    assert np.linalg.norm(np.cross(p[:, 2] - p[:, 0], last - p[:, 1]), axis=1).sum() / 2 == pytest.approx(area, rel=1e-3)
    assert (after.mesh.body >= 0).all() == with_faces
    if with_faces:
        used = set(after.mesh.node_id.tolist())
        assert all(set(line.tolist()) <= used for line in after.mesh_edges[1])
    else:
        assert (after.mesh.face < 0).all() and (after.mesh.on_kind == 0).all()


def test_a_poor_patch_is_filled_anew() -> None:
    """A node with sixteen trias round it: no move makes these sound."""
    points, rows = grid(12, 12, lambda u, v: np.column_stack((12 * u, 12 * v, 0 * u)))
    around = (
        [(4, j) for j in range(4, 8)]
        + [(i, 8) for i in range(4, 8)]
        + [(8, j) for j in range(8, 4, -1)]
        + [(i, 4) for i in range(8, 4, -1)]
    )
    ring = [i * 13 + j for i, j in around]
    fan = np.array([[ring[k - 1], ring[k], 6 * 13 + 6] for k in range(16)])
    document = loose(points, np.delete(rows, [i * 12 + j for i in range(4, 8) for j in range(4, 8)], axis=0))
    mesh = document.mesh.with_elements(TRIA, fan, 1, thickness=2.0)
    used = np.unique(mesh.conn[mesh.conn >= 0])
    document = replace(document, mesh=mesh.without_nodes(~np.isin(np.arange(mesh.nodes), used)))
    assert len(document.quality.failing) >= 8
    after = perform(document, "quality.repair", {})
    assert len(after.quality.failing) == 0 and "1 place changed" in after.notes[0]
    assert after.quality.values[:, SCALED_JACOBIAN].min() > 0.4
    assert (after.mesh.thickness == 2.0).all() and set(after.mesh.part.tolist()) == {1}
    assert border(after.mesh) == border(document.mesh)


def test_nothing_to_repair_is_said() -> None:
    document = loose(*grid(6, 6, lambda u, v: np.column_stack((6 * u, 6 * v, 0 * u))))
    with pytest.raises(Refused, match="No shell fails"):
        perform(document, "quality.repair", {"ease": "failing"})
    with pytest.raises(Refused, match="Nothing fails"):
        perform(document, "quality.repair", {})
    with pytest.raises(Refused, match="no shells"):
        perform(Document(), "quality.repair", {})


def test_own_edges_keep_their_counts(small_mesh: Document) -> None:
    """Nodes on the edges of a meshed body are the analyst's divisions: repair leaves them, whatever fails beside them."""
    mesh = small_mesh.mesh
    points = mesh.points.copy()
    inner = np.flatnonzero(mesh.on_kind == 3)[::7]
    points[inner] += 0.6 * small_mesh.choices.size * np.random.default_rng(5).uniform(-1, 1, (len(inner), 3)) * (1, 1, 0)
    poor = replace(small_mesh, mesh=mesh.moved(points))
    assert len(poor.quality.failing) > 10
    after = perform(poor, "quality.repair", {})
    assert len(after.quality.failing) < len(poor.quality.failing) / 2
    now = set(after.mesh.node_id.tolist())
    for lines in small_mesh.mesh_edges.values():
        assert all(set(line.tolist()) <= now for line in lines)


def test_a_side_goes_only_where_elements_stay_apart() -> None:
    points, rows = grid(3, 3, lambda u, v: np.column_stack((3 * u, 3 * v, 0 * u)))
    mesh = loose(points, rows).mesh
    one, across = 5, 10
    assert without_side(mesh, one, across) is None  # across a quad
    less = without_side(mesh, 5, 6)
    assert less is not None
    assert less.nodes == mesh.nodes - 1 and less.counts() == {"quad": 7, "tria": 2}
    strip = loose(*grid(1, 2, lambda u, v: np.column_stack((u, 2 * v, 0 * u)))).mesh
    held = strip.with_elements(BEAM, np.array([[1, 4]]), 2)
    assert without_side(held, 0, 1) is None  # other things hang on it
    fold = (
        Mesh()
        .with_nodes(np.array([(0, 0, 0), (1, 0, 0), (0.5, 1, 0), (0.5, -1, 0)]))
        .with_elements(TRIA, np.array([[0, 1, 2], [0, 3, 1]]), 1)
    )
    assert without_side(fold, 2, 3) is None  # both trias would lie on each other


def test_an_excerpt_comes_back_with_what_was_changed_in_it() -> None:
    points, rows = grid(6, 5, lambda u, v: np.column_stack((6 * u, 5 * v, 0 * u)))
    mesh = loose(points, rows).mesh
    around = Around(mesh)
    near = around.touching(np.array([12]))
    assert near.tolist() == np.flatnonzero(np.isin(rows, rows[12]).any(axis=1)).tolist()
    before = excerpt(mesh, near)
    assert before.elements == 9 and before.nodes == 16
    assert put_back(mesh, before, before).points.tolist() == mesh.points.tolist()
    inner = [int(np.flatnonzero(before.node_id == mesh.node_id[n])[0]) for n in rows[12][:2]]
    less = without_side(before, *inner)
    assert less is not None
    grown = less.with_nodes(np.array([(9.0, 9.0, 0.0)]))
    grown = grown.with_elements(TRIA, np.array([[0, 1, grown.nodes - 1]]), 1)
    whole = put_back(mesh, before, grown)
    assert whole.nodes == mesh.nodes and whole.elements == mesh.elements + 1  # one node less, one more; a tria more
    assert whole.counts() == {"quad": 28, "tria": 3}
    assert len(np.unique(whole.node_id)) == whole.nodes and len(np.unique(whole.element_id)) == whole.elements
    outside = ~np.isin(mesh.element_id, before.element_id)
    same = np.isin(whole.element_id, mesh.element_id[outside])
    assert whole.points[whole.conn[same, :4]] == pytest.approx(mesh.points[mesh.conn[outside, :4]])


@pytest.mark.parametrize("seed", [1, 2])
def test_trias_at_random_become_sound_and_stay_trias(seed: int) -> None:
    """Nodes strewn over a curved wall, joined as they lie: nearly half of the trias fail."""
    rng, n = np.random.default_rng(seed), 16
    edge = np.arange(n + 1.0)
    rim = [*zip(edge, 0 * edge, strict=True), *zip(edge, 0 * edge + n, strict=True), *((x, y) for y in edge[1:-1] for x in (0, n))]
    flat_ = np.vstack((rim, rng.uniform(0.4, n - 0.4, (n * n, 2))))
    points = np.column_stack((12 * np.sin(flat_[:, 0] / 12), flat_[:, 1], 12 * np.cos(flat_[:, 0] / 12)))
    empty = loose(*grid(1, 1, lambda u, v: np.column_stack((u, v, 0 * u))))
    mesh = Mesh().with_nodes(points).with_elements(TRIA, scipy.spatial.Delaunay(flat_).simplices, 1, thickness=2.0)
    document = replace(empty, mesh=mesh)
    assert len(document.quality.failing) > 0.3 * mesh.elements
    after = perform(document, "quality.repair", {})
    assert len(after.quality.failing) == 0 and set(after.mesh.counts()) == {"tria"}
    off = np.hypot(after.mesh.points[:, 0], after.mesh.points[:, 2])
    assert np.abs(off - 12).max() < 0.12  # facets of a wall of radius 12 lie up to that far within it
    assert all(y in (0, n) or min(x, abs(x - 12 * np.sin(n / 12))) < 1e-5 for x, y, _ in border(after.mesh))


def test_sets_by_number_follow() -> None:
    points, rows = channel()
    document = mixed(*needled(points, rows, 16, 3))
    mesh = document.mesh
    floor = np.abs(mesh.centres()[:, 2]) < 1e-9
    low = np.abs(mesh.points[:, 2]) < 1e-9
    sets = (EntitySet("floor", "element", mesh.element_id[floor]), EntitySet("low", "node", mesh.node_id[low]))
    after = perform(replace(document, sets=sets), "quality.repair", {})
    mesh = after.mesh
    now = {s.name: set(s.ids.tolist()) for s in after.sets}
    assert now["floor"] == set(mesh.element_id[np.abs(mesh.centres()[:, 2]) < 1e-6].tolist())
    assert now["low"] == set(mesh.node_id[np.abs(mesh.points[:, 2]) < 1e-6].tolist())
    assert len(now["low"]) < low.sum()  # nodes of needles are gone
