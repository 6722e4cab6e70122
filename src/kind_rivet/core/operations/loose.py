"""Shells that came without geometry, seen on the faces that they form themselves."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kind_rivet.core.document.document import Document
from kind_rivet.core.errors import Refused
from kind_rivet.core.mesh.mesh import FREE_NODE, Mesh
from kind_rivet.core.meshing.seats import faces_under, seats_on
from kind_rivet.core.repair.refilling import NOWHERE, Seated


def seated_mesh(document: Document, laid: bool = False) -> Seated:
    """The document's mesh with the seats of loose shells; nodes that beams, solids or springs use as well keep none.

    `laid`: faces that cannot be laid flat are taken apart.
    """
    mesh = document.mesh
    shapes = {k: s.shape for k, s in document.meshed.items()}  # the sheets that the shells were made on, also where newer ones wait
    loose = mesh.is_shell & (mesh.body < 0)
    if not loose.any():
        return Seated(mesh, shapes)
    try:
        soup = faces_under(mesh, loose, laid=laid)
    except Refused:  # too ragged for faces to be told apart: these nodes stay where they are
        return Seated(mesh, shapes)
    seats = seats_on(mesh, loose, soup)
    others = mesh.conn[~mesh.is_shell]
    seats.on_kind[others[others >= 0]] = FREE_NODE
    return Seated(seats.put(mesh, NOWHERE), shapes | {NOWHERE: soup.shape})


def without_loose_seats(mesh: Mesh) -> Mesh:
    """The mesh as it goes into the document: shells without geometry, and their nodes, sit nowhere."""
    loose, held = mesh.body == NOWHERE, (mesh.on_body == NOWHERE) & (mesh.on_kind != FREE_NODE)
    if not (mesh.face[loose] >= 0).any() and not held.any():
        return mesh
    return replace(
        mesh, face=np.where(loose, -1, mesh.face).astype(np.int32), ring=np.where(loose, -1, mesh.ring).astype(np.int32),
        on_kind=np.where(held, FREE_NODE, mesh.on_kind).astype(np.uint8), on_item=np.where(held, -1, mesh.on_item).astype(np.int32),
    )  # fmt: skip
