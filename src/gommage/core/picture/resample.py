"""Resampling: once, through one composed mapping, with one good filter. The only way pixels move.

The half pixel between our coordinates (centres at +0.5) and a library's (integer centres) is added here and
nowhere else.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum
from functools import lru_cache
from typing import NamedTuple

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.geometry import Mapping, Points, Window, around, growth, plain, scaling, shift, then, translation
from gommage.core.picture.pixels import Picture, halved

__all__ = [
    "Filter",
    "Resampled",
    "Splines",
    "resample",
    "sampled_at",
    "spline_coefficients",
    "whole_steps",
    "with_integer_centres",
]

_POLE = np.sqrt(3.0) - 2.0
_TAPS = 21  # the inverse filter falls by 0.268 a pixel: 0.268**11 is below float32's step
SPLINE_MARGIN_PX = _TAPS // 2 + 2
"""Pixels around a window that its spline depends on."""
MUCH_SMALLER = 0.75
"""Below this growth pixels are averaged first."""
PIXELS_SHOW = 3.0
"""From this growth on a viewport shows pixels as squares."""
BETWEEN_PX = 1e-4


class Filter(Enum):
    """How pixels are read between their centres.

    `SPLINE` runs through every pixel and keeps what is sharp: for pixels that leave the program. `LOOK` is for a
    viewport: linear, and squares when very close. Both average where the picture becomes smaller.
    """

    SPLINE = "spline"
    LOOK = "look"


class Resampled(NamedTuple):
    """Pixels (h, w) or (h, w, C) float32, and 1 where they come from the source, 0 elsewhere, (h, w) float32."""

    pixels: Picture
    inside: Picture


@dataclass(frozen=True, slots=True)
class Splines:
    """A window of a picture made ready once to be resampled often.

    Attributes
    ----------
    window : Window
        Where it lies in its picture.
    coefficients : (h, w, C) float32
    """

    window: Window
    coefficients: Picture

    @classmethod
    def of(cls, picture: Picture, window: Window | None = None, taps: int = _TAPS) -> Splines:
        """Return a picture, or a window of it that was cut out, made ready; see `spline_coefficients`."""
        return cls(window or Window.of(picture.shape[1], picture.shape[0]), spline_coefficients(picture, taps))


@lru_cache(maxsize=8)
def _inverse_spline_filter(taps: int) -> NDArray[np.float32]:
    distance: NDArray[np.int64] = np.abs(np.arange(taps) - taps // 2)
    response = _POLE**distance * (-6 * _POLE / (1 - _POLE**2))
    return (response / response.sum()).astype(np.float32)


def spline_coefficients(picture: Picture, taps: int = _TAPS) -> Picture:
    """Return the coefficients of the cubic B-spline that runs through a picture's pixels.

    The recursive filter of Unser is applied as its finite impulse response, cut where it falls below float32's
    precision; the rim is continued by mirroring.

    Parameters
    ----------
    picture : (H, W) or (H, W, C) float32
        Not modified.
    taps : int
        Of the impulse response; 9 are twice as fast and off by a thousandth of the finest detail.

    Returns
    -------
    array of the same shape, float32

    References
    ----------
    M. Unser, Splines: a perfect fit for signal and image processing, IEEE Signal Processing Magazine 16(6),
    1999, doi:10.1109/79.799930.
    """
    inverse = _inverse_spline_filter(taps)
    return cv2.sepFilter2D(
        np.ascontiguousarray(picture), cv2.CV_32F, inverse, inverse, borderType=cv2.BORDER_REFLECT_101
    )


def with_integer_centres(mapping: Mapping) -> NDArray[np.float64]:
    """Return the matrix (3, 3) of a mapping for a library whose pixel centres are whole numbers.

    Raises
    ------
    ValueError
        If the mapping has no matrix.
    """
    if mapping.matrix is None:
        raise ValueError("this mapping has no matrix")
    matrix: NDArray[np.float64] = translation(-0.5, -0.5) @ mapping.matrix @ translation(0.5, 0.5)
    return matrix


def resample(
    source: Picture | Splines,
    source_from_target: Mapping,
    window: Window,
    *,
    at: Window | None = None,
    filter: Filter = Filter.SPLINE,
) -> Resampled:
    """Return a window of a target, read from a source through a mapping.

    Whole pixels are copied, bit for bit. What lies beyond the source continues its rim and is marked in `inside`.

    Parameters
    ----------
    source : (H, W) or (H, W, C) float32, or Splines
        Not modified.
    source_from_target : Mapping
        Takes target positions to positions in the source's picture.
    window : Window
        The pixels of the target that are wanted.
    at : Window, optional
        Where the source lies in its picture, if it was cut out; `Splines` know.
    filter : Filter
    """
    place = source.window if isinstance(source, Splines) else at
    mapping = then(source_from_target, shift(-place.left, -place.top)) if place is not None else source_from_target
    if window.is_empty:
        return _nothing(source, window)
    if isinstance(source, Splines):
        return _by_spline(source.coefficients, mapping, window)
    steps = whole_steps(mapping)
    if steps is not None:
        return _copied(source, window, *steps)
    shrinks = _shrinks_by(mapping, window)
    if filter is Filter.SPLINE and shrinks < 1 / MUCH_SMALLER:
        needed = _needed(source, mapping, window)
        crop = np.ascontiguousarray(source[needed.slices])
        local = then(mapping, shift(-needed.left, -needed.top))
        return _by_spline(spline_coefficients(crop), local, window)
    if shrinks > 1 / MUCH_SMALLER:
        # Average to the power of two that is next above, then interpolate from there.
        level = int(np.clip(np.ceil(np.log2(shrinks) - 0.4), 0, 12))
        source, mapping = halved(source, level), then(mapping, scaling(0.5**level))
    if filter is Filter.SPLINE:
        return _by_spline(spline_coefficients(source), mapping, window)
    return _looked_at(source, mapping, window, squares=shrinks <= 1 / PIXELS_SHOW)


def sampled_at(source: Picture | Splines, points_xy: Points, at: Window | None = None) -> Picture:
    """Return a picture's values (N, C) at points (N, 2), its rim continued.

    A picture that was not made ready is read through the spline's own bell, without what makes it run through the
    pixels: smoothed by a deviation of 0.58 pixels, which measurements on grainy pictures ask for.

    Parameters
    ----------
    source : (H, W, C) float32, or Splines
    points_xy : (N, 2) float64
        In pixels of the picture.
    at : Window, optional
        Where the source lies in its picture, if it was cut out; `Splines` know.
    """
    from gommage.core.picture.kernels import sample_spline_at  # compiled code is loaded late

    values = source.coefficients if isinstance(source, Splines) else source
    place = source.window if isinstance(source, Splines) else at
    points = points_xy if place is None else points_xy - (place.left, place.top)
    out = np.empty((1, len(points), values.shape[2]), np.float32)
    sample_spline_at(np.ascontiguousarray(values), np.ascontiguousarray(points[None]), out, np.empty_like(out[..., 0]))
    return out[0]


def _nothing(source: Picture | Splines, window: Window) -> Resampled:
    pixels = source.coefficients if isinstance(source, Splines) else source
    shape = window.height, window.width
    return Resampled(np.zeros((*shape, *pixels.shape[2:]), np.float32), np.zeros(shape, np.float32))


def whole_steps(mapping: Mapping) -> tuple[int, int] | None:
    """Return by how many whole pixels a mapping shifts, or None if it does anything else."""
    matrix = mapping.matrix
    if matrix is None:
        return None
    (a, b, dx), (c, d, dy), (e, f, _) = matrix.tolist()
    if (a, b, c, d, e, f) != (1, 0, 0, 1, 0, 0):
        return None
    return (int(dx), int(dy)) if dx == int(dx) and dy == int(dy) else None


def _copied(source: Picture, window: Window, dx: int, dy: int) -> Resampled:
    height, width = source.shape[:2]
    rows = np.arange(window.top, window.bottom) + dy
    columns = np.arange(window.left, window.right) + dx
    in_rows, in_columns = (rows >= 0) & (rows < height), (columns >= 0) & (columns < width)
    if in_rows.all() and in_columns.all():
        pixels = source[rows[0] : rows[-1] + 1, columns[0] : columns[-1] + 1].astype(np.float32)
    else:
        pixels = source[np.ix_(np.clip(rows, 0, height - 1), np.clip(columns, 0, width - 1))].astype(np.float32)
    return Resampled(pixels, (in_rows[:, None] & in_columns[None, :]).astype(np.float32))


def _shrinks_by(mapping: Mapping, window: Window) -> float:
    """Return how many source pixels a target pixel spans in the window's middle."""
    found = growth(mapping, np.array([(window.left + window.right) / 2, (window.top + window.bottom) / 2]))
    return found if np.isfinite(found) and found > 0 else 1.0


