"""The Route: seven stops with their state and a short figure, and Contents under it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QColor, QIcon, QPixmap
from PySide6.QtWidgets import QButtonGroup, QFrame, QHeaderView, QLabel, QMenu, QPushButton, QTreeWidget, QTreeWidgetItem, QVBoxLayout

from kind_rivet.app.theme import number
from kind_rivet.core.document.document import TINTS, Document

if TYPE_CHECKING:
    from kind_rivet.app.window import MainWindow

STOPS = (
    ("part", "Part"),
    ("prepare", "Prepare"),
    ("midsurface", "Midsurface"),
    ("mesh", "Mesh"),
    ("mixed", "Mixed"),
    ("quality", "Quality"),
    ("deliver", "Deliver"),
)


def figures(document: Document) -> dict[str, tuple[str, str]]:
    """State (nothing, done, stale, attention) and short figure of every stop."""
    out = {key: ("nothing", "") for key, _ in STOPS}
    if document.bodies:
        n = len(document.bodies)
        out["part"] = ("done", f"{n} {'body' if n == 1 else 'bodies'}")
    elif document.mesh.elements:
        out["part"] = ("done", "a mesh, no body")
    prepared = [
        (len(document.left_out), "left out"), (len(document.looked_past), "looked past"), (len(document.splits), "split"),
        (len(document.hard_points), "hard"), (len(document.joined), "joined"),
    ]  # fmt: skip
    if any(n for n, _ in prepared):
        out["prepare"] = ("done", ", ".join(f"{n} {words}" for n, words in prepared if n)[:40])
    if document.faults and not any(n for n, _ in prepared):
        out["prepare"] = ("attention", f"{len(document.faults)} findings")
    stale = " ".join(document.stale)
    if document.sheets:
        walls = sum(len(s.shape.faces) for s in document.sheets.values())
        kinds = [f"{t:.3g}" for t in sorted({t for s in document.sheets.values() for t in s.thicknesses})]
        out["midsurface"] = (
            "stale" if "midsurface" in stale else "done",
            f"{walls} walls, {'–'.join(dict.fromkeys((kinds[0], kinds[-1])))} {document.units}"
            if kinds and kinds[-1] != "0"
            else f"{walls} walls, no thickness",
        )
    mesh = document.mesh
    if mesh.elements:
        q = document.quality
        out["mesh"] = ("stale" if "shells" in stale else "done", f"{number(int(mesh.is_shell.sum()))} shells at {document.choices.size:g}")
        others = mesh.elements - int(mesh.is_shell.sum())
        if others or document.spiders or document.masses:
            out["mixed"] = ("done", f"{others} el, {len(document.spiders)} spiders")
        out["quality"] = ("attention" if len(q.failing) else "done", f"index {q.mesh_index:.1f}, {len(q.failing)} failing")
    if document.sets:
        out["deliver"] = ("stale" if "set " in stale else "done", f"{len(document.sets)} sets")
    return out


MARKS = {"nothing": "○", "done": "●", "stale": "◐", "attention": "▲"}


class Route(QFrame):
    def __init__(self, window: MainWindow) -> None:
        super().__init__()
        self.window_ = window
        rows = QVBoxLayout(self)
        rows.setContentsMargins(8, 8, 4, 8)
        rows.setSpacing(2)
        self.group = QButtonGroup(self)
        self.buttons: dict[str, QPushButton] = {}
        for k, (key, title) in enumerate(STOPS):
            b = QPushButton()
            b.setObjectName("stop")
            b.setCheckable(True)
            b.setAccessibleName(title)
            b.setToolTip(f"{title} (key {k + 1})")
            b.clicked.connect(lambda _=False, s=key: window.go(s))
            self.group.addButton(b)
            self.buttons[key] = b
            rows.addWidget(b)
        contents = QLabel("Contents")
        contents.setObjectName("title")
        contents.setContentsMargins(8, 12, 0, 2)
        rows.addWidget(contents)
        self.tree = QTreeWidget()
        self.tree.setHeaderHidden(True)
        self.tree.setColumnCount(2)
        self.tree.setIndentation(2)
        self.tree.header().setStretchLastSection(False)
        self.tree.header().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.tree.header().setSectionResizeMode(1, QHeaderView.ResizeMode.ResizeToContents)
        self.tree.setSelectionMode(QTreeWidget.SelectionMode.ExtendedSelection)
        self.tree.setEditTriggers(QTreeWidget.EditTrigger.DoubleClicked | QTreeWidget.EditTrigger.EditKeyPressed)
        self.tree.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.tree.customContextMenuRequested.connect(self._menu)
        self.tree.setToolTip("Double click renames; right click for colours, only this, remove")
        self.tree.itemChanged.connect(self._ticked)
        self.tree.itemClicked.connect(self._clicked)
        rows.addWidget(self.tree, 1)

    def refresh(self) -> None:
        document = self.window_.session.shown
        state = figures(document)
        for k, (key, title) in enumerate(STOPS):
            mark, figure = state[key]
            self.buttons[key].setText(f"{MARKS[mark]}  {k + 1}  {title}\n          {figure or '—'}")
        self.tree.blockSignals(True)
        self.tree.clear()
        for body in document.bodies:
            material = document.body_material.get(body.key, "")
            self._add(body.name, material, body.colour, f"body:{body.key}")
        for part in document.parts:
            count = int((document.mesh.part == part.key).sum())
            self._add(f"{part.name} ({part.kind})", f"{number(count)} el", part.colour, f"part:{part.key}")
        for s in document.sets:
            self._add(s.name, f"{len(s.ids)} {'n' if s.kind == 'node' else 'el'}", s.colour, f"set:{s.name}", tick=False)
        self.tree.blockSignals(False)

    def _add(self, name: str, figure: str, colour: str, key: str, tick: bool = True) -> None:
        item = QTreeWidgetItem([name, figure])
        swatch = QPixmap(10, 10)
        swatch.fill(QColor(colour))
        item.setIcon(0, QIcon(swatch))
        item.setToolTip(0, name)
        item.setData(0, Qt.ItemDataRole.UserRole, key)
        if tick:
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsEditable)
            item.setCheckState(0, Qt.CheckState.Unchecked if key in self.window_.look.hidden else Qt.CheckState.Checked)
        self.tree.addTopLevelItem(item)

    def _ticked(self, item: QTreeWidgetItem) -> None:
        key = item.data(0, Qt.ItemDataRole.UserRole)
        kind, _, number_ = key.partition(":")
        document = self.window_.session.document
        if kind == "body" and any(b.key == int(number_) and b.name != item.text(0) for b in document.bodies):
            self.window_.session.do("part.rename", {"body": int(number_), "name": item.text(0).strip()})
            return
        if item.checkState(0) == Qt.CheckState.Checked:
            self.window_.look.hidden.discard(key)
        else:
            self.window_.look.hidden.add(key)
        self.window_.redraw()

    def _clicked(self, item: QTreeWidgetItem) -> None:
        kind, _, name = item.data(0, Qt.ItemDataRole.UserRole).partition(":")
        document = self.window_.session.shown
        if kind == "set":
            chosen = next(s for s in document.sets if s.name == name)
            self.window_.set_lens(chosen.kind)
            self.window_.selection.set(chosen.kind, [int(i) for i in chosen.ids])
        elif kind == "body":
            self.window_.set_lens("body")
            self.window_.selection.set("body", self._bodies())
        elif kind == "part":
            self.window_.set_lens("element")
            self.window_.selection.set("element", [int(e) for e in document.mesh.element_id[document.mesh.part == int(name)]])

    def _bodies(self) -> list[int]:
        """Keys of the bodies chosen in Contents."""
        names = [i.data(0, Qt.ItemDataRole.UserRole) for i in self.tree.selectedItems()]
        return [int(n.partition(":")[2]) for n in names if n.startswith("body:")]

    def menu_for(self, bodies: list[int]) -> QMenu:
        """What can be done with bodies: only these, all, colours, removal."""
        menu = QMenu(self)
        window = self.window_
        window.selection.set("body", bodies)
        menu.addAction("Show only this", window.only_chosen)
        menu.addAction("Show everything", window.show_all)
        colours = menu.addMenu("Colour")
        for tint in TINTS:
            swatch = QPixmap(14, 14)
            swatch.fill(QColor(tint))
            colours.addAction(QIcon(swatch), tint, lambda t=tint: window.session.do("part.colour", {"bodies": bodies, "colour": t}))
        menu.addSeparator()
        menu.addAction("Remove", lambda: window.session.do("part.remove", {"bodies": bodies}))
        return menu

    def _menu(self, at: QPoint) -> None:
        bodies = self._bodies()
        if bodies:
            self.menu_for(bodies).popup(self.tree.viewport().mapToGlobal(at))

    def _chosen(self) -> list[int]:
        """Bodies chosen in Contents, else in the Stage; a word when there are none."""
        selection = self.window_.selection
        bodies = self._bodies() or (list(selection.items) if selection.kind == "body" else [])
        if not bodies:
            self.window_.say("No body is chosen. Choose one in Contents or in the Stage first.", "problem")
        return bodies

    def rename(self) -> None:
        """Edit the name of the chosen body in its line."""
        for body in self._chosen()[:1]:
            for k in range(self.tree.topLevelItemCount()):
                item = self.tree.topLevelItem(k)
                if item is not None and item.data(0, Qt.ItemDataRole.UserRole) == f"body:{body}":
                    self.tree.editItem(item, 0)

    def pop_menu(self) -> None:
        bodies = self._chosen()
        if bodies:
            self.menu_for(bodies).popup(self.tree.mapToGlobal(QPoint(20, 20)))

    def remove(self) -> None:
        bodies = self._chosen()
        if bodies:
            self.window_.session.do("part.remove", {"bodies": bodies})
