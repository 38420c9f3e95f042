"""The compiled part of rasterising: distance to an outline near it, and inside or not."""

from __future__ import annotations

import numpy as np
from numba import njit

__all__ = ["inside", "nearest_outline"]


@njit(cache=True, nogil=True)
def nearest_outline(points, left, top, reach, squared):  # type: ignore[no-untyped-def]
    """Lower `squared` (H, W) to the squared distance from pixel centres to a closed outline, within `reach`."""
    count = points.shape[0]
    height, width = squared.shape
    for n in range(count):
        ax = points[n, 0] - left
        ay = points[n, 1] - top
        bx = points[(n + 1) % count, 0] - left
        by = points[(n + 1) % count, 1] - top
        dx = bx - ax
        dy = by - ay
        length = dx * dx + dy * dy
        first_row = max(int(np.floor(min(ay, by) - reach)), 0)
        last_row = min(int(np.ceil(max(ay, by) + reach)), height)
        first_column = max(int(np.floor(min(ax, bx) - reach)), 0)
        last_column = min(int(np.ceil(max(ax, bx) + reach)), width)
        for row in range(first_row, last_row):
            y = row + 0.5
            for column in range(first_column, last_column):
                x = column + 0.5
                along = 0.0
                if length > 0.0:
                    along = min(max(((x - ax) * dx + (y - ay) * dy) / length, 0.0), 1.0)
                ex = ax + along * dx - x
                ey = ay + along * dy - y
                squared[row, column] = min(squared[row, column], ex * ex + ey * ey)


@njit(cache=True, nogil=True)
def inside(points, left, top, out):  # type: ignore[no-untyped-def]
    """Set `out` (H, W) to 1 where the pixel centre is inside a closed outline (winding number not zero)."""
    count = points.shape[0]
    height, width = out.shape
    crossings = np.empty(count)
    turns = np.empty(count, np.int64)
    for row in range(height):
        y = top + row + 0.5
        found = 0
        for n in range(count):
            ay = points[n, 1]
            by = points[(n + 1) % count, 1]
            if (ay <= y) != (by <= y):
                ax = points[n, 0]
                bx = points[(n + 1) % count, 0]
                crossings[found] = ax + (y - ay) / (by - ay) * (bx - ax)
                turns[found] = 1 if by > ay else -1
                found += 1
        order = np.argsort(crossings[:found])
        winding = 0
        for k in range(found - 1):
            winding += turns[order[k]]
            if winding != 0:
                first = max(int(np.ceil(crossings[order[k]] - left - 0.5)), 0)
                last = min(int(np.ceil(crossings[order[k + 1]] - left - 0.5)), width)
                for column in range(first, last):
                    out[row, column] = 1.0
