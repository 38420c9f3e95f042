"""Clean plates, carried along their surface."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from gommage.core.picture import Matrix, Picture, Window, spline_coefficients, translation, warp_spline

__all__ = ["PlatePixels", "carried", "plate_weights"]


@dataclass(frozen=True, slots=True)
class PlatePixels:
    """A window of a clean plate, ready to be resampled: spline coefficients (h, w, 3) and where they lie."""

    window: Window
    coefficients: Picture

    @classmethod
    def of(cls, pixels: Picture, window: Window) -> PlatePixels:
        """Return the plate's pixels (h, w, 3) of a window, prepared."""
        return cls(window, spline_coefficients(pixels))


def plate_weights(home_frames: tuple[int, ...], frame: int) -> tuple[float, ...]:
    """Return each plate's share on a frame: the two that lie around it blend, before and after one is alone.

    Raises
    ------
    ValueError
        If there is no plate.
    """
    if not home_frames:
        raise ValueError("there is no plate to weigh")
    before = [(home, index) for index, home in enumerate(home_frames) if home <= frame]
    after = [(home, index) for index, home in enumerate(home_frames) if home > frame]
    weights = [0.0] * len(home_frames)
    if before and after:
        (first, i), (last, j) = max(before), min(after)
        share = (frame - first) / (last - first)
        weights[i], weights[j] = 1 - share, share
    else:
        weights[(max(before) if before else min(after))[1]] = 1.0
    return tuple(weights)


def carried(plate: PlatePixels, frame_from_plate: Matrix, window: Window) -> tuple[Picture, Picture]:
    """Bring a plate to a frame, resampled once.

    Parameters
    ----------
    plate : PlatePixels
    frame_from_plate : (3, 3) float64
        Takes plate pixels to the frame's.
    window : Window
        Of the frame.

    Returns
    -------
    pixels : (h, w, 3) float32
    valid : (h, w) float32
        1 where the plate has pixels, 0 elsewhere.
    """
    crop_from_plate = translation(-plate.window.left, -plate.window.top)
    return warp_spline(plate.coefficients, crop_from_plate @ np.linalg.inv(frame_from_plate), window)
