"""Strokes to pixels.

A stroke is a mask (the highest of its dabs, so that a stroke over itself is no darker, unless its flow lets them build
up) through which the source shows. The source is the canvas as it was before the stroke began, so that a stroke never
eats its own paint. Dabs are set along the points as they come, each where the last one says: in how many pieces the
points come makes no difference to a single bit.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from gommage.core.cover import MatteAt
from gommage.core.document import Blend, Brush, Pressure
from gommage.core.geometry import IDENTITY, Mapping, Window, around, holding, plain, shift, spanning, then
from gommage.core.paint.canvases import TILE_PX, Canvas, Place, Tile, places_of, tiles_of
from gommage.core.paint.riding import MARGIN_PX, StrokeAt
from gommage.core.paint.tools import BLENDS, TOOLS
from gommage.core.picture import Picture, resample, whole_steps

__all__ = ["Read", "StrokeInHand", "StrokeSources", "lay_stroke", "radii_of", "stroke_laid"]

LIGHTEST = 0.25
"""Of the size, at the lightest touch."""
SPLINE_REACH_PX = 14
CHANNELS = "rgb"
MASK_GROWS_PX, PIECE_PX = 256, 256
EVERYWHERE: Picture = np.ones((1, 1), np.float32)


@dataclass(frozen=True, slots=True)
class Read:
    """A picture that a stroke looks at: `window` of it gives (h, w, 3), within `bounds`."""

    window: Callable[[Window], Picture]
    bounds: Window

    @staticmethod
    def of(canvas: Canvas) -> Read:
        """Return a canvas as a picture that is looked at."""
        return Read(canvas.read, canvas.bounds)


def radii_of(brush: Brush, pressure: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return how far a brush reaches at pressures (N,) from 0 to 1, in pixels: (N,)."""
    share = LIGHTEST + (1 - LIGHTEST) * pressure if Pressure.SIZE in brush.pressure else np.ones_like(pressure)
    return brush.size_px / 2 * share


def _own(_: object) -> None:
    """Return that a stroke takes its pixels from the canvas itself, and that nothing is left out."""


@dataclass(frozen=True, slots=True)
class StrokeSources:
    """What strokes on a canvas look at.

    Attributes
    ----------
    origin : callable
        Gives what a stroke takes its pixels from; None: the canvas as it was before it.
    matte : callable
        Gives what gives the union of mattes over a window, (h, w) 0 to 1; None: of no mattes.
    filmed : Read or None
        The plate, which `restore` brings back; None: the canvas before all strokes.
    """

    origin: Callable[[StrokeAt], Read | None] = _own
    matte: Callable[[tuple[MatteAt, ...]], Callable[[Window], Picture] | None] = _own
    filmed: Read | None = None


