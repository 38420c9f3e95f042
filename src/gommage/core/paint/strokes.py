"""Strokes to pixels.

A stroke is a mask (the highest of its dabs, so that a stroke over itself is no darker) through which the source
shows. The source is the canvas as it was before the stroke began, so that a stroke never eats its own paint. Dabs are
set along the points as they come, each where the last one says: in how many pieces the points come makes no difference
to a single bit.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from gommage.core.document import Stroke
from gommage.core.geometry import Window, around, shift
from gommage.core.paint.canvases import TILE_PX, Canvas, Place, tiles_of
from gommage.core.paint.tools import TOOLS
from gommage.core.picture import Picture, resample

__all__ = ["StrokeInHand", "lay_stroke"]

LIGHTEST = 0.25
"""Of the size, at the lightest touch."""


class StrokeInHand:
    """A stroke while it is being made: points come in, painted canvases come out.

    Parameters
    ----------
    before : Canvas
        As it was before the stroke.
    untouched : Canvas
        Before all strokes, which `restore` brings back.
    stroke : Stroke
        Brush and source; its own points are ignored.

    Attributes
    ----------
    canvas : Canvas
        As it is with what was laid so far.
    """

    def __init__(self, before: Canvas, untouched: Canvas, stroke: Stroke) -> None:
        self.canvas = before
        self._before, self._untouched = before, untouched
        self._stroke, self._brush = stroke, stroke.brush
        self._brushing = TOOLS[stroke.brush.tool]
        self._mask: dict[Place, Picture] = {}
        self._last = np.full(3, np.nan)
        self._carry = np.zeros(1)
        self._touched = Window(0, 0, 0, 0)

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

        step = max(self._brush.spacing * self._brush.size_px, 0.5)
        dabs = walk_dabs(np.ascontiguousarray(points, np.float64), self._last, self._carry, step)
        if not len(dabs):
            return None
        dabs[:, 2] = self._brush.size_px / 2 * (LIGHTEST + (1 - LIGHTEST) * np.clip(dabs[:, 2], 0, 1))
        # The margin is the brush's, not the dabs': so windows of pieces unite to the window of the whole.
        changed = around(dabs[:, :2], self._brush.size_px / 2 + 2) & self._before.bounds
        if changed.is_empty:
            return None
        self._raise_mask(changed, dabs)
        self._touched = self._touched | changed
        renewed = self._touched if self._brushing.is_whole else changed
        self.canvas = self.canvas.with_pixels(renewed, self._composed(renewed))
        return renewed

    def _raise_mask(self, window: Window, dabs: NDArray[np.float64]) -> None:
        from gommage.core.paint.kernels import lay_dabs  # compiled code is loaded late

        for place, tile in tiles_of(window):
            mask = self._mask.get(place)
            if mask is None:
                mask = self._mask[place] = np.zeros((TILE_PX, TILE_PX), np.float32)
            lay_dabs(dabs, self._brush.softness, tile.left, tile.top, mask)

    def _mask_of(self, window: Window) -> Picture:
        out = np.zeros((window.height, window.width), np.float32)
        for place, tile in tiles_of(window):
            mask = self._mask.get(place)
            if mask is not None:
                shared = tile & window
                out[shared.within(window)] = mask[shared.within(tile)]
        return out

    def _composed(self, window: Window) -> Picture:
        mask = self._mask_of(window)
        below = self._before.read(window)
        new = self._brushing.lay(self, window, mask)
        alpha = (mask * np.float32(self._brush.opacity))[..., None]
        # Where paint is full the source's very bits are laid, so that restoring is exact.
        return np.where(alpha >= 1, new, below + (new - below) * alpha)

    # -- what the brush may look at ---------------------------------------------------------------------------

    def below(self, window: Window) -> Picture:
        """Return the canvas as it was before the stroke."""
        return self._before.read(window)

    def untouched(self, window: Window) -> Picture:
        """Return the canvas before all strokes."""
        return self._untouched.read(window)

    def source(self, window: Window) -> Picture:
        """Return the canvas as it was, from beside: copied for whole pixels, else resampled once."""
        dx, dy = self._stroke.source.dx, self._stroke.source.dy
        bounds = self._before.bounds
        beside = around(window.corners + (dx, dy), 14)
        needed = beside & bounds
        if needed.is_empty:  # from beyond the picture: its nearest rim
            near = np.clip(beside.corners, 0, (bounds.right - 1, bounds.bottom - 1))
            needed = around(near, 1) & bounds
        crop = self._before.read(needed)
        return resample(crop, shift(dx, dy), window, at=needed).pixels


def lay_stroke(canvas: Canvas, untouched: Canvas, stroke: Stroke) -> Canvas:
    """Return a canvas with a whole stroke laid on it; see `StrokeInHand`."""
    hand = StrokeInHand(canvas, untouched, stroke)
    hand.add(stroke.points.values)
    return hand.canvas.counted_after(canvas)
