#!/usr/bin/env python3
"""Draw made-up parts whose walls touch along their sides or stand as close together as they are thick, and write them as STEP.

    python examples/draw_touching_parts.py [FOLDER] [NAME ...]

They serve the tests; none is kept in the repository.
"""

from __future__ import annotations

import math
from collections.abc import Callable

from draw_moulded_parts import rounded_box, upright
from draw_parts import box, cut, fuse, prism, write_all
from draw_thin_parts import cylinder, fused, revolved, rounded, turned, without
from OCP.TopoDS import TopoDS_Shape


def fin_row(base: float = 3.8, pitch: float = 4.8, count: int = 5) -> TopoDS_Shape:
    """Tapering fins on a base that is as thick as the gaps between them are wide; a slot crosses the fins."""
    foot, tip, long = 1.0, 0.6, 56.0
    fins = []
    for x in (k * pitch for k in range(count)):
        lean = (foot - tip) / 2
        outline = [(x, 0, base - 0.01), (x + foot, 0, base - 0.01), (x + foot - lean, 0, base + 21), (x + lean, 0, base + 21)]
        fins.append(prism(outline, {}, (0, long, 0)))
    part = fused([box(0, 0, 0, pitch * (count - 1) + foot, long, base), *fins])
    part = cut(part, box(-1, 0.4 * long, base, pitch * count, 6, 30))
    return without(part, [cylinder((pitch * (k + 0.5) + foot / 2, 11, -1), (0, 0, 1), 1.4, base + 2) for k in (0, count - 2)])


def trough(wall: float = 1.9, radius: float = 11.0, high: float = 16.5, count: int = 1, long: float = 66.0) -> TopoDS_Shape:
    """A box whose floor is a half pipe: the pipe's wall lies tangent to the box's sides, which go on downward."""
    pitch = 2 * radius + wall
    wide = count * pitch + wall
    axes = [wall + radius + k * pitch for k in range(count)]
    z = radius + wall
    knives = [box(x - radius, wall, z, 2 * radius, long - 2 * wall, 50) for x in axes]
    knives += [cylinder((x, wall, z), (0, 1, 0), radius, long - 2 * wall) for x in axes]
    part = without(box(0, 0, 0, wide, long, high), knives)
    kept = [cylinder((x, 0, z), (0, 1, 0), z, long) for x in axes]
    kept += [box(k * pitch, 0, 0, wall, long, high) for k in range(count + 1)]
    kept += [box(0, y, 0, wide, wall, high) for y in (0, long - wall)]
    return cut(part, cut(box(-1, -1, -1, wide + 2, long + 2, radius + 1), fused(kept)))


def twin_trough() -> TopoDS_Shape:
    """Two half pipes side by side in one box: both lie tangent to the wall between them."""
    return trough(1.6, 9.0, 10.8, 2, 60.0)


def collar() -> TopoDS_Shape:
    """A flange with an open collar; inner and outer corners of the collar are rounded about axes that lie apart, so its walls thicken there."""
    wall, radius = 0.8, 1.4
    long, wide, middle = 19.4, 6.0, (17.4, 5.4)

    def outline(inside: float, z: float, high: float) -> TopoDS_Shape:
        x, y = long / 2 - inside, wide / 2 - inside
        corners = [(-x, -y), (x, -y), (x - 1.8, y), (1.8 - x, y)]
        return rounded(prism([(middle[0] + u, middle[1] + v, z) for u, v in corners], {}, (0, 0, high)), radius - inside, upright)

    part = fuse(rounded_box(0, 0, 0, 34.8, 10.8, wall, 1.5), outline(0, 0, 6))
    part = cut(part, outline(wall, -1, 9))
    return without(part, [cylinder((x, 5.4, -1), (0, 0, 1), 1.6, 5) for x in (3.5, 31.3)])


