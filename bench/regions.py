"""Free meshing of plane regions: the study's regions and a thousand seeded ones; prints the tables of docs/benchmarks.md.

python bench/regions.py [seeds] [folder for pictures]
"""

from __future__ import annotations

import sys
import time
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.meshing.fillings import plane_filling
from kind_rivet.core.meshing.free.fill import CannotFill, FlatMesh, fill
from kind_rivet.core.quality.shell_metrics import LARGEST_ANGLE, LEAST_ANGLE, SCALED_JACOBIAN, shell_metrics

Floats = NDArray[np.float64]


def outline(corners: list[tuple[float, float]], step: float | list[float]) -> Floats:
    """Points along a closed polygon, each side in equal parts no longer than its step."""
    out = []
    for k, (a, b) in enumerate(zip(corners, [*corners[1:], corners[0]], strict=True)):
        h = step[k] if isinstance(step, list) else step
        n = max(1, round(float(np.hypot(b[0] - a[0], b[1] - a[1])) / h))
        out += [(a[0] + (b[0] - a[0]) * i / n, a[1] + (b[1] - a[1]) * i / n) for i in range(n)]
    return np.array(out)


def hole(x: float, y: float, r: float, n: int) -> Floats:
    t = -np.linspace(0, 2 * np.pi, n + 1)[:-1]
    return np.column_stack((x + r * np.cos(t), y + r * np.sin(t)))


def graded(long: float, high: float, fine: float, coarse: float, growth: float) -> Floats:
    """A rectangle with a fine side on the left; the divisions of its long sides grow from fine to coarse."""
    steps, at, h = [0.0], 0.0, fine
    while at < long:
        h = min(coarse, fine + growth * at)
        at += h
        steps.append(at)
    x = np.array(steps) * long / steps[-1]
    right = np.linspace(0, high, round(high / coarse) + 1)
    left = np.linspace(high, 0, round(high / fine) + 1)
    return np.concatenate(
        [
            np.column_stack((x[:-1], np.zeros(len(x) - 1))),
            np.column_stack((np.full(len(right) - 1, long), right[:-1])),
            np.column_stack((x[:0:-1], np.full(len(x) - 1, high))),
            np.column_stack((np.zeros(len(left) - 1), left[:-1])),
        ]
    )


def study() -> dict[str, list[Floats]]:
    """The regions of the shell meshing study, at size 1."""
    rng = np.random.default_rng(4)
    many = [outline([(0, 0), (40, 0), (40, 25), (0, 25)], 1.0)]
    placed: list[tuple[float, float, float]] = []
    while len(placed) < 20:
        x, y, r = rng.uniform(3, 37), rng.uniform(3, 22), rng.uniform(0.6, 2.2)
        if all(np.hypot(x - a, y - b) > r + c + 1.6 for a, b, c in placed) and min(x, y, 40 - x, 25 - y) > r + 1.2:
            placed.append((x, y, r))
    many += [hole(x, y, r, max(8, 2 * round(np.pi * r))) for x, y, r in placed]
    t = np.linspace(0, 2 * np.pi, 6)[:-1] + np.pi / 2
    five = [(6 * np.cos(a), 6 * np.sin(a)) for a in t]
    necks = [outline([(0, 0), (16, 0), (16, 10), (0, 10)], 1.0), hole(4, 5, 2.6, 16), hole(10.2, 5, 2.6, 16), hole(14, 2, 1.0, 8)]
    return {
        "plate with a hole": [outline([(0, 0), (16, 0), (16, 16), (0, 16)], 1.0), hole(8, 8, 3.0, 20)],
        "plate with 20 holes": many,
        "L flange": [outline([(0, 0), (12, 0), (12, 2), (2, 2), (2, 12), (0, 12)], 1.0)],
        "strip of two rows": [outline([(0, 0), (20, 0), (20, 2), (0, 2)], 1.0)],
        "five-sided": [outline(five, 0.88)],
        "three-sided": [outline([(0, 0), (14, 0), (7, 12.1)], 1.0)],
        "size 1 to 8": [graded(60.0, 48.0, 1.0, 8.0, 0.25)],
        "size 1 to 8, borders that jump": [outline([(0, 0), (60, 0), (60, 48), (0, 48)], [8.0, 8.0, 8.0, 1.0])],
        "necks": necks,
    }


def seeded(seed: int) -> list[Floats]:
    """A random star-shaped polygon with holes, at scales from 1/1000 to 10,000; border sides about one size, sums even."""
    rng = np.random.default_rng(seed)
    corners = int(rng.integers(3, 11))
    angle = np.sort(rng.uniform(0, 2 * np.pi, corners))
    if np.diff(np.append(angle, angle[0] + 2 * np.pi)).max() > 2.6:
        angle = np.linspace(0, 2 * np.pi, corners + 1)[:-1] + rng.uniform(-0.15, 0.15, corners)
    reach = rng.uniform(5, 16, corners)
    border = outline([(r * np.cos(a), r * np.sin(a)) for a, r in zip(angle, reach, strict=True)], 1.0)
    loops = [border]
    for _ in range(int(rng.integers(0, 5))):
        x, y, r = rng.uniform(-8, 8), rng.uniform(-8, 8), rng.uniform(0.7, 2.5)
        ring = hole(x, y, r, max(8, 2 * round(np.pi * r)))
        apart = [np.linalg.norm(ring[:, None] - loop[None], axis=2).min() for loop in loops]
        if min(apart) > 0.8 and _inside(border, x, y) and all(np.hypot(*(loop.mean(axis=0) - (x, y))) > r for loop in loops[1:]):
            loops.append(ring)
    if sum(len(loop) for loop in loops) % 2:
        k = int(np.argmax(np.linalg.norm(np.roll(border, -1, axis=0) - border, axis=1)))
        loops[0] = np.insert(border, k + 1, (border[k] + border[(k + 1) % len(border)]) / 2, axis=0)
    scale = 10.0 ** rng.uniform(-3, 4)
    return [loop * scale for loop in loops]


