"""Compiled loops of healing: the smoothest field between the differences on a rim."""

from __future__ import annotations

import numpy as np
from numba import njit

from gommage.core.picture.ranks import median

__all__ = ["hang", "left_on_rim", "rim_differences"]

ENDS = 0.02
"""Where so much of what is near is on the rim, half of what is left there is added."""
SAMPLES = 500
BRIGHTER = 2.0
"""A source that is brighter than the rim by more than this is made darker."""
COARSEST_SIDE = 12
"""A membrane is first hung at no more than so many pixels."""


@njit(cache=True, nogil=True, fastmath=True)
def relax(values, free, sweeps, push):  # type: ignore[no-untyped-def]
    """Smooth `values` (H, W, 4) where `free` (H, W) is set: successive over-relaxation of Laplace's equation.

    Pixels that are not free are the boundary; the array's rim reflects. `push` is the over-relaxation, 1 to 2.
    """
    height, width = free.shape
    count = 0
    for row in range(height):
        for column in range(width):
            count += free[row, column]
    # Pixels and their neighbours are looked up once: reds, whose row and column add up to an even number, first.
    cells = np.empty((count, 5), np.uint32)
    count = 0
    for parity in range(2):
        for row in range(height):
            for column in range((row + parity) % 2, width, 2):
                if free[row, column]:
                    up = row - 1 if row > 0 else row + 1 if height > 1 else row
                    down = row + 1 if row < height - 1 else row - 1 if height > 1 else row
                    west = column - 1 if column > 0 else column + 1 if width > 1 else column
                    east = column + 1 if column < width - 1 else column - 1 if width > 1 else column
                    cells[count, 0] = 4 * (row * width + column)
                    cells[count, 1], cells[count, 2] = 4 * (up * width + column), 4 * (down * width + column)
                    cells[count, 3], cells[count, 4] = 4 * (row * width + west), 4 * (row * width + east)
                    count += 1
    flat = values.reshape(height * width * 4)
    quarter, rest = np.float32(0.25 * push), np.float32(1.0 - push)
    for _ in range(sweeps):
        for n in range(count):
            here, up, down, west, east = cells[n]
            # Four numbers at once are one step for the processor; three would be three.
            a = flat[up] + flat[down] + flat[west] + flat[east]
            b = flat[up + 1] + flat[down + 1] + flat[west + 1] + flat[east + 1]
            c = flat[up + 2] + flat[down + 2] + flat[west + 2] + flat[east + 2]
            flat[here] = rest * flat[here] + quarter * a
            flat[here + 1] = rest * flat[here + 1] + quarter * b
            flat[here + 2] = rest * flat[here + 2] + quarter * c


