"""Document and what it holds. Operations return new documents that share what did not change."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass, field, fields
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.document.changes import (
    Bridge,
    EdgeMove,
    HardPoint,
    Joint,
    LeftOut,
    LookedPast,
    SavedView,
    Split,
    WallChoice,
    WorkingPlane,
    WorkingPoint,
)
from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.faults import Fault
from kind_rivet.core.geometry.holes import Hole
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.mesh.mesh import Mesh
from kind_rivet.core.meshing.rules import Grading, LocalSize, ShellRules, WasherAt, WasherRule
from kind_rivet.core.meshing.sizes import wanted_on
from kind_rivet.core.midsurface.sheet import Sheet
from kind_rivet.core.quality.index import Quality, judge
from kind_rivet.core.quality.limits import DEFAULT, LimitSheet

PART_KINDS = ("mass", "beam", "shell", "solid")  # by dimension
TINTS = ("#9DB4A0", "#C9A08A", "#8EA3B8", "#CDB67A", "#AD95AE", "#A9AF7B", "#C99A9A", "#9AA9AD")


def _nothing() -> Mapping[Any, Any]:
    return {}


@dataclass(frozen=True)
class Body:
    """A piece of geometry with its walls (thickness, share of the surface) and holes.

    `kind` is solid, sheet, wire or facets (triangles without exact geometry); `brep` holds
    the kernel's bytes where there are any.
    """

    key: int
    name: str
    colour: str
    shape: Shape
    walls: tuple[tuple[float, float], ...]
    thin_share: float  # share of the surface that lies opposite a wall
    holes: tuple[Hole, ...]
    source: str = ""
    kind: str = "solid"
    brep: NDArray[np.uint8] = field(default_factory=lambda: np.empty(0, np.uint8))

    @property
    def form(self) -> str:
        """What it is to be meshed as: `solid`, `sheet` or `wire`; open facets are a sheet."""
        return self.kind if self.kind != "facets" else "solid" if self.shape.solid else "sheet"

    @cached_property
    def fingerprint(self) -> str:
        """Changes when the geometry changes."""
        digest = hashlib.blake2b(digest_size=8)
        for array in (self.shape.points, self.shape.facets, self.shape.facet_face):
            digest.update(np.ascontiguousarray(array).data)
        return digest.hexdigest()


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
    grading: Mapping[str, Mapping[int, Grading]] = field(default_factory=_nothing)  # body key → edge → grading
    ways: Mapping[str, Mapping[int, str]] = field(default_factory=_nothing)  # body key → face → regular or free
    local: tuple[LocalSize, ...] = ()
    washers_at: tuple[WasherAt, ...] = ()
    trias: str = ""
    quadratic: bool = False  # delivered with mid-side nodes

    def beside_size(self, body: int) -> str:
        """A word for everything but size, growth, ring table and divisions that shapes the shells of a body."""
        word = str(body)
        mine = [c for c in self.local if c.kind in ("ball", "box") or c.body == body], [w for w in self.washers_at if w.body == body]
        return (
            repr((sorted(self.grading.get(word, {}).items()), sorted(self.ways.get(word, {}).items()), mine, self.trias))
            if (any(mine) or word in self.grading or word in self.ways or self.trias)
            else ""
        )


def shell_rules(choices: MeshChoices, body: int) -> ShellRules:
    """The mesher's rules for one body by itself."""
    word = str(body)
    lots = {kind: {i: c.size for c in choices.local if c.kind == kind and c.body == body for i in c.items} for kind in ("faces", "edges")}
    return ShellRules(
        choices.size, choices.growth, washers=choices.washers, washers_at=tuple(w for w in choices.washers_at if w.body == body),
        divisions=choices.divisions.get(word, {}), grading=choices.grading.get(word, {}), ways=choices.ways.get(word, {}),
        face_size=lots["faces"], edge_size=lots["edges"], places=tuple(c for c in choices.local if c.kind in ("ball", "box")), trias=choices.trias,
    )  # fmt: skip


