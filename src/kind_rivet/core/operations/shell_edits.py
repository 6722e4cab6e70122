"""Mesh: a selection again, shells without faces, copies."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from kind_rivet.core.document.document import TINTS, Document, Part
from kind_rivet.core.document.live_sets import followed
from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.mesh.coincident import coincident_groups, merged
from kind_rivet.core.mesh.copies import mirror, only, rotation, transformed
from kind_rivet.core.mesh.kinds import QUAD, TRIA
from kind_rivet.core.meshing.lines import dragged, filled_outline, ruled_strip
from kind_rivet.core.meshing.rules import Triple
from kind_rivet.core.operations.loose import seated_mesh
from kind_rivet.core.operations.mixed import element_indices
from kind_rivet.core.operations.registry import Parameters, Progress, operation
from kind_rivet.core.repair.refilling import filled_anew, lots_of
from kind_rivet.core.words import counted

MOST_COPIES = 3_000_000


class MeshAgain(Parameters):
    elements: tuple[int, ...] = Field(title="Shells", description="Element numbers")
    size: float = Field(0.0, ge=0, title="Size", description="0: the mesh's own", json_schema_extra={"unit": "length"})


@operation("mesh.again", "Mesh a selection again", "mesh", MeshAgain)
def mesh_again_here(document: Document, parameters: MeshAgain, progress: Progress) -> Document:
    """Fill the place of chosen shells anew; its border, and nodes inside that other things hang on, stay."""
    mesh = document.mesh
    chosen = element_indices(document, parameters.elements)
    chosen = chosen[mesh.is_shell[chosen]]
    if not len(chosen):
        raise Refused("No shell is chosen.", "Choose some shells that lie together.")
    size = parameters.size or document.choices.size or float(np.sqrt(np.linalg.norm(np.ptp(mesh.points[mesh.conn[chosen, 0]], axis=0))))
    seated = seated_mesh(document, laid=True)
    before, made = 0, 0
    left: list[Refused] = []
    for lot in lots_of(seated.mesh, chosen):
        try:
            mesh, used, count = filled_anew(mesh, seated, lot, size, document.hung)
        except Refused as refused:
            left.append(refused)
            continue
        before += used
        made += count
    if not made:
        raise left[0]
    notes = [f"{before} shells became {made}."]
    if left:
        notes.append(f"{counted(len(left), 'lot')} of shells stayed as they were: {left[0].reason}")
    return followed(replace(document, notes=tuple(notes)), mesh)


class ShellRows(Parameters):
    first: tuple[int, ...] = Field(title="First row", description="Node numbers in order")
    second: tuple[int, ...] = Field(title="Second row", description="Node numbers in order")
    rows: int = Field(1, ge=1, le=1000, title="Rows")
    thickness: float = Field(1.0, gt=0, title="Thickness", json_schema_extra={"unit": "length"})


@operation("mesh.strip", "Strip between two rows", "mesh", ShellRows)
def strip_between(document: Document, parameters: ShellRows, progress: Progress) -> Document:
    """Shells between two rows of nodes; they share the rows' nodes and never cross themselves."""
    first, second = _nodes(document, parameters.first), _nodes(document, parameters.second)
    if len(first) < 2 or len(second) < 2:
        raise Refused("A row needs at least two nodes.", "Choose the nodes of each row in order.")
    if set(first.tolist()) & set(second.tolist()):
        raise Refused("The rows share a node.", "Choose rows that lie apart.")
    p = document.mesh.points
    spacing = float(np.linalg.norm(np.diff(p[first], axis=0), axis=1).mean())
    points, elements = ruled_strip(p[first], p[second], parameters.rows, document.choices.size or spacing)
    return _added(document, np.concatenate((first, second)), points, elements, parameters.thickness, "strip")


class ShellOutline(Parameters):
    nodes: tuple[int, ...] = Field(title="Outline", description="Node numbers in order round the gap")
    size: float = Field(0.0, ge=0, title="Size", description="0: that of the outline", json_schema_extra={"unit": "length"})
    thickness: float = Field(1.0, gt=0, title="Thickness", json_schema_extra={"unit": "length"})


@operation("mesh.outline", "Fill an outline", "mesh", ShellOutline)
def fill_outline(document: Document, parameters: ShellOutline, progress: Progress) -> Document:
    """Shells inside a closed outline of nodes: plane, or a smooth patch that hangs between them."""
    loop = _nodes(document, parameters.nodes)
    if len(loop) < 3:
        raise Refused("An outline needs at least three nodes.", "Choose the nodes round the gap in order.")
    p = document.mesh.points[loop]
    size = parameters.size or float(np.linalg.norm(p - np.roll(p, 1, axis=0), axis=1).mean())
    points, elements = filled_outline(p, size)
    return _added(document, loop, points, elements, parameters.thickness, "patch")


class DragRow(Parameters):
    row: tuple[int, ...] = Field(title="Row", description="Node numbers in order")
    shift: Triple = Field((0.0, 0.0, 10.0), title="Shift", description="Where the row goes")
    path: tuple[int, ...] = Field((), title="Path", description="Node numbers along a path, instead of the shift")
    count: int = Field(4, ge=1, le=5000, title="Elements along the shift")
    thickness: float = Field(1.0, gt=0, title="Thickness", json_schema_extra={"unit": "length"})


