"""The nearest point on an analytic carrier, compiled, for nodes that slide on their faces and edges."""

from __future__ import annotations

import numpy as np

from kind_rivet.core.kernels import kernel

CODES = {"free": 0, "plane": 1, "cylinder": 2, "cone": 3, "sphere": 4, "torus": 5}
LINE, CIRCLE = 6, 7  # a line through d[0:3] along d[3:6]; a circle about d[0:3] with axis d[3:6] and radius d[6]


@kernel
def onto(code, d, x, y, z):  # type: ignore[no-untyped-def]
    """Nearest point on an analytic carrier (see `geometry.carriers.project`) or on a LINE or CIRCLE."""
    px, py, pz = x - d[0], y - d[1], z - d[2]
    if code == 1:
        h = px * d[3] + py * d[4] + pz * d[5]
        return x - h * d[3], y - h * d[4], z - h * d[5]
    if code == 4:
        r = d[3] / max(np.sqrt(px * px + py * py + pz * pz), 1e-300)
        return d[0] + px * r, d[1] + py * r, d[2] + pz * r
    h = px * d[3] + py * d[4] + pz * d[5]
    if code == 6:
        return d[0] + h * d[3], d[1] + h * d[4], d[2] + h * d[5]
    rx, ry, rz = px - h * d[3], py - h * d[4], pz - h * d[5]
    length = max(np.sqrt(rx * rx + ry * ry + rz * rz), 1e-300)
    rx, ry, rz = rx / length, ry / length, rz / length
    if code == 7:
        return d[0] + d[6] * rx, d[1] + d[6] * ry, d[2] + d[6] * rz
    if code == 2:
        return d[0] + h * d[3] + d[6] * rx, d[1] + h * d[4] + d[6] * ry, d[2] + h * d[5] + d[6] * rz
    if code == 3:
        c, s = np.cos(d[6]), np.sin(d[6])
        gx, gy, gz = c * d[3] + s * rx, c * d[4] + s * ry, c * d[5] + s * rz
        k = max(px * gx + py * gy + pz * gz, 0.0)
        return d[0] + k * gx, d[1] + k * gy, d[2] + k * gz
    if code == 5:
        qx, qy, qz = px - d[6] * rx, py - d[6] * ry, pz - d[6] * rz
        k = d[7] / max(np.sqrt(qx * qx + qy * qy + qz * qz), 1e-300)
        return d[0] + d[6] * rx + qx * k, d[1] + d[6] * ry + qy * k, d[2] + d[6] * rz + qz * k
    return x, y, z
