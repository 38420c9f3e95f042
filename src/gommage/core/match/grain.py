"""Grain: measured on the shot, taken off a still, put on again frame by frame."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.geometry import Window
from gommage.core.picture import Picture

__all__ = ["DENOISE_MARGIN_PX", "Grain", "add_grain", "grain_field", "measure_grain", "without_grain"]

BLOCK = 8
DENOISE_MARGIN_PX = 16
"""Pixels around a window that its freeing from grain depends on: a block, and the blur that its level is taken from."""
NOISE_TILE_PX = 64
ROWS_AT_ONCE = 12
Check = Callable[[], None]
FAR = 1 << 20
LARGEST_SIZE_PX = 2.0


def _never() -> None:
    """Call nothing off."""


@dataclass(frozen=True, slots=True)
class Grain:
    """A shot's grain: variance ``floor + slope * level`` a channel, its size, and how channels go together.

    Attributes
    ----------
    floor, slope : tuple of float
        For red, green, blue, of scene-linear values.
    size_px : float
        Deviation of the Gaussian that white noise would be blurred with to look like it; 0 is white.
    correlation : tuple of tuple of float
        (3, 3), between the channels.
    """

    floor: tuple[float, float, float]
    slope: tuple[float, float, float]
    size_px: float
    correlation: tuple[tuple[float, ...], ...] = ((1.0, 0.0, 0.0), (0.0, 1.0, 0.0), (0.0, 0.0, 1.0))

    def deviation(self, level: Picture) -> Picture:
        """Return the deviation (..., 3) at scene-linear levels (..., 3)."""
        floor, slope = np.array(self.floor, np.float32), np.array(self.slope, np.float32)
        return np.sqrt(floor + slope * np.maximum(level, 0))

    def averaged(self, level: int) -> Grain:
        """Return the grain of the same shot averaged down, `level` times by a half."""
        if level == 0:
            return self
        factor = 2**level
        kernel = _kernel(self.size_px)
        mean = np.convolve(kernel, np.full(factor, 1 / factor))
        share = float((mean**2).sum() / (kernel**2).sum()) ** 2
        return Grain(
            tuple(value * share for value in self.floor),  # type: ignore[arg-type]
            tuple(value * share for value in self.slope),  # type: ignore[arg-type]
            self.size_px / factor,
            self.correlation,
        )


def measure_grain(
    frame: Picture, neighbours: Sequence[Picture], use: NDArray[np.bool_], check: Check = _never
) -> Grain | None:
    """Measure grain as what a frame does not share with its neighbours, aligned and light-matched.

    Texture of the subject cancels, so that rough paper is not taken for grain. The neighbours' mean keeps a little
    grain of its own, which is allowed for.

    Parameters
    ----------
    frame : (h, w, 3) float32
        A window of one frame, scene-linear.
    neighbours : sequence of (h, w, 3) float32
        The same window of other frames, brought along the surface.
    use : (h, w) bool
        Where all of them show the surface.
    check : callable
        Called between stages; may raise `Cancelled`.

    Returns
    -------
    Grain or None
        None if there is too little to measure.
    """
    if len(neighbours) < 2 or use.sum() < 12 * BLOCK**2:
        return None
    mean = np.zeros_like(frame)
    for near in neighbours:
        check()
        mean += near * _ratio(frame, near, use) / np.float32(len(neighbours))
    check()
    blocks = _blocks(frame - mean, use)
    levels = _blocks(frame, use)
    if len(blocks) < 12:
        return None
    # Of a mean of n resampled frames about 0.7 / n of the variance is left.
    own_share = 1 + 0.7 / len(neighbours)
    check()
    blocks = blocks - blocks.mean(axis=(1, 2), keepdims=True)
    variance = (blocks**2).sum(axis=(1, 2)) / (BLOCK**2 - 1) / own_share
    level = np.maximum(levels.mean(axis=(1, 2)), 0)
    calm = variance.sum(axis=1) <= np.quantile(variance.sum(axis=1) / (level.sum(axis=1) + 0.05), 0.8) * (
        level.sum(axis=1) + 0.05
    )
    fits = [_fit_line(level[calm, c], variance[calm, c]) for c in range(3)]
    check()
    unit = blocks[calm] / np.sqrt(np.maximum(variance[calm], 1e-12))[:, None, None, :]
    check()
    size = _size(unit)
    check()
    correlation = np.corrcoef(unit.reshape(-1, 3).T)
    floor = tuple(max(fit[0], 1e-12) for fit in fits)
    slope = tuple(fit[1] for fit in fits)
    return Grain(floor, slope, size, tuple(tuple(float(v) for v in row) for row in correlation))  # type: ignore[arg-type]


def _ratio(frame: Picture, near: Picture, use: NDArray[np.bool_]) -> NDArray[np.float32]:
    return (frame[use].mean(axis=0) / np.maximum(near[use].mean(axis=0), 1e-6)).astype(np.float32)


def _blocks(picture: Picture, use: NDArray[np.bool_]) -> NDArray[np.float64]:
    """Return all whole blocks (N, 8, 8, 3) that lie within `use`."""
    rows, columns = picture.shape[0] // BLOCK * BLOCK, picture.shape[1] // BLOCK * BLOCK
    tiles = picture[:rows, :columns].reshape(rows // BLOCK, BLOCK, columns // BLOCK, BLOCK, 3).swapaxes(1, 2)
    whole = use[:rows, :columns].reshape(rows // BLOCK, BLOCK, columns // BLOCK, BLOCK).all(axis=(1, 3))
    return tiles[whole].astype(np.float64)


def _fit_line(level: NDArray[np.float64], variance: NDArray[np.float64]) -> tuple[float, float]:
    """Return floor and slope, neither below 0, through the variances; weighed by what they are worth."""
    from scipy.optimize import nnls  # loaded late: it costs the start of the program half a second

    weight = 1 / np.maximum(variance.mean() + (variance.mean() / max(level.mean(), 1e-6)) * level, 1e-12)
    design = np.column_stack([np.ones_like(level), level]) * weight[:, None]
    solution, _ = nnls(design, variance * weight)
    return float(solution[0]), float(solution[1])


def _kernel(size_px: float) -> NDArray[np.float64]:
    if size_px < 0.2:
        return np.array([0.0, 0.0, 1.0, 0.0, 0.0])
    taps: NDArray[np.float64] = cv2.getGaussianKernel(9, size_px)[:, 0]
    return taps


def _neighbour_correlation(kernel: NDArray[np.float64]) -> float:
    return float((kernel[1:] * kernel[:-1]).sum() / (kernel**2).sum())


def _size(unit: NDArray[np.float64]) -> float:
    """Return the grain's size from the correlation of pixels side by side."""
    across = (unit[:, :, 1:] * unit[:, :, :-1]).mean()
    down = (unit[:, 1:] * unit[:, :-1]).mean()
    # Blocks lost their mean; that lowers every correlation by about the mean's own variance.
    wanted = (across + down) / 2 + 1 / BLOCK**2
    sizes = np.arange(0.2, LARGEST_SIZE_PX, 0.02)
    found = np.array([_neighbour_correlation(_kernel(size)) for size in sizes])
    return 0.0 if wanted < found[0] else float(sizes[np.abs(found - wanted).argmin()])


