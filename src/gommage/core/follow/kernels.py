"""The compiled loops of the alignment: warp, residual and normal equations in one pass; scores of blocks."""

from __future__ import annotations

import numpy as np
from numba import njit

from gommage.core.picture.kernels import spline_weights
from gommage.core.picture.ranks import selected

__all__ = [
    "PARAMETERS",
    "block_scores",
    "block_sums",
    "deviation",
    "likeness",
    "likeness_of_tiles",
    "normal_equations",
]

PARAMETERS = 12
"""Eight of motion (shift x, y, turn, scale, stretch, shear, perspective x, y), then gain, offset, and the gain's
slope along x and y."""
SAMPLES = 4096
"""So many residuals are enough to tell how they spread."""


CHUNK = 256
"""So many points are warped one by one, then multiplied with each other in long rows: three times as fast."""


@njit(cache=True, nogil=True, fastmath=True, inline="always")
def _slopes(p, q, gx, gy, value, out, column):  # type: ignore[no-untyped-def]
    """Set how the residual changes with each parameter at one point: a column of (12, N)."""
    along = p * gx + q * gy
    out[0, column] = gx
    out[1, column] = gy
    out[2, column] = p * gy - q * gx
    out[3, column] = along
    out[4, column] = p * gx - q * gy
    out[5, column] = q * gx + p * gy
    out[6, column] = -p * along
    out[7, column] = -q * along
    out[8, column] = -value
    out[9, column] = -1.0
    out[10, column] = -value * p
    out[11, column] = -value * q


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
    slope = np.empty((PARAMETERS, CHUNK))
    weighted = np.empty(CHUNK)
    weight = np.empty(CHUNK)
    rest = np.empty(CHUNK)
    steepness = 1.0 / scale if scale > 0.0 else 0.0
    right[:] = 0.0
    if with_normal:
        normal[:] = 0.0
    for first in range(0, points.shape[0], CHUNK):
        filled = 0
        for n in range(first, min(first + CHUNK, points.shape[0])):
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
                row = coefficients[j + b - 1]
                value += wy[b] * (wx[0] * row[i - 1] + wx[1] * row[i] + wx[2] * row[i + 1] + wx[3] * row[i + 2])
            p = normalised[n, 0]
            q = normalised[n, 1]
            gain = light[0] + light[2] * p + light[3] * q
            r = value - gain * reference[n] - light[1]
            residual[n] = r
            rest[filled] = r
            weight[filled] = 1.0 / (1.0 + (r * steepness) ** 2)
            _slopes(p, q, gradient[n, 0] * gain, gradient[n, 1] * gain, reference[n], slope, filled)
            filled += 1
        count += filled
        for k in range(unknowns):
            one = slope[active[k]]
            total = 0.0
            for c in range(filled):
                weighted[c] = one[c] * weight[c]
                total += weighted[c] * rest[c]
            right[k] -= total
            if with_normal:
                for m in range(k + 1):
                    other = slope[active[m]]
                    total = 0.0
                    for c in range(filled):
                        total += weighted[c] * other[c]
                    normal[k, m] += total
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
    slope = np.empty((PARAMETERS, 1))
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
        _slopes(p, q, gradient[n, 0] * gain, gradient[n, 1] * gain, reference[n], slope, 0)
        for k in range(unknowns):
            scores[blocks[n], k] += weight * r * slope[active[k], 0]
    return weights / max(count, 1), slopes / max(count, 1)


@njit(cache=True, nogil=True, error_model="numpy")
def deviation(values):  # type: ignore[no-untyped-def]
    """Return the robust deviation and the median of some thousands of the values (N,), NaN left out; 1, 0 of none."""
    step = max(values.shape[0] // SAMPLES, 1)
    known = np.empty(values.shape[0] // step + 1)
    count = 0
    for n in range(0, values.shape[0], step):
        if np.isfinite(values[n]):
            known[count] = values[n]
            count += 1
    if count == 0:
        return 1.0, 0.0
    middle = selected(known, count, count // 2)
    for n in range(count):
        known[n] = abs(known[n] - middle)
    return 1.4826 * selected(known, count, count // 2) + 1e-9, middle


@njit(cache=True, nogil=True, error_model="numpy")
def block_sums(blocks, values, residual, middle, limit, sums):  # type: ignore[no-untyped-def]
    """Add up over blocks, where the residual is not NaN: `sums` (B, 5).

    The number, values, values squared, and the residual about `middle`, clipped to `limit`, and its square.
    """
    sums[:] = 0.0
    for n in range(residual.shape[0]):
        r = residual[n]
        if not np.isfinite(r):
            continue
        r = min(max(r - middle, -limit), limit)
        block = blocks[n]
        sums[block, 0] += 1.0
        sums[block, 1] += values[n]
        sums[block, 2] += values[n] * values[n]
        sums[block, 3] += r
        sums[block, 4] += r * r


@njit(cache=True, nogil=True, error_model="numpy")
def likeness(normalised, reference, residual, light):  # type: ignore[no-untyped-def]
    """Return the correlation of the reference under its light with the frame, over points whose residual is not NaN."""
    count = 0
    fitted = 0.0
    frame = 0.0
    square = 0.0
    across = 0.0
    frame_square = 0.0
    for n in range(residual.shape[0]):
        if not np.isfinite(residual[n]):
            continue
        gain = light[0] + light[2] * normalised[n, 0] + light[3] * normalised[n, 1]
        one = gain * reference[n] + light[1]
        other = one + residual[n]
        count += 1
        fitted += one
        frame += other
        square += one * one
        across += one * other
        frame_square += other * other
    if count == 0:
        return 0.0
    spread = (square - fitted * fitted / count) * (frame_square - frame * frame / count)
    return (across - fitted * frame / count) / np.sqrt(spread) if spread > 0.0 else 0.0


@njit(cache=True, nogil=True, error_model="numpy")
def likeness_of_tiles(tiles, normalised, reference, residual, light, allowed, use, likeness):  # type: ignore[no-untyped-def]
    """Set the correlation of reference and frame within each tile (T,), and return of how many it is known.

    0 where a tile was left out (`use` is 0 where looking is `allowed`). Those that are out of sight are not counted.
    """
    count = likeness.shape[0]
    sums = np.zeros((count, 6))
    left_out = np.zeros(count)
    for n in range(residual.shape[0]):
        tile = tiles[n]
        if allowed[n] > 0.0 and use[n] == 0.0:
            left_out[tile] += 1.0
        elif np.isfinite(residual[n]):
            one = (light[0] + light[2] * normalised[n, 0] + light[3] * normalised[n, 1]) * reference[n]
            other = one + residual[n]
            sums[tile, 0] += 1.0
            sums[tile, 1] += one
            sums[tile, 2] += other
            sums[tile, 3] += one * one
            sums[tile, 4] += one * other
            sums[tile, 5] += other * other
    known = 0
    for tile in range(count):
        number, one, other, square, across, other_square = sums[tile]
        if number < 8.0 and left_out[tile] < 8.0:
            continue
        spread = (square - one * one / max(number, 1.0)) * (other_square - other * other / max(number, 1.0))
        is_told = number >= 8.0 and spread > 0.0
        likeness[known] = (across - one * other / number) / np.sqrt(spread) if is_told else 0.0
        known += 1
    return known
