"""Compiled loops of matching."""

from __future__ import annotations

import numpy as np
from numba import njit

__all__ = ["threshold_blocks"]


@njit(cache=True, nogil=True, fastmath=True)
def threshold_blocks(picture, cosines, threshold, rows, columns, total, weight):  # type: ignore[no-untyped-def]
    """Add up overlapping 8x8 blocks of `picture` (H, W, C) of which only what rises out of the grain is kept.

    `cosines` (8, 8) is the orthonormal cosine transform; `threshold` (8, 8) is what a coefficient must exceed to be
    kept (the mean always is). A block begins at each of `rows` and `columns`. `total` (H, W, C) gets the sums, `weight`
    (H, W) how many blocks hold a pixel.
    """
    channels = picture.shape[2]
    block = np.empty((8, 8), np.float32)
    half = np.empty((8, 8), np.float32)
    for i in range(rows.shape[0]):
        for j in range(columns.shape[0]):
            top, left = rows[i], columns[j]
            for y in range(8):
                for x in range(8):
                    weight[top + y, left + x] += 1.0
            for c in range(channels):
                for y in range(8):
                    for u in range(8):
                        value = np.float32(0.0)
                        for x in range(8):
                            value += picture[top + y, left + x, c] * cosines[u, x]
                        half[y, u] = value
                kept = 0
                for v in range(8):
                    for u in range(8):
                        value = np.float32(0.0)
                        for y in range(8):
                            value += cosines[v, y] * half[y, u]
                        if abs(value) > threshold[v, u]:
                            block[v, u] = value
                            kept += 1
                        else:
                            block[v, u] = value if v == 0 and u == 0 else np.float32(0.0)
                if kept <= 1 and abs(block[0, 0]) > 0.0 and abs(block[0, 0]) > threshold[0, 0]:
                    mean = block[0, 0] / np.float32(8.0)
                    for y in range(8):
                        for x in range(8):
                            total[top + y, left + x, c] += mean
                    continue
                for v in range(8):
                    for x in range(8):
                        value = np.float32(0.0)
                        for u in range(8):
                            value += block[v, u] * cosines[u, x]
                        half[v, x] = value
                for y in range(8):
                    for x in range(8):
                        value = np.float32(0.0)
                        for v in range(8):
                            value += cosines[v, y] * half[v, x]
                        total[top + y, left + x, c] += value
