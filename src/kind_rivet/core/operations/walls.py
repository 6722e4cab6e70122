"""Midsurface by hand: which sides make a wall, which pieces of walls stay, what is led on and bridged."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from pydantic import Field

from kind_rivet.core.document.changes import Bridge, EdgeMove, WallChoice
from kind_rivet.core.document.document import Document
from kind_rivet.core.document.preparing import carried_over, prepared
from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Triple, triple
from kind_rivet.core.geometry.places import edge_middles
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.midsurface.hand import Hand
from kind_rivet.core.operations.chosen import sheet_with
from kind_rivet.core.operations.midsurface import ExtractMidsurface, extract_midsurfaces
from kind_rivet.core.operations.registry import Parameters, Progress, operation

LIMIT = 300.0


def _decided(document: Document, body: int, hand: Hand, label: str, progress: Progress) -> Document:
    """The document with one more decision, the body's sheet made and proved again."""
    solid = document.body(body)
    if not solid.shape.solid:
        raise Refused(f"{solid.name} is no solid: its faces are taken as they are.", "Split or bridge its walls instead.")
    document = replace(document, wall_choices=(*document.wall_choices, WallChoice(body, hand, label)))
    return extract_midsurfaces(document, ExtractMidsurface(bodies=(body,), limit=LIMIT), progress)


def _on_face(shape: Shape, face: int) -> Triple:
    """A point in the middle of the largest facet of a face."""
    if not 0 <= face < len(shape.faces):
        raise Refused("No such face.", "Choose a face in the Stage.")
    mine = np.flatnonzero(shape.facet_face == face)
    return triple(shape.points[shape.facets[mine[int(np.argmax(shape.facet_area[mine]))]]].mean(axis=0))


class PairSides(Parameters):
    body: int = Field(title="Body")
    first: int = Field(title="First side")
    second: int = Field(-1, title="Second side", description="None: whatever lies opposite")
    share: float = Field(
        0.5, ge=0, le=1, title="Share of the wall", description="How deep under the first side the sheet lies: 0.5 is the middle"
    )


@operation("midsurface.pair", "Pair two sides", "midsurface", PairSides)
def pair_sides(document: Document, parameters: PairSides, progress: Progress) -> Document:
    """Make a wall between two sides, or under one side at a share of the wall."""
    shape = document.body(parameters.body).shape
    places = [_on_face(shape, parameters.first)]
    if parameters.second >= 0:
        places.append(_on_face(shape, parameters.second))
    hand = Hand("pair", tuple(places), parameters.share)
    return _decided(document, parameters.body, hand, f"pair, {parameters.share:g} under the first side", progress)


class AtPlace(Parameters):
    body: int = Field(title="Body")
    place: Triple = Field(title="Place", description="A point on the wall")


@operation("midsurface.drop_wall", "Make no wall here", "midsurface", AtPlace)
def drop_wall(document: Document, parameters: AtPlace, progress: Progress) -> Document:
    """Leave a whole wall without midsurface: its pair of sides is no longer used."""
    return _decided(document, parameters.body, Hand("drop", (parameters.place,)), "no wall", progress)


@operation("midsurface.keep_piece", "Keep a piece of a wall", "midsurface", AtPlace)
def keep_piece(document: Document, parameters: AtPlace, progress: Progress) -> Document:
    """Keep the piece of a wall's middle at this place, as far as the next wall or border."""
    return _decided(document, parameters.body, Hand("keep", (parameters.place,)), "piece kept", progress)


@operation("midsurface.trim_piece", "Trim a piece of a wall", "midsurface", AtPlace)
def trim_piece(document: Document, parameters: AtPlace, progress: Progress) -> Document:
    """Cut the piece of a wall at this place off, along the walls and borders round it."""
    return _decided(document, parameters.body, Hand("leave", (parameters.place,)), "piece trimmed", progress)


class MeetWalls(Parameters):
    body: int = Field(title="Body")
    first: Triple = Field(title="First wall", description="A point on it")
    second: Triple = Field(title="Second wall", description="A point on it")


