"""Setting rows round bends so that the elements' centres lie in the middle of the wall.

Chords between nodes on an arc of radius R and angle per element α lie inside it by
R (1 − cos α/2): at two elements round a right angle 8 % of R, often a fifth of the wall.
Chords that touch the arc instead (nodes at R / cos β, the rows at the tangent lines slid
along the flats by R tan β) stray half as far and to both sides: the centres are exact.
With n elements over the angle Φ all conditions give β = Φ / (2 (n + 1)).
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, frame, project, surface_normals
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.meshing.corners import CORNERS, follow_bends
from kind_rivet.core.meshing.sheet_mesh import EDGE, FACE, VERTEX, SheetMesh
from kind_rivet.core.meshing.touching import touching_angle
from kind_rivet.core.meshing.washers import LEAST_SIDE
from kind_rivet.core.quality.shell_metrics import SCALED_JACOBIAN, WARP, shell_metrics

ROUND = ("cylinder", "cone", "sphere", "torus")
FLAT = 8.0  # degrees of warp that raising may cause
HAIR = 1e-6  # of the diagonal: farther off it, a node of its border is lifted
RING, TWISTED, TWIST = 12.0, 18.0, 0.5  # degrees of warp from which on it causes none, in rings and elsewhere, but for so little


def balance_bends(shape: Shape, mesh: SheetMesh, size: float) -> tuple[Floats, Floats]:
    """Points (n, 3) with balanced bends, and the height (n,) of each node off its face.

    A bend whose elements would become poor stays as it was, and sides are not made shorter
    than `LEAST_SIDE` of the `size`. Other round walls are raised until their elements' centres lie on them.
    """
    points, height = mesh.points.copy(), np.zeros(len(mesh.points))
    axes: dict[int, Floats] = {}
    round_ones = []
    corners = [f for f, face in enumerate(shape.faces) if face.carrier.kind in CORNERS]
    slid: dict[int, list[Floats]] = {}  # how each bend moved a node
    for face in range(len(shape.faces)):
        bend = _bend(shape, face, mesh.divisions)
        if bend is None:
            if shape.faces[face].carrier.kind in ROUND:
                round_ones.append(face)
            continue
        start, angle, lines, count = bend
        d = shape.faces[face].carrier.array
        beta = _slide(shape.faces[face].carrier.data[6], angle, count, LEAST_SIDE * size)
        nodes = _nodes_of(shape, mesh, face, lines)
        u, v = frame(d[3:6])
        q = mesh.points[nodes] - d[:3]
        axial = (q @ d[3:6])[:, None] * d[3:6]
        theta = np.arctan2(q @ v, q @ u)
        turn = (theta - start + np.pi / 2) % (2 * np.pi) - np.pi / 2
        turned = start + beta + turn * (angle - 2 * beta) / angle
        radius = d[6] / np.cos(beta)
        place = d[:3] + axial + radius * (np.cos(turned)[:, None] * u + np.sin(turned)[:, None] * v)
        moves = place - mesh.points[nodes]
        touched = np.isin(mesh.elements, nodes).any(axis=1)
        if not touched.any():  # looked past at this size
            continue
        rows = mesh.elements[touched]
        before = shell_metrics(points, rows)
        worst = before[:, SCALED_JACOBIAN].min()
        most = np.maximum(np.where(mesh.ring[touched] >= 0, RING, TWISTED), before[:, WARP] + TWIST)  # rings are not optimised
        most[np.isin(mesh.face[touched], corners)] = np.inf  # these follow their bends later
        twisted = np.empty(0, np.int32)
        crossed = _crossed(shape, mesh, face)
        for lot in ((), (), crossed):  # beside what it would twist, and where ribs cross, less may have to do
            held = np.isin(nodes, [*lot, *twisted])
            trial = points.copy()
            for n, m in zip(nodes[~held].tolist(), moves[~held], strict=True):
                trial[n] = mesh.points[n] + (_together([*slid[n], m]) if n in slid else m)
            after = shell_metrics(trial, rows)
            if (now := rows[after[:, WARP] > most]).size:
                twisted = np.union1d(twisted, now)
                continue
            if after[:, SCALED_JACOBIAN].min() < min(0.6, 0.95 * worst):
                continue
            points = trial
            inner = nodes[(mesh.on_kind[nodes] == FACE) & (mesh.on_item[nodes] == face)]
            height[inner] = radius - d[6]
            axes[face] = d[3:6]
            for n, m in zip(nodes[~held].tolist(), moves[~held], strict=True):
                slid.setdefault(n, []).append(m)
            break
    points = follow_bends(shape, mesh, points, axes, FLAT)
    for face in round_ones:
        points = _raised(shape, mesh, face, points, height)
    return points, height


def _together(moves: list[Floats]) -> Floats:
    """The least move (3,) that goes as far in the direction of each of several as that one: what two parts of a bend, or two bends in a
    mitre, ask for alike is done once, what they ask for across each other is done for both.
    """
    moves = [m for m in moves if np.linalg.norm(m) > 0]
    if not moves:
        return np.zeros(3)
    length = np.linalg.norm(moves, axis=1)
    return np.asarray(np.linalg.lstsq(np.array(moves) / length[:, None], length, rcond=0.1)[0])


def _raised(shape: Shape, mesh: SheetMesh, face: int, points: Floats, height: Floats) -> Floats:
    """Nodes of a round wall moved off it until its elements' centres lie on it; borders shared with other walls stay.

    Each node goes by the mean distance of its elements' centres from the carrier, a few
    times over. `height` (n,) is filled for the nodes inside the face.
    """
    carrier = shape.faces[face].carrier
    mine = np.flatnonzero(mesh.face == face)
    rows = mesh.elements[mine]
    if not len(rows):
        return points
    free = {e for e in shape.face_edges[face] if set(shape.edge_faces[e]) == {face}}
    loose = {v for v, edges in shape.vertices.items() if set(edges) <= free}
    movable = (mesh.on_kind == FACE) & (mesh.on_item == face)
    movable |= (mesh.on_kind == EDGE) & np.isin(mesh.on_item, list(free))
    movable |= (mesh.on_kind == VERTEX) & np.isin(mesh.on_item, list(loose))
    corner = np.where(rows >= 0, rows, rows[:, [0]])
    weight = (rows >= 0).astype(float)
    used = np.bincount(corner.ravel(), weight.ravel(), len(points))
    held = np.unique(corner[~movable[corner]])
    off = np.linalg.norm(project(carrier, mesh.points[held]) - mesh.points[held], axis=1)
    lifted = held[off > HAIR * shape.diagonal]
    trial = points.copy()
    trial[lifted] = project(carrier, points[lifted])  # borders lifted at steps must not push their neighbours the other way
    for _ in range(4):
        centre = np.einsum("ij,ijk->ik", weight, trial[corner]) / weight.sum(axis=1)[:, None]
        away = project(carrier, centre) - centre
        step = np.zeros_like(points)
        for k in range(4):
            np.add.at(step, corner[:, k], weight[:, k, None] * away)
        step /= np.maximum(used, 1.0)[:, None]
        trial[movable] += step[movable]
    full = np.where(movable[:, None], trial, points)
    before = shell_metrics(points, rows)
    least = np.minimum(0.6, 0.95 * before[:, SCALED_JACOBIAN])
    most = np.maximum(FLAT, np.minimum(1.05 * before[:, WARP] + 0.5, np.maximum(RING, before[:, WARP])))
    share = np.ones(len(points))
    for again in range(9):  # beside joints and holes, whose nodes stay, less may be better, or nothing
        trial = points + share[:, None] * (full - points)
        after = shell_metrics(trial, rows)
        poor = (after[:, SCALED_JACOBIAN] < least) | (after[:, WARP] > most)
        if not poor.any():
            break
        share[np.unique(corner[poor])] *= 0.5 if again < 4 else 0.0
    else:
        return points
    inner = np.flatnonzero((mesh.on_kind == FACE) & (mesh.on_item == face))
    foot = project(carrier, trial[inner])
    outward = surface_normals(carrier, foot)
    height[inner] = np.einsum("ij,ij->i", trial[inner] - foot, outward)
    return trial


def _slide(radius: float, angle: float, count: int, least: float) -> float:
    """The angle β that makes the chords touch the arc, or as much of it as keeps them at least `least` long."""
    full = touching_angle(angle, count)

    def chord(beta: float) -> float:
        return 2 * radius / np.cos(beta) * np.sin((angle - 2 * beta) / (2 * count))

    if chord(full) >= least or chord(0.0) <= least:
        return full if chord(full) >= least else 0.0
    low, high = 0.0, full
    for _ in range(40):
        middle = (low + high) / 2
        low, high = (middle, high) if chord(middle) >= least else (low, middle)
    return low


def _bend(shape: Shape, face: int, divisions: NDArray[np.int64]) -> tuple[float, float, list[int], int] | None:
    """(start angle, angle, tangent edges, elements across) of a cylinder between two tangent planes, else None."""
    carrier = shape.faces[face].carrier
    if carrier.kind != "cylinder":
        return None
    d = carrier.array
    u, v = frame(d[3:6])
    lines: list[int] = []
    across: list[int] = []
    free_length = line_length = 0.0
    for e in shape.face_edges[face]:
        ends = shape.points[shape.edges[e].nodes]
        along = abs((ends[-1] - ends[0]) @ d[3:6]) > 0.99 * shape.edge_length[e]
        beside = shape.edge_faces[e]
        if not along:
            if len(beside) == 1 or shape.edge_length[e] > 0:
                across.append(e)
            continue
        if len(beside) == 1:
            free_length += shape.edge_length[e]
            continue
        other = beside[0] if beside[1] == face else beside[1]
        plane = shape.faces[other].carrier
        q = ends[0] - d[:3]
        radial = q - (q @ d[3:6]) * d[3:6]
        # A bend that ends on a wall it does not run on into leads down to that wall's middle, which stays where it is.
        if other == face or plane.kind != "plane" or not 0.999 < abs(radial @ plane.array[3:6]) / d[6] < 1.001:
            return None
        lines.append(e)
        line_length += shape.edge_length[e]
    if len(lines) < 2 or free_length > 0.2 * line_length or not across:
        return None
    middle = shape.points[shape.facets[shape.facet_face == face]].mean(axis=(0, 1)) - d[:3]
    centre = np.arctan2(middle @ v, middle @ u)
    turns = []
    for e in lines:
        q = shape.points[shape.edges[e].nodes[0]] - d[:3]
        turns.append((np.arctan2(q @ v, q @ u) - centre + np.pi) % (2 * np.pi) - np.pi)
    low, high = min(turns), max(turns)
    if not 0.05 < high - low < 2.8 or any(min(abs(t - low), abs(t - high)) > 1e-3 for t in turns):
        return None
    counts = [int(divisions[e]) for e in across if abs(_angle_of(shape, e, d, u, v) - (high - low)) < 0.05]
    if not counts:
        return None
    return centre + low, high - low, lines, max(1, int(np.median(counts)))


def _angle_of(shape: Shape, edge: int, d: Floats, u: Floats, v: Floats) -> float:
    q = shape.points[shape.edges[edge].nodes] - d[:3]
    return float(np.ptp(np.unwrap(np.arctan2(q @ v, q @ u))))


def _nodes_of(shape: Shape, mesh: SheetMesh, face: int, lines: list[int]) -> NDArray[np.int64]:
    """Mesh nodes inside a bend, on its curved borders and on its tangent lines.

    An end where a free border runs on along the bend stays, and with it all that lies across the bend from there: were one side of a
    shell slid and the other not, it would be warped.
    """
    d = shape.faces[face].carrier.array
    own = set(shape.face_edges[face])
    held: set[int] = set()
    for vertex, edges in shape.vertices.items():
        if not own & set(edges):
            continue
        for e in set(edges) - own:
            ends = shape.points[shape.edges[e].nodes]
            side = ends[-1] - ends[0]
            if len(shape.edge_faces[e]) == 1 and abs(side @ d[3:6]) > 0.5 * np.linalg.norm(side):
                held.add(vertex)
    chosen = (mesh.on_kind == FACE) & (mesh.on_item == face)
    for e in own:
        if len(shape.edge_faces[e]) == 1 and e not in lines and _straight(shape, e, d):
            continue  # a free straight border of the bend keeps its place
        chosen |= (mesh.on_kind == EDGE) & (mesh.on_item == e)
        for end in (int(shape.edges[e].nodes[0]), int(shape.edges[e].nodes[-1])):
            if end not in held:
                chosen |= (mesh.on_kind == VERTEX) & (mesh.on_item == end)
    nodes = np.flatnonzero(chosen)
    level = shape.points[sorted(held)] @ d[3:6]
    apart = np.abs((mesh.points[nodes] @ d[3:6])[:, None] - level) > HAIR * shape.diagonal
    return nodes[apart.all(axis=1)]


def _crossed(shape: Shape, mesh: SheetMesh, face: int) -> NDArray[np.int64]:
    """Nodes on the borders of a bend on which another wall stands."""
    lines = [e for e in shape.face_edges[face] if len(shape.edge_faces[e]) > 2]
    return np.unique(np.concatenate([mesh.edge_nodes[e] for e in lines] or [np.empty(0, np.int32)]))


def _straight(shape: Shape, edge: int, d: Floats) -> bool:
    ends = shape.points[shape.edges[edge].nodes]
    return bool(abs((ends[-1] - ends[0]) @ d[3:6]) > 0.99 * shape.edge_length[edge])
