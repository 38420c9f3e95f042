"""The compiled descent of an alignment: from a start to where the corners rest, on one level."""

from __future__ import annotations

import numpy as np
from numba import njit

from gommage.core.follow.kernels import SAMPLES, block_sums, deviation, normal_equations
from gommage.core.geometry.root_kernels import lower_root, solve
from gommage.core.picture.ranks import selected

__all__ = ["iterate", "known_motion", "motion_of_step"]

GAIN = 8
CAUCHY_SCALE = 2.4
"""Residuals of this many deviations count half: 95 % efficient on normal noise."""
STEADYING = 0.3
"""What is left at least of the information that may be grain's, for a step."""
CHOSEN_GRAIN = 1.4
"""Choosing the strongest slopes chooses strong grain: it weighs so much more than grain at large."""
SWEEPS, NOTHING = 30, 1e-26
"""At most so many rounds of turns make a matrix diagonal; what is beside the diagonal counts as nothing then."""
DISAGREES, MUCH_WORSE, TYPICAL = 0.7, 6.0, 0.3
"""A tile is left out if its difference rivals its texture, and is so many times what a good part of the tiles have."""


@njit(cache=True, nogil=True)
def motion_of_step(step, inner):  # type: ignore[no-untyped-def]
    """Set the matrix (3, 3) of a small motion's eight parameters, about the origin."""
    inner[0, 0] = 1 + step[3] + step[4]
    inner[0, 1] = step[5] - step[2]
    inner[0, 2] = step[0]
    inner[1, 0] = step[5] + step[2]
    inner[1, 1] = 1 + step[3] - step[4]
    inner[1, 2] = step[1]
    inner[2, 0] = step[6]
    inner[2, 1] = step[7]
    inner[2, 2] = 1.0
    if step[2] != 0 and step[3] == 0 and step[4] == 0 and step[5] == 0:
        grown = np.sqrt(1.0 + step[2] * step[2])
        for row in range(2):
            for column in range(2):
                inner[row, column] /= grown


# Small matrices by plain loops: each use of NumPy's in compiled code takes a second or more to compile.


@njit(cache=True, nogil=True)
def _product(one, other, out):  # type: ignore[no-untyped-def]
    for i in range(one.shape[0]):
        for j in range(other.shape[1]):
            total = 0.0
            for k in range(one.shape[1]):
                total += one[i, k] * other[k, j]
            out[i, j] = total


@njit(cache=True, nogil=True)
def _turned_diagonal(matrix, vectors):  # type: ignore[no-untyped-def]
    """Make a symmetric matrix diagonal in place, by turns (Jacobi's) that are collected in `vectors`."""
    size = matrix.shape[0]
    for i in range(size):
        for j in range(size):
            vectors[i, j] = 1.0 if i == j else 0.0
    for _ in range(SWEEPS):
        beside, along = 0.0, 0.0
        for i in range(size):
            along += matrix[i, i] * matrix[i, i]
            for j in range(i):
                beside += matrix[i, j] * matrix[i, j]
        if not beside > NOTHING * along:
            break
        for i in range(size):
            for j in range(i + 1, size):
                if matrix[i, j] == 0.0:
                    continue
                ratio = (matrix[j, j] - matrix[i, i]) / (2.0 * matrix[i, j])
                tangent = (1.0 if ratio >= 0 else -1.0) / (abs(ratio) + np.sqrt(ratio * ratio + 1.0))
                cosine = 1.0 / np.sqrt(tangent * tangent + 1.0)
                sine = tangent * cosine
                for k in range(size):
                    a, b = matrix[k, i], matrix[k, j]
                    matrix[k, i], matrix[k, j] = cosine * a - sine * b, sine * a + cosine * b
                for k in range(size):
                    a, b = matrix[i, k], matrix[j, k]
                    matrix[i, k], matrix[j, k] = cosine * a - sine * b, sine * a + cosine * b
                    a, b = vectors[k, i], vectors[k, j]
                    vectors[k, i], vectors[k, j] = cosine * a - sine * b, sine * a + cosine * b


