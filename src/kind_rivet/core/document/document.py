"""Document and what it holds. Operations return new documents that share what did not change."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.holes import Hole
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.mesh.mesh import Mesh
from kind_rivet.core.meshing.rules import WasherRule
from kind_rivet.core.midsurface.sheet import Sheet
from kind_rivet.core.quality.index import Quality, judge
from kind_rivet.core.quality.limits import DEFAULT, LimitSheet

TINTS = ("#9DB4A0", "#C9A08A", "#8EA3B8", "#CDB67A", "#AD95AE", "#A9AF7B", "#C99A9A", "#9AA9AD")


def _nothing() -> Mapping[Any, Any]:
    return {}


@dataclass(frozen=True)
class Body:
    """A solid as it came in, with its walls (thickness, share of the surface) and holes."""

    key: int
    name: str
    colour: str
    shape: Shape
    walls: tuple[tuple[float, float], ...]
    thin_share: float  # share of the surface that lies opposite a wall
    holes: tuple[Hole, ...]
    source: str = ""


@dataclass(frozen=True)
class Material:
    """Isotropic material in N, mm, t, s: Young's modulus in MPa, density in t/mm³."""

    name: str
    young: float
    poisson: float
    density: float


LIBRARY = (
    Material("Steel", 210_000.0, 0.30, 7.85e-9),
    Material("Aluminium", 70_000.0, 0.33, 2.70e-9),
)


@dataclass(frozen=True)
class Section:
    """Beam section: `tube` (outer diameter, wall) or `box` (width, height, wall), in document units."""

    shape: str
    measures: tuple[float, ...]

    @property
    def label(self) -> str:
        return ("Tube " if self.shape == "tube" else "Box ") + " x ".join(f"{m:g}" for m in self.measures)

    def properties(self) -> dict[str, float]:
        """Area, moments of area about both axes and torsion constant (thin closed box: Bredt)."""
        if self.shape == "tube":
            d, t = self.measures
            inner = d - 2 * t
            area = np.pi / 4 * (d**2 - inner**2)
            inertia = np.pi / 64 * (d**4 - inner**4)
            return {"area": float(area), "inertia_1": float(inertia), "inertia_2": float(inertia), "torsion": float(2 * inertia)}
        b, h, t = self.measures
        bi, hi = b - 2 * t, h - 2 * t
        torsion = 2 * t * (b - t) ** 2 * (h - t) ** 2 / (b + h - 2 * t)
        return {
            "area": b * h - bi * hi,
            "inertia_1": (b * h**3 - bi * hi**3) / 12,
            "inertia_2": (h * b**3 - hi * bi**3) / 12,
            "torsion": torsion,
        }


@dataclass(frozen=True)
class Part:
    """A named lot of elements; `kind` is shell, beam, solid or mass."""

    key: int
    name: str
    colour: str
    kind: str
    material: str = ""
    section: Section | None = None


@dataclass(frozen=True)
class Spider:
    """A rigid spider from `centre` to `nodes` (stable node numbers)."""

    name: str
    centre: int
    nodes: NDArray[np.int32]
    hole: str = ""


@dataclass(frozen=True)
class LumpedMass:
    """A mass in tonnes on a node."""

    node: int
    mass: float


@dataclass(frozen=True)
class LeftOut:
    """A hole that later stops look past, known by its place; `hard_point` leaves a node at its centre."""

    body: int
    centre: tuple[float, float, float]
    axis: tuple[float, float, float]
    diameter: float
    hard_point: bool = False


@dataclass(frozen=True)
class Rule:
    """How a live set finds its members: `kind` hole, ring, face or part, at a place on a body."""

    kind: str
    body: int
    centre: tuple[float, float, float] = (0.0, 0.0, 0.0)
    number: int = -1


@dataclass(frozen=True)
class EntitySet:
    """A named set of stable node or element numbers (`kind` node or element); a `rule` makes it live."""

    name: str
    kind: str
    ids: NDArray[np.int32]
    colour: str = "#2F6F8F"
    rule: Rule | None = None


@dataclass(frozen=True)
class TrailEntry:
    """One thing done: operation, parameters as plain data, a sentence, seconds it took."""

    operation: str
    parameters: Mapping[str, Any]
    sentence: str
    seconds: float = 0.0


