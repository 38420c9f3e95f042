"""Compiled loops of closing a hole with pieces of the same picture.

Pictures of features are `(h, w, F)` float32. A field of matches `(h, w, 2)` int32 holds for a patch, by row and column
of its middle, row and column of the middle of the one that it is matched with.
"""

from __future__ import annotations

import numpy as np
from numba import njit

__all__ = [
    "best_offsets",
    "compared",
    "corrected",
    "matched",
    "refined",
    "steps_between",
    "voted",
]

HALF = 3
"""Patches are seven pixels square."""
FAR = 1e9


@njit(cache=True, nogil=True, fastmath=True, inline="always")
def _unlike(features, row, column, other_row, other_column, most):  # type: ignore[no-untyped-def]
    """Return the sum of squares by which two patches differ, or any that is at least `most`."""
    count = features.shape[2]
    total = np.float32(0)
    for down in range(-HALF, HALF + 1):
        for across in range(-HALF, HALF + 1):
            for c in range(count):
                off = features[row + down, column + across, c] - features[other_row + down, other_column + across, c]
                total += off * off
        if total >= most:
            break
    return total


@njit(cache=True, nogil=True, inline="always")
def _drawn(chance, count):  # type: ignore[no-untyped-def]
    """Return a whole number from 0 to below `count`, by chance; `chance` (1,) uint64 goes on (xorshift)."""
    state = chance[0]
    state ^= state << np.uint64(13)
    state ^= state >> np.uint64(7)
    state ^= state << np.uint64(17)
    chance[0] = state
    return np.int64((state >> np.uint64(11)) % np.uint64(count))


@njit(cache=True, nogil=True, fastmath=True)
def compared(features, places, sources, is_source, matches, errors, first, last, seed):  # type: ignore[no-untyped-def]
    """Tell how unlike some places' patches are to their matches, in place; those without one get one by chance.

    Parameters are those of `matched`; `sources` (M, 2) int32 are the middles that may be taken.
    """
    chance = np.empty(1, np.uint64)
    chance[0] = np.uint64(seed * 2654435761 + first + 88172645463325252)
    for n in range(first, last):
        row, column = places[n]
        if errors[row, column] < 0 or not is_source[matches[row, column, 0], matches[row, column, 1]]:
            source = _drawn(chance, len(sources))
            matches[row, column, 0], matches[row, column, 1] = sources[source, 0], sources[source, 1]
        errors[row, column] = _unlike(
            features, row, column, matches[row, column, 0], matches[row, column, 1], np.float32(FAR)
        )


@njit(cache=True, nogil=True, fastmath=True, inline="always")
def _may_be(is_source, row, column, other_row, other_column, least_off):  # type: ignore[no-untyped-def]
    """Return whether a patch may be matched with one at another place."""
    height, width = is_source.shape
    if other_row < 0 or other_row >= height or other_column < 0 or other_column >= width:
        return False
    far = max(abs(other_row - row), abs(other_column - column))
    return is_source[other_row, other_column] and far >= least_off


@njit(cache=True, nogil=True, fastmath=True)
def matched(features, places, is_source, matches, errors, step, first, last, least_off, seed):  # type: ignore[no-untyped-def]
    """Improve a field of matches in place, some of its places: spread along, and tried at random ever nearer.

    C. Barnes et al., PatchMatch, SIGGRAPH 2009, doi:10.1145/1531326.1531330.

    Parameters
    ----------
    features : (h, w, F) float32
    places : (N, 2) int32
        Middles of the patches that look for a match, row by row.
    is_source : (h, w) bool
        Middles of those that may be taken.
    matches, errors : (h, w, 2) int32, (h, w) float32
        Errors of what is no place are negative.
    step : int
        1: from the first place on; -1: from the last one back.
    first, last : int
        The turns of places, in that order, that are done.
    least_off : int
        A match is so far away, along rows or columns, at least.
    seed : int
    """
    chance = np.empty(1, np.uint64)
    chance[0] = np.uint64(seed * 2654435761 + first + 88172645463325252)
    for index in range(first, last):
        row, column = places[index if step == 1 else len(places) - 1 - index]
        best, best_row, best_column = errors[row, column], matches[row, column, 0], matches[row, column, 1]
        for k in range(2):
            near_row, near_column = row - step * (1 - k), column - step * k
            if errors[near_row, near_column] < 0:
                continue
            other_row = matches[near_row, near_column, 0] + step * (1 - k)
            other_column = matches[near_row, near_column, 1] + step * k
            if _may_be(is_source, row, column, other_row, other_column, least_off):
                off = _unlike(features, row, column, other_row, other_column, best)
                if off < best:
                    best, best_row, best_column = off, other_row, other_column
        reach = max(is_source.shape)
        while reach >= 1:
            other_row = best_row - reach + _drawn(chance, 2 * reach + 1)
            other_column = best_column - reach + _drawn(chance, 2 * reach + 1)
            reach //= 2
            if _may_be(is_source, row, column, other_row, other_column, least_off):
                off = _unlike(features, row, column, other_row, other_column, best)
                if off < best:
                    best, best_row, best_column = off, other_row, other_column
        errors[row, column] = best
        matches[row, column, 0], matches[row, column, 1] = best_row, best_column


