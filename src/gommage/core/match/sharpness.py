"""Sharpness: by how much new pixels are to be blurred to be as the frame is, along a motion and all round."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.follow.shutter import line_kernel
from gommage.core.picture import Picture, luminance

__all__ = ["NO_BLUR", "Beside", "Blur", "blur_lacking", "blurred"]

Mask = NDArray[np.bool_]
Passing = tuple[float, float]
SHARES = (0.0, 0.08, 0.16, 0.24, 0.32, 0.42, 0.55, 0.7, 0.85, 1.0)
"""Of a frame's motion, for how long a shutter may have been open more than for the new pixels."""
ROUND_PX = (0.0, 0.35, 0.5, 0.65, 0.8, 1.0, 1.25, 1.6, 2.0, 2.5)
WORSE_IN_A_ROW = 2
LEAST_PX, LEAST_PIXELS = 0.8, 200
SURE_ALONG, SURE_ROUND = 1.5, 4.0
"""Blur is put on where it explains more than so many times what chance would: what moves is expected to be blurred."""
UNLIKE, NEAR_PX, OFTEN = 3.0, 11, 0.02
"""What lies by so many deviations outside of what is so near in the fill shows something else, if enough of it does."""
ALIKE_PX = 2.0
"""Pixels that are so near to one another tell the same."""


@dataclass(frozen=True, slots=True)
class Blur:
    """Blur that new pixels lack: along a way of ``x, y`` pixels, and all round by a Gaussian's deviation."""

    x: float = 0.0
    y: float = 0.0
    round_px: float = 0.0

    def __bool__(self) -> bool:
        return bool(self.x or self.y or self.round_px)

    @property
    def along_px(self) -> float:
        """How long it is."""
        return float(np.hypot(self.x, self.y))

    @property
    def reach_px(self) -> int:
        """How far it spreads a pixel."""
        return int(np.ceil(max(abs(self.x), abs(self.y)) / 2 + 3 * self.round_px)) + 1 if self else 0

    def scaled(self, scale: float) -> Blur:
        """Return it in pixels of another scale."""
        return Blur(self.x * scale, self.y * scale, self.round_px * scale)

    @property
    def kernel(self) -> Picture:
        """The pixels (h, w) that a pixel is spread over, of sum 1."""
        line = line_kernel(np.array([self.x, self.y]))
        if not self.round_px:
            return line
        half = int(np.ceil(3 * self.round_px))
        wide = cv2.copyMakeBorder(line, half, half, half, half, cv2.BORDER_CONSTANT)
        return cv2.GaussianBlur(wide, (2 * half + 1, 2 * half + 1), self.round_px, borderType=cv2.BORDER_CONSTANT)


NO_BLUR = Blur()


@dataclass(frozen=True, slots=True)
class Beside:
    """A piece of the surroundings, as new pixels show it and as the frame does.

    Attributes
    ----------
    fill, frame : (h, w, 3) float32
        In register and light.
    shown : (h, w) bool
        Where the new pixels show anything.
    both : (h, w) bool
        Where both show the same.
    """

    fill: Picture
    frame: Picture
    shown: Mask
    both: Mask


def blurred(fill: Picture, shown: Mask, blur: Blur) -> Picture:
    """Return new pixels (h, w) or (h, w, 3) blurred, each of what there is; the rest as it was."""
    kernel, border = blur.kernel, cv2.BORDER_REFLECT
    if shown.all():
        return cv2.filter2D(fill, cv2.CV_32F, kernel, borderType=border)
    there = shown.astype(np.float32)
    flat = (fill.T * there.T).T
    shares = np.maximum(cv2.filter2D(there, cv2.CV_32F, kernel, borderType=border), 1e-6)
    soft = (cv2.filter2D(flat, cv2.CV_32F, kernel, borderType=border).T / shares.T).T
    return np.where(shown if fill.ndim == 2 else shown[..., None], soft, fill).astype(np.float32)


