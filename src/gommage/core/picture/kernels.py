"""Compiled loops over pixels. Loaded late: the first import of this module costs the compiler's start."""

from __future__ import annotations

import numpy as np
from numba import njit

__all__ = [
    "apply_cube",
    "apply_curve",
    "banded",
    "inner_value",
    "sample_one",
    "sample_spline",
    "sample_spline_at",
    "spline_weights",
]


@njit(cache=True, nogil=True, fastmath=True, inline="always")
def spline_weights(t):  # type: ignore[no-untyped-def]
    """Return the four cubic B-spline weights at fraction t."""
    half, third, sixth = np.float32(0.5), np.float32(2 / 3), np.float32(1 / 6)  # all in float32: twice as fast
    s = np.float32(1) - t
    return s * s * s * sixth, third - t * t + half * t * t * t, third - s * s + half * s * s * s, t * t * t * sixth


@njit(cache=True, nogil=True, inline="always")
def _mirrored(index, count):  # type: ignore[no-untyped-def]
    """Return the index mirrored at the first and last pixel's centre."""
    if index < 0:
        index = -index
    if index >= count:
        index = 2 * count - 2 - index
    return min(max(index, 0), count - 1)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy", inline="always")
def inner_value(coefficients, i, j, x0, x1, x2, x3, y0, y1, y2, y3, c):  # type: ignore[no-untyped-def]
    """Return the spline's value in a channel by the weights of four columns and rows, the second of which are i, j.

    All of them are there; indices have no sign, so that none is looked at for being counted from the end.
    """
    i0, j0, one = np.uint64(i - 1), np.uint64(j - 1), np.uint64(1)
    i1, i2, i3 = i0 + one, i0 + np.uint64(2), i0 + np.uint64(3)
    j1, j2, j3 = j0 + one, j0 + np.uint64(2), j0 + np.uint64(3)
    above = x0 * coefficients[j0, i0, c] + x1 * coefficients[j0, i1, c]
    above += x2 * coefficients[j0, i2, c] + x3 * coefficients[j0, i3, c]
    upper = x0 * coefficients[j1, i0, c] + x1 * coefficients[j1, i1, c]
    upper += x2 * coefficients[j1, i2, c] + x3 * coefficients[j1, i3, c]
    lower = x0 * coefficients[j2, i0, c] + x1 * coefficients[j2, i1, c]
    lower += x2 * coefficients[j2, i2, c] + x3 * coefficients[j2, i3, c]
    below = x0 * coefficients[j3, i0, c] + x1 * coefficients[j3, i1, c]
    below += x2 * coefficients[j3, i2, c] + x3 * coefficients[j3, i3, c]
    return y0 * above + y1 * upper + y2 * lower + y3 * below


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy", inline="always")
def sample_one(coefficients, u, v, out, row, column):  # type: ignore[no-untyped-def]
    """Set `out` (h, w, C) at a pixel to the spline's value at u, v (centres whole numbers, kept within the source)."""
    height, width, channels = coefficients.shape
    u = min(max(u, 0.0), width - 1.0)
    v = min(max(v, 0.0), height - 1.0)
    i = int(u)
    j = int(v)
    wx = spline_weights(np.float32(u - i))
    wy = spline_weights(np.float32(v - j))
    if channels == 3 and 1 <= i < width - 2 and 1 <= j < height - 2:  # nearly all pixels there are
        x0, x1, x2, x3 = wx
        y0, y1, y2, y3 = wy
        for c in range(3):
            out[row, column, c] = inner_value(coefficients, i, j, x0, x1, x2, x3, y0, y1, y2, y3, c)
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


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
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
            w = 1.0 / w
            u = (matrix[0, 0] * x + matrix[0, 1] * y + matrix[0, 2]) * w - 0.5
            v = (matrix[1, 0] * x + matrix[1, 1] * y + matrix[1, 2]) * w - 0.5
            inside[row, column] = 1.0 if (-0.5 <= u < width - 0.5 and -0.5 <= v < height - 0.5) else 0.0
            sample_one(coefficients, u, v, out, row, column)


@njit(cache=True, nogil=True, error_model="numpy")
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
            sample_one(coefficients, u, v, out, row, column)


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


@njit(cache=True, nogil=True, fastmath=True)
def banded(picture, known, points, normals, rows):  # type: ignore[no-untyped-def]
    """Return what lies along a line, straightened: (2 rows + 1, S, 3) float32, and where that is known.

    Parameters
    ----------
    picture, known : (h, w, 3) float32, (h, w) bool
    points, normals : (S, 2) float64
        In pixels of the picture.
    rows : int
        So many pixels to either side.
    """
    height, width = known.shape
    count = points.shape[0]
    band = np.zeros((2 * rows + 1, count, 3), np.float32)
    shown = np.zeros((2 * rows + 1, count), np.bool_)
    for row in range(2 * rows + 1):
        away = row - rows
        for n in range(count):
            x = points[n, 0] + away * normals[n, 0] - 0.5
            y = points[n, 1] + away * normals[n, 1] - 0.5
            column, line = int(np.floor(x)), int(np.floor(y))
            if column < 0 or line < 0 or column + 1 >= width or line + 1 >= height:
                continue
            shown[row, n] = (
                known[line, column] and known[line, column + 1] and known[line + 1, column]
                and known[line + 1, column + 1]
            )  # fmt: skip
            right, down = np.float32(x - column), np.float32(y - line)
            for c in range(3):
                upper = picture[line, column, c] + right * (picture[line, column + 1, c] - picture[line, column, c])
                lower = picture[line + 1, column, c] + right * (
                    picture[line + 1, column + 1, c] - picture[line + 1, column, c]
                )
                band[row, n, c] = upper + down * (lower - upper)
    return band, shown
