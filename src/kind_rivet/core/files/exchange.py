"""What travels in a mesh file: the mesh with its parts, sets, spiders and masses."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.document.document import Document, EntitySet, LumpedMass, Part, Spider
from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.mesh.mesh import Mesh


@dataclass(frozen=True)
class Exchange:
    """Mesh, parts, sets, spiders, masses and the index of each element (NaN where not judged)."""

    mesh: Mesh
    parts: tuple[Part, ...] = ()
    sets: tuple[EntitySet, ...] = ()
    spiders: tuple[Spider, ...] = ()
    masses: tuple[LumpedMass, ...] = ()
    index: Floats | None = None
    title: str = ""

    @staticmethod
    def of(document: Document) -> Exchange:
        return Exchange(
            document.mesh, document.parts, document.sets, document.spiders, document.masses, document.quality.index, document.name
        )


def node_lookup(mesh: Mesh) -> dict[int, int]:
    return {int(n): i for i, n in enumerate(mesh.node_id)}


def set_mask(numbers: NDArray[np.int32], members: NDArray[np.int32]) -> NDArray[np.uint8]:
    """1 where a stable number belongs to the set."""
    return np.isin(numbers, members).astype(np.uint8)
