"""Compiled loops of painting: dabs, paint put over a picture and told from it again."""

from __future__ import annotations

import numpy as np
from numba import njit

__all__ = ["drag_dabs", "lay_dabs", "lay_on_tiles", "lay_over", "lit", "set_tiles", "told_apart", "walk_dabs"]


@njit(cache=True, nogil=True)
def walk_dabs(points, last, carry, step, radius, lightest, is_pressed):  # type: ignore[no-untyped-def]
    """Return the dabs (M, 4) x, y, radius, share at even steps along points (N, 3), going on from the last call.

    And the box of their middles: least x and y, greatest x and y.

    `last` (3,) is the point that the last call ended with, NaN before the first; `carry` (1,) how far beyond it the
    next dab lies. Both are brought up to date. `lightest` is what is left of the radius where pressure is nothing; the
    share is the pressure if `is_pressed`, else 1.
    """
    total = 1.0
    x, y = last[0], last[1]
    for n in range(points.shape[0]):
        if np.isfinite(x):
            total += np.hypot(points[n, 0] - x, points[n, 1] - y) / step + 1.0
        x, y = points[n, 0], points[n, 1]
    dabs = np.empty((int(total) + 2, 4))
    count = 0
    for n in range(points.shape[0]):
        if not np.isfinite(last[0]):
            for k in range(3):
                dabs[count, k] = points[n, k]
            count += 1
            carry[0] = step
        else:
            length = np.hypot(points[n, 0] - last[0], points[n, 1] - last[1])
            along = carry[0]
            while along <= length and length > 0.0:
                share = along / length
                for k in range(3):
                    dabs[count, k] = last[k] + share * (points[n, k] - last[k])
                count += 1
                along += step
            carry[0] = along - length
        for k in range(3):
            last[k] = points[n, k]
    box = np.array([np.inf, np.inf, -np.inf, -np.inf])
    for n in range(count):
        pressure = min(max(dabs[n, 2], 0.0), 1.0)
        dabs[n, 2] = radius * (lightest + (1.0 - lightest) * pressure)
        dabs[n, 3] = pressure if is_pressed else 1.0
        box[0], box[1] = min(box[0], dabs[n, 0]), min(box[1], dabs[n, 1])
        box[2], box[3] = max(box[2], dabs[n, 0]), max(box[3], dabs[n, 1])
    return dabs[:count], box


@njit(cache=True, nogil=True, fastmath={"nnan", "ninf", "nsz"})
def lay_dabs(dabs, softness, flow, left, top, mask):  # type: ignore[no-untyped-def]
    """Raise `mask` (H, W) to the brush's profile around each dab (x, y, radius, share).

    The profile is 1 inside and falls smoothly over the outer `softness` of the radius (at least a pixel wide, so
    that a hard brush is not jagged), times the dab's share. At full flow the highest dab counts; below it each lays so
    much of itself on what the ones before left open.
    """
    height, width = mask.shape
    zero, one, two, three = np.float32(0), np.float32(1), np.float32(2), np.float32(3)
    columns = np.arange(width).astype(np.float32)
    for n in range(dabs.shape[0]):
        # Whole pixels apart from the rest: so it makes no difference to a bit where the mask begins.
        x, y = np.floor(dabs[n, 0]), np.floor(dabs[n, 1])
        right_of, below = np.float32(dabs[n, 0] - x - 0.5), np.float32(dabs[n, 1] - y - 0.5)
        x, y = np.float32(x - left), np.float32(y - top)
        radius, share = dabs[n, 2], np.float32(dabs[n, 3])
        outer = np.float32(radius + (0.5 if softness * radius < 1.0 else 0.0))
        slope = np.float32(1.0 / max(radius * softness, 1.0))
        first, last = max(int(x - outer) - 1, 0), min(int(x + outer) + 2, width)
        if first >= last:
            continue
        for row in range(max(int(y - outer) - 1, 0), min(int(y + outer) + 2, height)):
            down = (np.float32(row) - y) - below
            line, places = mask[row, first:last], columns[first:last]
            # Written without branches, so that the compiler takes several pixels at once.
            for n_th in range(line.size):
                across = (places[n_th] - x) - right_of
                value = (outer - np.sqrt(across * across + down * down)) * slope
                value = one if value > one else value
                value = zero if value < zero else value
                value = value * value * (three - two * value) * share
                if flow < 1.0:
                    line[n_th] += (one - line[n_th]) * np.float32(flow) * value
                else:
                    line[n_th] = line[n_th] if line[n_th] > value else value