def grain_field(grain: Grain, seed: tuple[int, ...], window: Window) -> Picture:
    """Return fresh grain of deviation 1, of the shot's size and colours, over a window: (h, w, 3) float32.

    The same seed gives the same grain at every pixel, whatever the window: it is drawn square by square.
    """
    kernel = _kernel(grain.size_px)
    margin = len(kernel) // 2
    white = _white(seed, window.grown(margin))
    mix = np.linalg.cholesky(np.array(grain.correlation) + 1e-6 * np.eye(3)).astype(np.float32)
    soft = cv2.sepFilter2D(cv2.transform(white, mix), cv2.CV_32F, kernel, kernel, borderType=cv2.BORDER_REFLECT)
    soft = soft[margin : margin + window.height, margin : margin + window.width]
    return soft / np.float32((kernel**2).sum())


def _white(seed: tuple[int, ...], window: Window) -> Picture:
    side = NOISE_TILE_PX
    whole = window.aligned(side)
    out = np.empty((window.height, window.width, 3), np.float32)
    for top in range(whole.top, whole.bottom, side):
        for left in range(whole.left, whole.right, side):
            tile = Window(left, top, left + side, top + side)
            rng = np.random.Generator(np.random.SFC64((*seed, top + FAR, left + FAR)))
            noise = rng.standard_normal((side, side, 3), dtype=np.float32)
            shared = tile & window
            out[shared.within(window)] = noise[shared.within(tile)]
    return out


