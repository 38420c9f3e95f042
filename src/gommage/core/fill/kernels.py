"""Compiled loops of filling."""

from __future__ import annotations

import numpy as np
from numba import njit

__all__ = ["average_of_those_that_agree"]


@njit(cache=True, nogil=True)
def average_of_those_that_agree(stack, clean, weights, limits, deviations):  # type: ignore[no-untyped-def]
    """Return for each pixel the weighted mean of those of N pictures that agree with their median.

    Parameters
    ----------
    stack : (N, h, w, 3) float32
    clean : (N, h, w) bool
    weights : (N,) float32
    limits : (3,) float32
        One that differs by less agrees,
    deviations : float32
        and so does one by less than so many median deviations.

    Returns
    -------
    mean : (h, w, 3) float32
        0 where none is clean.
    count : (h, w) float32
        The square of the weights' sum over the sum of their squares.
    heaviest : (h, w) int16
    """
    total, height, width = clean.shape
    mean, count = np.zeros((height, width, 3), np.float32), np.zeros((height, width), np.float32)
    heaviest = np.full((height, width), -1, np.int16)
    values, ordered = np.empty(total, np.float32), np.empty(total, np.float32)
    which, agrees = np.empty(total, np.int64), np.empty(total, np.bool_)
    for row in range(height):
        for column in range(width):
            known = 0
            for n in range(total):
                if clean[n, row, column]:
                    which[known] = n
                    agrees[known] = True
                    known += 1
            if known == 0:
                continue
            for c in range(3):
                for k in range(known):
                    values[k] = stack[which[k], row, column, c]
                middle = median_of(values, ordered, known)
                for k in range(known):
                    values[k] = abs(values[k] - middle)
                limit = max(limits[c], deviations * np.float32(1.4826) * median_of(values, ordered, known))
                for k in range(known):
                    agrees[k] = agrees[k] and values[k] <= limit
            summed, squares, most = np.float32(0), np.float32(0), np.float32(0)
            for k in range(known):
                if agrees[k]:
                    weight = weights[which[k]]
                    summed += weight
                    squares += weight * weight
                    if weight > most:
                        most, heaviest[row, column] = weight, which[k]
            if summed == 0:  # no two agree in all channels: what is nearest in time
                for k in range(known):
                    if weights[which[k]] > most:
                        most, heaviest[row, column] = weights[which[k]], which[k]
                for c in range(3):
                    mean[row, column, c] = stack[heaviest[row, column], row, column, c]
                count[row, column] = 1
                continue
            for k in range(known):
                if agrees[k]:
                    share = weights[which[k]] / summed
                    for c in range(3):
                        mean[row, column, c] += share * stack[which[k], row, column, c]
            count[row, column] = summed * summed / squares
    return mean, count, heaviest


@njit(cache=True, nogil=True)
def median_of(values, ordered, count):  # type: ignore[no-untyped-def]
    """Return the median of the first `count` values; `ordered` is room to sort them in."""
    for n in range(count):
        value = values[n]
        place = n
        while place > 0 and ordered[place - 1] > value:
            ordered[place] = ordered[place - 1]
            place -= 1
        ordered[place] = value
    half = count // 2
    return ordered[half] if count % 2 else np.float32(0.5) * (ordered[half - 1] + ordered[half])
