"""What travels in a mesh file: the mesh with its parts, sets, spiders and masses."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.document.document import PART_KINDS, TINTS, Document, EntitySet, LumpedMass, Part, Spider
from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.mesh.kinds import KINDS
from kind_rivet.core.mesh.mesh import Mesh
from kind_rivet.core.mesh.quadratic import members_between, with_mid_sides


@dataclass(frozen=True)
class Exchange:
    """Mesh, parts, sets, spiders, masses and the index of each element (NaN where not judged); `notes`: what of a file could not be read."""

    mesh: Mesh
    parts: tuple[Part, ...] = ()
    sets: tuple[EntitySet, ...] = ()
    spiders: tuple[Spider, ...] = ()
    masses: tuple[LumpedMass, ...] = ()
    index: Floats | None = None
    title: str = ""
    notes: tuple[str, ...] = ()

    @staticmethod
    def of(document: Document) -> Exchange:
        mesh, sets = document.mesh, document.sets
        if document.choices.quadratic:
            mesh, middles = with_mid_sides(mesh, {key: sheet.shape for key, sheet in document.meshed.items()})
            first = int(document.mesh.node_id.max(initial=0)) + 1
            sets = tuple(
                replace(s, ids=members_between(s.ids, document.mesh, middles, first)) if s.kind == "node" else s for s in document.sets
            )
        return Exchange(mesh, document.parts, sets, document.spiders, document.masses, document.quality.index, document.name)


def with_parts_named(mesh: Mesh, parts: tuple[Part, ...], name: str) -> tuple[Mesh, tuple[Part, ...]]:
    """The mesh and its parts, with a new part for each kind (mass, beam, shell, solid) of elements whose part nobody named; all are called after `name`."""
    kind = np.array([k.dimension for k in KINDS])[mesh.kind]
    unnamed = np.flatnonzero(~np.isin(mesh.part, [p.key for p in parts]))
    lots = np.unique(np.column_stack((mesh.part[unnamed], kind[unnamed])), axis=0)
    out, part = list(parts), mesh.part.copy()
    first = max(int(mesh.part.max(initial=0)), max((p.key for p in parts), default=0)) + 1
    for k, (key, dimension) in enumerate(lots.tolist()):
        mine = unnamed[(mesh.part[unnamed] == key) & (kind[unnamed] == dimension)]
        part[mine] = first + k
        out.append(
            Part(
                first + k,
                name if len(lots) == 1 else f"{name} {k + 1}",
                TINTS[k % len(TINTS)],
                PART_KINDS[dimension],
            )
        )
    return (replace(mesh, part=part), tuple(out)) if len(lots) else (mesh, parts)


def node_lookup(mesh: Mesh) -> dict[int, int]:
    return {int(n): i for i, n in enumerate(mesh.node_id)}


def set_mask(numbers: NDArray[np.int32], members: NDArray[np.int32]) -> NDArray[np.uint8]:
    """1 where a stable number belongs to the set."""
    return np.isin(numbers, members).astype(np.uint8)
