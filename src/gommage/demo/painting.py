"""Painting with code: paper, washes and ink lines on (H, W, 3) float32 canvases in linear light.

Colours are given as sRGB hex, as one picks them; everything is drawn twice as large as it is seen.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter1d

from gommage.core.geometry import Window, around

__all__ = ["Canvas", "linear", "paper_grain", "smooth_noise"]

Floats = NDArray[np.float32]
Outline = NDArray[np.floating[Any]] | Sequence[tuple[float, float]]
_SUBPIXEL_BITS = 4


def linear(colour: str) -> Floats:
    """Return linear RGB (3,) of an sRGB hex colour like ``d9a441``."""
    srgb = np.array([int(colour[i : i + 2], 16) for i in (0, 2, 4)]) / 255
    return np.where(srgb <= 0.04045, srgb / 12.92, ((srgb + 0.055) / 1.055) ** 2.4).astype(np.float32)


def smooth_noise(size_wh: tuple[int, int], scale_px: float, rng: np.random.Generator) -> Floats:
    """Return smooth noise (H, W) of mean 0 and deviation 1 with features of about `scale_px`."""
    width, height = size_wh
    coarse = rng.standard_normal((int(height / scale_px) + 4, int(width / scale_px) + 4)).astype(np.float32)
    noise = cv2.resize(coarse, (width, height), interpolation=cv2.INTER_CUBIC)
    return (noise - noise.mean()) / (noise.std() + 1e-6)


def paper_grain(size_wh: tuple[int, int], rng: np.random.Generator, strength: float = 0.05) -> Floats:
    """Return the multiplier (H, W) of a rough cardboard: blotches, tooth and short fibres."""
    width, height = size_wh
    tooth = cv2.GaussianBlur(rng.standard_normal((height, width)).astype(np.float32), (0, 0), 1.3)
    fibres = cv2.GaussianBlur(rng.standard_normal((height, width)).astype(np.float32), (0, 0), sigmaX=6, sigmaY=0.9)
    mixed = tooth / tooth.std() + 0.7 * fibres / fibres.std()
    mixed += 0.8 * smooth_noise(size_wh, 9, rng) + 0.5 * smooth_noise(size_wh, 90, rng)
    return np.exp(strength * mixed / 1.5).astype(np.float32)


class Canvas:
    """A sheet of cardboard that is painted on.

    Attributes
    ----------
    colour : (H, W, 3) float32, linear light
    alpha : (H, W) float32
        Where there is cardboard; 1 unless cut out.
    """

    def __init__(self, size_wh: tuple[int, int], ground: str, seed: int) -> None:
        self.size_wh = size_wh
        self.rng = np.random.default_rng(seed)
        self.colour = np.empty((size_wh[1], size_wh[0], 3), np.float32)
        self.colour[:] = linear(ground)
        self.alpha = np.ones(self.colour.shape[:2], np.float32)

    def mask(self, points: Outline) -> Floats:
        """Return the antialiased inside (H, W) of a polygon."""
        return self._local_mask(np.asarray(points, np.float64), Window.of(*self.size_wh))

    def _window(self, points: NDArray[np.float64], margin: float) -> Window:
        return around(points, margin) & Window.of(*self.size_wh)

    @staticmethod
    def _local_mask(points: NDArray[np.float64], window: Window) -> Floats:
        mask = np.zeros((window.height, window.width), np.uint8)
        fixed = np.round((points - (window.left, window.top)) * 2**_SUBPIXEL_BITS).astype(np.int32)
        cv2.fillPoly(mask, [fixed], 255, lineType=cv2.LINE_AA, shift=_SUBPIXEL_BITS)
        return mask.astype(np.float32) / np.float32(255)

    def _lay(self, window: Window, pigment: Floats, cover: Floats) -> None:
        region = self.colour[window.slices]
        region += (pigment - region) * cover[..., None]

    def wash(self, points: Outline, colour: str, strength: float = 0.9) -> None:
        """Lay a watercolour wash: uneven inside, darker where it dried along its rim."""
        outline = np.asarray(points, np.float64)
        window = self._window(outline, 4)
        if window.is_empty:
            return
        size = window.width, window.height
        mask = self._local_mask(outline, window)
        rim = mask * (1 - cv2.GaussianBlur(mask, (0, 0), 5)) * 1.3
        uneven = 1 + 0.16 * smooth_noise(size, 46, self.rng) + 0.06 * smooth_noise(size, 11, self.rng)
        cover = np.clip(mask * strength * uneven + 0.35 * rim * strength, 0, 1)
        self._lay(window, linear(colour) * (1 - 0.45 * rim[..., None]), cover.astype(np.float32))

    def fill(self, points: Outline, colour: str, strength: float = 1.0) -> None:
        """Lay flat paint."""
        outline = np.asarray(points, np.float64)
        window = self._window(outline, 2)
        if not window.is_empty:
            self._lay(window, linear(colour), self._local_mask(outline, window) * strength)

    def ink(
        self,
        points: Outline,
        width: float = 3.0,
        colour: str = "2b1d18",
        strength: float = 0.8,
        *,
        closed: bool = False,
        wobble: float = 1.2,
    ) -> None:
        """Draw a line by a slightly unsteady hand whose pen runs wet and dry."""
        path = _evenly(np.asarray(points, np.float64), 7.0, closed=closed)
        path = path + _smooth_along(self.rng.standard_normal(path.shape), 4) * wobble * 3
        press = _smooth_along(self.rng.standard_normal((len(path), 1)), 5)[:, 0]
        window = self._window(path, 2 * width + 2)
        if window.is_empty:
            return
        mask = np.zeros((window.height, window.width), np.uint8)
        fixed = np.round((path - (window.left, window.top)) * 2**_SUBPIXEL_BITS).astype(np.int32)
        for one, other, pressure in zip(fixed[:-1], fixed[1:], press, strict=False):
            thick = max(round(width * (1 + 0.9 * float(pressure))), 1)
            cv2.line(mask, one.tolist(), other.tolist(), 255, thick, cv2.LINE_AA, _SUBPIXEL_BITS)
        self._lay(window, linear(colour), (mask.astype(np.float32) / 255 * strength).astype(np.float32))

    def text(self, words: str, at: tuple[float, float], scale: float, thickness: int, colour: str) -> None:
        """Letter by hand."""
        mask = np.zeros(self.colour.shape[:2], np.uint8)
        origin = round(at[0]), round(at[1])
        cv2.putText(mask, words, origin, cv2.FONT_HERSHEY_DUPLEX, scale, 255, thickness, cv2.LINE_AA)
        self.colour += (linear(colour) - self.colour) * (mask.astype(np.float32) / 255)[..., None]

    def shade(self, multiplier: Floats) -> None:
        """Multiply the paint by a (H, W) factor."""
        self.colour *= multiplier[..., None]

    def cut(self, points: Outline) -> None:
        """Cut a hole; the cardboard's edge catches the light."""
        hole = self.mask(points)
        edge = np.clip(cv2.GaussianBlur(hole, (0, 0), 2.2) - hole, 0, 1)[..., None]
        self.colour += (linear("e8cfa6") - self.colour) * edge * 0.9
        self.alpha *= 1 - hole

    def finish(self, grain: Floats) -> Floats:
        """Return premultiplied RGBA (H, W, 4) on cardboard of a grain (H, W), see `paper_grain`."""
        self.shade(grain)
        return np.dstack([self.colour * self.alpha[..., None], self.alpha]).astype(np.float32)


def _smooth_along(noise: NDArray[np.float64], sigma: float) -> NDArray[np.float64]:
    return gaussian_filter1d(noise, sigma, axis=0, mode="nearest")


def _evenly(points: NDArray[np.float64], step: float, *, closed: bool) -> NDArray[np.float64]:
    if closed:
        points = np.vstack([points, points[:1]])
    lengths = np.r_[0, np.cumsum(np.hypot(*np.diff(points, axis=0).T))]
    where = np.linspace(0, lengths[-1], max(int(lengths[-1] / step), 2))
    return np.column_stack([np.interp(where, lengths, points[:, 0]), np.interp(where, lengths, points[:, 1])])
