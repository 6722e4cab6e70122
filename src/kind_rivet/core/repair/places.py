"""Places of a mesh tried another way: cut out with what lies round them, filled anew, eased, and put back by whoever finds that better."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.errors import Refused
from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.mesh.excerpt import Around, excerpt
from kind_rivet.core.mesh.kinds import TRIA
from kind_rivet.core.mesh.mesh import Mesh
from kind_rivet.core.quality.index import Quality, judge
from kind_rivet.core.quality.limits import LimitSheet
from kind_rivet.core.quality.shell_metrics import LONGEST, SHORTEST
from kind_rivet.core.repair.holds import holds_of
from kind_rivet.core.repair.optimise import optimise
from kind_rivet.core.repair.refilling import Seated, filled_anew

EASED = 3  # rows beyond what was filled whose nodes are eased with it


@dataclass
class Ground:
    """What shells sit on and are judged by, and what was found out so far.

    shapes : by body
    wanted : the size (m,) wanted of every shell of a mesh, None where it is the same for all
    hung : numbers of nodes that other things hang on
    given_up : points of the index that may go for neighbours alike in size
    trees : search trees over the bodies
    around : which elements touch which nodes, for one mesh at a time
    """

    shapes: dict[int, Shape]
    sheet: LimitSheet
    size: float
    wanted: Callable[[Mesh], Floats | None] = lambda _: None
    hung: NDArray[np.int64] = field(default_factory=lambda: np.empty(0, np.int64))
    given_up: float = 0.0
    trees: dict[int, FacetTree] = field(default_factory=dict)
    around: Around | None = None

    def judged(self, mesh: Mesh) -> Quality:
        return judge(mesh, self.sheet, self.size, self.wanted(mesh))

    def middle_side(self, mesh: Mesh, lot: NDArray[np.int32]) -> float:
        """The side of the middle one of some shells (their numbers), long and short sides of each taken together."""
        values = self.judged(mesh).values[np.isin(mesh.element_id, lot)]
        return float(np.median(np.sqrt(values[:, SHORTEST] * values[:, LONGEST])))

    def widened(self, mesh: Mesh, elements: NDArray[np.int64], rows: int, among: NDArray[np.bool_]) -> NDArray[np.int64]:
        """The elements and so many rows round them of those `among` (m,) which others may be taken."""
        if self.around is None or self.around.mesh is not mesh:
            self.around = Around(mesh)
        return self.around.widened(elements, rows, among)

    def cut_out(self, mesh: Mesh, elements: NDArray[np.int64], rows: int) -> Mesh:
        """Nothing but these elements, so many rows of shells round them, and whatever else hangs on their nodes."""
        elements = self.widened(mesh, elements, rows, mesh.is_shell)
        return excerpt(mesh, self.widened(mesh, elements, 1, ~mesh.is_shell))

    def eased(self, mesh: Mesh, nodes: NDArray[np.int64] | None = None) -> tuple[Mesh, int]:
        """The mesh with its nodes (or only these) eased, and how many moved."""
        held = holds_of(mesh, self.shapes, trees=self.trees)
        done = optimise(mesh, held, self.sheet, self.size, nodes, wanted=self.wanted(mesh), given_up=self.given_up)
        return done.mesh, done.moved

    def eased_round(self, mesh: Mesh, elements: NDArray[np.int64]) -> Mesh:
        """The mesh with the nodes of these elements, and of rows of shells round them, eased."""
        rows = mesh.shells()[Around(mesh).widened(elements, EASED, mesh.is_shell & (mesh.ring < 0))]
        return self.eased(mesh, np.unique(rows[rows >= 0]))[0]

    def filled(self, mesh: Mesh, lot: NDArray[np.int32], size: float, most_trias: int | None = None) -> Mesh | None:
        """The mesh with a lot of shells (their numbers) filled anew and what lies round them eased.

        None where it cannot be filled, or has more than `most_trias` then.
        """
        try:
            new, _, _ = filled_anew(mesh, Seated(mesh, self.shapes), lot, size, self.hung)
        except Refused:
            return None
        if most_trias is not None and (new.kind == TRIA).sum() > most_trias:
            return None
        return self.eased_round(new, np.flatnonzero(~np.isin(new.element_id, mesh.element_id)))
