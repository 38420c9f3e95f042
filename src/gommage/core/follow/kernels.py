"""The compiled loop of the alignment: warp, residual and normal equations in one pass."""

from __future__ import annotations

import numpy as np
from numba import njit

__all__ = ["PARAMETERS", "normal_equations"]

PARAMETERS = 10
"""Eight of motion (shift x, y, turn, scale, stretch, shear, perspective x, y), then gain and offset."""


@njit(cache=True, nogil=True, fastmath=True, inline="always")
def _weights(t):  # type: ignore[no-untyped-def]
    s = 1.0 - t
    return (
        s * s * s / 6.0,
        2.0 / 3.0 - t * t + 0.5 * t * t * t,
        2.0 / 3.0 - s * s + 0.5 * s * s * s,
        t * t * t / 6.0,
    )


@njit(cache=True, nogil=True, fastmath=True)
def normal_equations(  # type: ignore[no-untyped-def]
    coefficients,
    matrix,
    points,
    normalised,
    home,
    gradient,
    use,
    motions,
    gain,
    offset,
    scale,
    normal,
    right,
    residual,
):
    """Accumulate weighted normal equations of one alignment step.

    `coefficients` (H, W) of the frame; `matrix` home to frame; `points` (N, 2) home positions and
    `normalised` (N, 2) the same about the area's middle; `home` (N,) values, `gradient` (N, 2) their slope per
    normalised unit; `use` (N,) 0 leaves a point out; `motions` how many of the eight motions are solved;
    `gain`, `offset` the light so far; `scale` the residual at which a point counts half (0: all count whole).
    `normal` (10, 10) and `right` (10,) are filled; `residual` (N,) becomes frame - gain * home - offset, NaN where
    the point is outside the frame. Returns the number of points that took part.
    """
    height, width = coefficients.shape
    count = 0
    slope = np.empty(10)
    for i in range(10):
        right[i] = 0.0
        for j in range(10):
            normal[i, j] = 0.0
    for n in range(points.shape[0]):
        residual[n] = np.nan
        x = points[n, 0]
        y = points[n, 1]
        w = matrix[2, 0] * x + matrix[2, 1] * y + matrix[2, 2]
        if w <= 1e-9:
            continue
        u = (matrix[0, 0] * x + matrix[0, 1] * y + matrix[0, 2]) / w - 0.5
        v = (matrix[1, 0] * x + matrix[1, 1] * y + matrix[1, 2]) / w - 0.5
        if not (1.0 <= u < width - 2.0 and 1.0 <= v < height - 2.0):
            continue
        i = int(u)
        j = int(v)
        wx = _weights(u - i)
        wy = _weights(v - j)
        value = 0.0
        for b in range(4):
            line = 0.0
            for a in range(4):
                line += wx[a] * coefficients[j + b - 1, i + a - 1]
            value += wy[b] * line
        r = value - gain * home[n] - offset
        residual[n] = r
        if use[n] == 0.0:
            continue
        weight = 1.0
        if scale > 0.0:
            weight = 1.0 / (1.0 + (r / scale) * (r / scale))
        p = normalised[n, 0]
        q = normalised[n, 1]
        gx = gradient[n, 0] * gain
        gy = gradient[n, 1] * gain
        slope[0] = gx
        slope[1] = gy
        slope[2] = -q * gx + p * gy
        slope[3] = p * gx + q * gy
        slope[4] = p * gx - q * gy
        slope[5] = q * gx + p * gy
        slope[6] = -p * slope[3]
        slope[7] = -q * slope[3]
        for k in range(motions, 8):
            slope[k] = 0.0
        slope[8] = -home[n]
        slope[9] = -1.0
        for k in range(10):
            s = slope[k] * weight
            right[k] -= s * r
            for m in range(k + 1):
                normal[k, m] += s * slope[m]
        count += 1
    for k in range(10):
        for m in range(k + 1, 10):
            normal[k, m] = normal[m, k]
    return count
