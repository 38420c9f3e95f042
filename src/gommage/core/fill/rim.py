"""The rim: surroundings grown inwards, for markers and blemishes on what is smooth, live on each frame.

Each piece of the cover is closed by a thin-plate spline through the means of small cells around it, smoothed as far as
the surroundings themselves say.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterator
from dataclasses import dataclass
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.cover import MatteAt, matte_on, pieces_of
from gommage.core.document import Fix, Footage, Rim, Shot
from gommage.core.document.records import Record
from gommage.core.fill.blocking import middle_frame, not_around
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
Cells = tuple[Values, Values, Values]
GAP_PX, WIDTH_PX, CELL_PX, GRID_PX = 2, 12, 5, 8
"""The rim begins so far off a piece and is so wide; it is told by means of cells; the spline is drawn on a grid."""
MOST_CELLS, LEAST_CELLS = 400, 6
EVENNESS = (0.1, 0.3, 1.0, 3.0, 10.0, 30.0, 100.0, 300.0, 1000.0)
"""What is tried: from through each cell to nearly a plane."""
LARGEST_PIECE_PX = 400
"""Of larger pieces cells and grid grow with them."""
SECTORS = 8
"""Into so many the rim is divided, to find out what foretells one best that is left out."""
APART_PX = 2 * (GAP_PX + WIDTH_PX + RIM_PX)
"""Parts of a cover that lie farther apart have nothing to do with each other."""


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
    told_on = frame if fill.evenness is not None else middle_frame(shot, fix)
    return RimAt(
        footage=shot.footage, frame=frame, cover=matte_on(shot, fix.cover, frame), others=not_around(shot, fix, frame),
        evenness=fill.evenness, told_on=told_on, told_by=matte_on(shot, fix.cover, told_on),
        told_apart=not_around(shot, fix, told_on),
    )  # fmt: skip


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
    for around in _surroundings(at.cover, at.footage.bounds, scene.scale).near(window):
        check()
        frame = scene.plate(at.footage, at.frame, around)
        for piece, plan in _planned(at, scene, around, evenness):
            own = piece.window.shifted(around.left, around.top)
            shared = own & window
            if shared.is_empty or plan is None:
                continue
            inside, part = shared.within(window), shared.within(own)
            wanted = piece.wanted[part]
            closed = plan.closed(frame[piece.wide.slices], piece.known)[part]
            np.copyto(pixels[inside], closed, where=wanted[..., None])
            np.copyto(valid[inside], np.float32(1), where=wanted)
    return Filled((Layer(pixels, valid),), shown=valid)


def _planned(at: RimAt, scene: Scene, around: Window, evenness: float) -> list[tuple[_Piece, _Plan | None]]:
    """Return the pieces of a cover in a window, and how each is closed. Those of one shape share that, wherever they
    are, on all frames.
    """
    masks = _masks(at.footage, at.cover, at.others, scene, around)
    shape = tuple(mask.tobytes() for mask in masks), masks[0].shape
    return scene.kept(("rim", shape, evenness), lambda: [(piece, piece.plan(evenness)) for piece in _pieces_in(*masks)])


def found_evenness(at: RimAt, scene: Scene, check: Check = lambda: None) -> float:
    """Return how even surroundings are grown in over a shot: what foretells cells best that are left out, of all pieces
    together on one frame.
    """

    def look() -> float:
        total = np.zeros(len(EVENNESS))
        for around in _surroundings(at.told_by, at.footage.bounds, scene.scale).windows:
            check()
            frame = scene.plate(at.footage, at.told_on, around)
            for piece in _pieces_in(*_masks(at.footage, at.told_by, at.told_apart, scene, around)):
                errors = piece.left_out_errors(frame[piece.wide.slices])
                if errors is not None:
                    total += errors
        return EVENNESS[int(total.argmin())] if total.any() else 1.0

    key: Hashable = ("evenness", at.footage, at.told_on, at.told_by, at.told_apart)
    return scene.kept(key, look)


@dataclass(frozen=True, slots=True)
class _Piece:
    """A piece of a cover; `wanted` is what is closed, over `window`, `known` its surroundings, over `wide`."""

    window: Window
    wanted: Mask
    wide: Window
    known: Mask

    def cells(self, frame: Picture) -> tuple[int, Cells]:
        """Return the side of the cells of its rim, and the cells."""
        from gommage.core.fill.thin_plates import means_of_cells  # compiled code is loaded late

        side = max(1.0, max(self.wanted.shape) / LARGEST_PIECE_PX)
        cell = round(CELL_PX * side)
        while True:
            found = means_of_cells(frame, self.known, cell)
            if len(found[0]) <= MOST_CELLS:
                return cell, found
            cell *= 2

    def left_out_errors(self, frame: Picture) -> list[float] | None:
        """Return by how much cells of its rim are missed, for each evenness; None if there are too few."""
        _, (points, values, counts) = self.cells(frame)
        return _Spline.of(points, counts).left_out_errors(values) if len(points) >= LEAST_CELLS else None

    def plan(self, evenness: float) -> _Plan | None:
        """Return how it is closed, whatever its rim shows; None if there is too little of it."""
        cell, (points, _, counts) = self.cells(np.zeros((*self.known.shape, 3), np.float32))
        if len(points) < LEAST_CELLS:
            return None
        height, width = self.wanted.shape
        step = GRID_PX * max(1, round(max(width, height) / LARGEST_PIECE_PX))
        x, across = _knots(width, step)
        y, down = _knots(height, step)
        left, top = self.window.left - self.wide.left, self.window.top - self.wide.top
        spline = _Spline.of(points, counts)
        return _Plan(cell, spline.shares(x + left, y + top, evenness), across, down)


def _knots(size: int, step: int) -> tuple[Values, NDArray[np.float32]]:
    """Return places (K,) that lie a step apart along so many pixels and a step beyond, and what a cubic through values
    there makes of them at each pixel: (size, K).
    """
    count = -(-size // step) + 3
    shares = cv2.resize(np.eye(count, dtype=np.float32), (count, count * step), interpolation=cv2.INTER_CUBIC)
    knots = step * (np.arange(count, dtype=np.float64) - 1) + step / 2
    return knots, np.asarray(np.ascontiguousarray(shares[step : step + size]), np.float32)


@dataclass(frozen=True, slots=True)
class _Plan:
    """How pieces of one shape are closed: a small product for each.

    `grid` (h * w, N) is what each of the N cells counts at each knot, `across` (W, w) and `down` (H, h) are what knots
    count at pixels.
    """

    cell: int
    grid: NDArray[np.float32]
    across: NDArray[np.float32]
    down: NDArray[np.float32]

    def closed(self, frame: Picture, known: Mask) -> Picture:
        """Return the pixels of a piece over its window, (H, W, 3), given its surroundings."""
        from gommage.core.fill.thin_plates import means_of_cells  # compiled code is loaded late

        values = means_of_cells(frame, known, self.cell)[1]
        knots = (self.grid @ values.astype(np.float32)).reshape(self.down.shape[1], -1)
        rows = (self.down @ knots).reshape(len(self.down), -1, 3)
        return np.matmul(self.across, rows)


def _masks(
    footage: Footage, cover: MatteAt, others: tuple[MatteAt, ...], scene: Scene, around: Window
) -> tuple[Mask, Mask]:
    """Return what is to be closed in a window, and what else is no surroundings there."""
    return scene.matte(footage, cover, around) > COVERED, hidden_by(others, footage, scene, around)


def _pieces_in(hole: Mask, hidden: Mask) -> Iterator[_Piece]:
    """Yield the pieces of a hole (h, w)."""
    apart = hidden | cv2.dilate(hole.view(np.uint8), _square(GAP_PX)).view(bool)
    area = Window.of(hole.shape[1], hole.shape[0])
    count, labels, boxes, _ = cv2.connectedComponentsWithStats(hole.view(np.uint8))
    for number in range(1, count):
        left, top, width, height = boxes[number, :4].tolist()
        own = Window(left, top, left + width, top + height)
        window, wide = own.grown(RIM_PX) & area, own.grown(GAP_PX + WIDTH_PX) & area
        piece = (labels[wide.slices] == number).view(np.uint8)
        close = cv2.dilate(piece, _square(GAP_PX + WIDTH_PX)).view(bool)
        wanted = cv2.dilate((labels[window.slices] == number).view(np.uint8), _square(RIM_PX)).view(bool)
        yield _Piece(window, wanted, wide, close & ~apart[wide.slices])


@dataclass(frozen=True, slots=True)
class _Surroundings:
    """Windows around parts of a cover that have nothing to do with each other; `sides` (N, 4) has their left and top,
    their right and bottom below 0.
    """

    windows: list[Window]
    sides: NDArray[np.int64]

    def near(self, window: Window) -> list[Window]:
        """Return those that meet a window."""
        meet = (self.sides < (window.right, window.bottom, -window.left, -window.top)).all(axis=1)
        return [self.windows[index] for index in np.flatnonzero(meet).tolist()]


@lru_cache(maxsize=64)
def _surroundings(cover: MatteAt, bounds: Window, scale: float) -> _Surroundings:
    """Return what is around a cover, in pixels of a scale."""
    grown = (one.scaled(scale).grown(GAP_PX + WIDTH_PX + RIM_PX) for one in pieces_of(cover, bounds, APART_PX))
    found = [one & bounds.scaled(scale) for one in grown]
    sides = [(one.left, one.top, -one.right, -one.bottom) for one in found]
    return _Surroundings(found, np.array(sides, np.int64).reshape(-1, 4))


@lru_cache(maxsize=16)
def _square(by_px: int) -> NDArray[np.uint8]:
    return np.ones((2 * by_px + 1, 2 * by_px + 1), np.uint8)


@dataclass(frozen=True, slots=True)
class _Spline:
    """A thin-plate smoothing spline through means of cells, each smoothed by its want of pixels.

    `points` (N, 2) are the cells in units of `size` from the `middle`, `noise` (N,) what smooths them.
    """

    points: Values
    middle: Values
    size: float
    noise: Values

    @classmethod
    def of(cls, points: Values, counts: Values) -> _Spline:
        middle = points.mean(axis=0)
        size = max(float(np.abs(points - middle).max()), 1.0)
        return cls((points - middle) / size, middle, size, np.median(counts) / counts)

    def shares(self, x: Values, y: Values, evenness: float) -> NDArray[np.float32]:
        """Return what each cell counts on a grid of columns and rows, row by row: (h * w, N) float32."""
        count = len(self.points)
        system = np.zeros((count + 3, count + 3))
        system[:count, :count] = _bending(self.points, self.points) + np.diag(evenness * SMOOTHING * self.noise)
        system[:count, count] = system[count, :count] = 1.0
        system[:count, count + 1 :], system[count + 1 :, :count] = self.points, self.points.T
        columns, rows = np.meshgrid((x - self.middle[0]) / self.size, (y - self.middle[1]) / self.size)
        grid = np.column_stack([columns.ravel(), rows.ravel()])
        basis = np.column_stack([_bending(grid, self.points), np.ones(len(grid)), grid])
        return np.ascontiguousarray(np.linalg.solve(system, basis.T)[:count].T, np.float32)  # it is symmetric

    def left_out_errors(self, values: Values) -> list[float]:
        """Return for each evenness the mean square by which cells (N, 3) are missed that are left out, a sector of the
        rim in its turn: what is across a hole is as far away as what is left out then, so neighbours do not tell alone.
        """
        sector = np.floor((np.arctan2(self.points[:, 1], self.points[:, 0]) / (2 * np.pi) + 0.5) * SECTORS).astype(int)
        left_out = [np.flatnonzero(sector % SECTORS == number) for number in range(SECTORS)]
        plane = np.column_stack([np.ones(len(self.points)), self.points])
        inner = np.linalg.qr(plane, mode="complete")[0][:, 3:]  # what is no plane
        bent = inner.T @ _bending(self.points, self.points) @ inner
        noise = (inner.T * self.noise) @ inner
        found = []
        for evenness in EVENNESS:
            inverse = inner @ np.linalg.solve(bent + evenness * SMOOTHING * noise, inner.T)
            off = inverse @ values
            missed = [np.linalg.solve(inverse[np.ix_(ones, ones)], off[ones]) for ones in left_out if len(ones)]
            found.append(float((np.vstack(missed) ** 2).mean()))
        return found


def _bending(points: Values, others: Values) -> Values:
    """Return how a thin plate bends between points and others, r^2 log r: (N, M)."""
    across, down = (points[:, None, k] - others[None, :, k] for k in (0, 1))
    apart = across * across + down * down
    return 0.5 * apart * np.log(np.maximum(apart, 1e-12))


SMOOTHING = 1e-3
"""What evenness is counted by, so that 1 smooths a little."""
