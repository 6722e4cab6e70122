"""What moves over the Stage: hover words, beads, direction arrows, node drags."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from kind_rivet.app.kit.card import OperationCard
from kind_rivet.app.kit.divisions import DivisionsCard
from kind_rivet.app.kit.form import NumberField
from kind_rivet.app.kit.looking import MeasureCard
from kind_rivet.app.kit.preparing import FaultsCard
from kind_rivet.app.stage.grips import Grips
from kind_rivet.app.theme import COPPER, number, place_words
from kind_rivet.core.document.document import Document
from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.places import edge_middles, find_edges
from kind_rivet.core.mesh.coincident import coincident_groups
from kind_rivet.core.mesh.mesh import FREE_NODE, ON_EDGE, ON_VERTEX
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.operations.quality import document_holds
from kind_rivet.core.quality.limits import LABELS
from kind_rivet.core.quality.shell_metrics import METRICS
from kind_rivet.core.repair.drag import NodeDrag
from kind_rivet.core.repair.holds import Holds

if TYPE_CHECKING:
    from kind_rivet.app.window import MainWindow

MOST_BEADS = 140


def new_edges(before: Document, after: Document) -> list[Floats]:
    """Edges of sheets and bodies that a proposal adds."""
    out: list[Floats] = []
    old_shapes = {("body", b.key): b.shape for b in before.bodies} | {("sheet", k): s.shape for k, s in before.sheets.items()}
    new_shapes = {("body", b.key): b.shape for b in after.bodies} | {("sheet", k): s.shape for k, s in after.sheets.items()}
    for name, shape in new_shapes.items():
        old = old_shapes.get(name)
        if old is shape or (name[0] == "sheet" and old is None):
            continue
        known = set() if old is None else {tuple(np.round(m, 5)) for m in edge_middles(old)}
        for edge, middle in zip(shape.edges, edge_middles(shape), strict=True):
            if tuple(np.round(middle, 5)) not in known:
                out.append(shape.points[edge.nodes])
    return out[:400]


def _held_alike(one: Document, other: Document) -> bool:
    """Are the nodes of two documents held by the same walls and edges, wherever they lie? Workers hand back arrays that are equal, not the same."""
    if one.meshed.keys() != other.meshed.keys():
        return False
    pairs = [(getattr(one.mesh, name), getattr(other.mesh, name)) for name in ("conn", "on_kind", "on_item", "on_body")]
    pairs += [(one.meshed[k].shape.points, other.meshed[k].shape.points) for k in one.meshed]
    return all(a is b or np.array_equal(a, b) for a, b in pairs)


class Live:
    def __init__(self, window: MainWindow) -> None:
        self.window = window
        self.grips = Grips(window)
        self.drag: NodeDrag | None = None
        self._held_of: Document | None = None  # the document whose nodes `_holds` tells of
        self._holds: Holds | None = None
        self._past: tuple[object, list[Floats]] = (None, [])

    @property
    def on_sheet(self) -> bool:
        """Does the Stage show sheets (or their mesh) instead of the bodies?"""
        look = self.window.look
        if look.stop == "midsurface":
            return not look.on_solid
        return look.stop not in ("part", "prepare") or (look.stop == "prepare" and look.on_sheet)

    # -- hover -----------------------------------------------------------------------
    def hover(self, item: Any) -> None:
        stage, document = self.window.stage, self.window.session.shown
        stage.hover_shape = []
        text = ""
        kind = self.window.selection.kind
        mesh = document.mesh
        if item is None:
            pass
        elif kind == "body":
            body = document.body(item)
            text = f"{body.name} · walls {', '.join(f'{t:g}' for t, s in body.walls[:2] if s > 0.02)} {document.units}"
        elif kind == "face":
            body, face = item
            sheet = document.sheets.get(body)
            if sheet is not None and face < len(sheet.shape.faces) and self.on_sheet:
                text = f"wall {face + 1} · {sheet.shape.faces[face].carrier.kind} · {number(float(sheet.shape.face_area[face]))} {document.units}² · {sheet.thickness[face]:g} {document.units} thick"
                shape = sheet.shape
            else:
                shape = document.body(body).shape
                text = f"face {face + 1} · {shape.faces[face].carrier.kind} · {number(float(shape.face_area[face]))} {document.units}²"
            stage.hover_shape = [shape.points[shape.edges[e].nodes] for e in shape.face_edges[face]]
        elif kind == "edge":
            body, e = item
            sheet = document.sheets.get(body)
            shape = sheet.shape if sheet is not None and self.on_sheet else document.body(body).shape
            if e < len(shape.edges):
                carrier = shape.edges[e].carrier
                round_ = f" · radius {carrier.data[6]:.4g}" if carrier.kind == "circle" else ""
                lines = document.lines_of(body) if sheet is not None else ()
                count = len(lines[e]) - 1 if e < len(lines) else 0
                text = f"edge {e + 1} · {shape.edge_length[e]:.4g} {document.units}{round_}" + (f" · {count} divisions" if count else "")
                stage.hover_shape = [shape.points[shape.edges[e].nodes]]
        elif kind == "point":
            text = "point " + place_words(item[:3], 5)
        elif kind in ("hole", "ring"):
            body, k = item
            meshed = document.mesh_holes.get(body) if self.window.look.stop not in ("part", "prepare", "midsurface") else None
            if meshed is not None and k < len(meshed):
                h = meshed[k]
                text = (
                    f"hole Ø {2 * h.radius:.4g} · {h.divisions} divisions · {f'ring {sum(h.widths):.3g} wide' if h.widths else 'no ring'}"
                )
            elif k < len(document.body(body).holes):
                hole = document.body(body).holes[k]
                text = f"hole Ø {hole.diameter:.4g}" if hole.kind == "round" else f"cut-out {hole.length:.4g} × {hole.width:.4g}"
        elif kind == "node":
            index = document.node_index.get(item)
            if index is not None:
                x, y, z = mesh.points[index]
                held = ("free", "held by a point", "held by an edge", "slides on its face")[int(mesh.on_kind[index])]
                text = f"node {item} · ({x:.4g}, {y:.4g}, {z:.4g}) · {held}"
        elif kind == "element":
            at = np.flatnonzero(mesh.element_id == item)
            if len(at):
                e = int(at[0])
                q = document.quality
                text = f"element {item}"
                if not np.isnan(q.index[e]):
                    metric = METRICS[q.worst_metric[e]]
                    text += f" · index {q.index[e]:.2f} ({LABELS[metric][0].lower()} {q.values[e, q.worst_metric[e]]:.3g}) · {mesh.thickness[e]:g} {document.units} thick"
                row = mesh.shells()[e] if e < mesh.elements else None
                if row is not None and row[0] >= 0:
                    corners = [*row[row >= 0].tolist(), int(row[0])]
                    stage.hover_shape = [mesh.points[corners]]
        stage.hover_text = text
        stage.update()

    # -- overlays ----------------------------------------------------------------------
    def overlays(self) -> None:
        """Beads, arrows and marks that the open card wants."""
        window = self.window
        stage, document = window.stage, window.session.shown
        stage.beads, stage.grips, stage.ghost_lines = [], [], []
        stage.labels = [label for label in stage.labels if label[2] != COPPER]
        stage.ghost_paths, stage.dotted = [], []
        card = window.kit.open_card if window.kit.stop else None
        if window.look.stop == "prepare":
            stage.dotted = self._looked_past()
        if window.session.proposal is not None:
            stage.ghost_paths = new_edges(window.session.document, window.session.proposal)
        if isinstance(card, FaultsCard):
            stage.labels += card.labels()
        elif isinstance(card, MeasureCard) and card.line is not None:
            stage.ghost_paths = [card.line]
            stage.labels.append((card.line.mean(axis=0), card.words, COPPER))
        if isinstance(card, DivisionsCard):
            self._beads()
            stage.grips = list(self.grips.shown())
        elif isinstance(card, OperationCard) and card.operation.name == "mixed.layers" and window.session.proposal is None:
            self._direction(card)
        elif (
            isinstance(card, OperationCard)
            and card.operation.name == "mixed.merge"
            and window.session.proposal is None
            and document.mesh.nodes
        ):
            tolerance = card.form.values().get("tolerance")
            if isinstance(tolerance, float | int) and tolerance > 0:
                for group in coincident_groups(document.mesh, float(tolerance))[:60]:
                    stage.labels.append((document.mesh.points[group[0]], f"{len(group)} nodes", COPPER))

    def _looked_past(self) -> list[Floats]:
        """Lines of edges that are looked past, found on the sheet as extracted (or the body)."""
        document = self.window.session.shown
        if self._past[0] is document.looked_past:
            return self._past[1]
        out = []
        for key in {p.body for p in document.looked_past}:
            sheet = document.raw_sheets.get(key)
            shape = sheet.shape if sheet is not None else document.body(key).shape
            mine = [p for p in document.looked_past if p.body == key]
            found = find_edges(shape, np.array([p.middle for p in mine]), np.array([p.length for p in mine]), 1e-3 * shape.diagonal)
            out += [shape.points[shape.edges[e].nodes] for e in found if e >= 0]
        self._past = (document.looked_past, out)
        return out

    def _beads(self) -> None:
        document = self.window.session.shown
        card = self.window.kit.open_card
        hand = document.choices.divisions
        lots = []
        for key in document.mesh_edges:
            sheet = document.sheets.get(key)
            if sheet is None:
                continue
            by_hand = hand.get(str(key), {})
            for e, line in enumerate(document.lines_of(key)):
                if len(line) > 1:
                    edge = sheet.shape.edges[e]
                    curve = Curve.through(sheet.shape.points[edge.nodes], edge.carrier)
                    to_come = card.wanted(key, e) if isinstance(card, DivisionsCard) else None
                    count = str(to_come or len(line) - 1)
                    middle = curve.at(np.array([curve.length / 2]))[0]
                    lots.append((curve.length, ((key, e), middle, count, e in by_hand or to_come is not None)))
        lots.sort(key=lambda lot: -lot[0])
        self.window.stage.beads = [bead for _, bead in lots[:MOST_BEADS]]

    def _direction(self, card: OperationCard) -> None:
        document = self.window.session.shown
        mesh = document.mesh
        chosen = (
            np.flatnonzero(np.isin(mesh.element_id, self.window.selection.items))
            if self.window.selection.kind == "element"
            else np.empty(0, int)
        )
        values = card.form.values()
        height = values.get("height")
        if not len(chosen) or not isinstance(height, float | int):
            return
        from kind_rivet.core.meshing.layers import node_directions

        chosen = chosen[mesh.is_shell[chosen]][:40]
        if not len(chosen):
            return
        nodes, lift = node_directions(mesh, chosen)
        if values["along"] != "normals":
            lift = np.broadcast_to(np.eye(3)["xyz".index(values["along"])], lift.shape)
        centre, direction = mesh.points[nodes].mean(axis=0), lift.mean(axis=0)
        self.window.stage.ghost_lines = [(centre, centre + height * direction)]

    def flip(self) -> None:
        """Turn the sign of the layers' height."""
        card = self.window.kit.open_card
        if isinstance(card, OperationCard) and card.operation.name == "mixed.layers":
            field = card.form.fields["height"]
            assert isinstance(field, NumberField)
            value = field.value()
            if value:
                field.setText(f"{-value:g}")
                card.form.edited.emit()
                self.overlays()
                self.window.stage.update()

    # -- dragging a node -----------------------------------------------------------------
    def drag_start(self, number_: int) -> None:
        document = self.window.session.document
        index = document.node_index.get(number_)
        if index is None or self.window.session.proposal is not None:
            return
        if self._held_of is None or not _held_alike(self._held_of, document):
            self._held_of, self._holds = document, document_holds(document)
        assert self._holds is not None
        self.drag = NodeDrag(document.mesh, self._holds, document.limit_sheet, document.choices.size, index, document.wanted)
        if not self.drag.movable:
            kind = int(document.mesh.on_kind[index])
            if kind == FREE_NODE:
                why = "at a corner or a hole of the mesh, or an end of a beam or solid, so it does not move. Drag one inside a wall or along an edge."
            else:
                held = {ON_VERTEX: "a point", ON_EDGE: "a round hole or an edge"}.get(kind, "its ring")
                why = f"held by {held} of the geometry, so it does not move. Change the divisions of the edge instead."
            self.window.say(f"Node {number_} is {why}", "problem")
            self.drag = None

    def drag_move(self, pixel: tuple[float, float]) -> None:
        if self.drag is None:
            return
        stage, document = self.window.stage, self.window.session.document
        origin, direction = stage.camera.ray(*pixel)
        place = self.drag.start
        # Where the line of sight meets the plane through the node facing the eye.
        at = origin + ((place - origin) @ direction) * direction
        step = self.drag.to(at)
        rows = document.mesh.shells()[step.elements]
        points = document.mesh.points
        shapes = []
        for row, index in zip(rows, step.index, strict=True):
            corners = row[row >= 0]
            polygon = points[corners].copy()
            polygon[corners == self.drag.node] = step.point
            shapes.append((polygon, 0 if index >= 0.5 else 1 if index >= 0 else 2))
        stage.drag_shape = shapes
        stage.hover_text = f"worst {self.drag.before.min():.2f} → {step.index.min():.2f}" + (
            "" if step.allowed else " · an element would turn over"
        )
        self._last = step.point
        stage.update()

    def drag_end(self, keep: bool) -> None:
        drag, self.drag = self.drag, None
        stage = self.window.stage
        moved = bool(stage.drag_shape)
        stage.drag_shape, stage.hover_text = [], ""
        if drag is not None and keep and moved:
            document = self.window.session.document
            self.window.session.do(
                "quality.move_node", {"node": int(document.mesh.node_id[drag.node]), "to": [float(v) for v in self._last]}
            )
        stage.update()
