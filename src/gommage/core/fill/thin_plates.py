"""Compiled loops of filling from the rim."""

from __future__ import annotations

import numpy as np
from numba import njit

__all__ = ["means_of_cells"]


@njit(cache=True, nogil=True, error_model="numpy")
def means_of_cells(frame, known, side):  # type: ignore[no-untyped-def]
    """Return means over cells of `side` pixels square: of places (N, 2) and values (N, 3), and how many pixels (N,).

    `frame` (h, w, 3) float32 is looked at where `known` (h, w) bool; cells of fewer than `side` pixels are left out.
    """
    height, width = known.shape
    down, across = (height + side - 1) // side, (width + side - 1) // side
    total, count = np.zeros((down * across, 5)), np.zeros(down * across)
    for row in range(height):
        for column in range(width):
            if known[row, column]:
                cell = (row // side) * across + column // side
                count[cell] += 1
                total[cell, 0] += column + 0.5
                total[cell, 1] += row + 0.5
                for c in range(3):
                    total[cell, 2 + c] += frame[row, column, c]
    full = np.flatnonzero(count >= side)
    means = np.empty((len(full), 5))
    for n in range(len(full)):
        for k in range(5):
            means[n, k] = total[full[n], k] / count[full[n]]
    return means[:, :2].copy(), means[:, 2:].copy(), count[full]
