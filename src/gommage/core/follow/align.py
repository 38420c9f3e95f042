"""Align an area of a reference picture to a frame: Gauss-Newton on pixel differences, coarse to fine."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.document import MotionModel
from gommage.core.follow.sight import PLAIN_SIGHT, Sight, grain_of_slopes
from gommage.core.geometry import Matrix, Points, Window, apply_matrix, translation
from gommage.core.picture import Picture, spline_coefficients
from gommage.errors import FollowError

__all__ = [
    "MOTIONS",
    "SIMPLER",
    "Alignment",
    "Pyramid",
    "Template",
    "align",
    "make_pyramid",
    "make_template",
    "motion_matrix",
]

MOTIONS = {
    MotionModel.SHIFT: (0, 1),
    MotionModel.SHIFT_SCALE: (0, 1, 3),
    MotionModel.SHIFT_TURN: (0, 1, 2),
    MotionModel.SIMILARITY: (0, 1, 2, 3),
    MotionModel.AFFINE: (0, 1, 2, 3, 4, 5),
    MotionModel.PERSPECTIVE: (0, 1, 2, 3, 4, 5, 6, 7),
}
"""Which of the eight parameters of motion each model solves. All are groups: two of its motions in a row are one."""
SIMPLER = {
    MotionModel.PERSPECTIVE: MotionModel.AFFINE,
    MotionModel.AFFINE: MotionModel.SIMILARITY,
    MotionModel.SIMILARITY: MotionModel.SHIFT,
    MotionModel.SHIFT_SCALE: MotionModel.SHIFT,
    MotionModel.SHIFT_TURN: MotionModel.SHIFT,
}
GAIN, OFFSET, GAIN_X, GAIN_Y = 8, 9, 10, 11
SMALLEST_SIDE_PX = 20
"""The area's shorter side on the coarsest level."""
TILE_PX = 16
SMALL_BLOCK_PX, LARGE_BLOCK_PX = 8, 16
"""Side of the blocks whose residuals are taken to be independent of each other: large ones where there are enough."""
ENOUGH_BLOCKS = 90
CLEAR_TEXTURE = 8.0
"""Texture whose slopes hold this many times the energy of grain's is chosen pixel by pixel."""
FLOOR_PX = 0.002
"""What sampling leaves even where there is no grain."""
SHARED_GRAIN = 1.35
"""The reference's grain is in the error of every frame: what is said holds for this shot, not for the mean of many."""
STRONGEST_SHARE = 0.4
MOST_POINTS, MOST_COARSE_POINTS = 30000, 5000
LEAST_POINTS = 60
CONVERGED_PX = 0.004
FEW_BLOCKS = 3
"""Blocks a parameter, below which the scatter of blocks says too little and the residuals' variance is taken."""
RELATED_PIXELS, MOST_RELATED_PIXELS = 4.0, 8.0
"""How many neighbouring residuals are worth one, where that cannot be measured, and at most."""
VIEW_SAMPLES = 4096
HONESTY = 0.02
"""What is left at least of the information that may be grain's, for the error that is told."""
RELATED_SHARE = 0.4
"""Slopes change sign where grain does not: of the relation of neighbours, so much reaches the solution."""


@dataclass(frozen=True, slots=True)
class Pyramid:
    """A window of a picture and its halvings, as spline coefficients.

    `origin` is the first pixel's place in the frame; level k is 2**k times smaller. `size_wh` is the whole frame's.
    """

    levels: tuple[Picture, ...]
    origin: tuple[int, int]
    size_wh: tuple[int, int]


