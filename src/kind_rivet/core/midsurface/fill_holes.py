"""Closing holes of a sheet with facets, so that meshing looks past them."""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, frame, project, unit
from kind_rivet.core.geometry.loops import free_loops
from kind_rivet.core.geometry.shape import Shape


def close_holes(shape: Shape, centres: Floats, axes: Floats, diameters: Floats) -> tuple[Shape, Floats, list[int]]:
    """Close the free loops found near the given hole axes.

    centres, axes (h, 3), diameters (h,) come from the solid; a loop belongs to a hole
    when its middle lies on the axis within a tenth of the diameter and its size fits.
    Returns the sheet, the points (k, 3) where the axes of the closed holes meet it, and
    the indices of holes that were not found.
    """
    loops = _closed_free_loops(shape)
    facets, owner, normals = [shape.facets], [shape.facet_face], [shape.normals]
    points = shape.points
    gone: set[int] = set()
    middles, missing = [], []
    for h in range(len(centres)):
        best = None
        for edges, ring in loops:
            if set(edges) & gone:
                continue
            ring_points = shape.points[ring]
            middle = ring_points.mean(axis=0)
            away = middle - centres[h]
            radial = away - (away @ axes[h]) * axes[h]
            reach = np.linalg.norm(ring_points - middle, axis=1).mean() * 2
            if (
                np.linalg.norm(radial) < 0.1 * diameters[h]
                and abs(reach - diameters[h]) < 0.2 * diameters[h]
                and abs(away @ axes[h]) < 2 * diameters[h]
            ):
                best = (edges, ring, middle)
                break
        if best is None:
            missing.append(h)
            continue
        edges, ring, middle = best
        face = shape.edge_faces[edges[0]][0]
        near = shape.facets[shape.segment_faces[_key(ring[0], ring[1])][0]]
        normal = unit(np.cross(shape.points[near[1]] - shape.points[near[0]], shape.points[near[2]] - shape.points[near[0]]))
        middle = project(shape.faces[face].carrier, middle[None])[0]
        u, v = frame(normal)
        q = shape.points[ring] - middle
        x, y = q @ u, q @ v
        if np.sum(x * np.roll(y, -1) - np.roll(x, -1) * y) < 0:
            ring = ring[::-1]
        top = len(points)
        points = np.vstack((points, middle))
        fan = np.column_stack((np.full(len(ring), top), ring, np.roll(ring, -1))).astype(np.int32)
        facets.append(fan)
        owner.append(np.full(len(fan), face, np.int32))
        normals.append(np.broadcast_to(normal, (len(fan), 3, 3)))
        gone |= set(edges)
        middles.append(middle)
    if not gone:
        return shape, np.empty((0, 3)), missing
    kept = tuple(e for k, e in enumerate(shape.edges) if k not in gone)
    out = replace(
        shape, points=points, facets=np.concatenate(facets), facet_face=np.concatenate(owner), normals=np.concatenate(normals), edges=kept
    )
    return out, np.array(middles), missing


def _key(a: int, b: int) -> tuple[int, int]:
    return (int(a), int(b)) if a < b else (int(b), int(a))


def _closed_free_loops(shape: Shape) -> list[tuple[list[int], NDArray[np.int32]]]:
    """Closed loops of free edges: (edges, facet nodes round the loop)."""
    out = []
    for loop in free_loops(shape):
        following: dict[int, list[int]] = {}
        for e in loop:
            nodes = shape.edges[e].nodes.tolist()
            for a, b in itertools.pairwise(nodes):
                following.setdefault(a, []).append(b)
                following.setdefault(b, []).append(a)
        if any(len(v) != 2 for v in following.values()):
            continue
        first = next(iter(following))
        ring, previous, here = [first], -1, first
        while True:
            nxt = next(n for n in following[here] if n != previous) if following[here][0] != following[here][1] else following[here][0]
            if nxt == first:
                break
            ring.append(nxt)
            previous, here = here, nxt
        out.append((loop, np.array(ring, np.int32)))
    return out
