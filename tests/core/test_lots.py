"""Several bodies meshed side by side: the same shells as one after the other."""

from __future__ import annotations

import numpy as np
import pytest

import kind_rivet.core.operations.lots as lots
from kind_rivet.core.document.document import Document
from kind_rivet.core.errors import Refused
from kind_rivet.core.operations import perform
from tests.core.test_bodies import with_boxes


@pytest.fixture(scope="module")
def three() -> Document:
    return perform(with_boxes((0, 0, 0, 40, 40, 2), (60, 0, 0, 30, 40, 3), (0, 60, 0, 50, 20, 2)), "midsurface.extract", {})


def test_bodies_meshed_apart_come_out_as_one_after_the_other(three: Document, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(lots, "WORTH_APART", 1e9)
    one_by_one = perform(three, "mesh.shells", {"size": 4.0})
    monkeypatch.setattr(lots, "WORTH_APART", 0.0)
    heard: list[str] = []
    apart = perform(three, "mesh.shells", {"size": 4.0}, lambda share, words: heard.append(words))
    assert np.array_equal(one_by_one.mesh.points, apart.mesh.points)
    assert np.array_equal(one_by_one.mesh.conn, apart.mesh.conn)
    assert np.array_equal(one_by_one.mesh.part, apart.mesh.part) and len(np.unique(apart.mesh.part)) == 3
    assert np.array_equal(one_by_one.mesh.node_id, apart.mesh.node_id)
    assert apart.mesh_edges.keys() == one_by_one.mesh_edges.keys() == {1, 2, 3}
    assert [words for words in heard if words.startswith("meshed")][-1].startswith("meshed")


def test_only_what_is_asked_for_is_meshed(three: Document, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(lots, "WORTH_APART", 0.0)
    d = perform(three, "mesh.shells", {"size": 4.0, "bodies": (1, 3)})
    assert set(np.unique(d.mesh.body).tolist()) == {1, 3}
    again = perform(d, "mesh.shells", {"size": 4.0, "bodies": (2,)})
    assert set(np.unique(again.mesh.body).tolist()) == {1, 2, 3}
    assert again.mesh.counts()["quad"] > d.mesh.counts()["quad"]


def test_what_one_body_is_refused_for_is_told(three: Document, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(lots, "WORTH_APART", 0.0)

    def refuse(*arguments: object) -> None:
        raise Refused("No face could be meshed.", "Split it first.")

    monkeypatch.setattr(lots, "mesh_sheet", refuse)
    with pytest.raises(Refused, match="No face could be meshed"):
        perform(three, "mesh.shells", {"size": 4.0})
