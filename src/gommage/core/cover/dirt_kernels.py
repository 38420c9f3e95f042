"""The loops by which frames are compared for dirt, compiled."""

from __future__ import annotations

import numpy as np
from numba import njit

from gommage.core.picture.ranks import median

__all__ = ["HUNDREDTHS", "differences", "ready", "rooted_luma", "standing_out"]

MIDDLE, BESIDE = np.float32(0.581), np.float32(0.2095)
"""What a pixel and its neighbours count along each way where grain is softened: a bell of 0.7 px."""
HUNDREDTHS = 100
EVERY_PX = 6
"""Every so manieth pixel along each way tells how far frames differ."""


@njit(cache=True, nogil=True, fastmath=True)
def rooted_luma(picture, out):  # type: ignore[no-untyped-def]
    """Set each pixel to the root of its luma; see `gommage.core.cover.dirt`."""
    red, green, blue = np.float32(0.2126), np.float32(0.7152), np.float32(0.0722)
    for row in range(out.shape[0]):
        for column in range(out.shape[1]):
            value = red * picture[row, column, 0] + green * picture[row, column, 1] + blue * picture[row, column, 2]
            out[row, column] = np.sqrt(max(value, np.float32(0)))


@njit(cache=True, nogil=True, fastmath=True)
def _mixed(one, middle, two, share, beside, out):  # type: ignore[no-untyped-def]
    """Set a row to shares of three; loops over a few rows at a time are what processors do many pixels at once in."""
    for k in range(out.size):
        out[k] = share * middle[k] + beside * (one[k] + two[k])


@njit(cache=True, nogil=True, fastmath=True)
def _least(one, two, three, out):  # type: ignore[no-untyped-def]
    for k in range(out.size):
        out[k] = min(min(one[k], two[k]), three[k])


@njit(cache=True, nogil=True, fastmath=True)
def _most(one, two, three, out):  # type: ignore[no-untyped-def]
    for k in range(out.size):
        out[k] = max(max(one[k], two[k]), three[k])


@njit(cache=True, nogil=True, fastmath=True)
def _off_mean(here, one, two, three, out):  # type: ignore[no-untyped-def]
    """Add to a row by how much pixels lie off a ninth of the sum of three."""
    for k in range(out.size):
        out[k] += abs(here[k] - (one[k] + two[k] + three[k]) * np.float32(1 / 9))


@njit(cache=True, nogil=True, fastmath=True)
def _outside(here, low, high, other_low, other_high, row, left, right, x, y, u, v, out):  # type: ignore[no-untyped-def]
    """Set pixels of a row to how far they lie above the most of two others, or, below 0, under the least, moved by x, y
    and by u, v. Places are unsigned: signed ones are asked whether they count from the end, one by one.
    """
    own, one, other = np.uintp(row), np.uintp(row + y), np.uintp(row + v)
    for k in range(left, right):
        at, beside, beyond = np.uintp(k), np.uintp(k + x), np.uintp(k + u)
        value = here[own, at]
        above = value - max(high[one, beside], other_high[other, beyond])
        below = min(low[one, beside], other_low[other, beyond]) - value
        out[at] = max(above, np.float32(0)) - max(below, np.float32(0))


@njit(cache=True, nogil=True, fastmath=True)
def _levelled(one, middle, two, scale, wide, least, clear, levels):  # type: ignore[no-untyped-def]
    """Set a row of `clear` and `levels` of `standing_out`, and return how many pixels are at the highest level."""
    count = 0
    for k in range(clear.size):
        value = abs(MIDDLE * middle[k] + BESIDE * (one[k] + two[k])) * scale[k]
        clear[k] = np.uint16(min(value * np.float32(HUNDREDTHS), np.float32(65535)))
        levels[k] = np.uint8(value > wide) + np.uint8(value > least)
        count += int(value > least)
    return count


