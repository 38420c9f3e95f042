"""What other frames show of a place, made alike and brought together: the pure part of filling from donor frames.

What a follow leaves of motion, and what is left of light, is measured on points of a ring around the hole; then the
donors, resampled once, are averaged robustly.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from gommage.core.geometry import IDENTITY, Mapping, Window, from_matrix, plain
from gommage.core.match.light import ring_around
from gommage.core.picture import LUMINANCE, Picture, Splines, luminance, sampled_at

__all__ = [
    "ENOUGH",
    "Gathered",
    "LightBetween",
    "Ring",
    "Stack",
    "left_over_motion",
    "light_between",
    "ring_of",
    "ring_points",
]

Mask = NDArray[np.bool_]
Values = NDArray[np.float64]
Places = tuple[NDArray[np.int64], NDArray[np.int64]]
RING_GAP_PX, RING_WIDTH_PX = 3, 13
"""The ring begins so far from the hole that its own edge is not looked at, and ends where it tells no more."""
MOST_POINTS, LEAST_POINTS = 1500, 60
BELL, BELL_SLOPE = np.array([1, 4, 1], np.float32) / 6, np.array([-1, 0, 1], np.float32) / 2
"""The cubic spline's bell at whole pixels, and its slope."""
STEPS, STILL_PX = 4, 0.003
HUBER = 1.345
DARKEST = 1e-4
TOO_DARK = 0.25
"""Light is not looked at where a channel has less than this of its median on the ring: there it is grain."""
LEFT_OVER_PX = 0.3
"""What a good follow leaves; where the ring tells less than this, it is not believed."""
SLOPE_HELD = 0.05
"""How far the slope of light is drawn towards none: as by so much of the ring that says so."""
SIGMAS, DEVIATIONS, FRAMES_AWAY = 3.2, 2.5, 4.0
LEAST_SIGMA, PIXELS_TO_TELL, LEAST_TO_TELL = 0.002, 4000, 4
ENOUGH = 8
"""A pixel with so many donors needs no more."""


def ring_of(hole: Mask, known: Mask) -> Mask:
    """Return the pixels around a hole that left-over motion and light are measured on.

    Parameters
    ----------
    hole : (h, w) bool
        What is filled.
    known : (h, w) bool
        Where the frame shows what is behind: no other hole, nothing in front.
    """
    return np.asarray(ring_around(hole.astype(np.float32), RING_GAP_PX, RING_WIDTH_PX) & known)


@dataclass(frozen=True, slots=True)
class Ring:
    """The surroundings of a hole on the frame that is filled, at some points.

    Attributes
    ----------
    points : (N, 2) float64
        Centres of pixels.
    shown : (N, 3) float32
        The frame there, scene-linear, smoothed by the spline's bell.
    slopes : (N, 2) float64
        Of log luma, across and down, a pixel.
    around : (N, 2) float64
        The points from their middle, by their size: at most 1.
    middle : (2,) float64
    size : float
    """

    points: Values
    shown: Picture
    slopes: Values
    around: Values
    middle: Values
    size: float

    def __len__(self) -> int:
        return len(self.points)


