"""Align a home picture's area to a frame: Gauss-Newton on pixel differences, coarse to fine."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.document import MotionModel
from gommage.core.picture import (
    Matrix,
    Picture,
    Points,
    apply_matrix,
    around,
    spline_coefficients,
    translation,
)
from gommage.core.picture.windows import Window
from gommage.errors import FollowError

__all__ = ["Alignment", "Pyramid", "Template", "align", "make_pyramid", "make_template"]

MOTIONS = {
    MotionModel.SHIFT: 2,
    MotionModel.SIMILARITY: 4,
    MotionModel.AFFINE: 6,
    MotionModel.PERSPECTIVE: 8,
}
SMALLEST_SIDE_PX = 20
"""The area's shorter side on the coarsest level."""
PREFILTER_SIGMA_PX = 0.6
TILE_PX = 16
STRONGEST_SHARE = 0.4
LEAST_POINTS = 60
CONVERGED_PX = 0.004
CAUCHY_SCALE = 2.4
"""Residuals of this many deviations count half: 95 % efficient on normal noise."""
GRAIN_CORRELATION = 4.8
"""Pixels of grain and prefilter that vary together, in effect: what the figure of slip is multiplied by.
Calibrated on the demo's truth (docs/accuracy.md)."""


@dataclass(frozen=True, slots=True)
class Pyramid:
    """A picture and its halvings, as spline coefficients; level k is 2**k times smaller, x / 2**k exactly."""

    levels: tuple[Picture, ...]


@dataclass(frozen=True, slots=True)
class _Level:
    points: Points
    normalised: Points
    values: NDArray[np.float64]
    gradient: NDArray[np.float64]
    blocks: NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class Template:
    """What is known of an area on its home frame.

    Attributes
    ----------
    levels : tuple
        Fine to coarse: positions, values and slopes of the points that are compared.
    corners : (4, 2) float64
        The corners of the area's box on the home frame.
    area_points : (N, 2) float64
        The area's outline.
    """

    levels: tuple[_Level, ...]
    centre: Points
    reach: float
    corners: Points
    area_points: Points

    @property
    def points_inside(self) -> Points:
        """Some hundreds of points spread over the area: (N, 2)."""
        return self.levels[-1].points


@dataclass(frozen=True, slots=True)
class Alignment:
    """The outcome of one alignment.

    Attributes
    ----------
    home_to_frame : (3, 3) float64
    correlation : float
        Between home and frame over the points that took part, -1 to 1.
    visible : float
        Share of the area's points that lie in the frame.
    agreeing : float
        Share of the visible points that were not voted out.
    slip_px : float
        Expected error of the area's corners.
    """

    home_to_frame: Matrix
    correlation: float
    visible: float
    agreeing: float
    slip_px: float