@njit(cache=True, nogil=True)
def set_tiles(mask, left, top, side):  # type: ignore[no-untyped-def]
    """Return column and row (n, 2) of the tiles in which a mask (h, w) is set whose corner is (left, top)."""
    first_column, first_row = left // side, top // side
    columns, rows = (
        (left + mask.shape[1] - 1) // side - first_column + 1,
        (top + mask.shape[0] - 1) // side - first_row + 1,
    )
    is_set, total = np.zeros((rows, columns), np.bool_), 0
    for row in range(mask.shape[0]):
        down = (top + row) // side - first_row
        for across in range(columns):
            begin = (across + first_column) * side - left
            for column in range(max(begin, 0), min(begin + side, mask.shape[1])):
                if mask[row, column] > 0:
                    total += not is_set[down, across]
                    is_set[down, across] = True
                    break
    found = np.empty((total, 2), np.int64)
    count = 0
    for row in range(rows):
        for column in range(columns):
            if is_set[row, column]:
                found[count, 0], found[count, 1] = column + first_column, row + first_row
                count += 1
    return found


@njit(cache=True, nogil=True)
def lay_on_tiles(tiles, covers, below, cover, places, new, mask, left, top, opacity, channels, takes_away):  # type: ignore[no-untyped-def]
    """Lay `new` (h, w, 3) over tiles `below` (n, side, side, 3) by mask (h, w) and opacity, into `tiles`.

    `places` (n, 2) are their columns and rows, (left, top) is the corner of `new`; `covers` and `cover`
    (n, side, side) are how far paint covers them. `tiles` may be `below` itself. Where paint is full the very bits of
    `new` are laid, so that restoring is exact; where the mask is nothing `tiles` stay as they are.
    """
    side = tiles.shape[1]
    for n in range(len(places)):
        x, y = places[n, 0] * side, places[n, 1] * side
        first, last = max(x, left), min(x + side, left + mask.shape[1])
        for row in range(max(y, top), min(y + side, top + mask.shape[0])):
            out, covered = tiles[n, row - y, first - x : last - x], covers[n, row - y, first - x : last - x]
            under, was = below[n, row - y, first - x : last - x], cover[n, row - y, first - x : last - x]
            laid, share = new[row - top, first - left : last - left], mask[row - top, first - left : last - left]
            for m in range(last - first):
                if share[m] == 0:
                    continue
                alpha = share[m] * opacity
                for c in range(3):
                    if not channels[c]:
                        out[m, c] = under[m, c]
                    elif alpha >= 1:
                        out[m, c] = laid[m, c]
                    else:
                        out[m, c] = under[m, c] + (laid[m, c] - under[m, c]) * alpha
                covered[m] = was[m] * (1 - alpha) if takes_away else was[m] + (1 - was[m]) * alpha


@njit(cache=True, nogil=True)
def lit(below, mask, stops, tones, grey, weights):  # type: ignore[no-untyped-def]
    """Return `below` (h, w, 3) by so many stops lighter where mask (h, w) is set; elsewhere as it is.

    `tones` chooses where: 0 everywhere, 1 in the shadows, 2 about middle grey, 3 in the highlights.
    """
    out = np.empty(below.shape, np.float32)
    for row in range(mask.shape[0]):
        for column in range(mask.shape[1]):
            if mask[row, column] == 0:
                for c in range(3):
                    out[row, column, c] = below[row, column, c]
                continue
            light = np.float32(0)
            for c in range(3):
                light += below[row, column, c] * weights[c]
            light = max(light, np.float32(0))
            tone = light / (light + grey)  # 0 in the blacks, a half at middle grey, towards 1 in the whites
            share = 1.0
            if tones == 1:
                share = (1 - tone) ** 2
            elif tones == 2:
                share = 4 * tone * (1 - tone)
            elif tones == 3:
                share = tone**2
            gain = np.float32(2.0 ** (stops * share))
            for c in range(3):
                out[row, column, c] = below[row, column, c] * gain
    return out


