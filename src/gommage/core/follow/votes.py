"""Two places of a plane on a frame that cannot both be right: which of them most of its area speaks for."""

from __future__ import annotations

import cv2
import numpy as np
import scipy.fft
from numpy.typing import NDArray

from gommage.core.follow.align import Pyramid, Template
from gommage.core.geometry import Matrix, Points, Window, apply_matrix, around, translation
from gommage.core.picture import Picture, sampled_at

__all__ = ["CLEAR_MAJORITY", "FARTHEST_PX", "differing", "likely_shifts", "shifted", "votes_ahead"]

LEAST_POINTS = 8
"""A tile of fewer points says nothing."""
CLEAR_MAJORITY = 3.0
"""In deviations of as many tosses of a coin: a lead by so much is none of chance."""
FARTHEST_PX, PEAK_PX = 40, 3
"""So far shifts are looked for, and so far apart."""
DIFFERS, MUCH_WORSE = 0.7, 6.0
"""A tile differs if what it does so by rivals its texture, and is so many times what tiles commonly do."""


def votes_ahead(template: Template, pyramid: Pyramid, one: Matrix, other: Matrix) -> float:
    """Return by how much more of an area speaks for the other of two places, in deviations of as many tosses of a coin.

    What little a plain board shows is worth next to nothing against something rich that passes before it, and yet it is
    most of the area. So each tile has a vote, whatever its contrast: for the place where it looks more like the
    reference.

    Parameters
    ----------
    template : Template
        Of a picture without slow light, so that shade has no vote.
    pyramid : Pyramid
        Of the frame, seen alike.
    one, other : (3, 3) float64
        Reference to frame.
    """
    tiles = template.levels[0].tiles
    off = [_difference(template, pyramid, matrix) ** 2 for matrix in (one, other)]
    both = np.isfinite(off[0]) & np.isfinite(off[1])
    many = np.bincount(tiles[both])
    here, there = (np.bincount(tiles[both], error[both]) for error in off)
    votes = (there < here)[many >= LEAST_POINTS]
    return float((2 * votes.sum() - len(votes)) / np.sqrt(max(len(votes), 1)))


def shifted(
    template: Template, source: Picture, mask: NDArray[np.uint8], picture: Picture, pyramid: Pyramid, guess: Matrix
) -> Matrix:  # fmt: skip
    """Return a guess (reference to frame), shifted to where most of an area looks more like the reference.

    Parameters
    ----------
    template : Template
        Of a picture without slow light.
    source, picture : (H, W, 3) float32
        The frame that the template was made of, and the one that is looked at.
    mask : (H, W) uint8
        Where the area is on the former.
    pyramid : Pyramid
        Of the latter, seen as the template is.
    guess : (3, 3) float64
    """
    sight, half = template.sight, translation(0.5, 0.5)
    window = around(template.levels[0].points, 2) & Window.of(mask.shape[1], mask.shape[0])
    laid = np.linalg.inv(half) @ guess @ translation(window.left, window.top) @ half
    flags = cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP
    seen = cv2.warpPerspective(sight.one_channel(picture), laid, (window.width, window.height), flags=flags)
    reference = sight.one_channel(np.ascontiguousarray(source[window.slices]))
    shifts = likely_shifts(sight.blurred(reference), sight.blurred(seen), mask[window.slices])
    places = [guess @ translation(*shift) for shift in shifts]
    leads = [votes_ahead(template, pyramid, guess, place) for place in places]
    best = int(np.argmax(leads))
    return places[best] if leads[best] > CLEAR_MAJORITY else guess


def likely_shifts(reference: Picture, seen: Picture, mask: NDArray[np.uint8], count: int = 3) -> list[Points]:
    """Return by how much a picture may be shifted, (2,) whole pixels each, the likeliest first.

    Those by which the two correlate most, each farther from those before it than `PEAK_PX`; none by more than
    `FARTHEST_PX`.

    Parameters
    ----------
    reference, seen : (h, w) float32
        Without slow light and of even contrast, so that what is plain counts as much as what is rich.
    mask : (h, w) uint8
        Above 0 where the reference is looked at.
    """
    size = [scipy.fft.next_fast_len(side + FARTHEST_PX) for side in mask.shape]
    one, two = (scipy.fft.rfft2(picture, size) for picture in (np.where(mask > 0, reference, 0), seen))
    alike = scipy.fft.irfft2(np.conj(one) * two, size)
    reach = np.arange(-FARTHEST_PX, FARTHEST_PX + 1)
    alike = alike[np.ix_(reach, reach)]
    shifts: list[Points] = []
    for _ in range(count):
        row, column = np.unravel_index(int(alike.argmax()), alike.shape)
        shifts.append(np.array([reach[column], reach[row]], float))
        alike[max(row - PEAK_PX, 0) : row + PEAK_PX + 1, max(column - PEAK_PX, 0) : column + PEAK_PX + 1] = -np.inf
    return shifts


def differing(template: Template, pyramid: Pyramid, matrix: Matrix) -> Points:
    """Return the points (N, 2) of tiles that show something else than the reference at a place.

    Parameters
    ----------
    template : Template
    pyramid : Pyramid
        Of the frame, seen alike.
    matrix : (3, 3) float64
        Reference to frame.
    """
    data = template.levels[0]
    off = _difference(template, pyramid, matrix)
    seen = np.isfinite(off)
    many = np.bincount(data.tiles[seen], minlength=int(data.tiles.max()) + 1)
    error, texture = (_spread(data.tiles[seen], one[seen], many) for one in (off, data.values))
    told = many >= LEAST_POINTS
    if not told.any():
        return np.zeros((0, 2))
    differs = told & (error > DIFFERS * texture) & (error > MUCH_WORSE * np.median(error[told]))
    points: Points = data.points[differs[data.tiles]]
    return points


def _spread(tiles: NDArray[np.int64], values: NDArray[np.float64], many: NDArray[np.int64]) -> NDArray[np.float64]:
    """Return the variance of values by tile: light is even over one."""
    count = np.maximum(many, 1)
    mean = np.bincount(tiles, values, len(many)) / count
    spread: NDArray[np.float64] = np.bincount(tiles, (values - mean[tiles]) ** 2, len(many)) / count
    return spread


def _difference(template: Template, pyramid: Pyramid, matrix: Matrix) -> NDArray[np.float64]:
    """Return by how much a frame differs from each point of a template at a place; NaN out of sight."""
    data, coefficients = template.levels[0], pyramid.levels[0]
    seen = apply_matrix(matrix, data.points) - pyramid.origin
    inside = ((seen >= 1) & (seen < (coefficients.shape[1] - 1, coefficients.shape[0] - 1))).all(axis=1)
    out = np.full(len(seen), np.nan)
    out[inside] = sampled_at(coefficients[..., None], seen[inside])[:, 0] - data.values[inside]
    return out