def spoked_cap(count: int = 3) -> TopoDS_Shape:
    """A drafted cap with a hub inside, closed a little below its top, and ribs between hub and rim."""
    radius, wall, high, hub = 14.0, 1.7, 15.0, 4.4
    draft = 0.04
    profile = [(0, high - wall), (0, high), (radius - draft * high, high), (radius, 0), (radius - wall, 0)]
    part = revolved([*profile, (radius - wall - draft * (high - wall), high - wall)])
    part = fuse(part, cylinder((0, 0, high * 0.2), (0, 0, 1), hub, high * 0.8))
    for k in range(count):
        rib = box(hub * 0.8, -0.5, high * 0.5, radius - wall / 2 - draft * high - hub * 0.8, 1, high * 0.5 - wall / 2)
        part = fuse(part, turned(rib, (0, 0, 0), (0, 0, 1), 360 * k / count + 17))
    return cut(part, cylinder((0, 0, -1), (0, 0, 1), hub - 1.1, 1 + high - 1.4 * wall))


def closed_bosses() -> TopoDS_Shape:
    """A plate with hollow bosses, whose floor is thinner than the plate: the tube meets both a little apart."""
    centres = [(22.0, 20.0), (68.0, 20.0)]
    part = fused([box(0, 0, 0, 90, 40, 2), *(cylinder((x, y, 1.5), (0, 0, 1), 3.6, 9) for x, y in centres)])
    return without(part, [cylinder((x, y, 1.6), (0, 0, 1), 2.6, 20) for x, y in centres])


def blind_holes() -> TopoDS_Shape:
    """A thick plate with flat-bottomed holes far apart: what is left below them is no floor."""
    at = [(x, y) for x in (12.0, 48.0) for y in (12.0, 28.0)]
    return without(box(0, 0, 0, 60, 40, 5), [cylinder((x, y, 4), (0, 0, 1), 2.0, 9) for x, y in at])


def pipe_on_rail(radius: float = 9.0, wall: float = 1.5) -> TopoDS_Shape:
    """A pipe lying on a plate of its own thickness, so far sunk in that the middles of both just touch."""
    outer = radius + wall
    part = fuse(box(0, -20, 0, 70, 40, wall), cylinder((0, 0, wall / 2 + radius + wall / 2), (1, 0, 0), outer, 70))
    return cut(part, cylinder((-1, 0, wall / 2 + radius + wall / 2), (1, 0, 0), radius, 72))


def pipe_clips(radius: float = 10.0, wall: float = 2.0, sunk: float = 0.3) -> TopoDS_Shape:
    """A strip with three open clips that only just sink into it, so that their middles stay apart."""
    height, at = 2.5 - sunk + radius, (-30.0, 0.0, 30.0)
    part = fused([box(-50, -12, 0, 100, 24, 2.5), *(cylinder((x, -12, height), (0, 1, 0), radius, 24) for x in at)])
    bores = [cylinder((x, -13, height), (0, 1, 0), radius - wall, 26) for x in at]
    mouths = [box(x - 4.5, -13, height + radius / 2, 9, 26, radius) for x in at]
    return without(part, [*bores, *mouths, *(cylinder((x, 0, -1), (0, 0, 1), 2, 5) for x in (-15, 15))])


def twin_pipes(radius: float = 15.0, wall: float = 2.0, sunk: float = 0.6) -> TopoDS_Shape:
    """Two pipes side by side, grown together along a line."""
    places = ((0.0, 0.0, 0.0), (2 * radius - sunk, 0.0, 0.0))
    part = fused([cylinder(place, (0, 0, 1), radius, 80) for place in places])
    return without(part, [cylinder((*place[:2], -1), (0, 0, 1), radius - wall, 82) for place in places])


def pipe_on_pads(radius: float = 14.0, wall: float = 2.0, sunk: float = 0.4) -> TopoDS_Shape:
    """A pipe that lies on the two ends of a frame and runs on beyond both."""
    height = radius - sunk
    frame = [box(-30, -60, -3, 60, 25, 3), box(-30, 35, -3, 60, 25, 3), box(-30, -60, -3, 3, 120, 3), box(27, -60, -3, 3, 120, 3)]
    part = fused([*frame, cylinder((0, -70, height), (0, 1, 0), radius, 140)])
    return cut(part, cylinder((0, -71, height), (0, 1, 0), radius - wall, 142))


