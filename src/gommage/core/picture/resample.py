"""Resampling: once, through one composed mapping, with one good filter.

The half pixel between our coordinates (centres at +0.5) and a library's (integer centres) is added here and
nowhere else.
"""

from __future__ import annotations

import cv2
import numpy as np

from gommage.core.picture.windows import Matrix, Picture, Window, translation

__all__ = ["spline_coefficients", "view", "warp", "warp_spline"]

_POLE = np.sqrt(3.0) - 2.0
_TAPS = 21  # the inverse filter falls by 0.268 a pixel: 0.268**11 is below float32's step


def _inverse_spline_filter() -> np.ndarray:
    distance = np.abs(np.arange(_TAPS) - _TAPS // 2)
    taps = _POLE**distance * (-6 * _POLE / (1 - _POLE**2))
    return (taps / taps.sum()).astype(np.float32)


_INVERSE_SPLINE = _inverse_spline_filter()


def spline_coefficients(picture: Picture) -> Picture:
    """Return the coefficients of the cubic B-spline that runs through a picture's pixels.

    The recursive filter of Unser is applied as its finite impulse response, cut where it falls below float32's
    precision; the rim is continued by mirroring.

    Parameters
    ----------
    picture : (H, W) or (H, W, C) float32
        Not modified.

    Returns
    -------
    array of the same shape, float32

    References
    ----------
    M. Unser, Splines: a perfect fit for signal and image processing, IEEE Signal Processing Magazine 16(6),
    1999, doi:10.1109/79.799930.
    """
    return cv2.sepFilter2D(
        np.ascontiguousarray(picture),
        cv2.CV_32F,
        _INVERSE_SPLINE,
        _INVERSE_SPLINE,
        borderType=cv2.BORDER_REFLECT_101,
    )


def warp_spline(coefficients: Picture, source_from_target: Matrix, window: Window) -> tuple[Picture, Picture]:
    """Sample spline coefficients through a mapping, within a window of the target.

    Parameters
    ----------
    coefficients : (H, W, C) float32
        From `spline_coefficients`.
    source_from_target : (3, 3) float64
        Takes target positions to source positions.
    window : Window
        The pixels of the target that are wanted.

    Returns
    -------
    pixels : (h, w, C) float32
    inside : (h, w) float32
        1 where the position lies on the source, 0 elsewhere.
    """
    from gommage.core.picture.kernels import sample_spline  # compiled code is loaded late

    out = np.empty((window.height, window.width, coefficients.shape[2]), np.float32)
    inside = np.empty(out.shape[:2], np.float32)
    sample_spline(coefficients, np.ascontiguousarray(source_from_target), window.left, window.top, out, inside)
    return out, inside


def warp(picture: Picture, source_from_target: Matrix, window: Window) -> tuple[Picture, Picture]:
    """Resample a picture through a mapping with the interpolating cubic B-spline; see `warp_spline`."""
    return warp_spline(spline_coefficients(picture), source_from_target, window)


def view(picture: Picture, view_from_picture: Matrix, size_wh: tuple[int, int], outside: float = 0.0) -> Picture:
    """Return what a viewport shows of a picture: averaged when smaller, linear when larger, pixels when close.

    For looking only; pixels that leave the program go through `warp_spline`.

    Parameters
    ----------
    picture : (H, W) or (H, W, 3) float32
        Not modified.
    view_from_picture : (3, 3) float64
        Takes picture positions to viewport positions.
    size_wh : tuple of int
        Width and height of the viewport.
    outside : float
        Value where there is no picture.

    Returns
    -------
    (h, w) or (h, w, 3) float32
    """
    scale = np.sqrt(abs(np.linalg.det(view_from_picture[:2, :2])))
    matrix = view_from_picture
    if scale < 0.75:
        # Average to the power of two that is next above, then interpolate from there.
        factor = 2 ** int(np.ceil(np.log2(1 / scale) - 0.4))
        height, width = picture.shape[:2]
        small = max(width // factor, 1), max(height // factor, 1)
        picture = cv2.resize(picture, small, interpolation=cv2.INTER_AREA)
        matrix = matrix @ np.diag([width / small[0], height / small[1], 1.0])
    to_integer_centres = translation(-0.5, -0.5) @ matrix @ translation(0.5, 0.5)
    return cv2.warpPerspective(
        picture,
        to_integer_centres,
        size_wh,
        flags=cv2.INTER_NEAREST if scale >= 3.0 else cv2.INTER_LINEAR,
        borderMode=cv2.BORDER_CONSTANT,
        borderValue=(outside,) * 4,
    )
