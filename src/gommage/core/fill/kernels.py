"""Compiled loops of filling."""

from __future__ import annotations

import numpy as np
from numba import njit

from gommage.core.geometry.root_kernels import lower_root, solve
from gommage.core.picture.kernels import inner_value, sample_one, spline_weights
from gommage.core.picture.ranks import median

__all__ = [
    "average_of_those_that_agree",
    "grain_seen",
    "light_of",
    "motion_of",
    "take",
    "take_at",
]


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def take(  # type: ignore[no-untyped-def]
    coefficients, at, matrix, left, top, wanted, bounds, blocked, corner, across, down, number, values, which, count
):
    """Give every pixel of a window that wants more a donor's value, where that may be taken.

    Parameters
    ----------
    coefficients : (H, W, 3) float32
        The donor's spline, cut out so that its first pixel is
    at : (2,) int64
        here, column and row.
    matrix : (3, 3) float64
        Takes places of the frame to places of the donor.
    left, top : int
        Of the window.
    wanted : (h, w) bool
    bounds : (4,) float64
        Of the picture: left, top, right, bottom.
    blocked : (a, b) bool
        What may not be taken of the donor; its first pixel is
    corner : (2,) int64
        here.
    across, down : (w, 3), (h, 3) float32
        Factors of light.
    number : int
        What `which` says of the donor.
    values : (h, w, S, 3) float32, which : (h, w, S) int16, count : (h, w) int64
        The slots of each pixel, and how many are taken; changed.
    """
    # What is looked up in every pixel is put into names first: an array might have been written to meanwhile.
    slots, high, broad = values.shape[2], blocked.shape[0], blocked.shape[1]
    a, b, c = matrix[0, 0], matrix[0, 1], matrix[0, 2]
    d, e, f = matrix[1, 0], matrix[1, 1], matrix[1, 2]
    g, h, k = matrix[2, 0], matrix[2, 1], matrix[2, 2]
    least_u, least_v, most_u, most_v = bounds[0], bounds[1], bounds[2], bounds[3]
    corner_x, corner_y, at_x, at_y = corner[0], corner[1], at[0] + 0.5, at[1] + 0.5
    last_i, last_j = coefficients.shape[1] - 2, coefficients.shape[0] - 2
    for row in range(wanted.shape[0]):
        y = top + row + 0.5
        for column in range(wanted.shape[1]):
            slot = count[row, column]
            if slot >= slots or not wanted[row, column]:
                continue
            x = left + column + 0.5
            w = g * x + h * y + k
            if w <= 1e-9:
                continue
            w = 1.0 / w
            u = (a * x + b * y + c) * w
            v = (d * x + e * y + f) * w
            if not (least_u <= u < most_u and least_v <= v < most_v):
                continue
            i, j = int(u) - corner_x, int(v) - corner_y
            if 0 <= i < broad and 0 <= j < high and blocked[np.uint64(j), np.uint64(i)]:
                continue
            u -= at_x
            v -= at_y
            i, j = int(u), int(v)
            if 1 <= i < last_i and 1 <= j < last_j:
                x0, x1, x2, x3 = spline_weights(np.float32(u - i))
                y0, y1, y2, y3 = spline_weights(np.float32(v - j))
                for q in range(3):
                    value = inner_value(coefficients, i, j, x0, x1, x2, x3, y0, y1, y2, y3, q)
                    values[row, column, slot, q] = value * across[column, q] * down[row, q]
            else:
                sample_one(coefficients, u, v, values[row], column, slot)
                for q in range(3):
                    values[row, column, slot, q] *= across[column, q] * down[row, q]
            which[row, column, slot] = number
            count[row, column] = slot + 1


