"""Compiled: values by their rank, and medians. Imported late."""

from __future__ import annotations

import numpy as np
from numba import njit

__all__ = ["median", "selected"]


@njit(cache=True, nogil=True)
def selected(values, count, rank):  # type: ignore[no-untyped-def]
    """Return the value of a rank (0 the least) among the first `count`, which are put in another order.

    By hand, since NumPy's own take seconds to compile. C. A. R. Hoare, Algorithm 65: find, CACM 4(7), 1961.
    """
    low, high = 0, count - 1
    while low < high:
        pivot = values[(low + high) // 2]
        i, j = low, high
        while i <= j:
            while values[i] < pivot:
                i += 1
            while values[j] > pivot:
                j -= 1
            if i <= j:
                values[i], values[j] = values[j], values[i]
                i += 1
                j -= 1
        if rank <= j:
            high = j
        elif rank >= i:
            low = i
        else:
            break
    return values[rank]


@njit(cache=True, nogil=True)
def median(values, count):  # type: ignore[no-untyped-def]
    """Return the median of the first `count` values, which are put in another order; NaN of none."""
    if not count:
        return np.nan
    middle = selected(values, count, count // 2)
    if count % 2:
        return np.float64(middle)
    below = values[0]  # what comes before the middle is not larger than it
    for index in range(1, count // 2):
        below = max(below, values[index])
    return (np.float64(below) + np.float64(middle)) / 2
