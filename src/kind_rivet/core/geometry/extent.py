"""How large a body is, whichever way it is turned."""

from __future__ import annotations

import numpy as np

from kind_rivet.core.geometry.carriers import Floats, frame
from kind_rivet.core.geometry.shape import Shape

TRIED = 6  # directions of planes, and of edges, that a box may follow
ALIKE = 1e-6  # of a sine: directions that are one, or square to each other


def extent(shape: Shape) -> float:
    """Diagonal of the smallest of the boxes that lie along the body's largest planes and longest edges; without planes, along its main axes."""
    points = shape.points
    first = _ways([(float(shape.face_area[f]), x.carrier.array[3:6]) for f, x in enumerate(shape.faces) if x.carrier.kind == "plane"])
    second = first + _ways(
        [(float(shape.edge_length[e]), x.carrier.array[3:6]) for e, x in enumerate(shape.edges) if x.carrier.kind == "line"]
    )
    boxes = []
    for normal in first[:TRIED]:
        for across in [u for u in second if abs(u @ normal) < ALIKE][:TRIED] or [frame(normal)[0]]:
            boxes.append(np.ptp(points @ np.stack((normal, across, np.cross(normal, across)), axis=1), axis=0))
    if not boxes:
        boxes = [np.ptp(points @ np.linalg.svd(points - points.mean(axis=0), full_matrices=False)[2].T, axis=0)]
    volume = np.prod(boxes, axis=1)
    return float(np.linalg.norm(boxes[int(np.argmax(volume <= volume.min() * (1 + ALIKE)))]))


def _ways(found: list[tuple[float, Floats]]) -> list[Floats]:
    """The directions that weigh most, weights of those that are one put together."""
    ways: list[Floats] = []
    weight: list[float] = []
    for much, way in found:
        same = next((k for k, other in enumerate(ways) if np.linalg.norm(np.cross(other, way)) < ALIKE), None)
        if same is None:
            ways.append(way)
            weight.append(much)
        else:
            weight[same] += much
    return [ways[k] for k in np.argsort(-np.array(weight), kind="stable")]
