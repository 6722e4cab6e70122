"""The Stage: VTK rendered off-screen and painted as a picture, with beads, ghosts and labels over it."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from PySide6.QtCore import QPoint, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QBrush, QColor, QFont, QImage, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF, QResizeEvent, QWheelEvent
from PySide6.QtWidgets import QWidget
from vtkmodules.util.numpy_support import vtk_to_numpy
from vtkmodules.vtkCommonCore import vtkUnsignedCharArray
from vtkmodules.vtkRenderingCore import vtkActor, vtkLight, vtkRenderer
from vtkmodules.vtkRenderingOpenGL2 import vtkEGLRenderWindow

from kind_rivet.app.stage.camera import Camera
from kind_rivet.app.stage.picking import Picker
from kind_rivet.app.stage.selection import Selection
from kind_rivet.app.theme import COPPER, FOCUS, GRADE_COLOURS, INK, MUTED, PANEL, PAPER, STAGE, rgb
from kind_rivet.core.geometry.carriers import Floats

Bead = tuple[tuple[int, int], Floats, str, bool]  # (body, edge), point, text, set by hand


class StageView(QWidget):
    """Shows actors; reports hovering, clicks, bead changes and node drags."""

    hovered = Signal(object)
    picked = Signal(object, bool, bool)
    boxed = Signal(list, bool)
    bead_turned = Signal(tuple, int)
    drag_started = Signal(int)
    drag_moved = Signal(object)
    drag_ended = Signal(bool)
    grip_started = Signal(object)
    grip_moved = Signal(object, bool)
    grip_ended = Signal()

    def __init__(self, selection: Selection) -> None:
        super().__init__()
        self.setMinimumSize(320, 240)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        self.setAccessibleName("Stage")
        self.selection = selection
        self.picker: Picker | None = None
        self.window_vtk = vtkEGLRenderWindow()
        self.window_vtk.SetOffScreenRendering(1)
        self.window_vtk.SetMultiSamples(0)
        self.renderer = vtkRenderer()
        self.renderer.SetBackground(*rgb(STAGE))
        self.renderer.UseFXAAOn()
        self.window_vtk.AddRenderer(self.renderer)
        self.window_vtk.SetSize(640, 480)
        self.camera = Camera(self.renderer)
        self._light()
        self.image = QImage()
        self.dirty = True
        self.box: Floats | None = None
        self.lines: list[vtkActor] = []  # mesh lines, hidden while turning
        self.beads: list[Bead] = []
        self.grips: list[Any] = []  # things with a `place` that can be drawn along
        self.marks: list[Floats] = []  # dots: nodes that are to come
        self.labels: list[tuple[Floats, str, str]] = []  # point, text, colour
        self.ghost_lines: list[tuple[Floats, Floats]] = []  # from, to: arrows of what a tool is about to do
        self.legend: list[tuple[str, str]] = []  # colour, text
        self.hint = ""
        self.hover_text = ""
        self.hover_shape: list[Floats] = []
        self.drag_shape: list[tuple[Floats, int]] = []  # polygons of touched elements with their grade
        self.dragging_nodes = False
        self._pressed: QPoint | None = None
        self._last = QPoint()
        self._turning = self._boxing = self._node_drag = self._grip_drag = False
        self.view_changed: Callable[[], None] = lambda: None
        self._views: list[tuple[float, ...]] = []
        self.ghost_paths: list[Floats] = []  # copper lines: what a tool is about to do
        self.dotted: list[Floats] = []  # muted dotted lines: edges that are looked past
        self.coarse: list[tuple[vtkActor, vtkActor]] = []  # many facets, and what stands for them while the view turns

    def _light(self) -> None:
        light = vtkLight()
        light.SetLightTypeToHeadlight()
        light.SetPosition(0.3, 0.5, 1.0)
        self.renderer.AddLight(light)

    # -- contents ------------------------------------------------------------------
    def show_actors(
        self, actors: list[vtkActor], lines: list[vtkActor], box: Floats | None, coarse: list[tuple[vtkActor, vtkActor]] | None = None
    ) -> None:
        first = self.box is None and box is not None
        self.renderer.RemoveAllViewProps()
        for a in actors:
            self.renderer.AddActor(a)
        self.lines, self.coarse = lines, coarse or []
        for fine, rough in self.coarse:
            fine.VisibilityOn()
            rough.VisibilityOff()
            self.renderer.AddActor(rough)
        self.box = box
        if first:
            self.camera.look("oblique", box)
        self.renderer.ResetCameraClippingRange()
        self.refresh()

    def refresh(self) -> None:
        self.dirty = True
        self.update()

    def remember(self) -> None:
        """Keep the present view, so that it can be gone back to."""
        state = self.camera.state()
        if not self._views or self._views[-1] != state:
            self._views = [*self._views[-40:], state]

    def previous_view(self) -> None:
        if self._views:
            self.camera.restore(self._views.pop())
            self.refresh()

    def go_to_view(self, state: tuple[float, ...]) -> None:
        self.remember()
        self.camera.restore(state)
        self.refresh()

    def look(self, view: str) -> None:
        self.remember()
        self.camera.look(view, self.box)
        self.refresh()

    def fit(self, box: Floats | None = None) -> None:
        self.remember()
        self.camera.fit(box if box is not None else self.box)
        self.refresh()

    # -- painting --------------------------------------------------------------------
    def resizeEvent(self, event: QResizeEvent) -> None:
        ratio = self.devicePixelRatioF()
        self.window_vtk.SetSize(max(1, int(self.width() * ratio)), max(1, int(self.height() * ratio)))
        self.refresh()

    def _render(self) -> None:
        self.window_vtk.Render()
        w, h = self.window_vtk.GetSize()
        data = vtkUnsignedCharArray()
        self.window_vtk.GetRGBACharPixelData(0, 0, w - 1, h - 1, 0, data)
        pixels = np.ascontiguousarray(vtk_to_numpy(data).reshape(h, w, 4)[::-1])
        pixels[:, :, 3] = 255
        self.image = QImage(pixels.data, w, h, 4 * w, QImage.Format.Format_RGBX8888).copy()
        self.image.setDevicePixelRatio(self.devicePixelRatioF())
        self.dirty = False

    def paintEvent(self, event: QPaintEvent) -> None:
        if self.dirty:
            self._render()
        painter = QPainter(self)
        painter.drawImage(0, 0, self.image)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._paint_overlays(painter)
        painter.end()

    def _points(self, xyz: Floats) -> list[QPointF]:
        pixels, _ = self.camera.to_pixels(np.atleast_2d(xyz))
        ratio = self.devicePixelRatioF()
        return [QPointF(x / ratio, y / ratio) for x, y in pixels]

    def _paint_overlays(self, p: QPainter) -> None:
        for polygon, grade in self.drag_shape:
            p.setPen(QPen(QColor(INK), 1.4))
            colour = QColor(GRADE_COLOURS[grade])
            colour.setAlpha(190)
            p.setBrush(QBrush(colour, Qt.BrushStyle.SolidPattern if grade < 2 else Qt.BrushStyle.DiagCrossPattern))
            p.drawPolygon(QPolygonF(self._points(polygon)))
        p.setBrush(Qt.BrushStyle.NoBrush)
        for line in self.hover_shape:
            p.setPen(QPen(QColor(PAPER), 5, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
            p.drawPolyline(QPolygonF(self._points(line)))
            p.setPen(QPen(QColor(FOCUS), 2.5, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
            p.drawPolyline(QPolygonF(self._points(line)))
        for line in self.dotted:
            p.setPen(QPen(QColor(MUTED), 1.6, Qt.PenStyle.DotLine))
            p.drawPolyline(QPolygonF(self._points(line)))
        for line in self.ghost_paths:
            p.setPen(QPen(QColor(COPPER), 2.6, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
            p.drawPolyline(QPolygonF(self._points(line)))
        for a, b in self.ghost_lines:
            self._arrow(p, *self._points(np.array([a, b])))
        small = QFont(self.font())
        small.setPointSizeF(8.0)
        p.setFont(small)
        for _, at, count, hand in self.beads:
            self._bead(p, self._points(at)[0], count, hand)
        p.setPen(QPen(QColor(PANEL), 1))
        p.setBrush(QColor(COPPER))
        for mark in self.marks:
            p.drawEllipse(self._points(mark)[0], 3.5, 3.5)
        for grip in self.grips:
            self._grip(p, self._points(grip.place)[0])
        p.setBrush(Qt.BrushStyle.NoBrush)
        taken: list[QRectF] = []
        for point, text, tint in self.labels:  # tags make way for each other; what finds no place is only a dot
            spot = self._points(point)[0]
            size = QRectF(0, 0, p.fontMetrics().horizontalAdvance(text) + 12, p.fontMetrics().height() + 4)
            for dx, dy in ((10, -12), (10, 8), (-size.width() - 10, -12), (-size.width() - 10, 8), (10, -32)):
                box = size.translated(spot + QPointF(dx, dy))
                if not any(box.intersects(other) for other in taken):
                    taken.append(box)
                    self._tag(p, box.topLeft(), text, tint)
                    break
            else:
                p.setBrush(QColor(tint))
                p.setPen(Qt.PenStyle.NoPen)
                p.drawEllipse(spot, 3.0, 3.0)
                p.setBrush(Qt.BrushStyle.NoBrush)
        if self._boxing and self._pressed is not None:
            p.setPen(QPen(QColor(FOCUS), 1, Qt.PenStyle.DashLine))
            p.drawRect(QRectF(QPointF(self._pressed), QPointF(self._last)))
        if self.hover_text:
            self._tag(p, QPointF(self._last) + QPointF(16, 20), self.hover_text, INK)
        self._legend(p)
        if self.hint:
            p.setFont(self.font())
            p.setPen(QColor(INK))
            p.drawText(self.rect().adjusted(40, 0, -40, 0), Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, self.hint)

    def _arrow(self, p: QPainter, a: QPointF, b: QPointF) -> None:
        p.setPen(QPen(QColor(COPPER), 3))
        p.drawLine(a, b)
        d = np.array([b.x() - a.x(), b.y() - a.y()])
        n = float(np.linalg.norm(d)) or 1.0
        d /= n
        side = np.array([-d[1], d[0]])
        tip = np.array([b.x(), b.y()])
        p.setBrush(QColor(COPPER))
        p.drawPolygon(QPolygonF([b, QPointF(*(tip - 12 * d + 5 * side)), QPointF(*(tip - 12 * d - 5 * side))]))
        p.setBrush(Qt.BrushStyle.NoBrush)

    def _bead(self, p: QPainter, at: QPointF, text: str, hand: bool) -> None:
        width = max(20, 8 * len(text) + 8)
        box = QRectF(at.x() - width / 2, at.y() - 9, width, 18)
        p.setPen(QPen(QColor(COPPER if hand else INK), 1.6 if hand else 1.0))
        p.setBrush(QColor(PANEL))
        p.drawRoundedRect(box, 9, 9)
        p.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
        p.setBrush(Qt.BrushStyle.NoBrush)

    def _grip(self, p: QPainter, at: QPointF) -> None:
        p.setPen(QPen(QColor(PANEL), 1.5))
        p.setBrush(QColor(COPPER))
        p.drawPolygon(QPolygonF([at + QPointF(*d) for d in ((0, -8), (6, 0), (0, 8), (-6, 0))]))
        p.setBrush(Qt.BrushStyle.NoBrush)

    def _tag(self, p: QPainter, at: QPointF, text: str, colour: str) -> None:
        metrics = p.fontMetrics()
        box = QRectF(at.x(), at.y(), metrics.horizontalAdvance(text) + 12, metrics.height() + 4)
        box.moveLeft(min(box.left(), self.width() - box.width() - 4))
        p.setPen(QPen(QColor("#DED8CB"), 1))
        p.setBrush(QColor(PANEL))
        p.drawRoundedRect(box, 4, 4)
        p.setPen(QColor(colour))
        p.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
        p.setBrush(Qt.BrushStyle.NoBrush)

    def _legend(self, p: QPainter) -> None:
        y = self.height() - 14 - 18 * len(self.legend)
        for colour, text in self.legend:
            p.setPen(Qt.PenStyle.NoPen)
            p.setBrush(QColor(colour))
            p.drawRoundedRect(QRectF(14, y, 14, 12), 2, 2)
            p.setPen(QColor(INK))
            p.drawText(QPointF(34, y + 11), text)
            y += 18
        p.setBrush(Qt.BrushStyle.NoBrush)

    # -- mouse --------------------------------------------------------------------------
    def _pixel(self, position: QPointF | QPoint) -> tuple[float, float]:
        ratio = self.devicePixelRatioF()
        return position.x() * ratio, position.y() * ratio

    def bead_at(self, position: QPoint) -> Bead | None:
        for bead in reversed(self.beads):
            at = self._points(bead[1])[0]
            if abs(at.x() - position.x()) < 16 and abs(at.y() - position.y()) < 10:
                return bead
        return None

    def grip_at(self, position: QPoint) -> Any:
        for grip in reversed(self.grips):
            at = self._points(grip.place)[0]
            if abs(at.x() - position.x()) < 9 and abs(at.y() - position.y()) < 10:
                return grip
        return None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._pressed = self._last = event.position().toPoint()
        self._turning = self._boxing = False
        grip = self.grip_at(self._pressed) if event.button() == Qt.MouseButton.LeftButton else None
        if grip is not None:
            self._grip_drag = True
            self.grip_started.emit(grip)
            return
        bead = self.bead_at(self._pressed)
        if bead is not None:
            self.bead_turned.emit(
                bead[0], -1 if event.button() == Qt.MouseButton.RightButton or event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1
            )
            self._pressed = None
            return
        if self.dragging_nodes and event.button() == Qt.MouseButton.LeftButton and self.picker is not None:
            node = self.picker.pick(self.camera, "node", *self._pixel(self._pressed))
            if node is not None:
                self._node_drag = True
                self.drag_started.emit(node)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        now = event.position().toPoint()
        step = now - self._last
        if self._pressed is None or event.buttons() == Qt.MouseButton.NoButton:
            self._last = now
            self._hover(now)
            return
        if self._grip_drag:
            self._last = now
            self.grip_moved.emit(self._pixel(now), bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier))
            return
        if self._node_drag:
            self._last = now
            self.drag_moved.emit(self._pixel(now))
            return
        if (now - self._pressed).manhattanLength() > 4 or self._turning or self._boxing:
            self.hover_text, self.hover_shape = "", []
            ratio = self.devicePixelRatioF()
            if self._boxing or (event.modifiers() & Qt.KeyboardModifier.AltModifier and not self._turning):
                self._boxing = True
                self._last = now
                self.update()
                return
            if not self._turning:
                self.remember()
            self._turning = True
            if event.buttons() & (Qt.MouseButton.MiddleButton | Qt.MouseButton.RightButton):
                self.camera.shift(step.x() * ratio, step.y() * ratio)
            else:
                self.camera.turn(step.x(), step.y())
                for line in self.lines:
                    line.VisibilityOff()
                for fine, rough in self.coarse:
                    fine.VisibilityOff()
                    rough.VisibilityOn()
            self.refresh()
        self._last = now

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._grip_drag:
            self._grip_drag, self._pressed = False, None
            self.grip_ended.emit()
            return
        if self._node_drag:
            self._node_drag = False
            self._pressed = None
            self.drag_ended.emit(True)
            return
        if self._pressed is None:
            return
        add = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        take = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        if self._boxing and self.picker is not None:
            a, b = self._pixel(self._pressed), self._pixel(self._last)
            self.boxed.emit(self.picker.box(self.camera, self.selection.kind, *a, *b), add)
        elif not self._turning and event.button() == Qt.MouseButton.LeftButton and self.picker is not None:
            self.picked.emit(self.picker.pick(self.camera, self.selection.kind, *self._pixel(self._pressed)), add, take)
        if self._turning:
            for line in self.lines:
                line.VisibilityOn()
            for fine, rough in self.coarse:
                fine.VisibilityOn()
                rough.VisibilityOff()
            self.view_changed()
        self._pressed, self._turning, self._boxing = None, False, False
        self.refresh()

    def leaveEvent(self, event: Any) -> None:
        self.hover_text, self.hover_shape = "", []
        self.update()

    def wheelEvent(self, event: QWheelEvent) -> None:
        up = event.angleDelta().y()
        bead = self.bead_at(event.position().toPoint())
        if bead is not None:
            self.bead_turned.emit(bead[0], 1 if up > 0 else -1)
            return
        self.camera.zoom(1.15 if up > 0 else 1 / 1.15, *self._pixel(event.position()))
        self.renderer.ResetCameraClippingRange()
        self.refresh()

    def _hover(self, now: QPoint) -> None:
        if self.picker is None:
            return
        item = self.picker.pick(self.camera, self.selection.kind, *self._pixel(now))
        self.hovered.emit(item)

    def shut(self) -> None:
        """Give the renderer back before the program ends."""
        self.renderer.RemoveAllViewProps()
        self.window_vtk.Finalize()
