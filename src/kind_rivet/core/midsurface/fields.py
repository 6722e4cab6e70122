"""How far points lie in front of or behind a face: its carrier taken as if it went on for ever."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from kind_rivet.core.geometry.carriers import Carrier, Floats, project, unit
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.kernels import kernel


class Field(Protocol):
    """Value (n,) and gradient (n, 3) at points (n, 3)."""

    def __call__(self, p: Floats) -> tuple[Floats, Floats]: ...


@dataclass(frozen=True)
class CarrierField:
    """Signed distance from an analytic carrier; `sign` is 1 where the face looks away from the carrier's own inside."""

    carrier: Carrier
    sign: float

    def __call__(self, p: Floats) -> tuple[Floats, Floats]:
        value, gradient = signed_distance(self.carrier, p)
        return self.sign * value, self.sign * gradient


def signed_distance(carrier: Carrier, p: Floats) -> tuple[Floats, Floats]:
    """Distance (n,) in front of a plane, outside a cylinder, cone, sphere or torus tube; and its gradient (n, 3)."""
    d = carrier.array
    q = p - d[:3]
    if carrier.kind == "plane":
        return q @ d[3:6], np.broadcast_to(d[3:6], p.shape)
    if carrier.kind == "sphere":
        radius = np.linalg.norm(q, axis=1)
        return radius - d[3], unit(q)
    h = q @ d[3:6]
    radial = q - h[:, None] * d[3:6]
    rho = np.linalg.norm(radial, axis=1)
    outward = radial / np.maximum(rho, 1e-300)[:, None]
    if carrier.kind == "cylinder":
        return rho - d[6], outward
    if carrier.kind == "cone":
        c, s = np.cos(d[6]), np.sin(d[6])
        return rho * c - h * s, c * outward - s * d[3:6]
    if carrier.kind == "torus":
        ring = q - d[6] * outward
        tube = np.linalg.norm(ring, axis=1)
        return tube - d[7], ring / np.maximum(tube, 1e-300)[:, None]
    raise ValueError(carrier.kind)


@kernel
def _dot(a, b, n):  # type: ignore[no-untyped-def]
    """(a − b) · n, added up in the order in which arrays of rows are."""
    return (a[0] - b[0]) * n[0] + (a[2] - b[2]) * n[2] + (a[1] - b[1]) * n[1]


@kernel
def _from_tangents(p, facet, weight, points, facets, normals):  # type: ignore[no-untyped-def]
    """Distance (n,) of places (n, 3) from the tangent planes where facets come nearest to them, at `weight` (n, 3) of their corners,
    and the unit normals (n, 3) of these planes."""
    value, out = np.empty(len(p)), np.zeros((len(p), 3))
    flat, lift, normal = np.empty(3), np.empty(3), np.empty(3)
    for i in range(len(p)):
        f = facet[i]
        for k in range(3):
            flat[k] = normal[k] = lift[k] = 0.0
            for j in range(3):
                normal[k] += weight[i, j] * normals[f, j, k]
                flat[k] += weight[i, j] * points[facets[f, j], k]
        # The curved point above the flat one (half the mean lift onto the corners' tangent planes, as in Patch.to_space).
        for j in range(3):
            away = _dot(flat, points[facets[f, j]], normals[f, j])
            for k in range(3):
                lift[k] -= weight[i, j] * away * normals[f, j, k]
        length = math.sqrt(normal[0] ** 2 + normal[1] ** 2 + normal[2] ** 2)
        for k in range(3):
            if length > 0:
                out[i, k] = normal[k] / length
            flat[k] = p[i, k] - flat[k]
            lift[k] *= 0.5
        value[i] = _dot(flat, lift, out[i])
    return value, out


@dataclass(frozen=True)
class FacetField:
    """Distance from the tangent plane at the nearest point of a free face, so that it runs on straight beyond its border."""

    tree: FacetTree
    normals: Floats  # (m, 3, 3) at the facet corners

    def __call__(self, p: Floats) -> tuple[Floats, Floats]:
        facet, weight, _ = self.tree.nearest(p)
        return _from_tangents(np.ascontiguousarray(p, float), facet, weight, self.tree.points, self.tree.facets, self.normals)

    @property
    def point_normals(self) -> Floats:
        """Unit normals (k, 3) at the points of the facets."""
        out = np.zeros_like(self.tree.points)
        np.add.at(out, self.tree.facets.ravel(), self.normals.reshape(-1, 3))
        return unit(out)

    def moved_to(self, between: Field, wall: float) -> Floats:
        """The points of the facets on the middle half a wall below them; those that find none within a wall stay half a wall below."""
        below = self.tree.points - wall / 2 * self.point_normals
        with np.errstate(over="ignore", invalid="ignore"):
            found = settle(below, [between])[0]
        lost = ~(np.linalg.norm(found - below, axis=1) < wall)
        found[lost] = below[lost]
        return found


