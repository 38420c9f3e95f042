"""The compiled descent of an alignment: from a start to where the corners rest, on one level."""

from __future__ import annotations

import numpy as np
from numba import njit

from gommage.core.follow.kernels import SAMPLES, block_sums, deviation, normal_equations

__all__ = ["iterate", "known_motion", "motion_of_step"]

GAIN = 8
CAUCHY_SCALE = 2.4
"""Residuals of this many deviations count half: 95 % efficient on normal noise."""
STEADYING = 0.3
"""What is left at least of the information that may be grain's, for a step."""
CHOSEN_GRAIN = 1.4
"""Choosing the strongest slopes chooses strong grain: it weighs so much more than grain at large."""
DISAGREES, MUCH_WORSE, TYPICAL = 0.7, 6.0, 0.3
"""A tile is left out if its difference rivals its texture, and is so many times what a good part of the tiles have."""


@njit(cache=True, nogil=True)
def motion_of_step(step):  # type: ignore[no-untyped-def]
    """Return the matrix (3, 3) of a small motion's eight parameters (8 or more,), about the origin."""
    inner = np.eye(3)
    inner[0, 0] = 1 + step[3] + step[4]
    inner[0, 1] = step[5] - step[2]
    inner[1, 0] = step[5] + step[2]
    inner[1, 1] = 1 + step[3] - step[4]
    inner[0, 2] = step[0]
    inner[1, 2] = step[1]
    inner[2, 0] = step[6]
    inner[2, 1] = step[7]
    if step[2] != 0 and step[3] == 0 and step[4] == 0 and step[5] == 0:
        inner[:2, :2] /= np.hypot(1.0, step[2])
    return inner


