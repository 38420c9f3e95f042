"""Compiled loops of painting: the dabs of a brush and the membrane of healing."""

from __future__ import annotations

import numpy as np
from numba import njit

__all__ = ["lay_dabs", "relax"]


@njit(cache=True, nogil=True)
def lay_dabs(dabs, softness, left, top, mask):  # type: ignore[no-untyped-def]
    """Raise `mask` (H, W) to the brush's profile around each dab (x, y, radius).

    The profile is 1 inside and falls smoothly over the outer `softness` of the radius (at least a pixel wide, so
    that a hard brush is not jagged).
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
                    value = value * value * (3.0 - 2.0 * value)
                    if value > mask[row, column]:
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
