"""The compiled part of rasterising: areas of pixels inside a line, distances to it, and how its edge fades."""

from __future__ import annotations

import numpy as np
from numba import njit

SMOOTH, HANDLES = 1, 2

__all__ = [
    "HANDLES",
    "SMOOTH",
    "coverage",
    "faded",
    "fit_curve",
    "flattened",
    "geodesic",
    "inside",
    "nearest",
    "softness_near",
]


@njit(cache=True, nogil=True)
def _add_edge(ax, ay, bx, by, areas):  # type: ignore[no-untyped-def]
    """Add what a piece of a line, that lies within the columns, takes of the pixels to its right."""
    sign = 1.0
    if ay > by:
        ax, ay, bx, by, sign = bx, by, ax, ay, -1.0
    height, last = areas.shape[0], areas.shape[1]
    slope = (bx - ax) / (by - ay)
    for row in range(max(int(np.floor(ay)), 0), min(int(np.ceil(by)), height)):
        top, bottom = max(ay, float(row)), min(by, row + 1.0)
        if bottom <= top:
            continue
        x0, x1 = ax + slope * (top - ay), ax + slope * (bottom - ay)
        if x0 > x1:
            x0, x1 = x1, x0
        tall = sign * (bottom - top)
        first, end = int(np.floor(x0)), int(np.floor(x1))
        if first >= last:
            continue
        if first == end:
            filled = first + 1 - (x0 + x1) / 2
            areas[row, first] += tall * filled
            if first + 1 < last:
                areas[row, first + 1] += tall * (1 - filled)
            continue
        wide, upto, before = x1 - x0, 0.0, 0.0
        for column in range(first, min(end + 1, last)):
            # up to the right rim of this column so much of the row lies right of the line; what is new is this pixel's
            within = (min(column + 1.0, x1) - x0) ** 2 / (2 * wide) + max(column + 1.0 - x1, 0.0)
            areas[row, column] += tall * (within - upto - before)
            upto, before = within, within - upto
        if end + 1 < last:
            areas[row, end + 1] += tall * (1 - before)


@njit(cache=True, nogil=True)
def coverage(points, left, top, out):  # type: ignore[no-untyped-def]
    """Set `out` (H, W), all 0, to the share of each pixel's area inside a closed line (winding number not zero).

    Each piece adds the signed area between itself and the right rim; summed along a row that is the area inside,
    exactly, but where the line winds several times around within one pixel.
    """
    count = points.shape[0]
    height, width = out.shape
    right = float(width)
    for n in range(count):
        ax, ay = points[n, 0] - left, points[n, 1] - top
        bx, by = points[(n + 1) % count, 0] - left, points[(n + 1) % count, 1] - top
        if ay == by or max(ay, by) <= 0 or min(ay, by) >= height:
            continue
        # cut where it crosses the rims at the sides; what lies beyond them is moved onto them
        first = second = 1.0
        if (ax < 0.0) != (bx < 0.0):
            first = -ax / (bx - ax)
        if (ax < right) != (bx < right):
            second = (right - ax) / (bx - ax)
        first, second = min(first, second), max(first, second)
        start = 0.0
        for k in range(3):
            end = first if k == 0 else second if k == 1 else 1.0
            y0, y1 = ay + start * (by - ay), ay + end * (by - ay)
            if y0 != y1:
                x0 = min(max(ax + start * (bx - ax), 0.0), right)
                x1 = min(max(ax + end * (bx - ax), 0.0), right)
                _add_edge(x0, y0, x1, y1, out)
            start = end
    for row in range(height):
        total = 0.0
        for column in range(width):
            total += out[row, column]
            out[row, column] = min(abs(total), 1.0)


@njit(cache=True, nogil=True)
def _columns(across, down, low, high, y, first, last):  # type: ignore[no-untyped-def]
    """Narrow columns to where `low <= across * x + down * y <= high` holds at pixel centres of a row."""
    low, high = low - down * y, high - down * y
    if abs(across) < 1e-9:
        return (first, last) if low <= 0.0 <= high else (0, 0)
    x0, x1 = low / across, high / across
    if x0 > x1:
        x0, x1 = x1, x0
    x0, x1 = min(max(x0, first - 1.0), last + 1.0), min(max(x1, first - 1.0), last + 1.0)
    return max(first, int(np.ceil(x0 - 0.5))), min(last, int(np.floor(x1 - 0.5)) + 1)


@njit(cache=True, nogil=True)
def _beyond(ux, uy, vx, vy, reach):  # type: ignore[no-untyped-def]
    """Return how far beyond the end of a piece it may be the nearest, where the next runs on in another direction."""
    return reach * np.sqrt(max((1.0 - (ux * vx + uy * vy)) / 2, 0.0)) + 1e-6