@njit(cache=True, nogil=True, error_model="numpy")
def _taken(residual, scale):  # type: ignore[no-untyped-def]
    """Return the share of points that took part, and their mean weight."""
    total = 0.0
    count = 0
    looked_at = 0
    for n in range(0, residual.shape[0], max(residual.shape[0] // SAMPLES, 1)):
        looked_at += 1
        if np.isfinite(residual[n]):
            total += 1.0 / (1.0 + (residual[n] / scale) ** 2) if scale > 0 else 1.0
            count += 1
    return count / max(looked_at, 1), total / max(count, 1)


@njit(cache=True, nogil=True, error_model="numpy")
def known_motion(normal, active, grain, residual, scale, light, least_share, known, from_light):  # type: ignore[no-untyped-def]
    """Set what is known of the motion once the light is solved for, (M, M), and how light enters it, (M, K - M).

    The reference's own grain has slopes that the frame knows nothing of. What they add to the normal matrix (`grain`,
    (8, 8), of deviation 1) is taken off again, direction by direction, down to `least_share` of what there was:
    otherwise a blank wall would pass for texture. Returns whether that can be told: the normal matrix may be singular.
    """
    motions = known.shape[0]
    lights = normal.shape[0] - motions
    light_known, root = np.empty((lights, lights)), np.empty((lights, lights))
    across = np.empty((lights, motions))
    for i in range(lights):
        for j in range(lights):
            light_known[i, j] = normal[motions + i, motions + j] + (1e-12 if i == j else 0.0)
        for j in range(motions):
            across[i, j] = normal[motions + i, j]
    if not lower_root(light_known, root):
        return False
    for j in range(motions):
        solve(root, across, j)
        for i in range(lights):
            from_light[j, i] = across[i, j]
    for i in range(motions):
        for j in range(motions):
            known[i, j] = normal[i, j]
            for k in range(lights):
                known[i, j] -= from_light[i, k] * normal[motions + k, j]
    share, weight = _taken(residual, scale)
    share *= light[0] ** 2 * weight
    if grain[active[0], active[0]] * share == 0.0:
        for i in range(motions):
            known[i, i] += 1e-9 * known[i, i]
        return True
    added, inner, vectors = np.empty((motions, motions)), np.empty((motions, motions)), np.empty((motions, motions))
    for i in range(motions):
        for j in range(motions):
            added[i, j] = grain[active[i], active[j]] * share * (1.0 + 1e-9 if i == j else 1.0)
    grain_root = np.empty((motions, motions))
    if not lower_root(added, grain_root):
        return False
    # Seen in units of grain: the root's inverse from both sides.
    for i in range(motions):
        for j in range(motions):
            inner[i, j] = known[i, j]
    for j in range(motions):
        for i in range(motions):
            for k in range(i):
                inner[i, j] -= grain_root[i, k] * inner[k, j]
            inner[i, j] /= grain_root[i, i]
    for i in range(motions):
        for j in range(motions):
            for k in range(j):
                inner[i, j] -= grain_root[j, k] * inner[i, k]
            inner[i, j] /= grain_root[j, j]
    _turned_diagonal(inner, vectors)
    _product(grain_root, vectors, added)
    for i in range(motions):
        for j in range(motions):
            total = 0.0
            for k in range(motions):
                value = max(inner[k, k] - CHOSEN_GRAIN, least_share * max(inner[k, k], 1e-9))
                total += added[i, k] * value * added[j, k]
            known[i, j] = total
    return True


@njit(cache=True, nogil=True, error_model="numpy")
def _leave_out(tiles, reference, residual, light, use):  # type: ignore[no-untyped-def]
    """Set `use` to 0 on tiles that do not look like the reference; returns whether there are any."""
    count = 0
    for n in range(tiles.shape[0]):
        count = max(count, tiles[n] + 1)
    sums, errors = np.empty((count, 5)), np.empty(count)
    block_sums(tiles, reference, residual, 0.0, np.inf, sums)
    enough = 0
    for tile in range(count):
        if sums[tile, 0] > 4:
            errors[enough] = sums[tile, 4] / sums[tile, 0]
            enough += 1
    if enough == 0:
        return False
    # What most of a half agrees with is typical, even where more than a half is hidden.
    typical = selected(errors, enough, int(TYPICAL * (enough - 1)))
    any_out = False
    for n in range(tiles.shape[0]):
        number, values, squares, _, error = sums[tiles[n]]
        texture = (squares - values * values / max(number, 1.0)) * light[0] ** 2
        if error > DISAGREES * max(texture, 0.0) and error > MUCH_WORSE * typical * max(number, 1.0):
            use[n] = 0.0
            any_out = True
    return any_out


@njit(cache=True, nogil=True, error_model="numpy")
def _advance(active, normal, right, known, from_light, corners, centre, reach, holds_light, matrix, light):  # type: ignore[no-untyped-def]
    """Move `matrix` and `light` by the solution of the normal equations.

    Returns by how many pixels the corners of the reference went at most; NaN if they may not go there.
    """
    motions, lights = from_light.shape
    solved, rest = np.empty((motions, 1)), np.empty((lights, 1))
    root, light_known, light_root = np.empty((motions, motions)), np.empty((lights, lights)), np.empty((lights, lights))
    for i in range(motions):
        solved[i, 0] = right[i]
        for k in range(lights):
            solved[i, 0] -= from_light[i, k] * right[motions + k]
    for i in range(lights):
        for j in range(lights):
            light_known[i, j] = normal[motions + i, motions + j] + (1e-12 if i == j else 0.0)
    if not (lower_root(known, root) and lower_root(light_known, light_root)):
        return np.nan
    solve(root, solved, 0)
    for i in range(lights):
        rest[i, 0] = right[motions + i]
        for k in range(motions):
            rest[i, 0] -= normal[motions + i, k] * solved[k, 0]
    solve(light_root, rest, 0)
    step = np.zeros(GAIN)
    for k in range(motions):
        step[active[k]] = solved[k, 0]
    inner = np.empty((3, 3))
    motion_of_step(step, inner)
    moved = 0.0
    for c in range(corners.shape[0]):
        p = (corners[c, 0] - centre[0]) / reach
        q = (corners[c, 1] - centre[1]) / reach
        w = inner[2, 0] * p + inner[2, 1] * q + 1.0
        if not w > 0:
            return np.nan
        to_p = (inner[0, 0] * p + inner[0, 1] * q + inner[0, 2]) / w
        to_q = (inner[1, 0] * p + inner[1, 1] * q + inner[1, 2]) / w
        moved = max(moved, abs(to_p - p) * reach, abs(to_q - q) * reach)
    if not moved <= reach:
        return np.nan
    # From normalised coordinates and back: the step is taken about the area's middle, in units of its reach.
    for row in range(3):
        a, b = matrix[row, 0], matrix[row, 1]
        c = a * centre[0] + b * centre[1] + matrix[row, 2]
        first = a * reach * inner[0, 0] + b * reach * inner[1, 0] + c * inner[2, 0]
        second = a * reach * inner[0, 1] + b * reach * inner[1, 1] + c * inner[2, 1]
        third = a * reach * inner[0, 2] + b * reach * inner[1, 2] + c * inner[2, 2]
        matrix[row, 0] = first / reach
        matrix[row, 1] = second / reach
        matrix[row, 2] = third - (first * centre[0] + second * centre[1]) / reach
    corner = matrix[2, 2]
    for row in range(3):
        for column in range(3):
            matrix[row, column] /= corner
    if not holds_light:
        for k in range(lights):
            light[active[motions + k] - GAIN] += rest[k, 0]
    light[0] = min(max(light[0], 0.05), 20.0)
    for k in (2, 3):
        light[k] = min(max(light[k], -0.5 * light[0]), 0.5 * light[0])
    return moved


@njit(cache=True, nogil=True, error_model="numpy")
def iterate(  # type: ignore[no-untyped-def]
    coefficients,
    to_level,
    points,
    normalised,
    reference,
    gradient,
    grain,
    tiles,
    corners,
    centre,
    reach,
    use,
    active,
    is_finest,
    knows_light,
    rest_px,
    least_points,
    matrix,
    light,
    scale,
    normal,
    residual,
):
    """Iterate on one level until the corners rest.

    As for `normal_equations`; `to_level` (3, 3) takes pixels of the frame to the level's; `grain`, (8, 8), what grain
    adds to the normal matrix; `tiles` (N,) the tile of each point, which is left out as a whole (`use` becomes 0) where
    it does not look like the reference; `corners` (4, 2), `centre` (2,) and `reach` of the area; `knows_light` holds
    the light until that is settled. Changed in place: `matrix`, `light`, `scale` (1,), `normal`, `residual`.
    """
    right, here = np.empty(active.shape[0]), np.empty((3, 3))
    motions = 0
    for k in range(active.shape[0]):
        motions += active[k] < GAIN
    known, from_light = np.empty((motions, motions)), np.empty((motions, active.shape[0] - motions))
    best = np.inf
    settled = 1 if is_finest else 2  # what disagrees is seen once the texture lies about where it belongs
    for iteration in range(14 if is_finest else 8):
        # The normal matrix changes little once weights and light have settled.
        anew = iteration in (0, 1, 2, 6, 10)
        _product(to_level, matrix, here)
        count = normal_equations(
            coefficients, here, points, normalised, reference, gradient, use, active, light, scale[0],
            anew, normal, right, residual,
        )  # fmt: skip
        if count < least_points:
            break
        if iteration:
            scale[0] = CAUCHY_SCALE * deviation(residual)[0]
        votes = iteration == settled or (is_finest and iteration in (3, 5, 7))
        if votes and _leave_out(tiles, reference, residual, light, use):
            continue  # what is no part of it must not pull once more
        if not known_motion(normal, active, grain, residual, scale[0], light, STEADYING, known, from_light):
            break
        holds_light = knows_light and iteration < settled
        moved = _advance(
            active, normal, right, known, from_light, corners, centre, reach, holds_light, matrix, light
        )  # fmt: skip
        if not np.isfinite(moved) or (moved < rest_px and iteration >= settled) or (iteration > 6 and moved > best):
            break
        best = min(best, moved)
