"""Compiled loops of closing a line from both of its sides.

A line is points `(S, 2)` a pixel apart with normals `(S, 2)` to its left; a band along it has a row for each pixel of
distance, the line itself in the middle, those to the left of it last.
"""

from __future__ import annotations

import numpy as np
from numba import njit

__all__ = ["bridged", "slanted"]

OUTWARDS = 4
"""Sides are compared along so many pixels outwards."""
MOST_SLANT, SLANT_STEP = 1.8, 0.1
CAP, UNKNOWN = 0.12, 0.05
"""A difference counts no more than this; what is not known counts so much."""
MOST_MOVE = 3
FARTHER = 12.0
"""So far beyond its place a side is looked for that is known."""
BOTH, LEFT, RIGHT = 0, 1, 2


@njit(cache=True, nogil=True, fastmath=True, inline="always")
def _place(points, at, k):  # type: ignore[no-untyped-def]
    """Return a coordinate of a line at a length along it; beyond its ends it goes on straight."""
    last = points.shape[0] - 1
    index = min(max(int(np.floor(at)), 0), last - 1)
    share = at - index
    return points[index, k] + share * (points[index + 1, k] - points[index, k])


@njit(cache=True, nogil=True, fastmath=True, inline="always")
def _known_at(known, x, y):  # type: ignore[no-untyped-def]
    """Return whether pixels around a place are known."""
    row, column = int(np.floor(y)), int(np.floor(x))
    if row < 1 or column < 1 or row >= known.shape[0] - 1 or column >= known.shape[1] - 1:
        return False
    return known[row, column]


@njit(cache=True, nogil=True, fastmath=True)
def _slopes(band, shown, left, right):  # type: ignore[no-untyped-def]
    """Return how values change along and across a line on its sides, smoothed along it: sums of products (S, 3)."""
    rows, count = (band.shape[0] - 1) // 2, band.shape[1]
    slopes, smooth = np.zeros((count, 3)), np.zeros((count, 3))
    for n in range(1, count - 1):
        for side in range(2):
            first = int(np.round(left[n] if side == 0 else right[n]))
            for step in range(OUTWARDS):
                row = rows + (first + step if side == 0 else -(first + step))
                if row < 1 or row >= 2 * rows or not (
                    shown[row, n - 1] and shown[row, n + 1] and shown[row - 1, n] and shown[row + 1, n]
                ):  # fmt: skip
                    continue
                for c in range(3):
                    along = (band[row, n + 1, c] - band[row, n - 1, c]) / 2
                    across = (band[row + 1, n, c] - band[row - 1, n, c]) / 2
                    slopes[n, 0] += along * along
                    slopes[n, 1] += along * across
                    slopes[n, 2] += across * across
    weights = np.exp(-0.5 * (np.arange(-6, 7) / 2.5) ** 2)
    for n in range(count):
        total = 0.0
        for by in range(-6, 7):
            if 0 <= n + by < count:
                total += weights[by + 6]
                for k in range(3):
                    smooth[n, k] += weights[by + 6] * slopes[n + by, k]
        for k in range(3):
            smooth[n, k] /= total * 2 * OUTWARDS * 3
    return smooth


@njit(cache=True, nogil=True, fastmath=True)
def _costs_of(band, shown, left, right, prior, slants):  # type: ignore[no-untyped-def]
    """Return what each slant costs at each place of a line: (S, M) float32."""
    rows, count = (band.shape[0] - 1) // 2, band.shape[1]
    slopes = _slopes(band, shown, left, right)
    costs = np.zeros((count, len(slants)), np.float32)
    cap, unknown = np.float32(CAP), np.float32(UNKNOWN)
    for n in range(count):
        for step in range(OUTWARDS):
            up, low = left[n] + step, right[n] + step
            row, below = rows + int(np.round(up)), rows - int(np.round(low))
            is_there = row <= 2 * rows and below >= 0
            for s in range(len(slants)):
                x, y = n + slants[s] * up, n - slants[s] * low
                column, other = int(np.floor(x)), int(np.floor(y))
                if (
                    not is_there or column < 0 or column + 1 >= count or other < 0 or other + 1 >= count
                    or not (shown[row, column] and shown[row, column + 1])
                    or not (shown[below, other] and shown[below, other + 1])
                ):  # fmt: skip
                    costs[n, s] += unknown
                    continue
                off, u, v = np.float32(0), np.float32(x - column), np.float32(y - other)
                for c in range(3):
                    one = band[row, column, c] + u * (band[row, column + 1, c] - band[row, column, c])
                    two = band[below, other, c] + v * (band[below, other + 1, c] - band[below, other, c])
                    off += abs(one - two)
                costs[n, s] += min(off / np.float32(3), cap)
        for s in range(len(slants)):
            slant = slants[s]
            bent = slant * slant * slopes[n, 0] + 2 * slant * slopes[n, 1] + slopes[n, 2]
            costs[n, s] = costs[n, s] / OUTWARDS + prior * np.sqrt(max(bent, 0.0) / (1 + slant * slant))
            costs[n, s] += 1e-4 * abs(slant)
    return costs