def by_field(fields: list[Field]) -> list[tuple[FacetField, list[int]]]:
    """Every facet field with the faces that have it."""
    out: dict[int, tuple[FacetField, list[int]]] = {}
    for f, field in enumerate(fields):
        if isinstance(field, FacetField):
            out.setdefault(id(field), (field, []))[1].append(f)
    return list(out.values())


def together(fields: list[FacetField]) -> FacetField:
    """One field of several; points and facets keep their order."""
    first = np.cumsum([0] + [len(f.tree.points) for f in fields])
    facets = np.concatenate([f.tree.facets + k for f, k in zip(fields, first[:-1].tolist(), strict=True)])
    points = np.concatenate([f.tree.points for f in fields])
    return FacetField(FacetTree.over(points, facets.astype(np.int32)), np.concatenate([f.normals for f in fields]))


def face_field(shape: Shape, face: int) -> Field:
    """The signed distance field of one face of a solid, positive outside."""
    carrier = shape.faces[face].carrier
    mine = np.flatnonzero(shape.facet_face == face)
    if carrier.kind == "free":
        used, flat = np.unique(shape.facets[mine], return_inverse=True)
        return FacetField(FacetTree.over(shape.points[used], flat.reshape(-1, 3).astype(np.int32)), shape.normals[mine])
    corners = shape.points[shape.facets[mine]].reshape(-1, 3)
    _, gradient = signed_distance(carrier, corners)
    agree = np.einsum("ij,ij->i", gradient, shape.normals[mine].reshape(-1, 3)).sum()
    return CarrierField(carrier, 1.0 if agree > 0 else -1.0)


def settle(points: Floats, fields: list[Field], rounds: int = 8, cutoff: float = 0.05) -> tuple[Floats, Floats]:
    """Points (n, 3) moved the least so that all fields vanish there, and what is left of the worst field (n,).

    Newton steps of minimum norm by pseudo-inverse, singular values below `cutoff` of the largest left out.
    """
    p = np.array(points, float)
    worst = np.zeros(len(p))
    if not len(p) or not fields:
        return p, worst
    for k in range(rounds + 1):
        lots = [f(p) for f in fields]
        value = np.stack([v for v, _ in lots], axis=1)
        worst = np.abs(value).max(axis=1)
        if k == rounds or worst.max() == 0.0:
            break
        step = _steps(value, np.stack([g for _, g in lots], axis=1), cutoff)
        p = p - step
        if np.abs(step).max() < 1e-14 * (1.0 + np.abs(p).max()):
            break
    return p, worst


def settle_each(points: Floats, fields: list[list[Field]], rounds: int = 8, cutoff: float = 0.05) -> tuple[Floats, Floats]:
    """As `settle`, with fields of its own for every point; each field is asked once a round for all points that have it."""
    p = np.array(points, float)
    worst = np.zeros(len(p))
    users: dict[int, tuple[Field, list[tuple[int, int]]]] = {}
    for i, lot in enumerate(fields):
        for j, field in enumerate(lot):
            users.setdefault(id(field), (field, []))[1].append((i, j))
    asked = [(field, np.array(places)) for field, places in users.values()]
    number = np.array([len(lot) for lot in fields], np.int64)
    value, gradient = np.zeros((len(p), number.max(initial=0))), np.zeros((len(p), number.max(initial=0), 3))
    moving = number > 0
    for k in range(rounds + 1):
        if not moving.any():
            break
        for field, places in asked:
            at = places[moving[places[:, 0]]]
            if len(at):
                value[at[:, 0], at[:, 1]], gradient[at[:, 0], at[:, 1]] = field(p[at[:, 0]])
        worst[moving] = np.abs(value[moving]).max(axis=1)
        moving &= worst > 0.0
        if k == rounds:
            break
        for n in np.unique(number[moving]).tolist():
            mine = np.flatnonzero(moving & (number == n))
            step = _steps(value[mine, :n], gradient[mine, :n], cutoff)
            p[mine] -= step
            moving[mine] = np.abs(step).max(axis=1) >= 1e-14 * (1.0 + np.abs(p[mine]).max(axis=1))
    return p, worst


def _steps(value: Floats, gradient: Floats, cutoff: float) -> Floats:
    """Newton steps (n, 3) of least length for values (n, f) with gradients (n, f, 3)."""
    if value.shape[1] == 1:
        g = gradient[:, 0]
        return np.asarray(value * g / np.maximum(np.einsum("ij,ij->i", g, g), 1e-12)[:, None])
    return np.asarray(np.einsum("nij,nj->ni", np.linalg.pinv(gradient, rcond=cutoff), value))


def on_face(shape: Shape, face: int, points: Floats) -> Floats:
    """Nearest points on the carrier of a face (unchanged for free faces)."""
    return project(shape.faces[face].carrier, points)
