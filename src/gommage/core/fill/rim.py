"""The rim: surroundings grown inwards, for markers and blemishes on what is smooth, live on each frame.

Each piece of the cover is closed by a thin-plate spline through the means of small cells around it, smoothed as far as
the surroundings themselves say.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Hashable, Iterator
from dataclasses import dataclass
from functools import lru_cache

import cv2
import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from gommage.core.cover import MatteAt, matte_on, pieces_of
from gommage.core.cover.parts import carried
from gommage.core.document import Fix, Footage, Rim, Shot
from gommage.core.document.records import Record
from gommage.core.fill.blocking import middle_frame, not_around
from gommage.core.fill.choosing import COVERED
from gommage.core.fill.holes import RIM_PX
from gommage.core.fill.scene import Filled, Layer, Scene
from gommage.core.fill.steadying import BesideAt, Means, Rims, SteadyAt, at_scale, steady_at, steps_of, told
from gommage.core.geometry import IDENTITY, Mapping, Window, around
from gommage.core.paint import CanvasKey
from gommage.core.picture import Picture

__all__ = ["EVENNESS", "RimAt", "fill_from_rim", "found_evenness", "rim_at"]

Mask = NDArray[np.bool_]
Values = NDArray[np.float64]
Check = Callable[[], None]
GAP_PX, WIDTH_PX, CELL_PX, GRID_PX = 2, 12, 4, 8
"""The rim begins so far off a piece and is so wide; it is told by means of cells; the spline is drawn on a grid."""
MOST_CELLS, LEAST_CELLS = 400, 6
EVENNESS = (0.1, 0.3, 1.0, 3.0, 10.0, 30.0, 100.0, 300.0, 1000.0)
"""What is tried: from through each cell to nearly a plane."""
LARGEST_PIECE_PX = 400
"""Of larger pieces cells and grid grow with them."""
BEYOND_PX = 256
"""So far beyond the picture pieces of a cover are looked at that rides on a surface: they are partly seen."""
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
    steady : SteadyAt or None
        What steadies it.
    """

    footage: Footage
    frame: int
    cover: MatteAt
    others: tuple[MatteAt, ...]
    evenness: float | None
    told_on: int
    told_by: MatteAt
    told_apart: tuple[MatteAt, ...]
    steady: SteadyAt | None = None

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
        told_apart=not_around(shot, fix, told_on), steady=steady_at(shot, fix, frame, fill.steadied_by),
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
        Called for each piece and each frame beside.

    References
    ----------
    G. Wahba, Spline Models for Observational Data, SIAM, 1990, doi:10.1137/1.9781611970128: thin-plate smoothing
    splines, and the choice of their smoothness by leaving out one observation at a time.
    """
    evenness = at.evenness if at.evenness is not None else found_evenness(at, scene, check)
    beside = at.steady.beside if at.steady else ()
    scene.ahead(at.footage, [one.frame for one in beside if one.is_near])
    pixels = scene.plate(at.footage, at.frame, window).copy()
    valid: Picture = np.zeros((window.height, window.width), np.float32)
    found: _Told = scene.kept(("rims", at), lambda: _told(at, scene, check))
    for index in found.near(window):
        check()
        piece, means = found.pieces[index], found.means(index)
        if means.seen.sum() < LEAST_CELLS:
            continue
        key = "rim", piece.key, evenness, means.seen.tobytes()
        plan: _Plan = scene.kept(key, lambda piece=piece, means=means: piece.plan(evenness, means.seen))  # type: ignore[misc]
        own = found.windows[index]
        shared = own & window
        if shared.is_empty:
            continue
        found.lay(index, plan, means, pixels[shared.within(window)], valid[shared.within(window)], shared.within(own))
    return Filled((Layer(pixels, valid),), shown=valid)


@dataclass(frozen=True, slots=True)
class _Told:
    """All pieces of a cover, and what their rims show.

    Pieces lie in pixels that `to_frame` takes to those of the frame, within `windows` of it; `backs` (N, 2, 3) take
    pixels of the frame to those of each piece's window. `sides` (N, 4) has the left and top of windows, their right and
    bottom below 0. What the rims of all show is `all`, of each from `cells` on.
    """

    pieces: list[_Piece]
    to_frame: Mapping
    windows: list[Window]
    backs: Values
    sides: NDArray[np.int64]
    all: Means
    cells: NDArray[np.intp]

    @property
    def nbytes(self) -> int:
        """About what it takes of memory; pieces of one shape share what they are."""
        return 300 * len(self.pieces) + self.all.values.nbytes

    def near(self, window: Window) -> list[int]:
        """Return the numbers of those that meet a window."""
        meet = (self.sides < (window.right, window.bottom, -window.left, -window.top)).all(axis=1)
        return list(np.flatnonzero(meet).tolist())

    def means(self, index: int) -> Means:
        """Return what the rim of a piece shows."""
        own = slice(self.cells[index], self.cells[index + 1])
        return Means(self.all.values[own], self.all.seen[own])

    def lay(
        self, index: int, plan: _Plan, means: Means, pixels: Picture, valid: Picture, part: tuple[slice, slice]
    ) -> None:
        """Put a part of the window of a piece, closed by its plan, into pixels where it is wanted, in place."""
        from gommage.core.fill.thin_plates import drawn, drawn_moved  # compiled code is loaded late

        wanted, knots, (top, left) = self.pieces[index].wanted, plan.knots(means), (part[0].start, part[1].start)
        if self.to_frame is IDENTITY:
            drawn(knots, plan.step, top, left, np.ascontiguousarray(wanted[part]), pixels, valid)
            return
        back, window = self.backs[index].copy(), self.windows[index]
        back[:, 2] += back[:, :2] @ (window.left + left, window.top + top)
        drawn_moved(knots, plan.step, back, wanted, pixels, valid)


def _told(at: RimAt, scene: Scene, check: Check) -> _Told:
    """Return the pieces of a cover, and what their rims show on the frame and on those beside it."""
    bounds = at.footage.bounds.scaled(scene.scale)
    fixed = at.steady.fixed if at.steady else None
    to_frame = IDENTITY if fixed is None else at_scale(fixed, scene.scale)
    cover = at.cover if fixed is None else carried(at.cover, fixed.inverse())
    area = at.footage.bounds if fixed is None else at.footage.bounds.grown(BEYOND_PX)
    pieces = list[_Piece]()
    for window in _surroundings(cover, area, scene.scale):
        check()
        hole = scene.matte(at.footage, cover, window) > COVERED
        here: list[_Piece] = scene.kept(("rim", hole.tobytes(), hole.shape), lambda hole=hole: list(_pieces_in(hole)))  # type: ignore[misc]
        pieces += [one.shifted(window.left, window.top) for one in here]
    if fixed is not None and pieces:
        there = to_frame(np.array([one.wide.corners for one in pieces]).reshape(-1, 4, 2))
        pieces = [one for one, corners in zip(pieces, there, strict=True) if np.isfinite(corners).all()]
    wholes = [_where(one.window, to_frame) for one in pieces]
    windows = [one & bounds for one in wholes]
    sides = np.array([(one.left, one.top, -one.right, -one.bottom) for one in windows], np.int64).reshape(-1, 4)
    if not pieces:
        nothing = Means(np.zeros((0, 3)), np.zeros(0, bool))
        return _Told(pieces, to_frame, windows, np.zeros((0, 2, 3)), sides, nothing, np.zeros(1, np.intp))
    backs = _backs([one.window for one in pieces], wholes, to_frame)
    parts = ([getattr(one, name) for one in pieces] for name in ("wide", "pixels", "points", "counts"))
    rims = Rims.of((cover, area), *parts)
    own = BesideAt(frame=at.frame, mapping=fixed or IDENTITY, blocked=at.others)
    means = told(rims, own, at.steady.beside if at.steady else (), at.footage, scene, check)
    return _Told(pieces, to_frame, windows, backs, sides, means, rims.cells)


def _where(window: Window, to_frame: Mapping) -> Window:
    return window if to_frame is IDENTITY else around(to_frame(window.corners), 0)


def _backs(windows: list[Window], on_frame: list[Window], to_frame: Mapping) -> Values:
    """Return what takes places of the frame, in windows of it, to those of windows of pieces: (N, 2, 3)."""
    backs = steps_of(on_frame, to_frame.inverse())
    here, there = (np.array([(one.left, one.top) for one in ones], np.float64) for ones in (windows, on_frame))
    backs[:, :, 2] -= np.einsum("nkl,nl->nk", backs[:, :, :2], there) + here
    return backs


def found_evenness(at: RimAt, scene: Scene, check: Check = lambda: None) -> float:
    """Return how even surroundings are grown in over a shot: what foretells cells best that are left out, of all pieces
    together on one frame.
    """

    def look() -> float:
        total = np.zeros(len(EVENNESS))
        there = replace(at, frame=at.told_on, cover=at.told_by, others=at.told_apart, steady=None)
        found = _told(there, scene, check)
        for index, piece in enumerate(found.pieces):
            means = found.means(index)
            if means.seen.sum() >= LEAST_CELLS:
                total += piece.spline(means.seen).left_out_errors(means.values[means.seen])
        return EVENNESS[int(total.argmin())] if total.any() else 1.0

    key: Hashable = ("evenness", at.footage, at.told_on, at.told_by, at.told_apart)
    return scene.kept(key, look)


@dataclass(frozen=True, slots=True)
class _Piece:
    """A piece of a cover; `wanted` is what is closed, over `window`; its surroundings lie within `wide`.

    These are told by cells: `points` (N, 2) are where, in pixels of `wide`, `counts` (N,) how many pixels each has, and
    `pixels` (P, 3) these. The `key` tells shapes of pieces apart.
    """

    window: Window
    wanted: Mask
    wide: Window
    key: Hashable
    points: Values
    counts: Values
    pixels: NDArray[np.int32]

    def shifted(self, across: int, down: int) -> _Piece:
        """Return the same so many pixels to the right and down."""
        window, wide = (one.shifted(across, down) for one in (self.window, self.wide))
        return dataclasses.replace(self, window=window, wide=wide)

    def spline(self, told: Mask) -> _Spline:
        """Return what goes through those of its cells that are told."""
        return _Spline.of(self.points[told], self.counts[told])

    def plan(self, evenness: float, told: Mask) -> _Plan:
        """Return how it is closed, whatever those of its cells show that are told."""
        height, width = self.wanted.shape
        step = GRID_PX * max(1, round(max(width, height) / LARGEST_PIECE_PX))
        x, y = _knots(width, step), _knots(height, step)
        left, top = self.window.left - self.wide.left, self.window.top - self.wide.top
        grid = self.spline(told).shares(x + left, y + top, evenness)
        return _Plan(grid.reshape(len(y), len(x), -1), step)


def _knots(size: int, step: int) -> Values:
    """Return places that lie a step apart along so many pixels and, for cubics through them, beyond these."""
    return step * (np.arange(-(-size // step) + 4, dtype=np.float64) - 1.5)


@dataclass(frozen=True, slots=True)
class _Plan:
    """How pieces of one shape are closed: a small product for each.

    `grid` (h, w, N) is what each of the N cells that are told counts at each knot; these are a `step` apart.
    """

    grid: NDArray[np.float32]
    step: int

    def knots(self, means: Means) -> Picture:
        """Return the values of knots, (h, w, 3), given what the rim shows."""
        height, width, count = self.grid.shape
        values = means.values[means.seen].astype(np.float32)
        return (self.grid.reshape(-1, count) @ values).reshape(height, width, 3)


def _pieces_in(hole: Mask) -> Iterator[_Piece]:
    """Yield the pieces of a hole (h, w)."""
    from gommage.core.fill.thin_plates import cells_of  # compiled code is loaded late

    apart = cv2.dilate(hole.view(np.uint8), _square(GAP_PX)).view(bool)
    area = Window.of(hole.shape[1], hole.shape[0])
    count, labels, boxes, _ = cv2.connectedComponentsWithStats(hole.view(np.uint8))
    for number in range(1, count):
        left, top, width, height = boxes[number, :4].tolist()
        own = Window(left, top, left + width, top + height)
        window, wide = own.grown(RIM_PX) & area, own.grown(GAP_PX + WIDTH_PX) & area
        piece = (labels[wide.slices] == number).view(np.uint8)
        rim = cv2.dilate(piece, _square(GAP_PX + WIDTH_PX)).view(bool) & ~apart[wide.slices]
        wanted = cv2.dilate((labels[window.slices] == number).view(np.uint8), _square(RIM_PX)).view(bool)
        side = round(CELL_PX * max(1.0, max(wanted.shape) / LARGEST_PIECE_PX))
        while len((cells := cells_of(rim, side))[0]) > MOST_CELLS:
            side *= 2
        yield _Piece(window, wanted, wide, (wanted.tobytes(), rim.tobytes(), rim.shape), *cells)


@lru_cache(maxsize=64)
def _surroundings(cover: MatteAt, bounds: Window, scale: float) -> list[Window]:
    """Return windows around parts of a cover that have nothing to do with each other, in pixels of a scale."""
    grown = (one.scaled(scale).grown(GAP_PX + WIDTH_PX + RIM_PX) for one in pieces_of(cover, bounds, APART_PX))
    return [one & bounds.scaled(scale) for one in grown]


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
        return cls((points - middle) / size, middle, size, (np.median(counts) / counts) ** FADE)

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
FADE = 2
"""By that power of what they lack cells count less: as a rim moves over pixels, they come and go without a jump."""