@njit(cache=True, nogil=True, fastmath=True)
def slanted(band, shown, left, right, prior, smoothness):  # type: ignore[no-untyped-def]
    """Return along which slant, in pixels along a pixel across, what lies on both sides of a line goes through: (S,).

    The slants whose both ends are most alike, smooth along the line (Viterbi), drawn towards those along which the
    sides themselves change least.

    Parameters
    ----------
    band, shown : (2 rows + 1, S, 3) float32, (2 rows + 1, S) bool
        See `gommage.core.picture.kernels.banded`.
    left, right : (S,) float64
        How far from the line its sides are looked at.
    prior, smoothness : float
        What a slant counts that the sides contradict, and one that differs from its neighbour's.
    """
    slants = -MOST_SLANT + SLANT_STEP * np.arange(int(np.round(2 * MOST_SLANT / SLANT_STEP)) + 1)
    costs = _costs_of(band, shown, left, right, prior, slants)
    count, many = costs.shape
    came = np.zeros((count, many), np.int8)
    moved = (smoothness * SLANT_STEP * np.abs(np.arange(-MOST_MOVE, MOST_MOVE + 1))).astype(np.float32)
    for n in range(1, count):
        for s in range(many):
            least, best = np.float32(1e9), 0
            for move in range(-MOST_MOVE, MOST_MOVE + 1):
                if 0 <= s + move < many:
                    cost = costs[n - 1, s + move] + moved[move + MOST_MOVE]
                    if cost < least:
                        least, best = cost, move
            costs[n, s] += least
            came[n, s] = best
    found, even = np.empty(count), np.empty(count)
    at = int(np.argmin(costs[count - 1]))
    for n in range(count - 1, -1, -1):
        found[n] = slants[at]
        at += came[n, at]
    for n in range(count):
        low, high = max(n - 2, 0), min(n + 3, count)
        even[n] = found[low:high].mean()
    return even


@njit(cache=True, nogil=True, fastmath=True, inline="always")
def _read(picture, x, y, out):  # type: ignore[no-untyped-def]
    """Set `out` (3,) to a picture's value at a place, by Catmull and Rom's cubic."""
    height, width = picture.shape[:2]
    x, y = x - 0.5, y - 0.5
    column, row = int(np.floor(x)), int(np.floor(y))
    u, v = x - column, y - row
    for c in range(3):
        out[c] = 0.0
    for down in range(-1, 3):
        r = min(max(row + down, 0), height - 1)
        b = abs(down - v)
        wy = 1.5 * b**3 - 2.5 * b**2 + 1 if b < 1 else -0.5 * b**3 + 2.5 * b**2 - 4 * b + 2 if b < 2 else 0.0
        for across in range(-1, 3):
            q = min(max(column + across, 0), width - 1)
            a = abs(across - u)
            wx = 1.5 * a**3 - 2.5 * a**2 + 1 if a < 1 else -0.5 * a**3 + 2.5 * a**2 - 4 * a + 2 if a < 2 else 0.0
            for c in range(3):
                out[c] += wx * wy * picture[r, q, c]