def barred_window(size: float = 60.0, wall: float = 2.0, bar: float = 4.0) -> TopoDS_Shape:
    """A lidless box whose floor has a ring of four windows: the bars between them are narrower than a prolonged rim is looked for."""
    middle = size / 2
    tray = cut(rounded_box(0, 0, 0, size, size, 10, 4), rounded_box(wall, wall, wall, size - 2 * wall, size - 2 * wall, 10, 2.4))
    ring = cut(cylinder((middle, middle, -1), (0, 0, 1), 18, wall + 2), cylinder((middle, middle, -1), (0, 0, 1), 9, wall + 2))
    bars = [turned(box(middle, middle - bar / 2, -2, size, bar, wall + 5), (middle, middle, 0), (0, 0, 1), 90 * k + 45) for k in range(4)]
    corners = [(x, y) for x in (7.0, size - 7.0) for y in (7.0, size - 7.0)]
    return without(tray, [without(ring, bars), *(cylinder((x, y, -1), (0, 0, 1), 1.7, wall + 2) for x, y in corners)])


def eyed_link(flush: bool = False, long: float = 130.0, wide: float = 38.0, high: float = 30.0, wall: float = 4.0) -> TopoDS_Shape:
    """An arm of I-section, or of U-section whose web lies `flush` below, with eyes as wide as itself: its sides lie tangent to them."""
    low = -high / 2 if flush else -wall / 2
    sides = [box(0, y, -high / 2, long, wall, high) for y in (-wide / 2, wide / 2 - wall)]
    arm = fused([box(0, -wide / 2, low, long, wide, wall), *sides])
    eyes = [((x, 0.0, -high / 2), (0.0, 0.0, 1.0)) for x in (0.0, long)]
    arm = without(arm, [cylinder(*eye, wide / 2 - wall / 2, high) for eye in eyes])
    return without(fused([arm, *(cylinder(*eye, wide / 2, high) for eye in eyes)]), [cylinder(*eye, wide / 2 - wall, high) for eye in eyes])


def flush_link() -> TopoDS_Shape:
    """The arm with its web flush with the lower rims of its eyes."""
    return eyed_link(flush=True)


def flush_lever(long: float = 195.3, large: float = 24.64, small: float = 12.68, high: float = 34.91, wall: float = 5.0) -> TopoDS_Shape:
    """A tapered arm of U-section, its sides tangent to two unlike eyes and its web flush with their lower rims."""
    lean = (large - small) / long
    eyes = [((x, 0.0, -high / 2), (0.0, 0.0, 1.0), radius) for x, radius in ((0.0, large), (long, small))]

    def between(inside: float, z: float) -> TopoDS_Shape:
        near = [(x + (r - inside) * lean, (r - inside) * math.sqrt(1 - lean**2)) for x, r in ((0.0, large), (long, small))]
        return prism([(x, y, z) for x, y in near] + [(x, -y, z) for x, y in near[::-1]], {}, (0, 0, high))

    arm = cut(between(0, -high / 2), between(wall, wall - high / 2))
    arm = without(arm, [cylinder(at, way, radius - wall / 2, high) for at, way, radius in eyes])
    rings = [cylinder(at, way, radius, high) for at, way, radius in eyes]
    return without(fused([arm, *rings]), [cylinder(at, way, radius - wall, high) for at, way, radius in eyes])


PARTS: dict[str, Callable[[], TopoDS_Shape]] = {
    "fin_row": fin_row,
    "trough": trough,
    "twin_trough": twin_trough,
    "collar": collar,
    "spoked_cap": spoked_cap,
    "closed_bosses": closed_bosses,
    "blind_holes": blind_holes,
    "pipe_on_rail": pipe_on_rail,
    "barred_window": barred_window,
    "eyed_link": eyed_link,
    "flush_link": flush_link,
    "flush_lever": flush_lever,
    "pipe_clips": pipe_clips,
    "twin_pipes": twin_pipes,
    "pipe_on_pads": pipe_on_pads,
}


if __name__ == "__main__":
    write_all(PARTS)
