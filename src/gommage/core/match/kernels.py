"""Compiled loops of matching."""

from __future__ import annotations

import numpy as np
from numba import njit

__all__ = ["edges_in_front", "grained", "threshold_blocks", "white_noise"]

WHOLE = 0.999
"""What is in front by more than that hides all."""


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


@njit(cache=True, nogil=True, inline="always")
def _mixed(state):  # type: ignore[no-untyped-def]
    """Return a number that has nothing to do with the next one's (splitmix64: G. Steele et al., OOPSLA 2014)."""
    state = (state ^ (state >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    state = (state ^ (state >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return state ^ (state >> np.uint64(31))


@njit(cache=True, nogil=True)
def white_noise(seed, left, top, out):  # type: ignore[no-untyped-def]
    """Set `out` (h, w, 3) float32 to noise of deviation 1 that each place of the plane has of its own.

    Each number is the sum of eight that are even, as good as normal: grain is blurred on top.

    Parameters
    ----------
    seed : uint64
    left, top : int
        Of the first pixel.
    """
    step, low = np.uint64(0x9E3779B97F4A7C15), np.uint64(0xFFFF)
    scale, middle = np.float32(1.0 / (65536.0 * np.sqrt(8.0 / 12.0))), np.float32(4 * 65535.0)
    for row in range(out.shape[0]):
        line = _mixed(seed + np.uint64(row + top + (1 << 31)) * step)
        for column in range(out.shape[1]):
            place = line + np.uint64(column + left + (1 << 31)) * step
            for c in range(3):
                first = _mixed(place + np.uint64(2 * c + 1) * np.uint64(0xD1342543DE82EF95))
                second = _mixed(place + np.uint64(2 * c + 2) * np.uint64(0xD1342543DE82EF95))
                total = (
                    (first & low) + ((first >> np.uint64(16)) & low) + ((first >> np.uint64(32)) & low)
                    + (first >> np.uint64(48)) + (second & low) + ((second >> np.uint64(16)) & low)
                    + ((second >> np.uint64(32)) & low) + (second >> np.uint64(48))
                )  # fmt: skip
                out[row, column, c] = (np.float32(total) - middle) * scale


@njit(cache=True, nogil=True)
def grained(picture, field, floor, slope, amount, share, out):  # type: ignore[no-untyped-def]
    """Set each pixel to itself with grain of deviation 1 laid on it, as strong as its level asks for, times its share
    (h, w).
    """
    for row in range(out.shape[0]):
        for column in range(out.shape[1]):
            for c in range(3):
                value = picture[row, column, c]
                strong = np.sqrt(floor[c] + slope[c] * max(value, np.float32(0)))
                out[row, column, c] = value + field[row, column, c] * strong * (amount * share[row, column])


@njit(cache=True, nogil=True, fastmath=True)
def edges_in_front(picture, held, near, far, step, far_counts, alone, enough, unknown, uneven, out):  # type: ignore[no-untyped-def]
    """Set `out` (h, w, 3) where what is in front is seen in part; see `gommage.core.match.fronts.front_edges`.

    `near` and `far` are what places count along each way, those of `far` a `step` apart.
    """
    height, width = held.shape
    sums = np.empty((2, 5))  # behind, in front: red, green, blue, their squares, how much is seen
    colour, varies, known = np.empty((2, 3)), np.empty(2), np.empty(2)
    for row in range(height):
        for column in range(width):
            share = held[row, column]
            if share <= 0 or share > WHOLE:
                continue
            sums[:] = 0
            for which in range(2):
                counts = near if which == 0 else far
                apart, times = (1, 1.0) if which == 0 else (step, far_counts)
                reach = len(counts) // 2
                for down in range(-reach, reach + 1):
                    r = row + down * apart
                    if r < 0 or r >= height:
                        continue
                    for across in range(-reach, reach + 1):
                        c = column + across * apart
                        if c < 0 or c >= width:
                            continue
                        other = held[r, c]
                        if alone <= other <= 1 - alone:
                            continue
                        side = 0 if other < alone else 1
                        weight = times * counts[down + reach] * counts[across + reach]
                        for k in range(3):
                            value = picture[r, c, k]
                            sums[side, k] += weight * value
                            sums[side, 3] += weight * value * value
                        sums[side, 4] += weight
            for side in range(2):
                many, level = max(sums[side, 4], 1e-9), 0.0
                for k in range(3):
                    colour[side, k] = sums[side, k] / many
                    level += colour[side, k] ** 2
                varies[side] = (max(sums[side, 3] / many - level, 0.0) + uneven * uneven * level) / 3 + 1e-6
                known[side] = min(sums[side, 4] / (enough * far_counts), 1.0)
            varies[1] += unknown * (1 - known[1])
            taken = share * varies[1] / (share * share * varies[1] + (1 - share) ** 2 * varies[0])
            for k in range(3):
                left = picture[row, column, k] - (share * colour[1, k] + (1 - share) * colour[0, k])
                own = max(colour[1, k] + taken * left, 0.0)
                out[row, column, k] = share * (own - picture[row, column, k]) * known[0]