@njit(cache=True, nogil=True)
def rim_differences(below, source, near, free, odd, least):  # type: ignore[no-untyped-def]
    """Return `below - gain * source` (h, w, 4) on the rim: near (h, w), not free, and like most of the rim's; the last
    number counts. And their mean (4,), and the gain.

    What is unlike, by more than `odd` spreads, is made free. A spread is no less than `least` of the rim's brightness.
    The gain is 1 unless the source is much brighter than the rim: then its texture is too strong for it, and its dark
    parts would become less than nothing.
    """
    height, width = free.shape
    known, mean, summed = np.zeros((height, width, 4), np.float32), np.empty(4, np.float32), np.zeros(4)
    places = np.empty((height * width, 2), np.int32)
    count = 0
    for row in range(height):
        for column in range(width):
            if near[row, column] and not free[row, column]:
                places[count, 0], places[count, 1] = row, column
                count += 1
    is_like = np.ones(count, np.bool_)
    step = max(count // SAMPLES, 1)  # a median of some hundreds is as good as one of thousands
    values = np.empty((count + step - 1) // step, np.float32)
    light, source_light = np.empty(len(values), np.float32), np.empty(len(values), np.float32)
    for n in range(len(values)):
        row, column = places[n * step]
        light[n] = below[row, column, 0] + below[row, column, 1] + below[row, column, 2]
        source_light[n] = source[row, column, 0] + source[row, column, 1] + source[row, column, 2]
    brightest, here = median(source_light, len(values)), median(light, len(values))
    most_light = np.float32(BRIGHTER) * here if here > 0 else np.float32(0)
    gain = most_light / brightest if brightest > most_light else np.float32(1)
    for c in range(3):
        for n in range(len(values)):
            values[n] = abs(below[places[n * step, 0], places[n * step, 1], c])
        brightness = median(values, len(values))
        for n in range(len(values)):
            row, column = places[n * step]
            values[n] = below[row, column, c] - gain * source[row, column, c]
        middle = median(values, len(values))
        for n in range(len(values)):
            values[n] = abs(values[n] - middle)
        most = odd * max(1.4826 * median(values, len(values)), least * brightness + 1e-5)
        for n in range(count):
            row, column = places[n]
            off = abs(below[row, column, c] - gain * source[row, column, c] - middle)
            is_like[n] = is_like[n] and off < most
    if not is_like.any():
        is_like[:] = True
    for n in range(count):
        row, column = places[n]
        if is_like[n]:
            for c in range(3):
                known[row, column, c] = below[row, column, c] - gain * source[row, column, c]
                summed[c] += known[row, column, c]
            known[row, column, 3] = 1.0
            summed[3] += 1.0
        else:
            free[row, column] = True
    for c in range(4):
        mean[c] = summed[c] / summed[3]
    return known, mean, gain


@njit(cache=True, nogil=True)
def left_on_rim(known, spread):  # type: ignore[no-untyped-def]
    """Return what of the differences `known` (h, w, 4) on a rim is left by their average along it, `spread`."""
    left = known.copy()
    for row in range(known.shape[0]):
        for column in range(known.shape[1]):
            if known[row, column, 3] > 0:
                for c in range(3):
                    left[row, column, c] -= spread[row, column, c] / spread[row, column, 3]
    return left


@njit(cache=True, nogil=True)
def hang(source, gain, spread, mean, free, fine):  # type: ignore[no-untyped-def]
    """Return `gain * source` (h, w, 3) and the smoothest field that is, where not free, the differences on the rim.

    `spread` (h, w, 4) are those averaged along the rim, the last number counting; it is used up. `mean` (4,)
    stands where nothing is near; that is no free pixel's neighbour. `fine` (h, w, 4) is added close to the rim: what is
    left there, the last number counting. Nothing falls below black that was not below it.
    """
    height, width = free.shape
    for row in range(height):
        for column in range(width):
            share = spread[row, column, 3]
            if share > 1e-4:
                share = np.float32(1) / share
                for c in range(4):
                    spread[row, column, c] *= share
            else:
                for c in range(4):
                    spread[row, column, c] = mean[c]
    membrane(spread, free)
    out = np.empty((height, width, 3), np.float32)
    for row in range(height):
        for column in range(width):
            for c in range(3):
                taken = gain * source[row, column, c]
                value = taken + spread[row, column, c]
                if free[row, column] and fine[row, column, 3] > 0:
                    value += fine[row, column, c] / (fine[row, column, 3] + np.float32(ENDS))
                out[row, column, c] = max(value, min(taken, np.float32(0)))
    return out


@njit(cache=True, nogil=True)
def membrane(values, free):  # type: ignore[no-untyped-def]
    """Hang the free pixels of `values` (H, W, 4) smoothly between the others, in place: Laplace's equation, coarse to
    fine, for the first three numbers of a pixel. The fourth is there to do four at once.
    """
    fields, frees = [values], [free]
    while min(frees[-1].shape) > COARSEST_SIDE:
        field, is_free = halved_field(fields[-1], frees[-1])
        fields.append(field)
        frees.append(is_free)
    coarsest, is_free = fields[-1], frees[-1]
    total, count = np.zeros(4, np.float32), 0
    for row in range(is_free.shape[0]):
        for column in range(is_free.shape[1]):
            if not is_free[row, column]:
                count += 1
                for c in range(4):
                    total[c] += coarsest[row, column, c]
    for row in range(is_free.shape[0]):
        for column in range(is_free.shape[1]):
            if is_free[row, column] and count:
                for c in range(4):
                    coarsest[row, column, c] = total[c] / np.float32(count)
    sweeps = 60  # in a variable: a number written in the call would be compiled for by itself
    for level in range(len(fields) - 1, -1, -1):
        if level < len(fields) - 1:
            refine_field(fields[level + 1], fields[level], frees[level])
            sweeps = 8
        relax(fields[level], frees[level], sweeps, 1.7)


@njit(cache=True, nogil=True)
def halved_field(values, free):  # type: ignore[no-untyped-def]
    """Return the means of four pixels, of those that are not free, and where all four are."""
    height, width = free.shape
    rows, columns = (height + 1) // 2, (width + 1) // 2
    field, is_free = np.zeros((rows, columns, 4), np.float32), np.ones((rows, columns), np.bool_)
    for row in range(rows):
        for column in range(columns):
            count = np.float32(0)
            for y in range(2 * row, min(2 * row + 2, height)):
                for x in range(2 * column, min(2 * column + 2, width)):
                    if not free[y, x]:
                        count += np.float32(1)
                        for c in range(4):
                            field[row, column, c] += values[y, x, c]
            if count > 0:
                is_free[row, column] = False
                for c in range(4):
                    field[row, column, c] /= count
    return field, is_free


@njit(cache=True, nogil=True)
def refine_field(coarse, values, free):  # type: ignore[no-untyped-def]
    """Set the free pixels of `values` to what a field of half the size shows there, interpolated."""
    rows, columns = coarse.shape[:2]
    for row in range(free.shape[0]):
        y = min(max(row * 0.5 - 0.25, 0.0), rows - 1.0)
        y0 = int(y)
        y1, down = min(y0 + 1, rows - 1), np.float32(y - y0)
        for column in range(free.shape[1]):
            if not free[row, column]:
                continue
            x = min(max(column * 0.5 - 0.25, 0.0), columns - 1.0)
            x0 = int(x)
            x1, across = min(x0 + 1, columns - 1), np.float32(x - x0)
            for c in range(4):
                upper = coarse[y0, x0, c] + (coarse[y0, x1, c] - coarse[y0, x0, c]) * across
                lower = coarse[y1, x0, c] + (coarse[y1, x1, c] - coarse[y1, x0, c]) * across
                values[row, column, c] = upper + (lower - upper) * down