@njit(cache=True, nogil=True)
def nearest(points, is_closed, left, top, reach, squared):  # type: ignore[no-untyped-def]
    """Lower `squared` (H, W) to the squared distance from pixel centres to a line, within `reach`.

    Each piece looks at the strip beside it alone, and at its ends so far as the line's turn leaves a wedge.
    """
    count = points.shape[0]
    pieces = count if is_closed else count - 1
    height, width = squared.shape
    ways = np.zeros((pieces, 3))
    for n in range(pieces):
        m = (n + 1) % count
        dx, dy = points[m, 0] - points[n, 0], points[m, 1] - points[n, 1]
        length = np.sqrt(dx * dx + dy * dy)
        ways[n, 2] = length
        if length > 0.0:
            ways[n, 0], ways[n, 1] = dx / length, dy / length
    for n in range(pieces):
        ux, uy, length = ways[n]
        if length == 0.0 and pieces > 1:
            continue
        ax, ay = points[n, 0] - left, points[n, 1] - top
        before = after = reach
        k, m = (n - 1) % pieces, (n + 1) % pieces
        if (is_closed or n > 0) and ways[k, 2] > 0.0:
            before = _beyond(ux, uy, ways[k, 0], ways[k, 1], reach)
        if (is_closed or n < pieces - 1) and ways[m, 2] > 0.0:
            after = _beyond(ux, uy, ways[m, 0], ways[m, 1], reach)
        along, aside = ux * ax + uy * ay, -uy * ax + ux * ay
        by = ay + uy * length
        first_row = max(int(np.floor(min(ay, by) - reach)), 0)
        last_row = min(int(np.ceil(max(ay, by) + reach)), height)
        for row in range(first_row, last_row):
            y = row + 0.5
            first, last = _columns(ux, uy, along - before, along + length + after, y, 0, width)
            first, last = _columns(-uy, ux, aside - reach, aside + reach, y, first, last)
            for column in range(first, last):
                dx, dy = column + 0.5 - ax, y - ay
                past = ux * dx + uy * dy
                off = past - min(max(past, 0.0), length)
                far = ux * dy - uy * dx
                squared[row, column] = min(squared[row, column], off * off + far * far)


@njit(cache=True, nogil=True)
def inside(points, left, top, out):  # type: ignore[no-untyped-def]
    """Set `out` (H, W), all 0, to 1 where the pixel's centre is inside a closed line (winding number not zero)."""
    count = points.shape[0]
    height, width = out.shape
    for n in range(count):
        ax, ay = points[n, 0] - left - 0.5, points[n, 1] - top - 0.5
        bx, by = points[(n + 1) % count, 0] - left - 0.5, points[(n + 1) % count, 1] - top - 0.5
        turn = 1.0
        if ay > by:
            ax, ay, bx, by, turn = bx, by, ax, ay, -1.0
        for row in range(max(int(np.ceil(ay)), 0), min(int(np.ceil(by)), height)):
            column = max(np.ceil(ax + (row - ay) / (by - ay) * (bx - ax)), 0.0)
            if column < width:
                out[row, int(column)] += turn
    for row in range(height):
        winding = 0.0
        for column in range(width):
            winding += out[row, column]
            out[row, column] = 1.0 if winding != 0.0 else 0.0


@njit(cache=True, nogil=True)
def softness_near(points, soft, is_closed, left, top, squared, reach, out):  # type: ignore[no-untyped-def]
    """Set `out` (H, W, 2) to the softness of a line (M, 2) as pixels near it see it.

    That is the mean over the line with weights that fall with the fourth power of the distance: on the line it is the
    line's own, and nowhere does it jump as the nearest point's would.
    """
    count = points.shape[0]
    height, width = squared.shape
    for row in range(height):
        y = top + row + 0.5
        for column in range(width):
            if squared[row, column] >= reach * reach:
                continue
            x = left + column + 0.5
            total = inwards = outwards = 0.0
            for n in range(count if is_closed else count - 1):
                m = (n + 1) % count
                dx, dy = points[m, 0] - points[n, 0], points[m, 1] - points[n, 1]
                length = dx * dx + dy * dy
                if length <= 0.0:
                    continue
                along = min(max(((x - points[n, 0]) * dx + (y - points[n, 1]) * dy) / length, 0.0), 1.0)
                ex, ey = points[n, 0] + along * dx - x, points[n, 1] + along * dy - y
                far = ex * ex + ey * ey + 1e-2
                weight = np.sqrt(length) / (far * far)
                total += weight
                inwards += weight * (soft[n, 0] + along * (soft[m, 0] - soft[n, 0]))
                outwards += weight * (soft[n, 1] + along * (soft[m, 1] - soft[n, 1]))
            if total > 0.0:
                out[row, column, 0] = inwards / total
                out[row, column, 1] = outwards / total


