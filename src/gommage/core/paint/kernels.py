"""Compiled loops of painting: dabs, the membrane of healing, paint put over a picture and told from it again."""

from __future__ import annotations

import numpy as np
from numba import njit

__all__ = ["lay_dabs", "lay_over", "relax", "told_apart", "walk_dabs"]


@njit(cache=True, nogil=True)
def walk_dabs(points, last, carry, step):  # type: ignore[no-untyped-def]
    """Return the dabs (M, 3) x, y, pressure at even steps along points (N, 3), going on from the last call.

    `last` (3,) is the point that the last call ended with, NaN before the first; `carry` (1,) how far beyond it the
    next dab lies. Both are brought up to date.
    """
    total = 1.0
    x, y = last[0], last[1]
    for n in range(points.shape[0]):
        if np.isfinite(x):
            total += np.hypot(points[n, 0] - x, points[n, 1] - y) / step + 1.0
        x, y = points[n, 0], points[n, 1]
    dabs = np.empty((int(total) + 2, 3))
    count = 0
    for n in range(points.shape[0]):
        if not np.isfinite(last[0]):
            dabs[count] = points[n]
            count += 1
            carry[0] = step
        else:
            length = np.hypot(points[n, 0] - last[0], points[n, 1] - last[1])
            along = carry[0]
            while along <= length and length > 0.0:
                share = along / length
                for k in range(3):
                    dabs[count, k] = last[k] + share * (points[n, k] - last[k])
                count += 1
                along += step
            carry[0] = along - length
        last[:] = points[n]
    return dabs[:count]


@njit(cache=True, nogil=True)
def lay_dabs(dabs, softness, flow, left, top, mask):  # type: ignore[no-untyped-def]
    """Raise `mask` (H, W) to the brush's profile around each dab (x, y, radius, share).

    The profile is 1 inside and falls smoothly over the outer `softness` of the radius (at least a pixel wide, so
    that a hard brush is not jagged), times the dab's share. At full flow the highest dab counts; below it each lays so
    much of itself on what the ones before left open.
    """
    height, width = mask.shape
    for n in range(dabs.shape[0]):
        x = dabs[n, 0] - left
        y = dabs[n, 1] - top
        radius = dabs[n, 2]
        fall = max(radius * softness, 1.0)
        outer = radius + (0.5 if softness * radius < 1.0 else 0.0)
        for row in range(max(int(y - outer - 1), 0), min(int(y + outer + 2), height)):
            for column in range(max(int(x - outer - 1), 0), min(int(x + outer + 2), width)):
                dx = column + 0.5 - x
                dy = row + 0.5 - y
                value = (outer - np.sqrt(dx * dx + dy * dy)) / fall
                if value > 0.0:
                    value = min(value, 1.0)
                    value = value * value * (3.0 - 2.0 * value) * dabs[n, 3]
                    if flow < 1.0:
                        mask[row, column] += (1.0 - mask[row, column]) * flow * value
                    elif value > mask[row, column]:
                        mask[row, column] = value


@njit(cache=True, nogil=True, fastmath=True)
def relax(values, free, sweeps, push):  # type: ignore[no-untyped-def]
    """Smooth `values` (H, W, C) where `free` (H, W) is set: successive over-relaxation of Laplace's equation.

    Pixels that are not free are the boundary; the array's rim reflects. `push` is the over-relaxation, 1 to 2.
    """
    height, width, channels = values.shape
    for _ in range(sweeps):
        for parity in range(2):
            for row in range(height):
                for column in range((row + parity) % 2, width, 2):
                    if not free[row, column]:
                        continue
                    up = row - 1 if row > 0 else row + 1 if height > 1 else row
                    down = row + 1 if row < height - 1 else row - 1 if height > 1 else row
                    west = column - 1 if column > 0 else column + 1 if width > 1 else column
                    east = column + 1 if column < width - 1 else column - 1 if width > 1 else column
                    for c in range(channels):
                        mean = 0.25 * (
                            values[up, column, c]
                            + values[down, column, c]
                            + values[row, west, c]
                            + values[row, east, c]
                        )
                        values[row, column, c] += push * (mean - values[row, column, c])


@njit(cache=True, nogil=True)
def lay_over(region, pixels, alpha):  # type: ignore[no-untyped-def]
    """Lay pixels (h, w, 3) over a region by alpha (h, w), in place: at 0 nothing changes, at 1 bits are copied."""
    for row in range(region.shape[0]):
        for column in range(region.shape[1]):
            share = alpha[row, column]
            if share == 0:
                continue
            for c in range(3):
                if share >= 1:
                    region[row, column, c] = pixels[row, column, c]
                else:
                    below = region[row, column, c]
                    region[row, column, c] = below + (pixels[row, column, c] - below) * share


@njit(cache=True, nogil=True)
def told_apart(painted, below, cover, out):  # type: ignore[no-untyped-def]
    """Set `out` (h, w, 3) to the paint that, laid over `below` by its cover (h, w), gives `painted`."""
    for row in range(out.shape[0]):
        for column in range(out.shape[1]):
            share = cover[row, column]
            for c in range(3):
                under = below[row, column, c]
                if share >= 1:
                    out[row, column, c] = painted[row, column, c]
                elif share > 0:
                    out[row, column, c] = under + (painted[row, column, c] - under) / share
                else:
                    out[row, column, c] = under