@operation("midsurface.extend", "Extend walls until they meet", "midsurface", MeetWalls)
def extend_walls(document: Document, parameters: MeetWalls, progress: Progress) -> Document:
    """Lead two walls on through the solid until they meet, however far apart they end."""
    return _decided(document, parameters.body, Hand("meet", (parameters.first, parameters.second)), "walls led on", progress)


class BridgeEdges(Parameters):
    body: int = Field(title="Body")
    edges: tuple[int, ...] = Field(min_length=2, max_length=2, title="Edges", description="Two free edges of the midsurface")


@operation("midsurface.bridge", "Bridge two free edges", "midsurface", BridgeEdges)
def bridge_edges(document: Document, parameters: BridgeEdges, progress: Progress) -> Document:
    """Close the gap between two free edges of a midsurface with a strip that shares their nodes."""
    sheet = sheet_with(document, parameters.body, parameters.edges, "edge")
    middles = edge_middles(sheet.shape)
    a, b = parameters.edges
    lengths = sheet.shape.edge_length
    bridge = Bridge(parameters.body, triple(middles[a]), float(lengths[a]), triple(middles[b]), float(lengths[b]))
    out = _prepared_with(replace(document, bridges=(*document.bridges, bridge)), parameters.body, bridge)
    made = out.sheets[parameters.body]
    words = f"A strip of {made.shape.face_area[-1]:.4g} {document.units}², {made.thickness[-1]:.4g} {document.units} thick, closes the gap."
    return replace(out, notes=(words, *out.notes))


class MoveEdge(Parameters):
    body: int = Field(title="Body")
    edge: int = Field(title="Edge", description="A free edge of the midsurface")
    wall: int = Field(title="Wall", description="The wall of the midsurface it is moved to")


@operation("midsurface.move_edge", "Move an edge to a wall", "midsurface", MoveEdge)
def move_edge(document: Document, parameters: MoveEdge, progress: Progress) -> Document:
    """Lead a free edge of a midsurface on, or cut its wall back, until it ends on another wall and both share that edge."""
    sheet = sheet_with(document, parameters.body, [parameters.edge], "edge")
    middle, length = edge_middles(sheet.shape)[parameters.edge], float(sheet.shape.edge_length[parameters.edge])
    move = EdgeMove(parameters.body, triple(middle), length, _on_face(sheet.shape, parameters.wall))
    out = _prepared_with(replace(document, moves=(*document.moves, move)), parameters.body, move)
    by = out.sheets[parameters.body].area - sheet.area
    words = f"The edge now ends on the other wall: {abs(by):.4g} {document.units}² {'more' if by >= 0 else 'less'} of its own wall."
    return replace(out, notes=(words, *out.notes))


def _prepared_with(document: Document, body: int, must: Bridge | EdgeMove | None = None) -> Document:
    ready, notes = prepared(document, body, must)
    document = carried_over(document, body, ready)
    return replace(document, sheets=dict(document.sheets) | {body: ready}, notes=tuple(notes))


class TakeBackChoice(Parameters):
    number: int = Field(
        ge=0, title="Number", description="Of the decision, counted over all bodies; bridges come after the walls, moved edges last"
    )


@operation("midsurface.take_back", "Take a decision back", "midsurface", TakeBackChoice)
def take_back_choice(document: Document, parameters: TakeBackChoice, progress: Progress) -> Document:
    """Take back one decision about walls, in any order; the sheet is made again without it."""
    k, choices, bridges = parameters.number, document.wall_choices, document.bridges
    if k < len(choices):
        body = choices[k].body
        document = replace(document, wall_choices=choices[:k] + choices[k + 1 :])
        return extract_midsurfaces(document, ExtractMidsurface(bodies=(body,), limit=LIMIT), progress)
    k -= len(choices)
    if k < len(bridges):
        return _prepared_with(replace(document, bridges=bridges[:k] + bridges[k + 1 :]), bridges[k].body)
    k, moves = k - len(bridges), document.moves
    if k >= len(moves):
        raise Refused("There is no such decision.", "Choose one from the list.")
    return _prepared_with(replace(document, moves=moves[:k] + moves[k + 1 :]), moves[k].body)