@njit(cache=True, nogil=True)
def faded(squared, reach, grow, soft, out):  # type: ignore[no-untyped-def]
    """Turn `out` (H, W), 1 inside and 0 outside, into how full an edge of some softness (H or 1, W or 1, 2) is.

    An edge of less than a pixel is as wide as a pixel, or it would be jagged. Farther than `reach` nothing changes.
    """
    height, width = out.shape
    tall, broad = soft.shape[:2]
    most = np.float32(reach * reach)
    for row in range(height):
        for column in range(width):
            if squared[row, column] >= most:
                continue
            far = np.sqrt(squared[row, column])
            outside_by = (-far if out[row, column] > 0 else far) - grow
            inwards = soft[row % tall, column % broad, 0]
            outwards = soft[row % tall, column % broad, 1]
            total = inwards + outwards
            lack = max(1.0 - total, 0.0)
            fall = min(max((outwards + lack / 2 - outside_by) / (total + lack), 0.0), 1.0)
            smooth = fall * fall * (3.0 - 2.0 * fall)
            out[row, column] = lack * fall + (1.0 - lack) * smooth


@njit(cache=True, nogil=True)
def fit_curve(line, start, end, steps):  # type: ignore[no-untyped-def]
    """Fit a cubic curve with given directions (2,) at its ends to points (N, 2): see `freehand.fitted_line`.

    Returns its control points (4, 2), its greatest distance from the points, and at which point that is.
    """
    count = line.shape[0]
    share = np.zeros(count)
    for n in range(1, count):
        share[n] = share[n - 1] + np.hypot(line[n, 0] - line[n - 1, 0], line[n, 1] - line[n - 1, 1])
    chord = max(share[-1], 1e-12)
    for n in range(count):
        share[n] /= chord
    control = np.empty((4, 2))
    for k in range(2):
        control[0, k], control[3, k] = line[0, k], line[-1, k]
        control[1, k], control[2, k] = line[0, k] + start[k] * (chord / 3), line[-1, k] + end[k] * (chord / 3)
    for _ in range(steps):
        # the arms along the given directions that are best by least squares
        a = b = c = p = q = 0.0
        for n in range(count):
            t, s = share[n], 1 - share[n]
            near, far = 3 * t * s * s, 3 * t * t * s
            dot = start[0] * end[0] + start[1] * end[1]
            a += near * near
            b += near * far * dot
            c += far * far
            x = line[n, 0] - (s * s * s + near) * line[0, 0] - (far + t * t * t) * line[-1, 0]
            y = line[n, 1] - (s * s * s + near) * line[0, 1] - (far + t * t * t) * line[-1, 1]
            p += near * (start[0] * x + start[1] * y)
            q += far * (end[0] * x + end[1] * y)
        whole = a * c - b * b
        one = other = chord / 3
        if whole > 1e-12 * a * c:
            first, second = (c * p - b * q) / whole, (a * q - b * p) / whole
            if first > chord * 1e-3 and second > chord * 1e-3:
                one, other = first, second
        for k in range(2):
            control[1, k], control[2, k] = line[0, k] + start[k] * one, line[-1, k] + end[k] * other
        # a Newton step towards where the curve is nearest to each point
        before = 0.0
        for n in range(count):
            t, s = share[n], 1 - share[n]
            top = bottom = 0.0
            for k in range(2):
                c0, c1, c2, c3 = control[0, k], control[1, k], control[2, k], control[3, k]
                off = s * s * s * c0 + 3 * t * s * s * c1 + 3 * t * t * s * c2 + t * t * t * c3 - line[n, k]
                slope = 3 * (s * s * (c1 - c0) + 2 * s * t * (c2 - c1) + t * t * (c3 - c2))
                bend = 6 * (s * (c2 - 2 * c1 + c0) + t * (c3 - 2 * c2 + c1))
                top += off * slope
                bottom += slope * slope + off * bend
            if abs(bottom) > 1e-12:
                t -= top / bottom
            before = max(min(max(t, 0.0), 1.0), before)
            share[n] = before
    worst, worst_at = 0.0, 1
    for n in range(count):
        t, s, far = share[n], 1 - share[n], 0.0
        for k in range(2):
            off = s * s * s * control[0, k] + 3 * t * s * s * control[1, k] + 3 * t * t * s * control[2, k]
            off += t * t * t * control[3, k] - line[n, k]
            far += off * off
        if far > worst:
            worst, worst_at = far, n
    return control, np.sqrt(worst), worst_at


