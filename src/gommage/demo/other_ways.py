"""Simpler ways to fill a cover, to hold a fill against: each frame by itself, or along the motion that is told."""

from __future__ import annotations

import warnings
from collections.abc import Callable, Sequence
from functools import lru_cache
from typing import Protocol

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.document import Footage
from gommage.core.geometry import Mapping, Window
from gommage.core.picture import Picture, resample

__all__ = ["JudgedShot", "other_ways"]

Mask = NDArray[np.bool_]
MEDIAN_FRAMES, ROOM_PX = 16, 20
RING_PX, LEAST_PIXELS = 25, 50


class JudgedShot(Protocol):
    """A shot whose truth is known, with the surfaces behind its thing."""

    @property
    def footage(self) -> Footage:
        """The plate."""
        ...

    def clean(self, frame: int, *, grain: bool = True) -> Picture:
        """Return the clean frame."""
        ...

    def planes(self, frame: int, other: int) -> Sequence[tuple[Mapping, Picture | None]]:
        """Return the true motions to another frame, back to front, and where each surface is seen."""
        ...


def other_ways(
    demo: JudgedShot, frames: range, alpha_of: Callable[[int], Picture], plate_of: Callable[[int], Picture]
) -> dict[str, Callable[[int], Picture]]:
    """Return simpler ways to the same end, by name: each gives the result of a frame.

    All but the first are told the true motion, and lay their fill into the same cover.
    """
    ways = _Ways(demo, frames, alpha_of, plate_of)
    return {
        "inpainting of each frame": ways.inpainted,
        "median along the true motion": ways.median,
        "nearest clean frame with gain, true motion": ways.nearest,
        "painted still, hard edge, true motion": ways.still,
    }


class _Ways:
    """The ways, on boxes around the cover."""

    def __init__(
        self, demo: JudgedShot, frames: range, alpha_of: Callable[[int], Picture], plate_of: Callable[[int], Picture]
    ) -> None:
        self._demo, self._frames = demo, frames
        self._alpha, self._plate = (lru_cache(maxsize=64)(one) for one in (alpha_of, plate_of))
        self._brought = lru_cache(maxsize=64)(self._bring)

    def _box(self, frame: int) -> Window:
        """Return the window of the cover, with some room around."""
        alpha = self._alpha(frame)
        rows, columns = np.nonzero(alpha > 0)
        found = Window(int(columns.min()), int(rows.min()), int(columns.max()) + 1, int(rows.max()) + 1)
        return found.grown(ROOM_PX) & Window.of(alpha.shape[1], alpha.shape[0])

    def _seen(self, frame: int) -> tuple[Picture, Picture]:
        """Return the box of a frame: the plate, and the cover."""
        at = self._box(frame).slices
        return self._plate(frame)[at], self._alpha(frame)[at]

    def _laid(self, frame: int, fill: Picture, *, hard: bool = False) -> Picture:
        """Return the frame with a fill of the box laid into its cover."""
        out, (_, alpha) = self._plate(frame).copy(), self._seen(frame)
        box = out[self._box(frame).slices]
        box += (fill - box) * ((alpha > 0).astype(np.float32) if hard else alpha)[..., None]
        return out

    def _bring(self, frame: int, other: int) -> tuple[Picture, Mask]:
        """Return another frame on the box of this one, and where it shows the background."""
        window = self._box(frame)
        shape = window.height, window.width
        pixels, clean = np.zeros((*shape, 3), np.float32), np.zeros(shape, bool)
        for motion, seen in self._demo.planes(frame, other):
            where = np.ones(shape, bool) if seen is None else seen[window.slices] > 0.5
            moved = resample(self._plate(other), motion, window)
            hidden = resample((self._alpha(other) > 0).astype(np.float32), motion, window).pixels
            pixels[where] = moved.pixels[where]
            clean[where] = ((moved.inside > 0) & (hidden < 0.01))[where]
        return pixels, clean

    def inpainted(self, frame: int) -> Picture:
        """Close the cover from its rim (A. Telea, An Image Inpainting Technique, J. of Graphics Tools 9(1), 2004)."""
        plate, alpha = self._seen(frame)
        seen = (np.clip(plate, 0, 1) ** (1 / 2.4) * 255 + 0.5).astype(np.uint8)
        fill = cv2.inpaint(seen, (alpha > 0).astype(np.uint8), 5, cv2.INPAINT_TELEA).astype(np.float32) / 255
        return self._laid(frame, fill**2.4, hard=True)

    def median(self, frame: int) -> Picture:
        """Take the median of the frames around, as they are."""
        stack = []
        for other in self._frames:
            if other != frame and abs(other - frame) <= MEDIAN_FRAMES and (other - frame) % 2:
                pixels, clean = self._brought(frame, other)
                stack.append(np.where(clean[..., None], pixels, np.nan))
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", RuntimeWarning)  # where no frame shows it there is nothing
            fill = np.nanmedian(np.stack(stack), axis=0)
        return self._laid(frame, np.where(np.isfinite(fill), fill, self._seen(frame)[0]))

    def nearest(self, frame: int) -> Picture:
        """Take each pixel from the nearest frame that shows it, brightened by the ratio around the cover."""
        plate, alpha = self._seen(frame)
        fill, missing = plate.copy(), alpha > 0
        ring = cv2.dilate(missing.view(np.uint8), np.ones((RING_PX, RING_PX), np.uint8)).view(bool) & ~missing
        for other in sorted(self._frames, key=lambda one: abs(one - frame))[1:]:
            pixels, clean = self._brought(frame, other)
            both = ring & clean
            if both.sum() < LEAST_PIXELS:
                continue
            gain = plate[both].mean(axis=0) / np.maximum(pixels[both].mean(axis=0), 1e-6)
            take = missing & clean
            fill[take] = pixels[take] * gain
            missing &= ~clean
            if not missing.any():
                break
        return self._laid(frame, fill)

    def still(self, frame: int) -> Picture:
        """Carry the clean frame in the middle, as it was shot."""
        home, window = self._frames[len(self._frames) // 2], self._box(frame)
        fill = np.zeros((window.height, window.width, 3), np.float32)
        painted = self._demo.clean(home)
        for motion, seen in self._demo.planes(frame, home):
            where = np.ones(fill.shape[:2], bool) if seen is None else seen[window.slices] > 0.5
            fill[where] = resample(painted, motion, window).pixels[where]
        return self._laid(frame, fill, hard=True)
