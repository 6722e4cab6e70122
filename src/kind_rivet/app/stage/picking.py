"""From a pixel to a body, face, edge, hole, node or element of the document shown."""

from __future__ import annotations

from typing import Any

import numpy as np

from kind_rivet.app.stage.camera import Camera
from kind_rivet.core.document.document import Document
from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape

REACH = 9.0  # pixels


_TREES: dict[int, tuple[Shape, FacetTree]] = {}


def tree_of(shape: Shape) -> FacetTree:
    """The shape's facet tree, built once."""
    known = _TREES.get(id(shape))
    if known is None or known[0] is not shape:
        if len(_TREES) > 60:
            _TREES.clear()
        known = _TREES[id(shape)] = (shape, FacetTree.over(shape.points, shape.facets))
    return known[1]


class Picker:
    """Built once per document and look; rays are cast with the compiled tree."""

    def __init__(self, document: Document, show_mesh: bool, show_sheets: bool) -> None:
        self.document = document
        self.show_mesh = show_mesh and bool(document.mesh.elements)
        self.shapes: dict[int, Shape] = {}
        for body in document.bodies:
            sheet = document.sheets.get(body.key)
            self.shapes[body.key] = sheet.shape if sheet is not None and (show_sheets or self.show_mesh) else body.shape
        self._spots: tuple[Floats, np.ndarray] | None = None
        self._trees: list[tuple[FacetTree, np.ndarray, int]] = []  # tree, element or face of each facet, body (−1 for the mesh)

    def trees(self) -> list[tuple[FacetTree, np.ndarray, int]]:
        if not self._trees:
            if self.show_mesh:
                mesh = self.document.mesh
                rows = mesh.shells()
                index = np.flatnonzero(rows[:, 0] >= 0)
                second = index[rows[index, 3] >= 0]
                facets = np.concatenate((rows[index][:, [0, 1, 2]], rows[second][:, [0, 2, 3]]))
                owner = np.concatenate((index, second))
                from kind_rivet.app.stage.scene import solid_skin

                cells, owners = solid_skin(mesh)
                at = 0
                for c in cells:
                    own = owners[at : at + len(c)]
                    at += len(c)
                    facets = np.concatenate((facets, c[:, [0, 1, 2]])) if len(facets) else c[:, [0, 1, 2]]
                    owner = np.concatenate((owner, own))
                    if c.shape[1] == 4:
                        facets, owner = np.concatenate((facets, c[:, [0, 2, 3]])), np.concatenate((owner, own))
                self._trees = [(FacetTree.over(mesh.points, facets.astype(np.int32)), owner, -1)]
            else:
                self._trees = [(tree_of(s), s.facet_face, key) for key, s in self.shapes.items() if len(s.facets)]
        return self._trees

    def hit(self, camera: Camera, x: float, y: float) -> tuple[int, int, Floats] | None:
        """(body or −1, face or element index, point) first met under a pixel."""
        origin, direction = camera.ray(x, y)
        best: tuple[float, int, int] | None = None
        for tree, owner, body in self.trees():
            far, facet = tree.cast(origin[None], direction[None])
            if facet[0] >= 0 and (best is None or far[0] < best[0]):
                best = (float(far[0]), body, int(owner[facet[0]]))
        if best is None:
            return None
        return best[1], best[2], origin + best[0] * direction

    def pick(self, camera: Camera, lens: str, x: float, y: float) -> Any | None:
        """The item of the lens's kind under a pixel, or None."""
        if lens == "edge":
            return self._edge(camera, x, y)
        if lens == "point":
            return self._point(camera, x, y)
        if lens in ("hole", "ring"):
            return self._hole(camera, x, y)
        if lens == "node":
            return self._node(camera, x, y)
        if lens == "body":
            wire = self._edge(camera, x, y, wires=True)
            if wire is not None:
                return wire[0]
        found = self.hit(camera, x, y)
        if found is None:
            return None
        body, item, _ = found
        if self.show_mesh:
            mesh = self.document.mesh
            if lens == "element":
                return int(mesh.element_id[item])
            if lens == "body":
                return int(mesh.body[item]) if mesh.body[item] >= 0 else None
            return (int(mesh.body[item]), int(mesh.face[item])) if mesh.face[item] >= 0 else None
        if lens == "body":
            return body
        return (body, item) if lens == "face" else None

    def _point(self, camera: Camera, x: float, y: float) -> tuple[float, float, float, int] | None:
        """A corner, an arc's centre or a working point near the pixel; else the place on the surface under it."""
        spots, owners = self._corners()
        found = self.hit(camera, x, y) if not self.show_mesh else None
        if len(spots):
            pixels, depth = camera.to_pixels(spots)
            gap = np.linalg.norm(pixels - (x, y), axis=1)
            near = np.flatnonzero(gap < REACH)
            if found is not None and len(near):  # what lies behind the surface is not meant
                _, front = camera.to_pixels(found[2][None])
                near = near[depth[near] <= front[0] + 25 * camera.per_pixel()]
            if len(near):
                k = int(near[np.argmin(gap[near] + 0.02 * (depth[near] - depth[near].min()) / camera.per_pixel())])
                return (*(round(float(v), 9) for v in spots[k]), int(owners[k]))  # type: ignore[return-value]
        if found is None:
            return None
        return (*(round(float(v), 9) for v in found[2]), found[0])  # type: ignore[return-value]

    def _corners(self) -> tuple[Floats, np.ndarray]:
        if self._spots is None:
            spots: list[Floats] = [np.array([p.place]) for p in self.document.points]
            owners = [0] * len(self.document.points)
            for key, shape in self.shapes.items():
                mine = [shape.points[n] for n in shape.vertices]
                mine += [e.carrier.array[:3] for e in shape.edges if e.carrier.kind == "circle"]
                spots += [np.array(mine)] if mine else []
                owners += [key] * len(mine)
            self._spots = (np.concatenate(spots) if spots else np.empty((0, 3)), np.array(owners, int))
        return self._spots

    def _edge(self, camera: Camera, x: float, y: float, wires: bool = False) -> tuple[int, int] | None:
        """The edge nearest to a pixel; with `wires` only edges of bodies without faces."""
        best: tuple[float, float, tuple[int, int]] | None = None
        for key, shape in self.shapes.items():
            if wires and len(shape.facets):
                continue
            pixels, depth = camera.to_pixels(shape.points)
            for e, edge in enumerate(shape.edges):
                p, q = pixels[edge.nodes[:-1]], pixels[edge.nodes[1:]]
                side = q - p
                s = np.clip(np.einsum("ij,ij->i", np.array([x, y]) - p, side) / np.maximum(np.einsum("ij,ij->i", side, side), 1e-300), 0, 1)
                gap = np.linalg.norm(p + s[:, None] * side - (x, y), axis=1)
                k = int(np.argmin(gap))
                if gap[k] < REACH:
                    rank = float(gap[k]) + 0.02 * float(depth[edge.nodes[k]]) / max(camera.per_pixel(), 1e-300) * 0.01
                    if best is None or rank < best[0]:
                        best = (rank, float(gap[k]), (key, e))
        return best[2] if best else None

    def _hole(self, camera: Camera, x: float, y: float) -> tuple[int, int] | None:
        """Number of the hole (of the mesh where there is one, else of the body) whose mouth the pixel lies in or near."""
        best: tuple[float, tuple[int, int]] | None = None
        for body in self.document.bodies:
            meshed = self.document.mesh_holes.get(body.key) if self.show_mesh else None
            spots = (
                [(h.centre, h.radius) for h in meshed]
                if meshed is not None
                else [(h.centre, h.diameter / 2 or h.length / 2) for h in body.holes]
            )
            if not spots:
                continue
            pixels, depth = camera.to_pixels(np.array([s[0] for s in spots]))
            for k, (_, radius) in enumerate(spots):
                gap = float(np.hypot(*(pixels[k] - (x, y)))) - radius / camera.per_pixel()
                rank = max(gap, 0.0) + 1e-3 * float(depth[k]) / camera.per_pixel()
                if gap < REACH and (best is None or rank < best[0]):
                    best = (rank, (body.key, k))
        return best[1] if best else None

    def _node(self, camera: Camera, x: float, y: float) -> int | None:
        mesh = self.document.mesh
        if not mesh.nodes:
            return None
        found = self.hit(camera, x, y)
        if found is not None and self.show_mesh:
            row = mesh.conn[found[1]]
            nodes = row[row >= 0]
        else:
            nodes = np.arange(mesh.nodes)
        pixels, _ = camera.to_pixels(mesh.points[nodes])
        gap = np.linalg.norm(pixels - (x, y), axis=1)
        k = int(np.argmin(gap))
        return int(mesh.node_id[nodes[k]]) if gap[k] < 2.5 * REACH else None

    def box(self, camera: Camera, lens: str, x0: float, y0: float, x1: float, y1: float) -> list[Any]:
        """Nodes or elements wholly inside a rectangle of pixels (through everything)."""
        mesh = self.document.mesh
        low, high = np.array([min(x0, x1), min(y0, y1)]), np.array([max(x0, x1), max(y0, y1)])
        pixels, _ = camera.to_pixels(mesh.points)
        inside = np.all((pixels >= low) & (pixels <= high), axis=1)
        if lens == "node":
            return [int(n) for n in mesh.node_id[inside]]
        if lens == "element":
            whole = np.where(mesh.conn >= 0, inside[np.maximum(mesh.conn, 0)], True).all(axis=1)
            return [int(e) for e in mesh.element_id[whole]]
        return []
