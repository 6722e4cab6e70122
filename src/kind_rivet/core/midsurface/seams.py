"""Where the chart of a closed wall is cut: not beside a joint or a hole, else a sliver would stay between them."""

from __future__ import annotations

import numpy as np

from kind_rivet.core.geometry.carriers import Floats, frame
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.midsurface.charts import roomiest
from kind_rivet.core.midsurface.middles import Middle
from kind_rivet.core.midsurface.traces import Line, inside

NARROW = 0.25  # of the period: lines that reach further round say nothing about where to cut
LEVEL = 0.2  # rise over run: a cut may end on lines more level than this
PARTLY = 0.75  # of the period: level joints that reach less far round are not crossed either
BOLTS = 3  # holes at one distance from an axis, from which on they are a circle of bolts
CLOSED = 0.15  # of the period: widest stretch without a sample round a wall that closes on itself, half of it on either side of a cut
ACROSS = 0.02  # cosine to an axis up to which edges lie across it
ALONG = np.radians(0.5)  # edges whose turn is the same within this run alike
APART = 3.0  # walls; a cut this far from all lines stays
TIGHT = 1.5  # walls; where all gaps between lines are narrower a cut leads through the middles of holes


def turn_cuts(middles: list[Middle], shape: Shape) -> None:
    """Turn the charts of walls that close on themselves so that their cut looks at a bolt hole of a circle of holes round their axis.

    A node lies where the cut meets the flange, so only then can the flange be meshed as symmetrically as it is.
    Where there is none it looks along most straight edges or across them: else rings round a post would stand askew to all else.
    Walls round one axis are all cut on the same side: where two meet, the nodes at their cuts would be a hair apart.
    """
    closed = [m for m in middles if _closes(m)]
    bolted = _face_bolts(closed, shape)
    lines = [e for e, edge in enumerate(shape.edges) if edge.carrier.kind == "line"]
    along = np.array([shape.edges[e].carrier.data[3:6] for e in lines]).reshape(-1, 3)
    first: list[Middle] = []  # one for each axis
    for middle in sorted(closed, key=lambda m: id(m) not in bolted):
        other = next((m for m in first if _coaxial(m, middle)), None)
        if other is None:
            first.append(middle)
        if id(middle) not in bolted:
            if other is not None:
                _look_at(middle, _at_cut(other))
            else:
                _look_square(middle, along, shape.edge_length[lines])


def _at_cut(middle: Middle) -> Floats:
    """A point (3,) of a closed wall on the cut of its chart."""
    v = float(np.median(middle.chart.flat(middle.samples)[:, 1]))
    return middle.place(np.array([[middle.chart.period / 2 * (1 - 1e-9), v]]))[0]


def _look_at(middle: Middle, point: Floats) -> None:
    """Turn the chart of a closed wall so that its cut looks at a point (3,)."""
    middle.chart = middle.chart.cut_at(float(middle.chart.flat(point[None])[0, 0]))


def _closes(middle: Middle) -> bool:
    """Is it a round wall that closes on itself? Else its cut lies in the opening."""
    period = middle.chart.period
    if not period or middle.carrier.kind not in ("cylinder", "cone", "torus") or getattr(middle.chart, "elbow", False):
        return False
    u = middle.chart.flat(middle.samples)[:, 0]
    return bool(np.diff(np.sort(u), append=u.min() + period).max() <= CLOSED * period)


def _look_square(middle: Middle, along: Floats, length: Floats) -> None:
    """Turn the chart of a closed wall so that its cut looks along straight edges across its axis, or at right angles to them.

    along (n, 3), length (n,): the ways and lengths of all straight edges; those that most run alike count.
    """
    d = middle.carrier.array
    u, v = frame(d[3:6])
    across = np.abs(along @ d[3:6]) < ACROSS
    if not across.any():
        return
    turn = np.arctan2(along[across] @ v, along[across] @ u) % (np.pi / 2)
    alike = np.round(turn / ALONG).astype(int) % round(np.pi / 2 / ALONG)
    most = alike == np.argmax(np.bincount(alike, length[across]))
    way = turn[most][np.argmax(length[across][most])]
    q = _at_cut(middle) - d[:3]
    now = np.arctan2(q @ v, q @ u)
    way += np.round((now - way) / (np.pi / 2)) * np.pi / 2
    _look_at(middle, d[:3] + (q @ d[3:6]) * d[3:6] + np.hypot(q @ u, q @ v) * (np.cos(way) * u + np.sin(way) * v))


