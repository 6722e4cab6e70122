"""Meshing beside joined bodies that are meshed already: together, with their nodes, or apart."""

from __future__ import annotations

import numpy as np
import pytest

from kind_rivet.core.document.document import Document
from kind_rivet.core.mesh.topology import pieces
from kind_rivet.core.operations import perform
from tests.core.test_bodies import with_boxes

TOGETHER, MATCH, APART = "mesh together", "take their nodes", "leave apart"


@pytest.fixture(scope="module")
def pair() -> Document:
    """Two sheets that meet along one edge, joined: the faces of two boxes taken as they are."""
    d = with_boxes((0, 0, 0, 40, 30, 20), (40, 0, 0, 25, 30, 20))
    d = perform(d, "prepare.join", {})
    return take(d)


def top(d: Document, body: int) -> int:
    shape = d.body(body).shape
    return max(range(len(shape.faces)), key=lambda f: shape.points[shape.facets[shape.facet_face == f]][:, :, 2].min())


def take(d: Document) -> Document:
    for body in (1, 2):
        d = perform(d, "midsurface.take_faces", {"body": body, "faces": (top(d, body),), "thickness": 2.0})
    return d


def interface(d: Document, body: int) -> set[int]:
    """Numbers of the nodes of a body's shells at x = 40."""
    rows = d.mesh.conn[(d.mesh.body == body) & d.mesh.is_shell][:, :4]
    nodes = np.unique(rows[rows >= 0])
    return {int(d.mesh.node_id[v]) for v in nodes if abs(d.mesh.points[v, 0] - 40) < 1e-9}


def test_a_second_body_takes_the_nodes_of_the_first(pair: Document) -> None:
    d = perform(pair, "mesh.shells", {"size": 5.0, "bodies": (1,), "neighbours": APART})
    first = {int(n): p.tolist() for n, p in zip(d.mesh.node_id, d.mesh.points, strict=True)}
    elements = d.mesh.element_id.copy()
    d = perform(d, "mesh.shells", {"size": 3.0, "bodies": (2,), "neighbours": MATCH})
    assert interface(d, 1) == interface(d, 2)
    assert len(interface(d, 1)) == 7  # thirty long at size five, though the second body is finer
    assert pieces(d.mesh) == 1
    now = {int(n): p.tolist() for n, p in zip(d.mesh.node_id, d.mesh.points, strict=True)}
    assert {n: now[n] for n in first} == first  # nothing of the first moved
    assert set(elements.tolist()) <= set(d.mesh.element_id.tolist())
    assert any("took the nodes" in note for note in d.notes)
    again = perform(d, "mesh.shells", {"size": 4.0, "bodies": (2,), "neighbours": MATCH})
    assert interface(again, 1) == interface(again, 2) == interface(d, 1)
    assert pieces(again.mesh) == 1
    assert (again.mesh.body == 1).sum() == (d.mesh.body == 1).sum()


def test_together_divides_the_common_edge_again(pair: Document) -> None:
    d = perform(pair, "mesh.shells", {"size": 5.0, "bodies": (1,), "neighbours": APART})
    d = perform(d, "mesh.shells", {"size": 3.0, "bodies": (2,), "neighbours": TOGETHER})
    assert interface(d, 1) == interface(d, 2)
    assert len(interface(d, 1)) == 11
    assert pieces(d.mesh) == 1


def test_apart_shares_nothing(pair: Document) -> None:
    d = perform(pair, "mesh.shells", {"size": 5.0, "neighbours": APART})
    assert not interface(d, 1) & interface(d, 2)
    assert pieces(d.mesh) == 2


def test_without_a_meshed_neighbour_matching_is_meshing_alone(pair: Document) -> None:
    d = perform(pair, "mesh.shells", {"size": 5.0, "bodies": (2,), "neighbours": MATCH})
    assert set(d.mesh.body.tolist()) == {2}
    assert pieces(d.mesh) == 1