def blur_lacking(beside: Sequence[Beside], passing: Passing, grain_share: float = 0.0) -> Blur:
    """Return the blur that new pixels lack to be as sharp as the frame; none where they do not lack any for sure.

    First that along the way in which the surface passes, then that all round: each the one that makes both most alike.

    Parameters
    ----------
    beside : sequence of Beside
    passing : tuple of float
        The surface's motion, in pixels a frame.
    grain_share : float
        Variance of the grain that the new pixels have themselves, by the frame's: blur would make them more alike by
        taking it away, and that does not count.
    """
    pieces = _alike([_Piece.of(one) for one in beside])
    if sum(int(piece.both.sum()) for piece in pieces) < LEAST_PIXELS:
        return NO_BLUR
    x, y = passing
    along = NO_BLUR
    if np.hypot(x, y) >= LEAST_PX:
        along = _best(pieces, SHARES, lambda share: Blur(share * x, share * y), grain_share, SURE_ALONG)
    return _best(pieces, ROUND_PX, lambda round_px: Blur(along.x, along.y, round_px), grain_share, SURE_ROUND)


@dataclass(frozen=True, slots=True)
class _Piece:
    """A piece by its luma."""

    fill: Picture
    frame: Picture
    shown: Mask
    both: Mask

    @classmethod
    def of(cls, beside: Beside) -> _Piece:
        both = cv2.erode(beside.both.view(np.uint8), np.ones((3, 3), np.uint8), borderValue=0).view(bool)
        return cls(luminance(beside.fill), luminance(beside.frame), beside.shown, both)

    def mismatch(self, blur: Blur) -> Picture:
        soft = blurred(self.fill, self.shown, blur) if blur else self.fill
        found: Picture = (self.frame - soft)[self.both] ** 2
        return found


def _alike(pieces: list[_Piece]) -> list[_Piece]:
    """Return pieces without what shows something else than the frame: no blur makes a pixel brighter or darker than all
    that is near it in the fill, and what does not fit would be the more alike the softer it is.
    """
    off = [np.abs(piece.frame - piece.fill)[piece.both] for piece in pieces]
    if not sum(one.size for one in off):
        return pieces
    margin = UNLIKE * 1.4826 * float(np.median(np.concatenate(off)))
    near, found = np.ones((NEAR_PX, NEAR_PX), np.uint8), []
    for piece in pieces:
        least, most = cv2.erode(piece.fill, near), cv2.dilate(piece.fill, near)
        unlike = piece.both & ((piece.frame < least - margin) | (piece.frame > most + margin))
        other = cv2.boxFilter(unlike.astype(np.float32), -1, near.shape) > OFTEN  # one pixel alone may be grain
        both = piece.both & ~cv2.dilate(other.view(np.uint8), near).view(bool)
        found.append(replace(piece, both=both))
    return found


def _best(
    pieces: list[_Piece], tried: tuple[float, ...], blur_of: Callable[[float], Blur], grain_share: float, sure: float
) -> Blur:
    """Return the blur of a row, weakest first, that leaves least; the first if none is better for sure."""
    first = np.concatenate([piece.mismatch(blur_of(tried[0])) for piece in pieces])
    own = float(first.mean()) * grain_share / (1 + grain_share)
    before = float((blur_of(tried[0]).kernel ** 2).sum())
    left, best, most = [float(first.mean())], 0, np.zeros(0)
    for number, amount in enumerate(tried[1:], 1):
        blur = blur_of(amount)
        found = np.concatenate([piece.mismatch(blur) for piece in pieces])
        less_grain = own * (before - float((blur.kernel**2).sum()))
        left.append(float(found.mean()) + less_grain)
        if left[number] < left[best]:
            best, most = number, first - found - less_grain
        elif number - best >= WORSE_IN_A_ROW:
            break
    if not best or most.mean() < sure * most.std() * ALIKE_PX / np.sqrt(most.size):
        return blur_of(tried[0])
    return blur_of(_between(tried, left, best))


def _between(tried: tuple[float, ...], left: list[float], best: int) -> float:
    """Return the lowest place of the parabola through the best and the two beside it."""
    if not 0 < best < len(left) - 1:
        return tried[best]
    curve = np.polyfit(np.array(tried[best - 1 : best + 2]) - tried[best], left[best - 1 : best + 2], 2)
    if curve[0] <= 0:
        return tried[best]
    at = tried[best] - curve[1] / (2 * curve[0])
    return float(np.clip(at, tried[best - 1], tried[best + 1]))
