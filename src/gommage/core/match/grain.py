"""Grain: measured on the shot, taken off a still, put on again frame by frame."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.geometry import Window, plain
from gommage.core.picture import Picture

__all__ = ["DENOISE_MARGIN_PX", "Grain", "add_grain", "gaussian_lags", "grain_field", "measure_grain", "without_grain"]

BLOCK = 8
DENOISE_MARGIN_PX = 16
"""Pixels around a window that its freeing from grain depends on: a block, and the blur that its level is taken from."""
ROWS_AT_ONCE = 12
Check = Callable[[], None]
WHITE_PX, LARGEST_SIZE_PX = 0.2, 2.0
LAGS = 5
ACROSS = np.arange(-LAGS, LAGS + 1)
Lags = tuple[tuple[float, ...], ...]
CHANCE = 3.0
"""What is related by less than so many deviations of chance is not."""
GRAINLESS = 1e-10
"""Variance below which there is no grain: deviations of some thousandths of what eight bits tell apart."""
NEARLY_ALL, LEAST_PASS = 0.999, 0.01


def _never() -> None:
    """Call nothing off."""


@dataclass(frozen=True, slots=True)
class Grain:
    """A shot's grain: variance ``floor + slope * level`` a channel, its spectrum, and how channels go together.

    Attributes
    ----------
    floor, slope : tuple of float
        For red, green, blue, of scene-linear values.
    lags : tuple of tuple of float
        How pixels are related to those so many rows (0 to `LAGS`) below and columns (-`LAGS` to `LAGS`) beside them: 1
        where both are 0. That is its spectrum.
    correlation : tuple of tuple of float
        (3, 3), between the channels.
    """

    floor: tuple[float, float, float]
    slope: tuple[float, float, float]
    lags: Lags
    correlation: tuple[tuple[float, ...], ...] = ((1.0, 0.0, 0.0), (0.0, 1.0, 0.0), (0.0, 0.0, 1.0))

    @property
    def size_px(self) -> float:
        """Deviation of the Gaussian that white noise would be blurred with for pixels side by side to be so related."""
        return _size(self.lags)

    def deviation(self, level: Picture) -> Picture:
        """Return the deviation (..., 3) at scene-linear levels (..., 3)."""
        floor, slope = np.array(self.floor, np.float32), np.array(self.slope, np.float32)
        return np.sqrt(floor + slope * np.maximum(level, 0))

    def averaged(self, level: int) -> Grain:
        """Return the grain of the same shot averaged down, `level` times by a half."""
        return self if level == 0 else _averaged(self, level)


@lru_cache(maxsize=64)
def _averaged(grain: Grain, level: int) -> Grain:
    """Return grain averaged down; it is asked for with each patch."""
    factor = 2**level
    kernel = _kernel(grain.lags).astype(np.float64)
    pad = LAGS * factor
    mean = cv2.filter2D(np.pad(kernel, pad + factor), -1, np.full((factor, factor), factor**-2.0))
    related = [
        [float((mean * np.roll(mean, (down * factor, across * factor), (0, 1))).sum()) for across in ACROSS]
        for down in range(LAGS + 1)
    ]
    share = related[0][LAGS]
    lags = tuple(tuple(value / share for value in row) for row in related)
    return Grain(
        tuple(value * share for value in grain.floor),  # type: ignore[arg-type]
        tuple(value * share for value in grain.slope),  # type: ignore[arg-type]
        lags,
        grain.correlation,
    )


def gaussian_lags(size_px: float) -> Lags:
    """Return the lags of white noise blurred with a Gaussian of a deviation in pixels."""
    kernel = cv2.getGaussianKernel(2 * LAGS + 1, size_px)[:, 0] if size_px >= WHITE_PX else np.array([1.0])
    related = np.correlate(np.pad(kernel, 2 * LAGS), kernel, "valid")
    related = related[len(related) // 2 :][: LAGS + 1] / related.max()
    row = related[np.abs(ACROSS)]
    return tuple(tuple((down * row).tolist()) for down in related.tolist())


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
        None if there is too little to measure, or none at all.
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
    if np.median(variance.sum(axis=1)) < GRAINLESS:
        return None  # drawn by a program, or always the same picture
    level = np.maximum(levels.mean(axis=(1, 2)), 0)
    calm = variance.sum(axis=1) <= np.quantile(variance.sum(axis=1) / (level.sum(axis=1) + 0.05), 0.8) * (
        level.sum(axis=1) + 0.05
    )
    fits = [_fit_line(level[calm, c], variance[calm, c]) for c in range(3)]
    check()
    # By what such levels vary as a whole: by each block's own they would seem less related.
    expected = np.column_stack([fit[0] + fit[1] * level[calm, c] for c, fit in enumerate(fits)])
    unit = blocks[calm] / np.sqrt(np.maximum(expected, 1e-12))[:, None, None, :]
    check()
    lags = _lags(unit)
    check()
    correlation = np.corrcoef(unit.reshape(-1, 3).T)
    floor = tuple(max(fit[0], 1e-12) for fit in fits)
    slope = tuple(fit[1] for fit in fits)
    return Grain(floor, slope, lags, tuple(tuple(float(v) for v in row) for row in correlation))  # type: ignore[arg-type]


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


def _lags(unit: NDArray[np.float64]) -> Lags:
    """Return how pixels of blocks (N, 8, 8, 3) are related; what chance explains is nothing."""
    found, chance = np.zeros((2, LAGS + 1, len(ACROSS)))
    for down in range(LAGS + 1):
        for column, across in enumerate(ACROSS.tolist()):
            one = unit[:, down:, max(across, 0) : BLOCK + min(across, 0)]
            other = unit[:, : BLOCK - down, max(-across, 0) : BLOCK - max(across, 0)]
            found[down, column], chance[down, column] = float((one * other).mean()), CHANCE / np.sqrt(one.size)
    # Blocks lost their mean, and with it so much of every relation: what is far apart is not related at all.
    far = found[np.maximum(np.arange(LAGS + 1)[:, None], np.abs(ACROSS)) == LAGS].mean() / found[0, LAGS]
    lost = max(-far / (1 - far), 0.0)
    true = found * (1 - lost) + lost * found[0, LAGS]
    true[np.abs(true) < chance] = 0
    return tuple(tuple((row / true[0, LAGS]).tolist()) for row in true)


@lru_cache(maxsize=64)
def _kernel(lags: Lags) -> NDArray[np.float32]:
    """Return what white noise is to be filtered with to be so related: (k, k), of square sum 1, no larger than need be.

    It has no phase: its spectrum is the root of that of the lags.
    """
    side = 8 * LAGS
    related = np.zeros((side, side))
    for down, row in enumerate(lags):
        for across, value in zip(ACROSS.tolist(), row, strict=True):
            related[down, across % side] = related[-down % side, -across % side] = value
    power = np.maximum(np.fft.fft2(related).real, 0)
    kernel = np.fft.fftshift(np.fft.ifft2(np.sqrt(power)).real)
    middle = side // 2
    for half in range(LAGS + 1):
        inner = kernel[middle - half : middle + half + 1, middle - half : middle + half + 1]
        if (inner**2).sum() > NEARLY_ALL * (kernel**2).sum():
            break
    return np.asarray(inner / np.sqrt((inner**2).sum()), np.float32)


@lru_cache(maxsize=64)
def _passes(lags: Lags) -> tuple[tuple[NDArray[np.float32], NDArray[np.float32]], ...]:
    """Return the kernel as a sum of few that are products of a column and a row: faster, and to the bit the same in
    every window.
    """
    columns, sizes, rows = np.linalg.svd(_kernel(lags))
    count = int((sizes > LEAST_PASS * sizes[0]).sum())
    return tuple((columns[:, one] * sizes[one], rows[one]) for one in range(count))


@lru_cache(maxsize=64)
def _size(lags: Lags) -> float:
    wanted = (lags[0][LAGS + 1] + lags[1][LAGS]) / 2
    sizes = np.arange(WHITE_PX, LARGEST_SIZE_PX, 0.02)
    found = np.array([gaussian_lags(size)[1][LAGS] for size in sizes])
    return 0.0 if wanted < found[0] else float(sizes[np.abs(found - wanted).argmin()])


def grain_field(grain: Grain, seed: tuple[int, ...], window: Window) -> Picture:
    """Return fresh grain of deviation 1, of the shot's size and colours, over a window: (h, w, 3) float32.

    The same seed gives the same grain at every pixel, whatever the window: each place has a number of its own.
    """
    kernel = _kernel(grain.lags)
    margin = len(kernel) // 2
    white = _white(seed, window.grown(margin))
    mixed = cv2.transform(white, _mix(grain.correlation))
    (down, across), *others = _passes(grain.lags)
    soft = cv2.sepFilter2D(mixed, cv2.CV_32F, across, down, borderType=cv2.BORDER_REFLECT)
    for down, across in others:
        soft += cv2.sepFilter2D(mixed, cv2.CV_32F, across, down, borderType=cv2.BORDER_REFLECT)
    return soft[margin : margin + window.height, margin : margin + window.width]


@lru_cache(maxsize=64)
def _mix(correlation: tuple[tuple[float, ...], ...]) -> NDArray[np.float32]:
    """Return what makes channels that know nothing of each other go together so: (3, 3)."""
    return np.linalg.cholesky(np.array(correlation) + 1e-6 * np.eye(3)).astype(np.float32)


def _white(seed: tuple[int, ...], window: Window) -> Picture:
    from gommage.core.match.kernels import white_noise  # compiled code is loaded late

    out = np.empty((window.height, window.width, 3), np.float32)
    white_noise(_seed_of(seed), window.left, window.top, out)
    return out


@lru_cache(maxsize=512)
def _seed_of(seed: tuple[int, ...]) -> np.uint64:
    """Return one number for several."""
    return np.uint64(np.random.SeedSequence(list(seed)).generate_state(1, np.uint64)[0])


def add_grain(
    picture: Picture, grain: Grain, seed: tuple[int, ...], amount: float = 1.0, at: Window | None = None,
    share: Picture | None = None,
) -> Picture:  # fmt: skip
    """Return a picture (h, w, 3) with fresh grain of the shot's kind; see `grain_field`.

    `at` is where the picture lies in its frame, `share` (h, w) how much of its grain each pixel lacks; None: all.
    """
    from gommage.core.match.kernels import grained  # compiled code is loaded late

    window = at or Window.of(picture.shape[1], picture.shape[0])
    field, out = grain_field(grain, seed, window), np.empty(picture.shape, np.float32)
    floor, slope = np.array((grain.floor, grain.slope), np.float32)
    each = np.ones(picture.shape[:2], np.float32) if share is None else np.ascontiguousarray(share)
    picture, field = (plain(one, np.float32) for one in (picture, field))
    grained(picture, field, floor, slope, np.float32(amount), each, out)
    return out


@lru_cache(maxsize=32)
def _spectrum(lags: Lags) -> NDArray[np.float32]:
    """Return the deviation (8, 8) of each cosine coefficient of unit grain."""
    cosines = _cosines().astype(np.float64)
    shifted = {
        by: (
            cosines[:, max(by, 0) :] * cosines[:, : BLOCK - by] if by >= 0 else cosines[:, :by] * cosines[:, -by:]
        ).sum(1)
        for by in range(-LAGS, LAGS + 1)
    }
    variance = np.zeros((BLOCK, BLOCK))
    for down, row in enumerate(lags):
        for across, value in zip(ACROSS.tolist(), row, strict=True):
            times = 1 if down == 0 else 2  # rows above are related as those below
            variance += times * value * np.outer(shifted[down], shifted[abs(across)])
    return np.sqrt(np.maximum(variance, 1e-6)).astype(np.float32)


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
    threshold = _spectrum(grain.lags) * np.float32(strength)
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
