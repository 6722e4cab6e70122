"""Beams, layers, spiders, masses, merging, sets, the gate."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from kind_rivet.core.checks.gate import BLOCKING, blocking, check
from kind_rivet.core.document.document import Document, Section
from kind_rivet.core.errors import Refused
from kind_rivet.core.mesh.coincident import coincident_groups
from kind_rivet.core.mesh.kinds import HEX
from kind_rivet.core.meshing.layers import least_solid_jacobian
from kind_rivet.core.operations import perform


def test_sections_against_handbook_formulas() -> None:
    tube = Section("tube", (20.0, 2.0)).properties()
    assert tube["area"] == pytest.approx(np.pi * (100 - 64))
    assert tube["inertia_1"] == pytest.approx(np.pi / 4 * (10**4 - 8**4))
    assert tube["torsion"] == pytest.approx(2 * tube["inertia_1"])
    box = Section("box", (30.0, 20.0, 2.0)).properties()
    assert box["area"] == pytest.approx(30 * 20 - 26 * 16)
    assert box["inertia_1"] == pytest.approx((30 * 20**3 - 26 * 16**3) / 12)


def test_mixed_model_is_whole(mixed: Document) -> None:
    assert mixed.mesh.counts()["beam"] > 10
    assert mixed.mesh.counts()["hex"] == 3 * (mixed.mesh.ring == 2).sum()
    assert len(mixed.spiders) == len(mixed.masses) == 3
    assert least_solid_jacobian(mixed.mesh, np.arange(mixed.mesh.elements)) > 0.3
    assert not blocking(check(mixed))


def test_layers_have_the_right_volume_on_both_sides(tray_mesh: Document) -> None:
    ring = [int(n) for n in tray_mesh.mesh.element_id[tray_mesh.mesh.ring == 0]]
    shell_area = _area(tray_mesh, np.isin(tray_mesh.mesh.element_id, ring))
    for height in (5.0, -5.0):
        d = perform(tray_mesh, "mixed.layers", {"elements": ring, "height": height, "layers": 2})
        solids = np.flatnonzero(d.mesh.kind == HEX)
        assert least_solid_jacobian(d.mesh, solids) > 0
        volume = 0.0
        for e in solids:
            p = d.mesh.points[d.mesh.conn[e]]
            volume += (
                abs(np.linalg.det([p[1] - p[0], p[3] - p[0], p[4] - p[0]]) + np.linalg.det([p[3] - p[2], p[1] - p[2], p[6] - p[2]])) / 2
            )
        assert volume == pytest.approx(5 * shell_area, rel=0.02)


def _area(d: Document, chosen: np.ndarray) -> float:
    rows = d.mesh.conn[chosen, :4]
    p = d.mesh.points
    return float((np.linalg.norm(np.cross(p[rows[:, 2]] - p[rows[:, 0]], p[rows[:, 3]] - p[rows[:, 1]]), axis=1) / 2).sum())


def test_every_chosen_hole_gets_its_own_spider(mixed: Document) -> None:
    centres = {s.centre for s in mixed.spiders}
    assert len(centres) == 3
    for s in mixed.spiders:
        place = mixed.mesh.points[mixed.node_index[s.centre]]
        legs = mixed.mesh.points[[mixed.node_index[int(n)] for n in s.nodes]] - place
        assert np.linalg.norm(legs, axis=1) == pytest.approx(4.5, rel=1e-6)


def test_beam_between_two_nodes(tray_mesh: Document) -> None:
    a, b = int(tray_mesh.mesh.node_id[0]), int(tray_mesh.mesh.node_id[5])
    d = perform(tray_mesh, "mixed.beam_between", {"start": a, "end": b, "section": "box", "width": 12, "height": 8, "wall": 1})
    chain = d.mesh.conn[d.mesh.kind == 1][:, :2]
    assert chain[0, 0] == d.node_index[a]
    assert chain[-1, 1] == d.node_index[b]
    with pytest.raises(Refused, match="same node"):
        perform(tray_mesh, "mixed.beam_between", {"start": a, "end": a})
    with pytest.raises(Refused, match="no hollow"):
        perform(tray_mesh, "mixed.beam_between", {"start": a, "end": b, "wall": 40})


def test_coincident_nodes_block_until_merged(tray_mesh: Document) -> None:
    copy = replace(tray_mesh.mesh, body=np.full(tray_mesh.mesh.elements, -1, np.int32))
    shifted = copy.moved(copy.points + (0, 0, -60.0))
    # Two trays, one of which touches the other only in a few nodes laid on top of each other.
    points = shifted.points.copy()
    points[:6] = tray_mesh.mesh.points[:6]
    both = replace(tray_mesh, mesh=tray_mesh.mesh.plus(shifted.moved(points)))
    assert any("coincident" in f.text for f in blocking(check(both)))
    merged = perform(both, "mixed.merge", {"tolerance": 0.01})
    assert not coincident_groups(merged.mesh, 0.01)
    assert merged.mesh.nodes == both.mesh.nodes - 6
    assert set(tray_mesh.mesh.node_id[:6]) <= set(merged.mesh.node_id)


def test_merging_never_collapses_an_element(tray_mesh: Document) -> None:
    d = perform(tray_mesh, "mixed.merge", {"tolerance": 4.0})
    rows = np.sort(d.mesh.conn[:, :4], axis=1)
    assert not ((rows[:, 1:] == rows[:, :-1]) & (rows[:, 1:] >= 0)).any()


def test_live_sets_follow_a_remesh(mixed: Document) -> None:
    hole_set = next(s for s in mixed.sets if s.kind == "node")
    finer = perform(mixed, "mesh.shells", {"size": 6.0})
    again = next(s for s in finer.sets if s.name == hole_set.name)
    assert len(again.ids)
    centre = np.array(again.rule.centre)  # type: ignore[union-attr]
    points = finer.mesh.points[[finer.node_index[int(n)] for n in again.ids]]
    assert np.ptp(np.linalg.norm(points - centre, axis=1)) < 1e-6
    assert not any("set" in s for s in finer.stale)
    assert any("dropped" in note for note in finer.notes)  # the spiders and beams hung on the old shells


def test_plain_sets_are_guarded(tray_mesh: Document) -> None:
    with pytest.raises(Refused, match="empty"):
        perform(tray_mesh, "sets.make", {"name": "nothing", "kind": "node", "numbers": []})
    with pytest.raises(Refused, match="do not exist"):
        perform(tray_mesh, "sets.make", {"name": "ghost", "kind": "element", "numbers": [10**6]})
    d = perform(tray_mesh, "sets.make", {"name": "a", "kind": "element", "numbers": [1, 2, 3]})
    remeshed = perform(d, "mesh.shells", {"size": 7.0})
    if len(np.setdiff1d([1, 2, 3], remeshed.mesh.element_id)):
        assert any(f.grade == BLOCKING for f in check(remeshed))
    assert not perform(d, "sets.remove", {"name": "a"}).sets


def test_wrong_parameters_are_said_plainly(tray_mesh: Document) -> None:
    with pytest.raises(Refused, match="no operation called"):
        perform(tray_mesh, "mesh.magic", {})
    with pytest.raises(Refused, match="greater than"):
        perform(tray_mesh, "mixed.mass", {"node": 1, "mass": 0})
    with pytest.raises(Refused, match="not permitted"):
        perform(tray_mesh, "mixed.mass", {"node": 1, "mass": 1, "colour": "red"})
