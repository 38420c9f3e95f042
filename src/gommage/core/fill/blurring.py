"""Motion blur of a fill: donors that are blurred more are put off; what is sharper than the frame is blurred as it."""

from __future__ import annotations

import math
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.document import Shot, mappings_of
from gommage.core.follow.shutter import line_kernel
from gommage.core.picture import Picture, luminance

__all__ = ["blur_left_px", "blurred", "excess_px", "passing_on"]

Mask = NDArray[np.bool_]
Passing = tuple[float, float]
SHUTTER = 0.5
"""For how long a shutter is open as a rule, as a share of a frame: to tell sharp donors from blurred ones."""
SHARES = (0.0, 0.08, 0.16, 0.24, 0.32, 0.42, 0.55, 0.7, 0.85, 1.0)
LEAST_PX, LEAST_PIXELS = 0.8, 200
HELPS = 0.9995
"""Blur is put on where it leaves at most this much of the mismatch."""


@lru_cache(maxsize=8192)
def passing_on(shot: Shot, surface_id: str, frame: int) -> Passing:
    """Return how a surface passes on a frame, in pixels a frame at the middle of what it was followed by."""
    mapping_of = mappings_of(shot)
    middle = np.asarray(shot.surface(surface_id).outline, np.float64).mean(axis=0)
    found = [(at, mapping) for at in (frame - 1, frame, frame + 1) if (mapping := mapping_of(surface_id, at))]
    if len(found) < 2:
        return 0.0, 0.0
    (first, before), (last, after) = found[0], found[-1]
    x, y = ((after(middle) - before(middle)) / (last - first)).tolist()
    return (x, y) if np.isfinite(x + y) else (0.0, 0.0)


def excess_px(donor: Passing, frame: Passing) -> float:
    """Return how much longer than the frame's own blur a donor's is in its worst direction, in pixels."""
    across, down = donor[0] ** 2 - frame[0] ** 2, donor[1] ** 2 - frame[1] ** 2
    both = donor[0] * donor[1] - frame[0] * frame[1]
    worst = (across + down) / 2 + math.hypot((across - down) / 2, both)  # of the matrix (across, both; both, down)
    return SHUTTER * math.sqrt(max(worst, 0.0))


def blurred(fill: Picture, shown: Mask, blur_px: Passing) -> Picture:
    """Return a fill (h, w) or (h, w, 3) blurred along a line, each pixel of what there is; the rest as it was."""
    kernel, there = line_kernel(np.array(blur_px)), shown.astype(np.float32)
    flat = (fill.T * there.T).T
    shares = np.maximum(cv2.filter2D(there, cv2.CV_32F, kernel, borderType=cv2.BORDER_CONSTANT), 1e-6)
    soft = (cv2.filter2D(flat, cv2.CV_32F, kernel, borderType=cv2.BORDER_CONSTANT).T / shares.T).T
    return np.where(shown if fill.ndim == 2 else shown[..., None], soft, fill).astype(np.float32)


def blur_left_px(fill: Picture, frame: Picture, shown: Mask, both: Mask, passing: Passing) -> Passing:
    """Return the blur (2,) in pixels, along the way that a surface passes, that a fill lacks to be as the frame.

    Parameters
    ----------
    fill, frame : (h, w, 3) float32
        In register and light; the fill is the mean of several, with little grain.
    shown : (h, w) bool
        Where the fill shows anything.
    both : (h, w) bool
        Where both show the same.
    passing : tuple of float
        The surface's motion, in pixels a frame.
    """
    both = cv2.erode(both.view(np.uint8), np.ones((3, 3), np.uint8), borderValue=0).view(bool)
    if np.hypot(*passing) < LEAST_PX or both.sum() < LEAST_PIXELS:
        return 0.0, 0.0
    here, there = luminance(frame), luminance(fill)
    tried = []
    for share in SHARES:
        soft = blurred(there, shown, (share * passing[0], share * passing[1])) if share else there
        tried.append(float(np.mean((here - soft)[both] ** 2)))
    best = int(np.argmin(tried))
    if tried[best] > HELPS * tried[0]:
        return 0.0, 0.0
    share = SHARES[best]
    return share * passing[0], share * passing[1]
