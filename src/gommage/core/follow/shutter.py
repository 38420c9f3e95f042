"""Motion blur: for how long the shutter was open, and pictures that are blurred by each other's motion."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.geometry import Matrix, Points, Window, apply_matrix
from gommage.core.picture import Picture

__all__ = ["MOST_TRIED", "Passing", "best_shutter", "blurred_along", "is_blurred", "line_kernel", "passings"]

LEAST_DIFFERENCE_PX = 4.0
"""Two frames whose motions differ by less than this look alike enough, however long the shutter was open."""
MOST_TRIED = 6
SHARES = (0.0, 0.25, 0.5, 0.75, 1.0)
CLEARLY_BETTER = 0.7
"""Blur is believed in where it leaves at most this much of the mismatch."""
LITTLE, HELPS = 0.125, 0.9
FINER = (0.125, 0.0625)
"""Shares are tried in these steps about the best of them; the lowest point of a parabola is taken last."""
SMALLEST_BLUR_PX = 0.3
SAMPLES_PER_PX = 8


@dataclass(frozen=True, slots=True)
class Passing:
    """How a plane passes on a frame and on the one that it is compared with, in pixels a frame at its middle.

    Attributes
    ----------
    here_px, there_px : (2,) float64
        The motion on the frame, in its pixels, and that on the other, in the other's.
    from_there : (2, 2) float64
        Takes small steps on the other frame to steps on this one.
    """

    frame: int
    here_px: Points
    there_px: Points
    from_there: NDArray[np.float64]

    @property
    def difference_px(self) -> float:
        """By how much the two motions differ, either way round: blur does not know which way it went."""
        other = self.from_there @ self.there_px
        return float(min(np.hypot(*(self.here_px - other)), np.hypot(*(self.here_px + other))))

    def blur(self, share: float) -> tuple[Points, Points]:
        """Return the lines (2,) along which the frame, and the other, are to be blurred to look alike."""
        lines: tuple[Points, Points] = (
            share * (self.from_there @ self.there_px),
            share * np.linalg.solve(self.from_there, self.here_px),
        )
        return lines


def line_kernel(motion_px: Points) -> Picture:
    """Return the blur (h, w) float32 of a motion (2,) in pixels, of sum 1."""
    half = int(np.ceil(np.abs(motion_px).max() / 2)) + 1
    kernel = np.zeros((2 * half + 1, 2 * half + 1), np.float64)
    count = max(int(SAMPLES_PER_PX * np.hypot(*motion_px)), 1)
    at = half + ((np.arange(count) + 0.5) / count - 0.5)[:, None] * motion_px
    whole = np.floor(at).astype(np.intp)
    part = at - whole
    for right in (0, 1):
        for down in (0, 1):
            weight = np.abs(1 - right - part[:, 0]) * np.abs(1 - down - part[:, 1])
            np.add.at(kernel, (whole[:, 1] + down, whole[:, 0] + right), weight)
    return (kernel / kernel.sum()).astype(np.float32)


def blurred_along(picture: Picture, motion_px: Points, window: Window) -> Picture:
    """Return a picture (H, W), blurred along a motion (2,) inside a window."""
    if np.hypot(*motion_px) < SMALLEST_BLUR_PX:
        return picture
    kernel = line_kernel(motion_px)
    wide = window.grown(max(kernel.shape) // 2 + 1) & Window.of(picture.shape[1], picture.shape[0])
    out = picture.copy()
    soft = cv2.filter2D(np.ascontiguousarray(picture[wide.slices]), cv2.CV_32F, kernel, borderType=cv2.BORDER_REFLECT)
    inner = window & wide
    out[inner.slices] = soft[inner.within(wide)]
    return out


def passings(places: dict[int, Matrix], compared_with: dict[int, int], middle: Points) -> list[Passing]:
    """Return how a plane passes on frames that are blurred otherwise than those they are compared with.

    Parameters
    ----------
    places : dict of int to (3, 3) float64
        Home to frame, by frame.
    compared_with : dict of int to int
        By frame, the one it was compared with.
    middle : (2,) float64
        Of the plane, at home.
    """
    found = []
    for frame, other in compared_with.items():
        here, there = _motion(places, frame, middle), _motion(places, other, middle)
        if here is None or there is None:
            continue
        step = np.array([[1.0, 0], [0, 1.0]])
        sides = [
            (apply_matrix(places[one], middle + step) - apply_matrix(places[one], middle - step)).T / 2
            for one in (frame, other)
        ]
        one = Passing(frame, here, there, sides[0] @ np.linalg.inv(sides[1]))
        if one.difference_px >= LEAST_DIFFERENCE_PX:
            found.append(one)
    return found


def _motion(places: dict[int, Matrix], frame: int, middle: Points) -> Points | None:
    """Return by how many pixels the middle moves in a frame's time: from half a frame before to half after."""
    if frame not in places:
        return None
    here = apply_matrix(places[frame], middle)
    before, after = (apply_matrix(places[one], middle) if one in places else None for one in (frame - 1, frame + 1))
    if before is not None and after is not None:
        return (after - before) / 2
    if after is not None:
        return after - here
    return None if before is None else here - before


def is_blurred(mismatch: Callable[[float], float]) -> bool:
    """Return whether a little blur makes a few of the fastest frames more alike: a quick look, see `best_shutter`."""
    return mismatch(LITTLE) < HELPS * mismatch(0.0)


def best_shutter(mismatch: Callable[[float], float]) -> float:
    """Return for what share of a frame's time the shutter was open; 0 where blur explains nothing.

    Parameters
    ----------
    mismatch : callable
        Takes a share and says how unlike the fastest frames are, blurred so.
    """
    known = {share: mismatch(share) for share in SHARES}
    for gap in FINER:
        middle = min(known, key=lambda share: known[share])
        known |= {share: mismatch(share) for share in (middle - gap, middle + gap) if 0 <= share <= 1}
    best = min(known, key=lambda share: known[share])
    if best == 0 or known[best] > CLEARLY_BETTER * known[0.0]:
        return 0.0
    gap = FINER[-1]
    if not (best - gap in known and best + gap in known):
        return best
    before, after = known[best - gap] - known[best], known[best + gap] - known[best]
    return best + gap * (before - after) / (2 * (before + after)) if before + after > 0 else best
