"""Compiled loops of finding and following a wire in a band around where it is expected.

A response `(rows, S)` tells how much like a wire each place of the band looks; `middle` is the row of the line that is
expected.
"""

from __future__ import annotations

import numpy as np
from numba import njit

__all__ = ["most_votes", "snapped"]


@njit(cache=True, nogil=True, fastmath=True)
def most_votes(response, middle, starts, ends, sags, bends, step):  # type: ignore[no-untyped-def]
    """Return what the whole length of a line votes for: mean responses (A, B, C, D) of all its offsets.

    Parameters
    ----------
    response : (rows, S) float32
    middle : float
    starts, ends, sags, bends : (A,), (B,), (C,), (D,) float64
        Offsets of both ends, of the middle beyond them, and of a cubic, in rows.
    step : int
        Every so many columns are asked.
    """
    rows, count = response.shape
    asked = (count + step - 1) // step
    share, bow, cubic = np.empty(asked), np.empty(asked), np.empty(asked)
    for n in range(asked):
        u = n * step / max(count - 1, 1)
        share[n], bow[n] = u, 4 * u * (1 - u)
        cubic[n] = 10.39 * u * (1 - u) * (1 - 2 * u)  # at most 1
    votes = np.empty((len(starts), len(ends), len(sags), len(bends)), np.float32)
    for a in range(len(starts)):
        for b in range(len(ends)):
            for c in range(len(sags)):
                for d in range(len(bends)):
                    total = 0.0
                    for n in range(asked):
                        at = middle + starts[a] + (ends[b] - starts[a]) * share[n] + sags[c] * bow[n]
                        at += bends[d] * cubic[n]
                        row = int(at)
                        if at < 0 or row + 1 >= rows:
                            continue
                        part = at - row
                        column = n * step
                        total += response[row, column] * (1 - part) + response[row + 1, column] * part
                    votes[a, b, c, d] = total / asked
    return votes


@njit(cache=True, nogil=True, fastmath=True)
def snapped(response, line, knots, moves, stiffness):  # type: ignore[no-untyped-def]
    """Return by how much each knot of a line moves, so that most of it responds most: (K,) float64.

    Parameters
    ----------
    response : (rows, S) float32
    line : (S,) float64
        Rows where it is expected.
    knots : (K,) int64
        Columns, rising, the first and the last of the line among them.
    moves : (M,) float64
        What each knot may move by.
    stiffness : float
        What a difference between neighbours costs, by its square.
    """
    rows = response.shape[0]
    count, many = len(knots), len(moves)
    best = np.zeros((count, many), np.float32)
    came = np.zeros((count, many), np.int32)
    for k in range(1, count):
        first, last = knots[k - 1], knots[k]
        for m in range(many):
            most, where = np.float32(-1e9), 0
            for before in range(many):
                total = 0.0
                for column in range(first, last + 1, 2):
                    share = (column - first) / max(last - first, 1)
                    at = line[column] + moves[before] + (moves[m] - moves[before]) * share
                    row = int(at)
                    if at < 0 or row + 1 >= rows:
                        continue
                    part = at - row
                    total += response[row, column] * (1 - part) + response[row + 1, column] * part
                total -= stiffness * (moves[m] - moves[before]) ** 2 * (last - first)
                total += best[k - 1, before]
                if total > most:
                    most, where = total, before
            best[k, m], came[k, m] = most, where
    found = np.empty(count)
    at = int(np.argmax(best[count - 1]))
    for k in range(count - 1, -1, -1):
        found[k] = moves[at]
        at = came[k, at]
    return found
