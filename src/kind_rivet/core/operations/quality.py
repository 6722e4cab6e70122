"""Quality and repair: optimise, move a node."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np
from pydantic import Field

from kind_rivet.core.document.document import Document
from kind_rivet.core.errors import Refused
from kind_rivet.core.mesh.excerpt import Around
from kind_rivet.core.operations.loose import seated_mesh
from kind_rivet.core.operations.mixed import element_indices
from kind_rivet.core.operations.registry import Parameters, Progress, operation
from kind_rivet.core.repair.drag import NodeDrag
from kind_rivet.core.repair.holds import Holds, holds_of
from kind_rivet.core.repair.optimise import optimise


def document_holds(document: Document) -> Holds:
    """What holds every node of the document's mesh; shells without geometry are held by the faces and edges that they form themselves."""
    seated = seated_mesh(document)
    return holds_of(seated.mesh, seated.shapes)


class OptimiseMesh(Parameters):
    scope: Literal["all", "failing", "elements", "nodes"] = Field("all", title="What")
    numbers: tuple[int, ...] = Field((), title="Chosen", description="Element or node numbers, when only those are meant")
    rounds: int = Field(12, ge=1, le=200, title="Rounds")


@operation("quality.optimise", "Optimise", "quality", OptimiseMesh)
def optimise_mesh(document: Document, parameters: OptimiseMesh, progress: Progress) -> Document:
    """Move nodes on their faces until the index no longer rises; no element ends worse than the worst round it was."""
    mesh = document.mesh
    if not mesh.is_shell.any():
        raise Refused("There are no shells to optimise.", "Mesh a midsurface first.")
    nodes = None
    if parameters.scope == "nodes":
        nodes = np.array([i for n in parameters.numbers if (i := document.node_index.get(n)) is not None], np.int64)
    elif parameters.scope in ("elements", "failing"):
        chosen = document.quality.failing if parameters.scope == "failing" else element_indices(document, parameters.numbers)
        nodes = _with_ring(document, chosen)
    if nodes is not None and not len(nodes):
        raise Refused("Nothing is chosen that could be optimised.", "Choose nodes or elements, or optimise the whole mesh.")
    progress(0.1, "optimising")
    done = optimise(
        mesh, document_holds(document), document.limit_sheet, document.choices.size, nodes, rounds=parameters.rounds, wanted=document.wanted
    )
    if not done.moved:
        reason = (
            "their nodes are all held by edges and points" if nodes is not None and len(nodes) < 40 else "the index is as high as it gets"
        )
        raise Refused(f"Nothing moved: {reason}.", "Change divisions nearby or mesh the region again.")
    note = f"Index {done.index_before:.1f} → {done.index_after:.1f}, failing {done.failing_before} → {done.failing_after}."
    return replace(document, mesh=done.mesh, notes=(note,))


def _with_ring(document: Document, elements: np.ndarray) -> np.ndarray:
    """Nodes of the elements and of their neighbours."""
    mesh = document.mesh
    rows = mesh.shells()[Around(mesh).widened(elements, 1, mesh.is_shell)]
    return np.asarray(np.unique(rows[rows >= 0]), np.int64)


class MoveNode(Parameters):
    node: int = Field(title="Node")
    to: tuple[float, float, float] = Field(title="To")


@operation("quality.move_node", "Move a node", "quality", MoveNode)
def move_node(document: Document, parameters: MoveNode, progress: Progress) -> Document:
    """Move one node on its wall or along its edge; refused when an element would turn over."""
    index = document.node_index.get(parameters.node)
    if index is None:
        raise Refused(f"There is no node {parameters.node}.", "Choose a node in the Stage.")
    drag = NodeDrag(document.mesh, document_holds(document), document.limit_sheet, document.choices.size, index, document.wanted)
    if not drag.movable:
        held = {1: "a point of the geometry", 2: "a round hole or a ring"}.get(
            int(document.mesh.on_kind[index]), "a ring or nothing it could slide on"
        )
        raise Refused(f"Node {parameters.node} is held by {held}.", "Drag a node inside a wall or along its edge, or change the divisions.")
    before = float(drag.before.min(initial=1.0))
    step = drag.to(np.array(parameters.to))
    if not step.allowed:
        raise Refused("An element would turn over there.", "Move the node less far.")
    points = document.mesh.points.copy()
    points[index] = step.point
    return replace(
        document,
        mesh=document.mesh.moved(points),
        notes=(f"Node {parameters.node} moved: worst index round it {before:.2f} → {step.index.min():.2f}.",),
    )