def _inside(border: Floats, x: float, y: float) -> bool:
    a, b = border, np.roll(border, -1, axis=0)
    crosses = ((a[:, 1] > y) != (b[:, 1] > y)) & (
        x < (b[:, 0] - a[:, 0]) * (y - a[:, 1]) / np.where(b[:, 1] == a[:, 1], 1e-300, b[:, 1] - a[:, 1]) + a[:, 0]
    )
    return bool(crosses.sum() % 2)


def size_of(loops: list[Floats]) -> float:
    return float(np.median(np.concatenate([np.linalg.norm(np.roll(loop, -1, axis=0) - loop, axis=1) for loop in loops])))


def figures(mesh: FlatMesh) -> tuple[int, int, float, float, float, int]:
    """Quads, trias, worst scaled Jacobian, least and largest angle of quads, irregular inner nodes."""
    values = shell_metrics(np.column_stack((mesh.points, np.zeros(len(mesh.points)))), mesh.elements)
    quad = mesh.elements[:, 3] >= 0
    used = np.bincount(mesh.elements[mesh.elements >= 0], minlength=len(mesh.points))
    return (
        int(quad.sum()),
        mesh.trias,
        float(values[:, SCALED_JACOBIAN].min()),
        float(values[quad, LEAST_ANGLE].min()),
        float(values[quad, LARGEST_ANGLE].max()),
        used,
    )


def picture(mesh: FlatMesh, path: Path) -> None:
    """The mesh as an SVG drawing."""
    low, reach = mesh.points.min(axis=0), float(np.ptp(mesh.points, axis=0).max())
    p = (mesh.points - low) / reach * 760 + 20
    shapes = []
    for row in mesh.elements:
        corners = " ".join(f"{p[v, 0]:.1f},{800 - p[v, 1]:.1f}" for v in row if v >= 0)
        shapes.append(f'<polygon points="{corners}" fill="{"#8cbef0" if row[3] < 0 else "#f4f2ec"}" stroke="#345" stroke-width="1"/>')
    path.write_text(f'<svg xmlns="http://www.w3.org/2000/svg" width="800" height="800">{"".join(shapes)}</svg>')


def main() -> None:
    seeds = int(sys.argv[1]) if len(sys.argv) > 1 else 1000
    folder = Path(sys.argv[2]) if len(sys.argv) > 2 else None
    print("| region | quads / trias | worst scaled Jacobian | quad angles | irregular inner nodes |\n|---|---|---|---|---|")
    for name, loops in study().items():
        mesh = plane_filling(loops, 8.0 if name.startswith("size 1 to 8") else 1.0)
        quads, trias, worst, low, high, used = figures(mesh)
        border = sum(len(loop) for loop in loops)
        odd = int(np.sum(np.asarray(used)[border:] != 4))
        print(f"| {name} | {quads} / {trias} | {worst:.2f} | {low:.0f}–{high:.0f}° | {odd} |")
        if folder is not None:
            folder.mkdir(parents=True, exist_ok=True)
            picture(mesh, folder / f"{name.replace(' ', '-')}.svg")
    worst_all, low_all, share, refused, started = [], [], [], 0, time.perf_counter()
    for seed in range(seeds):
        loops = seeded(seed)
        try:
            mesh = fill(loops, size_of(loops))
        except CannotFill:
            refused += 1
            continue
        quads, trias, worst, low, _, _ = figures(mesh)
        border = np.concatenate(loops)
        assert worst > 0, f"seed {seed}: an element is inverted"
        assert np.array_equal(mesh.points[: len(border)], border), f"seed {seed}: the border moved"
        worst_all.append(worst)
        low_all.append(low)
        share.append(trias / (quads + trias))
    lines = (("worst scaled Jacobian", worst_all), ("least quad angle, °", low_all), ("share of trias", share))
    print(
        f"\n{seeds} seeded regions, {refused} refused (their borders cross), {(time.perf_counter() - started) / seeds * 1000:.0f} ms each"
    )
    print("| | least | 5 % | median |\n|---|---|---|---|")
    for name, values in lines[:2]:
        print(f"| {name} | {min(values):.2f} | {np.percentile(values, 5):.2f} | {np.median(values):.2f} |")
    print(f"| {lines[2][0]} | most {max(share):.3f} | 95 %: {np.percentile(share, 95):.3f} | mean {np.mean(share):.4f} |")


if __name__ == "__main__":
    main()
