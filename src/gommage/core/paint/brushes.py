"""Strokes to pixels.

A stroke is a mask (the highest of its dabs, so that a stroke over itself is no darker) through which the source
shows. The source is the canvas as it was before the stroke began, so that a stroke never eats its own paint.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from gommage.core.document import Stroke, Tool
from gommage.core.paint.healing import heal
from gommage.core.picture import Picture, Window, around, translation, warp

__all__ = ["Laid", "StrokeInHand", "dabs_of", "lay_stroke"]

SPACING = 0.12
"""Distance of dabs, in diameters: below an eighth the rim of a soft stroke shows no beads."""


@dataclass(frozen=True, slots=True)
class Laid:
    """New pixels (h, w, 3) of a window of the canvas."""

    window: Window
    pixels: Picture


def dabs_of(points: NDArray[np.float64], size_px: float) -> NDArray[np.float64]:
    """Return the dabs (N, 3) x, y, radius along a stroke's points (N, 3) x, y, pressure.

    Pressure sets the size, from a quarter at the lightest touch.
    """
    if len(points) == 1:
        along = points
    else:
        steps = np.hypot(*np.diff(points[:, :2], axis=0).T)
        lengths = np.r_[0.0, np.cumsum(steps)]
        count = max(int(np.ceil(lengths[-1] / max(SPACING * size_px, 0.5))) + 1, 2)
        where = np.linspace(0, lengths[-1], count)
        along = np.column_stack([np.interp(where, lengths, points[:, k]) for k in range(3)])
    radius = size_px / 2 * (0.25 + 0.75 * np.clip(along[:, 2], 0, 1))
    return np.column_stack([along[:, :2], radius])


class StrokeInHand:
    """A stroke while it is being made: points come in, changed pixels go out.

    Parameters
    ----------
    canvas : (H, W, 3) float32
        As it was before the stroke. Not modified.
    untouched : (H, W, 3) float32
        The plate before all strokes, which `restore` brings back. Not modified.
    stroke : Stroke
        Tool, size, source; its own points are ignored.
    """

    def __init__(self, canvas: Picture, untouched: Picture, stroke: Stroke) -> None:
        self._canvas = canvas
        self._untouched = untouched
        self._stroke = stroke
        self._bounds = Window.of(canvas.shape[1], canvas.shape[0])
        self._mask = np.zeros(canvas.shape[:2], np.float32)
        self._last: NDArray[np.float64] | None = None
        self.touched = Window(0, 0, 0, 0)

    def add(self, points: NDArray[np.float64]) -> Laid | None:
        """Lay more of the stroke.

        Parameters
        ----------
        points : (N, 3) float64
            x, y in canvas pixels, pressure; continuing from the last call's.

        Returns
        -------
        Laid or None
            What changed, as it should now look; None if nothing did (outside the canvas).
        """
        from gommage.core.paint.kernels import lay_dabs  # compiled code is loaded late

        path = points if self._last is None else np.vstack([self._last, points])
        self._last = path[-1:]
        dabs = dabs_of(path, self._stroke.size_px)
        changed = around(dabs[:, :2], float(dabs[:, 2].max()) + 2) & self._bounds
        if changed.is_empty:
            return None
        lay_dabs(dabs, self._stroke.softness, changed.left, changed.top, self._mask[changed.slices])
        self.touched = self.touched | changed
        # A membrane hangs on the whole rim, so healing renews all that was touched.
        renewed = self.touched if self._stroke.tool is Tool.HEAL else changed
        return Laid(renewed, self._composed(renewed))

    def _composed(self, window: Window) -> Picture:
        mask = self._mask[window.slices]
        below = self._canvas[window.slices]
        stroke = self._stroke
        if stroke.tool is Tool.RESTORE:
            new = self._untouched[window.slices]
        else:
            new = self._source(window)
            if stroke.tool is Tool.HEAL:
                new = heal(below, new, mask)
        alpha = (mask * stroke.opacity)[..., None]
        # Where paint is full the source's very bits are laid, so that restoring is exact.
        return np.where(alpha >= 1, new, below + (new - below) * alpha)

    def _source(self, window: Window) -> Picture:
        """Return the canvas as it was, from beside: copied for whole pixels, else resampled once."""
        dx, dy = self._stroke.source.dx, self._stroke.source.dy
        if dx == int(dx) and dy == int(dy):
            rows = np.clip(np.arange(window.top, window.bottom) + int(dy), 0, self._bounds.bottom - 1)
            columns = np.clip(np.arange(window.left, window.right) + int(dx), 0, self._bounds.right - 1)
            return self._canvas[np.ix_(rows, columns)]
        needed = around(np.array([[window.left + dx, window.top + dy], [window.right + dx, window.bottom + dy]]), 12)
        needed = needed & self._bounds
        if needed.is_empty:
            return self._canvas[window.slices]
        crop = self._canvas[needed.slices]
        return warp(crop, translation(dx - needed.left, dy - needed.top), window)[0]


def lay_stroke(canvas: Picture, untouched: Picture, stroke: Stroke) -> Laid | None:
    """Return what a whole stroke changes on a canvas, or None; see `StrokeInHand`."""
    return StrokeInHand(canvas, untouched, stroke).add(stroke.points.values)