def _half(picture: Picture) -> Picture:
    height, width = picture.shape[:2]
    even = picture[: height - height % 2, : width - width % 2]
    return cv2.resize(even, (width // 2, height // 2), interpolation=cv2.INTER_AREA)


def make_pyramid(luminance: Picture, levels: int) -> Pyramid:
    """Return a picture's pyramid of `levels` levels.

    Parameters
    ----------
    luminance : (H, W) float32
        Scene-linear.
    """
    picture = cv2.GaussianBlur(luminance, (0, 0), PREFILTER_SIGMA_PX)
    out = [spline_coefficients(picture)]
    for _ in range(levels - 1):
        picture = _half(picture)
        out.append(spline_coefficients(picture))
    return Pyramid(tuple(out))


def make_template(luminance: Picture, area_points: Points) -> Template:
    """Return the template of an area on its home frame.

    Parameters
    ----------
    luminance : (H, W) float32
        The home frame.
    area_points : (N, 2) float64
        The area's outline, in pixels.

    Raises
    ------
    FollowError
        If the area is outside the picture, too small, or without texture.
    """
    height, width = luminance.shape
    inside = around(area_points) & Window.of(width, height)
    if inside.is_empty or min(inside.width, inside.height) < 8:
        raise FollowError("The area is too small or outside the picture. Draw it at least 8 pixels across, inside.")
    centre = np.array([(inside.left + inside.right) / 2, (inside.top + inside.bottom) / 2])
    reach = max(inside.width, inside.height) / 2
    count = int(np.clip(np.log2(min(inside.width, inside.height) / SMALLEST_SIDE_PX), 0, 5)) + 1
    picture = cv2.GaussianBlur(luminance, (0, 0), PREFILTER_SIGMA_PX)
    levels = []
    for level in range(count):
        levels.append(_make_level(picture, area_points, level, centre, reach))
        picture = _half(picture)
    finest = levels[0]
    if len(finest.points) < LEAST_POINTS:
        raise FollowError("The area holds too few pixels to follow. Draw it larger.")
    if np.hypot(*finest.gradient.T).mean() / reach < 1e-7 * max(float(np.abs(finest.values).mean()), 1e-3):
        raise FollowError("The area is blank: there is nothing in it that could be followed. Include some texture.")
    box = np.array(
        [
            [inside.left, inside.top],
            [inside.right, inside.top],
            [inside.right, inside.bottom],
            [inside.left, inside.bottom],
        ],
        float,
    )
    return Template(tuple(levels), centre, reach, box, np.asarray(area_points, float))


def _make_level(picture: Picture, area: Points, level: int, centre: Points, reach: float) -> _Level:
    factor = 2.0**level
    height, width = picture.shape
    mask = np.zeros((height, width), np.uint8)
    fixed = np.round((area / factor - 0.5) * 16).astype(np.int32)
    cv2.fillPoly(mask, [fixed], 1, shift=4)
    mask[:2] = mask[-2:] = 0
    mask[:, :2] = mask[:, -2:] = 0
    gx = cv2.Sobel(picture, cv2.CV_32F, 1, 0, ksize=3, scale=1 / 8)
    gy = cv2.Sobel(picture, cv2.CV_32F, 0, 1, ksize=3, scale=1 / 8)
    if level == 0 and mask.sum() > 20 * TILE_PX**2:
        mask &= _strongest(np.hypot(gx, gy), mask)
    rows, columns = np.nonzero(mask)
    points = np.column_stack([columns + 0.5, rows + 0.5]) * factor
    gradient = np.column_stack([gx[rows, columns], gy[rows, columns]]) * (reach / factor)
    tile = TILE_PX * factor if level else TILE_PX
    blocks = (points[:, 1] // tile).astype(np.int64) * 4096 + (points[:, 0] // tile).astype(np.int64)
    _, blocks = np.unique(blocks, return_inverse=True)
    return _Level(
        points,
        (points - centre) / reach,
        picture[rows, columns].astype(np.float64),
        gradient.astype(np.float64),
        blocks.astype(np.int64),
    )


def _strongest(strength: Picture, mask: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """Return where the gradient is among the strongest of its tile: as accurate as all pixels, in half the time."""
    height, width = strength.shape
    pad_y, pad_x = -height % TILE_PX, -width % TILE_PX
    padded = np.pad(np.where(mask > 0, strength, -1), ((0, pad_y), (0, pad_x)), constant_values=-1)
    tiles = padded.reshape(padded.shape[0] // TILE_PX, TILE_PX, -1, TILE_PX).swapaxes(1, 2)
    flat = tiles.reshape(-1, TILE_PX * TILE_PX)
    cut = np.quantile(flat, 1 - STRONGEST_SHARE, axis=1)
    chosen = (flat >= np.maximum(cut, 0)[:, None]).reshape(tiles.shape).swapaxes(1, 2).reshape(padded.shape)
    return chosen[:height, :width].astype(np.uint8)


def _update(step: NDArray[np.float64], template: Template) -> Matrix:
    """Return the home-to-home matrix of a step in normalised coordinates."""
    tx, ty, turn, scale, stretch, shear, px, py = step
    inner = np.array(
        [
            [1 + scale + stretch, shear - turn, tx],
            [shear + turn, 1 + scale - stretch, ty],
            [px, py, 1.0],
        ]
    )
    to_unit = np.diag([1 / template.reach, 1 / template.reach, 1.0]) @ translation(*-template.centre)
    return np.linalg.inv(to_unit) @ inner @ to_unit


def align(
    template: Template, pyramid: Pyramid, start: Matrix, motion: MotionModel, *, coarse: bool = True
) -> Alignment:
    """Refine where the area is on a frame.

    The difference ``frame(H x) - gain * home(x) - offset`` is minimised over the motion's degrees of freedom, gain
    and offset, with the home picture's gradient (which is free of the frame's grain) and weights that fall for
    pixels that disagree. The step is composed on the home side: H becomes H (I + step).

    Parameters
    ----------
    template : Template
    pyramid : Pyramid
        Of the frame, with at least as many levels as the template.
    start : (3, 3) float64
        home_to_frame to begin from.
    motion : MotionModel
        How much the plane may move against the start's.
    coarse : bool
        Begin at the coarsest level; otherwise only the finest is used.

    References
    ----------
    S. Baker and I. Matthews, Lucas-Kanade 20 Years On: A Unifying Framework, IJCV 56(3), 2004,
    doi:10.1023/B:VISI.0000011205.11775.fd. Departures: the normal matrix is rebuilt each step, since weights and
    light change; light is solved along.
    """
    matrix = start / start[2, 2]
    gain, offset = 1.0, 0.0
    count = min(len(template.levels), len(pyramid.levels))
    levels = range(count - 1, -1, -1) if coarse else range(1)
    for level in levels:
        # On coarse levels few pixels carry much noise of sampling: the full perspective waits for the finer ones.
        degrees = MOTIONS[motion] if level == 0 or count - level > 1 else min(MOTIONS[motion], 4)
        matrix, gain, offset, outcome = _solve(template, pyramid, level, matrix, degrees, gain, offset)
    return outcome


def _solve(
    template: Template, pyramid: Pyramid, level: int, matrix: Matrix, degrees: int, gain: float, offset: float
) -> tuple[Matrix, float, float, Alignment]:
    from gommage.core.follow.kernels import normal_equations  # compiled code is loaded late

    data = template.levels[level]
    shrink = np.diag([0.5**level, 0.5**level, 1.0])
    normal, right = np.empty((10, 10)), np.empty(10)
    residual = np.empty(len(data.points))
    use = np.ones(len(data.points))
    unknown = [*range(degrees), 8, 9]
    scale = 0.0
    best = np.inf
    for iteration in range(14 if level == 0 else 8):
        count = normal_equations(
            pyramid.levels[level], shrink @ matrix, data.points, data.normalised, data.values, data.gradient, use,
            degrees, gain, offset, scale, normal, right, residual,
        )  # fmt: skip
        if count < min(LEAST_POINTS, len(data.points) // 4):
            break
        step = _solved(normal, right, unknown)
        if step is None:
            break
        change = _update(step[:8], template)
        moved = np.abs(apply_matrix(change, template.corners) - template.corners).max()
        if not np.isfinite(moved) or moved > template.reach:
            break
        matrix = matrix @ change
        matrix = matrix / matrix[2, 2]
        gain, offset = float(np.clip(gain + step[8], 0.05, 20.0)), offset + float(step[9])
        if iteration == 0:
            use = _agreeing(data, residual, gain)
        scale = CAUCHY_SCALE * _deviation(residual)
        if moved < CONVERGED_PX * 2**level or (iteration > 6 and moved > best):
            break
        best = min(best, moved)
    count = normal_equations(
        pyramid.levels[level], shrink @ matrix, data.points, data.normalised, data.values, data.gradient, use,
        degrees, gain, offset, scale, normal, right, residual,
    )  # fmt: skip
    return matrix, gain, offset, _judge(template, data, matrix, residual, use, normal, unknown, gain, offset)


def _solved(normal: Matrix, right: NDArray[np.float64], unknown: list[int]) -> NDArray[np.float64] | None:
    chosen = np.ix_(unknown, unknown)
    part = normal[chosen]
    diagonal = np.sqrt(np.maximum(np.diag(part), 1e-30))
    try:
        solved = np.linalg.solve(
            part / np.outer(diagonal, diagonal) + 1e-9 * np.eye(len(unknown)), right[unknown] / diagonal
        )
    except np.linalg.LinAlgError:
        return None
    step = np.zeros(10)
    step[unknown] = solved / diagonal
    return step


def _deviation(residual: NDArray[np.float64]) -> float:
    known = residual[np.isfinite(residual)]
    return float(1.4826 * np.median(np.abs(known - np.median(known)))) + 1e-9 if len(known) else 1.0


def _agreeing(data: _Level, residual: NDArray[np.float64], gain: float) -> NDArray[np.float64]:
    """Return 1 for points of blocks that look like the home picture, 0 where the difference rivals the texture."""
    known = np.isfinite(residual)
    blocks = data.blocks
    total = blocks.max() + 1

    def sums(values: NDArray[np.float64]) -> NDArray[np.float64]:
        return np.bincount(blocks[known], values[known], total).astype(np.float64)

    count = np.maximum(sums(np.ones(len(blocks))), 1)
    mean = sums(data.values) / count
    texture = sums((data.values - mean[blocks]) ** 2) * gain**2
    error = sums(residual**2)
    typical = np.median(error[count > 4] / count[count > 4]) if (count > 4).any() else np.inf
    out = (error > 0.7 * texture) & (error / count > 6 * typical)
    return np.where(out[blocks], 0.0, 1.0)


def _judge(
    template: Template,
    data: _Level,
    matrix: Matrix,
    residual: NDArray[np.float64],
    use: NDArray[np.float64],
    normal: Matrix,
    unknown: list[int],
    gain: float,
    offset: float,
) -> Alignment:
    known = np.isfinite(residual)
    taken = known & (use > 0)
    visible = float(known.mean())
    agreeing = float(use[known].mean()) if known.any() else 0.0
    if taken.sum() < min(LEAST_POINTS, len(residual) // 4):
        return Alignment(matrix, 0.0, visible, agreeing, np.inf)
    home = data.values[taken]
    frame = residual[taken] + gain * home + offset
    deviations = float(home.std() * frame.std())
    correlation = float(((home - home.mean()) * (frame - frame.mean())).mean() / deviations) if deviations else 0.0
    return Alignment(matrix, correlation, visible, agreeing, _slip(template, matrix, residual[taken], normal, unknown))


def _slip(
    template: Template, matrix: Matrix, residual: NDArray[np.float64], normal: Matrix, unknown: list[int]
) -> float:
    """Return the expected error of the corners: the residual's variance through the inverse normal matrix."""
    try:
        covariance = np.linalg.inv(normal[np.ix_(unknown, unknown)])
    except np.linalg.LinAlgError:
        return np.inf
    motions = len(unknown) - 2
    covariance = covariance[:motions, :motions] * _deviation(residual) ** 2
    p, q = ((template.corners - template.centre) / template.reach).T
    zero, one = np.zeros(4), np.ones(4)
    across = np.array([one, zero, -q, p, p, q, -p * p, -p * q])[:motions]
    down = np.array([zero, one, p, q, -q, p, -p * q, -q * q])[:motions]
    variance = np.einsum("ic,ij,jc->c", across, covariance, across) + np.einsum("ic,ij,jc->c", down, covariance, down)
    local = np.sqrt(abs(np.linalg.det(matrix)))
    return float(np.sqrt(np.maximum(variance, 0).mean()) * template.reach * local * GRAIN_CORRELATION)