@njit(cache=True, nogil=True, fastmath=True)
def drag_dabs(dabs, softness, amount, channels, pixels, cover, reached):  # type: ignore[no-untyped-def]
    """Lay dabs (N, 4) x, y, radius, share, each of which moves what is under it by the way from the one before it.

    `pixels` (H, W, 3) and `cover` (H, W) are changed in place; `reached` (H, W) is set where. The first dab moves
    nothing. Between pixels it is interpolated; the rim is continued.
    """
    height, width = cover.shape
    moved = np.empty((height, width, 3), np.float32)
    mask = np.empty((height, width), np.float32)
    for n in range(1, dabs.shape[0]):
        x, y, radius = dabs[n, 0], dabs[n, 1], dabs[n, 2]
        # All of a dab is moved by the same way, so the weights of the four pixels around are the same as well.
        from_x, from_y = dabs[n - 1, 0] - x, dabs[n - 1, 1] - y
        left_by, up_by = int(np.floor(from_x)), int(np.floor(from_y))
        across, down = np.float32(from_x - left_by), np.float32(from_y - up_by)
        fall = max(radius * softness, 1.0)
        outer = radius + (0.5 if softness * radius < 1.0 else 0.0)
        top, bottom = max(int(y - outer - 1), 0), min(int(y + outer + 2), height)
        left, right = max(int(x - outer - 1), 0), min(int(x + outer + 2), width)
        for row in range(top, bottom):
            y0, y1 = min(max(row + up_by, 0), height - 1), min(max(row + up_by + 1, 0), height - 1)
            for column in range(left, right):
                away_x, away_y = column + 0.5 - x, row + 0.5 - y
                square = away_x * away_x + away_y * away_y
                if square >= outer * outer:
                    mask[row, column] = 0.0
                    continue
                value = min((outer - np.sqrt(square)) / fall, 1.0)
                mask[row, column] = value * value * (3.0 - 2.0 * value) * dabs[n, 3] * amount
                x0, x1 = min(max(column + left_by, 0), width - 1), min(max(column + left_by + 1, 0), width - 1)
                for c in range(3):
                    upper = pixels[y0, x0, c] + (pixels[y0, x1, c] - pixels[y0, x0, c]) * across
                    lower = pixels[y1, x0, c] + (pixels[y1, x1, c] - pixels[y1, x0, c]) * across
                    moved[row, column, c] = upper + (lower - upper) * down
        for row in range(top, bottom):
            for column in range(left, right):
                alpha = mask[row, column]
                if alpha > 0.0:
                    reached[row, column] = True
                    cover[row, column] += (1 - cover[row, column]) * alpha
                    for c in range(3):
                        if channels[c]:
                            pixels[row, column, c] += (moved[row, column, c] - pixels[row, column, c]) * alpha


@njit(cache=True, nogil=True)
def lay_over(region, pixels, alpha):  # type: ignore[no-untyped-def]
    """Lay pixels (h, w, 3) over a region by alpha (h, w), in place: at 0 nothing changes, at 1 bits are copied."""
    for row in range(region.shape[0]):
        for column in range(region.shape[1]):
            share = alpha[row, column]
            if share == 0:
                continue
            for c in range(3):
                if share >= 1:
                    region[row, column, c] = pixels[row, column, c]
                else:
                    below = region[row, column, c]
                    region[row, column, c] = below + (pixels[row, column, c] - below) * share


@njit(cache=True, nogil=True)
def told_apart(painted, below, cover, out):  # type: ignore[no-untyped-def]
    """Set `out` (h, w, 3) to the paint that, laid over `below` by its cover (h, w), gives `painted`."""
    for row in range(out.shape[0]):
        for column in range(out.shape[1]):
            share = cover[row, column]
            for c in range(3):
                under = below[row, column, c]
                if share >= 1:
                    out[row, column, c] = painted[row, column, c]
                elif share > 0:
                    out[row, column, c] = under + (painted[row, column, c] - under) / share
                else:
                    out[row, column, c] = under
