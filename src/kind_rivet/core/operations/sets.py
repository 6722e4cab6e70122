"""Sets: named node and element sets, plain or live."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np
from pydantic import Field

from kind_rivet.core.document.document import Document, EntitySet, Rule
from kind_rivet.core.document.live_sets import Finder, members, with_set
from kind_rivet.core.errors import Refused
from kind_rivet.core.operations.registry import Parameters, Progress, operation

COLOURS = ("#2F6F8F", "#B5532A", "#2E7D73", "#8A6BA8", "#A9823A", "#5E7A3A")


class MakeSet(Parameters):
    name: str = Field(min_length=1, max_length=60, title="Name")
    kind: Literal["node", "element"] = Field("node", title="Of")
    numbers: tuple[int, ...] = Field((), title="Members", description="Node or element numbers")
    rule: Literal["", "hole", "ring", "face", "part"] = Field(
        "", title="Rule", description="A live set finds its members again after every remesh"
    )
    body: int = -1
    centre: tuple[float, float, float] = (0.0, 0.0, 0.0)
    number: int = -1


@operation("sets.make", "Make a set", "deliver", MakeSet)
def make_set(document: Document, parameters: MakeSet, progress: Progress) -> Document:
    """A named set of nodes or elements; with a rule it is live."""
    name = parameters.name.strip()
    if not name:
        raise Refused("The set has no name.", "Give it one.")
    rule = Rule(parameters.rule, parameters.body, parameters.centre, parameters.number) if parameters.rule else None
    if rule is not None:
        ids = members(document, rule, parameters.kind)
    else:
        known = document.mesh.node_id if parameters.kind == "node" else document.mesh.element_id
        ids = np.unique(np.array(parameters.numbers, np.int32))
        if len(np.setdiff1d(ids, known)):
            raise Refused(f"Some of the chosen {parameters.kind}s do not exist.", "Choose them again.")
    if not len(ids):
        raise Refused(f"The set “{name}” would be empty.", "Choose its members in the Stage first.")
    existing = next((s for s in document.sets if s.name == name), None)
    colour = existing.colour if existing else COLOURS[len(document.sets) % len(COLOURS)]
    live = " (live)" if rule else ""
    return replace(
        with_set(document, EntitySet(name, parameters.kind, ids, colour, rule)),
        notes=(f"Set “{name}”{live}: {len(ids)} {parameters.kind}s.",),
    )


class RemoveSet(Parameters):
    name: str = Field(title="Name")


@operation("sets.remove", "Remove a set", "deliver", RemoveSet)
def remove_set(document: Document, parameters: RemoveSet, progress: Progress) -> Document:
    """Remove a set; the mesh stays."""
    if not any(s.name == parameters.name for s in document.sets):
        raise Refused(f"There is no set called “{parameters.name}”.", "See the list of sets.")
    return replace(
        document, sets=tuple(s for s in document.sets if s.name != parameters.name), notes=(f"Removed set “{parameters.name}”.",)
    )


class UsualSets(Parameters):
    pass


@operation("sets.usual", "Sets of all holes and rings", "deliver", UsualSets)
def usual_sets(document: Document, parameters: UsualSets, progress: Progress) -> Document:
    """For every round hole a live node set, for every ring a live element set."""
    made: list[EntitySet] = []
    find = Finder(document)
    for key, holes in document.mesh_holes.items():
        stem = "hole" if len(document.mesh_holes) == 1 else f"{document.body(key).name} hole"
        for k, hole in enumerate(holes):
            for kind, rule_kind, label in (
                ("node", "hole", f"{stem} {k + 1:02d}"),
                ("element", "ring", f"{stem.replace('hole', 'ring')} {k + 1:02d}"),
            ):
                rule = Rule(rule_kind, key, hole.centre)
                ids = find.members(rule, kind)
                if len(ids):
                    made.append(EntitySet(label, kind, ids, COLOURS[len(made) % len(COLOURS)], rule))
    if not made:
        raise Refused("There is no meshed round hole.", "Mesh a part with holes first.")
    document = with_set(document, *made)
    return replace(document, notes=(f"{len(made)} live sets of holes and rings.",))
