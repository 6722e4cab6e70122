"""The cards for building and preparing geometry, described by their slots."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import numpy as np

from kind_rivet.app.kit.back_list import HardPointList, LookedPastList, SplitList
from kind_rivet.app.kit.card import Card, OperationCard
from kind_rivet.app.kit.gather import ChoiceCard, GatherCard, Slot
from kind_rivet.core.document.document import Document
from kind_rivet.core.document.preparing import working_shape
from kind_rivet.core.geometry.carriers import triple

if TYPE_CHECKING:
    from kind_rivet.app.window import MainWindow


def owner(document: Document, items: list[Any]) -> int:
    """The body that points lie on; working points count for the first body with faces."""
    found = next((int(i[3]) for i in items if len(i) > 3 and i[3] > 0), 0)
    return found or next((b.key for b in document.bodies if len(b.shape.facets)), 0)


def points(document: Document, items: list[Any]) -> dict[str, Any]:
    return {"points": [triple(i) for i in items]}


def points_on_body(document: Document, items: list[Any]) -> dict[str, Any]:
    return {"body": owner(document, items), "points": [triple(i) for i in items]}


def one_point(title: str, name: str, with_body: bool = False, needed: bool = True) -> Slot:
    """A slot for one point; the form's field of that name can be typed instead (unless the body comes from the point)."""

    def take(document: Document, items: list[Any]) -> dict[str, Any]:
        return {name: triple(items[-1])} | ({"body": owner(document, items)} if with_body else {})

    return Slot(title, "point", take, needed=needed, field="" if with_body else name)


def hole(document: Document, items: list[Any]) -> dict[str, Any]:
    body, k = items[-1]
    return {"body": body, "hole": document.body(body).holes[k].centre}


def edge(document: Document, items: list[Any]) -> dict[str, Any]:
    return {"body": items[-1][0], "edge": items[-1][1]}


def edges(document: Document, items: list[Any]) -> dict[str, Any]:
    return {"body": items[0][0], "edges": [e for b, e in items if b == items[0][0]]}


def faces(document: Document, items: list[Any]) -> dict[str, Any]:
    return {"body": items[0][0], "faces": [f for b, f in items if b == items[0][0]]}


def face(document: Document, items: list[Any]) -> dict[str, Any]:
    return {"body": items[-1][0], "face": items[-1][1]}


def wall(document: Document, items: list[Any]) -> dict[str, Any]:
    """A point on the chosen wall."""
    key, number = items[-1]
    shape = working_shape(document, key)
    facets = np.flatnonzero(shape.facet_face == number)
    largest = facets[int(np.argmax(shape.facet_area[facets]))]
    return {"body": key, "face": triple(shape.points[shape.facets[largest]].mean(axis=0))}


def body(name: str = "body") -> Any:
    return lambda document, items: {name: items[-1]}


def bodies(name: str = "bodies") -> Any:
    return lambda document, items: {name: list(items)}


Way = tuple[str, Callable[[], OperationCard]]


def _makers(window: MainWindow) -> tuple[Callable[..., Way], Callable[..., GatherCard]]:
    """Makers of cards: one that waits until the card is needed, one that makes it at once."""

    def card(name: str, *slots: Slot, **more: Any) -> GatherCard:
        return GatherCard(window, name, slots, **more)

    def way(name: str, *slots: Slot, **more: Any) -> Way:
        return name, lambda: card(name, *slots, **more)

    return way, card


def ways(*lots: Way) -> dict[str, Callable[[], OperationCard]]:
    return dict(lots)