def add_grain(
    picture: Picture, grain: Grain, seed: tuple[int, ...], amount: float = 1.0, at: Window | None = None
) -> Picture:
    """Return a picture (h, w, 3) with fresh grain of the shot's kind; see `grain_field`.

    `at` is where the picture lies in its frame.
    """
    window = at or Window.of(picture.shape[1], picture.shape[0])
    return picture + grain_field(grain, seed, window) * grain.deviation(picture) * np.float32(amount)


@lru_cache(maxsize=32)
def _spectrum(size_px: float) -> NDArray[np.float32]:
    """Return the deviation (8, 8) of each cosine coefficient of unit grain."""
    kernel = _kernel(size_px)
    lags = np.correlate(kernel, kernel, "full")
    lags = lags / lags.max()
    middle = len(lags) // 2
    covariance = np.array(
        [[lags[middle + i - j] if abs(i - j) <= middle else 0 for j in range(BLOCK)] for i in range(BLOCK)]
    )
    cosines = _cosines().astype(np.float64)
    variance = np.maximum(np.diag(cosines @ covariance @ cosines.T), 1e-6)
    return np.sqrt(np.outer(variance, variance)).astype(np.float32)


def without_grain(
    picture: Picture, grain: Grain, strength: float = 2.7, at: tuple[int, int] = (0, 0), check: Check = _never
) -> Picture:
    """Return a still without its grain.

    Values are first scaled so that grain has deviation 1 everywhere; then every overlapping 8x8 block keeps only
    those cosine coefficients that rise out of the grain.

    Parameters
    ----------
    picture : (h, w, 3) float32
        Scene-linear, at least 8 pixels each way (smaller ones come back as they are).
    grain : Grain
    strength : float
        Deviations that a coefficient must rise above.
    at : tuple of int
        Where the picture's first pixel lies in its frame (left, top): blocks begin on even pixels of the frame, so that
        a window of the result equals, but for `DENOISE_MARGIN_PX` at its rim, the result of the window.
    check : callable
        Called every few rows; may raise `Cancelled`.

    References
    ----------
    G. Yu and G. Sapiro, DCT Image Denoising: a Simple and Effective Image Denoising Algorithm, IPOL 1, 2011,
    doi:10.5201/ipol.2011.ys-dct; here with the threshold of each coefficient from the grain's own spectrum.
    """
    from gommage.core.match.kernels import threshold_blocks  # compiled code is loaded late

    height, width = picture.shape[:2]
    if min(height, width) < BLOCK:
        return picture
    mean_level = cv2.GaussianBlur(picture, (0, 0), 2.0)
    deviation = grain.deviation(mean_level)
    scaled = np.ascontiguousarray(picture / deviation, np.float32)
    threshold = _spectrum(round(grain.size_px, 2)) * np.float32(strength)
    total = np.zeros_like(scaled)
    weight = np.zeros((height, width), np.float32)
    rows = np.unique(np.r_[np.arange(at[1] % 2, height - BLOCK + 1, 2), 0, height - BLOCK])
    columns = np.unique(np.r_[np.arange(at[0] % 2, width - BLOCK + 1, 2), 0, width - BLOCK])
    for start in range(0, len(rows), ROWS_AT_ONCE):
        check()
        some = rows[start : start + ROWS_AT_ONCE]
        threshold_blocks(scaled, _cosines(), threshold, some, columns, total, weight)
    return (total / weight[..., None] * deviation).astype(np.float32)


@lru_cache(maxsize=1)
def _cosines() -> NDArray[np.float32]:
    """Return the orthonormal cosine transform (8, 8): a row a frequency."""
    k, n = np.mgrid[:BLOCK, :BLOCK]
    table = np.cos(np.pi * (2 * n + 1) * k / (2 * BLOCK)) * np.sqrt(2 / BLOCK)
    table[0] /= np.sqrt(2)
    return table.astype(np.float32)