@dataclass(frozen=True, slots=True)
class _Level:
    points: Points
    normalised: Points
    values: NDArray[np.float64]
    gradient: NDArray[np.float64]
    grain: Matrix
    tiles: NDArray[np.int64]
    blocks: NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class Template:
    """What is known of an area on the frame that others are compared with.

    Attributes
    ----------
    levels : tuple
        Fine to coarse: positions, values and slopes of the points that are compared.
    corners : (4, 2) float64
        The surface's corners on the reference frame.
    sight : Sight
        How the pictures are looked at.
    """

    levels: tuple[_Level, ...]
    centre: Points
    reach: float
    corners: Points
    sight: Sight

    @property
    def points_inside(self) -> Points:
        """Some hundreds of points spread over the area: (N, 2) reference pixels."""
        points = self.levels[-1].points
        return points[:: max(len(points) // 400, 1)]


@dataclass(frozen=True, slots=True)
class Alignment:
    """The outcome of one alignment.

    Attributes
    ----------
    matrix : (3, 3) float64
        Takes reference pixels to the frame's.
    motion : MotionModel
        What was solved for.
    correlation : float
        Between reference and frame over the points that took part, -1 to 1.
    visible : float
        Share of the area's points that lie in the frame.
    agreeing : float
        Share of the visible points that may be looked at which were not voted out.
    typical : float
        Correlation within a tile of pixels: the median of all, 0 for those voted out.
    corner_slip_px : (4,) float64
        Expected error of each corner; infinite if nothing could be said.
    gain, offset : float
        The frame's light: gain times the reference's, plus offset.
    """

    matrix: Matrix
    motion: MotionModel
    correlation: float
    visible: float
    agreeing: float
    typical: float
    corner_slip_px: NDArray[np.float64]
    gain: float
    offset: float

    @property
    def slip_px(self) -> float:
        """The corners' expected error together."""
        return float(np.sqrt((self.corner_slip_px**2).mean()))


def _half(picture: Picture) -> Picture:
    height, width = picture.shape[:2]
    even = picture[: height - height % 2, : width - width % 2]
    return cv2.resize(even, (width // 2, height // 2), interpolation=cv2.INTER_AREA)


def make_pyramid(picture: Picture, levels: int, sight: Sight = PLAIN_SIGHT, window: Window | None = None) -> Pyramid:
    """Return the pyramid of a window of a picture.

    Parameters
    ----------
    picture : (H, W, 3) or (H, W) float32
        The whole frame, scene-linear; a single channel is taken as it is.
    levels : int
    sight : Sight
    window : Window, optional
        All of it if left out. It is widened so that halvings fall on whole pixels.
    """
    whole = Window.of(picture.shape[1], picture.shape[0])
    step = 2 ** (levels - 1)
    if window is not None:
        whole_step = Window(
            window.left // step * step, window.top // step * step, -(-window.right // step) * step,
            -(-window.bottom // step) * step,
        )  # fmt: skip
        window = whole_step & whole
    window = window or whole
    crop = picture[window.slices]
    level = sight.blurred(np.ascontiguousarray(sight.one_channel(crop) if crop.ndim == 3 else crop))
    out = [spline_coefficients(level)]
    for _ in range(levels - 1):
        if min(level.shape) < 12:
            break
        level = _half(level)
        out.append(spline_coefficients(level))
    return Pyramid(tuple(out), (window.left, window.top), (whole.width, whole.height))


def make_template(
    picture: Picture, mask: NDArray[np.uint8], corners: Points | None = None, sight: Sight = PLAIN_SIGHT
) -> Template:
    """Return the template of an area on its reference frame.

    Parameters
    ----------
    picture : (H, W, 3) or (H, W) float32
        The frame, scene-linear.
    mask : (H, W) uint8
        Above 0 where the area is.
    corners : (4, 2) float64, optional
        Those whose error is to be told; the area's box if left out.
    sight : Sight

    Raises
    ------
    FollowError
        If the area is outside the picture, too small, or without texture.
    """
    rows, columns = np.nonzero(mask.any(axis=1))[0], np.nonzero(mask.any(axis=0))[0]
    if not len(rows) or min(rows[-1] - rows[0], columns[-1] - columns[0]) < 7:
        raise FollowError("The area is too small or outside the picture. Draw it at least 8 pixels across, inside.")
    box = Window(int(columns[0]), int(rows[0]), int(columns[-1]) + 1, int(rows[-1]) + 1)
    centre = np.array([(box.left + box.right) / 2, (box.top + box.bottom) / 2])
    reach = max(box.width, box.height) / 2
    count = int(np.clip(np.log2(min(box.width, box.height) / SMALLEST_SIDE_PX), 0, 5)) + 1
    step = 2 ** (count - 1)
    wide = Window((box.left - 12) // step * step, (box.top - 12) // step * step, box.right + 12, box.bottom + 12)
    wide = wide & Window.of(picture.shape[1], picture.shape[0])
    crop = np.ascontiguousarray(picture[wide.slices])
    level = sight.blurred(sight.one_channel(crop) if crop.ndim == 3 else crop)
    inside = (mask[wide.slices] > 0).astype(np.float32)
    levels = []
    for index in range(count):
        made = _make_level(level, inside, index, (wide.left, wide.top), centre, reach, sight)
        if index and len(made.points) < LEAST_POINTS:
            break
        levels.append(made)
        level, inside = _half(level), _half(inside)
    finest = levels[0]
    if len(finest.points) < LEAST_POINTS:
        raise FollowError("The area holds too few pixels to follow. Draw it larger.")
    if np.hypot(*finest.gradient.T).mean() / reach < 1e-7 * max(float(np.abs(finest.values).mean()), 1e-3):
        raise FollowError("The area is blank: there is nothing in it that could be followed. Include some texture.")
    if corners is None:
        corners = np.array([[box.left, box.top], [box.right, box.top], [box.right, box.bottom], [box.left, box.bottom]])
    return Template(tuple(levels), centre, reach, np.asarray(corners, float), sight)


def _make_level(
    picture: Picture,
    inside: Picture,
    level: int,
    origin: tuple[int, int],
    centre: Points,
    reach: float,
    sight: Sight,
) -> _Level:
    factor = 2.0**level
    mask = (inside > 0.99).astype(np.uint8)
    mask[:2] = mask[-2:] = 0
    mask[:, :2] = mask[:, -2:] = 0
    gx = cv2.Sobel(picture, cv2.CV_32F, 1, 0, ksize=3, scale=1 / 8)
    gy = cv2.Sobel(picture, cv2.CV_32F, 0, 1, ksize=3, scale=1 / 8)
    total = int(mask.sum())
    most = MOST_POINTS if level == 0 else MOST_COARSE_POINTS
    if total > (20 * TILE_PX**2 if level == 0 else most):
        energy = gx**2 + gy**2
        if (
            float(energy[mask > 0].mean())
            < CLEAR_TEXTURE * 2 * (sight.noise * grain_of_slopes(sight.sigma_px, level)) ** 2
        ):
            energy = cv2.GaussianBlur(energy, (0, 0), 1.5)  # so that it is not the grain that is chosen
        strength = np.sqrt(energy)
        mask &= _strongest(strength, mask, min(STRONGEST_SHARE, most / total))
    rows, columns = np.nonzero(mask)
    local = np.column_stack([columns + 0.5, rows + 0.5])
    points = local * factor + origin
    gradient = np.column_stack([gx[rows, columns], gy[rows, columns]]) * (reach / factor)
    normalised = (points - centre) / reach
    slope_grain = sight.noise * grain_of_slopes(sight.sigma_px, level) * reach / factor
    return _Level(
        points,
        normalised,
        picture[rows, columns].astype(np.float64),
        gradient.astype(np.float64),
        _grain_normal(normalised) * slope_grain**2,
        _cells(local, TILE_PX),
        _blocks(local),
    )


def _cells(points: Points, side: int) -> NDArray[np.int64]:
    """Return for each point the number of the square that it lies in, counted without gaps."""
    square = (points[:, 1] // side).astype(np.int64) * 65536 + (points[:, 0] // side).astype(np.int64)
    return np.unique(square, return_inverse=True)[1].astype(np.int64)


def _grain_normal(normalised: Points) -> Matrix:
    """Return what slopes of mere grain, of deviation 1, add to the normal matrix: (8, 8)."""
    p, q = normalised.T
    zero, one = np.zeros(len(p)), np.ones(len(p))
    across = np.stack([one, zero, -q, p, p, q, -p * p, -p * q])
    down = np.stack([zero, one, p, q, -q, p, -p * q, -q * q])
    normal: Matrix = across @ across.T + down @ down.T
    return normal


def _blocks(points: Points) -> NDArray[np.int64]:
    large = _cells(points, LARGE_BLOCK_PX)
    return large if len(large) and large.max() + 1 >= ENOUGH_BLOCKS else _cells(points, SMALL_BLOCK_PX)


def _strongest(strength: Picture, mask: NDArray[np.uint8], share: float) -> NDArray[np.uint8]:
    """Return where the gradient is among the strongest of its tile: as accurate as all pixels, in half the time."""
    height, width = strength.shape
    pad_y, pad_x = -height % TILE_PX, -width % TILE_PX
    padded = np.pad(np.where(mask > 0, strength, -1), ((0, pad_y), (0, pad_x)), constant_values=-1)
    tiles = padded.reshape(padded.shape[0] // TILE_PX, TILE_PX, -1, TILE_PX).swapaxes(1, 2)
    flat = tiles.reshape(-1, TILE_PX * TILE_PX)
    cut = np.quantile(flat, 1 - share, axis=1)
    chosen = (flat >= np.maximum(cut, 0)[:, None]).reshape(tiles.shape).swapaxes(1, 2).reshape(padded.shape)
    return chosen[:height, :width].astype(np.uint8)


def motion_matrix(step: NDArray[np.floating[Any]]) -> Matrix:
    """Return the matrix (3, 3) of a small motion's eight parameters, about the origin; see `MOTIONS`.

    A turn alone is made an exact one: to first order it would also grow, and no later step could take that back.
    """
    from gommage.core.follow.descent import motion_of_step  # compiled code is loaded late

    inner = np.empty((3, 3))
    motion_of_step(np.asarray(step, float), inner)
    return inner


def align(
    template: Template,
    pyramid: Pyramid,
    start: Matrix,
    motion: MotionModel,
    *,
    levels: int = 99,
    allowed: Callable[[Points], NDArray[np.bool_]] | None = None,
    light: tuple[float, float] | None = None,
    check: Callable[[], None] = lambda: None,
) -> Alignment:
    """Refine where the area is on a frame.

    The difference ``frame(H x) - gain(x) * reference(x) - offset`` is minimised over the motion's degrees of freedom
    and the light (a gain that may slope over the area, and an offset), with the reference's gradient (which is free of
    the frame's grain) and weights that fall for pixels that disagree. The step is composed on the reference's side: H
    becomes H (I + step).

    The expected error of the corners comes from the scatter of what blocks of neighbouring pixels pull at the
    solution with (a sandwich of it between inverse normal matrices), so that grain of any size, resampling and
    whatever else is left in the residuals is in it.

    Parameters
    ----------
    template : Template
    pyramid : Pyramid
        Of the frame.
    start : (3, 3) float64
        Reference to frame, to begin from.
    motion : MotionModel
        How much the plane may move against the start's.
    levels : int
        How many of the finest levels are used; 1 where the start is good to a pixel.
    allowed : callable, optional
        Takes frame positions (N, 2) and says which of them may be looked at.
    light : tuple of float, optional
        Gain and offset as they were a moment ago. They are held until it is settled what disagrees: something dark that
        passes in front would pull them down, and then nothing disagrees any more. Without, both are free at once.
    check : callable
        Called between levels; may raise `Cancelled`.

    References
    ----------
    S. Baker and I. Matthews, Lucas-Kanade 20 Years On: A Unifying Framework, IJCV 56(3), 2004,
    doi:10.1023/B:VISI.0000011205.11775.fd. Departures: the normal matrix is rebuilt when weights and light settle;
    light is solved along. Errors: H. White, Maximum Likelihood Estimation of Misspecified Models, Econometrica 50(1),
    1982, doi:10.2307/1912526, by clusters of pixels.
    """
    solver = _Solver(template, pyramid, motion, start, allowed, light)
    count = min(len(template.levels), len(pyramid.levels), levels)
    for level in range(count - 1, 0, -1):
        # On coarse levels few pixels carry much noise of sampling: the full perspective waits for the finer ones.
        coarsest = level == count - 1 and level > 1
        freedoms = MOTIONS[motion]
        check()
        solver.solve(level, freedoms[:4] if coarsest and len(freedoms) > 4 else freedoms)
    check()
    solver.solve(0, MOTIONS[motion])
    check()
    return solver.judge()


class _Solver:
    """The state of one alignment: matrix and light, from level to level."""

    def __init__(
        self,
        template: Template,
        pyramid: Pyramid,
        motion: MotionModel,
        start: Matrix,
        allowed: Callable[[Points], NDArray[np.bool_]] | None,
        light: tuple[float, float] | None,
    ) -> None:
        self._template, self._pyramid, self._motion, self._allowed = template, pyramid, motion, allowed
        self._matrix: Matrix = start / start[2, 2]
        self._light: NDArray[np.floating[Any]] = np.array([*(light or (1.0, 0.0)), 0.0, 0.0])
        self._knows_light = light is not None

    def solve(self, level: int, freedoms: tuple[int, ...]) -> None:
        """Iterate on one level until the corners rest."""
        from gommage.core.follow.descent import iterate  # compiled code is loaded late

        data = self._template.levels[level]
        self._data, self._level = data, level
        self._use = self._permitted(data)
        self._allowed_here = self._use.copy()
        slopes = level == 0 and len(data.points) > 12 * LEAST_POINTS
        self._active = np.array([*freedoms, GAIN, OFFSET, *((GAIN_X, GAIN_Y) if slopes else ())], np.int64)
        self._residual = np.full(len(data.points), np.nan)
        size = len(self._active)
        self._normal, scale = np.zeros((size, size)), np.zeros(1)
        to_level = np.diag([0.5**level, 0.5**level, 1.0]) @ translation(*(-v for v in self._pyramid.origin))
        template = self._template
        iterate(
            self._pyramid.levels[level], to_level, data.points, data.normalised, data.values, data.gradient,
            data.grain, data.tiles, template.corners, template.centre, template.reach, self._use, self._active,
            level == 0, self._knows_light, CONVERGED_PX if level == 0 else 0.03 * 2**level,
            min(LEAST_POINTS, len(data.points) // 4), self._matrix, self._light, scale, self._normal,
            self._residual,
        )  # fmt: skip
        self._scale = float(scale[0])

    def _permitted(self, data: _Level) -> NDArray[np.float64]:
        if self._allowed is None:
            return np.ones(len(data.points))
        return self._allowed(apply_matrix(self._matrix, data.points)).astype(np.float64)

    def judge(self) -> Alignment:
        """Return the outcome, with what can be said of its quality from the residuals before the last small step."""
        from gommage.core.follow.kernels import likeness, likeness_of_tiles  # compiled code is loaded late

        data = self._data
        taken = np.isfinite(self._residual)
        step = max(len(data.points) // VIEW_SAMPLES, 1)
        seen = apply_matrix(self._matrix, data.points[::step])
        width, height = self._pyramid.size_wh
        in_frame = ((seen >= 1.5) & (seen < (width - 2.5, height - 2.5))).all(axis=1)
        visible = float(in_frame.mean())
        looked_at = self._allowed_here[::step][in_frame].sum()
        used = float(self._use[::step][in_frame].sum() / looked_at) if looked_at else 0.0
        gain, offset = float(self._light[0]), float(self._light[1])
        if taken.sum() < min(LEAST_POINTS, len(taken) // 4):
            return Alignment(self._matrix, self._motion, 0.0, visible, used, 0.0, np.full(4, np.inf), gain, offset)
        correlation = float(likeness(data.normalised, data.values, self._residual, self._light))
        likenesses = np.empty(int(data.tiles.max()) + 1)
        known = likeness_of_tiles(
            data.tiles, data.normalised, data.values, self._residual, self._light, self._allowed_here, self._use,
            likenesses,
        )  # fmt: skip
        typical = float(np.median(likenesses[:known])) if known else 0.0
        return Alignment(self._matrix, self._motion, correlation, visible, used, typical, self._slip(), gain, offset)

    def _slip(self) -> NDArray[np.float64]:
        """Return the expected error of each corner, (4,)."""
        from gommage.core.follow.descent import known_motion  # compiled code is loaded late
        from gommage.core.follow.kernels import block_scores, block_sums, deviation

        data, size = self._data, len(self._active)
        motions = int((self._active < GAIN).sum())
        known, from_light = np.empty((motions, motions)), np.empty((motions, size - motions))
        if not known_motion(
            self._normal, self._active, data.grain, self._residual, self._scale, self._light, HONESTY, known, from_light
        ):
            return np.full(4, np.inf)
        try:
            inverse = np.linalg.inv(known)
        except np.linalg.LinAlgError:
            return np.full(4, np.inf)
        blocks = data.blocks
        scores = np.empty((int(blocks.max()) + 1, size))
        weight, slope = block_scores(
            data.normalised, data.values, data.gradient, self._residual, self._active, self._light, self._scale,
            blocks, scores,
        )  # fmt: skip
        inverse *= weight / max(slope, 0.2 * weight)
        pulls = scores[:, :motions] - scores[:, motions:] @ from_light.T
        # By grain alone: right where the texture sits in a few places, which a fit of many freedoms smooths over.
        normal = self._normal[:motions, :motions] - from_light @ self._normal[motions:, :motions]
        spread, middle = deviation(self._residual)
        sums = np.empty((len(scores), 5))
        block_sums(blocks, data.values, self._residual, middle, 4 * spread, sums)
        sums = sums.T
        related = _related_pixels(sums) * spread**2
        slip = self._at_corners(inverse @ (normal * related) @ inverse, self._active[:motions])
        count = int((sums[0] > 0).sum())
        if count >= FEW_BLOCKS * size:
            scatter = inverse @ (pulls.T @ pulls) @ inverse * (count / (count - size))
            slip = np.maximum(slip, self._at_corners(scatter, self._active[:motions]))
        return np.hypot(SHARED_GRAIN * slip, FLOOR_PX)

    def _at_corners(self, covariance: Matrix, active: NDArray[np.int64]) -> NDArray[np.float64]:
        template = self._template
        p, q = ((template.corners - template.centre) / template.reach).T
        zero, one = np.zeros(4), np.ones(4)
        across = np.array([one, zero, -q, p, p, q, -p * p, -p * q])[active]
        down = np.array([zero, one, p, q, -q, p, -p * q, -q * q])[active]
        variance = sum(np.einsum("ic,ij,jc->c", way, covariance, way) for way in (across, down))
        local = np.sqrt(abs(np.linalg.det(self._matrix)))
        return np.sqrt(np.maximum(np.asarray(variance), 0)) * template.reach * local


def _related_pixels(sums: NDArray[np.float64]) -> float:
    """Return how many neighbouring residuals are worth one: by how much more blocks scatter than pixels do."""
    many = sums[0] >= 8
    if many.sum() < 4:
        return RELATED_PIXELS
    related = RELATED_SHARE * (sums[3, many] ** 2).sum() / max(sums[4, many].sum(), 1e-30)
    return float(np.clip(related, 1.0, MOST_RELATED_PIXELS))
