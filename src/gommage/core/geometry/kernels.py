"""Compiled: points through a lens, a motion, and the lens again. Imported late."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

__all__ = ["through_lens"]

Floats = NDArray[np.float64]
NEWTON_STEPS = 12
CLOSE = 1e-12


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator, unused-ignore]
def _straight_radius(bent: float, first: float, second: float) -> float:
    """Return the radius that the lens bends to another one; NaN where it bends nothing there."""
    radius = bent
    for _ in range(NEWTON_STEPS):
        square = radius * radius
        slope = 1.0 + square * (3.0 * first + 5.0 * second * square)
        if slope < 0.05:
            return np.nan
        by = (radius * (1.0 + square * (first + second * square)) - bent) / slope
        radius -= by
        if abs(by) < CLOSE * (1.0 + bent):
            return radius
    return np.nan


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator, unused-ignore]
def through_lens(points: Any, lens: Any, straight: bool, motion: Any, bend: bool, out: Any) -> None:
    """Set points (N, 2) to where they lie after the lens is taken away, a motion is done, and the lens is put on again.

    `lens` is focal length, middle x and y, first and second term; `motion` (3, 3) is of straight pixels. NaN where a
    point lies nowhere.
    """
    focal, middle_x, middle_y, first, second = lens[0], lens[1], lens[2], lens[3], lens[4]
    for index in range(points.shape[0]):
        x, y = points[index, 0], points[index, 1]
        if straight:
            u, v = (x - middle_x) / focal, (y - middle_y) / focal
            bent = np.sqrt(u * u + v * v)
            if bent > 1e-9:
                factor = _straight_radius(bent, first, second) / bent
                x, y = middle_x + focal * u * factor, middle_y + focal * v * factor
        w = motion[2, 0] * x + motion[2, 1] * y + motion[2, 2]
        if not w > 0.0:
            out[index, 0] = out[index, 1] = np.nan
            continue
        left = (motion[0, 0] * x + motion[0, 1] * y + motion[0, 2]) / w
        top = (motion[1, 0] * x + motion[1, 1] * y + motion[1, 2]) / w
        if bend:
            u, v = (left - middle_x) / focal, (top - middle_y) / focal
            square = u * u + v * v
            if 1.0 + square * (3.0 * first + 5.0 * second * square) < 0.05:
                left = top = np.nan  # so far out that the lens folds the picture back
            else:
                factor = 1.0 + square * (first + second * square)
                left, top = middle_x + focal * u * factor, middle_y + focal * v * factor
        out[index, 0], out[index, 1] = left, top
