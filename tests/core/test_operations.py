"""The registry, the Trail, staleness, updates, and how bodies with several solids are treated."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from kind_rivet.core.document.document import Body, Document
from kind_rivet.core.document.live_sets import members, with_set
from kind_rivet.core.document.pack import array_key, pack, unpack
from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.first_look import look
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.mesh.topology import pieces
from kind_rivet.core.operations import all_operations, perform
from tests.conftest import ROOT, TRAY
from tests.made_up import cube, sharp_channel


def body_of(shape: Shape, key: int, name: str) -> Body:
    seen = look(shape)
    return Body(key, name, "#9DB4A0", shape, seen.walls, seen.thin_share, seen.holes, name)


@pytest.fixture(scope="module")
def two_bodies() -> Document:
    """A thin channel and a cube that is not thin."""
    return Document(name="two", bodies=(body_of(sharp_channel(), 1, "channel"), body_of(cube(), 2, "block")))


def test_operations_are_recorded_and_leave_the_old_document(tray: Document) -> None:
    done = perform(tray, "mixed.material", {"material": "Aluminium"})
    assert done is not tray
    assert not tray.body_material
    assert done.bodies is tray.bodies  # what did not change is shared
    assert done.trail[-1].operation == "mixed.material"
    assert done.trail[-1].parameters["material"] == "Aluminium"
    assert done.trail[-1].sentence == "Aluminium for 1 body."


def test_the_trail_runs_again(tray: Document, mixed: Document) -> None:
    again = tray
    for entry in mixed.trail[1:]:
        again = perform(again, entry.operation, dict(entry.parameters))
    assert np.array_equal(again.mesh.points, mixed.mesh.points)
    assert np.array_equal(again.mesh.conn, mixed.mesh.conn)
    assert [s.name for s in again.sets] == [s.name for s in mixed.sets]


def test_progress_is_reported(small_sheet: Document) -> None:
    heard: list[tuple[float, str]] = []
    perform(small_sheet, "mesh.shells", {"size": 12.0}, lambda share, what: heard.append((share, what)))
    assert any("meshing" in what for _, what in heard)
    assert all(0 <= share <= 1 for share, _ in heard)


def test_thin_bodies_are_taken_and_others_named(two_bodies: Document) -> None:
    d = perform(two_bodies, "midsurface.extract", {})
    assert set(d.sheets) == {1}
    assert any(note.startswith("block:") for note in d.notes)
    d = perform(d, "mesh.shells", {"size": 4.0})
    assert set(d.mesh.body) == {1}
    with pytest.raises(Refused, match="no midsurface"):
        perform(d, "mesh.shells", {"size": 4.0, "bodies": [2]})
    with pytest.raises(Refused):
        perform(two_bodies, "midsurface.extract", {"bodies": [2]})


def test_sharp_channel_has_three_walls_that_share_their_edges(two_bodies: Document) -> None:
    d = perform(perform(two_bodies, "midsurface.extract", {"bodies": [1]}), "mesh.shells", {"size": 4.0})
    assert pieces(d.mesh) == 1
    assert d.mesh.counts() == {"quad": d.mesh.elements}
    assert d.quality.worst == pytest.approx(1.0, abs=0.2)


def test_nothing_to_do_is_said(tray: Document, small_mesh: Document) -> None:
    for name, parameters, words in (
        ("mesh.shells", {"size": 5.0}, "no midsurface"),
        ("mesh.update", {}, "Nothing is stale"),
        ("prepare.leave_out_holes", {"below": 1.0}, "No round hole"),
        ("prepare.take_back", {"body": 1, "centre": (0, 0, 0)}, "No hole was left out"),
        ("sets.usual", {}, "no meshed round hole"),
        ("quality.optimise", {}, "no shells"),
        ("mixed.merge", {"tolerance": 0.01}, "No nodes lie"),
        ("mixed.spiders", {"holes": []}, "No hole is chosen"),
        ("sets.remove", {"name": "x"}, "no set called"),
    ):
        with pytest.raises(Refused, match=words):
            perform(tray, name, parameters)
    with pytest.raises(Refused, match="No edge is chosen"):
        perform(small_mesh, "mixed.beams_along", {"body": 1, "edges": [10**6]})
    h = small_mesh.mesh_holes[1][0].centre
    once = perform(small_mesh, "mixed.spiders", {"holes": [(1, *h)]})
    with pytest.raises(Refused, match="already has a spider"):
        perform(once, "mixed.spiders", {"holes": [(1, *h)]})


def test_changed_choices_make_the_mesh_stale_until_updated(small_mesh: Document) -> None:
    changed = replace(small_mesh, choices=replace(small_mesh.choices, size=9.0))
    assert changed.stale == ("shells of Small tray",)
    updated = perform(changed, "mesh.update", {})
    assert not updated.stale
    assert updated.mesh.elements < small_mesh.mesh.elements


def test_rules_name_faces_and_parts(small_mesh: Document) -> None:
    from kind_rivet.core.document.document import EntitySet, Rule

    on_face = members(small_mesh, Rule("face", 1, number=0), "element")
    assert len(on_face) == (small_mesh.mesh.face == 0).sum()
    whole = members(small_mesh, Rule("part", 1, number=small_mesh.parts[0].key), "node")
    assert len(whole) == small_mesh.mesh.nodes
    assert not len(members(small_mesh, Rule("hole", 1, (1e6, 0, 0)), "node"))
    twice = with_set(with_set(small_mesh, EntitySet("a", "node", whole)), EntitySet("a", "node", whole[:3]))
    assert [len(s.ids) for s in twice.sets] == [3]


def test_packing_keeps_every_kind_of_value(mixed: Document) -> None:
    arrays: dict[str, np.ndarray] = {}

    def keep(array: np.ndarray) -> str:
        name = array_key(array)
        arrays[name] = array
        return name

    packed = pack(mixed, keep)
    back = unpack(packed, arrays.__getitem__)
    assert back.limit_sheet == mixed.limit_sheet
    assert back.choices.washers == mixed.choices.washers  # holds an infinity
    assert back.mesh_holes[1] == mixed.mesh_holes[1]
    assert pack(back, keep) == packed
    with pytest.raises(TypeError):
        pack(object(), keep)


def test_docs_name_every_operation() -> None:
    text = (ROOT / "docs" / "job-sheets.md").read_text()
    for name in all_operations():
        if name != "part.open":
            assert f"`{name}`" in text, name


def test_no_machine_paths_in_the_tree() -> None:
    """What is shipped names no folder of the machine it was made on."""
    words = ("/work" + "/main", "/root" + "/")
    for path in [*ROOT.glob("*.md"), *(ROOT / "src").rglob("*.py"), *(ROOT / "docs").rglob("*.md"), ROOT / "setup.sh", ROOT / "check"]:
        text = path.read_text()
        assert not any(w in text for w in words), path


def test_second_revision_differs_where_it_should(tray: Document) -> None:
    from kind_rivet.headless import open_part

    other = open_part(Path(str(TRAY).replace("tray.step", "tray_rev2.step")))
    mine = {tuple(np.round(h.centre, 2)) for h in tray.bodies[0].holes if h.diameter == pytest.approx(36)}
    theirs = {tuple(np.round(h.centre, 2)) for h in other.bodies[0].holes if h.diameter == pytest.approx(36)}
    assert len(mine & theirs) == 3
    assert other.bodies[0].shape.box[1][2] == pytest.approx(53, abs=1e-3)