class StrokeInHand:
    """A stroke while it is being made: points come in, painted canvases come out.

    Parameters
    ----------
    before : Canvas
        As it was before the stroke.
    bare : Canvas
        Before all strokes, which `erase` brings back.
    stroke : StrokeAt
        Brush and source; its own points are ignored but for the first.
    sources : StrokeSources

    Attributes
    ----------
    canvas : Canvas
        As it is with what was laid so far.
    looked_at : set of (column, row)
        The tiles of the canvas before the stroke that what was laid so far depends on.
    written : dict
        The tiles that were laid so far, by place.
    """

    def __init__(
        self, before: Canvas, bare: Canvas, stroke: StrokeAt, sources: StrokeSources = StrokeSources()
    ) -> None:
        self.canvas = before
        self.bounds = before.bounds
        self._before, self._bare = before, bare
        self._stroke, self.brush = stroke, stroke.brush
        self.looked_at: set[Place] = set()
        self.written: dict[Place, Tile] = {}
        self._origin = sources.origin(stroke) or Read(self.below, before.bounds)
        self._filmed = sources.filmed or Read.of(bare)
        self._barred, self._in_front = sources.matte(stroke.barred), sources.matte(stroke.in_front)
        self._brushing = TOOLS[stroke.brush.tool]
        self._steps = whole_steps(stroke.origin_from_canvas)
        self._channels = np.array([name in self.brush.channels for name in CHANNELS])
        self._opacity = np.float32(self.brush.opacity)
        self._mask, self._masked = np.zeros((0, 0), np.float32), Window(0, 0, 0, 0)
        self._last = np.full(3, np.nan)
        self._carry = np.zeros(1)
        self._touched = Window(0, 0, 0, 0)
        self._dragged: NDArray[np.float64] | None = None
        self._stamps = _Stamps(self) if stroke.is_fixed and self._brushing.takes_source else None

    def add(self, points: NDArray[np.float64]) -> Window | None:
        """Lay more of the stroke.

        Parameters
        ----------
        points : (N, 3) float64
            x, y in canvas pixels, pressure; continuing from the last call's.

        Returns
        -------
        Window or None
            What of the canvas changed; None if nothing did (outside the canvas).
        """
        from gommage.core.paint.kernels import walk_dabs  # compiled code is loaded late

        step = max(self.brush.spacing * self.brush.size_px, 0.5)
        radius, lightest = self.brush.size_px / 2, LIGHTEST if Pressure.SIZE in self.brush.pressure else 1.0
        is_pressed = Pressure.OPACITY in self.brush.pressure
        points = plain(points, np.float64)
        dabs, box = walk_dabs(points, self._last, self._carry, step, radius, lightest, is_pressed)
        if not len(dabs):
            return None
        # The margin is the brush's, not the dabs': so windows of pieces unite to the window of the whole.
        changed = holding(box.tolist(), radius + MARGIN_PX) & self.bounds
        if self._brushing.drags:
            return self._drag(dabs, changed)
        if changed.is_empty:
            return None
        self._raise_mask(changed, dabs)
        if self._stamps is not None:
            self._stamps.add(dabs)
        self._touched = self._touched | changed
        renewed = self._touched if self._brushing.is_whole else changed
        self._write(self._laid(renewed))
        return renewed

    def _raise_mask(self, window: Window, dabs: NDArray[np.float64]) -> None:
        """Raise the mask by dabs (N, 4) that stay within a window."""
        from gommage.core.paint.kernels import lay_dabs  # compiled code is loaded late

        if self._masked & window != window:
            wider = (self._masked | window.grown(0 if self._masked.is_empty else MASK_GROWS_PX)) & self.bounds
            mask = np.zeros((wider.height, wider.width), np.float32)
            if not self._masked.is_empty:
                mask[self._masked.within(wider)] = self._mask
            self._mask, self._masked = mask, wider
        lay_dabs(dabs, self.brush.softness, self.brush.flow, self._masked.left, self._masked.top, self._mask)

    def _laid(self, window: Window) -> dict[Place, Tile]:
        """Return the tiles of a window of the canvas with the stroke on them, as far as its mask is raised there."""
        from gommage.core.paint.kernels import lay_on_tiles, set_tiles  # compiled code is loaded late

        mask: Picture = plain(self._mask[window.within(self._masked)])
        if self._brushing.takes_source:
            mask = np.multiply(mask, self._is_there(window), dtype=np.float32)
        new = self._brushing.lay(self, window, mask)
        if self.brush.blend is not Blend.OVER:
            new = BLENDS[self.brush.blend](self.below(window), new)
        new = plain(new, np.float32)
        at = set_tiles(mask, window.left, window.top, TILE_PX)
        places = [(column, row) for column, row in at.tolist()]
        pixels, cover = self.canvas.stacked(places)
        is_first = self.written.keys().isdisjoint(places)
        below = (pixels, cover) if is_first else self._before.stacked(places)
        lay_on_tiles(
            pixels, cover, *below, at, new, mask, window.left, window.top,
            self._opacity, self._channels, self._brushing.takes_away,
        )  # fmt: skip
        return {place: Tile.of(pixels[n], cover[n]) for n, place in enumerate(places)}

    def _write(self, tiles: dict[Place, Tile]) -> None:
        self.looked_at.update(tiles)
        self.written |= tiles
        self.canvas = self.canvas.with_tiles(tiles)

    def finish(self) -> None:
        """Let go of what was laid on the way: of each piece all tiles are held as long as one of them is."""
        self._write({place: tile.alone() for place, tile in self.written.items()})

    # -- a brush that drags ---------------------------------------------------------------------------------

    def _drag(self, dabs: NDArray[np.float64], changed: Window) -> Window | None:
        """Lay dabs each of which moves what is under it by the way from the one before."""
        last, self._dragged = self._dragged, dabs[-1]
        rows = dabs if last is None else np.vstack([last, dabs])
        far = float(np.abs(np.diff(rows[:, :2], axis=0)).max(initial=0.0))
        region = around(rows[:, :2], float(rows[:, 2].max()) + MARGIN_PX + far + 3) & self.bounds
        if region.is_empty or len(rows) < 2:
            return None
        from gommage.core.paint.kernels import drag_dabs  # compiled code is loaded late

        self.looked_at.update(places_of(region))
        pixels, cover = self.canvas.read(region).copy(), self.canvas.cover(region)
        reached = np.zeros(cover.shape, bool)
        local = rows - (region.left, region.top, 0, 0)
        amount = np.float32(self.brush.strength * self.brush.opacity)
        drag_dabs(local, self.brush.softness, amount, self._channels, pixels, cover, reached)
        places = [place for place, at in tiles_of(region) if reached[(at & region).within(region)].any()]
        tiles = self.canvas.tiles_with(region, pixels, cover, places)
        self._write(tiles)
        return changed if tiles else None

    # -- what the brush may look at ---------------------------------------------------------------------------

    def below(self, window: Window) -> Picture:
        """Return the canvas as it was before the stroke."""
        self.looked_at.update(places_of(window))
        return self._before.read(window)

    def bare(self, window: Window) -> Picture:
        """Return the canvas before all strokes."""
        return self._bare.read(window)

    def left_out(self, window: Window) -> Picture | None:
        """Return where there are no surroundings that a source could be fitted to, (h, w) 0 to 1; None: nowhere.

        Something stays in front there, or the source is not to be taken.
        """
        if self._in_front is None and self._barred is None:
            return None
        missing = np.broadcast_to(1 - self._is_there(window), (window.height, window.width))
        return missing if self._in_front is None else np.maximum(missing, self._in_front(window))

    def filmed(self, window: Window) -> Picture:
        """Return the plate."""
        return self._filmed.window(window)

    def source(self, window: Window) -> Picture:
        """Return the stroke's source: copied for whole pixels, else resampled once."""
        return self.carried(window) if self._stamps is None else self._stamps.canvas.read(window)

    def carried(self, window: Window, by: Mapping = IDENTITY) -> Picture:
        """Return the source as it lies beside a window, or beside where a mapping takes that."""
        if self._steps is not None and by is IDENTITY:
            beside = window.shifted(*self._steps)
            if beside & self._origin.bounds == beside:
                return self._origin.window(beside)
        mapping = then(by, self._stroke.origin_from_canvas)
        bounds = self._origin.bounds
        beside = around(spanning(mapping, window), SPLINE_REACH_PX)
        needed = beside & bounds
        if needed.is_empty:  # from beyond the picture: its nearest rim
            near = np.clip(beside.corners, 0, (bounds.right - 1, bounds.bottom - 1))
            needed = around(near, 1) & bounds
        return resample(self._origin.window(needed), mapping, window, at=needed).pixels

    def _is_there(self, window: Window) -> Picture:
        """Return how far the source may be taken, (h, w) 0 to 1: not beyond its picture, nor where it is barred."""
        if self._stamps is not None:
            return EVERYWHERE
        mapping, bounds = self._stroke.origin_from_canvas, self._origin.bounds
        if self._barred is None and self._steps is not None:
            beside = window.shifted(*self._steps)
            if beside & bounds == beside:
                return EVERYWHERE
        spanned = spanning(mapping, window)
        is_inside = np.isfinite(spanned).all() and around(spanned) & bounds == around(spanned)
        if is_inside and self._barred is None:
            return EVERYWHERE
        at = mapping.field(window)
        with np.errstate(invalid="ignore"):
            inside = (at >= (bounds.left, bounds.top)).all(axis=-1) & (at < (bounds.right, bounds.bottom)).all(axis=-1)
        share = np.asarray(inside, np.float32)
        needed = around(spanned) & bounds if np.isfinite(spanned).all() else bounds
        if self._barred is not None and not needed.is_empty:
            bars = self._barred(needed)
            near = np.clip(np.nan_to_num(at) - (needed.left, needed.top), 0, (needed.width - 1, needed.height - 1))
            places = near.astype(np.intp)
            share *= 1 - bars[places[..., 1], places[..., 0]]
        return share