def _coaxial(a: Middle, b: Middle) -> bool:
    d, e = a.carrier.array, b.carrier.array
    away = np.linalg.norm(np.cross(e[:3] - d[:3], d[3:6]))
    return bool(abs(d[3:6] @ e[3:6]) > 0.999999 and away < 1e-3 * min(a.wall, b.wall))


def _face_bolts(closed: list[Middle], shape: Shape) -> set[int]:
    """Turn the cuts of walls round which there are circles of holes towards one of them; the walls (by `id`) that were turned."""
    out: set[int] = set()
    holes = {
        (tuple(np.round(c.array[:3], 6)), round(float(c.data[6]), 6)): c.array
        for c in (*(e.carrier for e in shape.edges), *(f.carrier for f in shape.faces))
        if c.kind in ("circle", "cylinder")  # through a conical web only the walls of holes are round
    }
    if len(holes) < BOLTS:
        return out
    circles = np.array([holes[key] for key in sorted(holes)])
    for middle in closed:
        d = middle.carrier.array
        off = circles[:, :3] - d[:3]
        off -= (off @ d[3:6])[:, None] * d[3:6]
        away = np.linalg.norm(off, axis=1)
        bolts = (np.abs(circles[:, 3:6] @ d[3:6]) > 0.9999) & (away > 1.5 * circles[:, 6])
        _, first = np.unique(
            np.round(off / (1e-3 * max(float(away.max()), 1e-300))), axis=0, return_index=True
        )  # both rims of a hole count once
        bolts &= np.isin(np.arange(len(bolts)), first)
        alike = [k for k in np.flatnonzero(bolts) if (np.abs(away[bolts] - away[k]) < 2e-3 * away[k]).sum() >= BOLTS]
        if alike:
            _look_at(middle, circles[alike[0], :3])
            out.add(id(middle))
    return out


def move_cuts(middles: list[Middle], lines: list[Line], tree: FacetTree, shape: Shape) -> None:
    """Turn the charts of middles that are cut through wall beside a line, so that the cut lies half-way between lines."""
    for number, middle in enumerate(middles):
        period = middle.chart.period
        if not period:
            continue
        taken = _taken(middle, number, lines)
        if not len(taken) or _clear(taken, period) > APART * middle.wall:
            continue
        u, v = middle.chart.flat(middle.samples).T
        if period / 2 - np.abs(u).max() > CLOSED / 2 * period:
            continue  # in the opening of a wall that does not close on itself, though other walls may pass there
        cut = middle.place(np.column_stack((np.full(20, period / 2), np.linspace(v.min(), v.max(), 20))))
        if not inside(cut, tree, shape).any():
            continue  # through an opening: no seam will show
        low, high = taken[:, 0], taken[:, 1]
        order = np.argsort(low)
        low, high = low[order], np.maximum.accumulate(high[order])
        gap = np.append(low[1:], low[0] + period) - high
        k = int(np.argmax(gap))
        through, room = roomiest(taken.ravel(), period, _taken(middle, number, lines, holes=False))
        if gap[k] < TIGHT * middle.wall and room > gap[k]:  # slivers beside holes would be worse than holes in two halves
            middle.chart = middle.chart.cut_at(through)
        elif gap[k] > 0:
            middle.chart = middle.chart.cut_at(float(high[k] + gap[k] / 2))


def _taken(middle: Middle, number: int, lines: list[Line], holes: bool = True) -> np.ndarray:
    """Stretches (n, 2) round the chart that joints, steps and, unless left out, holes take up."""
    period = middle.chart.period
    out = []
    for k in middle.lines:
        if lines[k].kind not in ("joint", "outline", "riser", "step"):
            continue
        if not holes and lines[k].kind == "outline" and lines[k].closed:
            continue
        uv = middle.chart.flat(lines[k].on(number))
        u = uv[:, 0]
        run = u[0] + np.concatenate(([0.0], np.cumsum((np.diff(u) + period / 2) % period - period / 2)))
        low, high = float(run.min()), float(run.max())
        level = np.ptp(uv[:, 1]) <= LEVEL * (high - low)
        partly = lines[k].kind == "joint" and high - low < PARTLY * period  # a wall that stands on part of the round
        if partly if level else high - low < NARROW * period:
            shift = np.floor(low / period + 0.5) * period
            out.append((low - shift, high - shift))
    return np.array(out).reshape(-1, 2)


def _clear(taken: np.ndarray, period: float) -> float:
    """Distance round the chart from its cut at ±period/2 to the nearest stretch taken; 0 inside one."""
    low, high = taken[:, 0], taken[:, 1]
    if (high >= period / 2).any():
        return 0.0
    return float(min((low + period / 2).min(), (period / 2 - high).min()))
