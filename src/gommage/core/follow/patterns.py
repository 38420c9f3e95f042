"""Patterns: what the surroundings of a spot look like, and where they are found on a frame."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.document import MotionModel, PointsFollow, Surface
from gommage.core.follow.align import Alignment, Template, align, make_pyramid, make_template
from gommage.core.follow.sight import Sight, choose_sight, noise_of
from gommage.core.geometry import Matrix, Points, Window, apply_matrix, around, translation
from gommage.core.picture import Picture, luminance
from gommage.errors import FollowError

__all__ = [
    "SMALLEST_SEARCH_PX",
    "Pattern",
    "Seen",
    "choose_pattern",
    "detect_spots",
    "local_turn",
    "looked_for",
    "pattern_at",
    "spots_near",
]

PATTERN_SIDES_PX = (15, 21, 27, 35, 45)
WANTED_ERROR_PX = 0.05
"""The smallest pattern is taken whose texture promises to be found this well."""
WIDER, WIDEST_PX = 2.2, 71.0
"""Where a pattern is not found clearly, one that is so many times wider is looked for: a small one vanishes in blur."""
BLURRED = 0.4
"""A pattern that moves by so many times its side in a frame's time is blurred so much that the wider one is taken."""
SMALLEST_SEARCH_PX = 16.0
LARGEST_SEARCH_PX = 96.0
WIDEST_SEARCH_PX = 160.0
CLEAR, CLEARER = 0.95, 0.1
"""A place less alike than this is looked for further away too, and left for another that is so much more alike."""
WORTH_TURNING = 0.0005
"""A pattern's turn and growth are taken where they make it so much more alike."""
SEEN, SEEN_FAR = 0.70, 0.86
"""Correlation above which a spot counts as seen, and where it is far from where it was expected."""
DOUBT_AT_THE_RIM = 0.25
"""By how much more alike a place at the rim of the search must be than one where the spot is expected."""
ALIKE = 0.03
"""A pattern that turned or grew by less than this is looked for as it is."""
NEAR_PX = 90.0
"""Spots are looked for at least this far around the middle of those there are."""
LEAST_SLIP_PX = 0.005


def choose_pattern(picture: Picture, x: float, y: float) -> float:
    """Return the side in pixels of the square around a spot that is worth comparing.

    Parameters
    ----------
    picture : (H, W, 3) float32
        Scene-linear.
    x, y : float
        The spot, in pixels.

    Notes
    -----
    The error of a found position is about ``noise * sqrt(2 / lambda)``, lambda being the lesser eigenvalue of the sum
    of the gradients' outer products: J. Shi and C. Tomasi, Good Features to Track, CVPR 1994.
    """
    bounds = Window.of(picture.shape[1], picture.shape[0])
    largest = _square(x, y, PATTERN_SIDES_PX[-1] + 4) & bounds
    if largest.is_empty:
        raise FollowError("The spot is outside the picture.")
    crop = luminance(np.ascontiguousarray(picture[largest.slices]))
    noise = max(noise_of(crop, np.ones(crop.shape, np.uint8)), 1e-6)
    soft = cv2.GaussianBlur(crop, (0, 0), 0.8)
    gx = cv2.Sobel(soft, cv2.CV_32F, 1, 0, ksize=3, scale=1 / 8)
    gy = cv2.Sobel(soft, cv2.CV_32F, 0, 1, ksize=3, scale=1 / 8)
    for side in PATTERN_SIDES_PX:
        inner = (_square(x, y, side) & bounds).within(largest)
        a, b, c = (float((one * other)[inner].sum()) for one, other in ((gx, gx), (gx, gy), (gy, gy)))
        lesser = (a + c) / 2 - np.hypot((a - c) / 2, b)
        if lesser > 0 and noise * np.sqrt(2 / lesser) < WANTED_ERROR_PX:
            return float(side)
    return float(PATTERN_SIDES_PX[-1])


def detect_spots(picture: Picture, outline: Points, count: int = 12) -> NDArray[np.float64]:
    """Return up to `count` places (N, 2) inside an outline that will be easy to follow, best first.

    Parameters
    ----------
    picture : (H, W, 3) float32
        Scene-linear.
    outline : (M, 2) float64
        In pixels.

    References
    ----------
    J. Shi and C. Tomasi, Good Features to Track, CVPR 1994.
    """
    light = luminance(picture)
    mask = np.zeros(light.shape, np.uint8)
    cv2.fillPoly(mask, [np.round(outline - 0.5).astype(np.int32)], 255)
    inside = around(outline) & Window.of(light.shape[1], light.shape[0])
    if inside.is_empty:
        return np.empty((0, 2))
    apart = max(np.sqrt(mask.astype(bool).sum() / max(count, 1)) * 0.6, 8.0)
    soft = cv2.GaussianBlur(np.sqrt(np.maximum(light, 0)), (0, 0), 1.2)
    found = cv2.goodFeaturesToTrack(soft, count, 0.02, apart, mask=mask, blockSize=9)
    return np.empty((0, 2)) if found is None else found[:, 0].astype(float) + 0.5