@njit(cache=True, nogil=True, fastmath=True)
def ready(luma, low, high, fine):  # type: ignore[no-untyped-def]
    """Set what a frame's neighbours are compared with, in one pass.

    Parameters
    ----------
    luma : (h, w) float32
    low, high : (h, w) float32
        Set to the least and the most of the softened luma, of a pixel and the eight around it.
    fine : (m, n) float32
        Set to the mean of what is finer than three pixels, of blocks of the frame.
    """
    height, width = luma.shape
    down, sums, soft = np.empty(width + 2, np.float32), np.empty(width + 2, np.float32), np.empty(width + 2, np.float32)
    least, most = np.empty((3, width), np.float32), np.empty((3, width), np.float32)
    off = np.zeros(width, np.float32)
    for row in range(height + 1):
        if row < height:
            here, above, below = luma[row], luma[min(abs(row - 1), height - 1)], luma[min(row + 1, height - 1)]
            _mixed(above, here, below, MIDDLE, BESIDE, down[1:-1])
            down[0], down[-1] = down[1], down[-2]
            _mixed(down[:-2], down[1:-1], down[2:], MIDDLE, BESIDE, soft[1:-1])
            soft[0], soft[-1] = soft[1], soft[-2]
            _least(soft[:-2], soft[1:-1], soft[2:], least[row % 3])
            _most(soft[:-2], soft[1:-1], soft[2:], most[row % 3])
            _mixed(above, here, below, np.float32(1), np.float32(1), sums[1:-1])
            sums[0], sums[-1] = sums[1], sums[-2]
            _off_mean(here, sums[:-2], sums[1:-1], sums[2:], off)
            block = row * fine.shape[0] // height
            if (row + 1) * fine.shape[0] // height != block:  # the last row of these blocks
                for part in range(fine.shape[1]):
                    fine[block, part] = off[part * width // fine.shape[1] : (part + 1) * width // fine.shape[1]].sum()
                off[:] = 0
        if row:
            before, after = max(row - 2, 0) % 3, min(row, height - 1) % 3
            _least(least[before], least[(row - 1) % 3], least[after], low[row - 1])
            _most(most[before], most[(row - 1) % 3], most[after], high[row - 1])
    fine *= np.float32(fine.size / luma.size)


@njit(cache=True, nogil=True)
def differences(here, other, flow, out):  # type: ignore[no-untyped-def]
    """Set blocks (m, n) to the median by which a frame and another, moved by a flow as in `standing_out`, differ there;
    blocks of which the other shows nothing to nothing.
    """
    height, width = here.shape
    rows, columns = out.shape
    found = np.empty((height // rows // EVERY_PX + 2) * (width // columns // EVERY_PX + 2), np.float32)
    for block in range(rows):
        for part in range(columns):
            count = 0
            for row in range(block * height // rows, (block + 1) * height // rows, EVERY_PX):
                for column in range(part * width // columns, (part + 1) * width // columns, EVERY_PX):
                    step = flow[row * flow.shape[0] // height, column * flow.shape[1] // width]
                    y, x = row + step[1], column + step[0]
                    if 0 <= y < height and 0 <= x < width:
                        found[count] = abs(here[row, column] - other[y, x])
                        count += 1
            out[block, part] = median(found, count) if count else 0


@njit(cache=True, nogil=True)
def _runs(flow, other_flow, starts):  # type: ignore[no-untyped-def]
    """Set where runs of blocks begin that move alike on both ways, (N, 2); return how many there are."""
    count = 0
    for part in range(len(flow)):
        is_new = part == 0
        for k in range(2):
            if part and (flow[part, k] != flow[part - 1, k] or other_flow[part, k] != other_flow[part - 1, k]):
                is_new = True
        if is_new:
            starts[count] = part
            count += 1
    starts[count] = len(flow)
    return count


@njit(cache=True, nogil=True)
def standing_out(  # type: ignore[no-untyped-def]
    here, low, high, flow, other_low, other_high, other_flow, spread, wide, least, border, clear, levels
):  # fmt: skip
    """Set how clearly each pixel stands out of all that two others show at its place, softened, and return how many
    pixels do so clearly enough.

    Rows are gone through as memory has them, three at a time.

    Parameters
    ----------
    here : (h, w) float32
    low, high, other_low, other_high : (h, w) float32
        The least and the most that the others show; see `ready`.
    flow, other_flow : (m, n, 2) int
        So many pixels to the right and down on each of them, of blocks of the frame.
    spread : (m, n) float32
        What clearness is counted in, of the same blocks.
    wide, least : float
    border : int
        What lies nearer to the others' borders is nowhere, and stands out by nothing.
    clear : (h, w) uint16
        Set to hundredths of spreads.
    levels : (h, w) uint8
        Set to 0 below `wide`, 1 below `least`, 2 from there on.
    """
    height, width = here.shape
    rows, columns = spread.shape
    starts, count = np.empty(columns + 1, np.intp), 0
    signed, down, scale = np.zeros((3, width), np.float32), np.empty(width + 2, np.float32), np.empty(width, np.float32)
    found, last, scaled = 0, -1, -1
    for row in range(height + 1):
        if row < height:
            block = row * rows // height
            if block != last:
                count, last = _runs(flow[block], other_flow[block], starts), block
            line = signed[row % 3]
            line[:] = 0
            for run in range(count):
                x, y = flow[block, starts[run]]
                u, v = other_flow[block, starts[run]]
                left = max(starts[run] * width // columns, border - min(x, u))
                right = min(starts[run + 1] * width // columns, width - border - max(x, u))
                if left < right and border - min(y, v) <= row < height - border - max(y, v):
                    _outside(here, low, high, other_low, other_high, row, left, right, x, y, u, v, line)
        if row:
            block = (row - 1) * rows // height
            if block != scaled:
                for part in range(columns):
                    scale[part * width // columns : (part + 1) * width // columns] = 1 / spread[block, part]
                scaled = block
            above, below = signed[max(row - 2, 0) % 3], signed[min(row, height - 1) % 3]
            _mixed(above, signed[(row - 1) % 3], below, MIDDLE, BESIDE, down[1:-1])
            down[0], down[-1] = down[1], down[-2]
            found += _levelled(down[:-2], down[1:-1], down[2:], scale, wide, least, clear[row - 1], levels[row - 1])
    return found
