"""The compiled loops that give each pixel of a hole one of many labels, so that neighbours agree."""

from __future__ import annotations

import numpy as np
from numba import njit

__all__ = ["FAR", "labelled", "least_cost", "neighbours"]

FAR = 1e9
"""Costs more than anything that can be had."""


@njit(cache=True, nogil=True)
def neighbours(node):  # type: ignore[no-untyped-def]
    """Return the numbers of each pixel's neighbours, right, below, left, above: (N, 4) int32, -1 where there is none.

    `node` (h, w) int32 has the number of each pixel that has a label, row by row; -1 of others.
    """
    height, width = node.shape
    near = np.full((node.max() + 1, 4), -1, np.int32)
    for row in range(height):
        for column in range(width):
            n = node[row, column]
            if n < 0:
                continue
            if column + 1 < width and node[row, column + 1] >= 0:
                near[n, 0] = node[row, column + 1]
                near[node[row, column + 1], 2] = n
            if row + 1 < height and node[row + 1, column] >= 0:
                near[n, 1] = node[row + 1, column]
                near[node[row + 1, column], 3] = n
    return near


@njit(cache=True, nogil=True, fastmath=True)
def least_cost(near, unary, shown, squared, told, half, first, last):  # type: ignore[no-untyped-def]
    """Let some pixels tell their neighbours what each label costs, in place, on the way to nearly the least of costs.

    V. Kolmogorov, Convergent tree-reweighted message passing for energy minimization, PAMI 28 (2006),
    doi:10.1109/TPAMI.2006.200.

    Parameters
    ----------
    near : (N, 4) int32
        See `neighbours`.
    unary : (N, L) float32
        What each label costs at each pixel; `FAR` where a pixel cannot have it.
    shown : (N, F, L) float32
        What each label shows at each pixel. Labels of neighbours cost what both show apart at both pixels, squared.
    squared : (N, L) float32
        Its squares, summed over what is shown.
    told : (N, 4, L) float32
        What each neighbour tells, by where it is; nothing at first.
    half : int
        0: from the first pixel on, to the right and below; 1: back.
    first, last : int
        The turns of pixels, in that order, that are done.
    """
    count, values, labels = shown.shape
    belief, row, message = np.empty(labels, np.float32), np.empty(labels, np.float32), np.empty(labels, np.float32)
    both, wanted = np.empty((2 * values + 1, labels), np.float32), np.empty(labels, np.int64)
    for index in range(first, last):
        n = index if half == 0 else count - 1 - index
        for a in range(labels):
            belief[a] = unary[n, a]
            for k in range(4):
                belief[a] += told[n, k, a]
        for k in range(2):
            side = k if half == 0 else k + 2
            other = near[n, side]
            if other < 0:
                continue
            many = 0  # labels that a pixel cannot have, most of those in the middle of a hole, cost nothing here
            for b in range(labels):
                if unary[other, b] < FAR:
                    wanted[many] = b
                    both[2 * values, many] = squared[n, b] + squared[other, b]
                    for value in range(values):
                        both[value, many] = shown[n, value, b]
                        both[values + value, many] = shown[other, value, b]
                    many += 1
            message[:many] = np.float32(FAR)
            for a in range(labels):
                if unary[n, a] >= FAR:
                    continue
                own = np.float32(0.5) * belief[a] - told[n, side, a] + squared[n, a] + squared[other, a]
                for b in range(many):
                    row[b] = own + both[2 * values, b]
                for value in range(values):
                    here, there = np.float32(2) * shown[n, value, a], np.float32(2) * shown[other, value, a]
                    for b in range(many):
                        row[b] -= here * both[value, b] + there * both[values + value, b]
                for b in range(many):
                    message[b] = min(message[b], row[b])
            least = np.float32(FAR)
            for b in range(many):
                least = min(least, message[b])
            for b in range(many):
                told[other, (side + 2) % 4, wanted[b]] = message[b] - least


@njit(cache=True, nogil=True)
def labelled(near, unary, shown, told):  # type: ignore[no-untyped-def]
    """Return a label for each pixel, by what was told: (N,) int64; see `least_cost`."""
    count, values, labels = shown.shape
    belief = np.empty(labels, np.float32)
    found = np.empty(count, np.int64)
    for n in range(count):
        for a in range(labels):
            belief[a] = unary[n, a]
            for k in range(2):
                other = near[n, k + 2]
                if other >= 0:
                    b = found[other]
                    for value in range(values):
                        here = shown[n, value, a] - shown[n, value, b]
                        there = shown[other, value, a] - shown[other, value, b]
                        belief[a] += here * here + there * there
                belief[a] += told[n, k, a]
        found[n] = np.argmin(belief)
    return found
