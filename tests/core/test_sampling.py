"""Places spread evenly through solids: what they stand for adds up, and shares of the volume come out right."""

from __future__ import annotations

import numpy as np
import pytest
from OCP.BRepPrimAPI import BRepPrimAPI_MakeSphere
from OCP.gp import gp_Pnt

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.kernel.facets import facet_shape
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.sampling import by_area, spread_samples, volume_samples
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.midsurface.extract import extract
from tests.thin_parts import box, cut, cylinder, fused

RAYS = 3000


def sampled(solid: Shape, step: float) -> tuple[Floats, Floats]:
    return volume_samples(solid, FacetTree.over(solid.points, solid.facets), RAYS, step)


@pytest.fixture(scope="module")
def angle() -> Shape:
    """Two walls of 2 mm at a right angle."""
    return facet_shape(fused(box(0, 0, 0, 60, 40, 2), [box(0, 0, 0, 2, 40, 30)]))


def test_volumes_add_up(angle: Shape) -> None:
    for solid, rel in ((angle, 0.01), (facet_shape(BRepPrimAPI_MakeSphere(gp_Pnt(5, 5, 5), 20.0).Shape()), 0.02)):
        points, volume = sampled(solid, 2.0)
        assert volume.sum() == pytest.approx(solid.volume, rel=rel)
        assert (volume > 0).all() and ((points >= solid.box[0]) & (points <= solid.box[1])).all()


def test_each_wall_gets_its_share(angle: Shape) -> None:
    points, volume = sampled(angle, 2.0)
    floor = points[:, 2] < 2
    assert volume[floor].sum() / volume.sum() == pytest.approx(60 * 40 * 2 / angle.volume, abs=0.01)
    # A small part of a long corner: rays along it, few of which would stand for all of it, are left to the other axes.
    corner = (points[:, 0] < 0.5) & (points[:, 2] < 0.5)
    assert volume[corner].sum() / volume.sum() == pytest.approx(0.25 * 40 / angle.volume, abs=0.0008)


def test_nothing_lies_in_a_hole() -> None:
    solid = facet_shape(cut(box(0, 0, 0, 40, 40, 4), [cylinder((20, 20, -1), (0, 0, 1), 10.0, 6)]))
    points, volume = sampled(solid, 4.0)
    assert np.linalg.norm(points[:, :2] - 20, axis=1).min() > 9.9
    assert volume.sum() == pytest.approx(solid.volume, rel=0.02)


def test_results_do_not_depend_on_the_run(angle: Shape) -> None:
    first, again = sampled(angle, 2.0), sampled(angle, 2.0)
    assert np.array_equal(first[0], again[0]) and np.array_equal(first[1], again[1])


def test_samples_on_faces_stand_for_their_area(angle: Shape) -> None:
    count = by_area(angle, 500, 7)
    assert count.min() >= 7
    _, normals, face, facet, area = spread_samples(angle, count)
    assert np.bincount(face, area) == pytest.approx(angle.face_area)
    assert (angle.facet_face[facet] == face).all() and np.linalg.norm(normals, axis=1) == pytest.approx(1.0)


def test_faces_that_are_alike_are_sampled_at_unlike_places_where_that_is_asked() -> None:
    shape = facet_shape(fused(box(0, 0, 0, 60, 40, 2), [box(60, 0, 0, 60, 40, 3)]))
    count = np.full(len(shape.faces), 20)
    plain, apart = (spread_samples(shape, count, unlike=unlike) for unlike in (False, True))
    assert np.array_equal(plain[2], apart[2])
    assert np.bincount(apart[2], apart[4]) == pytest.approx(shape.face_area)
    first = apart[2] == 0
    assert np.allclose(plain[0][first], apart[0][first])
    assert np.linalg.norm(plain[0] - apart[0], axis=1)[~first].max() > 1.0
    assert np.abs(np.einsum("ij,ij->i", apart[0] - shape.points[shape.facets[apart[3], 0]], shape.facet_normal[apart[3]])).max() < 1e-9


def test_many_ribs_that_are_alike_weigh_what_their_solid_weighs() -> None:
    n, pitch = 8, 20.0
    ribs = [rib for k in range(n) for rib in (box(0, pitch * k + 9, 0, n * pitch, 1.6, 12), box(pitch * k + 9, 0, 0, 1.6, n * pitch, 12))]
    proof = extract(facet_shape(fused(box(0, 0, -2, n * pitch, n * pitch, 2), ribs))).proof
    assert proof is not None
    assert proof.mass_ratio == pytest.approx(1, abs=0.003)
    assert proof.plain_ratio > 1.05