@njit(cache=True, nogil=True, fastmath=True)
def voted(picture, hole, places, matches, weights):  # type: ignore[no-untyped-def]
    """Return the picture (h, w, 3), each pixel of the hole (h, w) the mean of what all patches over it say.

    `weights` (h, w) float32 are those of the patches.
    """
    height, width = hole.shape
    total = np.zeros((height, width, 4), np.float32)
    for n in range(len(places)):
        row, column = places[n]
        weight = weights[row, column]
        other_row, other_column = matches[row, column]
        for down in range(-HALF, HALF + 1):
            for across in range(-HALF, HALF + 1):
                if hole[row + down, column + across]:
                    for c in range(3):
                        total[row + down, column + across, c] += (
                            weight * picture[other_row + down, other_column + across, c]
                        )
                    total[row + down, column + across, 3] += weight
    out = picture.copy()
    for row in range(height):
        for column in range(width):
            if hole[row, column] and total[row, column, 3] > 0:
                for c in range(3):
                    out[row, column, c] = total[row, column, c] / total[row, column, 3]
    return out


@njit(cache=True, nogil=True)
def best_offsets(hole, places, matches, costs):  # type: ignore[no-untyped-def]
    """Return for each pixel of a hole (h, w) the offset (row, column) of the patch over it that costs least: (h, w, 2)
    int32, 0 elsewhere.
    """
    height, width = hole.shape
    offsets = np.zeros((height, width, 2), np.int32)
    least = np.full((height, width), np.float32(FAR))
    for n in range(len(places)):
        row, column = places[n]
        cost = costs[row, column]
        down_by, across_by = matches[row, column, 0] - row, matches[row, column, 1] - column
        for down in range(-HALF, HALF + 1):
            for across in range(-HALF, HALF + 1):
                y, x = row + down, column + across
                if hole[y, x] and cost < least[y, x]:
                    least[y, x] = cost
                    offsets[y, x, 0], offsets[y, x, 1] = down_by, across_by
    return offsets