class _Stamps:
    """The source of a stroke that stays at one place: each dab brings the same piece, over those before it."""

    def __init__(self, hand: StrokeInHand) -> None:
        self._hand = hand
        self._first: NDArray[np.float64] | None = None
        self._laid = np.zeros((hand.bounds.height, hand.bounds.width), bool)
        self.canvas = hand.canvas

    def add(self, dabs: NDArray[np.float64]) -> None:
        """Lay more dabs (N, 4)."""
        from gommage.core.paint.kernels import lay_dabs  # compiled code is loaded late

        for dab in dabs:
            if self._first is None:
                self._first = dab[:2].copy()
            window = around(dab[None, :2], dab[2] + MARGIN_PX) & self._hand.bounds
            if window.is_empty:
                continue
            back = np.round(self._first - dab[:2])
            piece = self._hand.carried(window, shift(*back.tolist()))
            mask = np.zeros((window.height, window.width), np.float32)
            lay_dabs(dab[None], self._hand.brush.softness, 1.0, window.left, window.top, mask)
            below = self.canvas.read(window)
            share = np.where(self._laid[window.within(self._hand.bounds)], mask, np.float32(1))[..., None]
            pixels = below + (piece - below) * share
            self._laid[window.within(self._hand.bounds)] |= mask > 0
            self.canvas = self.canvas.with_pixels(window, pixels, self.canvas.cover(window))


