"""How far places lie in front of a free face: told from the facets nearest to them, told alone as among others."""

from __future__ import annotations

import numpy as np
import pytest

from kind_rivet.core.geometry.carriers import Floats, unit
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.midsurface.fields import FacetField

RADIUS = 10.0


def dome(lines: int) -> FacetField:
    """A cap of a sphere with a radius of 10 about the origin, the normals at its corners true."""
    a, b = np.meshgrid(np.linspace(-0.5, 0.5, lines), np.linspace(-0.5, 0.5, lines))
    points = RADIUS * unit(np.column_stack((np.tan(a.ravel()), np.tan(b.ravel()), np.ones(a.size))))
    k = np.arange(a.size).reshape(a.shape)
    p, q, r, s = k[:-1, :-1].ravel(), k[:-1, 1:].ravel(), k[1:, 1:].ravel(), k[1:, :-1].ravel()
    facets = np.vstack((np.column_stack((p, q, r)), np.column_stack((p, r, s)))).astype(np.int32)
    return FacetField(FacetTree.over(points, facets), unit(points)[facets])


def places(count: int, seed: int = 3) -> Floats:
    rng = np.random.default_rng(seed)
    way = unit(np.column_stack((rng.uniform(-0.4, 0.4, (count, 2)), np.ones(count))))
    return rng.uniform(0.9, 1.1, (count, 1)) * RADIUS * way


@pytest.mark.parametrize("lines", [9, 17])
def test_distances_from_a_sphere(lines: int) -> None:
    """Chords lie below the sphere by a share of their length squared; lifted, what is left is of a higher order."""
    p = places(500)
    value, normal = dome(lines)(p)
    step = RADIUS / (lines - 1)
    off = np.abs(value - (np.linalg.norm(p, axis=1) - RADIUS)).max()
    assert off < 0.1 * step**2 / RADIUS
    assert np.linalg.norm(normal, axis=1) == pytest.approx(1)
    assert np.einsum("ij,ij->i", normal, unit(p)).min() > 1 - (step / RADIUS) ** 2


def test_places_are_judged_alike_alone_and_together() -> None:
    p, field = places(40), dome(9)
    value, normal = field(p)
    for k in range(len(p)):
        one, way = field(p[k : k + 1])
        assert one[0] == value[k]
        assert np.array_equal(way[0], normal[k])


def test_no_places_have_no_values() -> None:
    value, normal = dome(9)(np.empty((0, 3)))
    assert value.shape == (0,)
    assert normal.shape == (0, 3)