@njit(cache=True, nogil=True)
def refined(places, is_source, coarse, coarse_errors, matches, errors):  # type: ignore[no-untyped-def]
    """Set matches of a field twice as fine, in place, to those of a coarser one, as far as they may be taken."""
    height, width = is_source.shape
    rows, columns = coarse_errors.shape
    for n in range(len(places)):
        row, column = places[n]
        up, left = min((row - HALF) // 2 + HALF, rows - 1), min((column - HALF) // 2 + HALF, columns - 1)
        errors[row, column] = -1
        if coarse_errors[up, left] < 0:
            continue
        other_row = row + 2 * (coarse[up, left, 0] - up)
        other_column = column + 2 * (coarse[up, left, 1] - left)
        if 0 <= other_row < height and 0 <= other_column < width and is_source[other_row, other_column]:
            matches[row, column, 0], matches[row, column, 1] = other_row, other_column
            errors[row, column] = 0


@njit(cache=True, nogil=True)
def _is_known(hole, row, column):  # type: ignore[no-untyped-def]
    """Return whether what is mixed at a place, row and column float32, is known."""
    top, left = int(np.floor(row)), int(np.floor(column))
    bottom, right = top + int(row > top), left + int(column > left)
    if top < 0 or left < 0 or bottom >= hole.shape[0] or right >= hole.shape[1]:
        return False
    return not (hole[top, left] or hole[top, right] or hole[bottom, left] or hole[bottom, right])


@njit(cache=True, nogil=True)
def _mixed(picture, row, column, channel):  # type: ignore[no-untyped-def]
    """Return a channel between four pixels; at a whole place the pixel itself."""
    top, left = int(np.floor(row)), int(np.floor(column))
    down, across = np.float32(row - top), np.float32(column - left)
    value = picture[top, left, channel]
    if down == 0 and across == 0:
        return value
    bottom, right = min(top + 1, picture.shape[0] - 1), min(left + 1, picture.shape[1] - 1)
    above = value + across * (picture[top, right, channel] - value)
    first = picture[bottom, left, channel]
    below = first + across * (picture[bottom, right, channel] - first)
    return above + down * (below - above)


@njit(cache=True, nogil=True)
def steps_between(picture, hole, offsets, most):  # type: ignore[no-untyped-def]
    """Return by how much each pixel's four neighbours lie off what the pieces on both sides say, summed: (h, w, 3).

    `picture` (h, w, 3) is what pixels are taken from, `offsets` (h, w, 2) float32 from where, none outside the hole; at
    fractions pixels are mixed. No step is taken for more than `most`.
    """
    height, width = hole.shape
    total = np.zeros((height, width, 3), np.float32)
    for row in range(height):
        for column in range(width):
            for k in range(2):
                y, x = row + k, column + 1 - k
                if y >= height or x >= width or not (hole[row, column] or hole[y, x]):
                    continue
                down, across = offsets[row, column]
                other_down, other_across = offsets[y, x]
                if down == other_down and across == other_across:
                    continue
                # Both pieces as they go on beyond the seam, as far as they are known there.
                beyond, before = y + down, x + across
                back, left = row + other_down, column + other_across
                first = _is_known(hole, beyond, before)
                second = _is_known(hole, back, left)
                if not (first or second):
                    continue
                for c in range(3):
                    here = _mixed(picture, row + down, column + across, c)
                    there = _mixed(picture, y + other_down, x + other_across, c)
                    wanted = np.float32(0)
                    if first:
                        wanted += _mixed(picture, beyond, before, c) - here
                    if second:
                        wanted += there - _mixed(picture, back, left, c)
                    if first and second:
                        wanted *= np.float32(0.5)
                    off = min(max(wanted - (there - here), -most), most)
                    total[row, column, c] -= off
                    total[y, x, c] += off
    return total


@njit(cache=True, nogil=True, fastmath=True)
def _relax(values, given, free, sweeps):  # type: ignore[no-untyped-def]
    """Smooth values (h, w, 3), nothing where not free, towards four times themselves less their neighbours = given."""
    height, width = free.shape
    for _ in range(sweeps):
        for parity in range(2):
            for row in range(1, height - 1):
                for column in range(1 + (row + parity) % 2, width - 1, 2):
                    if free[row, column]:
                        for c in range(3):
                            around = (
                                values[row - 1, column, c] + values[row + 1, column, c]
                                + values[row, column - 1, c] + values[row, column + 1, c]
                            )  # fmt: skip
                            values[row, column, c] = np.float32(0.25) * (around + given[row, column, c])


@njit(cache=True, nogil=True, fastmath=True)
def corrected(given, free, cycles):  # type: ignore[no-untyped-def]
    """Return the field (h, w, 3), nothing where not free, whose steps are nearest to those given: Poisson's equation.

    By multigrid: U. Trottenberg et al., Multigrid, 2001.

    Parameters
    ----------
    given : (h, w, 3) float32
        Four times each pixel less its neighbours.
    free : (h, w) bool
        Nothing on the outermost rows and columns.
    cycles : int
    """
    frees, levels = [free], 1
    while min(frees[-1].shape) > 8:
        fine = frees[-1]
        rows, columns = (fine.shape[0] + 1) // 2, (fine.shape[1] + 1) // 2
        # A coarse pixel is free only where all that it stands for is: a larger domain would answer too strongly.
        coarse = np.zeros((rows + 2, columns + 2), np.bool_)
        for row in range(fine.shape[0] // 2):
            for column in range(fine.shape[1] // 2):
                y, x = 2 * row, 2 * column
                upper, lower = fine[y, x] and fine[y, x + 1], fine[y + 1, x] and fine[y + 1, x + 1]
                coarse[row + 1, column + 1] = upper and lower
        frees.append(coarse)
        levels += 1
    total = np.zeros_like(given)
    for _ in range(cycles):
        values = [total]
        rights = [given]
        for level in range(levels - 1):
            _relax(values[level], rights[level], frees[level], 2)
            coarse = np.zeros((frees[level + 1].shape[0], frees[level + 1].shape[1], 3), np.float32)
            fine, value, right = frees[level], values[level], rights[level]
            for row in range(1, fine.shape[0] - 1):
                for column in range(1, fine.shape[1] - 1):
                    if fine[row, column]:
                        for c in range(3):
                            left = right[row, column, c] - 4 * value[row, column, c] + (
                                value[row - 1, column, c] + value[row + 1, column, c]
                                + value[row, column - 1, c] + value[row, column + 1, c]
                            )  # fmt: skip
                            coarse[row // 2 + 1, column // 2 + 1, c] += left
            rights.append(coarse)
            values.append(np.zeros_like(coarse))
        _relax(values[-1], rights[-1], frees[-1], 30)
        for level in range(levels - 2, -1, -1):
            fine, value, coarse = frees[level], values[level], values[level + 1]
            for row in range(1, fine.shape[0] - 1):
                for column in range(1, fine.shape[1] - 1):
                    if fine[row, column]:
                        for c in range(3):
                            value[row, column, c] += coarse[row // 2 + 1, column // 2 + 1, c] * np.float32(0.9)
            _relax(value, rights[level], fine, 3)
    return total