def part_tools(window: MainWindow) -> list[Card]:
    """Building geometry around what came in."""

    way, card = _makers(window)
    curve = Slot("Curve", "body", body("curve"))
    build = ways(
        way("build.plane", Slot("Points", "point", points, many=True, needed=False), Slot("Face", "face", face, needed=False), at_once=False),
        way("build.point", Slot("Points", "point", points, many=True, needed=False), Slot("Round edge", "edge", edge, needed=False), at_once=False),
        way("build.line", Slot("Points", "point", points, many=True), at_once=False, hint="Ctrl adds points, in order."),
        way("build.circle", Slot("Points", "point", points, many=True), at_once=False),
        way("build.curve", Slot("Edges", "edge", edges, many=True)),
        way("build.face", Slot("Curves", "body", bodies("curves"), many=True)),
        way("build.extrude", curve),
        way("build.revolve", curve, one_point("Axis through", "origin", needed=False)),
        way("build.scale", Slot("Outline", "body", body()), one_point("About", "about")),
        way("build.project", curve, Slot("Onto", "body", body())),
    )  # fmt: skip
    copies = card(
        "build.copies",
        Slot("Bodies", "body", bodies(), many=True),
        one_point("Through", "origin", needed=False),
        at_once=False,
    )
    return [ChoiceCard(window, "Build", "Planes, points, curves, faces and sheets around what came in.", build), copies]


def prepare_tools(window: MainWindow) -> list[Card]:
    """Making the geometry fit for a mesh."""

    way, card = _makers(window)
    past = ways(
        way("prepare.look_past", Slot("Edges", "edge", edges, many=True), on_sheet=True),
        way("prepare.look_past_by", on_sheet=True),
    )
    split = ways(
        way("prepare.split_ring", Slot("Hole", "hole", hole), on_sheet=True, skip={"hole"}),
        way("prepare.split_line", one_point("From", "start", True), one_point("To", "end"), on_sheet=True),
        way("prepare.split_perpendicular", one_point("Point", "point"), Slot("Edge", "edge", edge), on_sheet=True),
        way("prepare.split_plane", Slot("Wall", "face", wall), one_point("Plane through", "origin"), on_sheet=True),
        way("prepare.split_circle", one_point("Centre", "centre", True), on_sheet=True),
        way("prepare.split_curve", Slot("Wall", "face", wall), Slot("Curve", "point", points, many=True), on_sheet=True, at_once=False),
        way("prepare.hard_curve", Slot("Curve", "point", points_on_body, many=True), on_sheet=True, at_once=False),
    )
    remove = ways(
        way("prepare.remove_holes"),
        way("prepare.remove_blends"),
        way("prepare.remove_faces", Slot("Faces", "face", faces, many=True), at_once=False),
    )
    cut = ways(
        way("prepare.split_body", Slot("Body", "body", body()), one_point("Plane through", "origin"), Slot("Or plane face", "face", lambda d, i: {"face": i[-1][1]}, needed=False)),
        way("prepare.sector", Slot("Body", "body", body()), one_point("Axis or plane through", "origin")),
    )  # fmt: skip
    join = ways(
        way("prepare.join", Slot("Bodies", "body", bodies(), many=True, needed=False), hint="Nothing chosen means all solids and sheets.", at_once=False),
        way("prepare.stitch", Slot("Sheets", "body", bodies(), many=True), at_once=False),
    )  # fmt: skip
    return [
        ChoiceCard(window, "Look past edges", "Faces on both sides of an edge are meshed as one.", past, LookedPastList(window)),
        ChoiceCard(window, "Split walls", "Edges drawn on walls, so that the mesh follows them.", split, SplitList(window)),
        card(
            "prepare.hard_points",
            Slot("Points", "point", points_on_body, many=True),
            on_sheet=True,
            at_once=False,
            below=HardPointList(window),
        ),
        ChoiceCard(window, "Remove features", "Holes, blends, bosses: taken off the solid, the gap closed.", remove),
        ChoiceCard(window, "Cut bodies", "Into pieces that share their interface, or to a symmetric sector.", cut),
        ChoiceCard(window, "Join bodies", "So that their meshes share nodes; the Stage shows joined, free and junction edges.", join),
    ]
