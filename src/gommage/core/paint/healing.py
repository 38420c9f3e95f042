"""Healing: the source's texture with the surroundings' colour."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.picture import Picture

__all__ = ["RIM_PX", "heal"]

RIM_SIGMA_PX = 2.5
"""The difference on the rim is averaged this far, so that its grain does not streak inwards."""
COARSEST_SIDE = 12
RIM_PX = 8
"""So far around a stroke its surroundings are looked at."""
HELD_OUT = 1 / 64
"""What is left out by more than this does not count as surroundings."""
ODD_SPREADS, LEAST_SPREAD = 4.0, 0.004
"""Surroundings that differ from the source by so many more spreads than the others are another thing, and do not count;
a spread is no less than the second, of the surroundings' brightness."""


def heal(below: Picture, source: Picture, mask: Picture, left_out: Picture | None = None) -> Picture:
    """Fit a source into a hole so that no seam remains at its rim.

    The result is ``source + m`` where m is the smoothest field (Laplace's equation) that equals ``below - source`` on
    the rim of the mask: the gradients are the source's, the level the surroundings'. What stands beside the stroke and
    is no part of its surroundings (the rest of the thing that is removed) shows by a difference unlike the others',
    and does not count.

    Parameters
    ----------
    below, source : (H, W, 3) float32
        The canvas before the stroke, and the aligned source. Not modified.
    mask : (H, W) float32
        Above 0 where the stroke lays paint.
    left_out : (H, W) float32, optional
        Above 0 where there are no surroundings: something stays in front, or the source is not known.

    Returns
    -------
    (H, W, 3) float32

    References
    ----------
    P. Perez, M. Gangnet, A. Blake, Poisson Image Editing, SIGGRAPH 2003, doi:10.1145/882262.882269; solved as
    Laplace's equation for the difference, coarse to fine.
    """
    laid: NDArray[np.bool_] = np.asarray(mask > 0, bool)
    if not laid.any():
        return source
    free = laid if left_out is None else laid | (left_out > HELD_OUT)
    if free.all():
        return source + (below - source).mean(axis=(0, 1)) if left_out is None else source
    is_like = np.zeros(free.shape, bool)
    is_like[~free] = _is_alike((below - source)[~free], below[~free])
    known = is_like.astype(np.float32)
    weight = cv2.GaussianBlur(known, (0, 0), RIM_SIGMA_PX)
    difference = cv2.GaussianBlur((below - source) * known[..., None], (0, 0), RIM_SIGMA_PX)
    difference = difference / np.maximum(weight, 1e-4)[..., None]
    return source + _membrane(difference.astype(np.float32), free | ~is_like)


def _is_alike(differences: Picture, values: Picture) -> NDArray[np.bool_]:
    """Return which of the differences (N, 3) on the rim are like most of them, (N,)."""
    middle = np.median(differences, axis=0)
    off = np.abs(differences - middle)
    spread = np.maximum(1.4826 * np.median(off, axis=0), LEAST_SPREAD * np.median(np.abs(values), axis=0) + 1e-5)
    alike = np.asarray((off < ODD_SPREADS * spread).all(axis=1), bool)
    return alike if alike.any() else np.ones(len(alike), bool)


def _membrane(values: Picture, free: NDArray[np.bool_]) -> Picture:
    """Return values with the free pixels hung smoothly between the others."""
    from gommage.core.paint.kernels import relax  # compiled code is loaded late

    height, width = free.shape
    if min(height, width) > COARSEST_SIDE:
        small = (width + 1) // 2, (height + 1) // 2
        known = cv2.resize((~free).astype(np.float32), small, interpolation=cv2.INTER_AREA)
        summed = cv2.resize(values * (~free)[..., None], small, interpolation=cv2.INTER_AREA)
        coarse = _membrane(summed / np.maximum(known, 1e-6)[..., None], known < 1e-3)
        grown = cv2.resize(coarse, (width, height), interpolation=cv2.INTER_LINEAR)
        values = np.where(free[..., None], grown, values)
        sweeps, push = 12, 1.5
    else:
        values = np.where(free[..., None], values[~free].mean(axis=0), values) if (~free).any() else values
        sweeps, push = 60, 1.7
    values = np.ascontiguousarray(values, np.float32)
    relax(values, free, sweeps, push)
    return values
