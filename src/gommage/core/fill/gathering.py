"""What other frames show of a place, made alike and brought together: the pure part of filling from donor frames.

Every donor comes here already resampled into the frame that is filled, with where it may be taken from. What is left of
motion is taken out on a ring around the hole, then what is left of light, then the donors are averaged robustly.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.geometry import IDENTITY, Mapping, from_matrix
from gommage.core.match.light import ring_around
from gommage.core.picture import Picture, luminance

__all__ = ["Gathered", "gathered", "left_over_motion", "lit_alike", "ring_of"]

Mask = NDArray[np.bool_]
RING_GAP_PX, RING_WIDTH_PX = 3, 13
"""The ring begins so far from the hole that its own edge is not looked at, and ends where it tells no more."""
MOST_SAMPLES = 3000
STEPS = 4
LEAST_SAMPLES = 60
HUBER = 1.345
GAMMA = 1 / 2.4
"""Donors are compared as they are seen: there grain is about as strong in the light as in the dark."""
DARKEST = 1e-4
SLOPE_HELD = 0.05
"""How far the slope of light is drawn towards none: as by so much of the ring that says so."""
SIGMAS, DEVIATIONS, FRAMES_AWAY = 3.2, 2.5, 4.0


def ring_of(hole: Mask, known: Mask) -> Mask:
    """Return the pixels around a hole that left-over motion and light are measured on.

    Parameters
    ----------
    hole : (h, w) bool
        What is filled.
    known : (h, w) bool
        Where the frame shows what is behind: no other hole, nothing in front.
    """
    return np.asarray(ring_around(hole.astype(np.float32), RING_GAP_PX, RING_WIDTH_PX) & known)


def left_over_motion(donor: Picture, frame: Picture, ring: Mask, most_px: float) -> Mapping:
    """Return what is still missing between a donor and the frame: from where in the donor each pixel comes.

    An affine motion, by least squares with Huber's weights on the difference of log luma (Gauss-Newton from none),
    which light that differs by a factor does not disturb.

    Parameters
    ----------
    donor, frame : (h, w, 3) float32
        Scene-linear; the donor is brought to the frame already.
    ring : (h, w) bool
        Where both show the same.
    most_px : float
        A motion that moves any of the ring by more than this is none: it is not left over, it is something else.

    Returns
    -------
    Mapping
        In pixels of the arrays; `IDENTITY` if there is too little to tell.
    """
    rows, columns = np.nonzero(ring)
    if len(rows) < LEAST_SAMPLES or most_px <= 0:
        return IDENTITY
    step = max(len(rows) // MOST_SAMPLES, 1)
    y, x = rows[::step].astype(np.float64), columns[::step].astype(np.float64)
    here = cv2.GaussianBlur(_log_luma(frame), (0, 0), 0.8)
    there = cv2.GaussianBlur(_log_luma(donor), (0, 0), 0.8)
    slope_x, slope_y = (cv2.Scharr(there, cv2.CV_32F, *one) / 32 for one in ((1, 0), (0, 1)))
    middle = np.array([x.mean(), y.mean()])
    size = max(float(np.hypot(x - middle[0], y - middle[1]).max()), 1.0)
    u, v = (x - middle[0]) / size, (y - middle[1]) / size
    moved = np.zeros(6)
    wanted = here[rows[::step], columns[::step]]
    for _ in range(STEPS):
        at_x = (x + moved[0] + moved[1] * u + moved[2] * v).astype(np.float32)
        at_y = (y + moved[3] + moved[4] * u + moved[5] * v).astype(np.float32)
        shown, across, down = (
            cv2.remap(one, at_x[None], at_y[None], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)[0].astype(float)
            for one in (there, slope_x, slope_y)
        )
        off = wanted - shown
        off = off - np.median(off)  # a factor of light is a difference of logarithms
        weight = _weights(off)
        columns_of = np.stack([across, across * u, across * v, down, down * u, down * v, np.ones_like(u)], axis=1)
        normal = (columns_of * weight[:, None]).T @ columns_of
        normal[np.diag_indices(6)] += 1e-6 * np.trace(normal[:6, :6]) + 1e-12
        moved = moved + np.linalg.solve(normal, (columns_of * weight[:, None]).T @ off)[:6]
    ways = np.hypot(moved[0] + moved[1] * u + moved[2] * v, moved[3] + moved[4] * u + moved[5] * v)
    if not np.isfinite(ways).all() or ways.max() > most_px:
        return IDENTITY
    a, b, c, d = moved[1] / size, moved[2] / size, moved[4] / size, moved[5] / size
    at = middle + 0.5  # mappings count pixels' centres at a half
    matrix = np.array(
        [
            [1 + a, b, moved[0] - a * at[0] - b * at[1]],
            [c, 1 + d, moved[3] - c * at[0] - d * at[1]],
            [0, 0, 1],
        ]
    )
    return from_matrix(matrix)


def _weights(off: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return Huber's weights of residuals, by their median deviation."""
    spread = max(1.4826 * float(np.median(np.abs(off))), 1e-6)
    return np.minimum(1, HUBER * spread / np.maximum(np.abs(off), 1e-9))


