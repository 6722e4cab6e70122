"""Places of nodes that stand for looked-past edges: `core.meshing.border_nodes`."""

from dataclasses import replace

import numpy as np
import pytest

from kind_rivet.core.meshing.border_nodes import vertex_places
from kind_rivet.core.meshing.patch import BorderEdge
from kind_rivet.core.meshing.sheet_mesh import VERTEX, Builder
from tests.flat import flat_patch


@pytest.mark.parametrize(("at", "place"), [((5.0, 0.0, 0.4), (5.2, 0.05)), ((5.4, 0.2, 0.0), (5.4, 0.2))])
def test_a_node_has_one_place_on_both_sides_of_a_line_that_ends_on_it(at: tuple[float, ...], place: tuple[float, ...]) -> None:
    """A notch whose two sides shrink to one node, on a vertex of another wall or at the notch's tip; a line goes on from there."""
    flat = np.array([(0, 0), (5, 0), (5.4, 0.2), (5, 0), (10, 0), (10, 8), (0, 8.0)])
    ends = [(0, 1), (1, 2), (2, 3), (3, 4), (4, 5), (5, 6), (6, 0)]
    flat[3] = 5.0, -0.2
    patch = replace(flat_patch([flat]), loops=(tuple(BorderEdge(e, True, np.array(pair)) for e, pair in enumerate(ends)),))
    build = Builder()
    node = build.nodes(np.array([at]), VERTEX, 0)
    others = build.nodes(np.array([(0, 0, 0), (10, 0, 0), (10, 8, 0), (0, 8.0, 0)]), VERTEX, 0)
    a, b, c, d = others.tolist()
    n = int(node[0])
    lines = [np.array(row) for row in ([a, n], [n], [n], [n, b], [b, c], [c, d], [d, a])]
    found = vertex_places(patch, lines, build)
    assert list(found) == [n] and found[n] == pytest.approx(np.array([place]))
