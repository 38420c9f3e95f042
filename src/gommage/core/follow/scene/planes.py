"""Planes in a solved scene: through points, as inverse depth that is linear in the picture."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from gommage.errors import FollowError

__all__ = ["FittedPlane", "fitted_plane", "inverse_depths"]

Floats = NDArray[np.float64]
LEAST_POINTS = 3
TRIALS = 400
ROUNDS = 12
SEED = 3


@dataclass(frozen=True, slots=True)
class FittedPlane:
    """A plane through points.

    Attributes
    ----------
    plane : (3,) float64
        Inverse depth of a direction (x, y, 1).
    covariance : (3, 3) float64
    on_it : (P,) bool
        Which points lie on it.
    """

    plane: Floats
    covariance: Floats
    on_it: NDArray[np.bool_]


def inverse_depths(turn: Floats, move: Floats, points: Floats) -> tuple[Floats, Floats]:
    """Return where a camera sees points (P, 4), as directions (P, 2) at depth 1, and their inverse depths (P,).

    NaN for what is behind it.
    """
    there = points[:, :3] @ turn.T + points[:, 3:] * move
    depth = there[:, 2]
    safe = np.where(depth > 1e-9, depth, np.nan)
    return there[:, :2] / safe[:, None], points[:, 3] / safe


def fitted_plane(directions: Floats, inverse: Floats, errors: Floats) -> FittedPlane:
    """Return the plane that most of some points lie on, as inverse depth linear in the picture.

    Parameters
    ----------
    directions, inverse : (P, 2), (P,) float64
        See `inverse_depths`.
    errors : (P,) float64
        How unsure each inverse depth is, in any unit.

    Raises
    ------
    FollowError
        If there are fewer than three points, or they lie on a line.

    References
    ----------
    Least median of squares (P. Rousseeuw, 1984), then least squares weighted anew.
    """
    known = np.isfinite(directions[:, 0]) & np.isfinite(inverse)
    if known.sum() < LEAST_POINTS:
        raise FollowError("A plane needs at least three solved points. Pick more, or draw round a larger area.")
    rows = np.column_stack([directions[known], np.ones(known.sum())])
    own, unsure = inverse[known], np.maximum(errors[known], 1e-12)
    spread = rows[:, :2].std(axis=0)
    if np.linalg.matrix_rank(rows - rows.mean(axis=0), tol=1e-3 * max(float(spread.max()), 1e-6)) < 2:
        raise FollowError("These points lie on a line: pick some beside it.")
    plane = _median_plane(rows, own, unsure)
    off = np.abs(rows @ plane - own) / unsure
    for _ in range(ROUNDS):
        scale = max(float(np.median(off)) * 1.5 * 1.4826, 1e-12)
        weights = 1 / (unsure * (1 + (off / scale) ** 2))
        plane = np.asarray(np.linalg.lstsq(rows * weights[:, None], own * weights, rcond=None)[0], np.float64)
        off = np.abs(rows @ plane - own) / unsure
    deviation = max(float(np.median(off)) * 1.4826, 1e-12)
    near = off < 3 * deviation
    on_it = np.zeros(len(directions), np.bool_)
    on_it[np.nonzero(known)[0]] = near
    part = rows[near] / unsure[near, None]
    covariance = np.asarray(deviation**2 * np.linalg.pinv(part.T @ part), np.float64)
    return FittedPlane(plane, covariance, on_it)


def _median_plane(rows: Floats, inverse: Floats, unsure: Floats) -> Floats:
    if len(rows) == LEAST_POINTS:
        return np.asarray(np.linalg.lstsq(rows, inverse, rcond=None)[0], np.float64)
    rng = np.random.default_rng(SEED)
    chosen = np.stack([rng.choice(len(rows), 3, replace=False) for _ in range(TRIALS)])
    systems = rows[chosen]
    determinants = np.abs(np.linalg.det(systems))
    chosen = chosen[determinants > 1e-3 * max(float(determinants.max()), 1e-30)]
    planes = np.linalg.solve(rows[chosen], inverse[chosen][..., None])[..., 0]
    off = np.median(np.abs(planes @ rows.T - inverse) / unsure, axis=1)
    best: Floats = planes[int(off.argmin())]
    return best
