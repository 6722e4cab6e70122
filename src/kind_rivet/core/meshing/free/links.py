"""Straight lines through a region along which it can be cut: between borders that face each other with nothing near."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy
import shapely
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.free.loops import next_nodes, normals_at, sides_at
from kind_rivet.core.meshing.free.row import Row

LONGEST = 4.0  # sizes of a link
CLEAR = 1.12  # half lengths of a link round its middle within which no other border node lies
SQUARE = 0.87  # cosine between a link and the normals at both its ends, where the border turns there
UPRIGHT = 0.95  # the same where it runs straight
STRAIGHT = 0.3  # cosine between the normals of the two sides at a node from which a link may begin there
FLAT = 0.995  # and from which the border runs straight
APART = 0.64  # cosine between links from one node
MOST_NODES = 60000
Ints = NDArray[np.int64]


@dataclass(frozen=True)
class Link:
    """A straight line through the region from one border node to another, with `count` sides along `row`."""

    start: int
    end: int
    row: Row
    count: int


def find_links(loops: list[Floats], size: float, growth: float) -> list[Link]:
    """Links between nodes of different loops that face each other with nothing near the line between them, short ones first."""
    nodes, after = np.concatenate(loops), next_nodes(loops)
    if len(nodes) > MOST_NODES:
        return []
    tree = scipy.spatial.cKDTree(nodes)
    a, b = tree.query_pairs(LONGEST * size, output_type="ndarray").T
    loop_of = np.repeat(np.arange(len(loops)), [len(loop) for loop in loops])
    seen = (loop_of[a] != loop_of[b]) & _face_each_other(nodes, after, a, b)
    a, b = a[seen], b[seen]
    length = np.linalg.norm(nodes[b] - nodes[a], axis=1)
    alone = tree.query_ball_point((nodes[a] + nodes[b]) / 2, CLEAR * length / 2, return_length=True) == 2
    a, b, length = a[alone], b[alone], length[alone]
    clear = _clear_of_borders(nodes, after, a, b)
    a, b, length = a[clear], b[clear], length[clear]
    wanted = sides_at(loops)
    out = []
    ways: dict[int, list[Floats]] = {}
    for k in np.lexsort((b, a, np.round(length / size, 3))).tolist():
        i, j = int(a[k]), int(b[k])
        way = (nodes[j] - nodes[i]) / length[k]
        if any(way @ other > APART for other in ways.get(i, [])) or any(-way @ other > APART for other in ways.get(j, [])):
            continue
        ways.setdefault(i, []).append(way)
        ways.setdefault(j, []).append(-way)
        row = Row(float(length[k]), float(wanted[i]), float(wanted[j]), size, growth)
        out.append(Link(i, j, row, row.count))
    return out


def _face_each_other(nodes: Floats, after: Ints, a: Ints, b: Ints) -> NDArray[np.bool_]:
    """Does the line from each node of `a` to that of `b` stand square on the borders at both ends?"""
    normal, turn = normals_at(nodes, after)
    least = np.where(turn > FLAT, UPRIGHT, SQUARE)
    way = nodes[b] - nodes[a]
    length = np.linalg.norm(way, axis=1)
    way /= np.maximum(length, 1e-300)[:, None]
    ahead, back = np.einsum("ij,ij->i", way, normal[a]), -np.einsum("ij,ij->i", way, normal[b])
    return np.asarray((length > 0) & (turn[a] > STRAIGHT) & (turn[b] > STRAIGHT) & (ahead > least[a]) & (back > least[b]))


def _clear_of_borders(nodes: Floats, after: Ints, a: Ints, b: Ints) -> NDArray[np.bool_]:
    """Does no border side cross the line between each pair of nodes?"""
    clear = np.ones(len(a), bool)
    if len(a):
        sides = shapely.STRtree(shapely.linestrings(np.stack((nodes, nodes[after]), axis=1)))
        inside = shapely.linestrings(np.stack((0.999 * nodes[a] + 0.001 * nodes[b], 0.001 * nodes[a] + 0.999 * nodes[b]), axis=1))
        clear[sides.query(inside, predicate="intersects")[0]] = False
    return clear
