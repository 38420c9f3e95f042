"""Compiled loops of filling from the rim."""

from __future__ import annotations

import numpy as np
from numba import njit

__all__ = ["means_of_cells", "plate_between"]


@njit(cache=True, nogil=True, error_model="numpy")
def plate_between(points, values, noise, grid_x, grid_y):  # type: ignore[no-untyped-def]
    """Return a thin-plate smoothing spline through values, on a grid: (h, w, 3).

    Parameters
    ----------
    points : (N, 2) float64
    values : (N, 3) float64
    noise : (N,) float64
        What is added to each point's own bending: by so much it is smoothed.
    grid_x, grid_y : (w,), (h,) float64
    """
    count = len(points)
    system, given = np.zeros((count + 3, count + 3)), np.zeros((count + 3, 3))
    for n in range(count):
        for m in range(n):
            bending = bent(points[n, 0] - points[m, 0], points[n, 1] - points[m, 1])
            system[n, m] = bending
            system[m, n] = bending
        system[n, n] = noise[n]
        system[n, count] = system[count, n] = 1.0
        for k in range(2):
            system[n, count + 1 + k] = system[count + 1 + k, n] = points[n, k]
        for c in range(3):
            given[n, c] = values[n, c]
    weights = np.linalg.solve(system, given)
    found = np.empty((len(grid_y), len(grid_x), 3))
    for row in range(len(grid_y)):
        for column in range(len(grid_x)):
            x, y = grid_x[column], grid_y[row]
            red = weights[count, 0] + weights[count + 1, 0] * x + weights[count + 2, 0] * y
            green = weights[count, 1] + weights[count + 1, 1] * x + weights[count + 2, 1] * y
            blue = weights[count, 2] + weights[count + 1, 2] * x + weights[count + 2, 2] * y
            for n in range(count):
                bending = bent(x - points[n, 0], y - points[n, 1])
                red += bending * weights[n, 0]
                green += bending * weights[n, 1]
                blue += bending * weights[n, 2]
            found[row, column, 0] = red
            found[row, column, 1] = green
            found[row, column, 2] = blue
    return found


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


@njit(cache=True, nogil=True, error_model="numpy")
def bent(across, down):  # type: ignore[no-untyped-def]
    """Return how a thin plate bends so far away: r^2 log r."""
    apart = across * across + down * down
    return 0.5 * apart * np.log(apart) if apart > 1e-12 else 0.0
