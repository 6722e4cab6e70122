"""The camera: turning, shifting, zooming, standard views, and points to pixels."""

from __future__ import annotations

import numpy as np
from vtkmodules.vtkRenderingCore import vtkRenderer

from kind_rivet.core.geometry.carriers import Floats

VIEWS = {
    "oblique": ((-0.45, -1.0, 0.75), (0, 0, 1)),
    "top": ((0, 0, 1), (0, 1, 0)),
    "front": ((0, -1, 0), (0, 0, 1)),
    "side": ((1, 0, 0), (0, 0, 1)),
}


class Camera:
    """Parallel projection round a focal point."""

    def __init__(self, renderer: vtkRenderer) -> None:
        self.renderer = renderer
        self.vtk = renderer.GetActiveCamera()
        self.vtk.ParallelProjectionOn()

    def look(self, view: str, box: Floats | None) -> None:
        """A standard view fitted to a box (2, 3)."""
        direction, up = VIEWS[view]
        self.vtk.SetFocalPoint(0, 0, 0)
        self.vtk.SetPosition(*direction)
        self.vtk.SetViewUp(*up)
        self.fit(box)

    def fit(self, box: Floats | None, slack: float = 1.08) -> None:
        if box is None:
            return
        centre, size = box.mean(axis=0), float(np.linalg.norm(box[1] - box[0])) or 1.0
        to = np.array(self.vtk.GetDirectionOfProjection())
        self.vtk.SetFocalPoint(*centre)
        self.vtk.SetPosition(*(centre - 3 * size * to))
        corners = np.array([(x, y, z) for x in box[:, 0] for y in box[:, 1] for z in box[:, 2]])
        right, up = self.axes()
        q = corners - centre
        width, height = np.ptp(q @ right), np.ptp(q @ up)
        w, h = self.renderer.GetRenderWindow().GetSize()
        self.vtk.SetParallelScale(max(height, width * h / max(w, 1)) / 2 * slack)
        self.renderer.ResetCameraClippingRange()

    def state(self) -> tuple[float, ...]:
        """Focal point, position, up and scale: enough to come back."""
        return (*self.vtk.GetFocalPoint(), *self.vtk.GetPosition(), *self.vtk.GetViewUp(), self.vtk.GetParallelScale())

    def restore(self, state: tuple[float, ...]) -> None:
        self.vtk.SetFocalPoint(*state[:3])
        self.vtk.SetPosition(*state[3:6])
        self.vtk.SetViewUp(*state[6:9])
        self.vtk.SetParallelScale(state[9])
        self.renderer.ResetCameraClippingRange()

    def axes(self) -> tuple[Floats, Floats]:
        """Unit vectors to the right and up on the screen."""
        to, up = np.array(self.vtk.GetDirectionOfProjection()), np.array(self.vtk.GetViewUp())
        right = np.cross(to, up)
        right /= max(float(np.linalg.norm(right)), 1e-300)
        return right, np.cross(right, to)

    def turn(self, dx: float, dy: float) -> None:
        self.vtk.Azimuth(-0.4 * dx)
        self.vtk.Elevation(0.4 * dy)
        self.vtk.OrthogonalizeViewUp()
        self.renderer.ResetCameraClippingRange()

    def per_pixel(self) -> float:
        """Length that one pixel shows."""
        return float(2 * self.vtk.GetParallelScale() / max(self.renderer.GetRenderWindow().GetSize()[1], 1))

    def shift(self, dx: float, dy: float) -> None:
        right, up = self.axes()
        move = (-dx * right + dy * up) * self.per_pixel()
        self.vtk.SetFocalPoint(*(np.array(self.vtk.GetFocalPoint()) + move))
        self.vtk.SetPosition(*(np.array(self.vtk.GetPosition()) + move))
        self.renderer.ResetCameraClippingRange()

    def zoom(self, factor: float, x: float, y: float) -> None:
        """Zoom about a pixel."""
        w, h = self.renderer.GetRenderWindow().GetSize()
        self.shift(w / 2 - x, h / 2 - y)
        self.vtk.SetParallelScale(self.vtk.GetParallelScale() / factor)
        self.shift(x - w / 2, y - h / 2)

    def to_pixels(self, points: Floats) -> tuple[Floats, Floats]:
        """Pixels (n, 2) from the upper left and depth (n,) growing away from the eye."""
        right, up = self.axes()
        w, h = self.renderer.GetRenderWindow().GetSize()
        q = points - np.array(self.vtk.GetFocalPoint())
        scale = 1 / self.per_pixel()
        return np.column_stack((w / 2 + q @ right * scale, h / 2 - q @ up * scale)), q @ np.array(self.vtk.GetDirectionOfProjection())

    def ray(self, x: float, y: float) -> tuple[Floats, Floats]:
        """Origin well before everything, and direction, of the line of sight through a pixel."""
        right, up = self.axes()
        w, h = self.renderer.GetRenderWindow().GetSize()
        to = np.array(self.vtk.GetDirectionOfProjection())
        at = np.array(self.vtk.GetFocalPoint()) + ((x - w / 2) * right + (h / 2 - y) * up) * self.per_pixel()
        back = np.linalg.norm(np.array(self.vtk.GetPosition()) - np.array(self.vtk.GetFocalPoint())) + 100 * self.vtk.GetParallelScale()
        return at - back * to, to