@dataclass(frozen=True)
class Document:
    """Everything; all fields are values. `basis` tells from which state sheets and meshes were made."""

    name: str = "Untitled"
    units: str = "mm"
    bodies: tuple[Body, ...] = ()
    materials: tuple[Material, ...] = LIBRARY
    body_material: Mapping[int, str] = field(default_factory=_nothing)
    left_out: tuple[LeftOut, ...] = ()
    looked_past: tuple[LookedPast, ...] = ()
    splits: tuple[Split, ...] = ()
    hard_points: tuple[HardPoint, ...] = ()
    wall_choices: tuple[WallChoice, ...] = ()  # what was decided by hand about walls
    bridges: tuple[Bridge, ...] = ()
    moves: tuple[EdgeMove, ...] = ()
    planes: tuple[WorkingPlane, ...] = ()
    points: tuple[WorkingPoint, ...] = ()
    views: tuple[SavedView, ...] = ()
    joined: tuple[tuple[int, ...], ...] = ()  # groups of bodies whose meshes share nodes
    joints: tuple[Joint, ...] = ()
    faults: tuple[Fault, ...] = ()  # what was found, worst first
    revision: tuple[str, ...] = ()  # what the last replacement recognised
    raw_sheets: Mapping[int, Sheet] = field(default_factory=_nothing)  # as extracted; `sheets` are prepared
    sheets: Mapping[int, Sheet] = field(default_factory=_nothing)
    meshed: Mapping[int, Sheet] = field(default_factory=_nothing)  # the sheets that the shells lie on
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
        return judge(self.mesh, self.limit_sheet, self.choices.size or 1.0, self.wanted)

    @cached_property
    def wanted(self) -> Floats | None:
        """Wanted size (m,) of every element where walls, edges or places have sizes of their own; None: one for all."""
        if not self.choices.local:
            return None
        out = np.full(self.mesh.elements, self.choices.size)
        centres = self.mesh.centres()
        for key, sheet in self.meshed.items():
            mine = np.flatnonzero((self.mesh.body == key) & self.mesh.is_shell)
            if len(mine):
                rules = shell_rules(self.choices, key)
                out[mine] = wanted_on(sheet.shape, centres[mine], self.mesh.face[mine], rules)
        return out

    @cached_property
    def hung(self) -> NDArray[np.int64]:
        """Numbers of the nodes on which spiders and masses hang."""
        alone = np.array([s.centre for s in self.spiders] + [m.node for m in self.masses], np.int64)
        return np.unique(np.concatenate([alone, *(s.nodes for s in self.spiders)]).astype(np.int64))

    @cached_property
    def node_index(self) -> dict[int, int]:
        return {int(n): i for i, n in enumerate(self.mesh.node_id)}

    # -- what depends on what ------------------------------------------------
    def geometry_state(self, body: int) -> str:
        """A word that changes when the midsurface of a body would come out differently."""
        hands = [c.hand for c in self.wall_choices if c.body == body]
        return self.body(body).fingerprint + (hashlib.blake2b(repr(hands).encode(), digest_size=6).hexdigest() if hands else "")

    def prepare_state(self, body: int) -> str:
        """A word that changes when what is prepared on a body's sheet changes."""
        lots = (self.left_out, self.looked_past, self.splits, self.hard_points, self.bridges, self.moves)
        mine = sorted(_word(change) for lot in lots for change in lot if change.body == body)
        return f"{self.basis.get(f'sheet:{body}', '')}:{hashlib.blake2b(repr(mine).encode(), digest_size=8).hexdigest()}"

    def mesh_state(self, body: int) -> str:
        """A word that changes when the shells of a body would come out differently."""
        c = self.choices
        hand = sorted(c.divisions.get(str(body), {}).items())
        together = sorted(g for g in self.joined if body in g)
        return f"{self.prepare_state(body)}|{c.size:g}|{c.growth:g}|{c.washers}|{hand}|{together}{c.beside_size(body)}"

    def lines_of(self, body: int) -> tuple[NDArray[np.int32], ...]:
        """Node numbers along each edge of a body's sheet; none where the shells were made on an earlier one, whose edges had other numbers."""
        fits = self.basis.get(f"mesh:{body}", "").startswith(f"{self.prepare_state(body)}|")  # as `mesh_state` begins
        return self.mesh_edges.get(body, ()) if fits else ()

    @cached_property
    def stale(self) -> tuple[str, ...]:
        """What was made from a state that is no longer the present one, in plain words."""
        out = []
        alive = {b.key: b.name for b in self.bodies}
        for key in self.sheets:
            if key not in alive or self.basis.get(f"sheet:{key}") != self.geometry_state(key):
                out.append(f"midsurface of {alive.get(key, 'a body that is gone')}")
        for key in self.mesh_edges:
            if key in alive and self.basis.get(f"mesh:{key}") != self.mesh_state(key):
                out.append(f"shells of {self.body(key).name}")
        known = self.node_index
        elements = set(self.mesh.element_id.tolist())
        for s in self.sets:
            ids = s.ids.tolist()
            if any((i not in known) if s.kind == "node" else (i not in elements) for i in ids):
                out.append(f"set {s.name}")
        return tuple(out)


def _word(change: Any) -> str:
    """A recipe in words, its measures rounded."""
    values = (getattr(change, f.name) for f in fields(change))
    return repr([v if isinstance(v, str | bool | int) else np.round(np.asarray(v, float), 6).tolist() for v in values])
