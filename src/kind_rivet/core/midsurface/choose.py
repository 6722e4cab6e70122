"""Which cells make the sheet: those that are wall, and those that close gaps between them.

Every cell is kept or dropped so that the sum is best of: core area gained, area beside
the wall paid for, and length of free edges inside the solid paid for dearly. Solved as a
mixed integer linear programme, exactly and always alike.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_rivet.core.geometry.carriers import Floats, unit
from kind_rivet.core.midsurface.cells import CutMiddle
from kind_rivet.core.midsurface.middles import Middle
from kind_rivet.core.midsurface.network import Cell, Network, Place, Side
from kind_rivet.core.midsurface.pairs import SLANT
from kind_rivet.core.midsurface.traces import Line

BESIDE = 0.25  # price of area beside the wall, against core area
DEPTH = 0.05  # of that, what is given back half a wall below the skin: of two ways round a corner as long as each other, that one
FREE = 1.5  # price of a free edge inside the solid, per length and wall
BORDER = 0.01  # the same for one on the solid's border: it only decides between what is alike
STUB = 0.15  # the same where nothing of the cell is wall and it is narrower than SLIM: what leads from one wall to another must not give way to it
SLIM = 0.25  # of the thickest wall around: half a wall that is less than half as thick
ENCLOSED = 4.0  # squared walls: what is left out of a wall between risers is filled up to this area
BESIDES = 0.6  # walls within which another middle stands for the same wall
HAIR = 1e-3  # walls: cells narrower than this on average have no area to speak of
SPUR = 0.1  # walls: the same for cells no longer than the wall is thick, as where a rib is a little narrower than the plate it stands on the end of
SPECK, SHORT = 0.01, 0.3  # squared walls, walls: cells smaller and shorter than this follow what is round them
MISSED = 0.25  # walls beside what was kept of another wall from which a side does not lie in it
CRUMB = 0.3  # squared walls around: half a wall beyond each of two others is a quarter of that
IDLE = 1.5  # the same of what is nowhere wall by itself: strips of half a wall that close no more than the end of another such strip
HARDLY = 0.3  # of a corner's area that may be wall by itself, where the end of the other wall is round
OPENED = 1.1  # walls around: length of edges inside the solid that may be opened for the sake of a crumb
CORNER = 0.6  # walls around: the same where a corner beyond another wall hangs on its own: where a fin ends flush with a flange
PASSES = 3  # choices, each without the feet that turned out to be none


def choose(middles: list[Middle], cuts: list[CutMiddle | None], network: Network, lines: list[Line], forced: dict[Cell, bool]) -> set[Cell]:
    """The cells to keep; those in `forced` are kept or dropped as it says, and none is kept where the sides of its wall have crossed."""
    names: list[Cell] = [(m, c) for m, cut in enumerate(cuts) if cut is not None for c in range(len(cut.cells))]
    number = {name: k for k, name in enumerate(names)}
    if not names:
        return set()
    forced = {(m, c): False for m, c in names if cuts[m].cells[c].core < 0} | forced  # type: ignore[union-attr]
    gain = np.zeros(len(names))
    unit_area = float(np.median([m.wall for m in middles])) ** 2  # the solver's tolerances are absolute: areas count in walls
    for k, (m, c) in enumerate(names):
        cell = cuts[m].cells[c]  # type: ignore[union-attr]
        gain[k] = cell.core - BESIDE * (cell.area - cell.core) + DEPTH * cell.half
    lengths: dict[tuple[tuple[int, ...], tuple[int, ...]], float] = {}
    fixed = {number[cell]: keep for cell, keep in forced.items() if cell in number}
    feet: list[_Foot] = []

    def pay(side: Side, lot: tuple[int, ...], bound: tuple[int, ...]) -> None:
        a, b = network.points[list(side.nodes)]
        wall = max(middles[place.middle].around for place in side.at)  # a thin wall must reach through a thick one
        lengths[(lot, bound)] = lengths.get((lot, bound), 0.0) + float(np.linalg.norm(b - a)) * wall

    for side, others in zip(network.sides, _feet_on(network, lines, middles), strict=True):
        lot = tuple(sorted({number[c] for c in side.cells}))
        bound = _not_free(side, lines, number)
        if not set(lot) - set(bound):
            if len(side.cells) == 1:  # of two cells that close a gap alike, the one that joins walls, not the one that ends at the skin
                a, b = network.points[list(side.nodes)]
                m, c = names[lot[0]]
                price = STUB if _is_stub(middles[m], cuts[m], c) else BORDER
                gain[lot[0]] -= price * float(np.linalg.norm(b - a)) * middles[m].wall
        elif others:
            feet.append(_Foot(side, lot, bound, others))
        else:
            pay(side, lot, bound)
    for _ in range(PASSES):
        solved = _solve(gain / unit_area, {lot: length / unit_area for lot, length in lengths.items()}, fixed)
        kept = {names[k] for k in np.flatnonzero(solved)}
        lost = _lost(feet, kept, middles, cuts, network)
        if not lost:
            break
        feet = [foot for foot in feet if foot not in lost]
        for foot in lost:
            pay(foot.side, foot.lot, foot.bound)
    kept = _tidied(kept, middles, cuts, forced)
    left = {cell for cell, keep in forced.items() if not keep}
    kept |= _corners(kept, middles, cuts, network) - left
    kept |= _enclosed(kept, middles, cuts, network, lines) - left
    return kept - (_crumbs(kept, middles, cuts, network, lines) - {cell for cell, keep in forced.items() if keep})


def _is_stub(middle: Middle, cut: CutMiddle | None, c: int) -> bool:
    """Is a cell no wall by itself, but a strip that is narrow for the walls around?"""
    assert cut is not None
    cell = cut.cells[c]
    return bool(cell.core <= 0 and cell.area < SLIM * middle.around * float(np.ptp(cut.uv[cell.rings[0]], axis=0).max()))


@dataclass(frozen=True, eq=False)
class _Foot:
    """A side at which a wall may end without a price: its cells by number, those not free there, and the middles it runs across."""

    side: Side
    lot: tuple[int, ...]
    bound: tuple[int, ...]
    others: list[int]


def _lost(feet: list[_Foot], kept: set[Cell], middles: list[Middle], cuts: list[CutMiddle | None], network: Network) -> list[_Foot]:
    """The feet that would be free edges although none of the walls they seemed to run across was kept where they lie."""
    import shapely

    walls: dict[int, list[shapely.Polygon]] = {}
    for m, c in sorted(kept):
        walls.setdefault(m, []).append(cuts[m].cells[c].polygon)  # type: ignore[union-attr]

    def holds(k: int, place: Floats) -> bool:
        u, v = middles[k].chart.flat(place[None])[0].tolist()
        period = middles[k].chart.period
        spots = [shapely.Point(u + shift, v) for shift in ((-period, 0.0, period) if period else (0.0,))]
        return k in walls and min(float(shapely.distance(walls[k], spot).min()) for spot in spots) < MISSED * middles[k].wall

    free = [foot for foot in feet if len({c for c in foot.side.cells if c in kept}) == 1]
    at = [network.points[list(foot.side.nodes)].mean(axis=0) for foot in free]
    return [foot for foot, place in zip(free, at, strict=True) if not any(holds(k, place) for k in foot.others)]


def _tidied(kept: set[Cell], middles: list[Middle], cuts: list[CutMiddle | None], forced: dict[Cell, bool]) -> set[Cell]:
    """Specks of cells, of which neither area nor length tells anything, kept or left as what surrounds them most.

    Where lines nearly coincide they lie in chains; each left or kept by chance would make borders that touch themselves.
    """
    kept = set(kept)
    for m, cut in enumerate(cuts):
        if cut is None:
            continue
        wall = middles[m].wall
        extent = [float(np.ptp(cut.uv[cell.rings[0]], axis=0).max()) for cell in cut.cells]
        free = [c for c in range(len(cut.cells)) if (m, c) not in forced]
        # Share of the border that must agree; hairs may bound walls, so there it must be nearly all.
        specks = {c: 0.6 for c in free if cut.cells[c].area < SPECK * wall**2 and extent[c] < SHORT * wall}
        specks |= {c: 0.9 for c in free if cut.cells[c].area < (SPUR if extent[c] < wall else HAIR) * wall * extent[c]}
        if not specks:
            continue
        length = np.linalg.norm(cut.uv[cut.side[:, 0]] - cut.uv[cut.side[:, 1]], axis=1)
        for _ in range(3):
            changed = False
            for c in sorted(specks, key=lambda c: (cut.cells[c].area, c)):
                mine = np.flatnonzero((cut.side_cells == c).any(axis=1))
                with_kept = total = 0.0
                for s in mine.tolist():
                    a, b = cut.side_cells[s].tolist()
                    other = b if a == c else a
                    if a == b:
                        continue
                    total += float(length[s])
                    with_kept += float(length[s]) if (m, other) in kept else 0.0
                share = with_kept / max(total, 1e-300)
                if max(share, 1 - share) > specks[c] and ((m, c) in kept) != (share > 0.5):
                    kept ^= {(m, c)}
                    changed = True
            if not changed:
                break
    return kept


def _corners(kept: set[Cell], middles: list[Middle], cuts: list[CutMiddle | None], network: Network) -> set[Cell]:
    """Dropped specks within the joints of other walls: on some of their sides their own wall goes on, on the others other walls end.

    Without such a cell the wall would have a notch there, as its edges run across other walls. Specks of two walls may close each other.
    Hairs alone, of which nothing is missed, stay dropped.
    """
    places: dict[Cell, list[tuple[Side, Place]]] = {}
    for side in network.sides:
        for place in side.at:
            for c in place.cells:
                if c not in kept and cuts[c[0]].cells[c[1]].area <= middles[c[0]].around ** 2:  # type: ignore[union-attr]
                    places.setdefault(c, []).append((side, place))

    def goes_on(c: Cell, place: Place, whole: set[Cell]) -> bool:
        return any(other in whole for other in place.cells if other != c)

    def is_met(c: Cell, side: Side, whole: set[Cell]) -> bool:
        return any(other in whole for other in side.cells if other[0] != c[0])

    specks = {c for c, lot in places.items() if any(goes_on(c, place, kept) for _, place in lot)}
    while True:
        whole = kept | specks
        left = {c for c in specks if all(goes_on(c, place, whole) or is_met(c, side, whole) for side, place in places[c])}
        if left == specks:
            break
        specks = left
    found = {c for c in specks if any(is_met(c, side, whole) for side, _ in places[c])}
    missed = {c for c in found if cuts[c[0]].cells[c[1]].area > SPECK * middles[c[0]].around ** 2}  # type: ignore[union-attr]
    return {c for c in found if c in missed or any(goes_on(c, place, missed) for _, place in places[c])}


def _crumbs(kept: set[Cell], middles: list[Middle], cuts: list[CutMiddle | None], network: Network, lines: list[Line]) -> set[Cell]:
    """Kept corners of walls far smaller than the walls around, which only other walls join to the rest, and without which hardly an edge is open.

    Where a flange ends flush with the side of a tray, both the tray's walls would run on to the corner of its outer skin.
    Likewise corners that hang on their own wall across the line of a joint, with hardly more than half of it.
    """
    idle = {
        (m, c)
        for m, c in kept
        if (cell := cuts[m].cells[c]).core <= HARDLY * cell.area and cell.area <= CRUMB * middles[m].around ** 2  # type: ignore[union-attr]
    }
    group = _own_groups(kept, network, lambda place: lines[place.line].kind == "joint" and len(idle & set(place.cells)) == 1)
    plain = _own_groups(kept, network)
    before, after = Counter(plain.values()), Counter(group.values())
    parted = {cell for cell in idle if after[group[cell]] < before[plain[cell]]}
    area: dict[int, float] = {}
    core: dict[int, float] = {}
    around: dict[int, float] = {}
    bearable: dict[int, float] = {}  # length of edges inside the solid
    for cell, g in group.items():
        m, c = cell
        own = cuts[m].cells[c]  # type: ignore[union-attr]
        area[g] = area.get(g, 0.0) + float(own.area)
        core[g] = core.get(g, 0.0) + float(own.core)
        around[g] = middles[m].around
        bearable[g] = (CORNER if cell in parted else OPENED) * middles[m].around
    crumbs = {g for g in area if area[g] <= (IDLE if core[g] <= 0 else CRUMB) * around[g] ** 2}
    while crumbs:
        opened = dict.fromkeys(crumbs, 0.0)
        for side in network.sides:
            there = [c for place in side.at for c in place.cells if c in kept]  # twice what goes on beyond the side
            gone = {group[c] for c in there} & crumbs
            stay = [c for c in there if group[c] not in crumbs]
            if gone and len(stay) == 1 and not any(place.on_border(lines) for place in side.at if stay[0] in place.cells):
                a, b = network.points[list(side.nodes)]
                for g in gone:
                    opened[g] += float(np.linalg.norm(b - a))
        needed = {g for g in crumbs if opened[g] > bearable[g]}
        if not needed:
            break
        crumbs -= needed
    return {cell for cell, g in group.items() if g in crumbs}


def _own_groups(kept: set[Cell], network: Network, parts: Callable[[Place], bool] = lambda place: False) -> dict[Cell, int]:
    """Number of the group of each kept cell: those that hang together on their own middle, but for places that part them."""
    names = sorted(kept)
    number = {cell: k for k, cell in enumerate(names)}
    lots = [[number[c] for c in place.cells if c in kept] for side in network.sides for place in side.at if not parts(place)]
    pairs = np.array([lot for lot in lots if len(lot) == 2], np.int64).reshape(-1, 2)
    graph = scipy.sparse.coo_matrix((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), shape=(len(names), len(names)))
    return dict(zip(names, scipy.sparse.csgraph.connected_components(graph, directed=False)[1].tolist(), strict=True))


def _enclosed(kept: set[Cell], middles: list[Middle], cuts: list[CutMiddle | None], network: Network, lines: list[Line]) -> set[Cell]:
    """Dropped cells with kept wall of their own middle all round and only joints between: a wall runs on under walls that meet on it.

    Small ones may also have risers round them (the sides of those walls); large ones may be steps. Where another
    middle runs alongside within the same wall (a floor that is thicker within a boss) it stands for it.
    """
    parent: dict[Cell, Cell] = {}

    def root(c: Cell) -> Cell:
        while parent.setdefault(c, c) != c:
            c = parent[c]
        return c

    bounded: set[Cell] = set()
    by_riser: set[Cell] = set()
    open_to_more: set[Cell] = set()
    for side in network.sides:
        for place in side.at:
            lot = [c for c in place.cells if c not in kept]
            kind = lines[place.line].kind if place.line >= 0 else ""
            if len(place.cells) == 2 and len(lot) == 2:
                parent[root(lot[0])] = root(lot[1])
            elif len(place.cells) == 2 and len(lot) == 1 and kind in ("joint", "riser"):
                bounded.add(lot[0])
                by_riser |= set(lot) if kind == "riser" else set()
            else:
                open_to_more |= set(lot)
    area: dict[Cell, float] = {}
    candidates = bounded | set(parent)
    for cell in candidates:
        area[root(cell)] = area.get(root(cell), 0.0) + float(cuts[cell[0]].cells[cell[1]].area)  # type: ignore[union-attr]
    held = {root(c) for c in open_to_more}
    doubled: dict[Cell, float] = {}
    for cell in sorted(candidates):
        if root(cell) not in held and _doubled(cell, kept, middles, cuts):
            doubled[root(cell)] = doubled.get(root(cell), 0.0) + float(cuts[cell[0]].cells[cell[1]].area)  # type: ignore[union-attr]
    held |= {r for r, share in doubled.items() if share > 0.5 * area[r]}
    held |= {r for c in by_riser if area.get(r := root(c), 0.0) > ENCLOSED * middles[c[0]].around ** 2}
    return {c for c in candidates if c not in kept and root(c) not in held}


def _doubled(cell: Cell, kept: set[Cell], middles: list[Middle], cuts: list[CutMiddle | None]) -> bool:
    """Does a kept cell of another middle run alongside within the same wall?"""
    import shapely

    m, c = cell
    middle = middles[m]
    at = cuts[m].cells[c].polygon.representative_point()  # type: ignore[union-attr]
    p = middle.place(np.array([[at.x, at.y]]))
    n = middle.normal(p)[0]
    for k in middle.near:
        other, cut = middles[k], cuts[k]
        if k == m or cut is None or abs(float(other.field(p)[0][0])) > BESIDES * max(other.wall, middle.wall):
            continue
        if abs(float(other.normal(p)[0] @ n)) < 0.9:
            continue
        spot = shapely.Point(other.chart.flat(p)[0])
        if any(own == k and cut.cells[j].polygon.covers(spot) for own, j in kept):
            return True
    return False


def _not_free(side: Side, lines: list[Line], number: dict[Cell, int]) -> tuple[int, ...]:
    """Cells beside a side that have no free edge there: it is the solid's border, or they run on across it, also round a seam into themselves."""
    out = {number[c] for c, count in Counter(side.cells).items() if count > 1}
    for place in side.at:
        if place.on_border(lines) or place.beside[0] == place.beside[1]:
            out |= {number[c] for c in place.cells}
    return tuple(sorted(out))