def ring_points(frame: Picture, window: Window, ring: Mask) -> Ring:
    """Return the points of a ring: all of its pixels, or evenly some of them.

    Parameters
    ----------
    frame : (h, w, 3) float32
    window : Window
        Where the arrays lie.
    ring : (h, w) bool
    """
    rows, columns = np.nonzero(ring)
    step = max(len(rows) // MOST_POINTS, 1)
    rows, columns = rows[::step], columns[::step]
    points = np.stack([columns + (window.left + 0.5), rows + (window.top + 0.5)], axis=1).astype(np.float64)
    if not len(points):
        nothing = np.zeros((0, 2))
        return Ring(nothing, np.zeros((0, 3), np.float32), nothing, nothing, np.zeros(2), 1.0)
    luma = _luma_around(frame, rows, columns)
    smoothed = np.maximum(np.einsum("i,j,ijn->n", BELL, BELL, luma), DARKEST)
    across = np.einsum("i,j,ijn->n", BELL, BELL_SLOPE, luma) / smoothed
    down = np.einsum("i,j,ijn->n", BELL_SLOPE, BELL, luma) / smoothed
    middle = points.mean(axis=0)
    size = max(float(np.hypot(*(points - middle).T).max()), 1.0)
    shown = sampled_at(frame, points, window)
    slopes = np.stack([across, down], axis=1).astype(np.float64)
    return Ring(points, shown, slopes, (points - middle) / size, middle, size)


def _luma_around(frame: Picture, rows: NDArray[np.int64], columns: NDArray[np.int64]) -> Picture:
    """Return the luma of pixels and of those around them, (3, 3, N); the picture goes on mirrored at its rim."""
    height, width = frame.shape[:2]
    down, across = (np.abs(np.arange(-1, 2)[:, None] + at) for at in (rows, columns))
    down, across = np.minimum(down, 2 * (height - 1) - down), np.minimum(across, 2 * (width - 1) - across)
    found: Picture = luminance(frame[np.maximum(down, 0)[:, None], np.maximum(across, 0)[None]].reshape(9, -1, 3))
    return found.reshape(3, 3, -1)


def left_over_motion(
    ring: Ring, picture: Picture, at: Window, donor_from_frame: Mapping, clean: Mask, most_px: float
) -> Mapping:
    """Return where each place of the frame is to be looked for, before it is brought to the donor.

    An affine motion, by least squares with Huber's weights on the difference of log luma, by the slopes of the frame
    (inverse compositional: S. Baker and I. Matthews, Lucas-Kanade 20 Years On, IJCV 56(3), 2004,
    doi:10.1023/B:VISI.0000011205.11775.fd). Light that differs by a factor does not disturb it; where the ring has
    little to tell it stays small.

    Parameters
    ----------
    ring : Ring
    picture : (h, w, 3) float32
        A window of the donor,
    at : Window
        which lies here in it.
    donor_from_frame : Mapping
        As the follow has it.
    clean : (N,) bool
        Points of the ring that the donor shows as well.
    most_px : float
        A motion that moves any of the ring by more than this is none: it is not left over, it is something else.

    Returns
    -------
    Mapping
        `IDENTITY` if there is too little to tell.
    """
    if clean.sum() < LEAST_POINTS or most_px <= 0:
        return IDENTITY
    from gommage.core.fill.kernels import motion_of  # compiled code is loaded late

    around = ring.around[clean]
    middle = donor_from_frame(ring.middle + np.array([[0.5, 0], [-0.5, 0], [0, 0.5], [0, -0.5]]))
    growth = np.stack([middle[0] - middle[1], middle[2] - middle[3]], axis=1)  # less than a pixel is a line to it
    moved = motion_of(
        picture, np.array([at.left, at.top], np.float64), donor_from_frame(ring.points[clean]), growth,
        _log_luma(ring.shown[clean]), ring.slopes[clean], around, LUMINANCE[0].astype(np.float64), DARKEST, HUBER,
        LEFT_OVER_PX, STILL_PX, STEPS,
    )  # fmt: skip
    u, v = around.T
    ways = np.hypot(moved[0] + moved[1] * u + moved[2] * v, moved[3] + moved[4] * u + moved[5] * v)
    if not np.isfinite(ways).all() or ways.max() > most_px:
        return IDENTITY
    a, b, c, d = (moved[[1, 2, 4, 5]] / ring.size).tolist()
    x, y = ring.middle.tolist()
    matrix = [[1 + a, b, moved[0] - a * x - b * y], [c, 1 + d, moved[3] - c * x - d * y], [0, 0, 1]]
    return from_matrix(np.array(matrix))


def _log_luma(values: Picture) -> Values:
    return np.log(np.maximum(luminance(values[None])[0], DARKEST)).astype(np.float64)


@dataclass(frozen=True, slots=True)
class LightBetween:
    """The light between a donor and the frame: logarithms of a factor and of its slopes across and down, a channel.

    Attributes
    ----------
    coefficients : (3, 3) float64
    middle : (2,) float64
        Where the slopes are nothing.
    size : float
        The pixels that they are counted by.
    """

    coefficients: Values
    middle: Values
    size: float

    @classmethod
    def even(cls, logs: Values) -> LightBetween:
        """Return the light that is the same everywhere, by its logarithms (3,)."""
        return cls(np.column_stack([logs, np.zeros((3, 2))]), np.zeros(2), 1.0)

    def factors(self, window: Window) -> tuple[Picture, Picture]:
        """Return what the columns (w, 3) and the rows (h, 3) of a window are brightened by."""
        across = (np.arange(window.left, window.right) + 0.5 - self.middle[0]) / self.size
        down = (np.arange(window.top, window.bottom) + 0.5 - self.middle[1]) / self.size
        factor, along, below = self.coefficients.T
        return (
            np.exp(factor + across[:, None] * along).astype(np.float32),
            np.exp(down[:, None] * below).astype(np.float32),
        )


def light_between(ring: Ring, there: Picture, clean: Mask) -> LightBetween | None:
    """Return the light between a donor and the frame; None if too little of the ring can be compared.

    For each channel the factor is the median of the ratios' logarithms (a ratio of sums loses by what moved); the
    slope is fitted to what that leaves, robustly, and drawn a little towards none.

    Parameters
    ----------
    ring : Ring
    there : (N, 3) float32
        The donor at the ring's points, smoothed alike.
    clean : (N,) bool
        Points that the donor shows as well.
    """
    from gommage.core.fill.kernels import light_of  # compiled code is loaded late

    found, is_told = light_of(
        ring.shown, there, clean, ring.around, TOO_DARK, DARKEST, LEAST_POINTS, HUBER, SLOPE_HELD, STEPS
    )
    return LightBetween(found, ring.middle, ring.size) if is_told else None


class Stack:
    """What donors give for each pixel of a window, until it has enough.

    Parameters
    ----------
    window : Window
        Of the frame.
    wanted : (h, w) bool
        Which of its pixels want any.
    enough : int
        So many values a pixel are enough.
    """

    def __init__(self, window: Window, wanted: Mask, enough: int = ENOUGH) -> None:
        self.window, self.wanted, self._enough = window, wanted, enough
        shape = window.height, window.width
        self._values = np.empty((*shape, enough, 3), np.float32)
        self._which = np.empty((*shape, enough), np.int16)
        self._count = np.zeros(shape, np.int64)
        self._frames_away: list[int] = []

    def has(self, places: Places) -> NDArray[np.int64]:
        """Return how many values some pixels (rows and columns of the window) have."""
        count: NDArray[np.int64] = self._count[places]
        return count

    @property
    def lacking(self) -> Window:
        """The smallest window, of the frame, that holds all pixels which want more."""
        lacks = self.wanted & (self._count < self._enough)
        rows, columns = np.flatnonzero(lacks.any(axis=1)), np.flatnonzero(lacks.any(axis=0))
        if not len(rows):
            return Window(0, 0, 0, 0)
        box = Window(int(columns[0]), int(rows[0]), int(columns[-1]) + 1, int(rows[-1]) + 1)
        return box.shifted(self.window.left, self.window.top)

    def take(
        self, donor: Splines, donor_from_frame: Mapping, bounds: Window, blocked: tuple[Window, Mask],
        light: LightBetween | None, frames_away: int,
    ) -> None:  # fmt: skip
        """Take from a donor what is lacking.

        Parameters
        ----------
        donor : Splines
            A window of it that holds what may be taken.
        donor_from_frame : Mapping
        bounds : Window
            Of its picture.
        blocked : Window and (a, b) bool
            What may not be taken.
        light : LightBetween or None
        frames_away : int
            How far it is in time: what is nearer weighs more.
        """
        from gommage.core.fill.kernels import take, take_at  # compiled code is loaded late

        window = self.window
        across, down = light.factors(window) if light is not None else _no_light(window)
        corner = np.array([blocked[0].left, blocked[0].top])
        at = np.array([donor.window.left, donor.window.top])
        box = np.array([bounds.left, bounds.top, bounds.right, bounds.bottom], np.float64)
        number = len(self._frames_away)
        slots = self.wanted, box, blocked[1], corner, across, down, number, self._values, self._which, self._count
        if donor_from_frame.matrix is not None:
            matrix = plain(donor_from_frame.matrix)
            take(donor.coefficients, at, matrix, window.left, window.top, *slots)
        else:
            take_at(donor.coefficients, at, np.ascontiguousarray(donor_from_frame.field(window)), *slots)
        self._frames_away.append(frames_away)

    def first(self, most: int) -> Gathered:
        """Return the mean of the first values of each pixel, so many at most, whether they agree or not."""
        count = np.minimum(self._count, most)
        total = np.zeros((*self._count.shape, 3), np.float32)
        for slot in range(min(most, self._enough)):
            has = slot < count
            total[has] += self._values[has, slot]
        return Gathered(total / np.maximum(count, 1).astype(np.float32)[..., None], count.astype(np.float32))

    def gathered(self) -> Gathered:
        """Return the mean of each pixel's values that are no further from their median than grain explains."""
        from gommage.core.fill.kernels import average_of_those_that_agree, grain_seen  # compiled code is loaded late

        away = np.abs(np.array(self._frames_away, np.float32)) / np.float32(FRAMES_AWAY)
        step = max(self._count.size // PIXELS_TO_TELL, 1)
        sigma = grain_seen(self._values, self._count, LEAST_TO_TELL, step)
        # Square roots: there grain is about as strong in the light as in the dark.
        limits = np.float32(SIGMAS) * np.maximum(sigma, np.float32(LEAST_SIGMA if sigma.any() else 4 * LEAST_SIGMA))
        weights = (1 / (1 + away**2)).astype(np.float32)
        return Gathered(
            *average_of_those_that_agree(
                self._values, self._which, self._count, weights, limits, np.float32(DEVIATIONS)
            )
        )


def _no_light(window: Window) -> tuple[Picture, Picture]:
    return np.ones((window.width, 3), np.float32), np.ones((window.height, 3), np.float32)


@dataclass(frozen=True, slots=True)
class Gathered:
    """What donors give.

    Attributes
    ----------
    pixels : (h, w, 3) float32
        Scene-linear; nothing where no donor is clean.
    count : (h, w) float32
        How many donors were averaged, as their weights have it: so many times less grain is left.
    agreeing : (h, w) float32 or None
        What share of the donors agrees.
    """

    pixels: Picture
    count: Picture
    agreeing: Picture | None = None
