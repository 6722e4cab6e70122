"""Shells handed over with mid-side nodes: on the geometry, in every format, back to corner nodes when read."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from OCP.TopoDS import TopoDS_Shape
from vtkmodules.vtkIOExodus import vtkExodusIIReader

from kind_rivet.core.document.document import Body, Document
from kind_rivet.core.files.exchange import Exchange
from kind_rivet.core.files.exodus import read_exodus, write_exodus
from kind_rivet.core.files.vtu import read_vtu, write_vtu
from kind_rivet.core.geometry.first_look import look
from kind_rivet.core.geometry.kernel.facets import facet_shape
from kind_rivet.core.geometry.kernel.parts import parts_of
from kind_rivet.core.mesh.kinds import QUAD8, TRIA6
from kind_rivet.core.mesh.quadratic import linear, with_mid_sides
from kind_rivet.core.operations import perform
from tests.thin_parts import cut, cylinder

RADIUS = 19.0  # of the tube's middle


def document_of(part: TopoDS_Shape) -> Document:
    shape = facet_shape(parts_of(part, "solid")[0])
    seen = look(shape)
    return Document(bodies=(Body(1, "Tube", "#9DB4A0", shape, seen.walls, seen.thin_share, seen.holes),))


@pytest.fixture(scope="module")
def tube() -> Document:
    part = cut(cylinder((0, 0, 0), (0, 0, 1), 20, 60), [cylinder((0, 0, -1), (0, 0, 1), 18, 62), cylinder((0, 0, 30), (1, 0, 0), 5, 40)])
    document = perform(document_of(part), "midsurface.extract", {})
    document = perform(document, "mesh.shells", {"size": 4.0})
    return perform(document, "sets.usual", {})


def test_corner_and_middle_nodes_lie_on_the_tube(tube: Document) -> None:
    mesh, middles = with_mid_sides(tube.mesh, {1: tube.sheets[1].shape})
    assert (np.isin(mesh.kind, (QUAD8, TRIA6))).all()
    assert mesh.elements == tube.mesh.elements
    assert mesh.nodes == tube.mesh.nodes + len(middles.ends)
    assert np.array_equal(mesh.node_id[: tube.mesh.nodes], tube.mesh.node_id)
    away = np.linalg.norm(mesh.points[:, :2], axis=1)
    # The linear mesh stands off on purpose; curved shells need not. Holes are drawn as free curves, a little off.
    assert np.abs(away - RADIUS).max() < 0.02
    assert np.abs(np.linalg.norm(middles.points[:, :2], axis=1) - RADIUS).max() < 0.02
    assert middles.straight == 0


def test_every_side_has_one_middle_that_its_elements_share(tube: Document) -> None:
    mesh, middles = with_mid_sides(tube.mesh, {1: tube.sheets[1].shape})
    for row in mesh.conn[mesh.kind == QUAD8][::7]:
        for k in range(4):
            a, b, between = row[k], row[(k + 1) % 4], row[4 + k]
            pair = middles.ends[between - tube.mesh.nodes]
            assert set(pair.tolist()) == {int(a), int(b)}
    used = np.bincount(mesh.conn[mesh.conn >= tube.mesh.nodes], minlength=mesh.nodes)[tube.mesh.nodes :]
    assert used.min() == 1
    assert used.max() == 2


def test_back_to_corner_nodes(tube: Document) -> None:
    mesh, _ = with_mid_sides(tube.mesh, {1: tube.sheets[1].shape})
    back = linear(mesh)
    assert np.array_equal(back.conn, tube.mesh.conn)
    assert np.array_equal(back.kind, tube.mesh.kind)
    assert np.array_equal(back.node_id, tube.mesh.node_id)
    assert linear(tube.mesh) is tube.mesh


@pytest.mark.parametrize(("write", "read", "name"), [(write_vtu, read_vtu, "q.vtu"), (write_exodus, read_exodus, "q.exo")])
def test_round_trip_and_reading_as_a_mesh(tube: Document, tmp_path: Path, write, read, name: str) -> None:  # type: ignore[no-untyped-def]
    curved = perform(tube, "mesh.mid_sides", {"quadratic": True})
    assert "mid-side nodes will be handed over" in curved.notes[0]
    given = Exchange.of(curved)
    write(given, tmp_path / name)
    back = read(tmp_path / name)
    assert np.array_equal(back.mesh.conn, given.mesh.conn)
    assert np.array_equal(back.mesh.kind, given.mesh.kind)
    assert np.array_equal(back.mesh.points, given.mesh.points)
    opened = perform(Document(), "part.open", {"path": str(tmp_path / name)})
    assert opened.mesh.elements == tube.mesh.elements
    assert opened.mesh.nodes == tube.mesh.nodes
    assert opened.choices.quadratic  # and would be handed over as it came


def test_node_sets_take_the_middles_between_their_nodes(tube: Document) -> None:
    plain, curved = Exchange.of(tube), Exchange.of(perform(tube, "mesh.mid_sides", {}))
    rings = {s.name: s for s in curved.sets if s.kind == "node"}
    for given in (s for s in plain.sets if s.kind == "node"):
        more = rings[given.name]
        assert set(given.ids.tolist()) <= set(more.ids.tolist())
        assert len(more.ids) == 2 * len(given.ids)  # a closed row has as many middles as nodes


def test_taking_mid_sides_back(tube: Document) -> None:
    there = perform(tube, "mesh.mid_sides", {"quadratic": True})
    back = perform(there, "mesh.mid_sides", {"quadratic": False})
    assert Exchange.of(back).mesh is back.mesh


def test_another_reader_sees_curved_shells(tube: Document, tmp_path: Path) -> None:
    write_exodus(Exchange.of(perform(tube, "mesh.mid_sides", {})), tmp_path / "q.exo")
    reader = vtkExodusIIReader()
    reader.SetFileName(str(tmp_path / "q.exo"))
    reader.Update()
    block = reader.GetOutput().GetBlock(0).GetBlock(0)
    kinds = {block.GetCellType(k) for k in range(block.GetNumberOfCells())}
    assert kinds <= {22, 23}
    assert 23 in kinds