@njit(cache=True, nogil=True)
def geodesic(guide, seeds, weight):  # type: ignore[no-untyped-def]
    """Return how far each pixel (H, W) is from seeds on ways on which change of colour (H, W, 3) counts as length.

    By sweeps over the picture from corner to corner and back.
    """
    height, width = seeds.shape
    far = np.full((height, width), 1e9, np.float32)
    for row in range(height):
        for column in range(width):
            if seeds[row, column] > 0:
                far[row, column] = 0.0
    for sweep in range(4):
        down = sweep % 2 == 0
        for r in range(height):
            row = r if down else height - 1 - r
            for c in range(width):
                column = c if down else width - 1 - c
                best = far[row, column]
                for k in range(4):
                    # before it in the order of the sweep: beside, and the three behind
                    dr = 0 if k == 0 else -1
                    dc = -1 if k == 0 else k - 2
                    if not down:
                        dr, dc = -dr, -dc
                    rr, cc = row + dr, column + dc
                    if rr < 0 or rr >= height or cc < 0 or cc >= width:
                        continue
                    apart = 0.0
                    for n in range(3):
                        step = guide[row, column, n] - guide[rr, cc, n]
                        apart += step * step
                    best = min(best, far[rr, cc] + np.sqrt(dr * dr + dc * dc + weight * weight * apart))
                far[row, column] = best
    return far


@njit(cache=True, nogil=True)
def _sides(vertices, kinds):  # type: ignore[no-untyped-def]
    """Return the sides (N, 4, 2) of a closed line of vertices (N, 8): see `document.outlines.sides`."""
    count = vertices.shape[0]
    arms = np.zeros((count, 2, 2))  # before and after each vertex
    for n in range(count):
        if kinds[n] == HANDLES:
            for k in range(2):
                arms[n, 0, k], arms[n, 1, k] = vertices[n, 2 + k], vertices[n, 4 + k]
        elif kinds[n] == SMOOTH:
            before, after = (n - 1) % count, (n + 1) % count
            come = vertices[n, :2] - vertices[before, :2]
            go = vertices[after, :2] - vertices[n, :2]
            near = np.sqrt(max(np.sqrt(come[0] * come[0] + come[1] * come[1]), 1e-9))
            far = np.sqrt(max(np.sqrt(go[0] * go[0] + go[1] * go[1]), 1e-9))
            for k in range(2):
                speed = come[k] / near - (come[k] + go[k]) / (near + far) + go[k] / far
                arms[n, 0, k], arms[n, 1, k] = -speed * near / 3, speed * far / 3
    found = np.empty((count, 4, 2))
    for n in range(count):
        m = (n + 1) % count
        leave, arrive = arms[n, 1], arms[m, 0]
        is_straight = leave[0] == 0.0 and leave[1] == 0.0 and arrive[0] == 0.0 and arrive[1] == 0.0
        for k in range(2):
            start, end = vertices[n, k], vertices[m, k]
            third = (end - start) / 3
            found[n, 0, k], found[n, 3, k] = start, end
            found[n, 1, k] = start + (third if is_straight else leave[k])
            found[n, 2, k] = end - third if is_straight else end + arrive[k]
    return found


@njit(cache=True, nogil=True)
def flattened(vertices, kinds, tolerance, least, most):  # type: ignore[no-untyped-def]
    """Return points (M, 2) on a closed line of vertices (N, 8), and where (M,): see `document.outlines.sampled`.

    `kinds` (N,) holds 0 for a corner, `SMOOTH` or `HANDLES`.
    """
    pieces = _sides(vertices, kinds)
    count = pieces.shape[0]
    counts = np.empty(count, np.int64)
    total = 0
    for n in range(count):
        bend = 0.0
        for k in range(2):
            across = pieces[n, k + 2, 0] - 2 * pieces[n, k + 1, 0] + pieces[n, k, 0]
            down = pieces[n, k + 2, 1] - 2 * pieces[n, k + 1, 1] + pieces[n, k, 1]
            bend = max(bend, across * across + down * down)
        wanted = np.ceil(np.sqrt(0.75 / tolerance * np.sqrt(bend)))
        counts[n] = int(min(max(wanted, float(least)), float(most)))
        total += counts[n]
    points, where = np.empty((total, 2)), np.empty(total)
    at = 0
    for n in range(count):
        for step in range(counts[n]):
            t = step / counts[n]
            where[at] = n + t
            for k in range(2):
                start, first, second, end = pieces[n, 0, k], pieces[n, 1, k], pieces[n, 2, k], pieces[n, 3, k]
                slope, bent = 3 * (first - start), 3 * (second - 2 * first + start)
                points[at, k] = (((end - start - slope - bent) * t + bent) * t + slope) * t + start
            at += 1
    return points, where
