"""Edges linked into loops."""

from __future__ import annotations

from kind_rivet.core.geometry.shape import Shape


def linked(shape: Shape, edges: list[int]) -> list[list[int]]:
    """Groups of the given edges that hang together at their ends (edge numbers, in no special order)."""
    at: dict[int, list[int]] = {}
    for e in edges:
        for end in _ends(shape, e):
            at.setdefault(end, []).append(e)
    seen: set[int] = set()
    out = []
    for e in edges:
        if e in seen:
            continue
        seen.add(e)
        loop, stack = [], [e]
        while stack:
            here = stack.pop()
            loop.append(here)
            for end in _ends(shape, here):
                for other in at[end]:
                    if other not in seen:
                        seen.add(other)
                        stack.append(other)
        out.append(loop)
    return out


def free_loops(shape: Shape) -> list[list[int]]:
    """Free edges of a sheet linked into loops."""
    return linked(shape, [e for e, beside in enumerate(shape.edge_faces) if len(beside) == 1])


def _ends(shape: Shape, edge: int) -> set[int]:
    nodes = shape.edges[edge].nodes
    return {int(nodes[0]), int(nodes[-1])}