def spots_near(picture: Picture, surface: Surface, count: int = 12) -> NDArray[np.float64]:
    """Return places (N, 2), on the home frame, for more spots of a surface: around and between those there are.

    Parameters
    ----------
    picture : (H, W, 3) float32
        The home frame.
    surface : Surface
        Of kind points.
    """
    corners = surface.corners
    middle = corners.mean(axis=0)
    wide = middle + (corners - middle) * np.maximum(1.0, NEAR_PX / np.maximum(np.abs(corners - middle), 1.0))
    assert isinstance(surface.how, PointsFollow)
    known = np.array([(spot.x, spot.y) for spot in surface.how.spots])
    found = detect_spots(picture, wide, count + len(known))
    far = [place for place in found if np.hypot(*(known - place).T).min() > 8]
    return np.array(far[:count]).reshape(-1, 2)


def _square(x: float, y: float, side: float) -> Window:
    half = side / 2
    return around(np.array([[x - half, y - half], [x + half, y + half]]))


@dataclass(frozen=True, slots=True)
class Pattern:
    """A spot's looks on one frame: from its feature there, `offset` leads to the spot.

    `patch` is the picture around it, blurred; `x`, `y` count in its pixels, of which the first is `origin` in the
    frame; `placed` is where the surface was. `wider` is the same with more of the surroundings.
    """

    template: Template
    patch: Picture
    x: float
    y: float
    origin: tuple[int, int]
    placed: Matrix
    offset: tuple[float, float]
    side: float
    wider: Pattern | None = None


@dataclass(frozen=True, slots=True)
class Seen:
    """One spot on one frame.

    Attributes
    ----------
    x, y : float
        In pixels.
    turned : (3, 3) float64
        How the pattern is turned and grown since it was taken.
    stretched : (2, 2) float64
        The same with all that the pattern tells, shear and foreshortening too.
    """

    x: float
    y: float
    slip_px: float
    correlation: float
    turned: Matrix
    stretched: NDArray[np.floating[Any]]


