"""Strokes to pixels.

A stroke is a mask (the highest of its dabs, so that a stroke over itself is no darker, unless its flow lets them build
up) through which the source shows. The source is the canvas as it was before the stroke began, so that a stroke never
eats its own paint. Dabs are set along the points as they come, each where the last one says: in how many pieces the
points come makes no difference to a single bit.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from itertools import pairwise

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.cover import MatteAt
from gommage.core.document import Brush, Pressure
from gommage.core.geometry import IDENTITY, Mapping, Window, around, shift, spanning, then
from gommage.core.paint.canvases import TILE_PX, Canvas, Place, tiles_of
from gommage.core.paint.riding import MARGIN_PX, StrokeAt
from gommage.core.paint.tools import BLENDS, TOOLS
from gommage.core.picture import Picture, resample

__all__ = ["Read", "StrokeInHand", "StrokeSources", "lay_stroke", "radii_of"]

LIGHTEST = 0.25
"""Of the size, at the lightest touch."""
SPLINE_REACH_PX = 14
CHANNELS = "rgb"


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
    """

    def __init__(
        self, before: Canvas, bare: Canvas, stroke: StrokeAt, sources: StrokeSources = StrokeSources()
    ) -> None:
        self.canvas = before
        self.bounds = before.bounds
        self._before, self._bare = before, bare
        self._stroke, self.brush = stroke, stroke.brush
        self._origin, self._filmed = sources.origin(stroke) or Read.of(before), sources.filmed or Read.of(bare)
        self._barred, self._in_front = sources.matte(stroke.barred), sources.matte(stroke.in_front)
        self._brushing = TOOLS[stroke.brush.tool]
        self._mask: dict[Place, Picture] = {}
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
        walked = walk_dabs(np.ascontiguousarray(points, np.float64), self._last, self._carry, step)
        if not len(walked):
            return None
        dabs = self._dabs(walked)
        # The margin is the brush's, not the dabs': so windows of pieces unite to the window of the whole.
        changed = around(dabs[:, :2], self.brush.size_px / 2 + MARGIN_PX) & self.bounds
        if self._brushing.drags:
            return self._drag(dabs, changed)
        if changed.is_empty:
            return None
        self._raise_mask(changed, dabs)
        if self._stamps is not None:
            self._stamps.add(dabs)
        self._touched = self._touched | changed
        renewed = self._touched if self._brushing.is_whole else changed
        self.canvas = self.canvas.with_pixels(renewed, *self._composed(renewed))
        return renewed

    def _dabs(self, walked: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return dabs (N, 4) x, y, radius, share, of x, y, pressure."""
        pressure = np.clip(walked[:, 2], 0, 1)
        dabs = np.empty((len(walked), 4))
        dabs[:, :2] = walked[:, :2]
        dabs[:, 2], dabs[:, 3] = radii_of(self.brush, pressure), 1.0
        if Pressure.OPACITY in self.brush.pressure:
            dabs[:, 3] = pressure
        return dabs

    def _raise_mask(self, window: Window, dabs: NDArray[np.float64]) -> None:
        from gommage.core.paint.kernels import lay_dabs  # compiled code is loaded late

        for place, tile in tiles_of(window):
            mask = self._mask.get(place)
            if mask is None:
                mask = self._mask[place] = np.zeros((TILE_PX, TILE_PX), np.float32)
            lay_dabs(dabs, self.brush.softness, self.brush.flow, tile.left, tile.top, mask)

    def _mask_of(self, window: Window) -> Picture:
        out = np.zeros((window.height, window.width), np.float32)
        for place, tile in tiles_of(window):
            mask = self._mask.get(place)
            if mask is not None:
                shared = tile & window
                out[shared.within(window)] = mask[shared.within(tile)]
        return out

    def _composed(self, window: Window) -> tuple[Picture, Picture]:
        """Return a window's pixels with the stroke, and how far paint covers them."""
        mask = self._mask_of(window)
        if self._brushing.takes_source:
            mask *= self._is_there(window)
        below = self._before.read(window)
        new = BLENDS[self.brush.blend](below, self._brushing.lay(self, window, mask))
        alpha = mask * np.float32(self.brush.opacity)
        # Where paint is full the source's very bits are laid, so that restoring is exact.
        pixels = np.where(alpha[..., None] >= 1, new, below + (new - below) * alpha[..., None])
        return self._in_channels(below, pixels), self._covering(self._before.cover(window), alpha)

    def _in_channels(self, below: Picture, pixels: Picture) -> Picture:
        """Return pixels in the brush's channels, those below in the others."""
        kept = [index for index, name in enumerate(CHANNELS) if name not in self.brush.channels]
        if kept:
            pixels = pixels.copy()
            pixels[..., kept] = below[..., kept]
        return pixels

    def _covering(self, cover: Picture, alpha: Picture) -> Picture:
        return cover * (1 - alpha) if self._brushing.takes_away else cover + (1 - cover) * alpha

    # -- a brush that drags ---------------------------------------------------------------------------------

    def _drag(self, dabs: NDArray[np.float64], changed: Window) -> Window | None:
        """Lay dabs each of which moves what is under it by the way from the one before."""
        last, self._dragged = self._dragged, dabs[-1]
        rows = dabs if last is None else np.vstack([last, dabs])
        far = float(np.abs(np.diff(rows[:, :2], axis=0)).max(initial=0.0))
        region = around(rows[:, :2], float(rows[:, 2].max()) + MARGIN_PX + far + 3) & self.bounds
        if region.is_empty or len(rows) < 2:
            return None
        pixels, cover = self.canvas.read(region).copy(), self.canvas.cover(region)
        touched = Window(0, 0, 0, 0)
        for before, dab in pairwise(rows):
            touched = touched | self._drag_one(before, dab, region, pixels, cover)
        if touched.is_empty:
            return None
        inside = touched.within(region)
        self.canvas = self.canvas.with_pixels(touched, pixels[inside], cover[inside])
        return touched

    def _drag_one(
        self, before: NDArray[np.float64], dab: NDArray[np.float64], region: Window, pixels: Picture, cover: Picture
    ) -> Window:
        """Lay one dab into a region of the canvas, in place; returns what of the picture it changed."""
        from gommage.core.paint.kernels import lay_dabs  # compiled code is loaded late

        window = around(dab[None, :2], dab[2] + MARGIN_PX) & self.bounds
        if window.is_empty:
            return window
        mask = np.zeros((window.height, window.width), np.float32)
        lay_dabs(dab[None], self.brush.softness, 1.0, window.left, window.top, mask)
        dx, dy = dab[:2] - before[:2]
        needed = window.grown(int(np.ceil(max(abs(dx), abs(dy)))) + 2) & self.bounds
        crop, below = pixels[needed.within(region)], pixels[window.within(region)]
        x, y = np.meshgrid(np.arange(window.left, window.right), np.arange(window.top, window.bottom))
        moved = cv2.remap(
            np.ascontiguousarray(crop), (x - needed.left - dx).astype(np.float32),
            (y - needed.top - dy).astype(np.float32), cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE,
        )  # fmt: skip
        alpha = mask * np.float32(self.brush.strength * self.brush.opacity)
        inside = window.within(region)
        cover[inside] = self._covering(cover[inside], alpha)
        pixels[inside] = self._in_channels(below, below + (moved - below) * alpha[..., None])
        return window

    # -- what the brush may look at ---------------------------------------------------------------------------

    def below(self, window: Window) -> Picture:
        """Return the canvas as it was before the stroke."""
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
            return np.ones((1, 1), np.float32)
        mapping, bounds = self._stroke.origin_from_canvas, self._origin.bounds
        spanned = spanning(mapping, window)
        is_inside = np.isfinite(spanned).all() and around(spanned) & bounds == around(spanned)
        if is_inside and self._barred is None:
            return np.ones((1, 1), np.float32)
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
            share = np.where(self._laid[window.slices], mask, np.float32(1))[..., None]
            pixels = below + (piece - below) * share
            self._laid[window.slices] |= mask > 0
            self.canvas = self.canvas.with_pixels(window, pixels, self.canvas.cover(window))


def lay_stroke(canvas: Canvas, bare: Canvas, stroke: StrokeAt, sources: StrokeSources = StrokeSources()) -> Canvas:
    """Return a canvas with a whole stroke laid on it; see `StrokeInHand`."""
    hand = StrokeInHand(canvas, bare, stroke, sources)
    hand.add(stroke.points.values)
    return hand.canvas.counted_after(canvas)