def _log_luma(picture: Picture) -> Picture:
    return np.log(np.maximum(luminance(picture), DARKEST)).astype(np.float32)


def lit_alike(donor: Picture, frame: Picture, ring: Mask) -> Picture:
    """Return a donor under the frame's light: for each channel a factor, and a slope of it across the hole.

    The factor is the median of the ratios' logarithms (a ratio of sums loses by what moved); the slope is fitted to
    what it leaves, robustly, and drawn a little towards none.

    Parameters
    ----------
    donor, frame : (h, w, 3) float32
        Scene-linear, in register.
    ring : (h, w) bool
    """
    rows, columns = np.nonzero(ring)
    if len(rows) < LEAST_SAMPLES:
        return donor
    height, width = ring.shape
    middle, size = (rows.mean(), columns.mean()), max(height, width) / 2
    u, v = (columns - middle[1]) / size, (rows - middle[0]) / size
    across, down = (np.arange(width) - middle[1]) / size, (np.arange(height) - middle[0]) / size
    out = np.empty_like(donor)
    for channel in range(3):
        ratios = np.log(np.maximum(frame[..., channel][ring], DARKEST) / np.maximum(donor[..., channel][ring], DARKEST))
        factor = float(np.median(ratios))
        slope = _slope(u, v, ratios - factor)
        field = factor + slope[0] + slope[1] * across[None, :] + slope[2] * down[:, None]
        out[..., channel] = donor[..., channel] * np.exp(field).astype(np.float32)
    return out


def _slope(u: NDArray[np.float64], v: NDArray[np.float64], left: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return offset and slopes of a plane through what is left of the ratios."""
    design = np.stack([np.ones_like(u), u, v], axis=1)
    found: NDArray[np.float64] = np.zeros(3)
    for _ in range(STEPS):
        off = left - design @ found
        weight = _weights(off)
        normal = (design * weight[:, None]).T @ design
        normal[(1, 2), (1, 2)] += SLOPE_HELD * weight.sum() * float(np.mean(u**2 + v**2))
        found = np.asarray(np.linalg.solve(normal, (design * weight[:, None]).T @ left), np.float64)
    return found


@dataclass(frozen=True, slots=True)
class Gathered:
    """What donors give.

    Attributes
    ----------
    pixels : (h, w, 3) float32
        Scene-linear; nothing where no donor is clean.
    count : (h, w) float32
        How many donors were averaged, as their weights have it: so many times less grain is left.
    nearest : (h, w) int16
        Which donor weighs most, -1 where there is none.
    """

    pixels: Picture
    count: Picture
    nearest: NDArray[np.int16]


def gathered(
    donors: list[Picture], clean: list[Mask], frames_away: list[int], grain_sigma: tuple[float, float, float]
) -> Gathered:
    """Return donors averaged, each pixel of those that agree.

    For each pixel the median of the clean donors, as they are seen, then the mean of those that are no further from it
    than grain explains; what is nearer in time weighs more.

    Parameters
    ----------
    donors : list of (h, w, 3) float32
        Scene-linear, in register and lit alike.
    clean : list of (h, w) bool
        Where each may be taken from.
    frames_away : list of int
        How far each is from the frame that is filled.
    grain_sigma : three floats
        Of a channel's grain, as it is seen (of the light to the power of `GAMMA`).
    """
    from gommage.core.fill.kernels import average_of_those_that_agree  # compiled code is loaded late

    height, width = clean[0].shape
    stack = np.empty((len(donors), height, width, 3), np.float32)
    for n, donor in enumerate(donors):
        np.power(np.maximum(donor, 0), np.float32(GAMMA), out=stack[n])
    weights = 1 / (1 + (np.abs(np.array(frames_away, np.float32)) / np.float32(FRAMES_AWAY)) ** 2)
    limits = np.array(grain_sigma, np.float32) * np.float32(SIGMAS)
    seen, count, nearest = average_of_those_that_agree(
        stack, np.array(clean), weights.astype(np.float32), limits, np.float32(DEVIATIONS)
    )
    return Gathered(np.power(seen, np.float32(1 / GAMMA)), count, nearest)