@operation("mesh.drag_row", "Drag a row along a path", "mesh", DragRow)
def drag_row(document: Document, parameters: DragRow, progress: Progress) -> Document:
    """Shells swept by a row of nodes along a straight shift, or step by step along a path of nodes."""
    row = _nodes(document, parameters.row)
    if len(row) < 2:
        raise Refused("A row needs at least two nodes.", "Choose its nodes in order.")
    p = document.mesh.points
    if parameters.path:
        path = _nodes(document, parameters.path)
        if len(path) < 2:
            raise Refused("A path needs at least two nodes.", "Choose its nodes in order.")
        steps = p[path[1:]] - p[path[0]]
    else:
        if np.linalg.norm(parameters.shift) == 0:
            raise Refused("The shift is zero.", "Say where the row goes.")
        steps = np.linspace(0, 1, parameters.count + 1)[1:, None] * np.array(parameters.shift)
    points, elements = dragged(p[row], steps)
    return _added(document, row, points, elements, parameters.thickness, "sweep")


def _nodes(document: Document, numbers: tuple[int, ...]) -> NDArray[np.int64]:
    missing = [n for n in numbers if n not in document.node_index]
    if missing:
        raise Refused(f"There is no node {missing[0]}.", "Choose nodes of the present mesh.")
    if len(set(numbers)) != len(numbers):
        raise Refused("A node is named twice.", "Name each node once; an outline closes by itself.")
    return np.array([document.node_index[n] for n in numbers], np.int64)


def _added(
    document: Document, known: NDArray[np.int64], points: Floats, elements: NDArray[np.int32], thickness: float, what: str
) -> Document:
    """Shells on known nodes (they come first in `points`) and on new ones, as a part of their own."""
    mesh = document.mesh.with_nodes(points[len(known) :])
    table = np.concatenate((known, document.mesh.nodes + np.arange(len(points) - len(known))))
    rows = np.where(elements >= 0, table[np.maximum(elements, 0)], -1)
    key = document.next_part_key()
    name = f"{what.capitalize()} {sum(p.name.startswith(what.capitalize()) for p in document.parts) + 1}"
    part = Part(key, name, TINTS[len(document.parts) % len(TINTS)], "shell", "")
    quad = rows[:, 3] >= 0
    mesh = mesh.with_elements(QUAD, rows[quad], key, thickness=thickness) if quad.any() else mesh
    mesh = mesh.with_elements(TRIA, rows[~quad][:, :3], key, thickness=thickness) if (~quad).any() else mesh
    note = f"{name}: {len(rows)} shells, {thickness:g} {document.units} thick."
    return replace(document, mesh=mesh, parts=(*document.parts, part), notes=(note,))


class CopyElements(Parameters):
    elements: tuple[int, ...] = Field((), title="Elements", description="Empty: the whole mesh")
    how: Literal["move", "mirror", "rotate", "scale"] = Field("mirror", title="How")
    at: Triple = Field((0.0, 0.0, 0.0), title="Point", description="On the mirror plane, on the axis, or the centre of scaling")
    along: Triple = Field((1.0, 0.0, 0.0), title="Direction", description="The shift; normal of the mirror plane; the axis")
    angle: float = Field(90.0, title="Angle of each step", json_schema_extra={"unit": "°"})
    factor: float = Field(2.0, gt=0, title="Factor of scaling")
    count: int = Field(1, ge=1, le=10_000, title="Copies")
    keep: bool = Field(True, title="Keep the original")
    tolerance: float = Field(0.0, ge=0, title="Merge within", description="0: nothing is merged", json_schema_extra={"unit": "length"})


@operation("mesh.copies", "Copies of elements", "mesh", CopyElements)
def copy_elements(document: Document, parameters: CopyElements, progress: Progress) -> Document:
    """Move, mirror, rotate or scale copies of elements, several times on wish, and merge where they meet."""
    mesh = document.mesh
    chosen = element_indices(document, parameters.elements) if parameters.elements else np.arange(mesh.elements)
    if not len(chosen):
        raise Refused("There is nothing to copy.", "Mesh something first, or choose elements.")
    if len(chosen) * parameters.count > MOST_COPIES:
        raise Refused(f"That would make {len(chosen) * parameters.count:.3g} elements.", "Ask for fewer copies.")
    along, at = np.array(parameters.along), np.array(parameters.at)
    if parameters.how != "scale" and np.linalg.norm(along) == 0:
        raise Refused("The direction is zero.", "Give a direction.")
    if parameters.how == "mirror" and parameters.count > 1:
        raise Refused("Mirroring twice in one plane gives the same copy.", "Ask for one copy.")
    source = only(mesh, chosen)
    result = mesh
    if not parameters.keep:
        drop = np.zeros(mesh.elements, bool)
        drop[chosen] = True
        result = mesh.without_elements(drop)
    for k in range(1, parameters.count + 1):
        if parameters.how == "move":
            turn, shift = np.eye(3), k * along
        elif parameters.how == "rotate":
            turn, shift = rotation(at, along, np.radians(k * parameters.angle))
        elif parameters.how == "scale":
            turn = np.eye(3) * parameters.factor**k
            shift = at - turn @ at
        else:
            turn, shift = mirror(at, along)
        result = result.plus(transformed(source, turn, shift))
    notes = [f"{parameters.count} cop{'ies' if parameters.count > 1 else 'y'} of {len(chosen)} elements."]
    changed = replace(document, mesh=result)
    if parameters.tolerance > 0:
        groups = coincident_groups(result, parameters.tolerance)
        joined, dropped, left = merged(result, groups)
        changed = replace(changed, mesh=joined)
        notes.append(f"{len(dropped)} nodes merged{f'; {left} places left, an element would collapse' if left else ''}.")
    return replace(changed, notes=tuple(notes))