@dataclass(frozen=True)
class MeshChoices:
    """What was asked of the shell mesh."""

    size: float = 0.0
    growth: float = 0.25
    washers: tuple[WasherRule, ...] = (WasherRule(),)
    divisions: Mapping[str, Mapping[int, int]] = field(default_factory=_nothing)  # body key → edge → count


@dataclass(frozen=True)
class Document:
    """Everything; all fields are values. `basis` tells from which state sheets and meshes were made."""

    name: str = "Untitled"
    units: str = "mm"
    bodies: tuple[Body, ...] = ()
    materials: tuple[Material, ...] = LIBRARY
    body_material: Mapping[int, str] = field(default_factory=_nothing)
    left_out: tuple[LeftOut, ...] = ()
    sheets: Mapping[int, Sheet] = field(default_factory=_nothing)
    basis: Mapping[str, str] = field(default_factory=_nothing)
    choices: MeshChoices = MeshChoices()
    mesh: Mesh = field(default_factory=Mesh)
    mesh_edges: Mapping[int, tuple[NDArray[np.int32], ...]] = field(default_factory=_nothing)  # body → node numbers along each sheet edge
    mesh_holes: Mapping[int, tuple[Any, ...]] = field(default_factory=_nothing)  # body → round holes with their rings
    parts: tuple[Part, ...] = ()
    spiders: tuple[Spider, ...] = ()
    masses: tuple[LumpedMass, ...] = ()
    sets: tuple[EntitySet, ...] = ()
    limit_sheet: LimitSheet = DEFAULT
    trail: tuple[TrailEntry, ...] = ()
    notes: tuple[str, ...] = ()  # what the last operation has to say

    # -- looking things up ---------------------------------------------------
    def body(self, key: int) -> Body:
        found = next((b for b in self.bodies if b.key == key), None)
        if found is None:
            raise Refused(f"There is no body number {key}.", "Choose one of the bodies in Contents.")
        return found

    def body_named(self, name: str) -> Body:
        found = next((b for b in self.bodies if b.name == name), None)
        if found is None:
            raise Refused(f"There is no body called “{name}”.", "Choose one of the bodies in Contents.")
        return found

    def part(self, key: int) -> Part:
        return next(p for p in self.parts if p.key == key)

    def material(self, name: str) -> Material | None:
        return next((m for m in self.materials if m.name == name), None)

    def next_part_key(self) -> int:
        return max((p.key for p in self.parts), default=0) + 1

    @cached_property
    def quality(self) -> Quality:
        return judge(self.mesh, self.limit_sheet, self.choices.size or 1.0)

    @cached_property
    def node_index(self) -> dict[int, int]:
        return {int(n): i for i, n in enumerate(self.mesh.node_id)}

    # -- what depends on what ------------------------------------------------
    def prepare_state(self, body: int) -> str:
        """A word that changes when the prepared geometry of a body changes."""
        mine = sorted((tuple(round(c, 6) for c in h.centre), round(h.diameter, 6), h.hard_point) for h in self.left_out if h.body == body)
        return f"{self.body(body).source}:{mine}"

    def mesh_state(self, body: int) -> str:
        """A word that changes when the shells of a body would come out differently."""
        c = self.choices
        hand = sorted(c.divisions.get(str(body), {}).items())
        return f"{self.basis.get(f'sheet:{body}', '')}|{c.size:g}|{c.growth:g}|{c.washers}|{hand}"

    @cached_property
    def stale(self) -> tuple[str, ...]:
        """What was made from a state that is no longer the present one, in plain words."""
        out = []
        for key in self.sheets:
            if self.basis.get(f"sheet:{key}") != self.prepare_state(key):
                out.append(f"midsurface of {self.body(key).name}")
        for key in self.mesh_edges:
            if self.basis.get(f"mesh:{key}") != self.mesh_state(key):
                out.append(f"shells of {self.body(key).name}")
        known = self.node_index
        elements = set(self.mesh.element_id.tolist())
        for s in self.sets:
            ids = s.ids.tolist()
            if any((i not in known) if s.kind == "node" else (i not in elements) for i in ids):
                out.append(f"set {s.name}")
        return tuple(out)
