"""Shell meshes: conformity, washers, divisions, bends, symmetry of numbers."""

from __future__ import annotations

import numpy as np
import pytest

from kind_rivet.core.document.document import Document
from kind_rivet.core.document.live_sets import hole_nodes
from kind_rivet.core.errors import Refused
from kind_rivet.core.mesh.coincident import coincident_groups, duplicate_elements
from kind_rivet.core.mesh.topology import flipped_pairs, loops_of, pieces, shell_sides
from kind_rivet.core.operations import perform


@pytest.mark.parametrize("size", [4.0, 8.0, 15.0])
def test_tray_at_several_sizes(tray_sheet: Document, size: float) -> None:
    d = perform(tray_sheet, "mesh.shells", {"size": size})
    mesh = d.mesh
    sides = shell_sides(mesh.shells())
    assert pieces(mesh) == 1
    assert loops_of(sides.free) == 27  # 26 holes and the border
    assert not len(sides.junctions)
    assert not coincident_groups(mesh, 1e-3)
    assert not len(duplicate_elements(mesh))
    assert flipped_pairs(mesh) == 0
    counts = mesh.counts()
    assert counts["quad"] / mesh.elements >= 0.97
    assert d.quality.worst_by_metric(mesh)["scaled_jacobian"] >= (
        0.45 if size < 10 else 0.3
    )  # at 15 the small holes are a seventh of a side
    assert np.all(mesh.thickness == pytest.approx(1.5))


def test_washers_are_even_and_square(tray_mesh: Document) -> None:
    mesh = tray_mesh.mesh
    for k, hole in enumerate(tray_mesh.mesh_holes[1]):
        if not hole.widths:
            continue
        assert hole.divisions % 2 == 0
        ring = np.flatnonzero(mesh.ring == k)
        assert len(ring) == hole.divisions * len(hole.widths)
        nodes = [tray_mesh.node_index[int(n)] for n in hole_nodes(tray_mesh, 1, k)]
        away = mesh.points[nodes] - np.array(hole.centre)
        axis = np.array(hole.axis)
        u = away[0] / np.linalg.norm(away[0])
        angle = np.sort(np.arctan2(away @ np.cross(axis, u), away @ u))
        step = np.diff(np.concatenate((angle, [angle[0] + 2 * np.pi])))
        if not hole.round:  # slots: rows along their straight sides
            continue
        assert np.degrees(step.max() - step.min()) < 1.0
        assert np.abs(np.linalg.norm(away, axis=1) - hole.radius).max() < 1e-6 * hole.radius


def test_bend_elements_touch_the_middle_with_their_centres(tray_mesh: Document) -> None:
    mesh, shape = tray_mesh.mesh, tray_mesh.sheets[1].shape
    for f, face in enumerate(shape.faces):
        if face.carrier.kind != "cylinder":
            continue
        d = face.carrier.array
        centre = mesh.centres()[(mesh.face == f) & (mesh.body == 1)] - d[:3]
        radial = np.linalg.norm(centre - (centre @ d[3:6])[:, None] * d[3:6], axis=1)
        assert np.median(np.abs(radial - d[6])) < 1e-6


def test_divisions_by_hand_are_kept_and_neighbours_follow(tray_mesh: Document) -> None:
    lines = tray_mesh.mesh_edges[1]
    edge = max(range(len(lines)), key=lambda e: len(lines[e]))
    wanted = len(lines[edge]) - 1 + 4
    d = perform(tray_mesh, "mesh.divisions", {"body": 1, "edges": [edge], "count": wanted})
    assert len(d.mesh_edges[1][edge]) - 1 == wanted
    again = perform(d, "mesh.shells", {"size": 8.0})
    assert len(again.mesh_edges[1][edge]) - 1 == wanted
    assert pieces(d.mesh) == 1
    assert loops_of(shell_sides(d.mesh.shells()).free) == 27


@pytest.mark.parametrize(
    ("size", "words"),
    [(0, "positive"), (-3, "positive"), (float("nan"), "positive"), (5000, "larger than the part"), (1e-4, "would make about")],
)
def test_sizes_that_make_no_sense(tray_sheet: Document, size: float, words: str) -> None:
    with pytest.raises(Refused, match=words):
        perform(tray_sheet, "mesh.shells", {"size": size})


def test_meshing_is_reproducible(tray_sheet: Document, tray_mesh: Document) -> None:
    again = perform(tray_sheet, "mesh.shells", {"size": 8.0})
    assert np.array_equal(again.mesh.points, tray_mesh.mesh.points)
    assert np.array_equal(again.mesh.conn, tray_mesh.mesh.conn)


def test_scaled_and_turned_parts_mesh_the_same(tray_sheet: Document) -> None:
    """The same sheet a hundred times smaller and turned gives the same elements."""
    from dataclasses import replace

    from kind_rivet.core.geometry.carriers import Carrier
    from kind_rivet.core.meshing.rules import ShellRules
    from kind_rivet.core.meshing.shells import mesh_sheet

    shape = tray_sheet.sheets[1].shape
    turn = np.linalg.qr(np.random.default_rng(2).normal(size=(3, 3)))[0]
    turn *= np.sign(np.linalg.det(turn))

    def moved(c: Carrier) -> Carrier:
        d = c.array
        if c.kind in ("plane", "line"):
            return Carrier(c.kind, (*(0.01 * turn @ d[:3]), *(turn @ d[3:6])))
        return Carrier(c.kind, (*(0.01 * turn @ d[:3]), *(turn @ d[3:6]), *(0.01 * d[6:])))

    small = replace(
        shape, points=0.01 * shape.points @ turn.T, normals=shape.normals @ turn.T,
        faces=tuple(replace(f, carrier=moved(f.carrier)) for f in shape.faces), edges=tuple(replace(e, carrier=moved(e.carrier)) for e in shape.edges),
    )  # fmt: skip
    a, b = mesh_sheet(shape, ShellRules(10.0)), mesh_sheet(small, ShellRules(0.1))
    assert list(a.divisions) == list(b.divisions)
    assert abs(len(a.elements) - len(b.elements)) <= 0.03 * len(a.elements)
    assert (b.elements[:, 3] < 0).mean() < 0.02
