"""Grips near the ends of chosen edges: drawn along the edge, they grade its sides."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from kind_rivet.app.kit.divisions import DivisionsCard
from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.curves import Curve
from kind_rivet.core.meshing.rules import Grading
from kind_rivet.core.meshing.sizes import stations

if TYPE_CHECKING:
    from kind_rivet.app.window import MainWindow

REST = 0.25  # share of the length from its end at which a grip rests while the sides are even
MOST = 30.0  # longest over shortest side with a grip at the very end
LEAST = 1.05  # ratios below this are even sides
MOST_EDGES = 8  # chosen edges that get grips


@dataclass(frozen=True)
class Grip:
    """A grip of an edge: `share` of the length, from the end it belongs to, at which it lies."""

    body: int
    edge: int
    at_start: bool
    share: float
    place: Floats


def share_of(grading: Grading | None, at_start: bool) -> float:
    """Where a grip lies for a grading: nearer to its end the shorter the sides there, beyond its rest where they are the long ones."""
    if grading is None:
        return REST
    end = "start" if at_start else "end"
    strength = float(np.clip(np.log(grading.ratio) / np.log(MOST), 0.0, 1.0))
    if grading.towards in (end, "both ends"):
        return REST * (1 - strength)
    if grading.towards == "middle":
        return REST + (0.5 - REST) * strength
    return REST


def grading_at(share: float, at_start: bool, both: bool) -> Grading:
    """The grading for a grip drawn to a share of the length from its end; `both`: the other end alike. A ratio of 1 means even."""
    if share <= REST:
        ratio = MOST ** ((REST - max(share, 0.0)) / REST)
        towards = "both ends" if both else "start" if at_start else "end"
    else:
        ratio = MOST ** min((share - REST) / (0.5 - REST), 1.0)
        towards = "middle" if both else "end" if at_start else "start"
    return Grading(towards, 1.0 if ratio < LEAST else float(f"{ratio:.2g}"))


class Grips:
    """The grips of the edges chosen while the divisions are open, and the one that is being drawn."""

    def __init__(self, window: MainWindow) -> None:
        self.window = window
        self.held: Grip | None = None
        self.wanted: Grading | None = None

    def shown(self) -> list[Grip]:
        """Grips of the chosen edges that have two divisions or more."""
        document, selection = self.window.session.shown, self.window.selection
        out: list[Grip] = []
        if selection.kind != "edge" or self.window.session.busy:
            return out
        for body, e in selection.items[:MOST_EDGES]:
            lines = document.lines_of(body)
            sheet = document.sheets.get(body)
            if sheet is None or e >= len(lines) or len(lines[e]) < 3:
                continue
            if sheet.shape.edges[e].closed:
                continue
            curve = self._curve(body, e)
            grading = document.choices.grading.get(str(body), {}).get(e)
            for at_start in (True, False):
                share = share_of(grading, at_start)
                at = share if at_start else 1 - share
                out.append(Grip(body, e, at_start, share, curve.at(np.array([at * curve.length]))[0]))
        return out

    def _curve(self, body: int, e: int) -> Curve:
        shape = self.window.session.shown.sheets[body].shape
        return Curve.through(shape.points[shape.edges[e].nodes], shape.edges[e].carrier)

    def start(self, grip: Grip) -> None:
        self.held, self.wanted = grip, None

    def move(self, pixel: tuple[float, float], both: bool) -> None:
        """Follow the pointer along the edge; the nodes to come are shown, and the ratio in words."""
        if self.held is None:
            return
        stage, document, grip = self.window.stage, self.window.session.shown, self.held
        curve = self._curve(grip.body, grip.edge)
        t = np.linspace(0.0, 1.0, 241)
        pixels, _ = stage.camera.to_pixels(curve.at(t * curve.length))
        at = float(t[int(np.argmin(np.linalg.norm(pixels - np.array(pixel), axis=1)))])
        share = min(at if grip.at_start else 1 - at, 0.5)
        self.wanted = grading_at(share, grip.at_start, both)
        count = len(document.mesh_edges[grip.body][grip.edge]) - 1
        places = stations(curve, count, None, self.wanted)
        stage.marks = list(curve.at(places))
        stage.grips = [
            replace(g, share=share, place=curve.at(np.array([at * curve.length]))[0])
            if (g.body, g.edge, g.at_start) == (grip.body, grip.edge, grip.at_start)
            else g
            for g in stage.grips
        ]
        sides = np.diff(places)
        words = f"{self.wanted.ratio:g} : 1, short sides towards {_where(self.wanted.towards)}" if self.wanted.ratio > 1 else "even sides"
        stage.hover_text = f"{words} · {sides.min():.3g} to {sides.max():.3g} {document.units} · Ctrl: both ends"
        stage.update()

    def end(self) -> None:
        """Propose the grading the grip was drawn to, for its own edge: which end is its start differs from edge to edge."""
        grip, wanted = self.held, self.wanted
        self.held, self.wanted = None, None
        self.window.stage.marks, self.window.stage.hover_text = [], ""
        card = self.window.kit.open_card
        if grip is None or wanted is None or not isinstance(card, DivisionsCard):
            self.window.redraw()
            return
        card.grade(grip.body, [grip.edge], wanted.towards, wanted.ratio)


def _where(towards: str) -> str:
    return {"start": "this edge's start", "end": "this edge's end", "both ends": "both ends", "middle": "the middle"}[towards]
