"""The cards of every stop."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
)

from kind_rivet.app.kit.card import Card, OperationCard
from kind_rivet.app.kit.divisions import DivisionsCard
from kind_rivet.app.kit.form import NumberField
from kind_rivet.app.kit.looking import MeasureCard, ViewsCard
from kind_rivet.app.kit.meshing import mesh_tools
from kind_rivet.app.kit.preparing import FaultsCard, RevisionCard
from kind_rivet.app.kit.tools import part_tools, prepare_tools
from kind_rivet.app.kit.walls import ProofCard, wall_tools
from kind_rivet.app.theme import number
from kind_rivet.core.document.document import Document
from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.first_look import suggested_size, suits
from kind_rivet.core.operations import all_operations
from kind_rivet.core.quality.limits import LABELS
from kind_rivet.core.quality.shell_metrics import METRICS
from kind_rivet.core.words import counted

if TYPE_CHECKING:
    from kind_rivet.app.window import MainWindow


class OpenCard(Card):
    def __init__(self, window: MainWindow) -> None:
        super().__init__(
            window, "Open a part", "STEP, IGES or BREP with names, colours and units; STL, OBJ or PLY facets; VTU or Exodus meshes."
        )
        button = QPushButton("Choose a file …")
        button.clicked.connect(window.choose_part)
        self.rows.addWidget(button)
        demo = QPushButton("Open the sample tray")
        demo.setToolTip("The cargo-bike cradle tray that comes with the program")
        demo.clicked.connect(window.open_sample)
        self.rows.addWidget(demo)


def mesh_words(document: Document) -> str:
    """A mesh that came without bodies, at first look."""
    mesh, q = document.mesh, document.quality
    x, y, z = np.ptp(mesh.points, axis=0)
    counts = ", ".join(counted(n, kind) for kind, n in mesh.counts().items())
    words = f"<b>{document.name}</b>, a mesh without geometry<br>{x:.4g} × {y:.4g} × {z:.4g} {document.units}, {number(mesh.nodes)} nodes<br>{counts}"
    if mesh.is_shell.any():
        words += f"<br>Usual side: {document.choices.size:.3g} {document.units}; index {q.mesh_index:.1f}, {number(len(q.failing))} failing"
        words += "<br><i>Faces from a mesh</i> lets it be divided and meshed again; <i>Repair</i> in Quality mends what fails."
    return words


class FirstLookCard(Card):
    """Bodies, sizes, walls, holes, the suggested element size."""

    def __init__(self, window: MainWindow) -> None:
        super().__init__(window, "First look")
        self.words = QLabel()
        self.words.setWordWrap(True)
        self.words.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.rows.addWidget(self.words)
        self.table = QTableWidget(0, 3)
        self.table.setHorizontalHeaderLabels(["Hole", "Count", "Body"])
        self.table.verticalHeader().hide()
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.table.setSelectionBehavior(QTableWidget.SelectionBehavior.SelectRows)
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        self.table.setMinimumHeight(170)
        self.table.cellClicked.connect(self._choose)
        self.rows.addWidget(self.table)
        self.groups: list[tuple[int, list[int]]] = []

    def refresh(self) -> None:
        document = self.window_.session.shown
        lines = []
        self.groups = []
        rows = []
        for body in document.bodies:
            x, y, z = body.shape.box[1] - body.shape.box[0]
            kind, reason = suits(body.shape, body.walls, body.thin_share, body.form)
            walls = ", ".join(f"{t:g} mm ({100 * s:.0f} %)" for t, s in body.walls[:4] if s > 0.01)
            size = suggested_size(body.shape, body.walls, body.holes)
            lines.append(
                f"<b>{body.name}</b><br>{x:.4g} × {y:.4g} × {z:.4g} {document.units}, {len(body.shape.faces)} faces<br>Walls: {walls or 'none found'}<br>"
                f"{kind.capitalize()} suit it: {reason}.<br>Suggested size: <b>{size:g} {document.units}</b>"
            )
            table: dict[tuple[str, float, float], list[int]] = {}
            for k, h in enumerate(body.holes):
                table.setdefault((h.kind, round(h.diameter, 3), round(h.length, 2)), []).append(k)
            for (shape, diameter, length), members in sorted(table.items(), key=lambda r: r[0][1]):
                rows.append((f"Ø {diameter:g}" if shape == "round" else f"cut-out {length:g}", len(members), body.name))
                self.groups.append((body.key, members))
        if not document.bodies and document.mesh.elements:
            lines.append(mesh_words(document))
        self.words.setText("<br><br>".join(lines) or "Nothing is open yet.")
        self.table.setRowCount(len(rows))
        for r, row in enumerate(rows):
            for c, text in enumerate(row):
                self.table.setItem(r, c, QTableWidgetItem(str(text)))
        self.table.setVisible(bool(rows))

    def _choose(self, row: int, _: int) -> None:
        body, members = self.groups[row]
        self.window_.set_lens("hole")
        self.window_.selection.set("hole", [(body, k) for k in members])


class LeftOutCard(Card):
    """The holes left out; each can be taken back."""

    lens = "hole"

    def __init__(self, window: MainWindow) -> None:
        super().__init__(window, "Single holes", "Choose a round hole in the Stage to leave it out; take holes back from the list.")
        line = QHBoxLayout()
        out = QPushButton("Leave out chosen")
        out.clicked.connect(lambda: self._leave(False))
        point = QPushButton("… with hard point")
        point.clicked.connect(lambda: self._leave(True))
        line.addWidget(out)
        line.addWidget(point)
        self.rows.addLayout(line)
        self.list = QListWidget()
        self.list.setMinimumHeight(110)
        self.rows.addWidget(self.list)
        back = QPushButton("Take back")
        back.clicked.connect(self._back)
        self.rows.addWidget(back)

    def refresh(self) -> None:
        document = self.window_.session.shown
        self.list.clear()
        for h in document.left_out:
            item = QListWidgetItem(
                f"Ø {h.diameter:g} at ({h.centre[0]:.4g}, {h.centre[1]:.4g}, {h.centre[2]:.4g})" + (" · hard point" if h.hard_point else "")
            )
            item.setData(Qt.ItemDataRole.UserRole, (h.body, h.centre))
            self.list.addItem(item)

    def _leave(self, hard: bool) -> None:
        document = self.window_.session.document
        picked = self.window_.selection.items if self.window_.selection.kind == "hole" else []
        if not picked:
            self.window_.say("No hole is chosen. Click a round hole in the Stage first.", "problem")
            return
        body, k = picked[0]
        self.window_.session.do("prepare.leave_out_hole", {"body": body, "centre": document.body(body).holes[k].centre, "hard_point": hard})

    def _back(self) -> None:
        item = self.list.currentItem() or (self.list.item(0) if self.list.count() else None)
        if item is not None:
            body, centre = item.data(Qt.ItemDataRole.UserRole)
            self.window_.session.do("prepare.take_back", {"body": body, "centre": centre})


class MeshCard(OperationCard):
    """Shell meshing with quick steps finer and coarser and an estimate beforehand."""

    def __init__(self, window: MainWindow) -> None:
        super().__init__(window, all_operations()["mesh.shells"], preset=lambda d: {"size": d.choices.size or 5.0}, skip={"bodies"})
        steps = QHBoxLayout()
        for text, factor, tip in (("Finer", 1 / 1.25, "A fifth finer"), ("Coarser", 1.25, "A quarter coarser")):
            b = QPushButton(text)
            b.setToolTip(tip)
            b.clicked.connect(lambda _=False, f=factor: self._step(f))
            steps.addWidget(b)
        self.rows.insertLayout(2, steps)
        self.guess = QLabel()
        self.guess.setObjectName("muted")
        self.guess.setWordWrap(True)
        self.rows.insertWidget(3, self.guess)

    def _step(self, factor: float) -> None:
        field = self.form.fields["size"]
        assert isinstance(field, NumberField)
        value = field.value()
        if value:
            field.setText(f"{float(f'{value * factor:.2g}'):g}")
            self._edited()
            self.refresh()

    def refresh(self) -> None:
        super().refresh()
        field = self.form.fields["size"]
        assert isinstance(field, NumberField)
        size = field.value()
        area = sum(s.area for s in self.window_.session.document.sheets.values())
        self.guess.setText(
            f"About {number(round(area / size**2))} elements and {number(round(6 * area / size**2))} equations expected."
            if size and size > 0 and area
            else "Extract midsurfaces first."
            if not area
            else ""
        )


class ColourCard(Card):
    """Colours by index, a metric, thickness or part."""

    def __init__(self, window: MainWindow) -> None:
        super().__init__(window, "Colour by", "Index: sound, uneasy and failing elements; a metric: pale to deep.")
        self.combo = QComboBox()
        self.combo.setAccessibleName("Colour by")
        self.combo.addItem("Quality index", "index")
        for m in METRICS:
            self.combo.addItem(LABELS[m][0], m)
        self.combo.addItem("Thickness", "thickness")
        self.combo.addItem("Off the middle", "offset")
        self.combo.addItem("Part", "part")
        self.combo.activated.connect(self._chosen)
        self.rows.addWidget(self.combo)
        self.words = QLabel()
        self.words.setWordWrap(True)
        self.rows.addWidget(self.words)

    def open(self) -> None:
        super().open()
        self._chosen()

    def _chosen(self) -> None:
        self.window_.set_colour(self.combo.currentData())
        self.refresh()

    def refresh(self) -> None:
        q = self.window_.session.shown.quality
        name = self.combo.currentData()
        self.words.setText(LABELS[name][2] if name in LABELS else "")
        if self.combo.currentData() == "index":
            grade = np.bincount(np.maximum(q.grade, 0)[q.grade >= 0], minlength=3)
            self.words.setText(
                f"Index {q.mesh_index:.1f}: {number(int(grade[0]))} sound, {number(int(grade[1]))} uneasy, {number(int(grade[2]))} failing. Worst {q.worst:.2f}."
            )


class WorklistCard(Card):
    """Failing (then uneasy) elements, worst first."""

    lens = "element"

    def __init__(self, window: MainWindow) -> None:
        super().__init__(window, "Worklist", "The worst elements first; N goes to the next.")
        self.list = QListWidget()
        self.list.setMinimumHeight(150)
        self.list.currentRowChanged.connect(self._go)
        self.rows.addWidget(self.list)
        line = QHBoxLayout()
        following = QPushButton("Next (N)")
        following.clicked.connect(self.next)
        fix = QPushButton("Optimise here")
        fix.setToolTip("Optimise this element and its ring")
        fix.clicked.connect(self._fix)
        line.addWidget(following)
        line.addWidget(fix)
        self.rows.addLayout(line)
        self._mesh: object = None
        self.elements: list[int] = []

    def refresh(self) -> None:
        document = self.window_.session.shown
        if document.mesh is self._mesh:
            return
        self._mesh = document.mesh
        q = document.quality
        order = np.argsort(np.nan_to_num(q.index, nan=2.0), kind="stable")[:60]
        order = order[np.nan_to_num(q.index[order], nan=2.0) < 0.5]
        self.elements = [int(document.mesh.element_id[e]) for e in order]
        self.list.blockSignals(True)
        self.list.clear()
        for e in order:
            metric = METRICS[q.worst_metric[e]]
            self.list.addItem(
                f"{'failing' if q.index[e] < 0 else 'uneasy'}  {q.index[e]:.2f}  element {document.mesh.element_id[e]}  {LABELS[metric][0].lower()} {q.values[e, q.worst_metric[e]]:.3g}"
            )
        self.list.blockSignals(False)

    def next(self) -> None:
        if self.list.count():
            self.list.setCurrentRow((self.list.currentRow() + 1) % self.list.count())

    def _go(self, row: int) -> None:
        if 0 <= row < len(self.elements):
            self.window_.set_lens("element")
            self.window_.selection.set("element", [self.elements[row]])
            self.window_.frame_element(self.elements[row])

    def _fix(self) -> None:
        row = self.list.currentRow()
        if 0 <= row < len(self.elements):
            self.window_.session.do("quality.optimise", {"scope": "elements", "numbers": [self.elements[row]]})


class OptimiseCard(OperationCard):
    """Optimise the whole mesh, the failing elements, or what is chosen: choosing nodes or elements switches to them."""

    def __init__(self, window: MainWindow) -> None:
        super().__init__(
            window, all_operations()["quality.optimise"], picks=self._picked, hint="Choose nodes or elements to optimise only those."
        )
        self._kind = ""

    def _picked(self, document: Document) -> dict[str, Any]:
        selection = self.window_.selection
        return {"numbers": selection.items} if selection.kind in ("node", "element") else {}

    def refresh(self) -> None:
        selection = self.window_.selection
        kind = selection.kind + "s" if selection.kind in ("node", "element") and selection.items else ""
        if kind != self._kind:
            self._kind = kind
            self.form.set_values({"scope": kind or "all"})
        super().refresh()


class DragCard(Card):
    lens = "node"

    def __init__(self, window: MainWindow) -> None:
        super().__init__(
            window,
            "Drag nodes",
            "While this card is open, drag a node in the Stage: it stays on its face, and the elements it touches show their grade at once.",
        )
        self.words = QLabel("Grasp a node to begin.")
        self.words.setWordWrap(True)
        self.rows.addWidget(self.words)

    def open(self) -> None:
        super().open()
        self.window_.stage.dragging_nodes = True

    def fold(self) -> None:
        super().fold()
        self.window_.stage.dragging_nodes = False


class MakeSetCard(OperationCard):
    """A set from whatever is chosen: nodes, elements, holes, rings, faces."""

    def __init__(self, window: MainWindow) -> None:
        super().__init__(
            window,
            all_operations()["sets.make"],
            picks=self._picked,
            skip={"rule", "body", "number", "kind"},
            hint="Holes, rings and faces become live sets: they find their members again after every remesh. Alt-drag draws a box.",
        )
        name = self.form.fields["name"]
        name.setPlaceholderText("Name of the set")  # type: ignore[attr-defined]

    def _picked(self, document: Document) -> dict[str, Any]:
        selection = self.window_.selection
        kind, items = selection.kind, selection.items
        if kind in ("node", "element"):
            return {"kind": kind, "numbers": items}
        if kind in ("hole", "ring") and len(items) == 1:
            body, k = items[0]
            holes = document.mesh_holes.get(body, ())
            if k < len(holes):
                return {"kind": "node" if kind == "hole" else "element", "rule": kind, "body": body, "centre": holes[k].centre}
        if kind == "face" and len(items) == 1:
            return {"kind": "element", "rule": "face", "body": items[0][0], "number": items[0][1]}
        if kind in ("hole", "ring", "face"):
            from kind_rivet.core.document.document import Rule
            from kind_rivet.core.document.live_sets import members

            lots = []
            for body, k in items:
                holes = document.mesh_holes.get(body, ())
                rule = Rule("face", body, number=k) if kind == "face" else Rule(kind, body, holes[k].centre)
                lots.append(members(document, rule, "node" if kind == "hole" else "element"))
            numbers = [int(n) for n in np.unique(np.concatenate(lots))] if lots else []
            return {"kind": "node" if kind == "hole" else "element", "numbers": numbers}
        return {"kind": "node", "numbers": []}


class DeliverCard(Card):
    """The gate and the files."""

    def __init__(self, window: MainWindow) -> None:
        super().__init__(
            window, "Hand over", "The gate is read first; then mesh.vtu, mesh.exo, sets.json and report.json are written into a folder."
        )
        self.words = QLabel()
        self.words.setWordWrap(True)
        self.rows.addWidget(self.words)
        button = QPushButton("Deliver into a folder …")
        button.setObjectName("keep")
        button.clicked.connect(self._choose)
        self.rows.addWidget(button)

    def refresh(self) -> None:
        from kind_rivet.core.checks.gate import BLOCKING

        findings = self.window_.findings()
        bad = [f.text for f in findings if f.grade == BLOCKING]
        self.words.setText(
            ("The gate is closed:\n" + "\n".join(bad))
            if bad
            else f"The gate is open{f'; {len(findings)} things worth a look' if findings else ''}."
        )

    def _choose(self) -> None:
        folder = QFileDialog.getExistingDirectory(self, "Folder for the files")
        if folder:
            self.deliver(Path(folder))

    def deliver(self, folder: Path) -> None:
        from kind_rivet.core.files.deliver import deliver

        try:
            deliver(self.window_.session.document, folder, {}, [])
        except Refused as refused:
            self.window_.say(str(refused), "problem")
            return
        self.window_.say(f"Wrote mesh.vtu, mesh.exo, sets.json and report.json into {folder}.", "done")


def make_cards(window: MainWindow) -> dict[str, list[Card]]:
    """All cards by stop."""
    ops = all_operations()
    sel = window.selection

    def edges(document: Document) -> dict[str, Any]:
        items = sel.items if sel.kind == "edge" else []
        body = items[0][0] if items else 0
        return {"body": body, "edges": [e for b, e in items if b == body]}

    def nodes(document: Document) -> dict[str, Any]:
        items = sel.items if sel.kind == "node" else []
        return {"start": items[0] if items else -1, "end": items[1] if len(items) > 1 else -1}

    def one_node(document: Document) -> dict[str, Any]:
        return {"node": sel.items[0] if sel.kind == "node" and sel.items else -1}

    def elements(document: Document) -> dict[str, Any]:
        return {"elements": sel.items if sel.kind == "element" else []}

    def holes(document: Document) -> dict[str, Any]:
        items = sel.items if sel.kind == "hole" else []
        known = document.mesh_holes
        return {"holes": [(b, *known[b][k].centre) for b, k in items if b in known and k < len(known[b])]}

    def bodies(document: Document) -> dict[str, Any]:
        return {"bodies": sel.items if sel.kind == "body" else []}

    def solid(document: Document) -> dict[str, Any]:
        chosen = [b for b in sel.items if sel.kind == "body"] or [b.key for b in document.bodies if b.shape.solid]
        return {"body": chosen[-1]} if chosen else {}

    materials = {"material": [m.name for m in window.session.document.materials]}
    return {
        "part": [OpenCard(window), FirstLookCard(window), MeasureCard(window), ViewsCard(window), *part_tools(window), OperationCard(window, ops["part.faces_from_mesh"])],
        "prepare": [
            FaultsCard(window), OperationCard(window, ops["prepare.leave_out_holes"], skip={"bodies"}), LeftOutCard(window),
            *prepare_tools(window), RevisionCard(window),
        ],
        "midsurface": [OperationCard(window, ops["midsurface.extract"], picks=bodies, lens="body", hint="Nothing chosen means all bodies."), ProofCard(window), *wall_tools(window)],
        "mesh": [MeshCard(window), DivisionsCard(window), *mesh_tools(window), OperationCard(window, ops["mesh.to_quality"]), OperationCard(window, ops["mesh.mid_sides"]), OperationCard(window, ops["mesh.update"]),
            OperationCard(window, ops["mesh.refresh_thickness"], picks=solid, lens="body", skip={"body", "elements"}, hint="Choose the solid; all shells of it are measured.")],
        "mixed": [
            OperationCard(window, ops["mixed.material"], picks=bodies, lens="body", choices=materials, hint="Nothing chosen means all bodies."),
            OperationCard(window, ops["mixed.beams_along"], picks=edges, lens="edge", choices=materials, skip={"body", "edges"}),
            OperationCard(window, ops["mixed.beam_between"], picks=nodes, lens="node", choices=materials, skip={"start", "end"}, hint="Choose two nodes (Ctrl adds the second)."),
            OperationCard(window, ops["mixed.layers"], picks=elements, lens="element", choices=materials, hint="The arrow shows the direction before anything grows; F flips it."),
            OperationCard(window, ops["mixed.spiders"], picks=holes, lens="hole", hint="Each chosen hole gets its own spider (Ctrl adds holes)."),
            OperationCard(window, ops["mixed.mass"], picks=one_node, lens="node", skip={"node"}),
            OperationCard(window, ops["mixed.merge"], hint="The places are marked in the Stage before anything is merged."),
        ],
        "quality": [ColourCard(window), WorklistCard(window), OperationCard(window, ops["quality.repair"], hint="Borders and rings stay; a place is changed only where fewer shells fail then, or fewer neighbours are of unlike size."), OptimiseCard(window), DragCard(window)],
        "deliver": [MakeSetCard(window), OperationCard(window, ops["sets.usual"]), DeliverCard(window)],
    }  # fmt: skip
