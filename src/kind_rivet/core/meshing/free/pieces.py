"""A region in pieces, each filled by itself, put together again."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.free.fill import FlatMesh, flat_worst

Fill = Callable[[list[Floats]], FlatMesh]


def filled_pieces(
    points: Floats, pieces: list[list[NDArray[np.int64]]], fill: Fill, made: list[NDArray[np.int32]] | None = None
) -> FlatMesh:
    """The mesh of all pieces (loops of numbers of `points`, the outer one first) and of elements that are `made` already.

    `fill` fills one piece (loops of places); what it raises is passed on.
    """
    lots, rows, at = [points], list(made or ()), len(points)
    for piece in pieces:
        mesh = fill([points[loop] for loop in piece])
        border = np.concatenate(piece)
        inner = len(mesh.points) - len(border)
        table = np.concatenate((border, np.arange(at, at + inner)))
        rows.append(np.where(mesh.elements >= 0, table[np.maximum(mesh.elements, 0)], -1).astype(np.int32))
        lots.append(mesh.points[len(border) :])
        at += inner
    whole, elements = np.concatenate(lots), np.concatenate(rows)
    return FlatMesh(whole, elements, flat_worst(whole, elements))
