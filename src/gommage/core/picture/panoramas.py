"""Pictures of all directions: flat views of them, and flat pictures written back."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import cv2
import numpy as np

from gommage.core.geometry import FlatView, Window
from gommage.core.picture.pixels import Picture
from gommage.core.picture.resample import SPLINE_MARGIN_PX, spline_coefficients

__all__ = ["flat_view", "wrapped", "written_back"]

ROWS_AT_ONCE = 256
"""A view is made in bands of so many rows, each of some ten milliseconds."""
BLOCK_PX = 256
THREADS = 2
SAMPLES = 2
"""Samples along either axis of a panorama's pixel: fine pattern of the finer flat picture must not flicker."""
LEAST_ALPHA = 1e-6


def wrapped(panorama: Picture, window: Window) -> Picture:
    """Return a window of a panorama (H, W, ...) that may reach over its sides and its poles."""
    height, width = panorama.shape[:2]
    if window.left >= 0 and window.right <= width and window.top >= 0 and window.bottom <= height:
        return panorama[window.slices]
    rows, columns = np.arange(window.top, window.bottom), np.arange(window.left, window.right)
    beyond = (rows < 0) | (rows >= height)
    mirrored = np.where(rows < 0, -1 - rows, np.where(rows >= height, 2 * height - 1 - rows, rows))
    out = panorama[mirrored.clip(0, height - 1)[:, None], (columns % width)[None]]
    if beyond.any():  # past a pole the picture goes on at the opposite longitude
        opposite = (columns + width // 2) % width
        out[beyond] = panorama[mirrored[beyond].clip(0, height - 1)[:, None], opposite[None]]
    return np.ascontiguousarray(out)


def flat_view(
    panorama: Picture, view_from_panorama: FlatView, window: Window, check: Callable[[], None] = lambda: None
) -> Picture:
    """Return a window of a flat view of a panorama (H, W, 3), through one cubic spline: (h, w, 3) float32.

    Seam and poles are whole. `check` is called between bands of rows.
    """
    from gommage.core.picture.kernels import sample_spline_at  # compiled: loaded late

    height, width = panorama.shape[:2]
    out = np.zeros((window.height, window.width, 3), np.float32)
    panorama_from_view = view_from_panorama.inverse()
    seen = _seen(window, view_from_panorama, (width, height))
    near = seen.window.grown(SPLINE_MARGIN_PX)
    flat = spline_coefficients(wrapped(panorama, near))

    def of_band(top: int) -> None:
        check()
        band = Window(window.left, top, window.right, min(top + ROWS_AT_ONCE, window.bottom))
        field = panorama_from_view.field(band)
        field[..., 0] = (field[..., 0] - seen.middle + width / 2) % width + seen.middle - width / 2
        field -= (near.left, near.top)
        inside = np.ones((band.height, band.width), np.float32)
        sample_spline_at(flat, field, out[top - window.top : top - window.top + band.height], inside)

    with ThreadPoolExecutor(THREADS) as pool:
        list(pool.map(of_band, range(window.top, window.bottom, ROWS_AT_ONCE)))
    return out


@dataclass(frozen=True, slots=True)
class _Seen:
    """What of a panorama a view sees: a window, which may reach over its sides, and the longitude in its middle."""

    window: Window
    middle: float


def _seen(at: Window, view_from_panorama: FlatView, size_wh: tuple[int, int]) -> _Seen:
    """Return what of a panorama a window of a view may reach; with a pole in it all columns."""
    width, height = size_wh
    wide = at.grown(2)
    x, y = np.linspace(wide.left, wide.right, 33), np.linspace(wide.top, wide.bottom, 33)
    places = view_from_panorama.inverse()(np.stack(np.meshgrid(x, y), axis=-1)).reshape(-1, 2)
    top, bottom = int(np.floor(places[:, 1].min())) - 2, int(np.ceil(places[:, 1].max())) + 2
    poles = view_from_panorama(np.array([[width / 2, 0.0], [width / 2, float(height)]]))
    has_pole = [bool(wide.left <= x <= wide.right and wide.top <= y <= wide.bottom) for x, y in poles]
    top, bottom = 0 if has_pole[0] else max(top, 0), height if has_pole[1] else min(bottom, height)
    middle = float(places[len(places) // 2, 0])
    around = (places[:, 0] - middle + width / 2) % width - width / 2
    left, right = int(np.floor(middle + around.min())) - 2, int(np.ceil(middle + around.max())) + 2
    if any(has_pole) or right - left >= width:
        left = int(np.floor(middle - width / 2))
        right = left + width
    return _Seen(Window(left, top, right, bottom), middle)


def written_back(
    flat: Picture,
    alpha: Picture,
    at: Window,
    view_from_panorama: FlatView,
    size_wh: tuple[int, int],
    check: Callable[[], None] = lambda: None,
) -> list[tuple[Window, Picture, Picture]]:
    """Return flat pixels as they lie in the panorama: windows of it, pixels (h, w, 3), and alpha (h, w).

    Only blocks in which there is alpha are made; each pixel is the mean of several samples, by their alpha.

    Parameters
    ----------
    flat, alpha : (h, w, 3), (h, w) float32
        A window of the flat view.
    at : Window
        Where that is in the view.
    view_from_panorama : FlatView
    size_wh : tuple of int
        Of the panorama.
    check : callable
        Called between blocks.
    """
    found: list[tuple[Window, Picture, Picture]] = []
    premultiplied = np.dstack([flat * alpha[..., None], alpha])
    for block in _blocks(at, view_from_panorama, size_wh):
        check()
        total = np.zeros((block.height, block.width, 4), np.float32)
        for dy in range(SAMPLES):
            for dx in range(SAMPLES):
                x = np.arange(block.left, block.right) + (dx + 0.5) / SAMPLES
                y = np.arange(block.top, block.bottom) + (dy + 0.5) / SAMPLES
                places = view_from_panorama(np.stack(np.meshgrid(x, y), axis=-1))
                places = (places - (at.left + 0.5, at.top + 0.5)).astype(np.float32)
                places[~np.isfinite(places)] = -1e6
                total += cv2.remap(premultiplied, places, None, cv2.INTER_CUBIC, borderMode=cv2.BORDER_CONSTANT)
        total /= SAMPLES**2
        covered = np.clip(total[..., 3], 0.0, 1.0)
        covered[covered < LEAST_ALPHA] = 0.0
        if covered.any():
            pixels: Picture = total[..., :3] / np.maximum(total[..., 3:], np.float32(LEAST_ALPHA))
            found.append((block, np.ascontiguousarray(pixels, np.float32), covered))
    return found


def _blocks(at: Window, view_from_panorama: FlatView, size_wh: tuple[int, int]) -> list[Window]:
    """Return blocks of the panorama that a window of the view may reach; near a pole all its columns."""
    width, seen = size_wh[0], _seen(at, view_from_panorama, size_wh).window
    found = []
    for start in range(seen.left, seen.right, BLOCK_PX):
        first = start % width
        last = first + min(BLOCK_PX, seen.right - start)
        for low, high in ((first, min(last, width)), (0, last - width)):
            rows = range(seen.top, seen.bottom, BLOCK_PX) if high > low else ()
            found += [Window(low, row, high, min(row + BLOCK_PX, seen.bottom)) for row in rows]
    return found