def _needed(source: Picture, mapping: Mapping, window: Window) -> Window:
    """Return the window of the source that a window of the target reads, its spline's margin included."""
    whole = Window.of(source.shape[1], source.shape[0])
    if mapping.matrix is None:
        return whole
    corners = mapping(window.corners)
    reached = around(corners, SPLINE_MARGIN_PX + 2) & whole
    return whole if reached.is_empty or not np.isfinite(corners).all() else reached


def _by_spline(coefficients: Picture, mapping: Mapping, window: Window) -> Resampled:
    from gommage.core.picture.kernels import sample_spline, sample_spline_at  # compiled code is loaded late

    flat = coefficients if coefficients.ndim == 3 else coefficients[..., None]
    flat = np.ascontiguousarray(flat)
    out = np.empty((window.height, window.width, flat.shape[2]), np.float32)
    inside = np.empty(out.shape[:2], np.float32)
    if mapping.matrix is not None:
        sample_spline(flat, plain(mapping.matrix), window.left, window.top, out, inside)
    else:
        sample_spline_at(flat, np.ascontiguousarray(mapping.field(window)), out, inside)
    return Resampled(out if coefficients.ndim == 3 else out[..., 0], inside)


def _looked_at(source: Picture, mapping: Mapping, window: Window, *, squares: bool) -> Resampled:
    flags = cv2.INTER_NEAREST if squares else cv2.INTER_LINEAR
    if squares:  # centres that fall between two squares must fall to the same one whatever the window
        mapping = then(mapping, shift(BETWEEN_PX, BETWEEN_PX))
    size = window.width, window.height
    nowhere = (float("nan"),) * 4
    source = np.ascontiguousarray(source, np.float32)
    if mapping.matrix is not None:
        matrix = with_integer_centres(then(shift(window.left, window.top), mapping))
        pixels = cv2.warpPerspective(
            source, matrix, size, flags=flags | cv2.WARP_INVERSE_MAP, borderMode=cv2.BORDER_CONSTANT,
            borderValue=nowhere,
        )  # fmt: skip
    else:
        field = (mapping.field(window) - 0.5).astype(np.float32)
        field[~np.isfinite(field)] = -1e6
        border = cv2.BORDER_WRAP if mapping.wraps and field.min() > -1e5 else cv2.BORDER_CONSTANT
        pixels = cv2.remap(source, field, None, flags, borderMode=border, borderValue=nowhere)
    one = pixels if pixels.ndim == 2 else pixels[..., 0]
    off = np.isnan(one)
    pixels[off] = 0.0
    return Resampled(pixels, (~off).astype(np.float32))