@njit(cache=True, nogil=True, fastmath=True)
def bridged(picture, known, points, normals, reach, left, right, ways, slants, at_x, at_y, out, valid, fresh):  # type: ignore[no-untyped-def]
    """Close a line in place, each pixel near it from both sides along the slant there, cross-faded.

    Parameters
    ----------
    picture, known : (h, w, 3) float32, (h, w) bool
    points, normals : (S, 2) float64
        In pixels of the picture.
    reach, left, right, slants : (S,) float64
        How far pixels are closed, where sides are taken from, along which slant.
    ways : (S,) int8
        From both sides, or from the left or the right alone.
    at_x, at_y : int
        Where the first pixel of what follows lies in the picture.
    out, valid, fresh : (H, W, 3), (H, W), (H, W) float32
        New pixels, where there are any, and how much of the grain they lack.
    """
    height, width = valid.shape
    count = points.shape[0]
    nearest = np.full((height, width), np.float32(1e9))
    which = np.full((height, width), -1, np.int32)
    for n in range(count):
        far = reach[n]
        if far <= 0:
            continue
        x, y = points[n, 0] - at_x, points[n, 1] - at_y
        for row in range(max(int(np.floor(y - far)), 0), min(int(np.ceil(y + far)) + 1, height)):
            for column in range(max(int(np.floor(x - far)), 0), min(int(np.ceil(x + far)) + 1, width)):
                apart = (column + 0.5 - x) ** 2 + (row + 0.5 - y) ** 2
                if apart <= far * far and apart < nearest[row, column]:
                    nearest[row, column] = apart
                    which[row, column] = n
    one, two = np.empty(3), np.empty(3)
    for row in range(height):
        for column in range(width):
            n = which[row, column]
            if n < 0:
                continue
            x, y = column + 0.5 + at_x - points[n, 0], row + 0.5 + at_y - points[n, 1]
            across = x * normals[n, 0] + y * normals[n, 1]
            along = n - normals[n, 1] * x + normals[n, 0] * y
            slant = slants[n]
            for _ in range(2):
                crossing = min(max(along - slant * across, 0.0), count - 1.0)
                slant = slants[int(crossing + 0.5)]
            crossing = along - slant * across
            way = ways[n]
            far = _first_known(known, points, normals, crossing, slant, left[n], 1.0) if way != RIGHT else -1.0
            near = _first_known(known, points, normals, crossing, slant, right[n], -1.0) if way != LEFT else -1.0
            if far < 0 and near < 0:
                continue
            if far >= 0:  # alone, it is mirrored at its place, so that it does not stretch
                away = max(far, across) if near >= 0 else 2 * far - across if across < far else across
                at = crossing + slant * away
                index = min(max(int(at + 0.5), 0), count - 1)
                _read(picture, _place(points, at, 0) + away * normals[index, 0],
                      _place(points, at, 1) + away * normals[index, 1], one)  # fmt: skip
            if near >= 0:
                away = min(-near, across) if far >= 0 else -2 * near - across if across > -near else across
                at = crossing + slant * away
                index = min(max(int(at + 0.5), 0), count - 1)
                _read(picture, _place(points, at, 0) + away * normals[index, 0],
                      _place(points, at, 1) + away * normals[index, 1], two)  # fmt: skip
            share = 1.0 if near < 0 else 0.0 if far < 0 else min(max((across + near) / (far + near), 0.0), 1.0)
            for c in range(3):
                out[row, column, c] = (share * one[c] if share > 0 else 0.0) + (
                    (1 - share) * two[c] if share < 1 else 0.0
                )
            valid[row, column] = 1.0
            fresh[row, column] = np.sqrt(max(1 - share * share - (1 - share) * (1 - share), 0.0))


@njit(cache=True, nogil=True, fastmath=True, inline="always")
def _first_known(known, points, normals, crossing, slant, begin, sign):  # type: ignore[no-untyped-def]
    """Return how far from a line, along a slant, something is known first, -1 if nothing is."""
    last = points.shape[0] - 1
    away = begin
    while away < begin + FARTHER:
        at = crossing + sign * slant * away
        index = min(max(int(at + 0.5), 0), last)
        x = _place(points, at, 0) + sign * away * normals[index, 0]
        y = _place(points, at, 1) + sign * away * normals[index, 1]
        if _known_at(known, x, y):
            return away
        away += 0.5
    return -1.0
