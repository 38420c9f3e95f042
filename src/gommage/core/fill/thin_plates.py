"""Compiled loops of filling from the rim."""

from __future__ import annotations

import numpy as np
from numba import njit

from gommage.core.geometry.root_kernels import lower_root, solve

__all__ = ["cells_of", "drawn", "drawn_moved", "means_of_cells", "put_under_light"]

LEAST_FULL = 0.2
"""Cells of a smaller share of their pixels are left out."""
DARK = 1e-3
"""Light below that is not divided by."""


@njit(cache=True, nogil=True, error_model="numpy")
def cells_of(rim, side):  # type: ignore[no-untyped-def]
    """Return cells of `side` pixels square of a rim (h, w) bool: their places (N, 2), how many pixels they have (N,),
    and these pixels, by row, column and cell (P, 3) int32.
    """
    height, width = rim.shape
    down, across = (height + side - 1) // side, (width + side - 1) // side
    total, count = np.zeros((down * across, 2)), np.zeros(down * across)
    for row in range(height):
        for column in range(width):
            if rim[row, column]:
                cell = (row // side) * across + column // side
                count[cell] += 1
                total[cell, 0] += column + 0.5
                total[cell, 1] += row + 0.5
    number, kept, many = np.full(down * across, -1, np.int32), 0, 0.0
    for cell in range(down * across):
        if count[cell] >= LEAST_FULL * side * side:
            number[cell] = kept
            kept += 1
            many += count[cell]
    places, full, pixels, filled = np.empty((kept, 2)), np.empty(kept), np.empty((int(many), 3), np.int32), 0
    for cell in range(down * across):
        if number[cell] >= 0:
            full[number[cell]] = count[cell]
            for k in range(2):
                places[number[cell], k] = total[cell, k] / count[cell]
    for row in range(height):
        for column in range(width):
            cell = (row // side) * across + column // side
            if rim[row, column] and number[cell] >= 0:
                pixels[filled, 0], pixels[filled, 1], pixels[filled, 2] = row, column, number[cell]
                filled += 1
    return places, full, pixels


@njit(cache=True, nogil=True, error_model="numpy")
def means_of_cells(frame, hidden, pixels, starts, steps, wanted, means, count):  # type: ignore[no-untyped-def]
    """Set the means (C, 3) of cells of rims on a frame, and how many of their pixels (C,) are seen there.

    Parameters
    ----------
    frame : (h, w, 3) float32
    hidden : (h, w) bool
        What of it is not looked at; empty: nothing.
    pixels : (P, 3) int32
        Row, column and cell; those of a rim follow each other.
    starts : (N + 1,) int
        Where rims begin.
    steps : (N, 2, 3) float64
        A place x, y of a rim lies on the frame at its step times (x, y, 1); pixels are mixed of four.
    wanted : (N,) bool
        Which rims are looked at.
    """
    rows, columns = frame.shape[:2]
    means[:], count[:] = 0, 0
    for rim in range(len(starts) - 1):
        step = steps[rim]
        across, down = int(np.floor(step[0, 2] + 0.5)), int(np.floor(step[1, 2] + 0.5))
        is_whole = step[0, 0] == 1 and step[1, 1] == 1 and step[0, 1] == 0 and step[1, 0] == 0
        is_whole = is_whole and step[0, 2] == across and step[1, 2] == down
        for n in range(starts[rim], starts[rim + 1] if wanted[rim] else starts[rim]):
            row, column, cell = pixels[n, 0], pixels[n, 1], pixels[n, 2]
            if is_whole:
                top, left = row + down, column + across
                is_there = 0 <= top < rows and 0 <= left < columns
                if is_there and not (hidden.size and hidden[top, left]):
                    count[cell] += 1
                    for c in range(3):
                        means[cell, c] += frame[top, left, c]
                continue
            x = step[0, 0] * (column + 0.5) + step[0, 1] * (row + 0.5) + step[0, 2] - 0.5
            y = step[1, 0] * (column + 0.5) + step[1, 1] * (row + 0.5) + step[1, 2] - 0.5
            left, top = int(np.floor(x)), int(np.floor(y))
            if left < 0 or top < 0 or left + 1 >= columns or top + 1 >= rows:
                continue
            if hidden.size and (
                hidden[top, left] or hidden[top, left + 1] or hidden[top + 1, left] or hidden[top + 1, left + 1]
            ):
                continue
            u, v = np.float32(x - left), np.float32(y - top)
            count[cell] += 1
            for c in range(3):
                above = frame[top, left, c] + u * (frame[top, left + 1, c] - frame[top, left, c])
                below = frame[top + 1, left, c] + u * (frame[top + 1, left + 1, c] - frame[top + 1, left, c])
                means[cell, c] += above + v * (below - above)
    for cell in range(len(count)):
        for c in range(3):
            means[cell, c] /= max(count[cell], 1)


@njit(cache=True, nogil=True, error_model="numpy")
def put_under_light(points, own, own_seen, values, seen, cells, least, most):  # type: ignore[no-untyped-def]
    """Put the means (C, 3) of cells at points (C, 2) on another frame under the light of one, rim by rim, in place.

    What shades all of a rim, evenly or sloping, stays the frame's own: a plane through what both show, or its mean if
    that is less than a share `most` of the rim. Of rims of which they share less than `least` nothing is seen.

    Parameters
    ----------
    cells : (N + 1,) int
        Where the cells of rims begin.
    """
    plane = np.ones((len(points), 3))
    for rim in range(len(cells) - 1):
        first, last = cells[rim], cells[rim + 1]
        shared = 0
        middle = np.zeros(2)
        for n in range(first, last):
            if own_seen[n] and seen[n]:
                shared += 1
                middle[0] += points[n, 0]
                middle[1] += points[n, 1]
        if shared < max(least * (last - first), 1.0):
            seen[first:last] = False
            continue
        middle[0] /= shared
        middle[1] /= shared
        terms = 3 if shared >= max(most * (last - first), 3.0) else 1
        normal, right, root = np.zeros((terms, terms)), np.zeros((terms, 6)), np.empty((terms, terms))
        for n in range(first, last):
            plane[n, 1], plane[n, 2] = points[n, 0] - middle[0], points[n, 1] - middle[1]
            if own_seen[n] and seen[n]:
                for a in range(terms):
                    for b in range(terms):
                        normal[a, b] += plane[n, a] * plane[n, b]
                    for c in range(3):
                        right[a, c] += plane[n, a] * own[n, c]
                        right[a, 3 + c] += plane[n, a] * values[n, c]
        for a in range(terms):
            normal[a, a] += 1e-9 * (1.0 + normal[a, a])
        if not lower_root(normal, root):
            seen[first:last] = False
            continue
        for c in range(6):
            solve(root, right, c)
        for n in range(first, last):
            for c in range(3):
                here, there = 0.0, 0.0
                for a in range(terms):
                    here += plane[n, a] * right[a, c]
                    there += plane[n, a] * right[a, 3 + c]
                values[n, c] *= max(here, DARK) / max(there, DARK)


@njit(cache=True, nogil=True, fastmath=True)
def drawn(knots, step, top, left, wanted, out, valid):  # type: ignore[no-untyped-def]
    """Set pixels that are wanted (h, w) bool to Catmull and Rom's cubics through knots (k, l, 3), and valid there to 1.

    The first pixel of `out` (h, w, 3) and `valid` (h, w) is at row `top` and column `left`; knots are a `step` apart,
    the third of them half a step within pixel 0's border, and there are two beyond the last pixel.
    """
    height, width = wanted.shape
    many = knots.shape[1]
    first, across = np.empty(width, np.int64), np.empty((width, 4), np.float32)
    down, rows = np.empty(4, np.float32), np.empty((many, 3), np.float32)
    for column in range(width):
        first[column] = _cubic((left + column + 0.5) / step + 1.5, across[column])
    for row in range(height):
        begin = _cubic((top + row + 0.5) / step + 1.5, down)
        for k in range(many):
            for c in range(3):
                rows[k, c] = (
                    down[0] * knots[begin, k, c] + down[1] * knots[begin + 1, k, c]
                    + down[2] * knots[begin + 2, k, c] + down[3] * knots[begin + 3, k, c]
                )  # fmt: skip
        for column in range(width):
            if wanted[row, column]:
                k = first[column]
                a, b, e, f = across[column, 0], across[column, 1], across[column, 2], across[column, 3]
                for c in range(3):
                    out[row, column, c] = a * rows[k, c] + b * rows[k + 1, c] + e * rows[k + 2, c] + f * rows[k + 3, c]
                valid[row, column] = 1


@njit(cache=True, nogil=True, fastmath=True)
def drawn_moved(knots, step, back, wanted, out, valid):  # type: ignore[no-untyped-def]
    """Do the same where a place x, y of `out` is at `back` (2, 3) times (x, y, 1) of what is wanted (h, w) bool: where
    more than half of what is around it is.
    """
    height, width = wanted.shape
    across, down = np.empty(4, np.float32), np.empty(4, np.float32)
    for row in range(valid.shape[0]):
        for column in range(valid.shape[1]):
            x = back[0, 0] * (column + 0.5) + back[0, 1] * (row + 0.5) + back[0, 2]
            y = back[1, 0] * (column + 0.5) + back[1, 1] * (row + 0.5) + back[1, 2]
            left, top = int(np.floor(x - 0.5)), int(np.floor(y - 0.5))
            u, v = x - 0.5 - left, y - 0.5 - top
            share = 0.0
            for below in range(2):
                for beside in range(2):
                    r, c = top + below, left + beside
                    if 0 <= r < height and 0 <= c < width and wanted[r, c]:
                        share += (u if beside else 1 - u) * (v if below else 1 - v)
            if share <= 0.5:
                continue
            k, m = _cubic(x / step + 1.5, across), _cubic(y / step + 1.5, down)
            valid[row, column] = 1
            for c in range(3):
                total = np.float32(0)
                for a in range(4):
                    total += down[a] * (
                        across[0] * knots[m + a, k, c] + across[1] * knots[m + a, k + 1, c]
                        + across[2] * knots[m + a, k + 2, c] + across[3] * knots[m + a, k + 3, c]
                    )  # fmt: skip
                out[row, column, c] = total


@njit(cache=True, nogil=True, fastmath=True, inline="always")
def _cubic(at, counts):  # type: ignore[no-untyped-def]
    """Set what the four values around a place count there (4,), and return the first of them."""
    whole = int(at)
    u = at - whole
    counts[0] = ((-0.5 * u + 1.0) * u - 0.5) * u
    counts[1] = (1.5 * u - 2.5) * u * u + 1.0
    counts[2] = ((-1.5 * u + 2.0) * u + 0.5) * u
    counts[3] = (0.5 * u - 0.5) * u * u
    return whole - 1
