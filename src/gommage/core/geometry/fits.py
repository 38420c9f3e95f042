"""Fits: motions that take points to others, boxes, curves through values."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from gommage.core.geometry.windows import Matrix, Points

__all__ = [
    "box_of",
    "closed_monotone_cubic",
    "evenly",
    "fitted",
    "is_quad",
    "lengths_along",
    "monotone_cubic",
    "square_on",
]

FLAT_PX = 1e-3
"""Corners that leave a line by less lie on it."""


def box_of(points: Points, margin: float = 0.0) -> NDArray[np.float64]:
    """Return the corners (4, 2) of the box around points (N, 2) and a margin, round from the top left."""
    (left, top), (right, bottom) = points.min(axis=0) - margin, points.max(axis=0) + margin
    return np.array([[left, top], [right, top], [right, bottom], [left, bottom]], np.float64)


def is_quad(corners: Points) -> bool:
    """Return whether no three of four corners (4, 2) lie on a line: a plane goes through them."""
    sides = np.roll(corners, -1, axis=0) - corners
    after = np.roll(sides, -1, axis=0)
    areas = np.abs(sides[:, 0] * after[:, 1] - sides[:, 1] * after[:, 0])
    return bool((areas > FLAT_PX * np.abs(sides).max()).all())


def fitted(source: Points, target: Points) -> Matrix:
    """Return the matrix that takes one to four points (K, 2) exactly to others, moving no more than they ask for.

    One point shifts, two also turn and scale, three also shear, four also give perspective. Points that lie nowhere
    (NaN: behind the camera) ask for nothing.
    """
    known = np.isfinite(source).all(axis=1) & np.isfinite(target).all(axis=1)
    source, target, count = source[known], target[known], int(known.sum())
    if not count:
        return np.eye(3)
    if count == 1 or np.array_equal(source, target):
        out = np.eye(3)
        out[:2, 2] = (target - source)[0]
        return out
    if count == 2:
        along, there = complex(*(source[1] - source[0])), complex(*(target[1] - target[0]))
        turn = there / along if along else 1.0 + 0j
        out = np.array([[turn.real, -turn.imag, 0], [turn.imag, turn.real, 0], [0, 0, 1.0]])
        out[:2, 2] = target[0] - out[:2, :2] @ source[0]
        return out
    if count == 3:
        flat = np.column_stack([source, np.ones(3)])
        return np.vstack([np.linalg.lstsq(flat, target, rcond=None)[0].T, [0, 0, 1.0]])
    (x, y), (u, v) = source.T, target.T
    zero, one = np.zeros(4), np.ones(4)
    left = np.vstack([
        np.column_stack([x, y, one, zero, zero, zero, -u * x, -u * y]),
        np.column_stack([zero, zero, zero, x, y, one, -v * x, -v * y]),
    ])  # fmt: skip
    return np.append(np.linalg.lstsq(left, np.r_[u, v], rcond=None)[0], 1.0).reshape(3, 3)


def lengths_along(points: Points) -> NDArray[np.float64]:
    """Return how far along a line each of its points (N, 2) lies, from its first: (N,)."""
    return np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(points, axis=0).T))])


def evenly(points: Points, count: int) -> Points:
    """Return so many points (count, 2) at even distances along straight pieces between points (N, 2)."""
    at = lengths_along(points)
    along = np.linspace(0, at[-1], count)
    return np.column_stack([np.interp(along, at, points[:, k]) for k in range(2)])


def square_on(corners: Points) -> Matrix:
    """Return the matrix (3, 3) that shows a surface without perspective, in place of its home frame.

    Its corners (4, 2), in home-frame pixels, become a rectangle of their mean side lengths about their middle.
    """
    sides = np.hypot(*(np.roll(corners, -1, axis=0) - corners).T)
    wide, high = (sides[0] + sides[2]) / 2, (sides[1] + sides[3]) / 2
    upright = np.array([[-wide, -high], [wide, -high], [wide, high], [-wide, high]]) / 2
    return fitted(corners, upright + corners.mean(axis=0))


def monotone_cubic(at: NDArray[np.float64], values: NDArray[np.float64], wanted: NDArray[Any]) -> NDArray[np.float64]:
    """Return values between knots, by a smooth curve that never overshoots; beyond the ends it rests.

    Parameters
    ----------
    at : (K,) float64
        Places of the knots, rising.
    values : (K, ...) float64
    wanted : (N,) float64

    Returns
    -------
    (N, ...) float64

    References
    ----------
    F. Fritsch and J. Butland, A method for constructing local monotone piecewise cubic interpolants, SIAM Journal on
    Scientific and Statistical Computing 5(2), 1984, doi:10.1137/0905021. Written out here since SciPy's costs a fifth
    of a second to load, on the way to the first frame that is shown.
    """
    wanted = np.clip(np.asarray(wanted, np.float64), at[0], at[-1])
    flat = values.reshape(len(at), -1)
    if len(at) == 1:
        return np.repeat(values, len(wanted), axis=0)
    step: NDArray[np.float64] = np.diff(at)[:, None]
    slope = np.diff(flat, axis=0) / step
    tangent = _tangents(step, slope) if len(at) > 2 else np.vstack([slope, slope])
    index = np.clip(np.searchsorted(at, wanted, side="right") - 1, 0, len(at) - 2)
    length = step[index]
    t = (wanted - at[index])[:, None] / length
    rise, fall = t * t * (3 - 2 * t), (1 - t) * (1 - t) * t
    out = (1 - rise) * flat[index] + rise * flat[index + 1]
    out += length * (fall * tangent[index] - t * t * (1 - t) * tangent[index + 1])
    return out.reshape(len(wanted), *values.shape[1:])


def closed_monotone_cubic(values: NDArray[np.float64], wanted: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return values between evenly spaced knots of something that closes on itself; see `monotone_cubic`.

    Parameters
    ----------
    values : (K, ...) float64
        At 0, 1, ... K - 1; at K the first follows again.
    wanted : (N,) float64
        From 0 to K.

    Returns
    -------
    (N, ...) float64
    """
    count = len(values)
    around = np.arange(-2, count + 3)
    return monotone_cubic(around.astype(np.float64), values[around % count], wanted)


def _tangents(step: NDArray[np.float64], slope: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return the slopes at the knots: harmonic means inside, one-sided parabolas at the ends."""
    before, after = slope[:-1], slope[1:]
    long, short = 2 * step[1:] + step[:-1], step[1:] + 2 * step[:-1]
    same = before * after > 0
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):  # where signs differ it is not taken
        inner = np.where(same, (long + short) / (long / before + short / after), 0.0)
    first = _end(step[0], step[1], slope[0], slope[1])
    last = _end(step[-1], step[-2], slope[-1], slope[-2])
    return np.vstack([first, inner, last])


def _end(
    near: NDArray[np.float64], far: NDArray[np.float64], slope: NDArray[np.float64], other: NDArray[np.float64]
) -> NDArray[np.float64]:
    found = ((2 * near + far) * slope - near * other) / (near + far)
    found = np.where(np.sign(found) != np.sign(slope), 0.0, found)
    steep = (np.sign(slope) != np.sign(other)) & (np.abs(found) > 3 * np.abs(slope))
    return np.where(steep, 3 * slope, found)
