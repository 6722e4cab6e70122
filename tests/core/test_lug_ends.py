"""Rounded corners and lug ends of flat walls: nodes where rows want them, not where edges happen to end."""

from __future__ import annotations

from functools import cache

import numpy as np
import pytest

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.meshing.roundings import in_twos, short_roundings
from kind_rivet.core.meshing.rules import ShellRules
from kind_rivet.core.meshing.washers import LEAST_SIDE, most_sides, ring_divisions
from kind_rivet.core.midsurface.extract import extract
from kind_rivet.core.midsurface.sheet import Sheet
from tests.thin_meshes import Made, drawing, meshed, moved, solid_of
from tests.thin_parts import box, cut, cylinder, fused


def rounded_up(part: object, radius: float, above: float) -> object:
    """A part with the upright edges rounded that end above a height."""
    upright = drawing().rounded
    return upright(part, radius, lambda a, b: a.Z() > above and b.Z() > above and abs(a.Y() - b.Y()) > 1)


@cache
def lug(radius: float = 12.0, hole: float = 6.9) -> Sheet:
    """A lug 30 wide on a base, the corners of its square end rounded, with a hole 15 from its end and both sides."""
    part = fused(box(-25, -20, 0, 50, 40, 4), [box(-15, -2, 0, 30, 4, 70)])
    return extract(solid_of(rounded_up(cut(part, [cylinder((0, -10, 55), (0, 1, 0), hole, 20)]), radius, 69.9)))


@cache
def plate(radius: float) -> Sheet:
    """A plate with four rounded corners and a hole near each of them."""
    blank = drawing().rounded(box(0, 0, 0, 120, 80, 3), radius, lambda a, b: abs(a.Z() - b.Z()) > 1)
    return extract(solid_of(cut(blank, [cylinder((x, y, -1), (0, 0, 1), 4.5, 9) for x in (22, 98) for y in (22, 58)])))


def end_angles(mesh: Made, up: Floats) -> Floats:
    """Directions (°) from the hole of a lug to the border nodes of its end, down to the height of the hole."""
    (hole,) = (h for h in mesh.shells.holes if h.round)
    edges = [e for e, beside in enumerate(mesh.sheet.edge_faces) if len(beside) == 1 and e not in hole.edges]
    nodes = np.unique(np.concatenate([mesh.shells.edge_nodes[e] for e in edges]))
    away = mesh.shells.points[nodes] - np.array(hole.centre)
    across = np.cross(hole.axis, up)
    angle = np.degrees(np.arctan2(away @ up, away @ across))
    return np.sort(angle[(np.linalg.norm(away, axis=1) < 22) & (angle > -1.0)])


@pytest.mark.parametrize("size", [5.0, 7.5])
def test_the_end_of_a_lug_has_its_nodes_on_the_rays_of_the_ring(size: float) -> None:
    """Two roundings with a flat between them: their four vertices are no nodes of their own."""
    mesh = meshed(lug(), size)
    (hole,) = (h for h in mesh.shells.holes if h.round)
    angle = end_angles(mesh, np.array([0.0, 0, 1]))
    step = 360 / hole.divisions
    assert len(angle) == hole.divisions // 2 + 1
    assert np.abs(angle - np.arange(len(angle)) * step).max() < 0.2 * step  # optimised since
    assert hole.widths
    assert (mesh.shells.elements[(np.abs(mesh.shells.points[mesh.shells.elements, 1]) < 0.01).all(axis=1), 3] >= 0).all()
    assert not len(mesh.quality.failing)
    assert mesh.growth.max() < 1.5


@pytest.mark.parametrize("how", ["mirrored", "turned", "0.01"])
def test_it_is_found_in_any_attitude_and_size(how: str) -> None:
    part = fused(box(-25, -20, 0, 50, 40, 4), [box(-15, -2, 0, 30, 4, 70)])
    whole = moved(rounded_up(cut(part, [cylinder((0, -10, 55), (0, 1, 0), 6.9, 20)]), 12, 69.9), how)  # type: ignore[arg-type]
    mesh = meshed(extract(solid_of(whole)), 5.0 * (0.01 if how == "0.01" else 1.0))
    assert (mesh.mesh.elements, mesh.quad_share, len(mesh.quality.failing)) == (meshed(lug(), 5.0).mesh.elements, 1, 0)


