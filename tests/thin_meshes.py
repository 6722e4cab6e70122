"""From a made-up solid to an optimised mesh of its sheet, without a document; what tests ask of such a mesh."""

from __future__ import annotations

import sys
from dataclasses import dataclass
from functools import cache, cached_property
from importlib import import_module
from types import ModuleType

import numpy as np
from OCP.BRepBuilderAPI import BRepBuilderAPI_Transform
from OCP.gp import gp_Ax1, gp_Ax2, gp_Dir, gp_Pnt, gp_Trsf
from OCP.TopoDS import TopoDS_Shape
from scipy.spatial import cKDTree

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.first_look import look, suggested_size
from kind_rivet.core.geometry.kernel.facets import facet_shape
from kind_rivet.core.geometry.kernel.parts import parts_of
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.mesh.mesh import Mesh
from kind_rivet.core.mesh.topology import pieces
from kind_rivet.core.meshing.assemble import as_mesh
from kind_rivet.core.meshing.rules import ShellRules, WasherRule
from kind_rivet.core.meshing.sheet_mesh import SheetMesh
from kind_rivet.core.meshing.shells import mesh_sheet
from kind_rivet.core.midsurface.extract import extract
from kind_rivet.core.midsurface.sheet import Proof, Sheet
from kind_rivet.core.quality.growth import growths
from kind_rivet.core.quality.index import Quality, judge
from kind_rivet.core.quality.limits import DEFAULT
from kind_rivet.core.quality.shell_metrics import SCALED_JACOBIAN, shell_metrics
from kind_rivet.core.repair.holds import holds_of
from kind_rivet.core.repair.optimise import NEW, optimise
from tests.conftest import EXAMPLES

MOST_GROWTH = 1.5  # between neighbours


@dataclass(frozen=True)
class Made:
    sheet: Shape
    shells: SheetMesh
    mesh: Mesh
    size: float

    @cached_property
    def quality(self) -> Quality:
        return judge(self.mesh, DEFAULT, self.size)

    @property
    def quad_share(self) -> float:
        return self.mesh.counts().get("quad", 0) / self.mesh.elements

    @property
    def least_jacobian(self) -> float:
        return float(shell_metrics(self.mesh.points, self.mesh.shells())[:, SCALED_JACOBIAN].min())

    @property
    def pieces(self) -> int:
        return pieces(self.mesh)

    @property
    def growth(self) -> Floats:
        """Sizes of shells over those of their neighbours, larger over smaller."""
        return growths(self.mesh.points, self.mesh.shells())

    def coincident(self) -> int:
        """Pairs of nodes nearer to each other than a thousandth of the size."""
        return len(cKDTree(self.mesh.points).query_pairs(1e-3 * self.size))

    def angle_spread(self) -> float:
        """Largest difference, in degrees, between the sides' angles round any round hole with a ring."""
        worst = 0.0
        for hole in self.shells.holes:
            if not hole.round or not hole.widths:
                continue
            nodes = np.unique(np.concatenate([self.shells.edge_nodes[e] for e in hole.edges]))
            away = self.shells.points[nodes] - np.array(hole.centre)
            axis = np.array(hole.axis) / np.linalg.norm(hole.axis)
            u = away[0] - (away[0] @ axis) * axis
            u /= np.linalg.norm(u)
            angle = np.sort(np.degrees(np.arctan2(away @ np.cross(axis, u), away @ u)))
            worst = max(worst, float(np.ptp(np.diff(np.append(angle, angle[0] + 360)))))
        return worst


def moved(shape: TopoDS_Shape, how: str) -> TopoDS_Shape:
    """A solid mirrored, turned by an odd angle, or scaled by a number."""
    move = gp_Trsf()
    if how == "mirrored":
        move.SetMirror(gp_Ax2(gp_Pnt(3, 5, 7), gp_Dir(1, 2, -0.5)))
    elif how == "turned":
        move.SetRotation(gp_Ax1(gp_Pnt(1, 2, 3), gp_Dir(0.3, -0.7, 0.9)), 1.234)
    else:
        move.SetScale(gp_Pnt(0, 0, 0), float(how))
    return BRepBuilderAPI_Transform(shape, move, True).Shape()


@cache
def drawing(script: str = "draw_thin_parts") -> ModuleType:
    """A script that draws made-up thin parts."""
    sys.path.insert(0, str(EXAMPLES))
    try:
        return import_module(script)
    finally:
        sys.path.remove(str(EXAMPLES))


def solid_of(part: object) -> Shape:
    return facet_shape(parts_of(part, "solid")[0])


@cache
def drawn(name: str) -> Shape:
    """A made-up part by its name."""
    scripts = (
        "thin_parts",
        "moulded_parts",
        "hole_patterns",
        "joined_parts",
        "round_parts",
        "touching_parts",
        "vessel_parts",
        "wound_parts",
        "duct_parts",
    )
    parts = {part: draw for script in scripts for part, draw in drawing(f"draw_{script}").PARTS.items()}
    return solid_of(parts[name]())


@cache
def drawn_sheet(name: str) -> Sheet:
    return extract(drawn(name))


def whole_proof(name: str) -> Proof:
    """The proof of a made-up part's sheet, which is one piece without edges that end inside the solid."""
    proof = drawn_sheet(name).proof
    assert proof is not None
    assert (proof.pieces, proof.inner_free_length) == (1, 0)
    return proof


def size_for(solid: Shape) -> float:
    seen = look(solid)
    return suggested_size(solid, seen.walls, seen.holes)


def meshed(sheet: Sheet, size: float) -> Made:
    shells = mesh_sheet(sheet.shape, ShellRules(size, 0.25, washers=(WasherRule(rings=1, width=0.0),)))
    mesh = as_mesh(shells, sheet.shape, 1, 1, size)
    mesh = optimise(mesh, holds_of(mesh, {1: sheet.shape}), DEFAULT, size, given_up=NEW, rings=range(len(shells.holes)), straight=True).mesh
    return Made(sheet.shape, shells, mesh, size)


@cache
def made(name: str, times: float = 1.0) -> Made:
    """The mesh of a made-up part at so many times its suggested size."""
    return meshed(drawn_sheet(name), times * size_for(drawn(name)))


def sound_quads(name: str, times: float = 1.0) -> Made:
    """As `made`, for a part whose mesh is one piece of quads alone of which none fails."""
    mesh = made(name, times)
    assert (mesh.pieces, mesh.coincident(), mesh.quad_share) == (1, 0, 1)
    assert not len(mesh.quality.failing)
    return mesh
