"""Recognising faces and edges of a body in its next revision, by signature and place."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, unit
from kind_rivet.core.geometry.holes import Hole
from kind_rivet.core.geometry.shape import Shape

KIND = {k: i for i, k in enumerate(("plane", "cylinder", "cone", "sphere", "torus", "free"))}


@dataclass(frozen=True)
class Recognised:
    """Old face → new face (−1: gone), which of them kept their exact shape and place, and the holes.

    holes : old hole → (new hole or −1, how far it moved)
    """

    faces: NDArray[np.int64]
    unchanged: NDArray[np.bool_]
    holes: tuple[tuple[int, float], ...]

    @property
    def share(self) -> float:
        """Share of the old faces that were found."""
        return float((self.faces >= 0).mean()) if len(self.faces) else 1.0


def signatures(shape: Shape) -> tuple[Floats, Floats, Floats]:
    """Per face: kind, √area, border length, radius, three gyration radii (f, 7); its centre (f, 3); its mean normal (f, 3)."""
    count = len(shape.faces)
    weight = np.maximum(shape.facet_area, 1e-300)
    centre_of = shape.points[shape.facets].mean(axis=1)
    area = np.maximum(np.bincount(shape.facet_face, weight, count), 1e-300)
    centre = np.column_stack([np.bincount(shape.facet_face, weight * centre_of[:, k], count) for k in range(3)]) / area[:, None]
    normal = np.column_stack([np.bincount(shape.facet_face, weight * shape.facet_normal[:, k], count) for k in range(3)]) / area[:, None]
    spread = np.zeros((count, 3))
    for f in range(count):
        mine = shape.facet_face == f
        if mine.any():
            q = centre_of[mine] - centre[f]
            spread[f] = np.sqrt(np.maximum(np.linalg.eigvalsh((q * weight[mine, None]).T @ q / area[f]), 0))
    radius = [f.carrier.data[-1] if f.carrier.kind in ("cylinder", "sphere", "torus") else 0.0 for f in shape.faces]
    kind = [KIND.get(f.carrier.kind, 5) for f in shape.faces]
    table = np.column_stack((kind, np.sqrt(shape.face_area), shape.face_border_length, radius, spread))
    return table, centre, normal


def recognise(old: Shape, new: Shape, old_holes: tuple[Hole, ...] = (), new_holes: tuple[Hole, ...] = ()) -> Recognised:
    """Match faces by the least sum of costs in kind, measures, place and direction; two more rounds let neighbours speak.

    Faces without a good partner stay unmatched: nothing is guessed.
    """
    a, ca, na = signatures(old)
    b, cb, nb = signatures(new)
    size = max(old.diagonal, new.diagonal)
    cost = np.full((len(a), len(b)), 9.0)
    scale = np.maximum(np.maximum(a[:, None, 1], b[None, :, 1]), 1e-3 * size)
    measures = np.abs(a[:, None, 1:] - b[None, :, 1:]).sum(axis=2) / scale
    place = np.linalg.norm(ca[:, None] - cb[None], axis=2) / scale
    turned = 1 - np.einsum("ik,jk->ij", unit(na), unit(nb)) * (np.linalg.norm(na, axis=1)[:, None] > 0.1)
    plane = np.zeros_like(place)
    flat_a = np.array([f.carrier.kind == "plane" for f in old.faces])
    flat_b = np.array([f.carrier.kind == "plane" for f in new.faces])
    both = flat_a[:, None] & flat_b[None]
    off = np.abs(np.einsum("ik,ijk->ij", unit(na), ca[:, None] - cb[None]))
    plane[both & (off < 1e-5 * size) & (turned < 1e-6)] = -0.6  # the same plane speaks for itself
    same_kind = a[:, None, 0] == b[None, :, 0]
    cost = np.where(same_kind, np.minimum(measures, 3) + np.minimum(place, 3) + np.minimum(turned, 1) + plane, 9.0)
    neighbours_a, neighbours_b = old.face_neighbours, new.face_neighbours
    match = _assign(cost)
    for _ in range(2):
        support = np.zeros_like(cost)
        for i, around in enumerate(neighbours_a):
            partners = {int(match[k]) for k in around if match[k] >= 0}
            if not partners:
                continue
            for j, other in enumerate(neighbours_b):
                if other:
                    support[i, j] = len(partners & other) / max(len(around), len(other))
        match = _assign(cost - 1.2 * support)
    exact = np.zeros(len(a), bool)
    for i, j in enumerate(match.tolist()):
        if j >= 0:
            exact[i] = bool(measures[i, j] < 1e-5 and place[i, j] * scale[i, j] < 1e-5 * size)
    return Recognised(match, exact, _match_holes(old_holes, new_holes, size))


def _assign(cost: Floats, none: float = 1.6) -> NDArray[np.int64]:
    """Best partner of each row, −1 where having none is cheaper."""
    rows, columns = cost.shape
    padded = np.full((rows + columns, rows + columns), none / 2)
    padded[:rows, :columns] = cost
    padded[rows:, columns:] = 0.0
    i, j = scipy.optimize.linear_sum_assignment(padded)
    match = np.full(rows, -1, np.int64)
    good = (i < rows) & (j < columns)
    match[i[good]] = j[good]
    match[np.array([m >= 0 and cost[k, m] >= none for k, m in enumerate(match)], bool)] = -1
    return match


def _match_holes(old: tuple[Hole, ...], new: tuple[Hole, ...], size: float) -> tuple[tuple[int, float], ...]:
    """Old hole → new hole and how far it moved: same place first, then the same measures nearest by."""
    left = set(range(len(new)))
    out: list[tuple[int, float]] = [(-1, 0.0)] * len(old)
    for limit in (1e-5, 0.25):
        pairs = []
        for i, hole in enumerate(old):
            if out[i][0] >= 0:
                continue
            for j in left:
                other = new[j]
                if hole.kind != other.kind or abs(hole.length - other.length) > 0.02 * max(hole.length, other.length):
                    continue
                away = float(np.linalg.norm(np.subtract(hole.centre, other.centre)))
                if away <= limit * size:
                    pairs.append((away, i, j))
        for away, i, j in sorted(pairs):
            if out[i][0] < 0 and j in left:
                out[i] = (j, away if limit > 1e-5 else 0.0)
                left.discard(j)
    return tuple(out)


def recognise_edges(old: Shape, new: Shape, faces: NDArray[np.int64]) -> NDArray[np.int64]:
    """Old edge → new edge (−1: gone): between the partners of its faces, nearest in middle and length."""
    by_pair: dict[tuple[int, ...], list[int]] = {}
    for e, beside in enumerate(new.edge_faces):
        by_pair.setdefault(tuple(sorted(beside)), []).append(e)
    old_middle = np.array([old.points[e.nodes].mean(axis=0) for e in old.edges]).reshape(-1, 3)
    new_middle = np.array([new.points[e.nodes].mean(axis=0) for e in new.edges]).reshape(-1, 3)
    out = np.full(len(old.edges), -1, np.int64)
    for e, beside in enumerate(old.edge_faces):
        partners = [int(faces[f]) for f in beside]
        if any(p < 0 for p in partners):
            continue
        found = by_pair.get(tuple(sorted(partners)), [])
        if found:
            away = [
                float(np.linalg.norm(new_middle[k] - old_middle[e])) + abs(float(new.edge_length[k] - old.edge_length[e])) for k in found
            ]
            best = int(np.argmin(away))
            if away[best] < 0.6 * max(float(old.edge_length[e]), 1e-3 * old.diagonal):
                out[e] = found[best]
    return out
