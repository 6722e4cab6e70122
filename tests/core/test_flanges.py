"""Flanges and webs with a circle of holes: every hole with its ring, every sector alike."""

from __future__ import annotations

import numpy as np
import pytest

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.bolt_circles import follow_bolts
from kind_rivet.core.meshing.choice import tried
from kind_rivet.core.meshing.fillings import best_filling
from kind_rivet.core.meshing.flange_counts import Ring, counts_for
from kind_rivet.core.meshing.free.fill import faults_of
from kind_rivet.core.meshing.patch import Patch, lay_flat
from kind_rivet.core.meshing.rules import ShellRules, WasherRule
from kind_rivet.core.meshing.washers import find_round_holes
from kind_rivet.core.quality.shell_metrics import LEAST_ANGLE, SIDE_RATIO
from tests.thin_meshes import drawn_sheet, made

SIZE = 6.0
RULES = ShellRules(SIZE, 0.25, washers=(WasherRule(rings=1, width=0.0),))


def web_patches() -> list[Patch | None]:
    shape = drawn_sheet("rimmed_wheel").shape
    return [lay_flat(shape, (f,)) if face.carrier.kind == "cone" else None for f, face in enumerate(shape.faces)]


def test_holes_through_a_conical_web_have_even_rings() -> None:
    """The hub took so much of the gap that the six holes got no ring; it needs none."""
    mesh = made("rimmed_wheel", 1.0)
    holes = [h for h in mesh.shells.holes if 5.5 < h.radius < 6.5]
    assert len(holes) == 6
    assert all(h.round and h.widths for h in holes)
    assert mesh.angle_spread() < 1.0
    assert mesh.quad_share == 1
    assert not len(mesh.quality.failing)


def test_the_seam_of_a_hub_looks_at_a_hole() -> None:
    """Holes through a conical web leave no circles on it; their walls tell where they are."""
    shape = drawn_sheet("rimmed_wheel").shape
    joints = [e for e, faces in enumerate(shape.edge_faces) if len(faces) == 3]
    assert len(joints) == 2
    for e in joints:
        x, y, _ = shape.points[shape.edges[e].nodes[0]]
        assert (np.degrees(np.arctan2(y, x)) + 0.01) % 60 < 0.02


def test_bosses_yield_only_where_a_fastener_would_get_no_ring() -> None:
    shape, patches = drawn_sheet("rimmed_wheel").shape, web_patches()
    hub = {
        size: next(h for h in find_round_holes(shape, patches, ShellRules(size, washers=RULES.washers)) if h.radius > 10)
        for size in (4.5, SIZE)
    }
    assert hub[4.5].widths
    assert not hub[SIZE].widths


def test_counts_of_hub_and_rim_are_those_that_fill_the_web_well() -> None:
    shape, patches = drawn_sheet("rimmed_wheel").shape, web_patches()
    holes, circles = follow_bolts(shape, patches, find_round_holes(shape, patches, RULES), RULES)
    hub = next(h for h in holes if h.radius > 10)
    (rim,) = circles.counts.values()
    assert (hub.divisions % 6, rim % 6) == (0, 0)
    assert (hub.divisions // 6 + rim // 6) % 2 == 0


def flange(counts: tuple[int, int]) -> list[Ring]:
    """Six rings of twelve sides, 0.9 apart, about a hub and within a rim with so many sides."""
    rings = [Ring((0.0, 0.0), 7.03, counts[0], 0.0, 0.0, follows=True), Ring((0.0, 0.0), 1.98, counts[1], 0.0, 0.0, follows=True)]
    for k in range(6):
        at = k * np.pi / 3
        rings.append(Ring((4.5 * np.cos(at), 4.5 * np.sin(at)), 1.807, 12, at, 0.0, 1.0))
    return rings


@pytest.mark.parametrize("usual", [(48, 12), (42, 18)])
def test_usual_counts_stay_where_they_do_well(usual: tuple[int, int]) -> None:
    rules, rings = ShellRules(1.0, 0.25), flange((44, 12))
    bare = Patch((0,), (drawn_sheet("rimmed_wheel").shape.faces[1].carrier,), *_plane_of(rings))
    sides = [*usual, *[12] * 6]
    loops = [ring.nodes(n, 1 if k == 0 else -1) for k, (ring, n) in enumerate(zip(rings, sides, strict=True))]
    mesh = tried(lambda: best_filling(bare, loops, np.empty((0, 2)), rules, None))
    found = counts_for(bare, rings, usual, rules)
    assert mesh is not None
    assert found is not None
    assert (found == usual) == (faults_of(mesh, loops, 1.0) <= 0.1)


def _plane_of(rings: list[Ring]) -> tuple[np.ndarray, ...]:
    nodes: Floats = np.concatenate([ring.nodes(ring.sides, 1) for ring in rings])
    space, up = np.column_stack((nodes, np.zeros(len(nodes)))), np.tile((0.0, 0.0, 1.0), (len(nodes), 1))
    return np.empty((0, 3), np.int32), np.empty(0, np.int32), nodes, space, up, np.empty((0, 3, 3)), ()


def test_rows_on_a_rim_stand_upright() -> None:
    """Rows between two rims are narrower than long; leaning over made their sides longer, and the index higher."""
    mesh = made("rimmed_wheel", 1.0)
    rims = [f for f, face in enumerate(mesh.sheet.faces) if face.carrier.kind == "cylinder" and face.carrier.data[6] > 40]
    values = mesh.quality.values[np.isin(mesh.shells.face, rims)]
    assert (values[:, SIDE_RATIO] > 1.5).any()
    assert values[:, LEAST_ANGLE].min() > 85
