"""Forms made from the parameters of an operation."""

from __future__ import annotations

import types
import typing
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent, QWheelEvent
from PySide6.QtWidgets import QCheckBox, QComboBox, QFormLayout, QHBoxLayout, QLabel, QLineEdit, QWidget

from kind_rivet.core.operations.registry import Parameters

TRIPLE = tuple[float, float, float]
NOUGHT = "0: "  # begins descriptions that say what 0, as which a number begins, stands for


class NumberField(QLineEdit):
    """A number that steps with the arrow keys and the wheel; empty or nonsense reads as None.

    `nought`: what 0 stands for, shown instead of it; then empty reads as 0.
    """

    stepped = Signal()

    def __init__(self, value: float, whole: bool = False, nought: str = "") -> None:
        super().__init__()
        self.whole, self.nought = whole, nought
        self.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.setPlaceholderText(nought)
        self.set_value(value)

    def set_value(self, value: float) -> None:
        self.setText("" if value == 0 and self.nought else f"{value:g}")

    def value(self) -> float | int | None:
        if self.nought and not self.text().strip():
            return 0
        try:
            value = float(self.text().replace(",", ".").replace("\u2009", ""))
        except ValueError:
            return None
        return int(value) if self.whole and value.is_integer() else value

    def step(self, up: bool) -> None:
        value = self.value()
        if value is None:
            return
        if self.whole:
            new: float = value + (1 if up else -1)
        else:
            new = float(f"{value * (1.1 if up else 1 / 1.1):.3g}") if value else (1.0 if up else -1.0)
        self.set_value(new)
        self.stepped.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self.step(event.key() == Qt.Key.Key_Up)
        else:
            super().keyPressEvent(event)

    def wheelEvent(self, event: QWheelEvent) -> None:
        if self.hasFocus():
            self.step(event.angleDelta().y() > 0)
        else:
            event.ignore()


class PointField(QLineEdit):
    """Three coordinates, typed as `x, y, z` or taken from what is chosen in the Stage."""

    def __init__(self, value: tuple[float, float, float] | None) -> None:
        super().__init__()
        self.setPlaceholderText("x, y, z")
        if value is not None:
            self.set_value(value)

    def set_value(self, value: tuple[float, ...]) -> None:
        self.setText(", ".join(f"{v:.6g}" for v in value[:3]))

    def value(self) -> tuple[float, ...] | str:
        try:
            numbers = tuple(float(w) for w in self.text().replace(";", ",").replace("\u2009", "").split(","))
        except ValueError:
            return self.text()
        return numbers if len(numbers) == 3 else self.text()


class Form(QWidget):
    """One row per plain field of a parameter set; `edited` after every change."""

    edited = Signal()

    def __init__(
        self, parameters: type[Parameters], skip: set[str], units: str = "mm", choices: dict[str, list[str]] | None = None
    ) -> None:
        super().__init__()
        self.fields: dict[str, QWidget] = {}
        rows = QFormLayout(self)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(6)
        for name, info in parameters.model_fields.items():
            if name in skip:
                continue
            default = None if info.is_required() else info.default
            about = info.description or ""
            nought = about.removeprefix(NOUGHT) if default == 0 and about.startswith(NOUGHT) else ""
            widget = self._widget(name, info.annotation, default, choices or {}, nought)
            if widget is None:
                continue
            widget.setToolTip(about)
            widget.setAccessibleName(info.title or name)
            widget.setObjectName(name)
            self.fields[name] = widget
            extra = info.json_schema_extra
            label = info.title or name.replace("_", " ").capitalize()
            if isinstance(widget, QCheckBox):
                widget.setText(label)
                rows.addRow(widget)
                continue
            if isinstance(extra, dict) and extra.get("unit") == "length":
                line = QWidget()
                box = QHBoxLayout(line)
                box.setContentsMargins(0, 0, 0, 0)
                box.addWidget(widget)
                unit = QLabel(units)
                unit.setObjectName("muted")
                box.addWidget(unit)
                rows.addRow(label, line)
            else:
                rows.addRow(label, widget)

    def _widget(self, name: str, kind: Any, default: Any, choices: dict[str, list[str]], nought: str) -> QWidget | None:
        if name in choices:
            combo = QComboBox()
            combo.addItems(choices[name])
            if default in choices[name]:
                combo.setCurrentText(str(default))
            combo.currentTextChanged.connect(self.edited)
            return combo
        origin = typing.get_origin(kind)
        if origin is typing.Literal:
            combo = QComboBox()
            combo.addItems([str(a) for a in typing.get_args(kind) if a != ""])
            combo.setCurrentText(str(default))
            combo.currentTextChanged.connect(self.edited)
            return combo
        if kind is bool:
            box = QCheckBox()
            box.setChecked(bool(default))
            box.toggled.connect(self.edited)
            return box
        if kind in (float, int):
            field = NumberField(default if default is not None else 0, kind is int, nought)
            field.editingFinished.connect(self.edited)
            field.stepped.connect(self.edited)
            return field
        if kind is str:
            line = QLineEdit(default or "")
            line.textEdited.connect(lambda _: self.edited.emit())
            return line
        if kind == TRIPLE:
            point = PointField(default)
            point.editingFinished.connect(self.edited)
            return point
        if origin in (tuple, types.UnionType):
            return None  # filled from what is chosen in the Stage
        return None

    def values(self) -> dict[str, Any]:
        out: dict[str, Any] = {}
        for name, widget in self.fields.items():
            if isinstance(widget, NumberField):
                value = widget.value()
                out[name] = value if value is not None else widget.text()
            elif isinstance(widget, PointField):
                if widget.text().strip():
                    out[name] = widget.value()
            elif isinstance(widget, QComboBox):
                out[name] = widget.currentText()
            elif isinstance(widget, QCheckBox):
                out[name] = widget.isChecked()
            elif isinstance(widget, QLineEdit):
                out[name] = widget.text()
        return out

    def set_values(self, values: dict[str, Any]) -> None:
        """Fill in values without telling anyone."""
        for name, value in values.items():
            widget = self.fields.get(name)
            if widget is None:
                continue
            widget.blockSignals(True)
            if isinstance(widget, QComboBox):
                widget.setCurrentText(str(value))
            elif isinstance(widget, QCheckBox):
                widget.setChecked(bool(value))
            elif isinstance(widget, (NumberField, PointField)):
                widget.set_value(value)
            elif isinstance(widget, QLineEdit):
                widget.setText(str(value))
            widget.blockSignals(False)
