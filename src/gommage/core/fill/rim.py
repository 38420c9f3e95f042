"""The rim: surroundings grown inwards, for markers and blemishes on what is smooth, live on each frame.

Each piece of the cover is closed by a thin-plate spline through the means of small cells around it, smoothed as far as
the surroundings themselves say.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterator
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.cover import MatteAt, matte_on, reach_of
from gommage.core.document import Fix, Footage, Rim, Shot, is_within
from gommage.core.document.records import Record
from gommage.core.fill.blocking import not_around
from gommage.core.fill.choosing import COVERED
from gommage.core.fill.holes import RIM_PX, hidden_by
from gommage.core.fill.scene import Filled, Layer, Scene
from gommage.core.geometry import Window
from gommage.core.paint import CanvasKey
from gommage.core.picture import Picture

__all__ = ["EVENNESS", "RimAt", "fill_from_rim", "found_evenness", "rim_at"]

Mask = NDArray[np.bool_]
Values = NDArray[np.float64]
Check = Callable[[], None]
GAP_PX, WIDTH_PX, CELL_PX, GRID_PX = 2, 12, 5, 8
"""The rim begins so far off a piece and is so wide; it is told by means of cells; the spline is drawn on a grid."""
MOST_CELLS, LEAST_CELLS = 400, 6
EVENNESS = (0.1, 0.3, 1.0, 3.0, 10.0, 30.0, 100.0, 300.0, 1000.0)
"""What is tried: from through each cell to nearly a plane."""
LARGEST_PIECE_PX = 400
"""Of larger pieces cells and grid grow with them."""


class RimAt(Record, frozen=True):
    """A fill from the rim on one frame: everything that its pixels depend on.

    Attributes
    ----------
    footage : Footage
    frame : int
    cover : MatteAt
    others : tuple of MatteAt
        What is no surroundings: what is in front, and what other fixes cover.
    evenness : float or None
        As it was set; None: found on the frame that follows,
    told_on : int
        one for the whole shot,
    told_by : MatteAt
        by the cover there,
    told_apart : tuple of MatteAt
        without these.
    """

    footage: Footage
    frame: int
    cover: MatteAt
    others: tuple[MatteAt, ...]
    evenness: float | None
    told_on: int
    told_by: MatteAt
    told_apart: tuple[MatteAt, ...]

    @property
    def canvases(self) -> tuple[CanvasKey, ...]:
        """What is painted on: no clean plate."""
        return ()

    @property
    def as_shot(self) -> RimAt:
        """The same without paint."""
        return self


def rim_at(fill: Rim, shot: Shot, fix: Fix, frame: int) -> RimAt | None:
    """Return what a fill from the rim depends on on a frame."""
    told_on = frame if fill.evenness is not None else _told_on(shot, fix)
    return RimAt(
        footage=shot.footage, frame=frame, cover=matte_on(shot, fix.cover, frame), others=not_around(shot, fix, frame),
        evenness=fill.evenness, told_on=told_on, told_by=matte_on(shot, fix.cover, told_on),
        told_apart=not_around(shot, fix, told_on),
    )  # fmt: skip


def _told_on(shot: Shot, fix: Fix) -> int:
    """Return the frame in the middle of those on which a fix exists."""
    footage = shot.footage
    frames = [one for one in footage.frames if one not in footage.missing and is_within(fix.frames, one)]
    return frames[len(frames) // 2] if frames else footage.frames.first


# -- pixels -------------------------------------------------------------------------------------------------


def fill_from_rim(at: RimAt, scene: Scene, window: Window, check: Check = lambda: None) -> Filled:
    """Close each piece of the cover from its rim; grain is laid afterwards.

    Parameters
    ----------
    at : RimAt
    scene : Scene
    window : Window
        Of the frame, in pixels of the scene's scale. A pixel is the same in every window.
    check : callable
        Called for each piece.

    References
    ----------
    G. Wahba, Spline Models for Observational Data, SIAM, 1990, doi:10.1137/1.9781611970128: thin-plate smoothing
    splines, and the choice of their smoothness by leaving out one observation at a time.
    """
    evenness = at.evenness if at.evenness is not None else found_evenness(at, scene, check)
    pixels = scene.plate(at.footage, at.frame, window).copy()
    valid: Picture = np.zeros((window.height, window.width), np.float32)
    for piece in _pieces(at.footage, at.frame, at.cover, at.others, scene):
        check()
        shared = piece.window & window
        if shared.is_empty:
            continue
        closed = scene.kept(
            ("rim", at.footage, at.frame, at.cover, at.others, piece.number, evenness),
            lambda piece=piece: piece.closed(evenness),  # type: ignore[misc]
        )
        if closed is None:
            continue
        inside, part = shared.within(window), shared.within(piece.window)
        wanted = piece.wanted[part]
        pixels[inside][wanted], valid[inside][wanted] = closed[part][wanted], 1.0
    return Filled((Layer(pixels, valid),), shown=valid)


def found_evenness(at: RimAt, scene: Scene, check: Check = lambda: None) -> float:
    """Return how even surroundings are grown in over a shot: what foretells cells best that are left out, of all pieces
    together on one frame.
    """

    def look() -> float:
        total = np.zeros(len(EVENNESS))
        for piece in _pieces(at.footage, at.told_on, at.told_by, at.told_apart, scene):
            check()
            spline = piece.spline()
            if spline is not None:
                total += spline.left_out_errors()
        return EVENNESS[int(total.argmin())] if total.any() else 1.0

    key: Hashable = ("evenness", at.footage, at.told_on, at.told_by, at.told_apart)
    return scene.kept(key, look)


@dataclass(frozen=True, slots=True)
class _Piece:
    """A piece of a cover; `wanted` is what is closed, over `window`, `known` its surroundings, over `wide`."""

    number: int
    window: Window
    wanted: Mask
    wide: Window
    known: Mask
    frame: Picture

    def spline(self) -> _Spline | None:
        """Return the spline through its rim; None if there is too little of it."""
        side = max(1.0, max(self.window.width, self.window.height) / LARGEST_PIECE_PX)
        from gommage.core.fill.thin_plates import means_of_cells  # compiled code is loaded late

        cell = round(CELL_PX * side)
        while True:
            points, values, counts = means_of_cells(self.frame, self.known, cell)
            if len(points) <= MOST_CELLS:
                break
            cell *= 2
        if len(points) < LEAST_CELLS:
            return None
        return _Spline.of(points, values, counts)

    def closed(self, evenness: float) -> Picture | None:
        """Return its pixels over its window, (h, w, 3)."""
        spline = self.spline()
        if spline is None:
            return None
        step = GRID_PX * max(1, round(max(self.window.width, self.window.height) / LARGEST_PIECE_PX))
        columns, rows = (-(-size // step) + 3 for size in (self.window.width, self.window.height))
        left, top = self.window.left - self.wide.left, self.window.top - self.wide.top
        x = left + step * (np.arange(columns) - 1) + step / 2
        y = top + step * (np.arange(rows) - 1) + step / 2
        grid = spline.over(x, y, evenness)
        # Its first point lies half a step before the window: a cubic through the points gives the pixels between.
        size = columns * step, rows * step
        whole = cv2.resize(grid.astype(np.float32), size, interpolation=cv2.INTER_CUBIC)
        return np.ascontiguousarray(whole[step : step + self.window.height, step : step + self.window.width])


def _pieces(
    footage: Footage, frame: int, cover: MatteAt, others: tuple[MatteAt, ...], scene: Scene
) -> Iterator[_Piece]:
    """Yield the pieces of a cover on a frame, in an order that is the same whatever is asked for."""
    bounds = footage.bounds.scaled(scene.scale)
    reach = reach_of(cover, footage.bounds).scaled(scene.scale)
    around = reach.grown(GAP_PX + WIDTH_PX + RIM_PX) & bounds
    if around.is_empty:
        return
    hole = scene.matte(footage, cover, around) > COVERED
    apart = hidden_by(others, footage, scene, around) | cv2.dilate(hole.view(np.uint8), _square(GAP_PX)).view(bool)
    picture = scene.plate(footage, frame, around)
    count, labels, boxes, _ = cv2.connectedComponentsWithStats(hole.view(np.uint8))
    for number in range(1, count):
        left, top, width, height = boxes[number, :4].tolist()
        own = Window(left, top, left + width, top + height)
        area = Window.of(around.width, around.height)
        window, wide = own.grown(RIM_PX) & area, own.grown(GAP_PX + WIDTH_PX) & area
        piece = (labels[wide.slices] == number).view(np.uint8)
        near = cv2.dilate(piece, _square(GAP_PX + WIDTH_PX)).view(bool)
        wanted = cv2.dilate((labels[window.slices] == number).view(np.uint8), _square(RIM_PX)).view(bool)
        shifted = window.shifted(around.left, around.top)
        yield _Piece(
            number, shifted, wanted, wide.shifted(around.left, around.top), near & ~apart[wide.slices],
            picture[wide.slices],
        )  # fmt: skip


def _square(by_px: int) -> NDArray[np.uint8]:
    return np.ones((2 * by_px + 1, 2 * by_px + 1), np.uint8)


@dataclass(frozen=True, slots=True)
class _Spline:
    """A thin-plate smoothing spline through means of cells, each smoothed by its want of pixels.

    `points` (N, 2) are the cells in units of `size` from the `middle`, `noise` (N,) what smooths them.
    """

    points: Values
    values: Values
    middle: Values
    size: float
    noise: Values

    @classmethod
    def of(cls, points: Values, values: Values, counts: Values) -> _Spline:
        middle = points.mean(axis=0)
        size = max(float(np.abs(points - middle).max()), 1.0)
        at = (points - middle) / size
        return cls(at, values, middle, size, np.median(counts) / counts)

    def over(self, x: NDArray[np.floating], y: NDArray[np.floating], evenness: float) -> Values:
        """Return values on a grid of columns and rows, in the pixels that the cells are counted in: (h, w, 3)."""
        from gommage.core.fill.thin_plates import plate_between  # compiled code is loaded late

        noise = evenness * SMOOTHING * self.noise
        columns, rows = (x - self.middle[0]) / self.size, (y - self.middle[1]) / self.size
        return np.asarray(plate_between(self.points, self.values, noise, columns, rows))

    def left_out_errors(self) -> list[float]:
        """Return for each evenness the mean square by which cells are missed that are left out, each in its turn."""
        plane = np.column_stack([np.ones(len(self.points)), self.points])
        inner = np.linalg.qr(plane, mode="complete")[0][:, 3:]  # what is no plane
        across, down = (one[:, None] - one for one in self.points.T)
        apart = across * across + down * down
        bending = 0.5 * apart * np.log(np.maximum(apart, 1e-12))
        bent, noise = inner.T @ bending @ inner, (inner.T * self.noise) @ inner
        found = []
        for evenness in EVENNESS:
            inverse = inner @ np.linalg.solve(bent + evenness * SMOOTHING * noise, inner.T)
            off = (inverse @ self.values) / np.diagonal(inverse)[:, None]
            found.append(float((off**2).mean()))
        return found


SMOOTHING = 1e-3
"""What evenness is counted by, so that 1 smooths a little."""
