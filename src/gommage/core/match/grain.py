"""Grain: measured on the shot, taken off a still, put on again frame by frame."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import cv2
import numpy as np
from numpy.lib.stride_tricks import sliding_window_view
from numpy.typing import NDArray

from gommage.core.picture import Picture

__all__ = ["Grain", "add_grain", "measure_grain", "without_grain"]

BLOCK = 8
LARGEST_SIZE_PX = 2.0


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


def measure_grain(frame: Picture, neighbours: Sequence[Picture], use: NDArray[np.bool_]) -> Grain | None:
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

    Returns
    -------
    Grain or None
        None if there is too little to measure.
    """
    if len(neighbours) < 2 or use.sum() < 12 * BLOCK**2:
        return None
    matched = [near * _ratio(frame, near, use) for near in neighbours]
    difference = frame - np.mean(matched, axis=0)
    blocks = _blocks(difference, use)
    levels = _blocks(frame, use)
    if len(blocks) < 12:
        return None
    # Of a mean of n resampled frames about 0.7 / n of the variance is left.
    own_share = 1 + 0.7 / len(neighbours)
    blocks = blocks - blocks.mean(axis=(1, 2), keepdims=True)
    variance = (blocks**2).sum(axis=(1, 2)) / (BLOCK**2 - 1) / own_share
    level = np.maximum(levels.mean(axis=(1, 2)), 0)
    calm = variance.sum(axis=1) <= np.quantile(variance.sum(axis=1) / (level.sum(axis=1) + 0.05), 0.8) * (
        level.sum(axis=1) + 0.05
    )
    fits = [_fit_line(level[calm, c], variance[calm, c]) for c in range(3)]
    unit = blocks[calm] / np.sqrt(np.maximum(variance[calm], 1e-12))[:, None, None, :]
    size = _size(unit)
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


def add_grain(picture: Picture, grain: Grain, seed: tuple[int, ...], amount: float = 1.0) -> Picture:
    """Return a picture (h, w, 3) with fresh grain of the shot's kind; the same seed gives the same grain."""
    white = np.random.default_rng(seed).standard_normal(picture.shape, dtype=np.float32)
    mix = np.linalg.cholesky(np.array(grain.correlation) + 1e-6 * np.eye(3)).astype(np.float32)
    kernel = _kernel(grain.size_px)
    soft = cv2.sepFilter2D(cv2.transform(white, mix), cv2.CV_32F, kernel, kernel, borderType=cv2.BORDER_REFLECT)
    soft /= np.float32((kernel**2).sum())
    return picture + soft * grain.deviation(picture) * np.float32(amount)


@lru_cache(maxsize=32)
def _spectrum(size_px: float) -> NDArray[np.float32]:
    """Return the deviation (8, 8) of each cosine coefficient of unit grain."""
    from scipy.fft import dctn  # loaded late, as above

    kernel = _kernel(size_px)
    lags = np.correlate(kernel, kernel, "full")
    lags = lags / lags.max()
    middle = len(lags) // 2
    covariance = np.array(
        [[lags[middle + i - j] if abs(i - j) <= middle else 0 for j in range(BLOCK)] for i in range(BLOCK)]
    )
    cosines = dctn(np.eye(BLOCK), axes=[0], norm="ortho")
    variance = np.maximum(np.diag(cosines @ covariance @ cosines.T), 1e-6)
    return np.sqrt(np.outer(variance, variance)).astype(np.float32)


def without_grain(picture: Picture, grain: Grain, strength: float = 2.7) -> Picture:
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

    References
    ----------
    G. Yu and G. Sapiro, DCT Image Denoising: a Simple and Effective Image Denoising Algorithm, IPOL 1, 2011,
    doi:10.5201/ipol.2011.ys-dct; here with the threshold of each coefficient from the grain's own spectrum.
    """
    from scipy.fft import dctn, idctn  # loaded late, as above

    height, width = picture.shape[:2]
    if min(height, width) < BLOCK:
        return picture
    mean_level = cv2.GaussianBlur(picture, (0, 0), 2.0)
    deviation = grain.deviation(mean_level)
    scaled = picture / deviation
    threshold = _spectrum(round(grain.size_px, 2))[None, None, None] * strength
    total = np.zeros_like(scaled)
    weight = np.zeros((height, width, 1), np.float32)
    rows = np.unique(np.r_[np.arange(0, height - BLOCK, 2), height - BLOCK])
    columns = np.unique(np.r_[np.arange(0, width - BLOCK, 2), width - BLOCK])
    blocks = sliding_window_view(scaled, (BLOCK, BLOCK), axis=(0, 1))[np.ix_(rows, columns)]
    spectrum = dctn(blocks, axes=[3, 4], norm="ortho")
    kept = np.abs(spectrum) > threshold
    kept[..., 0, 0] = True
    clean = idctn(spectrum * kept, axes=[3, 4], norm="ortho").astype(np.float32)
    for i in range(BLOCK):
        for j in range(BLOCK):
            at = np.ix_(rows + i, columns + j)
            total[at] += clean[..., i, j]
            weight[at] += 1
    return (total / weight * deviation).astype(np.float32)
