"""Healing: the source's texture with the surroundings' colour."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.picture import Picture

__all__ = ["RIM_PX", "heal"]

RIM_SIGMA_PX, RIM_TAPS = 2.5, 13
"""The difference on the rim is averaged this far, so that its grain does not streak inwards."""
FINE_SIGMA_PX, FINE_TAPS = 0.8, 7
"""What that leaves of the difference, grain most of all, is followed as well, but only so far into the stroke: else
every border would show by grain that breaks off, or by grain that is drawn out into streaks."""
RIM_PX = 8
"""So far around a stroke its surroundings are looked at."""
RIM = np.ones((2 * RIM_PX + 1, 2 * RIM_PX + 1), np.uint8)
HELD_OUT = 1 / 64
"""What is left out by more than this does not count as surroundings."""
ODD_SPREADS, LEAST_SPREAD = 4.0, 0.004
"""Surroundings that differ from the source by so many more spreads than the others are another thing, and do not count;
a spread is no less than the second, of the surroundings' brightness."""


def heal(
    below: Picture, source: Picture, mask: Picture, left_out: Picture | None = None, *, follows_grain: bool = True
) -> Picture:
    """Fit a source into a hole so that no seam remains at its rim.

    The result is ``source + m`` where m is the smoothest field (Laplace's equation) that equals ``below - source`` on
    the rim of the mask: the gradients are the source's, the level the surroundings'. What stands beside the stroke and
    is no part of its surroundings (the rest of the thing that is removed) shows by a difference unlike the others',
    and does not count. A source much brighter than the surroundings is made darker first, texture and all.

    Parameters
    ----------
    below, source : (H, W, 3) float32
        The canvas before the stroke, and the aligned source. Not modified.
    mask : (H, W) float32
        Above 0 where the stroke lays paint.
    left_out : (H, W) float32, optional
        Above 0 where there are no surroundings: something stays in front, or the source is not known.
    follows_grain : bool
        Whether the picture's own grain is followed into the rim; not where grain is laid afterwards.

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
    from gommage.core.paint.membrane import hang, left_on_rim, rim_differences  # compiled code is loaded late

    near = cv2.dilate(free.view(np.uint8), RIM)
    free = free.copy()
    # Copies: parts of pictures, and pictures that may not be written to, would each be compiled for by themselves.
    below, source = np.array(below, order="C"), np.array(source, order="C")
    known, mean, gain = rim_differences(below, source, near, free, ODD_SPREADS, LEAST_SPREAD)
    spread = cv2.GaussianBlur(known, (RIM_TAPS, RIM_TAPS), RIM_SIGMA_PX)
    left = left_on_rim(known, spread)
    left = left if follows_grain else np.zeros_like(left)
    fine = cv2.GaussianBlur(left, (FINE_TAPS, FINE_TAPS), FINE_SIGMA_PX)
    return hang(source, gain, spread, mean, free, fine)
