"""Compiled loops over pixels. Loaded late: the first import of this module costs the compiler's start."""

from __future__ import annotations

import numpy as np
from numba import njit

__all__ = ["apply_cube", "apply_curve", "sample_spline", "sample_spline_at", "spline_weights"]


@njit(cache=True, nogil=True, fastmath=True, inline="always")
def spline_weights(t):  # type: ignore[no-untyped-def]
    """Return the four cubic B-spline weights at fraction t."""
    s = 1.0 - t
    return (
        s * s * s / 6.0,
        2.0 / 3.0 - t * t + 0.5 * t * t * t,
        2.0 / 3.0 - s * s + 0.5 * s * s * s,
        t * t * t / 6.0,
    )


@njit(cache=True, nogil=True, inline="always")
def _mirrored(index, count):  # type: ignore[no-untyped-def]
    """Return the index mirrored at the first and last pixel's centre."""
    if index < 0:
        index = -index
    if index >= count:
        index = 2 * count - 2 - index
    return min(max(index, 0), count - 1)


@njit(cache=True, nogil=True, fastmath=True)
def _sample(coefficients, u, v, out, row, column):  # type: ignore[no-untyped-def]
    """Set `out` (h, w, C) at a pixel to the spline's value at u, v (centres whole numbers, kept within the source)."""
    height, width, channels = coefficients.shape
    u = min(max(u, 0.0), width - 1.0)
    v = min(max(v, 0.0), height - 1.0)
    i = int(u)
    j = int(v)
    wx = spline_weights(np.float32(u - i))
    wy = spline_weights(np.float32(v - j))
    if channels == 3 and 1 <= i < width - 2 and 1 <= j < height - 2:  # nearly all pixels there are
        red = green = blue = np.float32(0.0)
        for b in range(4):
            r = j + b - 1
            for a in range(4):
                weight = wy[b] * wx[a]
                red += weight * coefficients[r, i + a - 1, 0]
                green += weight * coefficients[r, i + a - 1, 1]
                blue += weight * coefficients[r, i + a - 1, 2]
        out[row, column, 0] = red
        out[row, column, 1] = green
        out[row, column, 2] = blue
        return
    for c in range(channels):
        out[row, column, c] = 0.0
    if 1 <= i < width - 2 and 1 <= j < height - 2:
        for b in range(4):
            r = j + b - 1
            for c in range(channels):
                out[row, column, c] += wy[b] * (
                    wx[0] * coefficients[r, i - 1, c]
                    + wx[1] * coefficients[r, i, c]
                    + wx[2] * coefficients[r, i + 1, c]
                    + wx[3] * coefficients[r, i + 2, c]
                )
        return
    for b in range(4):
        r = _mirrored(j + b - 1, height)
        for a in range(4):
            q = _mirrored(i + a - 1, width)
            for c in range(channels):
                out[row, column, c] += wx[a] * wy[b] * coefficients[r, q, c]


@njit(cache=True, nogil=True, fastmath=True)
def sample_spline(coefficients, matrix, left, top, out, inside):  # type: ignore[no-untyped-def]
    """Fill a window by sampling spline coefficients through a matrix.

    `coefficients` (H, W, C) float32; `matrix` takes target to source positions (pixel centres at +0.5);
    `out` (h, w, C) is the window whose first pixel is (left, top); `inside` (h, w) gets 1 where the position
    lies on the source, else 0. Rims are continued by their nearest pixel.
    """
    height, width, channels = coefficients.shape
    for row in range(out.shape[0]):
        y = top + row + 0.5
        for column in range(out.shape[1]):
            x = left + column + 0.5
            w = matrix[2, 0] * x + matrix[2, 1] * y + matrix[2, 2]
            if w <= 1e-9:
                inside[row, column] = 0.0
                for c in range(channels):
                    out[row, column, c] = 0.0
                continue
            u = (matrix[0, 0] * x + matrix[0, 1] * y + matrix[0, 2]) / w - 0.5
            v = (matrix[1, 0] * x + matrix[1, 1] * y + matrix[1, 2]) / w - 0.5
            inside[row, column] = 1.0 if (-0.5 <= u < width - 0.5 and -0.5 <= v < height - 0.5) else 0.0
            _sample(coefficients, u, v, out, row, column)