def pattern_at(
    picture: Picture, x: float, y: float, placed: Matrix, offset: tuple[float, float] = (0.0, 0.0), side: float = 0.0
) -> Pattern:
    """Return the pattern around a feature.

    Parameters
    ----------
    picture : (H, W, 3) float32
    x, y : float
        The feature, in pixels.
    placed : (3, 3) float64
        Where the surface is, home to frame.
    offset : tuple of float
        From the feature to the spot.
    side : float
        In pixels; 0 chooses it by the texture.

    Raises
    ------
    FollowError
        If there is nothing there that could be followed.
    """
    side = side or choose_pattern(picture, x, y)
    narrow = _made(picture, x, y, placed, offset, side)
    try:
        wider = _made(picture, x, y, placed, offset, min(round(WIDER * side) // 2 * 2 + 1.0, max(WIDEST_PX, side)))
    except FollowError:
        return narrow
    return replace(narrow, wider=wider)


def _made(picture: Picture, x: float, y: float, placed: Matrix, offset: tuple[float, float], side: float) -> Pattern:
    bounds = Window.of(picture.shape[1], picture.shape[0])
    window = _square(x, y, side) & bounds
    wide = window.grown(16) & bounds
    crop = np.ascontiguousarray(picture[wide.slices])
    mask = np.zeros(crop.shape[:2], np.uint8)
    mask[window.within(wide)] = 1
    sight: Sight = choose_sight(crop, mask)
    here = np.array([[x, y]] * 4) - (wide.left, wide.top)
    template = make_template(crop, mask, here, sight)
    patch = sight.blurred(sight.one_channel(crop))
    return Pattern(template, patch, x - wide.left, y - wide.top, (wide.left, wide.top), placed, offset, side)


def looked_for(
    picture: Picture,
    pattern: Pattern,
    expected: Points,
    search_px: float,
    speed_px: float,
    turned: Matrix,
    moved_px: float = 0.0,
) -> Seen | None:
    """Return where a spot is around its expected place, or None if it is not seen.

    Parameters
    ----------
    picture : (H, W, 3) float32
    pattern : Pattern
    expected : (2,) float64
        Where the spot should be.
    search_px : float
        How far around that it is looked for; 0 chooses it by `speed_px`, by which it was off lately.
    turned : (3, 3) float64
        How the pattern should be turned and stretched since it was taken.
    moved_px : float
        By how much it moves in a frame's time: blur grows with it, and so does the pattern.
    """
    if pattern.wider is not None and moved_px > BLURRED * pattern.side:
        pattern = pattern.wider
    found = _looked_for(picture, pattern, expected, search_px, speed_px, turned)
    if pattern.wider is None or (found is not None and found.correlation >= CLEAR):
        return found
    wider = _looked_for(picture, pattern.wider, expected, search_px, speed_px, turned)
    return wider if found is None or (wider is not None and wider.correlation > found.correlation) else found


def _looked_for(
    picture: Picture, pattern: Pattern, spot: Points, search_px: float, speed_px: float, turned: Matrix
) -> Seen | None:
    expected = spot - pattern.offset
    search = near_px = search_px or float(np.clip(2 * speed_px + 8, SMALLEST_SEARCH_PX, LARGEST_SEARCH_PX))
    bounds = Window.of(picture.shape[1], picture.shape[0])
    patch, feature = _seen_patch(pattern, turned)
    sight = pattern.template.sight
    place = _searched(picture, patch, feature, expected, search, sight)
    if not search_px and (place is None or place[2] < CLEAR):
        further = _searched(picture, patch, feature, expected, WIDEST_SEARCH_PX, sight)
        if further is not None and (place is None or further[2] > place[2] + CLEARER):
            place, search = further, WIDEST_SEARCH_PX
    if place is None or place[2] < SEEN - 0.15:
        return None
    x, y, _ = place
    least = SEEN if np.abs(np.array([x, y]) - expected).max() <= near_px else SEEN_FAR
    start = translation(x, y) @ turned @ translation(-pattern.x, -pattern.y)
    pyramid = make_pyramid(picture, 1, sight, _square(x, y, pattern.side + 24) & bounds)
    found = align(pattern.template, pyramid, start, MotionModel.SHIFT, levels=1)
    if pattern.side >= PATTERN_SIDES_PX[0] and _alike(found) >= SEEN:
        # A pattern that turned or grew is found better by a motion that allows for it; it must not run away.
        freer = align(pattern.template, pyramid, found.matrix, MotionModel.SIMILARITY, levels=1)
        if _alike(freer) > _alike(found) + WORTH_TURNING:
            found = freer
    if _alike(found) < least or not np.isfinite(found.slip_px):
        return None
    x, y = apply_matrix(found.matrix, np.array([pattern.x, pattern.y])) + pattern.offset
    if max(abs(x - spot[0]), abs(y - spot[1])) > search + 2:
        return None
    freest = align(pattern.template, pyramid, found.matrix, MotionModel.AFFINE, levels=1)
    stretched = (freest if _alike(freest) > _alike(found) else found).matrix[:2, :2]
    linear = np.eye(3)
    linear[:2, :2] = found.matrix[:2, :2]
    return Seen(float(x), float(y), max(found.slip_px, LEAST_SLIP_PX), _alike(found), linear, stretched)


def _searched(
    picture: Picture, patch: Picture, feature: tuple[float, float], expected: Points, search: float, sight: Sight
) -> tuple[float, float, float] | None:
    """Return where a pattern's feature is most likely, around where it is expected, and how alike it is.

    None where the search lies outside the picture. Of two places alike the one is taken that is nearer.
    """
    height, width = patch.shape
    bounds = Window.of(picture.shape[1], picture.shape[0])
    window = _square(float(expected[0]), float(expected[1]), max(height, width) + 2 * search) & bounds
    if window.is_empty or window.width <= width or window.height <= height:
        return None
    wide = sight.blurred(sight.one_channel(np.ascontiguousarray(picture[window.slices])))
    answer = np.nan_to_num(cv2.matchTemplate(wide, patch, cv2.TM_CCOEFF_NORMED), nan=-1.0)
    rows, columns = np.ogrid[: answer.shape[0], : answer.shape[1]]
    away_x, away_y = columns + window.left + feature[0] - expected[0], rows + window.top + feature[1] - expected[1]
    nearer = answer - DOUBT_AT_THE_RIM * (away_x**2 + away_y**2) / search**2
    _, _, _, (left, top) = cv2.minMaxLoc(nearer)
    return window.left + left + feature[0], window.top + top + feature[1], float(answer[top, left])


def _alike(found: Alignment) -> float:
    """Return how much a pattern looks as it did: what was voted out of so small a square counts against it."""
    return found.correlation * found.agreeing


def _seen_patch(pattern: Pattern, turned: Matrix) -> tuple[Picture, tuple[float, float]]:
    """Return a pattern's square as it should look, turned and stretched, and where its feature is in it."""
    height, width = pattern.patch.shape
    inner = _square(pattern.x, pattern.y, pattern.side) & Window.of(width, height)
    if np.abs(turned - np.eye(3)).max() < ALIKE:
        return pattern.patch[inner.slices], (pattern.x - inner.left, pattern.y - inner.top)
    side = int(pattern.side)
    patch_from_pattern = translation(side / 2, side / 2) @ turned @ translation(-pattern.x, -pattern.y)
    to_integer_centres = translation(-0.5, -0.5) @ patch_from_pattern @ translation(0.5, 0.5)
    border = cv2.BORDER_REFLECT_101
    patch = cv2.warpAffine(
        pattern.patch, to_integer_centres[:2], (side, side), flags=cv2.INTER_LINEAR, borderMode=border
    )
    return patch, (side / 2, side / 2)


def local_turn(matrix: Matrix, at: Points) -> Matrix:
    """Return how a motion turns and stretches what is around a place (2,): (3, 3), without the shift."""
    depth = float(matrix[2, :2] @ at + matrix[2, 2])
    moved = apply_matrix(matrix, at)
    out = np.eye(3)
    out[:2, :2] = (matrix[:2, :2] - np.outer(moved, matrix[2, :2])) / depth
    return out if np.isfinite(out).all() else np.eye(3)