@njit(cache=True, nogil=True, error_model="numpy")
def _mean_weight(residual, scale):  # type: ignore[no-untyped-def]
    """Return the mean weight of the points that took part."""
    total = 0.0
    count = 0
    for n in range(0, residual.shape[0], max(residual.shape[0] // SAMPLES, 1)):
        if np.isfinite(residual[n]):
            total += 1.0 / (1.0 + (residual[n] / scale) ** 2) if scale > 0 else 1.0
            count += 1
    return total / max(count, 1)


@njit(cache=True, nogil=True, error_model="numpy")
def known_motion(normal, active, grain, residual, scale, light, least_share):  # type: ignore[no-untyped-def]
    """Return what is known of the motion once the light is solved for, (M, M), and how light enters it, (M, K - M).

    The reference's own grain has slopes that the frame knows nothing of. What they add to the normal matrix (`grain`,
    (8, 8), of deviation 1) is taken off again, direction by direction, down to `least_share` of what there was:
    otherwise a blank wall would pass for texture. May raise LinAlgError.
    """
    motions = 0
    for k in range(active.shape[0]):
        motions += active[k] < GAIN
    across = np.ascontiguousarray(normal[:motions, motions:])
    light_known = np.ascontiguousarray(normal[motions:, motions:]) + 1e-12 * np.eye(normal.shape[0] - motions)
    from_light = across @ np.linalg.inv(light_known)
    known = normal[:motions, :motions] - from_light @ np.ascontiguousarray(across.T)
    taken = 0
    for n in range(residual.shape[0]):
        taken += np.isfinite(residual[n])
    share = taken / residual.shape[0] * light[0] ** 2 * _mean_weight(residual, scale)
    added = np.empty((motions, motions))
    for k in range(motions):
        for m in range(motions):
            added[k, m] = grain[active[k], active[m]] * share
    if not added.any():
        return known + 1e-9 * np.diag(np.diag(known)), from_light
    root = np.linalg.cholesky(added + 1e-9 * np.diag(np.diag(added)))
    inverse = np.linalg.inv(root)
    values, vectors = np.linalg.eigh(inverse @ known @ np.ascontiguousarray(inverse.T))
    values = np.maximum(values - CHOSEN_GRAIN, least_share * np.maximum(values, 1e-9))
    turned = root @ vectors
    return (turned * values) @ np.ascontiguousarray(turned.T), from_light


@njit(cache=True, nogil=True, error_model="numpy")
def _leave_out(tiles, reference, residual, light, use):  # type: ignore[no-untyped-def]
    """Set `use` to 0 on tiles that do not look like the reference; returns whether there are any."""
    sums = np.empty((tiles.max() + 1, 5))
    block_sums(tiles, reference, residual, 0.0, np.inf, sums)
    count = np.maximum(sums[:, 0], 1.0)
    texture = np.maximum(sums[:, 2] - sums[:, 1] ** 2 / count, 0.0) * light[0] ** 2
    error = sums[:, 4] / count
    enough = error[count > 4]
    # What most of a half agrees with is typical, even where more than a half is hidden.
    typical = np.quantile(enough, TYPICAL) if enough.shape[0] else np.inf
    out = (sums[:, 4] > DISAGREES * texture) & (error > MUCH_WORSE * typical)
    for n in range(tiles.shape[0]):
        if out[tiles[n]]:
            use[n] = 0.0
    return out.any()


@njit(cache=True, nogil=True, error_model="numpy")
def _advance(active, normal, right, known, from_light, corners, centre, reach, holds_light, matrix, light):  # type: ignore[no-untyped-def]
    """Move `matrix` and `light` by the solution of the normal equations.

    Returns by how many pixels the corners of the reference went at most; NaN if they may not go there.
    """
    motions = known.shape[0]
    solved = np.linalg.solve(known, right[:motions] - from_light @ right[motions:])
    rest = right[motions:] - np.ascontiguousarray(normal[motions:, :motions]) @ solved
    light_known = np.ascontiguousarray(normal[motions:, motions:]) + 1e-12 * np.eye(rest.shape[0])
    light_step = np.linalg.solve(light_known, rest)
    step = np.zeros(GAIN)
    for k in range(motions):
        step[active[k]] = solved[k]
    inner = motion_of_step(step)
    moved = 0.0
    for c in range(corners.shape[0]):
        p = (corners[c, 0] - centre[0]) / reach
        q = (corners[c, 1] - centre[1]) / reach
        w = inner[2, 0] * p + inner[2, 1] * q + 1.0
        to_p = (inner[0, 0] * p + inner[0, 1] * q + inner[0, 2]) / w
        to_q = (inner[1, 0] * p + inner[1, 1] * q + inner[1, 2]) / w
        moved = max(moved, abs(to_p - p) * reach, abs(to_q - q) * reach) if w > 0 else np.inf
    if not moved <= reach:
        return np.nan
    unit = np.array([[1 / reach, 0.0, -centre[0] / reach], [0.0, 1 / reach, -centre[1] / reach], [0.0, 0.0, 1.0]])
    back = np.array([[reach, 0.0, centre[0]], [0.0, reach, centre[1]], [0.0, 0.0, 1.0]])
    there = matrix @ back @ inner @ unit
    matrix[:] = there / there[2, 2]
    if not holds_light:
        for k in range(motions, active.shape[0]):
            light[active[k] - GAIN] += light_step[k - motions]
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
    the light until that is settled. Changed in place: `matrix`, `light`, `scale` (1,), `normal`, `residual`. May raise
    LinAlgError.
    """
    right = np.empty(active.shape[0])
    best = np.inf
    settled = 1 if is_finest else 2  # what disagrees is seen once the texture lies about where it belongs
    for iteration in range(14 if is_finest else 8):
        # The normal matrix changes little once weights and light have settled.
        anew = iteration in (0, 1, 2, 6, 10)
        count = normal_equations(
            coefficients, to_level @ matrix, points, normalised, reference, gradient, use, active, light, scale[0],
            anew, normal, right, residual,
        )  # fmt: skip
        if count < least_points:
            break
        if iteration:
            scale[0] = CAUCHY_SCALE * deviation(residual)[0]
        votes = iteration == settled or (is_finest and iteration in (3, 5, 7))
        if votes and _leave_out(tiles, reference, residual, light, use):
            continue  # what is no part of it must not pull once more
        known, from_light = known_motion(normal, active, grain, residual, scale[0], light, STEADYING)
        holds_light = knows_light and iteration < settled
        moved = _advance(
            active, normal, right, known, from_light, corners, centre, reach, holds_light, matrix, light
        )  # fmt: skip
        if not np.isfinite(moved) or (moved < rest_px and iteration >= settled) or (iteration > 6 and moved > best):
            break
        best = min(best, moved)