def test_counts_and_sizes_given_by_hand_stay_on_the_end_of_a_lug() -> None:
    from kind_rivet.core.meshing.patch import lay_flat
    from kind_rivet.core.meshing.radial_ends import radial_ends
    from kind_rivet.core.meshing.rules import WasherRule
    from kind_rivet.core.meshing.washers import find_round_holes

    shape = lug().shape
    patches = [lay_flat(shape, (f,)) for f in range(len(shape.faces))]
    curves = [Curve.through(shape.points[edge.nodes], edge.carrier) for edge in shape.edges]
    rules = ShellRules(5.0, 0.25, washers=(WasherRule(rings=1, width=0.0),))
    holes = find_round_holes(shape, patches, rules)
    _, ends = radial_ends(shape, patches, holes, curves, rules, ())
    assert len(ends.counts) == 3
    assert len(ends.slid) == 4
    for e in ends.counts:
        _, none = radial_ends(shape, patches, holes, curves, ShellRules(5.0, 0.25, washers=rules.washers, divisions={e: 3}), ())
        assert not none.counts
    assert not radial_ends(shape, patches, holes, curves, rules, set(ends.counts))[1].slid


def test_a_short_rounding_is_one_node_in_its_middle() -> None:
    """Sides as short as it had blunt corners at both ends, and rows that met there parted."""
    mesh, shape = meshed(plate(3.0), 8.0), plate(3.0).shape
    roundings = [e for e, edge in enumerate(shape.edges) if edge.carrier.kind == "circle" and not edge.closed]
    assert len(roundings) == 4
    for e in roundings:
        (node,) = mesh.shells.edge_nodes[e]
        d = shape.edges[e].carrier.array
        middle = mesh.shells.points[node] - d[:3]
        ends = shape.points[shape.edges[e].nodes[[0, -1]]] - d[:3]
        assert np.linalg.norm(middle) == pytest.approx(3.0, rel=0.02)
        assert abs(ends[0] @ middle - ends[1] @ middle) < 0.1
    assert mesh.quad_share == 1
    assert not len(mesh.quality.failing)


def test_only_free_corners_between_longer_edges_are_passed_so() -> None:
    shape, rules = plate(3.0).shape, ShellRules(8.0, 0.25)
    curves = [Curve.through(shape.points[edge.nodes], edge.carrier) for edge in shape.edges]
    found = short_roundings(shape, curves, rules, ())
    assert len(found) == 4
    assert short_roundings(shape, curves, rules, found) == []  # they belong to a hole with a ring
    assert short_roundings(shape, curves, ShellRules(7.0, 0.25), ()) == []  # long enough for a side
    assert short_roundings(shape, curves, ShellRules(200.0, 0.25), ()) == []  # nothing beside them is longer than a side


@pytest.mark.parametrize(("size", "sides"), [(4.0, 2), (3.9, 4), (5.0, 3)])
def test_roundings_get_two_or_four_divisions(size: float, sides: int) -> None:
    shape = plate(7.0).shape
    curves = [Curve.through(shape.points[edge.nodes], edge.carrier) for edge in shape.edges]
    (e, *_) = (e for e, edge in enumerate(shape.edges) if edge.carrier.kind == "circle" and not edge.closed)
    count, held = np.full(len(curves), 3), np.zeros(len(curves), bool)
    held[e] = size == 5.0
    in_twos(shape, curves, count, held, size)
    assert count[e] == sides


def test_sides_of_small_holes_are_measured_by_their_chords() -> None:
    """Eight arcs of 3.53 are no shorter than 0.352 of 10; their chords are."""
    count = ring_divisions(4.5, 8.0, 10.0)
    assert 2 * 4.5 * np.sin(np.pi / count) >= LEAST_SIDE * 10.0
    assert count == 6
    assert most_sides(4.5, 10.0) == pytest.approx(7.82, abs=0.01)
    assert not len(meshed(plate(3.0), 10.0).quality.failing)
