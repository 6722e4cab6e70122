"""Symmetric regions get symmetric meshes."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.spatial import cKDTree

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.meshing.free.fill import FlatMesh, fill
from kind_rivet.core.meshing.free.symmetry import fill_symmetric, find_symmetry
from tests.thin_meshes import drawn_sheet, meshed

SIZE = 3.0


def ring(centre: tuple[float, float], radius: float, n: int, phase: float = 0.0, hole: bool = True) -> Floats:
    t = phase + np.arange(n) / n * 2 * np.pi * (-1 if hole else 1)
    return np.array(centre) + radius * np.column_stack((np.cos(t), np.sin(t)))


def rectangle(width: float, height: float) -> Floats:
    nx, ny = 2 * round(width / SIZE / 2), 2 * round(height / SIZE / 2)
    a, b = np.arange(nx) / nx * width, np.arange(ny) / ny * height
    return np.concatenate(
        [np.column_stack(p) for p in ((a, 0 * a), (0 * b + width, b), (width - a, 0 * a + height), (0 * b, height - b))]
    )  # fmt: skip


def turned(loops: list[Floats], angle: float) -> list[Floats]:
    c, s = np.cos(angle), np.sin(angle)
    return [loop @ np.array([[c, s], [-s, c]]) + 7.0 for loop in loops]


PLATE = [rectangle(60, 40), *(ring((x, y), 6, 12) for x in (10, 50) for y in (10, 30))]
ONE_SIDED = [rectangle(60, 40), ring((20, 20), 7, 12)]
FLANGE = [
    ring((0, 0), 50, 96, hole=False),
    ring((0, 0), 15, 36),
    *(ring((33 * np.cos(a), 33 * np.sin(a)), 9, 12, a) for a in np.arange(6) * np.pi / 3),
]
DISC = [FLANGE[0], *FLANGE[2:]]
SQUARE = [rectangle(40, 40), ring((20, 20), 7, 12)]  # no node where its diagonals cross the ring


def made(loops: list[Floats]) -> FlatMesh:
    out, _ = fill_symmetric(loops, SIZE, 0.25, lambda part: fill(part, SIZE))
    assert out is not None
    return out


def mirrored(mesh: FlatMesh, centre: Floats, angle: float) -> float:
    """Largest distance of a mirrored node from the nearest node."""
    c, s = np.cos(2 * angle), np.sin(2 * angle)
    image = (mesh.points - centre) @ np.array([[c, s], [s, -c]]) + centre
    return float(cKDTree(mesh.points).query(image)[0].max())


@pytest.mark.parametrize(
    ("loops", "axes"),
    [(PLATE, 2), (ONE_SIDED, 1), (FLANGE, 6), (DISC, 6), (SQUARE, 2)],
    ids=["plate", "one axis", "flange", "disc", "square"],
)
@pytest.mark.parametrize("angle", [0.0, 0.4])
def test_a_symmetric_border_gets_a_symmetric_mesh(loops: list[Floats], axes: int, angle: float) -> None:
    loops = turned(loops, angle)
    symmetry = find_symmetry(loops, SIZE)
    assert symmetry is not None and len(symmetry.axes) == axes
    mesh = made(loops)
    border = np.concatenate(loops)
    assert np.array_equal(mesh.points[: len(border)], border)
    assert mesh.worst > 0.65 and mesh.trias <= 0.05 * len(mesh.elements)
    used = symmetry.axes
    assert mirrored(mesh, symmetry.centre, used[0]) < 1e-6 * SIZE
    if len(loops) == 8:  # round a hole every axis counts
        assert max(mirrored(mesh, symmetry.centre, a) for a in symmetry.axes) < 1e-6 * SIZE


def test_every_element_is_there_once() -> None:
    mesh = made(FLANGE)
    sides = np.sort(np.concatenate([mesh.elements[:, [k, (k + 1) % 4]] for k in range(4)]), axis=1)
    _, count = np.unique(sides, axis=0, return_counts=True)
    assert count.max() == 2 and (count == 1).sum() == sum(len(loop) for loop in FLANGE)
    corner = mesh.points[mesh.elements]
    x, y = corner[..., 0], corner[..., 1]
    area = np.sum(x * np.roll(y, -1, axis=1) - np.roll(x, -1, axis=1) * y, axis=1) / 2
    assert (area > 0).all()
    whole = sum(np.sum(p[:, 0] * np.roll(p[:, 1], -1) - np.roll(p[:, 0], -1) * p[:, 1]) / 2 for p in FLANGE)
    assert area.sum() == pytest.approx(whole)


def test_what_is_not_symmetric_is_left_to_others() -> None:
    assert find_symmetry([rectangle(60, 40), ring((20, 17), 7, 12)], SIZE) is None
    odd = [rectangle(60, 40), ring((20, 20), 7, 12, phase=0.2)]
    assert find_symmetry(odd, SIZE) is None
    assert fill_symmetric(odd, SIZE, 0.25, lambda part: fill(part, SIZE)) == (None, 0)


def test_a_bolt_flange_on_a_pipe_is_seen_alike_from_every_hole() -> None:
    """The pipe's seam looks at a hole, so that its node on the flange does not spoil the pattern."""
    sheet = drawn_sheet("flanged_pipe")
    mesh = meshed(sheet, SIZE)
    flange = next(f for f, face in enumerate(sheet.shape.faces) if face.carrier.kind == "plane")
    nodes = mesh.shells.points[np.unique(mesh.shells.elements[mesh.shells.face == flange])][:, :2]  # before it is optimised
    for k in range(4):
        angle = np.radians(45.0 * k)
        c, s = np.cos(2 * angle), np.sin(2 * angle)
        assert cKDTree(nodes).query(nodes @ np.array([[c, s], [s, -c]]))[0].max() < 0.03 * SIZE
    assert len(mesh.quality.failing) == 0 and mesh.least_jacobian > 0.75
