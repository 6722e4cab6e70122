"""Small made-up solids, built as arrays without the CAD kernel."""

from __future__ import annotations

import numpy as np

from kind_rivet.core.geometry.carriers import Carrier
from kind_rivet.core.geometry.shape import Edge, Face, Shape


def profile_solid(outline: np.ndarray, depth: float) -> Shape:
    """A closed polygon (k, 2), counter-clockwise, extruded along z into flat faces."""
    k = len(outline)
    points = np.vstack((np.column_stack((outline, np.zeros(k))), np.column_stack((outline, np.full(k, depth)))))
    facets, owner, normals, faces = [], [], [], []

    def add(rows: list[tuple[int, int, int]], n: np.ndarray) -> None:
        facets.extend(rows)
        owner.extend([len(faces)] * len(rows))
        normals.extend([[n, n, n]] * len(rows))
        faces.append(Face(Carrier("plane", (*points[rows[0][0]], *n))))

    ears = _ears(outline)
    add([(a, c, b) for a, b, c in ears], np.array([0.0, 0.0, -1.0]))
    add([(a + k, b + k, c + k) for a, b, c in ears], np.array([0.0, 0.0, 1.0]))
    edges = []
    for i in range(k):
        j = (i + 1) % k
        side = outline[j] - outline[i]
        n = np.array([side[1], -side[0], 0.0]) / np.linalg.norm(side)
        add([(i, j, j + k), (i, j + k, i + k)], n)
        for a, b in ((i, j), (i + k, j + k), (i, i + k)):
            d = points[b] - points[a]
            edges.append(Edge(np.array([a, b], np.int32), Carrier("line", (*points[a], *(d / np.linalg.norm(d))))))
    return Shape(points, np.array(facets, np.int32), np.array(owner, np.int32), np.array(normals), tuple(faces), tuple(edges))


def _ears(outline: np.ndarray) -> list[tuple[int, int, int]]:
    """Ear clipping of a simple polygon."""
    left = list(range(len(outline)))
    out = []

    def area(a: int, b: int, c: int) -> float:
        p, q, r = outline[[a, b, c]]
        return float((q[0] - p[0]) * (r[1] - p[1]) - (q[1] - p[1]) * (r[0] - p[0]))

    while len(left) > 3:
        for i in range(len(left)):
            a, b, c = left[i - 1], left[i], left[(i + 1) % len(left)]
            if area(a, b, c) <= 0:
                continue
            if any(area(a, b, p) >= 0 and area(b, c, p) >= 0 and area(c, a, p) >= 0 for p in left if p not in (a, b, c)):
                continue
            out.append((a, b, c))
            left.pop(i)
            break
        else:
            raise AssertionError("not a simple polygon")
    out.append((left[0], left[1], left[2]))
    return out


def sharp_channel(t: float = 2.0) -> Shape:
    """A U profile without bend radius: 40 wide, 20 high, 60 deep."""
    return profile_solid(np.array([(0, 0), (40, 0), (40, 20), (40 - t, 20), (40 - t, t), (t, t), (t, 20), (0, 20)], float), 60.0)


def t_profile(t: float = 2.0) -> Shape:
    """A T profile: its walls meet in a joint."""
    h = t / 2
    return profile_solid(np.array([(-20, 0), (20, 0), (20, t), (h, t), (h, 20), (-h, 20), (-h, t), (-20, t)], float), 60.0)


def cube() -> Shape:
    return profile_solid(np.array([(0, 0), (10, 0), (10, 10), (0, 10)], float), 10.0)


def polygon(points: list[tuple[float, float]], step: float) -> np.ndarray:
    """A closed polygon divided into sides of about `step`."""
    out = []
    for k, a in enumerate(points):
        p, q = np.array(a, float), np.array(points[(k + 1) % len(points)], float)
        n = max(1, round(float(np.linalg.norm(q - p)) / step))
        out.append(p + (q - p) * (np.arange(n) / n)[:, None])
    return np.concatenate(out)


def circle(x: float, y: float, r: float, n: int) -> np.ndarray:
    """A hole's border, clockwise."""
    a = -np.arange(n) / n * 2 * np.pi
    return np.column_stack((x + r * np.cos(a), y + r * np.sin(a)))
