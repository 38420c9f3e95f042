"""Compiled: points through lenses, and between panoramas and flat views of them. Imported late."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

__all__ = ["panorama_places", "panorama_rows", "through_lens", "view_places"]

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


@njit(cache=True, nogil=True, fastmath=True, inline="always")  # type: ignore[untyped-decorator, unused-ignore]
def _angle(across: float, along: float) -> float:
    """Return the angle of a direction, -pi to pi, to some 1e-9 (S. Moshier's rational approximation, Cephes)."""
    low, high = min(abs(across), abs(along)), max(abs(across), abs(along))
    if high == 0.0:
        return 0.0
    ratio = low / high
    base = 0.0
    if ratio > 0.41421356237309503:
        base = np.pi / 4
        ratio = (ratio - 1.0) / (ratio + 1.0)
    z = ratio * ratio
    top = (((-8.750608600031904e-1 * z - 1.615753718733365e1) * z - 7.500855792314705e1) * z - 1.228866684490136e2) * z
    top -= 6.485021904942025e1
    under = (
        (((z + 2.485846490142306e1) * z + 1.650270098316988e2) * z + 4.328810604912903e2) * z + 4.853903996359136e2
    ) * z
    under += 1.945506571482614e2
    angle = base + ratio + ratio * z * top / under
    if abs(across) > abs(along):
        angle = np.pi / 2 - angle
    if along < 0.0:
        angle = np.pi - angle
    return -angle if across < 0.0 else angle


@njit(cache=True, nogil=True, fastmath=True)  # type: ignore[untyped-decorator, unused-ignore]
def panorama_rows(left: int, top: int, turn: Any, view: Any, wide: float, high: float, out: Any) -> None:
    """Set where each pixel's centre of some rows of a flat view (h, w, 2) lies in a panorama.

    `view` is focal length, middle x and y; `turn` (3, 3) takes directions of the view to those of the panorama.
    """
    focal, middle_x, middle_y = view[0], view[1], view[2]
    to_x, to_y = wide / (2 * np.pi), high / np.pi
    for row in range(out.shape[0]):
        v = (top + row + 0.5 - middle_y) / focal
        for column in range(out.shape[1]):
            u = (left + column + 0.5 - middle_x) / focal
            x = turn[0, 0] * u + turn[0, 1] * v + turn[0, 2]
            y = turn[1, 0] * u + turn[1, 1] * v + turn[1, 2]
            z = turn[2, 0] * u + turn[2, 1] * v + turn[2, 2]
            out[row, column, 0] = wide / 2 + to_x * _angle(x, z)
            out[row, column, 1] = high / 2 + to_y * _angle(y, np.sqrt(x * x + z * z))


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator, unused-ignore]
def panorama_places(points: Any, turn: Any, view: Any, wide: float, high: float, out: Any) -> None:
    """Set where points (N, 2) of a flat view lie in a panorama; see `panorama_rows`."""
    focal, middle_x, middle_y = view[0], view[1], view[2]
    for index in range(points.shape[0]):
        u, v = (points[index, 0] - middle_x) / focal, (points[index, 1] - middle_y) / focal
        x = turn[0, 0] * u + turn[0, 1] * v + turn[0, 2]
        y = turn[1, 0] * u + turn[1, 1] * v + turn[1, 2]
        z = turn[2, 0] * u + turn[2, 1] * v + turn[2, 2]
        out[index, 0] = wide / 2 + wide / (2 * np.pi) * _angle(x, z)
        out[index, 1] = high / 2 + high / np.pi * _angle(y, np.sqrt(x * x + z * z))


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator, unused-ignore]
def view_places(points: Any, turn: Any, view: Any, wide: float, high: float, out: Any) -> None:
    """Set where points (N, 2) of a panorama lie in a flat view; NaN for what lies behind it.

    `turn` (3, 3) takes directions of the panorama to those of the view.
    """
    for index in range(points.shape[0]):
        around, down = (points[index, 0] / wide - 0.5) * 2 * np.pi, (points[index, 1] / high - 0.5) * np.pi
        level = np.cos(down)
        x, y, z = level * np.sin(around), np.sin(down), level * np.cos(around)
        depth = turn[2, 0] * x + turn[2, 1] * y + turn[2, 2] * z
        if not depth > 1e-6:
            out[index, 0] = out[index, 1] = np.nan
            continue
        out[index, 0] = view[1] + view[0] * (turn[0, 0] * x + turn[0, 1] * y + turn[0, 2] * z) / depth
        out[index, 1] = view[2] + view[0] * (turn[1, 0] * x + turn[1, 1] * y + turn[1, 2] * z) / depth