def stroke_laid(
    canvas: Canvas, bare: Canvas, stroke: StrokeAt, sources: StrokeSources = StrokeSources()
) -> StrokeInHand:
    """Return a whole stroke laid on a canvas, with what it looked at and what it wrote; see `StrokeInHand`."""
    hand = StrokeInHand(canvas, bare, stroke, sources)
    for points in _pieces(stroke):
        hand.add(points)
    return hand


def _pieces(stroke: StrokeAt) -> list[NDArray[np.float64]]:
    """Return a stroke's points in pieces whose windows hold little beside it; one, if it is laid as a whole."""
    points, reach = stroke.points.values, stroke.reach
    if TOOLS[stroke.brush.tool].is_whole or reach.width + reach.height < 4 * PIECE_PX or len(points) < 2:
        return [points]
    ways = np.hypot(*np.diff(points[:, :2], axis=0).T).cumsum()
    piece = (ways // (PIECE_PX + 2 * stroke.brush.size_px)).astype(int)
    return np.split(points, np.flatnonzero(np.diff(piece)) + 2)


def lay_stroke(canvas: Canvas, bare: Canvas, stroke: StrokeAt, sources: StrokeSources = StrokeSources()) -> Canvas:
    """Return a canvas with a whole stroke laid on it."""
    hand = stroke_laid(canvas, bare, stroke, sources)
    return hand.canvas.counted(len(hand.written))
