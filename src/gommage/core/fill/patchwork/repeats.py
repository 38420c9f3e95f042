"""A pattern that repeats exactly, by fractions of a pixel: what a hole hides is seen some whole repeats away."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.picture import Picture, luminance

__all__ = ["likeness", "repeated"]

Mask = NDArray[np.bool_]
Floats = NDArray[np.float64]
LEAST_OVERLAP = 0.1
"""A picture is compared with itself where so much of what is known overlaps."""
LOOKED_AT_PX = 400
"""Repeats are looked for at a size of no more than that."""
SHORTEST_SHARE, SHORTEST_PX = 1 / 30, 6
LEAST_ALIKE, NEARLY = 0.6, 0.85
"""How alike a pattern is to itself one repeat away, and to which share of the most alike the shortest one must be."""
LEAST_ANGLE_DEG = 20.0
LIGHT_SHARE = 0.5
"""What is slower than so much of a repeat is light, not pattern."""
STEPS, STILL_PX, MOST_OFF_PX = 12, 0.003, 3.0
COUNTS = (1, 2, 3, 5, 8)
"""So many repeats away a picture is aligned with itself: the farther, the finer one repeat is known."""
MOST_TOGETHER, MOST_REPEATS = 4, 12
REACH_PX, RING_PX = 4, 48
MOST_SAMPLES = 60_000
SURE, ROUGHLY_SURE = 0.9, 0.85
"""How well repeats tell what is known around a hole, if they are believed: correlation of what is no light. Less than
the second, before they are told exactly, and they are no repeats."""


@dataclass(frozen=True, slots=True)
class _Sight:
    """A pattern without its light: luma (h, w), its slopes, where it is known, and rows and columns of known pixels."""

    luma: Picture
    down: Picture
    across: Picture
    known: Mask
    places: tuple[NDArray[np.intp], NDArray[np.intp]]


def likeness(luma: Picture, known: Mask) -> Picture:
    """Return how alike a picture is to itself at each offset, (2h, 2w), none in the middle: correlation, 0 where little
    of what is known overlaps.

    D. Padfield, Masked object registration in the Fourier domain, 2012, doi:10.1109/TIP.2011.2181402.

    Parameters
    ----------
    luma : (h, w) float32
    known : (h, w) bool
    """
    mask = known.astype(np.float64)
    own = (luma - float(luma[known].mean())) * mask
    shape = tuple(2 * side for side in mask.shape)
    spectrum, of_mask, of_square = (np.fft.rfft2(one, shape) for one in (own, mask, own**2))

    def together(one: NDArray[np.complexfloating], other: NDArray[np.complexfloating]) -> NDArray[np.floating]:
        return np.asarray(np.fft.fftshift(np.fft.irfft2(one * np.conj(other), shape)))

    overlap = together(of_mask, of_mask)
    energy = np.maximum(together(of_square, of_mask), 0) * np.maximum(together(of_mask, of_square), 0)
    alike = together(spectrum, spectrum) / np.sqrt(np.maximum(energy, 1e-12))
    alike[overlap < LEAST_OVERLAP * mask.sum()] = 0
    return alike.astype(np.float32)


def repeated(
    picture: Picture, hole: Mask, is_taken: Mask, check: Callable[[], None] = lambda: None
) -> NDArray[np.float32] | None:
    """Return for each pixel of a hole the offset (row, column), a whole number of repeats, of what is taken: (h, w, 2).

    None where no pattern repeats so exactly that what is around the hole is told by it.

    Parameters
    ----------
    picture : (h, w, 3) float32
        Encoded.
    hole, is_taken : (h, w) bool
        What is closed, and what alone is looked at and taken.
    check : callable
        Called between stages; raises `Cancelled` to stop.
    """
    luma = np.ascontiguousarray(luminance(picture))
    found = _roughly(luma, is_taken)
    if found is None:
        return None
    check()
    reach = LIGHT_SHARE * float(np.hypot(*found.T).max())
    sight = _sight(luma, is_taken, reach)
    ring = cv2.dilate(hole.view(np.uint8), np.ones((2 * RING_PX + 1,) * 2, np.uint8)).astype(bool) & is_taken
    rows, columns = np.nonzero(ring)
    every = max(len(rows) // MOST_SAMPLES, 1)
    around = rows[::every], columns[::every]
    near = [_aligned(sight, side) for side in found]
    if any(side is None for side in near) or _tells(sight, around, _whole_repeats(np.array(near))) < ROUGHLY_SURE:
        return None  # most patterns do not repeat exactly, and that is soon told
    sides = [_refined(sight, side, check) for side in near if side is not None]
    if any(side is None for side in sides):
        return None
    offsets = _whole_repeats(_together(sight, np.array(sides), check))
    if _tells(sight, around, offsets) < SURE:
        return None
    check()
    rows, columns = np.nonzero(hole)
    led, is_led = _led(rows, columns, offsets, sight.known)
    if not is_led.all():
        return None
    out = np.zeros((*hole.shape, 2), np.float32)
    out[rows, columns] = led
    return out


def _tells(sight: _Sight, around: tuple[NDArray[np.intp], NDArray[np.intp]], offsets: Floats) -> float:
    """Return how well offsets tell what is known at places: correlation; 0 where they lead nowhere from too many."""
    rows, columns = around
    led, is_led = _led(rows, columns, offsets, sight.known)
    enough = is_led.sum() >= max(SURE * len(rows), 1)
    return _told(sight, rows[is_led], columns[is_led], led[is_led]) if enough else 0.0


def _roughly(luma: Picture, known: Mask) -> Floats | None:
    """Return two shortest repeats (2, 2) of rows and columns, to a pixel of a size at which that is quick to tell."""
    halvings = max(int(np.ceil(np.log2(max(luma.shape) / LOOKED_AT_PX))), 0)
    scale = 2**halvings
    height, width = luma.shape[0] // scale * scale, luma.shape[1] // scale * scale
    if min(height, width) < 8 * SHORTEST_PX * scale:
        return None

    def smaller(array: Picture) -> Picture:
        blocks = array[:height, :width].reshape(height // scale, scale, width // scale, scale)
        return np.asarray(blocks.mean(axis=(1, 3)), np.float32)

    share = smaller(known.astype(np.float32))
    small, seen = np.asarray(smaller(luma * known) / np.maximum(share, 1e-6), np.float32), share > 0.5
    if seen.mean() < LEAST_OVERLAP:
        return None
    small = _unlit(small, seen, max(small.shape) / 8)
    alike = likeness(small, seen)
    middle = alike.shape[0] // 2, alike.shape[1] // 2
    least = max(SHORTEST_SHARE * max(small.shape), SHORTEST_PX)
    peaks = (alike == cv2.dilate(alike, np.ones((5, 5), np.uint8))) & (alike > LEAST_ALIKE)
    rows, columns = np.nonzero(peaks)
    inside = (rows > 0) & (columns > 0) & (rows < alike.shape[0] - 1) & (columns < alike.shape[1] - 1)
    rows, columns = rows[inside], columns[inside]
    away = np.stack([rows - middle[0], columns - middle[1]], axis=1).astype(np.float64)
    length, value = np.hypot(*away.T), alike[rows, columns]
    far = length >= least
    if not far.any():
        return None
    good = np.nonzero(far & (value >= NEARLY * value[far].max()))[0]
    good = good[np.argsort(length[good], kind="stable")]
    first = good[0]
    turned = np.abs(_cross(away[first], away[good])) / (length[first] * length[good])
    other = good[turned > np.sin(np.deg2rad(LEAST_ANGLE_DEG))]
    if len(other) == 0:
        return None
    chosen = [first, other[0]]
    return np.array([(away[k] + _vertex(alike, rows[k], columns[k])) * scale for k in chosen])


def _cross(one: Floats, others: Floats) -> Floats:
    return np.asarray(one[0] * others[:, 1] - one[1] * others[:, 0])


def _vertex(values: Picture, row: int, column: int) -> Floats:
    """Return how far the top of a peak lies from its highest place."""
    off = list[float]()
    for before, here, after in (values[row - 1 : row + 2, column], values[row, column - 1 : column + 2]):
        bend = float(before - 2 * here + after)
        off.append(0.0 if bend >= 0 else float(np.clip(0.5 * (before - after) / bend, -0.5, 0.5)))
    return np.array(off)


def _unlit(luma: Picture, known: Mask, sigma: float) -> Picture:
    """Return a picture without what is slow in it, 0 where it is not known."""
    mask = known.astype(np.float32)
    share = np.maximum(_slow(mask, sigma), 1e-3)
    out: Picture = (luma - _slow(luma * mask, sigma) / share) * mask
    return out


def _slow(picture: Picture, sigma: float) -> Picture:
    """Return a picture blurred; wide blurs at a smaller size, which they do not miss."""
    step = max(int(sigma / 4), 1)
    height, width = picture.shape
    small = cv2.resize(picture, (-(-width // step), -(-height // step)), interpolation=cv2.INTER_AREA)
    blurred = cv2.GaussianBlur(small, (0, 0), sigma / step, borderType=cv2.BORDER_REFLECT)
    return cv2.resize(blurred, (width, height), interpolation=cv2.INTER_LINEAR)


def _sight(luma: Picture, known: Mask, reach: float) -> _Sight:
    pattern = cv2.GaussianBlur(_unlit(luma, known, reach), (0, 0), 1.0)
    sure = cv2.erode(known.view(np.uint8), np.ones((2 * REACH_PX + 1,) * 2, np.uint8), borderValue=0).astype(bool)
    down, across = (cv2.Sobel(pattern, cv2.CV_32F, x, y, ksize=3, scale=0.125) for x, y in ((0, 1), (1, 0)))
    every = max(int(np.sqrt(sure.sum() / MOST_SAMPLES)), 1)
    rows, columns = np.nonzero(sure[::every, ::every])
    return _Sight(pattern, down, across, sure, (rows * every, columns * every))


def _refined(sight: _Sight, side: Floats, check: Callable[[], None]) -> Floats | None:
    """Return one repeat (row, column) to a fraction of a pixel, from the picture aligned with itself; None if not."""
    found = None
    for count in COUNTS:
        check()
        away = _aligned(sight, count * side)
        if away is None:
            break
        side = found = away / count
    return found


def _together(sight: _Sight, sides: Floats, check: Callable[[], None]) -> Floats:
    """Return both repeats (2, 2) as all ways in which the picture is like itself tell them together."""
    steps = np.arange(-MOST_TOGETHER, MOST_TOGETHER + 1)
    counts = np.stack(np.meshgrid(steps, steps, indexing="ij"), axis=-1).reshape(-1, 2)
    counts = counts[(counts[:, 0] > 0) | ((counts[:, 0] == 0) & (counts[:, 1] > 0))]  # the other half says the same
    told, away = [], []
    for count in counts:
        check()
        found = _aligned(sight, count @ sides)
        if found is not None:
            told.append(count)
            away.append(found)
    return np.asarray(np.linalg.lstsq(np.array(told, float), np.array(away), rcond=None)[0])


def _aligned(sight: _Sight, away: Floats) -> Floats | None:
    """Return an offset at which a picture is like itself, from near it: Gauss-Newton. None if it leads away."""
    height, width = sight.luma.shape
    start = away
    for _ in range(STEPS):
        whole = np.floor(away).astype(np.intp)
        rows, columns = sight.places
        y, x = rows + whole[0], columns + whole[1]
        inside = (y >= 0) & (y < height - 1) & (x >= 0) & (x < width - 1)
        inside[inside] = sight.known[y[inside], x[inside]]
        if inside.sum() < LEAST_OVERLAP * len(rows):
            return None
        rows, columns, y, x = rows[inside], columns[inside], y[inside], x[inside]
        share = (away - whole).astype(np.float32)
        moved, down, across = (_between(one, y, x, share) for one in (sight.luma, sight.down, sight.across))
        off = sight.luma[rows, columns] - moved
        slopes = np.stack([down, across], axis=1).astype(np.float64)
        step = np.linalg.lstsq(slopes, off.astype(np.float64), rcond=None)[0]
        away = away + step
        if np.abs(away - start).max() > MOST_OFF_PX + 0.01 * np.abs(start).max():
            return None
        if np.abs(step).max() < STILL_PX:
            break
    return away


def _between(
    picture: Picture, rows: NDArray[np.intp], columns: NDArray[np.intp], share: NDArray[np.floating]
) -> Picture:
    """Return values (N,) between four pixels, at shares (2,) or (2, N) of the way down and across."""
    above = picture[rows, columns] * (1 - share[1]) + picture[rows, columns + 1] * share[1]
    below = picture[rows + 1, columns] * (1 - share[1]) + picture[rows + 1, columns + 1] * share[1]
    return np.asarray(above * (1 - share[0]) + below * share[0], np.float32)


def _whole_repeats(sides: Floats) -> Floats:
    """Return offsets (N, 2) of whole repeats, the nearest first."""
    steps = np.arange(-MOST_REPEATS, MOST_REPEATS + 1)
    counts = np.stack(np.meshgrid(steps, steps, indexing="ij"), axis=-1).reshape(-1, 2)
    offsets = counts[(counts != 0).any(axis=1)] @ sides
    return np.asarray(offsets[np.argsort(np.hypot(*offsets.T), kind="stable")])


def _led(
    rows: NDArray[np.intp], columns: NDArray[np.intp], offsets: Floats, free: Mask
) -> tuple[NDArray[np.float32], Mask]:
    """Return for places (N,) the nearest offset that leads to what is free, (N, 2), and for which there is one."""
    height, width = free.shape
    led, is_led = np.zeros((len(rows), 2), np.float32), np.zeros(len(rows), bool)
    left = np.arange(len(rows))
    for offset in offsets:
        if len(left) == 0:
            break
        y, x = np.round(rows[left] + offset[0]).astype(int), np.round(columns[left] + offset[1]).astype(int)
        inside = (y >= 0) & (y < height) & (x >= 0) & (x < width)
        good = inside & free[np.clip(y, 0, height - 1), np.clip(x, 0, width - 1)]
        led[left[good]], is_led[left[good]] = offset, True
        left = left[~good]
    return led, is_led


def _told(sight: _Sight, rows: NDArray[np.intp], columns: NDArray[np.intp], led: NDArray[np.float32]) -> float:
    """Return how well known places are told by what is taken for them: correlation."""
    whole = np.floor(led).astype(np.intp)
    told = _between(sight.luma, rows + whole[:, 0], columns + whole[:, 1], (led - whole).T)
    own = sight.luma[rows, columns]
    both = float(told.std() * own.std())
    return float(((told - told.mean()) * (own - own.mean())).mean()) / both if both > 0 else 0.0
