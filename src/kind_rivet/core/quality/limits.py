"""Limit sheets: for each metric where comfort ends and where an element fails. Sheets are data (TOML)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kind_rivet.core.geometry.carriers import Floats
from kind_rivet.core.quality.shell_metrics import METRICS

QUADS, TRIAS, BOTH = "quads", "trias", "shells"
MOST_GROWTH = 1.5  # that analysts put up with between neighbours; no sheet holds it, since it is no metric of one element


@dataclass(frozen=True)
class Limit:
    """One line: comfortable up to `comfort`, failing beyond `limit` (less than, if limit < comfort)."""

    metric: str
    comfort: float
    limit: float
    kinds: str = BOTH
    of_size: bool = False  # values are shares of the wanted element size


@dataclass(frozen=True)
class LimitSheet:
    name: str
    limits: tuple[Limit, ...]

    def table(self, size: float) -> Floats:
        """(2, 10, 2, 2) array for the compiled index: [trias, quads][metric][line][comfort, limit], NaN where not judged.

        A metric may carry two lines (one from below, one from above).
        """
        out = np.full((2, len(METRICS), 2, 2), np.nan)
        for limit in self.limits:
            scale = size if limit.of_size else 1.0
            column = METRICS.index(limit.metric)
            for kind, row in ((TRIAS, 0), (QUADS, 1)):
                if limit.kinds in (kind, BOTH):
                    line = 0 if np.isnan(out[row, column, 0, 0]) else 1
                    out[row, column, line] = limit.comfort * scale, limit.limit * scale
        return out


DEFAULT = LimitSheet(
    "Default shells",
    (
        Limit("side_ratio", 2, 5),
        Limit("skew", 20, 50, QUADS),
        Limit("warp", 3, 12, QUADS),
        Limit("taper", 0.25, 0.6, QUADS),
        Limit("least_angle", 65, 40, QUADS),
        Limit("largest_angle", 115, 140, QUADS),
        Limit("least_angle", 40, 20, TRIAS),
        Limit("largest_angle", 80, 120, TRIAS),
        Limit("scaled_jacobian", 0.85, 0.5),
        Limit("shortest", 0.6, 0.35, of_size=True),
        Limit("longest", 1.5, 2.2, of_size=True),
    ),
)

LABELS = {
    "side_ratio": ("Side ratio", "", "Long thin elements. Usual cause: divisions that do not match the other side of a strip."),
    "skew": ("Skew", "°", "Sheared quads. Usual cause: slanted borders or opposite sides whose nodes do not face each other."),
    "warp": ("Warp", "°", "Quads out of their plane. Usual cause: too few divisions round a bend."),
    "taper": ("Taper", "", "Quads much wider at one end. Usual cause: a quick change of size."),
    "least_angle": ("Smallest angle", "°", "Pointed corners. Usual cause: sharp borders and slivers."),
    "largest_angle": ("Largest angle", "°", "Nearly flat corners. Usual cause: a node with too few elements round it."),
    "jacobian_ratio": ("Jacobian ratio", "", "Uneven stretching inside the element."),
    "scaled_jacobian": ("Scaled Jacobian", "", "Distortion at the worst corner; 1 is ideal, 0 collapsed."),
    "shortest": ("Shortest side", "length", "Short sides. Usual cause: short edges and small holes for this size."),
    "longest": ("Longest side", "length", "Long sides. Usual cause: coarse divisions set by hand."),
}
