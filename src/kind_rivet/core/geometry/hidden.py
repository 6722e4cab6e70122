"""The plane, sphere, cylinder, cone or torus that a spline really is, from places on it with their exact normals.

Other programs hand on round faces as splines, whole turns of them too. With
exact normals every kind is found in closed form. The rotation about its axis
moves a surface of revolution within itself, so its velocity is square to every
normal; the rotation for which that holds best gives the axis (the normals lie in
a linear complex: Pottmann & Wallner, *Computational Line Geometry*, 2001, ch. 3).
"""

from __future__ import annotations

import numpy as np

from kind_rivet.core.geometry.carriers import FREE, Carrier, Floats, circle_in_plane, distance, project, surface_normals

CLOSE = 1e-6  # of the reach of the places: how far one may lie off
TURNED = 2e-4  # how far a normal may be off, rad
ROUND = 1e-5  # mean square of the velocity along the normals, in reaches, up to which a rotation moves the surface within itself


def hidden_carrier(points: Floats, normals: Floats) -> Carrier:
    """The carrier that `points` (n, 3) with unit `normals` (n, 3; either sense, the same all over) lie on; else `FREE`."""
    if len(points) < 6:
        return FREE
    centre = points.mean(axis=0)
    reach = float(np.linalg.norm(np.ptp(points, axis=0)))
    if reach <= 0:
        return FREE
    p = (points - centre) / reach
    for found in (_plane(p, normals), _sphere(p, normals), *_round(p, normals)):
        if found.kind != "free" and _holds(found, p, normals):
            return _moved(found, centre, reach)
    return FREE


def _holds(found: Carrier, p: Floats, normals: Floats) -> bool:
    if distance(found, p).max() > CLOSE:
        return False
    if found.kind == "plane":
        own = np.broadcast_to(found.array[3:6], p.shape)
    else:
        own = surface_normals(found, project(found, p))
    turned = np.linalg.norm(np.cross(own, normals), axis=1)
    return bool(turned.max() <= TURNED)


def _plane(p: Floats, normals: Floats) -> Carrier:
    mean = normals.mean(axis=0)
    if np.linalg.norm(mean) < 1 - 1e-6:
        return FREE
    axes = np.linalg.svd(p - p.mean(axis=0), full_matrices=False)[2]
    return Carrier("plane", (*p.mean(axis=0), *(axes[2] if axes[2] @ mean > 0 else -axes[2])))


def _sphere(p: Floats, normals: Floats) -> Carrier:
    """Points are a centre and a radius along their normals: least squares."""
    q, n = p - p.mean(axis=0), normals - normals.mean(axis=0)
    spread = float((n * n).sum())
    if spread < 1e-12:
        return FREE
    radius = float((q * n).sum() / spread)
    return Carrier("sphere", (*(p - radius * normals).mean(axis=0), abs(radius)))


def _round(p: Floats, normals: Floats) -> list[Carrier]:
    """Cylinder, cone and torus about the axis of the rotation that moves the surface within itself; those that make sense."""
    turns = np.cross(p, normals)
    nn, tn, tt = normals.T @ normals, turns.T @ normals, turns.T @ turns
    back = np.linalg.pinv(nn, rcond=1e-9, hermitian=True) @ tn.T  # the best shift for each rotation
    values, vectors = np.linalg.eigh(tt - tn @ back)
    axis = vectors[:, 0]
    if values[0] > ROUND * len(p):
        return []
    base = np.cross(axis, -back @ axis)
    q = p - base
    h = q @ axis
    radial = q - h[:, None] * axis
    r = np.linalg.norm(radial, axis=1)
    lean = normals @ axis
    out = []
    if np.ptp(lean) < 2 * TURNED:
        if abs(lean.mean()) < TURNED:
            out.append(Carrier("cylinder", (*base, *axis, float(r.mean()))))
        slope, first = np.polyfit(h, r, 1) if np.ptp(h) > 1e-9 else (0.0, 0.0)
        if abs(slope) > TURNED:
            apex = base - first / slope * axis
            out.append(Carrier("cone", (*apex, *(np.sign(slope) * axis), float(np.arctan(abs(slope))))))
        return out
    circle = circle_in_plane(np.column_stack((r, h)))
    if circle is not None and circle[0][0] > circle[1]:
        out.append(Carrier("torus", (*(base + circle[0][1] * axis), *axis, float(circle[0][0]), float(circle[1]))))
    return out


def _moved(found: Carrier, centre: Floats, reach: float) -> Carrier:
    """From places of reach one about their middle back to where they were."""
    d = found.array
    place = centre + reach * d[:3]
    if found.kind == "plane":
        return Carrier("plane", (*place, *d[3:]))
    if found.kind == "sphere":
        return Carrier("sphere", (*place, reach * d[3]))
    if found.kind == "cone":
        return Carrier("cone", (*place, *d[3:]))
    return Carrier(found.kind, (*place, *d[3:6], *(reach * d[6:])))