@njit(cache=True, nogil=True)
def sample_spline_at(coefficients, field, out, inside):  # type: ignore[no-untyped-def]
    """Fill a window by sampling spline coefficients at given places; see `sample_spline`.

    `field` (h, w, 2) float64 holds a source position a pixel, NaN where there is none.
    """
    height, width, channels = coefficients.shape
    for row in range(out.shape[0]):
        for column in range(out.shape[1]):
            u = field[row, column, 0] - 0.5
            v = field[row, column, 1] - 0.5
            if not (np.isfinite(u) and np.isfinite(v)):
                inside[row, column] = 0.0
                for c in range(channels):
                    out[row, column, c] = 0.0
                continue
            inside[row, column] = 1.0 if (-0.5 <= u < width - 0.5 and -0.5 <= v < height - 0.5) else 0.0
            _sample(coefficients, u, v, out, row, column)


@njit(cache=True, nogil=True, fastmath=True)
def apply_curve(bits, low_bits, curve, out):  # type: ignore[no-untyped-def]
    """Show colour through a display transform that treats channels apart; see `apply_cube`.

    `curve` (M, 3) uint8 holds the display level for each step of the number line.
    """
    last = curve.shape[0] - 1
    for row in range(bits.shape[0]):
        for column in range(bits.shape[1]):
            for c in range(3):
                index = (bits[row, column, c] >> 14) - low_bits
                out[row, column, 2 - c] = curve[min(max(index, 0), last), c]
            out[row, column, 3] = 255


@njit(cache=True, nogil=True, fastmath=True)
def apply_cube(bits, low_bits, shaper, cube, out):  # type: ignore[no-untyped-def]
    """Show scene-linear colour through a baked display transform.

    `bits` (H, W, 3) int32 is float32 colour seen as integers: shifted right by 14 they count steps of the number
    line that are even in the logarithm (512 an octave), which saves the logarithm itself. `shaper` (M,) float32
    gives the place in the cube for each step from `low_bits` on; `cube` (N, N, N, 3) float32, red first, holds
    levels 0 to 255 and is looked up with tetrahedral weights. `out` (H, W, 4) uint8: blue, green, red, 255.
    """
    n = cube.shape[0]
    last = shaper.shape[0] - 1
    for row in range(bits.shape[0]):
        for column in range(bits.shape[1]):
            r = shaper[min(max((bits[row, column, 0] >> 14) - low_bits, 0), last)]
            g = shaper[min(max((bits[row, column, 1] >> 14) - low_bits, 0), last)]
            b = shaper[min(max((bits[row, column, 2] >> 14) - low_bits, 0), last)]
            i = min(int(r), n - 2)
            j = min(int(g), n - 2)
            k = min(int(b), n - 2)
            r -= i
            g -= j
            b -= k
            # The tetrahedron that holds the point: walk along the axes in the order of the fractions.
            i1, j1, k1, i2, j2, k2 = i, j, k, i + 1, j + 1, k + 1
            if r >= g and r >= b:
                i1 = i + 1
                if g >= b:
                    k2, high, middle, low = k, r, g, b
                else:
                    j2, high, middle, low = j, r, b, g
            elif g >= b:
                j1 = j + 1
                if r >= b:
                    k2, high, middle, low = k, g, r, b
                else:
                    i2, high, middle, low = i, g, b, r
            else:
                k1 = k + 1
                if r >= g:
                    j2, high, middle, low = j, b, r, g
                else:
                    i2, high, middle, low = i, b, g, r
            for c in range(3):
                value = (
                    cube[i, j, k, c] * (1.0 - high)
                    + cube[i1, j1, k1, c] * (high - middle)
                    + cube[i2, j2, k2, c] * (middle - low)
                    + cube[i + 1, j + 1, k + 1, c] * low
                )
                out[row, column, 2 - c] = np.uint8(value + 0.5)
            out[row, column, 3] = 255
