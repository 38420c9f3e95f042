"""The compiled loops of the alignment: warp, residual and normal equations in one pass; scores of blocks."""

from __future__ import annotations

import numpy as np
from numba import njit

from gommage.core.picture.kernels import spline_weights

__all__ = ["PARAMETERS", "block_scores", "normal_equations"]

PARAMETERS = 12
"""Eight of motion (shift x, y, turn, scale, stretch, shear, perspective x, y), then gain, offset, and the gain's
slope along x and y."""


@njit(cache=True, nogil=True, fastmath=True, inline="always")
def _slopes(p, q, gx, gy, value, out):  # type: ignore[no-untyped-def]
    """Set how the residual changes with each parameter at one point."""
    out[0] = gx
    out[1] = gy
    out[2] = -q * gx + p * gy
    out[3] = p * gx + q * gy
    out[4] = p * gx - q * gy
    out[5] = q * gx + p * gy
    out[6] = -p * out[3]
    out[7] = -q * out[3]
    out[8] = -value
    out[9] = -1.0
    out[10] = -value * p
    out[11] = -value * q


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def normal_equations(  # type: ignore[no-untyped-def]
    coefficients,
    matrix,
    points,
    normalised,
    reference,
    gradient,
    use,
    active,
    light,
    scale,
    with_normal,
    normal,
    right,
    residual,
):
    """Accumulate weighted normal equations of one alignment step.

    `coefficients` (H, W) of the frame; `matrix` reference to frame; `points` (N, 2) positions on the reference and
    `normalised` (N, 2) the same about the area's middle; `reference` (N,) values, `gradient` (N, 2) their slope per
    normalised unit; `use` (N,) 0 leaves a point out; `active` (K,) which parameters are solved; `light` (4,) gain,
    offset and the gain's slopes so far; `scale` the residual at which a point counts half (0: all count whole);
    `with_normal` False leaves `normal` as it was. `normal` (K, K) and `right` (K,) are filled; `residual` (N,) becomes
    frame - gain * reference - offset, NaN where the point is outside the frame. Returns the number of points that
    took part.
    """
    height, width = coefficients.shape
    unknowns = active.shape[0]
    count = 0
    slope = np.empty(PARAMETERS)
    chosen = np.empty(unknowns)
    for i in range(unknowns):
        right[i] = 0.0
        if with_normal:
            for j in range(unknowns):
                normal[i, j] = 0.0
    for n in range(points.shape[0]):
        residual[n] = np.nan
        if use[n] == 0.0:
            continue
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
        wx = spline_weights(u - i)
        wy = spline_weights(v - j)
        value = 0.0
        for b in range(4):
            line = 0.0
            for a in range(4):
                line += wx[a] * coefficients[j + b - 1, i + a - 1]
            value += wy[b] * line
        p = normalised[n, 0]
        q = normalised[n, 1]
        gain = light[0] + light[2] * p + light[3] * q
        r = value - gain * reference[n] - light[1]
        residual[n] = r
        weight = 1.0
        if scale > 0.0:
            weight = 1.0 / (1.0 + (r / scale) * (r / scale))
        _slopes(p, q, gradient[n, 0] * gain, gradient[n, 1] * gain, reference[n], slope)
        for k in range(unknowns):
            chosen[k] = slope[active[k]]
        for k in range(unknowns):
            s = chosen[k] * weight
            right[k] -= s * r
            if with_normal:
                for m in range(k + 1):
                    normal[k, m] += s * chosen[m]
        count += 1
    if with_normal:
        for k in range(unknowns):
            for m in range(k + 1, unknowns):
                normal[k, m] = normal[m, k]
    return count


@njit(cache=True, nogil=True, error_model="numpy")  # strict arithmetic: it has to tell NaN
def block_scores(normalised, reference, gradient, residual, active, light, scale, blocks, scores):  # type: ignore[no-untyped-def]
    """Add up what each block of neighbouring points pulls at the solution with: `scores` (B, K).

    Returns the means of the weights and of the influence function's slope over the points that took part (NaN
    residuals did not).
    """
    unknowns = active.shape[0]
    slope = np.empty(PARAMETERS)
    weights = 0.0
    slopes = 0.0
    count = 0
    scores[:] = 0.0
    for n in range(residual.shape[0]):
        r = residual[n]
        if not np.isfinite(r):
            continue
        p = normalised[n, 0]
        q = normalised[n, 1]
        gain = light[0] + light[2] * p + light[3] * q
        square = (r / scale) * (r / scale) if scale > 0.0 else 0.0
        weight = 1.0 / (1.0 + square)
        weights += weight
        slopes += (1.0 - square) * weight * weight
        count += 1
        _slopes(p, q, gradient[n, 0] * gain, gradient[n, 1] * gain, reference[n], slope)
        for k in range(unknowns):
            scores[blocks[n], k] += weight * r * slope[active[k]]
    return weights / max(count, 1), slopes / max(count, 1)