def _feet_on(network: Network, lines: list[Line], middles: list[Middle]) -> list[list[int]]:
    """For each side the walls near by that it runs across, inside them: there the edge of a wall that ends on one is free of necessity.

    Walls that step into each other along the side count as one.
    """
    ends = network.points[np.array([side.nodes for side in network.sides], np.int64).reshape(-1, 2)]
    at, along = ends.mean(axis=1), unit(ends[:, 1] - ends[:, 0])
    asked: dict[int, list[int]] = {}
    for i, side in enumerate(network.sides):
        own = {place.middle for place in side.at}
        if len(own) == 1 or all(place.line >= 0 and lines[place.line].kind == "step" for place in side.at):
            for k in {k for m in own for k in middles[m].near} - own:
                asked.setdefault(k, []).append(i)
    out: list[list[int]] = [[] for _ in network.sides]
    for k in sorted(asked):
        mine = np.array(asked[k])
        value, gradient = middles[k].field(at[mine])
        across = np.abs(np.einsum("ij,ij->i", unit(gradient), along[mine])) > SLANT  # also the slanted top of a rib
        for i in mine[(np.abs(value) <= 0.5 * middles[k].wall) & across].tolist():
            out[i].append(k)
    return out


def _solve(
    gain: NDArray[np.float64], lengths: dict[tuple[tuple[int, ...], tuple[int, ...]], float], fixed: dict[int, bool]
) -> NDArray[np.bool_]:

    from kind_rivet.core.midsurface.binary_programme import least_cost

    n = len(gain)
    gain = gain.copy()
    rows, cols, values = [], [], []
    price: list[float] = []
    row = 0
    for (lot, bound), length in lengths.items():
        for c in lot:  # y ≥ x_c − Σ others
            if c in bound:
                continue
            if len(lot) == 1:
                gain[c] -= FREE * length
                continue
            rows += [row] * (len(lot) + 1)
            cols += [n + len(price), *lot]
            values += [1.0, *(-1.0 if k == c else 1.0 for k in lot)]
            price.append(FREE * length)
            row += 1
    cost = np.concatenate((-gain, price))
    low, high = np.zeros(len(cost)), np.ones(len(cost))
    for k, keep in fixed.items():
        low[k] = high[k] = float(keep)
    taken = least_cost(cost, scipy.sparse.coo_matrix((values, (rows, cols)), shape=(row, len(cost))).tocsr(), n, low, high)
    return np.asarray(gain > 0) if taken is None else taken