@njit(cache=True, nogil=True, error_model="numpy")
def take_at(  # type: ignore[no-untyped-def]
    coefficients, at, field, wanted, bounds, blocked, corner, across, down, number, values, which, count
):
    """Do the same where `field` (h, w, 2) float64 says the places, NaN where there is none; see `take`.

    What is done with a place is written down twice: called, it takes twice as long.
    """
    slots, high, broad = values.shape[2], blocked.shape[0], blocked.shape[1]
    least_u, least_v, most_u, most_v = bounds[0], bounds[1], bounds[2], bounds[3]
    corner_x, corner_y, at_x, at_y = corner[0], corner[1], at[0] + 0.5, at[1] + 0.5
    last_i, last_j = coefficients.shape[1] - 2, coefficients.shape[0] - 2
    for row in range(wanted.shape[0]):
        for column in range(wanted.shape[1]):
            slot = count[row, column]
            if slot >= slots or not wanted[row, column]:
                continue
            u, v = field[row, column, 0], field[row, column, 1]
            if not (least_u <= u < most_u and least_v <= v < most_v):  # nor is what is not a number
                continue
            i, j = int(u) - corner_x, int(v) - corner_y
            if 0 <= i < broad and 0 <= j < high and blocked[np.uint64(j), np.uint64(i)]:
                continue
            u -= at_x
            v -= at_y
            i, j = int(u), int(v)
            if 1 <= i < last_i and 1 <= j < last_j:
                x0, x1, x2, x3 = spline_weights(np.float32(u - i))
                y0, y1, y2, y3 = spline_weights(np.float32(v - j))
                for q in range(3):
                    value = inner_value(coefficients, i, j, x0, x1, x2, x3, y0, y1, y2, y3, q)
                    values[row, column, slot, q] = value * across[column, q] * down[row, q]
            else:
                sample_one(coefficients, u, v, values[row], column, slot)
                for q in range(3):
                    values[row, column, slot, q] *= across[column, q] * down[row, q]
            which[row, column, slot] = number
            count[row, column] = slot + 1


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def average_of_those_that_agree(values, which, count, weights, limits, deviations):  # type: ignore[no-untyped-def]
    """Return for each pixel the weighted mean of those of its values that agree with their median.

    Parameters
    ----------
    values : (h, w, S, 3) float32
    which : (h, w, S) int16
        Whose they are.
    count : (h, w) int64
        How many there are.
    weights : (N,) float32
        By `which`.
    limits : (3,) float32
        One whose square root differs by less agrees,
    deviations : float32
        and so does one by less than so many median deviations.

    Returns
    -------
    mean : (h, w, 3) float32
        0 where there is none.
    told_by : (h, w) float32
        The square of the weights' sum over the sum of their squares.
    agreeing : (h, w) float32
        The share of the values that agree.
    """
    height, width, slots, _ = values.shape
    mean, told_by = np.zeros((height, width, 3), np.float32), np.zeros((height, width), np.float32)
    agreeing = np.zeros((height, width), np.float32)
    ordered, off = np.empty(slots, np.float32), np.empty(slots, np.float32)
    agrees = np.empty(slots, np.bool_)
    for row in range(height):
        for column in range(width):
            known = count[row, column]
            if known == 0:
                continue
            here = values[row, column]
            for k in range(known):
                agrees[k] = True
            for c in range(3):
                # A difference of square roots, to first order: the limit in linear values.
                middle, least, greatest = np.float32(0), here[0, c], here[0, c]
                for k in range(known):
                    value = here[k, c]
                    middle += value
                    least = min(least, value)
                    greatest = max(greatest, value)
                middle /= known
                limit = limits[c] * np.float32(2) * np.sqrt(max(middle, np.float32(5e-4)))
                if greatest - middle <= limit and middle - least <= limit:
                    continue  # all are where grain brings them from their mean: nothing to sort
                for k in range(known):
                    off[k] = here[k, c]
                middle = median_of(off, ordered, known)
                limit = limits[c] * np.float32(2) * np.sqrt(max(middle, np.float32(5e-4)))
                for k in range(known):
                    off[k] = abs(here[k, c] - middle)
                limit = max(limit, deviations * np.float32(1.4826) * median_of(off, ordered, known))
                for k in range(known):
                    if off[k] > limit:
                        agrees[k] = False
            summed, squares, most, nearest, alike = np.float32(0), np.float32(0), np.float32(0), 0, 0
            red = green = blue = np.float32(0)
            for k in range(known):
                weight = weights[which[row, column, k]]
                if weight > most:
                    most, nearest = weight, k
                if agrees[k]:
                    alike += 1
                    summed += weight
                    squares += weight * weight
                    red += weight * here[k, 0]
                    green += weight * here[k, 1]
                    blue += weight * here[k, 2]
            agreeing[row, column] = np.float32(alike) / np.float32(known)
            if summed == 0:  # no two agree in all channels: what is nearest in time
                for c in range(3):
                    mean[row, column, c] = here[nearest, c]
                told_by[row, column] = 1
                continue
            mean[row, column, 0] = red / summed
            mean[row, column, 1] = green / summed
            mean[row, column, 2] = blue / summed
            told_by[row, column] = summed * summed / squares
    return mean, told_by, agreeing


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
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


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def grain_seen(values, count, least, step):  # type: ignore[no-untyped-def]
    """Return for each channel the median over pixels of how far their values' square roots spread, (3,) float32.

    Looked at is every so many pixels (`step`) that has as many as `least` values; 0 if none has.
    """
    height, width, slots, _ = values.shape
    found = np.empty((3, height * width // step + 1), np.float32)
    ordered, off = np.empty(slots, np.float32), np.empty(slots, np.float32)
    total = 0
    for index in range(0, height * width, step):
        row, column = index // width, index % width
        known = count[row, column]
        if known < least:
            continue
        for c in range(3):
            for k in range(known):
                off[k] = np.sqrt(max(values[row, column, k, c], np.float32(0)))
            middle = median_of(off, ordered, known)
            for k in range(known):
                off[k] = abs(off[k] - middle)
            found[c, total] = median_of(off, ordered, known)
        total += 1
    out = np.zeros(3, np.float32)
    if total:
        for c in range(3):
            out[c] = np.float32(1.4826) * median(found[c], total)
    return out


@njit(cache=True, nogil=True, error_model="numpy")
def motion_of(  # type: ignore[no-untyped-def]
    picture, at, places, growth, here, slopes, around, luma, darkest, huber, held_px, still_px, steps
):
    """Return the six numbers of the affine motion that a follow has left; see `gathering.left_over_motion`.

    Parameters
    ----------
    picture : (H, W, 3) float32
        The donor; its first pixel is
    at : (2,) float64
        here.
    places : (N, 2) float64
        Where in the donor the follow has the points.
    growth : (2, 2) float64
        How these move with the points.
    here : (N,) float64
        Log luma of the frame.
    slopes, around : (N, 2) float64
        Those of `Ring`.
    luma : (3,) float64
        Weights of the channels.
    """
    total = len(here)
    moved, off, ordered, row = np.zeros(6), np.empty(total), np.empty(total), np.empty(7)
    seen, root = np.empty((1, 1, 3), np.float32), np.empty((7, 7))
    for _ in range(steps):
        for n in range(total):
            u, v = around[n, 0], around[n, 1]
            dx, dy = moved[0] + moved[1] * u + moved[2] * v, moved[3] + moved[4] * u + moved[5] * v
            x = places[n, 0] + growth[0, 0] * dx + growth[0, 1] * dy - 0.5 - at[0]
            y = places[n, 1] + growth[1, 0] * dx + growth[1, 1] * dy - 0.5 - at[1]
            sample_one(picture, x, y, seen, 0, 0)
            bright = luma[0] * seen[0, 0, 0] + luma[1] * seen[0, 0, 1] + luma[2] * seen[0, 0, 2]
            off[n] = ordered[n] = here[n] - np.log(max(bright, darkest))
        middle = median(ordered, total)  # a factor of light is a difference of logarithms
        for n in range(total):
            off[n] -= middle
            ordered[n] = abs(off[n])
        spread = max(1.4826 * median(ordered, total), 1e-6)
        limit = huber * spread
        normal, pull = np.zeros((7, 7)), np.zeros((7, 1))
        for n in range(total):
            weight = 1.0 if abs(off[n]) <= limit else limit / abs(off[n])
            u, v = around[n, 0], around[n, 1]
            row[0], row[1], row[2] = slopes[n, 0], slopes[n, 0] * u, slopes[n, 0] * v
            row[3], row[4], row[5], row[6] = slopes[n, 1], slopes[n, 1] * u, slopes[n, 1] * v, 1.0
            for i in range(7):
                pull[i, 0] += weight * row[i] * off[n]
                for j in range(i + 1):
                    normal[i, j] += weight * row[i] * row[j]
        held = (spread / held_px) ** 2
        for i in range(7):
            normal[i, i] += 1e-9
        for i in range(6):
            normal[i, i] += held
            pull[i, 0] -= held * moved[i]
        if not lower_root(normal, root):
            break
        solve(root, pull, 0)
        most = 0.0
        for i in range(6):
            moved[i] += pull[i, 0]
            most = max(most, abs(pull[i, 0]))
        if most < still_px:
            break
    return moved


@njit(cache=True, nogil=True, error_model="numpy")
def light_of(shown, there, clean, around, too_dark, darkest, least, huber, held, steps):  # type: ignore[no-untyped-def]
    """Return the light between two pictures at points (3, 3), and whether enough of them could be compared.

    See `gathering.light_between`: `shown`, `there` (N, 3) float32, `clean` (N,) bool, `around` (N, 2) float64.
    """
    total = len(clean)
    found, root = np.zeros((3, 3)), np.empty((3, 3))
    here, at = np.empty(total, np.float32), np.empty((total, 2))
    left, ordered = np.empty(total), np.empty(total)
    for c in range(3):
        known = 0
        for n in range(total):
            if clean[n]:
                here[known] = shown[n, c]
                known += 1
        if known < least:
            return found, False
        enough = max(too_dark * median(here, known), darkest)
        known = 0
        for n in range(total):
            if clean[n] and shown[n, c] > enough and there[n, c] > darkest:
                left[known] = np.log(shown[n, c] / there[n, c])
                at[known, 0], at[known, 1] = around[n, 0], around[n, 1]
                known += 1
        if known < least:
            return found, False
        for n in range(known):
            ordered[n] = left[n]
        factor = median(ordered, known)
        size = 0.0
        for n in range(known):
            left[n] -= factor
            ordered[n] = abs(left[n])
            size += (at[n, 0] ** 2 + at[n, 1] ** 2) / 2
        limit = huber * max(1.4826 * median(ordered, known), 1e-6)
        for _ in range(steps):
            normal, pull, summed = np.zeros((3, 3)), np.zeros((3, 1)), 0.0
            for n in range(known):
                u, v = at[n, 0], at[n, 1]
                off = abs(left[n] - found[c, 0] - found[c, 1] * u - found[c, 2] * v)
                weight = 1.0 if off <= limit else limit / off
                summed += weight
                row = (1.0, u, v)
                for i in range(3):
                    pull[i, 0] += weight * row[i] * left[n]
                    for j in range(i + 1):
                        normal[i, j] += weight * row[i] * row[j]
            normal[1, 1] += held * summed * size / known
            normal[2, 2] += held * summed * size / known
            if not lower_root(normal, root):
                break
            solve(root, pull, 0)
            for i in range(3):
                found[c, i] = pull[i, 0]
        found[c, 0] += factor
    return found, True
